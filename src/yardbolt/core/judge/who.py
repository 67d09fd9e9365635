"""Who may log in by a service, from which addresses: surely, and possibly."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import ip_address

from ..addresses import ANYONE, FOUR, NOBODY, SIX, AddressSet
from ..doors import Door
from ..job import Site
from ..plane.edit import exists
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane, Service
from .filter import UNREAD, At, Passing, through
from .passage import at_door
from .whereabouts import bundled


@dataclass(frozen=True)
class Sources:
    """The addresses from which a service lets somebody log in, surely and possibly; and what the packet filter
    before it does."""

    sure: AddressSet
    possible: AddressSet
    passes: Passing = UNREAD


def who(plane: Plane, service: str, met: Door | None = None) -> Sources:
    """The sources from which at least one account may log in through `service`, in both address families. `met` is
    where the service was met. Without it, nobody knows what the packet filter decides by address and socket."""
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
    """What the packet filter lets through to a service. If the port was not read, only the absence of a filter can
    be known."""
    transport = service.transport if isinstance(service.transport, str) else "tcp"
    if isinstance(service.port, int):
        return through(plane, at_door(plane, met, transport) if met else At(transport, service.port))
    return UNREAD if len(plane.filter_rules) else through(plane, At(transport, 0))


def _bound(plane: Plane, service: Service) -> tuple[AddressSet, AddressSet]:
    """The sources that can reach the sockets a service listens on, surely and possibly. Unknown where not all
    sockets were read, or none belongs to the service alone."""
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
    """The services whose own limit lets in the laptop, which is not needed after the work, and apart from it only
    addresses that are allowed."""
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
