"""Who is logged in on a Linux host: connections that came in (ss(8), proc(5)) and whose processes hold them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from .decoder import Decoded, Decoder, Pairs, of_text
from .listening import PORTS, PROGRAMS, address_of_proc
from .tagged import digits, hexadecimal, tagged

WEB = frozenset({"http", "https"})
_NOT_YET = re.compile(r"\[(net|preauth|accepted|listener)\]")
_TITLE = re.compile(r"^sshd(?:-session)?: ([^\s@\[]+)[@ ]")
Connection = tuple[str, int, str, int, tuple[str, ...]]  # local address and port, far address and port, processes


def decode_inside(reply: str, key: str = "") -> Decoded:
    """The section `inside`: a seat for each login by SSH, telnet or file transfer, each inbound connection of a program
    the trade does not know, and each console that is in use. What a web page lets in leaves no trace here."""
    seen, strange = tagged(reply, "listen ss proc inode holder web console")
    left = [*strange]
    rows = (line.split(" ", 4) for line in seen.get("holder", []))
    holders = {row[0]: row[1:] for row in rows if len(row) == 5}
    listening = _listening(seen)
    facts: Pairs = []
    for _, port, source, far, pids in _connections(seen, left):
        held = [holders[pid] for pid in pids if pid in holders]
        programs = {row[0] for row in held}
        service = next((PROGRAMS[name] for name in sorted(programs) if name in PROGRAMS), "") or PORTS.get(
            ("tcp", port), ""
        )
        if service in WEB or (port not in listening and service not in ("ssh", "telnet", "ftp")):
            continue
        if (account := _account(held)) is not None:
            base = ("sessions", f"tcp {source} {far}")
            facts += [(base, True), ((*base, "source"), source), ((*base, "service"), service or f"port {port}")]
            facts += [((*base, "account"), account)] if account else []
    for line in seen.get("console", []):
        number, _, rest = line.partition(" ")
        base = ("sessions", f"console {number}")
        facts += [(base, True), ((*base, "source"), "the console"), ((*base, "service"), "console")]
        facts += [((*base, "account"), rest.split(" ")[0])] if rest else []
    if "web" in seen or any(PORTS.get(("tcp", port)) in WEB for port in listening):
        left.append("who is logged in on a web page is not shown")
    return Decoded(tuple(facts), tuple(dict.fromkeys(left))[:20])


def _account(held: list[list[str]]) -> str | None:
    """Whose session the processes of a connection are: empty where that is not told, None where nobody has logged
    in."""
    titles = [row[3] for row in held]
    if any(_NOT_YET.search(title) for title in titles):
        return None
    for title in titles:
        if match := _TITLE.match(title):
            return match[1]
    for program, below, account, _ in held:
        # before the login there is nothing below it
        if program == "dropbear" and below == "0":
            return None
        return "" if account == "-" else account
    return ""


def _listening(seen: Mapping[str, list[str]]) -> set[int]:
    ends = [words[3].rpartition(":")[2] for line in seen.get("listen", []) if len(words := line.split()) > 3]
    found = {int(port) for port in ends if digits(port)}
    for line in seen.get("proc", []):
        words = line.split()
        port = words[2].partition(":")[2] if len(words) == 5 and words[1] == "0A" else ""
        if hexadecimal(port):
            found.add(int(port, 16))
    return found


def _connections(seen: Mapping[str, list[str]], left: list[str]) -> Iterator[Connection]:
    for line in seen.get("ss", []):
        words = line.split(None, 4)
        ends = [_end(word) for word in words[2:4]]
        if len(ends) != 2 or None in ends:
            left.append("a line that is not a connection")
            continue
        (local, port), (far, other) = (end for end in ends if end is not None)
        pids = tuple(re.findall(r"pid=(\d+)", words[4])) if len(words) > 4 else ()
        yield local, port, far, other, pids
    pids_of: dict[str, list[str]] = {}
    for line in seen.get("inode", []):
        words = line.split()
        if len(words) == 2:
            pids_of.setdefault(words[0], []).append(words[1])
    for line in seen.get("proc", []):
        words = line.split()
        if len(words) == 5 and words[1] == "01":
            (here, _, at), (there, _, to) = words[2].partition(":"), words[3].partition(":")
            local, far = address_of_proc(here), address_of_proc(there)
            if local and far and hexadecimal(at) and hexadecimal(to):
                yield _plain(local), int(at, 16), _plain(far), int(to, 16), tuple(pids_of.get(words[4], ()))
            else:
                left.append("a line that is not a connection")


def _end(written: str) -> tuple[str, int] | None:
    """One end of a connection as ss(8) writes it."""
    address, _, port = written.rpartition(":")
    return (_plain(address.strip("[]").partition("%")[0].strip("[]")), int(port)) if digits(port) else None


def _plain(address: str) -> str:
    """An IPv4 address met through an IPv6 socket is that address (RFC 4291, section 2.5.5.2)."""
    return address.removeprefix("::ffff:") if "." in address else address


DECODERS = (
    Decoder(
        "linux-inside",
        "ss(8), proc(5)",
        of_text(decode_inside),
        frozenset(
            {("sessions",), ("sessions", "*"), *(("sessions", "*", x) for x in ("account", "source", "service"))}
        ),
        (("sessions",),),
    ),
)
