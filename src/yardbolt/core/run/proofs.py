"""Proofs: claims derived from what was found and what is wanted, each with its control. A refusal counts only beside
a control: a good login by that service just before and after, or the same source let in as found. Silence is not a
refusal. What could not be tried says why, and never counts as passed."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from enum import Enum
from typing import assert_never

from ..addresses import NOBODY
from ..credentials import Passphrase, Password
from ..doors import Door, Way
from ..family.model import Family
from ..job import Site
from ..judge.access import admit
from ..judge.passage import passage
from ..plane.edit import exists, get
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane
from ..plane.path import Path
from ..secret import Ref
from ..talk.logon import NEVER_SENDS
from ..talk.outcomes import (
    Asked,
    Cut,
    Locked,
    Login,
    NoListener,
    NotReady,
    Occupied,
    Open,
    Opened,
    Port,
    Quiet,
    Refused,
    Refusing,
    Silent,
    Untried,
    said_by,
    told,
)


class Sort(Enum):
    """What is tried."""

    OPENS = "login opens"
    ALTERED = "altered password refused"
    BLANK = "blank password refused"
    NAMED = "own name as password refused"
    REMOVED = "removed account refused"
    ENDED = "ended login refused"
    FACTORY = "factory login refused"
    CLOSED = "port closed"
    STRANGER = "stranger refused"
    KEY = "host key as noted"
    POLICY = "weak password refused"
    LOCKOUT = "wrong passwords lock"
    MARK = "log mark arrives"
    LIMITED = "change refused to who may only see"
    ANSWERED = "user answered"
    COMMUNITY = "community refused"
    UNSEALED = "unsealed question refused"
    ADMITTED = "who is meant is let in"


@dataclass(frozen=True)
class Claim:
    """One thing to try. `backs` are the paths it proves. `control` says what makes a refusal count. `free`: the
    account does not exist any more, so trying uses up no try."""

    sort: Sort
    text: str
    door: Door
    source: str
    account: str = ""
    secret: Ref = Ref("")
    control: str = ""
    backs: frozenset[Path] = frozenset()
    free: bool = False

    @property
    def service(self) -> str:
        """The service it is tried by."""
        return self.door.service

    @property
    def way(self) -> Way:
        """The login it tries."""
        shown = Passphrase(self.secret) if self.service == "snmp" else Password(self.secret)
        return Way(self.source, self.door, self.account, shown)


class Result(Enum):
    """What came of a claim."""

    HOLDS = "holds"
    FAILS = "fails"
    NOT_TRIED = "could not be tried"


@dataclass(frozen=True)
class Proof:
    """A claim with its result, what was seen, and the control that was made."""

    claim: Claim
    result: Result
    saw: str
    control: str = ""


@dataclass(frozen=True)
class KeySeen:
    """The host key of a login that opened: is it the one noted?"""

    same: bool


Tried = Login | Port | KeySeen
BY_TCP = " by TCP"
SNMP = 161


# Wrong passwords that are tried on every account of ours, beside the right one.
WRONG = {
    Sort.ALTERED: "with the last character changed",
    Sort.BLANK: "with a blank password",
    Sort.NAMED: "with its own name",
}


def claims(
    family: Family, now: Plane, site: Site, ways: Iterable[Way], removed: Iterable[Way] = (), also: Iterable[Way] = ()
) -> tuple[Claim, ...]:
    """Everything that can be tried without writing, most useful first. `removed` are logins of removed accounts.
    `also` are logins by further services, where only the right password is tried."""
    every = sorted(ways, key=lambda way: (get(now, ("accounts", way.account, "role")) != "full", way))
    # what the settings surely block must be blocked
    ended = [way for way in every if admit(now, way).admitted is False]
    good = [way for way in every if way not in ended]
    doors = {one.service: one for one in site.doors}
    live = [doors[s] for s in doors if get(now, ("services", s, "enabled")) is not False]
    shut = [doors[s] for s in doors if get(now, ("services", s, "enabled")) is False] + _others_off(now, doors)
    return (
        *(_opens(now, way) for way in good),
        *(_opens(now, way) for way in also if admit(now, way).admitted is not False),
        # an unencrypted service shows nothing that identifies a box
        *(_key(one, site) for one in live if _shows_a_key(family, now, one.service)),
        *(_wrong(way, sort) for way in good for sort in WRONG),
        # one service may compare otherwise than another
        *(
            _wrong(way, Sort.ALTERED)
            for way in also
            if way.service not in NEVER_SENDS and admit(now, way).admitted is True
        ),
        *(_removed(now, way) for way in removed),
        *(_ended(now, way) for way in ended),
        *(_factory(now, login.account, login.ref, one, site) for login in family.factory.logins for one in live),
        *(_closed(now, one, site) for one in shut),
        *(_stranger(one, site.stranger, site) for one in live if site.stranger),
        *(
            _stranger(replace(one, address=site.also), site.stranger_also, site)
            for one in live
            if site.stranger_also and site.also
        ),
        *(claim for one in live for claim in _admitted(now, one, site)),
        *_by_snmp(now, site),
    )


def _opens(now: Plane, way: Way) -> Claim:
    backs = frozenset(path for condition in admit(now, way).conditions for path in condition.paths)
    return Claim(
        Sort.OPENS,
        f"{way.account} logs in by {way.service}",
        way.door,
        way.source,
        way.account,
        way.secret,
        backs=backs,
    )


def shown_by(service: str) -> str:
    """What identifies a box at this service."""
    return "certificate" if service == "https" else "host key"


def _shows_a_key(family: Family, now: Plane, service: str) -> bool:
    """Does the service show a key? Not where it is unencrypted, as read or as the family says."""
    encrypted = get(now, ("services", service, "encrypted"))
    return encrypted is not False and (encrypted is True or service not in family.services() or family.sealed(service))


def _key(door: Door, site: Site) -> Claim:
    text = f"{door.service} shows the {shown_by(door.service)} that was noted"
    return Claim(Sort.KEY, text, door, site.laptop, control="the key noted at the first login")


def _wrong(way: Way, sort: Sort) -> Claim:
    text, control = f"{way.account} {WRONG[sort]} is refused", "the right one opens just before and after"
    backs = frozenset({("accounts", way.account, "secret")})
    return Claim(sort, text, way.door, way.source, way.account, way.secret, control, backs)


def _removed(now: Plane, way: Way) -> Claim:
    path = ("accounts", way.account)
    text, control = (
        f"{way.account}, which was removed, is refused",
        "a good login by the same service just before and after",
    )
    gone = exists(now, path) is False
    return Claim(Sort.REMOVED, text, way.door, way.source, way.account, way.secret, control, frozenset({path}), gone)


def _ended(now: Plane, way: Way) -> Claim:
    text = f"{way.account}, whose login by {way.service} was ended, is refused"
    control = "a good login by the same service just before and after"
    backs = frozenset({("services", way.service, "root_login"), ("accounts", way.account, "enabled")})
    free = _never_locked(now, way.account)
    return Claim(Sort.ENDED, text, way.door, way.source, way.account, way.secret, control, backs, free)


def _never_locked(now: Plane, account: str) -> bool:
    """Is it root, and does the reading say that wrong passwords do not lock root? Then a refusal cannot come from a
    lock."""
    is_root = get(now, ("accounts", account, "becomes_root")) == "is root"
    return is_root and (now.lockout.tries is ABSENT or now.lockout.binds_root is False)


def _others_off(now: Plane, doors: Mapping[str, Door]) -> list[Door]:
    """The ports of services that no channel uses and that are off or blocked."""
    met = next(iter(doors.values()), None)
    return [
        Door(one.key, met.address, port, one.key)
        for one in now.services
        if met is not None and one.key not in doors
        # on a host with sockets, what no source is let in to is shut by its packet filter
        if one.enabled is False or (one.permitted == NOBODY and len(now.listening))
        for by, port in sorted(one.places)
        if by == "tcp"
    ]


def _factory(now: Plane, account: str, ref: Ref, door: Door, site: Site) -> Claim:
    text = f"factory login {account or '(no name)'} is refused by {door.service}"
    control, path = "a good login by the same service just before and after", ("accounts", account)
    free = exists(now, path) is False or _never_locked(now, account)
    return Claim(Sort.FACTORY, text, door, site.laptop, account, ref, control, frozenset({path}), free)


def _closed(now: Plane, door: Door, site: Site) -> Claim:
    # silence by UDP is no proof, so of what listens there too only half is tried
    service = now.services.get(door.service)
    half = BY_TCP if service and any(by == "udp" for by, _ in service.places) else ""
    text = f"{door.service}{half} no longer answers on port {door.port}"
    backs = frozenset({("services", door.service, "enabled"), ("services", door.service, "permitted")})
    return Claim(
        Sort.CLOSED, text, door, site.laptop, control="the unit answers on another port at the same moment", backs=backs
    )


def _stranger(door: Door, stranger: str, site: Site) -> Claim:
    text = f"{door.service} blocks {stranger}, which has no business here"
    control = "the laptop is let in by the same service just before and after"
    return Claim(
        Sort.STRANGER, text, door, stranger, control=control,
        backs=frozenset({("services", door.service, "permitted")}),
    )  # fmt: skip


def _met(now: Plane, door: Door, address: str) -> bool:
    """Can the service be met at that address: does it listen in that address family, as far as all its sockets were
    read?"""
    transport = "udp" if door.service == "snmp" else "tcp"
    here = [
        words for key in now.listening.by_key if (words := key.split())[0] == transport and words[-1] == str(door.port)
    ]
    return not now.listening.complete or not here or any((":" in words[1]) >= (":" in address) for words in here)


def _admitted(now: Plane, door: Door, site: Site) -> Iterator[Claim]:
    """Everybody the laptop stands in for, at each service that is meant for them."""
    for source in site.stands_in:
        address = site.also if ":" in source else door.address
        if address and source in site.meant_for(door.service) and _met(now, door, address):
            backs = frozenset({("services", door.service, "permitted")})
            text = f"{door.service} lets in {source}, which the job allows"
            yield Claim(Sort.ADMITTED, text, replace(door, address=address), source, backs=backs)


def _by_snmp(now: Plane, site: Site) -> Iterator[Claim]:
    """The users of ours that SNMP must answer, and what it must not answer."""
    met, control = next(iter(site.doors), None), "the user is answered just before and after"
    agent = now.services.get("snmp")
    if met is None or agent is None or agent.enabled is False:
        return
    door = Door("snmp", met.address, agent.port if isinstance(agent.port, int) else SNMP, "snmp")
    for own in site.askers:
        path = ("snmp", "users", own.name)
        if exists(now, path) is not True:
            continue
        way = Way(site.laptop, door, own.name, Passphrase(site.secret(own.name)))
        backs = frozenset({(*path, "level"), (*path, "secret")})
        yield Claim(
            Sort.ANSWERED,
            f"{own.name} is answered by SNMP, encrypted",
            door,
            way.source,
            way.account,
            way.secret,
            backs=backs,
        )
        yield Claim(
            Sort.UNSEALED,
            f"{own.name} is not answered by SNMP without encryption",
            replace(door, scheme="snmp-unsealed"),
            way.source,
            way.account,
            way.secret,
            control,
            backs,
        )
        yield Claim(
            Sort.COMMUNITY, "no published community is answered by SNMP", replace(door, scheme="snmp-community"),
            way.source, way.account, way.secret, control, frozenset({("snmp", "communities")}),
        )  # fmt: skip
    if site.stranger:
        yield _stranger(door, site.stranger, site)
    if site.stranger_also and site.also:
        yield _stranger(replace(door, address=site.also), site.stranger_also, site)
    yield from _admitted(now, door, site)


def side_door(plane: Plane, way: Way) -> frozenset[Path]:
    """What a login at a second daemon beside the real one proves of a way: every condition but the port and its
    filter. It backs a claim and is no way in of its own."""
    own = {("services", way.service, "port"), ("services", way.service, "interfaces")}
    rests = (condition.paths for condition in admit(plane, way).conditions)
    filtered = passage(plane, way).paths
    return frozenset(path for paths in rests if not paths & own and paths != filtered for path in paths)


def settle(claim: Claim, tried: Tried, control: bool) -> Proof:
    """Judge what was seen. Only a refusal beside its control can hold."""
    match tried:
        case Untried(why):
            return Proof(claim, Result.NOT_TRIED, why)
        case KeySeen(same):
            return Proof(claim, Result.HOLDS if same else Result.FAILS, "same" if same else "changed", claim.control)
        case Open() | Refusing() if claim.sort is Sort.ADMITTED:
            let_in = isinstance(tried, Open)
            return Proof(claim, Result.HOLDS if let_in else Result.FAILS, "let in" if let_in else "refused")
        case Open():
            return Proof(claim, Result.FAILS, "admitted", claim.control)
        case Refusing(listening):
            # what takes a connection and ends it still listens
            if listening and claim.sort is Sort.CLOSED:
                return Proof(claim, Result.FAILS, "something still listens there", claim.control)
            return _beside(claim, "refused", control)
        case Quiet():
            return Proof(claim, Result.NOT_TRIED, "silent: silence is not a refusal")
        case _:
            return _of_login(claim, tried, control)


def _of_login(claim: Claim, tried: Login, control: bool) -> Proof:
    word = told(tried)
    if claim.sort is Sort.KEY:
        return Proof(claim, Result.NOT_TRIED, word)
    # the one claim where a refusal is the failure
    if claim.sort in (Sort.OPENS, Sort.ANSWERED):
        return Proof(claim, Result.HOLDS if isinstance(tried, Opened) else Result.FAILS, word)
    match tried:
        case Asked(secret_sent=False):
            return Proof(claim, Result.NOT_TRIED, said_by(tried))
        case Opened() | Asked():
            return Proof(claim, Result.FAILS, word, claim.control)
        case Refused() | NoListener():
            return _beside(claim, word, control)
        case Locked():
            return Proof(claim, Result.NOT_TRIED, "locked: the account is locked, which refuses everybody")
        case NotReady():
            return Proof(claim, Result.NOT_TRIED, "not ready: the unit is still starting, which refuses everybody")
        case Cut():
            return Proof(claim, Result.NOT_TRIED, "cut: a connection that ends is not a refusal")
        case Silent():
            return Proof(claim, Result.NOT_TRIED, "silent: silence is not a refusal")
        case Occupied() | Untried():
            return Proof(claim, Result.NOT_TRIED, word)
    assert_never(tried)


def _beside(claim: Claim, saw: str, control: bool) -> Proof:
    if not control:
        return Proof(claim, Result.NOT_TRIED, f"{saw}, but the control failed: {claim.control}")
    return Proof(claim, Result.HOLDS, saw, claim.control)
