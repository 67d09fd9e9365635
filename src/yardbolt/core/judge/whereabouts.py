"""Where a unit is met: addresses, sockets, what they are bound to and what their entry lists let in."""

from __future__ import annotations

from ipaddress import ip_address, ip_interface

from ..addresses import ANYONE, NOBODY, AddressSet
from ..doors import Door, Way
from ..plane.edit import get
from ..plane.kinds import ABSENT
from ..plane.leaves import Interface, Plane
from ..plane.path import Path
from ..plane.words import human, spoken
from .condition import Condition, one_path


def at_address(plane: Plane, way: Way) -> tuple[Condition, ...]:
    """The unit must have the door's address, and be able to answer the source."""
    if not len(plane.interfaces) or (ip_address(way.door.address).is_loopback and not _on_loopback(plane)):
        # nothing was read of its sockets: the address is the one it was met at, until something moves it
        return (Condition(frozenset({("interfaces",)}), True, f"{way.door.address} is where it was met"),)
    key = interface_of(plane, way.door)
    if not key:
        # somebody on the way may pass it on to another address (RFC 2663), so a login may open all the same
        return (Condition(whereabouts(plane), None, f"no socket has {way.door.address}"),)
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
        Condition(frozenset({path}), has, f"{spoken(path)}: {human(path, listed)}"),
        Condition(frozenset({path, gateway_path}), answers, f"{key} can answer {way.source}"),
    )


def _on_loopback(plane: Plane) -> bool:
    """Does it tell of addresses of the loopback itself, as a unit on a bench may?"""
    listed = [each for one in plane.interfaces if isinstance(one.addresses, tuple) for each in one.addresses]
    return any(ip_interface(each).ip.is_loopback for each in listed if not each.startswith(("127.0.0.1/", "::1/")))


def whereabouts(plane: Plane) -> frozenset[Path]:
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


def bound_to(plane: Plane, door: Door) -> Condition:
    path: Path = ("services", door.service, "interfaces")
    bound = get(plane, path)
    if bound is ABSENT:
        return one_path(path, True, "it is bound to every socket")
    if not isinstance(bound, tuple):
        return one_path(path, None, f"{spoken(path)} was not read")
    key = interface_of(plane, door)
    return Condition(
        frozenset({path}) | whereabouts(plane), (key in bound) if key else None, f"{spoken(path)}: {human(path, bound)}"
    )


def let_in(plane: Plane, socket: Interface) -> tuple[tuple[str, ...], AddressSet] | None:
    """Which services the entry list of a socket lets in, and from where; None where that was not read."""
    given = plane.entry_lists.get(socket.entry_list) if isinstance(socket.entry_list, str) else None
    if given is None or not isinstance(given.services, tuple) or not isinstance(given.permitted, AddressSet):
        return None
    return given.services, given.permitted


def has_entry_lists(plane: Plane) -> bool:
    """Are there entry lists, or sockets that have one?"""
    return len(plane.entry_lists) > 0 or any(isinstance(one.entry_list, str) for one in plane.interfaces)


def by_entry_list(plane: Plane, way: Way) -> Condition:
    """Does the entry list of the socket let this service in, from there? Where the socket is not known, all of
    them must."""
    if not has_entry_lists(plane):
        return one_path(("entry_lists",), True, "there are no entry lists")
    key = interface_of(plane, way.door)
    sockets = [one for one in plane.interfaces if one.key == key] or list(plane.interfaces)
    rests: set[Path] = set(whereabouts(plane)) if not key else set()
    held: set[bool | None] = set()
    for one in sockets:
        rests.add(("interfaces", one.key, "entry_list"))
        if isinstance(one.entry_list, str):
            rests.add(("entry_lists", one.entry_list))
        told = let_in(plane, one)
        held.add(True if one.entry_list is ABSENT else told and way.service in told[0] and way.source in told[1])
    holds = None if None in held or not held else False not in held
    return Condition(frozenset(rests), holds, f"the entry list of {key or 'every socket'}")


def bundled(plane: Plane, service: str) -> tuple[AddressSet, AddressSet]:
    """Who is let in to a service by the entry lists of the sockets: surely, and possibly."""
    if not has_entry_lists(plane):
        return ANYONE, ANYONE
    sure, possible = NOBODY, NOBODY
    for one in plane.interfaces:
        told = let_in(plane, one)
        if one.enabled is False:
            continue
        if one.entry_list is ABSENT:
            sure, possible = ANYONE, ANYONE
        elif told is None:
            possible = ANYONE
        elif service in told[0]:
            sure, possible = sure | told[1], possible | told[1]
    return sure, possible if plane.interfaces.complete else ANYONE


def passed_on(plane: Plane, met: Door) -> bool:
    """Is a door by which somebody got in none of the unit's own? Then somebody on the way passes it on (RFC 2663),
    and what the unit says of its sockets and ports is not where it is met."""
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


def addresses_of(plane: Plane) -> frozenset[str]:
    """Where the sockets of the unit are, as far as they were read."""
    listed = (each for one in plane.interfaces if isinstance(one.addresses, tuple) for each in one.addresses)
    return frozenset(each.partition("/")[0] for each in listed)
