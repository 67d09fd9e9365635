"""Who gets in: the exact sets of sources for each service, by the settings that were read last, and what decides.
Touches no unit."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import ip_interface

from yardbolt.core.addresses import FOUR, SIX, AddressSet, is_address
from yardbolt.core.credentials import Password
from yardbolt.core.doors import Door, Way
from yardbolt.core.errors import OperatorError
from yardbolt.core.judge.access import conditions
from yardbolt.core.judge.condition import Admission, admission
from yardbolt.core.judge.filter import At, odd, through
from yardbolt.core.judge.passage import at_door
from yardbolt.core.judge.whereabouts import let_in
from yardbolt.core.judge.who import Sources, who
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane, Service
from yardbolt.core.secret import Ref

from .unit import UnitInWork

NOBODYS = Ref("none")


@dataclass(frozen=True)
class Access:
    """One service: where it is met, who gets in, what it limits by itself, and for one source what each account meets
    there."""

    service: str
    at: At
    who: Sources
    own_limit: str
    asked: tuple[tuple[str, Admission], ...] = ()


@dataclass(frozen=True)
class WhoGetsIn:
    """The answer for a unit: its services, what is odd about its rules, and when the settings were read."""

    unit: str
    read: str
    services: tuple[Access, ...]
    odd: tuple[str, ...]


def access(unit: UnitInWork, source: str = "", service: str = "", account: str = "") -> WhoGetsIn:
    """Who gets in. Raises OperatorError where nothing was read inside, or there is no such service or account."""
    filed = unit.record.last_check()
    if filed is None or not filed.document.complete:
        raise OperatorError(f"{unit.name}: its settings were not read yet; next: yardbolt check {unit.name}")
    if source and not is_address(source):
        raise OperatorError(f"--from: found '{source}'; an address is wanted")
    plane = filed.document.as_plane
    running = [one for one in plane.services if one.enabled is not False and isinstance(one.port, int)]
    chosen = [one for one in running if service in ("", one.key)]
    if service and not chosen:
        known = ", ".join(one.key for one in running) or "none"
        raise OperatorError(f"{unit.name}: no service {service} runs; running are: {known}")
    if account and plane.accounts.complete and account not in plane.accounts:
        raise OperatorError(f"{unit.name}: it has no account {account}")
    found = tuple(_service(unit.facts.entry.address, plane, one, source, account) for one in chosen)
    told = (*odd(plane, [one.at for one in found]), *_other_addresses(plane, found))
    return WhoGetsIn(unit.name, filed.time, found, told)


def _service(address: str, plane: Plane, one: Service, source: str, account: str) -> Access:
    port = one.port if isinstance(one.port, int) else 0
    met = Door(one.key, address, port, one.key)
    names = [a.key for a in plane.accounts if a.role != "none" and a.enabled is not False and account in ("", a.key)]
    asked = tuple((name, _ask(plane, Way(source, met, name, Password(NOBODYS)))) for name in names) if source else ()
    at = at_door(plane, met, one.transport if isinstance(one.transport, str) else "tcp")
    return Access(one.key, at, who(plane, one.key, met), _own_limit(one) + _by_entry_list(plane, one.key), asked)


def _own_limit(one: Service) -> str:
    if one.permitted is None:
        limit = "its own limit was not read"
    else:
        limit = "no limit of its own" if one.permitted is ABSENT else f"its own limit lets in {one.permitted}"
    if one.accounts is None:
        return f"{limit}; which accounts it takes was not read"
    return f"{limit}; takes only {', '.join(one.accounts)}" if isinstance(one.accounts, tuple) else limit


def _by_entry_list(plane: Plane, service: str) -> str:
    """What the entry list of each socket says of it."""
    told = []
    for socket in plane.interfaces:
        if isinstance(socket.entry_list, str) and socket.enabled is not False:
            lets = let_in(plane, socket)
            who_by = "who was not read" if lets is None else lets[1] if service in lets[0] else "nobody"
            told.append(f"{socket.key} by its entry list {socket.entry_list} lets in {who_by}")
    return "".join(f"; {one}" for one in told)


def _ask(plane: Plane, way: Way) -> Admission:
    """Whether the password is the right one is not asked here."""
    secret = ("accounts", way.account, "secret")
    return admission(tuple(one for one in conditions(plane, way) if secret not in one.paths))


def _other_addresses(plane: Plane, found: tuple[Access, ...]) -> list[str]:
    """Own addresses at which the filter lets in more than at the one it was met at."""
    own = [
        (str(ip_interface(written).ip), socket.key)
        for socket in plane.interfaces
        for written in (socket.addresses if isinstance(socket.addresses, tuple) else ())
    ]
    told = []
    for one in found:
        for address, socket in own:
            there = through(plane, At(one.at.transport, one.at.port, address, socket)).let_in
            more: AddressSet = (there - one.who.passes.let_in) & (SIX if ":" in address else FOUR)
            if more:
                told.append(f"at {address} ({socket}) {one.service} is open to more than at {one.at.address}: {more}")
    return told
