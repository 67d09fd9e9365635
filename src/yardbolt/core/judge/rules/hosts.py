"""Rules about hosts with files: what listens, what runs by itself, who becomes root, logs, time, key sizes."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import ip_address

from ...job import Site
from ...plane.edit import get
from ...plane.kinds import ABSENT, FIRST_OWN, HALF, number
from ...plane.leaves import Plane
from ...plane.words import spoken
from ..demands import Between, Demand, Gone, exactly
from .logins import can_log_in
from .rule import Param, Params, Rule, Severity, State, Verdict, on_leaf

CLIENTS = frozenset({("udp", 68), ("udp", 546)})  # where a host hears who gives it its address (RFC 2131, RFC 8415)
LASTING = 3072  # bits; NIST SP 800-57 part 1, table 2: beyond 2030
SYSLOG = 514  # RFC 5426, section 3.3
WEAK_STORAGE = "its password is stored by an outdated method"


def _listening(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    ports = {place for s in plane.services for place in s.places}
    for x in plane.listening:
        path = ("listening", x.key)
        if x.address is None or x.port is None:
            yield Verdict(path, State.UNKNOWN, "where it listens was not read", "")
        elif x.address != "*" and ip_address(x.address).is_loopback:
            continue
        elif (x.transport, x.port) in ports or (x.transport, x.port) in CLIENTS:
            yield Verdict(path, State.HOLDS, "what listens is explained")
        else:
            saw = f"{x.transport} {x.port}{f' ({x.program})' if x.program else ''}"
            # what sends by UDP is bound to a port too, of those the host gives out (RFC 6335, section 6)
            if x.transport == "udp" and x.port >= FIRST_OWN:
                yield Verdict(path, State.UNKNOWN, f"{saw} may be its sender's own port")
            else:
                yield Verdict(path, State.FAILS, f"{saw} listens at {x.address}")
    if not plane.listening.complete:
        yield Verdict(("listening",), State.UNKNOWN, "what listens was not all read", "")


def _jobs(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for job in plane.jobs:
        path = ("jobs", job.key)
        if job.origin == "unknown":
            runs = f" runs {job.runs}" if isinstance(job.runs, str) else ""
            owner = (
                f" as {job.owner}"
                if isinstance(job.owner, str)
                else "; its account was not read"
                if job.owner is None
                else ""
            )
            when = job.schedule if isinstance(job.schedule, str) else "when was not read"
            saw = f"{job.key}{runs}{owner} ({when})"
            yield Verdict(path, State.FAILS, saw)
        elif job.origin in ("package", "ours"):
            yield Verdict(path, State.HOLDS, "came with a package" if job.origin == "package" else "made by us")
        else:
            yield Verdict(path, State.UNKNOWN, f"who put {job.key} there was not read", "")
    if not plane.jobs.complete:
        yield Verdict(("jobs",), State.UNKNOWN, "the jobs were not all read", "")


def _want_no_jobs(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    if "jobs" in site.allows.foreign:
        yield from (Gone(("jobs", job.key), "foreign-jobs") for job in plane.jobs if job.origin == "unknown")


def _files(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for file in plane.files:
        path = ("files", file.key)
        if file.origin in ("package", "ours"):
            yield Verdict(path, State.HOLDS, "as a package installed it" if file.origin == "package" else "made by us")
        else:
            yield Verdict(
                path,
                State.UNKNOWN,
                f"{file.key} is not as a package installed it",
                "read",
                "not as a package installed them",
            )
    if not plane.files.complete:
        yield Verdict(("files",), State.UNKNOWN, "the files that run by themselves were not all read", "")


def _want_no_files(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for file in plane.files:
        if file.key in site.allows.foreign and file.origin == "unknown":
            yield Gone(("files", file.key), "foreign-files")


def _root_powers(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for a in plane.accounts:
        path = ("accounts", a.key, "becomes_root")
        if a.becomes_root is ABSENT or a.key == "root" or a.role == "none":
            continue
        if a.becomes_root != "is root" and can_log_in(a) is False:
            yield Verdict(path, State.HOLDS, "cannot log in")
        elif a.becomes_root == "is root":
            yield Verdict(path, State.FAILS, f"{a.key} is root under another name", "read", "root under another name")
        elif a.becomes_root is None:
            yield Verdict(
                path, State.UNKNOWN, f"how {a.key} may become root was not read", "", "how it becomes root not read"
            )
        elif a.becomes_root == "freely":
            yield Verdict(
                path, State.FAILS, f"{a.key} becomes root without a password", "read", "root without a password"
            )
        else:
            yield Verdict(path, State.HOLDS, a.becomes_root)
    if not plane.accounts.complete:
        yield Verdict(("accounts",), State.UNKNOWN, "the accounts were not all read", "")


def _storage(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for a in plane.accounts:
        path = ("accounts", a.key, "storage")
        if a.storage in ("outdated", "reversible", "clear"):
            yield Verdict(path, State.FAILS, f"{a.key}: {a.storage}", "read", WEAK_STORAGE)
        elif a.storage is None:
            yield Verdict(
                path, State.UNKNOWN, f"how the password of {a.key} is kept was not read", "", "how it is kept not read"
            )
        elif a.storage not in (
            ABSENT,
            "blank",
        ):  # no password is kept by no method; another rule says what is wrong with it
            yield Verdict(path, State.HOLDS, str(a.storage))
    if not plane.accounts.complete:
        yield Verdict(("accounts",), State.UNKNOWN, "the accounts were not all read", "")


def _dictionary(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    if plane.policy.dictionary is not ABSENT:
        yield on_leaf(
            plane,
            ("policy", "dictionary"),
            lambda v: v != "missing",
            "its dictionary: without it nobody can set a password",
        )


def _want_dictionary(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    if plane.policy.dictionary == "missing":
        yield exactly(("policy", "dictionary"), "dictionary", "not used")


def _sent_to(place: str, server: str) -> bool:
    """Does a place for logs, whole, name this server?"""
    how, *where = place.split()
    return how != HALF and server in where


def _logs(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    path, found = ("logs", "destinations"), plane.logs.destinations
    if found is None:
        yield Verdict(path, State.UNKNOWN, "where its logs go was not read", "")
        return
    goes = found if isinstance(found, tuple) else ()
    for one in goes:
        words = one.split()
        if words[0] == HALF:
            saw = f"a place for its logs is half filled in ({' '.join(words[1:])}): nothing is sent there"
            yield Verdict(path, State.FAILS, saw)
            continue
        known = len(words) > 1 and words[1] in site.log_servers
        yield Verdict(
            path,
            State.HOLDS if known else State.FAILS,
            f"logs go to {one}" + ("" if known else ", which the job does not name"),
        )
    for wanted in sorted(site.log_servers):
        if not any(_sent_to(one, wanted) for one in goes):
            yield Verdict(path, State.FAILS, f"no logs go to {wanted}")


def _want_logs(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    path, found = ("logs", "destinations"), plane.logs.destinations
    if not site.log_servers:
        return
    goes = found if isinstance(found, tuple) else ()
    keep = [one for one in goes if any(_sent_to(one, server) for server in site.log_servers)]
    new = [f"udp {server} {SYSLOG}" for server in site.log_servers if not any(_sent_to(one, server) for one in keep)]
    yield exactly(path, "log-destination", tuple(sorted([*keep, *new])))


def _time(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    path = ("clock", "synchronised")
    if plane.clock.synchronised is not ABSENT:
        source = get(plane, ("clock", "source"))
        whose = f" with {source}" if isinstance(source, str) else ""
        found = on_leaf(plane, path, bool, "in step with a time source")
        yield Verdict(path, found.state, f"in step{whose}" if found.state is State.HOLDS else found.saw, found.basis)
    asked = plane.clock.servers
    # what the make does not have is no finding; what is there, and asks nobody, is one
    if ("clock", "servers") in site.manual:
        return
    for wanted in sorted(site.time_servers):
        if asked is None:
            yield Verdict(("clock", "servers"), State.UNKNOWN, "which time servers it asks was not read", "")
        elif not isinstance(asked, tuple) or wanted not in asked:
            yield Verdict(("clock", "servers"), State.FAILS, f"it does not ask {wanted} for the time")


def _want_time(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    asked = () if plane.clock.servers is ABSENT and ("clock", "servers") not in site.manual else plane.clock.servers
    if isinstance(asked, tuple) and not site.time_servers <= set(asked):
        yield exactly(("clock", "servers"), "time-source", tuple(sorted({*asked, *site.time_servers})))


def _nameless(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for a in plane.answering:
        path = ("answering", a.key, "anonymous")
        if a.speaks is None:
            yield Verdict(path, State.UNKNOWN, f"what {spoken(path[:2])} speaks is not known", "")
        elif a.speaks == "tftp":
            yield Verdict(path, State.FAILS, f"{spoken(path[:2])} gives and takes files without any login", "tried")
        elif a.speaks == "ftp" and a.anonymous is None:
            yield Verdict(path, State.UNKNOWN, f"whether {spoken(path[:2])} accepts anonymous logins was not shown", "")
        elif a.speaks == "ftp":
            told = "lets in" if a.anonymous is True else "blocks"
            yield Verdict(
                path,
                State.FAILS if a.anonymous is True else State.HOLDS,
                f"{spoken(path[:2])} {told} anonymous",
                "tried",
            )


def _certificates(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    shown = not plane.services.complete or any(
        s.key in ("http", "https") and (s.enabled is not False or s.boot is not False) for s in plane.services
    )
    for c in plane.certificates:
        # what stands in the settings of a web server that never starts, nobody is shown
        if c.key.startswith("/") and not shown:
            continue
        # one is shown at a port, another stands in a file a web server is set to show
        where, basis = (f"port {c.port}", "tried") if c.port else (c.key, "read")
        path = ("certificates", c.key)
        if c.days_left is None or c.self_signed is None:
            yield Verdict(path, State.UNKNOWN, f"the certificate of {where} could not be read", "")
        elif c.days_left < 0:
            yield Verdict(path, State.FAILS, f"{where}: {c.subject} ended {-c.days_left} days ago", basis)
        elif c.self_signed:
            yield Verdict(path, State.FAILS, f"{where}: {c.subject} is self-signed", basis)
        else:
            yield Verdict(path, State.HOLDS, f"{where}: {c.days_left} days left", basis)


CURRENT_TLS = ("TLSv1.2", "TLSv1.3")


def _old_tls(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for c in plane.certificates:
        # what stands in a file is shown at no port by itself
        if c.key.startswith("/") or c.protocol is ABSENT:
            continue
        path, where = ("certificates", c.key, "protocol"), f"port {c.port or c.key}"
        if isinstance(c.protocol, str) and c.protocol not in CURRENT_TLS:
            yield Verdict(path, State.FAILS, f"{where} speaks nothing newer than {c.protocol}", "tried")
        elif c.outdated is True:
            yield Verdict(path, State.FAILS, f"{where} takes TLS older than 1.2 too", "tried")
        elif c.protocol is None or c.outdated is not False:
            yield Verdict(path, State.UNKNOWN, f"whether {where} takes outdated TLS was not seen", "")
        else:
            yield Verdict(path, State.HOLDS, f"{where} speaks {c.protocol}, and nothing older than 1.2", "tried")


def _key_size(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for s in plane.services:
        if s.rsa_bits is not ABSENT and s.enabled is not False and s.key == "ssh":
            path, least = ("services", s.key, "rsa_bits"), params["at least"]
            yield on_leaf(plane, path, least.__le__, f"at least {least} bits (NIST SP 800-57)")


def _want_longer(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for s in plane.services:
        # only beside a key of another kind is it exchanged: anyone who has noted that one still knows the host
        others = isinstance(s.key_types, tuple) and any("rsa" not in kind and "dss" not in kind for kind in s.key_types)
        short = isinstance(s.rsa_bits, int) and s.rsa_bits < params["at least"]
        if s.key == "ssh" and s.key in site.needed and short and others:
            yield Between(("services", s.key, "rsa_bits"), "ssh-key-size", max(params["at least"], LASTING))


RULES = (
    Rule(
        "listening",
        "what listens is explained",
        "something listens, and nothing explains it",
        "A port that nobody asked for is a way in that nobody guards.",
        Severity.MEDIUM,
        _listening,
    ),
    Rule(
        "foreign-jobs",
        "what runs by itself came with a package, or from Yard Bolt",
        "a job runs by itself that no package installed",
        "A planted job brings an intruder back.",
        Severity.MEDIUM,
        _jobs,
        _want_no_jobs,
    ),
    Rule(
        "foreign-files",
        "files that run by themselves are as packages installed them",
        "a file that runs by itself is not as a package installed it",
        "Profiles, units and hooks run as the account that logs in, or as root at the start.",
        Severity.LOW,
        _files,
        _want_no_files,
    ),
    Rule(
        "root-powers",
        "sudo asks everybody for a password",
        "somebody is root, or becomes it, without a password",
        "Anyone who finds that session open has the whole host.",
        Severity.MEDIUM,
        _root_powers,
    ),
    Rule(
        "password-storage",
        "passwords are stored by a current method",
        "a password is stored so that it can be guessed quickly",
        "With a copy of the file, outdated methods allow a thousand million guesses a second.",
        Severity.MEDIUM,
        _storage,
    ),
    Rule(
        "dictionary",
        "users can set passwords",
        "users can set no password at all",
        "A word check without its dictionary refuses every password: nobody can change a password any more.",
        Severity.HIGH,
        _dictionary,
        _want_dictionary,
    ),
    Rule(
        "log-destination",
        "logs go where the job says",
        "logs do not go where the job says",
        "A log that stays on the unit is the first thing an intruder edits; one that goes to a stranger shows what "
        "you know.",
        Severity.MEDIUM,
        _logs,
        _want_logs,
    ),
    Rule(
        "time-source",
        "its clock is kept in step",
        "its clock is not kept in step",
        "A clock that nobody sets is wrong by the time its logs are needed.",
        Severity.LOW,
        _time,
        _want_time,
    ),
    Rule(
        "nameless-files",
        "nobody fetches files without a login",
        "files are given away without a login",
        "Anyone can fetch its settings and programs, and anyone can replace them.",
        Severity.HIGH,
        _nameless,
    ),
    Rule(
        "old-tls",
        "TLS is current",
        "TLS is outdated",
        "What is older than TLS 1.2 can be broken, or forced on you (RFC 8996).",
        Severity.MEDIUM,
        _old_tls,
    ),
    Rule(
        "certificates",
        "certificates are in date, and not self-signed",
        "a certificate is not in date, or self-signed",
        "People who are used to clicking warnings away are no longer warned.",
        Severity.LOW,
        _certificates,
    ),
    Rule(
        "ssh-key-size",
        "its RSA host key is long enough",
        "its RSA host key is too short",
        "A short key can be computed; then somebody else can pose as the host.",
        Severity.MEDIUM,
        _key_size,
        _want_longer,
        params={"at least": Param(number, "bits", 2048, low=2048, high=16384, source="NIST SP 800-131A")},
    ),
)
