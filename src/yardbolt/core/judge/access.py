"""Who can get in: may source S log in as account A through door D? Three-valued, with every condition and the paths it
rests on.

The planner relies on *surely*, the judge on *possibly*. A login that succeeded proves each of its conditions; after a
change the way stays proven exactly when every condition the change touched is surely true.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from ipaddress import ip_address, ip_interface

from ..addresses import ANYONE, FOUR, NOBODY, SIX, AddressSet
from ..credentials import Key, Nothing, Passphrase, Password
from ..doors import Door, Way
from ..job import Site
from ..plane.compare import difference
from ..plane.edit import exists, get
from ..plane.kinds import ABSENT
from ..plane.path import Path, show, touches
from ..plane.table import InputRule, Interface, Plane, Service, places_of
from ..secret import Ref
from .filter import UNREAD, Asks, At, Passing, in_order, through


@dataclass(frozen=True)
class Condition:
    """One thing that must hold for a login. `holds` is None where it was not read; `paths` is what was looked at to
    tell."""

    paths: frozenset[Path]
    holds: bool | None
    why: str


@dataclass(frozen=True)
class Admission:
    """The answer: one sure no decides, else one unknown, else yes."""

    admitted: bool | None
    conditions: tuple[Condition, ...]

    @property
    def because(self) -> tuple[Condition, ...]:
        """The conditions that decided it: those that fail, or else those not known."""
        return tuple(c for c in self.conditions if c.holds is False) or tuple(
            c for c in self.conditions if c.holds is None
        )


def admit(plane: Plane, way: Way, kept: bool = False) -> Admission:
    """May this way be used, as far as this plane tells? `kept`: once the unit has started again with these settings."""
    return admission(conditions(plane, way, kept))


def admission(found: tuple[Condition, ...]) -> Admission:
    """What some conditions amount to."""
    verdicts = {c.holds for c in found}
    return Admission(False if False in verdicts else None if None in verdicts else True, found)


def conditions(plane: Plane, way: Way, kept: bool = False) -> tuple[Condition, ...]:
    """Everything that must hold for this way; where the settings are those of the next start, that its service comes back
    too."""
    service, account = ("services", way.service), ("accounts", way.account)
    found = [_single(path, exists(plane, path), f"{show(path)} is there") for path in (service, account)]
    for path in ((*service, "enabled"), (*account, "enabled")):
        value = get(plane, path)
        # what cannot be switched off is on
        on = True if value is ABSENT else value if isinstance(value, bool) else None
        found.append(_single(path, on, f"{show(path)} is {value}"))
    found += [_limit(plane, (*owner, "permitted"), way.source) for owner in (service, account)]
    # what goes to somebody's mailbox nobody types here
    also = get(plane, (*account, "factor"))
    found.append(
        _single((*account, "factor"), also in (None, ABSENT, "none"), f"{way.account} is asked for {also} too")
    )
    found.append(_root_login(plane, way))
    found.append(_account_list((*service, "accounts"), get(plane, (*service, "accounts")), way))
    found.append(_port(plane, service, way.door))
    found += _shown(plane, way)
    if kept:
        found.append(_comes_back(plane, service))
    return (*found, *_address(plane, way), _binding(plane, way.door), _bundle(plane, way), passage(plane, way))


def _shown(plane: Plane, way: Way) -> tuple[Condition, ...]:
    """What must hold of the credential. A key rests on the account's keys and not on its password; a password on itself,
    and on the service taking passwords, blank ones too where it is one."""
    service, account = ("services", way.service), ("accounts", way.account)
    match way.credential:
        case Nothing():
            return ()
        case Key(fingerprint):
            keys = get(plane, (*account, "keys"))
            held = fingerprint in keys if isinstance(keys, tuple) else False if keys is ABSENT else None
            return (
                _single((*account, "keys"), held, f"the SSH key of {way.account}"),
                _takes(plane, (*service, "key_login"), f"{way.service} takes keys"),
            )
        case Password(ref) | Passphrase(ref):
            told = get(plane, (*account, "secret"))
            known = told == ref if isinstance(told, Ref) else None
            return (
                _single((*account, "secret"), known, f"the credential of {way.account}"),
                _takes(plane, (*service, "password_login"), f"{way.service} takes passwords"),
                _kept_so(plane, way),
            )


def _takes(plane: Plane, path: Path, why: str) -> Condition:
    """Does the service take this kind of credential? Where nothing of the kind is read of it, it takes them all."""
    value = get(plane, path)
    tells = get(plane, (*path[:2], "root_login")) not in (None, ABSENT)
    holds = value if isinstance(value, bool) else None if value is None and tells else True
    return Condition(frozenset({path, (*path[:2], "root_login")}) if tells else frozenset({path}), holds, why)


def _kept_so(plane: Plane, way: Way) -> Condition:
    """Can a password be given that is kept like this one? A locked one never; a blank one where blank ones are taken."""
    storage, blank = ("accounts", way.account, "storage"), ("services", way.service, "blank_login")
    how, takes = get(plane, storage), _takes(plane, blank, "").holds
    holds = False if how == "locked" else takes if how == "blank" else True
    return Condition(frozenset({storage, blank}), holds, f"the password of {way.account} is {how}")


def comes_back(plane: Plane, service: str) -> bool | None:
    """Does the next start bring the service? None where that was not read of a host that starts each by itself; any other unit
    starts what is on."""
    value = get(plane, ("services", service, "boot"))
    if isinstance(value, bool):
        return value
    return None if value is None and plane.host.init not in (None, ABSENT) else True


def _comes_back(plane: Plane, service: Path) -> Condition:
    holds = comes_back(plane, service[-1])
    why = "was not read" if holds is None else "is yes" if holds else "is no"
    return Condition(frozenset({(*service, "boot"), ("host", "init")}), holds, f"{service[-1]} at the next start {why}")


def _single(path: Path, holds: bool | None, why: str) -> Condition:
    return Condition(frozenset({path}), holds, why)


def _limit(plane: Plane, path: Path, source: str) -> Condition:
    permitted = get(plane, path)
    if isinstance(permitted, AddressSet):
        return _single(path, source in permitted, f"{show(path)} is {permitted}")
    if permitted is ABSENT:
        return _single(path, True, f"{show(path)} has no limit")
    return _single(path, None, f"{show(path)} was not read")


def _account_list(path: Path, allowed: object, way: Way) -> Condition:
    if allowed is ABSENT:
        return _single(path, True, "every account may use it")
    if not isinstance(allowed, tuple):
        return _single(path, None, f"{show(path)} was not read")
    if way.account in allowed and not any(entry.startswith("!") for entry in allowed):
        return _single(path, True, f"{show(path)} names {way.account}")
    for entry in allowed:
        name, _, where = entry.partition("@")
        if any(sign in entry for sign in "*?!"):
            return _single(path, None, f"{show(path)} holds the pattern {entry}")
        if name == way.account and where == way.source:
            return _single(path, True, f"{show(path)} names {entry}")
    return _single(path, False, f"{show(path)} does not name {way.account}")


def _root_login(plane: Plane, way: Way) -> Condition:
    """Does the service let root in with this credential, where it tells root from others?"""
    told, becomes = ("services", way.service, "root_login"), ("accounts", way.account, "becomes_root")
    may, kind = get(plane, told), get(plane, becomes)
    # a make of which neither is read does not tell root from others
    by_key = isinstance(way.credential, Key)
    if may in (ABSENT, "yes") or kind not in ("is root", None) or (may is None and kind is None):
        return Condition(frozenset({told, becomes}), True, f"{way.service} lets {way.account} in")
    if may == "keys" and by_key:
        return Condition(frozenset({told, becomes}), True, f"{way.service} lets {way.account} in by a key")
    if kind is None or may is None:
        return Condition(frozenset({told, becomes}), None, f"whether {way.service} lets root in was not read")
    return Condition(frozenset({told, becomes}), False, f"{show(told)} is {may}, and {way.account} is root")


def _port(plane: Plane, service: Path, door: Door) -> Condition:
    path = (*service, "port")
    port = get(plane, path)
    if port is None:
        return _single(path, None, f"{show(path)} was not read")
    # a service that has no port of its own to set is met where it was met before
    there = port is ABSENT or ("tcp", door.port) in places_of("tcp", port, get(plane, (*service, "also")))
    return _single(path, there, f"{show(path)} is {port}")


# ---- where the unit is met ------------------------------------------------------------------------------------------


def _address(plane: Plane, way: Way) -> tuple[Condition, ...]:
    """The unit must have the door's address, and be able to answer the source."""
    if not len(plane.interfaces) or (ip_address(way.door.address).is_loopback and not _on_loopback(plane)):
        # nothing was read of its sockets: the address is the one it was met at, until something moves it
        return (Condition(frozenset({("interfaces",)}), True, f"{way.door.address} is where it was met"),)
    key = interface_of(plane, way.door)
    if not key:
        # somebody on the way may pass it on to another address (RFC 2663), so a login may open all the same
        return (Condition(_whereabouts(plane), None, f"no socket has {way.door.address}"),)
    path: Path = ("interfaces", key, "addresses")
    listed = get(plane, path)
    mine = (
        tuple(one for one in listed or () if str(ip_interface(one).ip) == way.door.address)
        if isinstance(listed, tuple)
        else ()
    )
    has = bool(mine) if isinstance(listed, tuple) else False if listed is ABSENT else None
    gateway_path: Path = ("interfaces", key, "gateway")
    near = any(ip_address(way.source) in ip_interface(one).network for one in mine)
    gateway = get(plane, gateway_path)
    answers = True if near else None if gateway is None or has is None else gateway is not ABSENT
    return (
        Condition(frozenset({path}), has, f"{show(path)} is {listed}"),
        Condition(frozenset({path, gateway_path}), answers, f"{key} can answer {way.source}"),
    )


def _on_loopback(plane: Plane) -> bool:
    """Does it tell of addresses of the loopback itself, as a unit on a bench may?"""
    listed = [each for one in plane.interfaces if isinstance(one.addresses, tuple) for each in one.addresses]
    return any(ip_interface(each).ip.is_loopback for each in listed if not each.startswith(("127.0.0.1/", "::1/")))


def _whereabouts(plane: Plane) -> frozenset[Path]:
    """What tells by which socket somebody comes: their addresses, and nothing else of them."""
    return frozenset(("interfaces", one.key, "addresses") for one in plane.interfaces) or frozenset({("interfaces",)})


def interface_of(plane: Plane, met: Door) -> str:
    """The socket a door is on, as far as that is known."""
    return met.interface or _interface_of(plane, met.address)


def _interface_of(plane: Plane, address: str) -> str:
    for one in plane.interfaces:
        if isinstance(one.addresses, tuple) and any(str(ip_interface(a).ip) == address for a in one.addresses):
            return one.key
    return ""


def _binding(plane: Plane, door: Door) -> Condition:
    path: Path = ("services", door.service, "interfaces")
    bound = get(plane, path)
    if bound is ABSENT:
        return _single(path, True, "it is bound to every socket")
    if not isinstance(bound, tuple):
        return _single(path, None, f"{show(path)} was not read")
    key = interface_of(plane, door)
    return Condition(
        frozenset({path}) | _whereabouts(plane), (key in bound) if key else None, f"{show(path)} is {bound}"
    )


def let_in(plane: Plane, socket: Interface) -> tuple[tuple[str, ...], AddressSet] | None:
    """Which services the permission bundle of a socket lets in, and from where; None where that was not read."""
    bundle = plane.bundles.get(socket.bundle) if isinstance(socket.bundle, str) else None
    if bundle is None or not isinstance(bundle.services, tuple) or not isinstance(bundle.permitted, AddressSet):
        return None
    return bundle.services, bundle.permitted


def has_bundles(plane: Plane) -> bool:
    """Are there permission bundles, or sockets that have one?"""
    return len(plane.bundles) > 0 or any(isinstance(one.bundle, str) for one in plane.interfaces)


def _bundle(plane: Plane, way: Way) -> Condition:
    """Does the permission bundle of the socket let this service in, from there? Where the socket is not known, all of them
    must."""
    if not has_bundles(plane):
        return _single(("bundles",), True, "there are no permission bundles")
    key = interface_of(plane, way.door)
    sockets = [one for one in plane.interfaces if one.key == key] or list(plane.interfaces)
    rests: set[Path] = set(_whereabouts(plane)) if not key else set()
    held: set[bool | None] = set()
    for one in sockets:
        rests.add(("interfaces", one.key, "bundle"))
        if isinstance(one.bundle, str):
            rests.add(("bundles", one.bundle))
        told = let_in(plane, one)
        held.add(True if one.bundle is ABSENT else told and way.service in told[0] and way.source in told[1])
    holds = None if None in held or not held else False not in held
    return Condition(frozenset(rests), holds, f"the permission bundle of {key or 'every socket'}")


def bundled(plane: Plane, service: str) -> tuple[AddressSet, AddressSet]:
    """Who is let in to a service by the permission bundles of the sockets: surely, and possibly."""
    if not has_bundles(plane):
        return ANYONE, ANYONE
    sure, possible = NOBODY, NOBODY
    for one in plane.interfaces:
        told = let_in(plane, one)
        if one.enabled is False:
            continue
        if one.bundle is ABSENT:
            sure, possible = ANYONE, ANYONE
        elif told is None:
            possible = ANYONE
        elif service in told[0]:
            sure, possible = sure | told[1], possible | told[1]
    return sure, possible if plane.interfaces.complete else ANYONE


def passed_on(plane: Plane, met: Door) -> bool:
    """Is a door by which somebody got in none of the unit's own? Then somebody on the way passes it on (RFC 2663), and what the
    unit says of its sockets and ports is not where it is met."""
    service, own = plane.services.get(met.service), addresses_of(plane)
    elsewhere = (
        bool(own) and met.address not in own and not (ip_address(met.address).is_loopback and not _on_loopback(plane))
    )
    port = service.port if service is not None else None
    return elsewhere or (service is not None and isinstance(port, int) and ("tcp", met.port) not in service.places)


def door(plane: Plane, service: str, interface: str = "", met: Door | None = None) -> Door | None:
    """Where a service would be met on this plane. `met` is where the unit was met, which stands for an address or a
    port that was not read. None where neither tells."""
    listed = get(plane, ("interfaces", interface, "addresses")) if interface else None
    address = str(ip_interface(listed[0]).ip) if isinstance(listed, tuple) and listed else (met.address if met else "")
    port = get(plane, ("services", service, "port"))
    number = port if isinstance(port, int) else met.port if met and met.service == service else 0
    if not address or not number:
        return None
    return Door(met.scheme if met and met.service == service else service, address, number, service, interface)


# ---- the packet filter ----------------------------------------------------------------------------------------------

_SAYS = {True: "accepts it", False: "drops it", None: "may drop it"}
_FILTER: Path = ("input_filter",)
_RULES: Path = ("input_rules",)
_LOOKED_AT = (
    "position", "action", "enabled", "opaque", "families", "sources", "destinations", "list", "list_negated", "group", "transport", "ports",
)  # fmt: skip
_FILTERING = ("input_filter", "input_chains", "input_rules", "address_lists", "interface_groups", "interfaces")


def passage(plane: Plane, way: Way) -> Condition:
    """Does the packet filter let this way through? Rules are looked at in order up to the first that surely matches;
    what stands behind it, and any comment, is not rested on. A name that was not read rests on all lists."""
    at, default = at_door(plane, way.door), plane.input_filter.default
    if plane.input_chains.complete:
        found = through(plane, at)
        holds = True if way.source in found.surely_in else None if way.source in found.let_in else False
        return Condition(frozenset((area,) for area in _FILTERING), holds, f"the packet filter {_SAYS[holds]}")
    rests: set[Path] = {(*_FILTER, "default")}
    if default is ABSENT:
        return Condition(frozenset(rests), True, "there is no packet filter")
    ordered = plane.input_rules.complete and all(isinstance(r.position, int) for r in plane.input_rules)
    # one rule unread, or its place, and any rule might be the first that matches
    if not ordered:
        rests |= {_RULES, ("address_lists",), ("interface_groups",)}
        return Condition(frozenset(rests), None, "the rules were not read whole")
    possible: set[str | None] = set()
    asks = Asks(plane, at)
    for rule in in_order(plane):
        rests |= _rested_on(plane, rule)
        surely, possibly = asks.matched(rule)
        if way.source not in possibly:
            continue
        possible.add(rule.action if rule.action in ("accept", "drop") else None)
        if way.source in surely and rule.action in ("accept", "drop"):
            break
    else:
        possible.add(default if default in ("accept", "drop") else None)
    holds = True if possible == {"accept"} else False if possible == {"drop"} else None
    return Condition(frozenset(rests), holds, f"the packet filter {_SAYS[holds]}")


def at_door(plane: Plane, met: Door, transport: str = "tcp") -> At:
    """Where somebody knocks who comes to a door. One that is not the unit's own is passed on, to the service's own port, at
    an address that is not known."""
    service = plane.services.get(met.service)
    port = service.port if service is not None else None
    if service is not None and isinstance(port, int) and (transport, met.port) not in service.places:
        return At(transport, port)
    return At(transport, met.port, met.address, interface_of(plane, met))


def _rested_on(plane: Plane, rule: InputRule) -> set[Path]:
    """Everything that what a rule matches hangs on."""
    rests: set[Path] = {(*_RULES, rule.key, leaf) for leaf in _LOOKED_AT}
    if isinstance(rule.list, str):
        rests |= {("address_lists", rule.list), (*_FILTER, "empty_list")}
    elif rule.list is None:  # it may name any list, so a change of any list may change the answer
        rests.add(("address_lists",))
    if rule.group is not ABSENT:
        rests.add(("interface_groups", rule.group) if isinstance(rule.group, str) else ("interface_groups",))
        rests |= _whereabouts(plane)
    return rests


# ---- what stays, and who at all -------------------------------------------------------------------------------------


def stays(before: Plane, after: Plane, ways: Iterable[Way], kept: bool = False) -> frozenset[Way]:
    """The ways of which every condition that was touched is surely true afterwards. What was looked at counts before
    and after. `kept`: the planes are those of the next start."""
    moved = difference(before, after)
    # the common case while rehearsing: the store was not touched at all
    if not moved:
        return frozenset(ways)
    return frozenset(way for way in ways if _stays(before, after, way, moved, kept))


def beside(before: Plane, after: Plane, way: Way, proven: Iterable[Way], kept: bool = False) -> bool:
    """Is a way surely let in afterwards, where ways that were proven before show the conditions it shares with them (the
    same source, the same door) and that nothing touched?"""
    shown = {
        (c.paths, c.why)
        for one in proven
        if (one.source, one.door) == (way.source, way.door)
        for c in conditions(before, one)
    }
    # a login is stronger than a reading that says no: where both differ, something stands between
    open_ones = [c for c in conditions(after, way, kept) if c.holds is not True]
    moved = difference(before, after) if open_ones else frozenset()
    return all((c.paths, c.why) in shown and not touches(moved, c.paths) for c in open_ones)


def rests_on(plane: Plane, ways: Iterable[Way]) -> frozenset[Path]:
    """Every path that a condition of one of these ways rests on, live and at the next start."""
    return frozenset(path for way in ways for c in conditions(plane, way, kept=True) for path in c.paths)


def may_shut_out(before: Plane, after: Plane, ways: Iterable[Way]) -> frozenset[Way]:
    """The ways of which a condition is touched and not surely true afterwards, now or at the next start."""
    every = frozenset(ways)
    return every - (stays(before, after, every) & stays(before, after, every, kept=True))


def contradicted(plane: Plane, ways: Iterable[Way]) -> frozenset[tuple[Door, str]]:
    """What a reading denies of doors by which somebody got in all the same: the door, and what was said of it."""
    return frozenset((way.door, c.why) for way in ways for c in conditions(plane, way) if c.holds is False)


def addresses_of(plane: Plane) -> frozenset[str]:
    """Where the sockets of the unit are, as far as they were read."""
    listed = (each for one in plane.interfaces if isinstance(one.addresses, tuple) for each in one.addresses)
    return frozenset(each.partition("/")[0] for each in listed)


# Whatever a condition can rest on lies in the service, in the account, or in one of these areas.
_AREAS = frozenset((*_FILTERING, "bundles"))


def _stays(before: Plane, after: Plane, way: Way, moved: frozenset[Path], kept: bool) -> bool:
    own = (("services", way.service), ("accounts", way.account))
    if not any(path[0] in _AREAS or path[:2] in own for path in moved):
        return True
    was, now = conditions(before, way, kept), conditions(after, way, kept)
    if len(was) != len(now):
        # what is asked of the way changed its shape, so every condition counts as touched
        return all(c.holds is True for c in now)
    return all(new.holds is True for old, new in zip(was, now, strict=True) if touches(moved, old.paths | new.paths))


@dataclass(frozen=True)
class Sources:
    """From where a service lets somebody log in: surely, possibly; and what the packet filter before it does."""

    sure: AddressSet
    possible: AddressSet
    passes: Passing = UNREAD


def who(plane: Plane, service: str, met: Door | None = None) -> Sources:
    """The sources from which at least one account may log in through `service`, in both address families. `met` is where
    the service was met; without it what the packet filter asks of address and socket is not known."""
    path = ("services", service)
    found = plane.services.get(service)
    if exists(plane, path) is False or (found is not None and found.enabled is False):
        return Sources(NOBODY, NOBODY)
    if found is None:
        return Sources(NOBODY, ANYONE)
    gate_sure, gate_possible = _bounds(found.permitted, found.enabled is True)
    sure, possible = NOBODY, NOBODY
    for account in plane.accounts:
        if account.enabled is False:
            continue
        # where accounts cannot be switched off, they are on
        on = account.enabled in (True, ABSENT)
        low, high = _bounds(account.permitted, on and found.accounts is ABSENT)
        sure, possible = sure | (low & gate_sure), possible | (high & gate_possible)
    if not plane.accounts.complete:
        possible = possible | gate_possible
    bound_sure, bound_possible = _bound(plane, found)
    passes = _passes(plane, found, met)
    by_sure, by_possible = bundled(plane, service)
    sure, possible = sure & bound_sure & by_sure, possible & bound_possible & by_possible
    return Sources(sure & passes.surely_in, possible & passes.let_in, passes)


def _passes(plane: Plane, service: Service, met: Door | None) -> Passing:
    """What the packet filter lets through to a service; where its port was not read, only that there is no filter is
    known."""
    transport = service.transport if isinstance(service.transport, str) else "tcp"
    if isinstance(service.port, int):
        return through(plane, at_door(plane, met, transport) if met else At(transport, service.port))
    return UNREAD if len(plane.input_rules) else through(plane, At(transport, 0))


def _bound(plane: Plane, service: Service) -> tuple[AddressSet, AddressSet]:
    """Who can come to the sockets a service listens on, by their addresses: surely and possibly. Where they were not all
    read, or none is its own, that is not known."""
    transport = service.transport if isinstance(service.transport, str) else "tcp"
    mine = [x for x in plane.listening if x.port == service.port and x.transport == transport]
    if not plane.listening.complete or not mine:
        return ANYONE, ANYONE
    sure, possible = NOBODY, NOBODY
    for x in mine:
        if x.address is None or x.address == "*":
            return (ANYONE if x.address else NOBODY), ANYONE
        at = ip_address(x.address)
        if at.is_loopback:
            continue
        family = FOUR if at.version == 4 else SIX
        # a socket for any IPv6 address may take IPv4 as well (RFC 3493, section 5.3)
        both = at.version == 6 and at.is_unspecified
        sure, possible = sure | family, possible | (ANYONE if both else family)
    return sure, possible


def passing(plane: Plane, site: Site) -> tuple[Service, ...]:
    """The services whose own limit lets in the laptop, which has no business there once the work is done, and nobody
    else beyond those who have."""
    laptop = AddressSet.of(site.laptop)
    return tuple(
        one
        for one in plane.services
        if one.enabled is not False and isinstance(one.permitted, AddressSet) and laptop <= one.permitted
        if one.permitted <= site.while_working(one.key) and not one.permitted <= site.meant_for(one.key)
    )


def _bounds(permitted: object, certain: bool) -> tuple[AddressSet, AddressSet]:
    high = permitted if isinstance(permitted, AddressSet) else ANYONE
    known = isinstance(permitted, AddressSet) or permitted is ABSENT
    return (high if certain and known else NOBODY), high
