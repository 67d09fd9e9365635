"""Listening sockets (ss(8), proc(5)), the services they are by the ports the trade knows (IANA) or by their programs,
and what starts at the next boot (systemctl(1), inittab(5), inetd.conf(5), LSB scripts)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv6Address, ip_address

from ...plane.kinds import ABSENT, FIRST_OWN, Absent
from .decoder import Decoded, Decoder, Pairs, of_text
from .tagged import digits, hexadecimal, tagged

INETD = "inetd"
PORTS = {
    ("tcp", 21): "ftp",
    ("tcp", 22): "ssh",
    ("tcp", 23): "telnet",
    ("udp", 69): "tftp",
    ("tcp", 80): "http",
    ("udp", 123): "ntp",
    ("tcp", 111): "rpc",
    ("udp", 111): "rpc",
    ("udp", 161): "snmp",
    ("tcp", 443): "https",
    ("udp", 514): "syslog",
    ("udp", 5353): "mdns",
    ("tcp", 25): "smtp",
    ("tcp", 139): "smb",
    ("tcp", 445): "smb",
    ("tcp", 631): "ipp",
    ("udp", 53): "dns",
    ("tcp", 53): "dns",
    ("tcp", 2049): "nfs",
    ("tcp", 3389): "rdp",
    ("tcp", 5900): "vnc",
    ("tcp", 873): "rsync",
    ("tcp", 1883): "mqtt",
}
PROGRAMS = {
    "sshd": "ssh",
    "ssh": "ssh",
    "dropbear": "ssh",
    "telnetd": "telnet",
    "in.telnetd": "telnet",
    "vsftpd": "ftp",
    "proftpd": "ftp",
    "pure-ftpd": "ftp",
    "ftpd": "ftp",
    "in.ftpd": "ftp",
    "tftpd": "tftp",
    "in.tftpd": "tftp",
    "tftpd-hpa": "tftp",
    "atftpd": "tftp",
    "snmpd": "snmp",
    "rpcbind": "rpc",
    "nginx": "http",
    "apache2": "http",
    "httpd": "http",
    "lighttpd": "http",
    "uhttpd": "http",
    "smbd": "smb",
    "nmbd": "smb",
    "cups": "ipp",
    "cupsd": "ipp",
    "avahi-daemon": "mdns",
    "exim4": "smtp",
    "postfix": "smtp",
    "nfs-server": "nfs",
    "nfs-kernel-server": "nfs",
    "rsync": "rsync",
    "xrdp": "rdp",
    "mosquitto": "mqtt",
    "vncserver": "vnc",
    "inetutils-inetd": INETD,
    "openbsd-inetd": INETD,
    "inetd": INETD,
    "xinetd": INETD,
}
WEB = frozenset(program for program, service in PROGRAMS.items() if service == "http")
PAIR = {"http": "https", "https": "http"}
# what stands for a function of the host itself, which does not end with a service for others
OF_THE_HOST = {
    "chronyd": "its own clock",
    "ntpd": "its own clock",
    "systemd-timesyn": "its own clock",
    "rsyslogd": "its own log",
    "syslogd": "its own log",
    "syslog-ng": "its own log",
    "systemd-journal": "its own log",
    "systemd-resolve": "its own names",
    "systemd-network": "its own addresses",
    "dhclient": "its own addresses",
}
FOR_OTHERS = frozenset({"systemd", "init"})  # holds a socket until somebody comes
BY_UDP = frozenset({"snmp", "tftp", "ntp", "mdns"})
SYSTEM_FOLDERS = ("/usr/", "/bin/", "/sbin/", "/opt/", "/lib/", "/lib64/", "/snap/")
READABLE = frozenset({"telnet", "ftp", "tftp", "http", "rpc", "syslog"})
TABLES = {"tcp", "tcp6", "udp", "udp6"}


@dataclass(frozen=True)
class Socket:
    """One listening socket, and who holds it."""

    transport: str
    address: str
    port: int
    program: str = ""
    exe: str = ""
    unit: str = ""
    package: str = ""
    ours: bool = False  # we came by it
    known: bool = False  # what starts its holder is

    @property
    def inward(self) -> bool:
        """Does nobody but the host itself come to it?"""
        return self.address != "*" and ip_address(self.address).is_loopback

    @property
    def service(self) -> str:
        """The service it is, as far as its port, or else its program, is known to the trade; empty where neither is,
        and where nobody but the host itself comes to it. An SSH server is one wherever it listens."""
        if self.inward:
            return ""
        if self.ours or PROGRAMS.get(self.program) == "ssh":
            return "ssh"
        found = PORTS.get((self.transport, self.port)) or self.by_its_program
        return "" if found == INETD else found

    @property
    def by_its_program(self) -> str:
        """What it is by who holds it. A name is soon given: what is known to go by UDP alone is none by TCP, and a
        file that lies where no system keeps its programs is none of these."""
        found = PROGRAMS.get(self.program, "")
        elsewhere = bool(self.exe) and not self.exe.startswith(SYSTEM_FOLDERS)
        return "" if elsewhere or (self.transport == "tcp" and found in BY_UDP) else found

    def facts(self) -> Pairs:
        """It on the plane."""
        base = ("listening", f"{self.transport} {self.address} {self.port}")
        told = {leaf: value for leaf, value in vars(self).items() if value and leaf not in ("ours", "known")}
        return [(base, True), *(((*base, leaf), value) for leaf, value in told.items())]


def decode_services(reply: str, key: str = "") -> Decoded:
    """The section `services`: every listening socket with its program, unit and package; the services they are; and
    which of those that do not run the next boot starts."""
    seen, strange = tagged(
        reply, "ss proc inode holder main ours owner inetd unit script init rcs off written-out switched again"
    )
    left = [*strange]
    sockets = _held(seen, left)
    served: dict[str, set[At]] = {}
    for one in sockets:
        if one.service:
            served.setdefault(one.service, set()).add((one.transport, one.port))
    # where the trade knows it, and by TCP, before the rest
    running = {name: _in_order(name, at) for name, at in served.items()}
    serves: Serves = {}
    for one in sockets:
        serves.setdefault(one.program, set()).add(one.service)
    booting = set(_boot(seen, serves))
    # what the super-server starts may answer at a port that is not known here
    by_inetd = set(_by_inetd(seen)) if any(PROGRAMS.get(one.program) == INETD for one in sockets) else set()
    facts = [fact for one in sockets for fact in one.facts()]
    kept_off = set(_kept_off(seen))
    for service in sorted({*running, *booting, *kept_off}):
        path = ("services", service)
        facts.append((path, True))
        # what starts under another name is not seen, so only that it starts is ever told
        if service in booting:
            facts.append(((*path, "boot"), True))
        elif service in kept_off:
            facts.append(((*path, "boot"), False))
        # what was ended once and came again has something else that starts it
        others = None if service in seen.get("again", []) else _others(service, sockets, service in booting)
        facts.append(((*path, "starter"), others is not None or None))
        # how SSH is set is read from itself
        if service != "ssh":
            ats = running.get(service) or _listened(service, seen)
            more = tuple(f"{by} {port}" for by, port in ats[1:] if by == "tcp" or port < FIRST_OWN)
            facts.append(((*path, "also"), more or (ABSENT if service in running else None)))
            facts.append(((*path, "together"), _together(service, serves, others or set())))
            facts += _service(path, service in running or (None if service in by_inetd else False), ats)
    return Decoded(tuple((path, value) for path, value in facts if value is not None), tuple(left[:20]))


def _in_order(service: str, ats: Iterable[At]) -> list[At]:
    return sorted(ats, key=lambda one: (PORTS.get(one) != service, one))


def _listened(service: str, seen: Mapping[str, list[str]]) -> list[At]:
    """Where a service that is off would listen: as it did when we switched it off, or where the trade has it."""
    noted = [words[1:] for line in seen.get("switched", []) if (words := line.split())[:1] == [service]]
    pairs = [word.partition(":") for word in (noted[0] if noted else []) if ":" in word]
    found = [(by, int(port)) for by, _, port in pairs if digits(port) and PORTS.get((by, int(port))) in (None, service)]
    return _in_order(service, found or [at for at, name in PORTS.items() if name == service])


def _service(path: tuple[str, str], runs: bool | None, ats: list[At]) -> Pairs:
    transport, port = ats[0] if ats else (None, None)
    facts: Pairs = [((*path, "enabled"), runs), ((*path, "transport"), transport), ((*path, "port"), port)]
    if path[1] in READABLE:
        facts.append(((*path, "encrypted"), False))
    if transport == "udp":  # it has no sessions that could stay open
        facts.append(((*path, "idle"), ABSENT))
    return facts


At = tuple[str, int]  # transport and port
Serves = dict[str, set[str]]  # program -> the services it serves; empty where who holds a socket is not told


def _together(service: str, serves: Serves, others: set[str]) -> tuple[str, ...] | Absent | None:
    """What goes off with a service, for one program serves both; None where the holder of the web's ports is not
    known."""
    if service in PAIR and PAIR.keys() & serves.get("", set()):
        return None
    if service in PAIR and any(PAIR.keys() <= serves.get(program, set()) for program in WEB):
        others = others | {PAIR[service]}
    return tuple(sorted(others)) or ABSENT


def _others(service: str, sockets: list[Socket], booting: bool) -> set[str] | None:
    """What else those programs do that serve a service and are not called like it; None where what starts one of them
    is not known. Where nobody holds its socket, the kernel does: then what the next boot starts tells."""
    found: set[str] = set()
    for one in [x for x in sockets if x.service == service]:
        if one.program in OF_THE_HOST:
            found.add(OF_THE_HOST[one.program])
        elif one.program in FOR_OTHERS or PROGRAMS.get(one.program) in (service, INETD, PAIR.get(service, service)):
            continue
        elif not (one.known or (not one.program and booting)):
            return None
        elif one.program:
            # what else its unit does ends with it
            same = [
                x for x in sockets if (x.unit == one.unit if one.unit else x.program == one.program) and not x.inward
            ]
            found |= {x.service or f"{x.transport} {x.port}" for x in same} - {service}
    return found


def _started(name: str, serves: Serves) -> set[str]:
    """The services that something called so starts: of a web server, what it serves."""
    found = PAIR.keys() & serves.get(name, set()) if name in WEB else set()
    return set(found) or {PROGRAMS[name]}


# ---- sockets --------------------------------------------------------------------------------------------------------

Holders = Mapping[str, list[str]]  # process -> file, unit, package, command line


def _holders(seen: Mapping[str, list[str]]) -> Holders:
    owners: dict[str, str] = {}
    for line in seen.get("owner", []):
        names, _, path = line.rpartition(": ")
        owners[path] = re.split(r"[:,]", names)[0]
    out: dict[str, list[str]] = {}
    for words in (line.split(" ", 3) for line in seen.get("holder", [])):
        if len(words) == 4:
            exe, unit = ("" if word == "-" else word for word in words[1:3])
            package = next((owners[x] for x in (exe, f"/usr{exe}", exe.removeprefix("/usr")) if x in owners), "")
            out[words[0]] = [exe, unit, package, words[3]]
    return out


def _held(seen: Mapping[str, list[str]], left: list[str]) -> list[Socket]:
    """Every socket with what is known of its holder. One program with many names goes by the one it was called with."""
    holders, ours, mains = _holders(seen), set(seen.get("ours", [])), set(seen.get("main", []))
    scripts = {line.strip() for line in seen.get("script", [])}
    out = []
    for one, pid in _sockets(seen, left):
        exe, unit, package, command = holders.get(pid, [""] * 4)
        program = one.program or exe.rsplit("/", 1)[-1]
        if program == "busybox":
            names = [word.rsplit("/", 1)[-1] for word in command.split()]
            program = next((name for name in names if name != "busybox"), program)
        out.append(
            replace(
                one,
                program=program,
                exe=exe,
                unit=unit,
                package=package,
                ours=one.transport == "tcp" and str(one.port) in ours,
                known=pid in mains or program in scripts,
            )
        )
    return out


def _sockets(seen: Mapping[str, list[str]], left: list[str]) -> Iterator[tuple[Socket, str]]:
    """Every socket, and the process that holds it where that is shown."""
    pids = dict(line.split() for line in seen.get("inode", []) if len(line.split()) == 2)
    for line in seen.get("ss", []):
        words = line.split()
        address, _, port = words[4].rpartition(":") if len(words) > 5 else ("", "", "")
        bound = address.strip("[]").partition("%")[0].strip("[]") or "*"
        known = bound == "*" or _is_address(bound)
        if words[:1] not in (["tcp"], ["udp"]) or not digits(port) or int(port) > 65535 or not known:
            left.append("a line that is not a socket")
            continue
        who = " ".join(words[6:])
        named = who.split('(("', 1)[1].split('"', 1)[0] if '(("' in who else ""
        yield Socket(words[0], bound, int(port), named), who.partition("pid=")[2].partition(",")[0]
    for line in seen.get("proc", []):
        words = line.split()
        local = words[1].split(":") if len(words) == 3 else []
        bound = address_of_proc(local[0]) if len(local) == 2 else ""
        if not bound or words[0] not in TABLES or not hexadecimal(local[1]):
            left.append("a line that is not a socket")
            continue
        yield Socket(words[0].rstrip("6"), bound, int(local[1], 16)), pids.get(words[2], "")


def _is_address(written: str) -> bool:
    try:
        ip_address(written)
    except ValueError:
        return False
    return True


def address_of_proc(written: str) -> str:
    """An address of /proc/net: words of 32 bits in the order of the machine, which is little-endian (proc(5))."""
    try:
        raw = b"".join(bytes.fromhex(written[at : at + 8])[::-1] for at in range(0, len(written), 8))
    except ValueError:
        return ""
    return str(IPv4Address(raw)) if len(raw) == 4 else str(IPv6Address(raw)) if len(raw) == 16 else ""


# ---- the next boot --------------------------------------------------------------------------------------------------


def _boot(seen: Mapping[str, list[str]], serves: Serves) -> Iterator[str]:
    """Services the next boot starts, as far as what starts them bears a name the trade knows."""
    names = [
        line.split()[0].removesuffix(".service").removesuffix(".socket")
        for line in seen.get("unit", [])
        if line.split()
    ]
    names += [line.strip() for line in seen.get("script", [])]
    lines = [line.split(":", 3)[3] for line in seen.get("init", []) if line.count(":") >= 3 and ":off:" not in line]
    for line in (*lines, *seen.get("rcs", [])):
        words = [word.rsplit("/", 1)[-1] for word in line.split()[:4]]
        names += [word for word in words if word in PROGRAMS][:1]
    started = {service for name in names if name in PROGRAMS for service in _started(name, serves)}
    yield from started - {INETD}
    if INETD in started:
        yield from _by_inetd(seen)


def _kept_off(seen: Mapping[str, list[str]]) -> Iterator[str]:
    """Services that something bearing their name, or noted by us, would start, and that is switched off."""
    names = [line.split()[0].rpartition(".")[0] or line.split()[0] for line in seen.get("off", []) if line.split()]
    # what we switched off is noted with the names of what served it
    noted: Serves = {}
    for service, *programs in (line.split() for line in seen.get("switched", []) if line.split()):
        for program in [word for word in programs if ":" not in word]:
            noted.setdefault(program, set()).add(service)
    for name in names:
        yield from _started(name, noted) - {INETD} if name in PROGRAMS else noted.get(name, ())
    for line in seen.get("written-out", []):
        words = [word.rsplit("/", 1)[-1] for word in line.replace(":", " ").split()]
        yield from (PROGRAMS[word] for word in words if word in PROGRAMS and PROGRAMS[word] != INETD)


def _by_inetd(seen: Mapping[str, list[str]]) -> Iterator[str]:
    for line in seen.get("inetd", []):
        words = line.split()
        if len(words) > 5:
            yield words[0].rpartition(":")[2]


_LEAVES = {("listening", "*", x) for x in ("port", "transport", "address", "program", "exe", "unit", "package")}
_SERVICE = {
    ("services", "*", x)
    for x in ("enabled", "port", "transport", "encrypted", "boot", "idle", "together", "starter", "also")
}
DECODERS = (
    Decoder(
        "linux-services", "ss(8), proc(5), systemctl(1)", of_text(decode_services),
        frozenset({("listening",), ("listening", "*"), *_LEAVES, ("services",), ("services", "*"), *_SERVICE}),
        (("listening",), ("services",)),
    ),
)  # fmt: skip
