"""Rules about ways in: plain text, needless services, sources, unexplained ports, the settings of SSH."""

from __future__ import annotations

from collections.abc import Iterator

from ...addresses import ANYONE, NOBODY, SIX
from ...algorithms import outdated
from ...job import Site
from ...plane.edit import get
from ...plane.kinds import ABSENT, number
from ...plane.leaves import Plane, Service
from ...plane.path import Path
from ...plane.seen import Answering
from ...plane.words import spoken
from ..access import comes_back
from ..demands import Between, Demand, exactly
from ..whereabouts import has_entry_lists
from ..who import who
from .rule import Param, Params, Rule, Severity, State, Verdict, on_leaf

MANY = 1_000_000
PLAIN = frozenset({"telnet", "http", "ftp", "tftp"})
SPEAKS = {
    "ssh": ("ssh",),
    "telnet": ("telnet",),
    "http": ("http",),
    "https": ("tls",),
    "ftp": ("ftp",),
    "web": ("http", "tls"),
}
READABLE = "on, passwords unencrypted"


def _same(service: Service, a: Answering) -> bool:
    """Is it a port of this service's, by the same transport, that answers?"""
    return ("udp" if a.transport == "udp" else "tcp", a.port) in service.places


def readable(plane: Plane, service: Service) -> bool:
    """Do passwords go over the line unencrypted by it? A community is one, whatever else SNMP may do."""
    by_community = service.key == "snmp" and plane.snmp.communities not in (None, ABSENT, 0)
    return service.encrypted is False or by_community


def _sealed_by_users(plane: Plane, service: Service) -> bool:
    """Is it SNMP, answering none but users, and them sealed?"""
    users = plane.snmp.users
    none_else = service.key == "snmp" and plane.snmp.communities == 0 and users.complete
    return none_else and all(user.level == "authPriv" or user.rights == "none" for user in users)


def _port(a: Answering) -> str:
    return spoken(("answering", a.key))


def _running(plane: Plane) -> tuple[Service, ...]:
    return tuple(s for s in plane.services if s.enabled is not False)


def _whole(plane: Plane, what: str) -> Iterator[Verdict]:
    if not plane.services.complete:
        yield Verdict(("services",), State.UNKNOWN, f"the services were not all read, so {what}", "")


def _plain(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for s in plane.services:
        path = ("services", s.key)
        answers = any(_same(s, a) for a in plane.answering)
        untold = s.port is None or any(a.port is None for a in plane.answering)
        off = "switched off" if s.enabled is False else "shut to everybody" if s.permitted == NOBODY else ""
        if off and not answers and untold and plane.answering:
            yield Verdict(path, State.UNKNOWN, f"{s.key} is {off}; whether it answers all the same is not known")
        elif off and not answers:
            yield Verdict(path, State.HOLDS, off + (" and its port is closed" if plane.answering.complete else ""))
        elif readable(plane, s):
            saw = f"{s.key} carries passwords unencrypted" + (f" on port {s.port}" if s.port else "")
            yield Verdict(path, State.FAILS, saw, "read", READABLE)
        elif s.encrypted is None and not _sealed_by_users(plane, s):
            yield Verdict(path, State.UNKNOWN, f"whether {s.key} encrypts was not read", "")
        else:
            yield Verdict(path, State.HOLDS, f"{s.key} is encrypted")
    for a in plane.answering:
        if any(_same(s, a) for s in plane.services):
            continue
        if a.speaks in PLAIN:
            yield Verdict(("answering", a.key), State.FAILS, f"{_port(a)} speaks {a.speaks}", "tried", READABLE)
        elif a.speaks in (None, "unknown"):
            saw = f"{_port(a)} answers; what it speaks is not known"
            yield Verdict(("answering", a.key), State.UNKNOWN, saw, "tried")
    yield from _whole(plane, "a plain one may be missing here")


def _no_plain(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for s in plane.services:
        if s.encrypted is False:
            yield exactly(("services", s.key, "enabled"), "plain-service", False)


def _needless(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for s in plane.services:
        path = ("services", s.key)
        if s.enabled is None:
            yield Verdict(path, State.UNKNOWN, f"whether {s.key} runs was not read", "")
        elif s.enabled and s.key not in site.needed:
            but = ", though shut to everybody" if s.permitted == NOBODY else ""
            yield Verdict(path, State.FAILS, f"{s.key} runs and the job does not need it{but}")
        elif not s.enabled and s.key in site.needed:
            keyless = ", and has no key of its own yet" if s.keyed is False else ""
            yield Verdict(path, State.FAILS, f"{s.key} is needed and switched off{keyless}")
        elif s.enabled and (back := comes_back(plane, s.key)) is not True:
            told = "does not come back" if back is False else "whether it comes back was not read"
            state = State.FAILS if back is False else State.UNKNOWN
            yield Verdict(path, state, f"{s.key} is needed and on; at the next start: {told}")
        elif not s.enabled and s.boot is True:
            yield Verdict(path, State.FAILS, f"{s.key} does not run, and the next boot starts it")
        elif not s.enabled and s.boot is None:
            yield Verdict(path, State.UNKNOWN, f"{s.key} is off; whether the next boot starts it was not read", "")
        else:
            # of what bears its name; what starts it under another one shows when it has started
            off = "off, and also at the next start" if s.boot is False else "off"
            yield Verdict(path, State.HOLDS, f"{s.key} is {'needed and on' if s.enabled else off}")
    for name in sorted(site.needed):
        if plane.services.complete and plane.services.get(name) is None:
            yield Verdict(("services", name), State.FAILS, f"{name} is needed and missing", "read")
    yield from _whole(plane, "one that is not needed may be missing here")


def _want_needed(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for s in plane.services:
        if s.enabled is not False and s.key not in site.needed:
            yield exactly(("services", s.key, "enabled"), "needed-services", False)
        elif s.key in site.needed:
            yield exactly(("services", s.key, "enabled"), "needed-services", True)
            if s.enabled and comes_back(plane, s.key) is False:
                yield exactly(("services", s.key, "boot"), "needed-services", True)
            if s.keyed is False:
                yield exactly(("services", s.key, "keyed"), "needed-services", True)
        elif s.boot is True:
            yield exactly(("services", s.key, "boot"), "needed-services", False)


def _open(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for s in _running(plane):
        path: Path = ("services", s.key, "permitted")
        got, meant = who(plane, s.key, site.door(s.key)), site.meant_for(s.key)
        if got.possible <= meant:
            yield Verdict(path, State.HOLDS, f"only {got.possible} may log in")
        elif got.possible <= site.while_working(s.key):
            yield Verdict(
                path,
                State.FAILS,
                f"this laptop, {site.laptop}, is let in and is not an administrator's: remove it last",
            )
        elif s.permitted is None and got.sure <= meant:
            yield Verdict(path, State.UNKNOWN, "who may connect was not read", "")
        elif len(plane.listening) and got.sure <= meant:
            # a host with sockets may have a packet filter before them
            yield Verdict(path, State.UNKNOWN, "who its packet filter lets in was not read", "")
        else:
            beyond = (got.possible if s.permitted is not None else got.sure) - meant
            by = "anyone" if ANYONE - meant <= beyond else "anyone by IPv6" if SIX - meant <= beyond else ""
            many = beyond.count()
            told = f"{many:,}" if many <= MANY else "millions of"
            count = by or f"{told} addresses more than the job allows"
            yield Verdict(path, State.FAILS, f"{count} may reach {s.key}", "read", f"open to {by}" if by else "")
    yield from _whole(plane, "an open one may be missing here")


def _limit(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for s in _running(plane):
        # where entry lists say who may come, they are what is changed; one that is plain and needed all the same is
        # limited too
        if s.key in site.needed and not has_entry_lists(plane):
            yield Between(
                ("services", s.key, "permitted"), "open-sources", site.while_working(s.key), site.while_working(s.key)
            )


def _unexplained(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    if not plane.answering.complete:
        yield Verdict(("answering",), State.UNKNOWN, "not every port was looked at, or said anything", "")
    readable = plane.services.complete or plane.listening.complete
    for a in plane.answering:
        service = next((s for s in plane.services if _same(s, a) and s.enabled is not False), None)
        socket = next((x for x in plane.listening if x.port == a.port and x.transport == (a.transport or "tcp")), None)
        path = ("answering", a.key)
        if service and a.speaks in SPEAKS.get(service.key, (a.speaks,)) and a.speaks is not None:
            yield Verdict(path, State.HOLDS, f"{_port(a)} is {service.key}", "tried")
        elif service:
            yield Verdict(path, State.UNKNOWN, f"{_port(a)} should be {service.key} and speaks {a.speaks}", "tried")
        elif not readable:
            yield Verdict(
                path,
                State.UNKNOWN,
                f"{_port(a)} answers ({a.speaks}); the settings that would explain it were not read",
                "tried",
            )
        else:
            by = f", opened by {socket.program}" if socket and socket.program else ""
            yield Verdict(
                path, State.FAILS, f"{_port(a)} answers ({a.speaks}){by}; nothing in the job explains it", "tried"
            )


def _ssh(plane: Plane) -> tuple[Service, ...]:
    spoken = {a.port for a in plane.answering if a.speaks == "ssh" and a.transport != "udp"}
    return tuple(s for s in _running(plane) if s.key == "ssh" or (s.port in spoken and s.port is not None))


def _ssh_unread(plane: Plane) -> Iterator[Verdict]:
    """Where SSH answers, or may run, and no settings of it were read: a rule about it applies there all the same."""
    read = {port for s in _ssh(plane) for _, port in s.places}
    for a in plane.answering:
        if a.speaks in ("ssh", None) and a.transport != "udp" and a.port not in read:
            yield Verdict(("answering", a.key), State.UNKNOWN, f"SSH on {_port(a)} was not read", "")
    if not _ssh(plane) and not plane.services.complete:
        yield Verdict(("services",), State.UNKNOWN, "whether SSH runs was not read", "")


def _root(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for s in _ssh(plane):
        if s.root_login is not ABSENT:
            yield on_leaf(
                plane,
                ("services", s.key, "root_login"),
                lambda v: v == "no",
                "no: log in as a person first, then become root",
            )
    yield from _ssh_unread(plane)


def _want_no_root(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    # a person first: where the job makes nobody with all rights, root is the only one
    if any(own.role == "full" and not site.ended(own) for own in site.accounts):
        for s in _kept(plane, site):
            if s.root_login not in (ABSENT, "no"):
                yield exactly(("services", s.key, "root_login"), "ssh-root", "no")


def _kept(plane: Plane, site: Site) -> Iterator[Service]:
    """The SSH servers that stay."""
    return (s for s in _ssh(plane) if s.key in site.needed)


def _blank(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for s in _ssh(plane):
        if s.blank_login is not ABSENT:
            yield on_leaf(plane, ("services", s.key, "blank_login"), lambda v: v is False, "no blank passwords")
    yield from _ssh_unread(plane)


def _tries(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for s in _ssh(plane):
        if s.tries is not ABSENT:
            yield on_leaf(
                plane,
                ("services", s.key, "tries"),
                lambda v: bool(v <= params["at most"]),
                f"at most {params['at most']} tries",
            )
    yield from _ssh_unread(plane)


def _want_no_blank(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for s in _kept(plane, site):
        if s.blank_login is True:
            yield exactly(("services", s.key, "blank_login"), "ssh-blank", False)


def _want_few_tries(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for s in _kept(plane, site):
        if s.tries is not ABSENT:
            yield Between(("services", s.key, "tries"), "ssh-tries", high=params["at most"])


def _outdated(offered: tuple[str, ...]) -> list[str]:
    return [one for one in offered if outdated(one)]


def _want_modern(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for s in _kept(plane, site):
        for field in ("key_types", "exchanges", "ciphers", "macs"):
            offered = get(plane, ("services", s.key, field))
            weak = _outdated(offered) if isinstance(offered, tuple) else []
            left = tuple(one for one in offered if one not in weak) if weak else ()
            if left:
                yield exactly(("services", s.key, field), "ssh-old", left)


def _old(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for s in _running(plane):
        for field in ("key_types", "exchanges", "ciphers", "macs"):
            path = ("services", s.key, field)
            offered = get(plane, path)
            if isinstance(offered, tuple):
                weak = _outdated(offered)
                yield Verdict(
                    path,
                    State.FAILS if weak else State.HOLDS,
                    f"offers {', '.join(weak)}" if weak else f"{len(offered)} offered, none outdated",
                    "tried",
                )
            elif s in _ssh(plane) and offered is None:
                yield Verdict(path, State.UNKNOWN, "not read", "")
    yield from _ssh_unread(plane)


RULES = (
    Rule(
        "plain-service", "no service carries passwords unencrypted", "passwords go over the line unencrypted",
        "Anyone on the line reads the password as it goes by.",
        Severity.CRITICAL, _plain, _no_plain,
    ),
    Rule(
        "open-sources", "only the job's sources may log in", "more than the job's sources may log in",
        "A login anybody can reach will be tried by everybody.",
        Severity.HIGH, _open, _limit,
    ),
    Rule(
        "needed-services", "what runs is what the site needs", "what runs is not what the site needs",
        "Each further service is one more way in.",
        Severity.MEDIUM, _needless, _want_needed,
    ),
    Rule(
        "unexplained-port", "every port that answers is explained", "a port answers, and nothing explains it",
        "A port that answers and is not in the settings was opened by somebody else.",
        Severity.HIGH, _unexplained,
    ),
    Rule(
        "ssh-root", "root does not log in over SSH", "root logs in over SSH",
        "With one shared name nobody knows who did it.",
        Severity.HIGH, _root, _want_no_root,
    ),
    Rule(
        "ssh-blank", "SSH takes no blank password", "SSH takes blank passwords",
        "An account without a password is open to anyone who knows its name.",
        Severity.CRITICAL, _blank, _want_no_blank,
    ),
    Rule(
        "ssh-tries", "few tries in one SSH connection", "one SSH connection allows many tries",
        "Each connection is a free round of guesses.",
        Severity.LOW, _tries, _want_few_tries, params={"at most": Param(number, "tries", 4, low=1, high=20)},
    ),
    Rule(
        "ssh-old", "SSH offers nothing outdated", "SSH offers outdated algorithms",
        "Old keys, exchanges and ciphers can be broken or forced on you.",
        Severity.MEDIUM, _old, _want_modern,
    ),
)  # fmt: skip
