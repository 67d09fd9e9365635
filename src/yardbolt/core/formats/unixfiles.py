"""Unix account files: passwd(5), shadow(5), os-release(5), and small texts (issue.net, hostname, date)."""

from __future__ import annotations

from typing import Any

from ..plane.kinds import ABSENT
from .decoder import Decoded, Decoder, Pairs, of_text

_NO_SHELL = ("nologin", "false", "sync", "halt", "shutdown")


def decode_passwd(reply: str, key: str = "") -> Decoded:
    """Accounts. Those whose shell refuses a login get the rights `none` and the origin `system`."""
    facts: Pairs = []
    left: list[str] = []
    for line in reply.splitlines():
        if not line.strip():
            continue
        parts = line.split(":")
        if len(parts) != 7 or not parts[0] or not parts[2].isdigit():
            left.append("a line that is no account")
            continue
        name, uid, shell = parts[0], int(parts[2]), parts[6].strip()
        login = bool(shell == "" or shell.rsplit("/", 1)[-1] not in _NO_SHELL)
        facts += [
            (("accounts", name), True),
            (("accounts", name, "role"), "full" if uid == 0 else "change" if login else "none"),
            (("accounts", name, "origin"), "system" if _of_the_system(name, uid, login) else None),
        ]
        if parts[1] == "":
            facts.append((("accounts", name, "storage"), "blank"))
    return Decoded(tuple((p, v) for p, v in facts if v is not None), tuple(left[:20]))


def _of_the_system(name: str, uid: int, login: bool) -> bool:
    """root, and those below 1000 that have no shell. A second uid 0 belongs to somebody."""
    return name == "root" or (not login and uid != 0 and (uid < 1000 or uid == 65534))


def decode_shadow(reply: str, key: str = "") -> Decoded:
    """How each secret is kept, and whether it can open anything. The values themselves go no further."""
    facts: Pairs = []
    left: list[str] = []
    for line in reply.splitlines():
        if not line.strip():
            continue
        parts = line.split(":")
        if len(parts) != 9 or not parts[0]:
            left.append("a line that is no account")
            continue
        kept = parts[1]
        storage: Any = "one-way"
        if kept == "":
            storage = "blank"
        elif kept[0] in "!*":
            storage = "locked"
        elif not kept.startswith("$"):
            storage = "one-way" if len(kept) == 13 else "clear"
        expired = parts[7].isdigit() and int(parts[7]) == 0
        facts += [(("accounts", parts[0], "storage"), storage), (("accounts", parts[0], "enabled"), not expired)]
    return Decoded(tuple(facts), tuple(left[:20]))


def decode_os_release(reply: str, key: str = "") -> Decoded:
    """Make, model and level of the operating system."""
    pairs = dict(line.split("=", 1) for line in reply.splitlines() if "=" in line)
    names = {"ID": "make", "NAME": "model", "VERSION_ID": "software"}
    got: Pairs = [(("identity", leaf), pairs[k].strip().strip('"')) for k, leaf in names.items() if k in pairs]
    return Decoded(tuple(got), () if got else ("the reply is not an os-release file",))


def decode_notice(reply: str, key: str = "") -> Decoded:
    """The notice shown at login, blank lines at its ends removed."""
    text = reply.strip()
    return Decoded(((("banner",), text if text else ABSENT),))


def decode_name(reply: str, key: str = "") -> Decoded:
    """The first word of the reply is the name."""
    words = reply.split()
    return Decoded(((("name",), words[0]),)) if len(words) == 1 else Decoded((), ("the reply is not one name",))


def decode_server_command(reply: str, key: str = "") -> Decoded:
    """Command lines above a session, one a line: the file the SSH server among them takes its settings from."""
    found = []
    for line in reply.splitlines():
        words = line.split()
        if words and words[0] in ("sshd:", "sshd-session:"):
            words = words[1:]
        if not words or words[0].rsplit("/", 1)[-1] != "sshd":
            continue
        given = [words[i + 1] for i, w in enumerate(words[:-1]) if w == "-f"] + [
            w[2:] for w in words if w.startswith("-f") and len(w) > 2
        ]
        found.append(given[-1] if given else "/etc/ssh/sshd_config")
    if len(set(found)) == 1:
        return Decoded(((("services", "ssh"), True), (("services", "ssh", "config"), found[0])))
    return Decoded(
        (), ("no SSH server was seen",) if not found else ("several SSH servers with different settings run here",)
    )


_PASSWD = frozenset(
    {
        ("accounts",),
        ("accounts", "*"),
        ("accounts", "*", "role"),
        ("accounts", "*", "origin"),
        ("accounts", "*", "storage"),
    }
)
DECODERS = (
    Decoder("passwd", "passwd(5)", of_text(decode_passwd), _PASSWD, (("accounts",),)),
    Decoder(
        "shadow",
        "shadow(5)",
        of_text(decode_shadow),
        frozenset({("accounts", "*", "storage"), ("accounts", "*", "enabled")}),
        private=True,
    ),
    Decoder(
        "os-release",
        "os-release(5)",
        of_text(decode_os_release),
        frozenset({("identity", x) for x in ("make", "model", "software")}),
    ),
    Decoder("notice", "sshd_config(5), Banner", of_text(decode_notice), frozenset({("banner",)})),
    Decoder("name", "hostname(1)", of_text(decode_name), frozenset({("name",)})),
    Decoder(
        "sshd-command",
        "sshd(8)",
        of_text(decode_server_command),
        frozenset({("services", "*"), ("services", "*", "config")}),
    ),
)
