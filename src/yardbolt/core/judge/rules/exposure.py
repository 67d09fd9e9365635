"""Rules about the sides of a unit: by which sockets management is let in, and which tell strangers what it is."""

from __future__ import annotations

from collections.abc import Iterator

from ...addresses import ANYONE, NOBODY, AddressSet
from ...job import Site
from ...plane.kinds import ABSENT
from ...plane.leaves import Interface, Plane
from ..demands import Demand, Present, exactly
from ..whereabouts import has_entry_lists, let_in
from .rule import Params, Rule, Severity, State, Verdict, on_leaf

STRANGE, OWN = ("outside", "wireless"), ("inside", "management")
SHUT, WORKS = "shut", "works"  # what the entry lists are called that we make


def _side(one: Interface) -> str:
    """The side of a socket; nothing where it was not read, or is none that is known."""
    return one.side if isinstance(one.side, str) and one.side in (*STRANGE, *OWN) else ""


def _lets(plane: Plane, one: Interface) -> tuple[tuple[str, ...], AddressSet] | None:
    """Which services a socket lets in, and from where: by its entry list, or as it says itself; None where that was not
    read."""
    if has_entry_lists(plane) and one.entry_list is ABSENT:
        # one without an entry list holds nobody back
        return tuple(sorted(s.key for s in plane.services if s.enabled is not False)), ANYONE
    return (
        (one.services, ANYONE) if isinstance(one.services, tuple) and not has_entry_lists(plane) else let_in(plane, one)
    )


def _used(plane: Plane) -> Iterator[Interface]:
    """The sockets in use that have, or may have, an entry list, or say themselves what they let in."""
    grid = any(isinstance(one.services, tuple) for one in plane.interfaces)
    for one in plane.interfaces:
        given = has_entry_lists(plane) and (one.entry_list is not ABSENT or one.side not in OWN)
        if one.enabled is not False and (given or (grid and one.services is not ABSENT)):
            yield one


def _sides(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    by = "entry_list" if has_entry_lists(plane) else "services"
    for one in _used(plane):
        path, lets = ("interfaces", one.key, by), _lets(plane, one)
        if lets is None:
            yield Verdict(path, State.UNKNOWN, f"what {one.key} lets in was not read", "")
            continue
        services, sources = lets
        if not services or sources == NOBODY:
            yield Verdict(path, State.HOLDS, f"{one.key} lets nobody in")
        elif not _side(one):
            yield Verdict(path, State.UNKNOWN, f"{one.key}: on which side it is was not read", "")
        elif one.side in STRANGE:
            saw = f"{one.key} ({one.side}) lets in {', '.join(services)}" + (
                f" from {sources}" if by == "entry_list" else ""
            )
            yield Verdict(path, State.FAILS, saw, "read", f"let in by a socket that is {one.side}")
        else:
            yield Verdict(path, State.HOLDS, f"{one.key} ({one.side}) is where people work")


def _want_sides(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for one in _used(plane):
        lets = _lets(plane, one)
        if lets is None or not lets[0]:
            continue
        if one.side in STRANGE and not has_entry_lists(plane):
            yield exactly(("interfaces", one.key, "services"), "open-sides", ())
        elif one.side in STRANGE and lets[1] != NOBODY:
            yield Present(("entry_lists", SHUT), "open-sides", (("services", ()), ("permitted", NOBODY)))
            yield exactly(("interfaces", one.key, "entry_list"), "open-sides", SHUT)
        elif one.side in OWN and has_entry_lists(plane):
            wanted = NOBODY
            for service in site.needed:
                wanted = wanted | site.while_working(service)
            if wanted not in (lets[1], NOBODY):
                yield Present(("entry_lists", WORKS), "open-sources", (("services", lets[0]), ("permitted", wanted)))
                yield exactly(("interfaces", one.key, "entry_list"), "open-sources", WORKS)


def _announcing(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for one in plane.interfaces:
        path = ("interfaces", one.key, "announces")
        if one.enabled is False or one.announces is ABSENT:
            continue
        if one.announces is None or (one.announces and not _side(one)):
            unread = "whether it announces itself to its neighbours" if one.announces is None else "on which side it is"
            yield Verdict(path, State.UNKNOWN, f"{one.key}: {unread} was not read", "")
        elif one.announces and one.side in STRANGE:
            saw = f"{one.key} ({one.side}) announces itself to its neighbours"
            yield Verdict(path, State.FAILS, saw, "read", "shown on a side that belongs to strangers")
        else:
            yield Verdict(path, State.HOLDS, f"{one.key} does not announce itself to strangers")


def _want_quiet(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for one in plane.interfaces:
        if one.side in STRANGE and one.announces is True:
            yield exactly(("interfaces", one.key, "announces"), "announcing", False)


def _here(plane: Plane, site: Site) -> Interface | None:
    """The socket the unit is met at, or that has the address it goes to."""
    wanted = (site.goes_to.address if site.goes_to else "", site.at)
    for address in wanted:
        for one in plane.interfaces:
            listed = one.addresses if isinstance(one.addresses, tuple) else ()
            if address and any(each.partition("/")[0] == address for each in listed):
                return one
    return None


def _place(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    goes = site.goes_to
    if goes is None:
        return
    one = _here(plane, site)
    if one is None:
        yield Verdict(("interfaces",), State.UNKNOWN, f"which of its sockets has {site.at} was not read", "")
        return
    path = ("interfaces", one.key, "addresses")
    there = one.addresses == (goes.at,)
    listed = ", ".join(one.addresses) if isinstance(one.addresses, tuple) else "not read"
    yield Verdict(path, State.HOLDS if there else State.FAILS, f"{listed}" + ("" if there else f"; wanted {goes.at}"))
    if goes.through:
        yield on_leaf(plane, ("interfaces", one.key, "gateway"), goes.through.__eq__, goes.through)


def _want_place(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    goes, one = site.goes_to, _here(plane, site)
    if goes is None or one is None:
        return
    path = ("interfaces", one.key)
    if one.addresses != (goes.at,):
        if one.lends is True:
            yield exactly((*path, "lends"), "place", False)
        if isinstance(one.mode, str) and one.mode != "fixed":
            yield exactly((*path, "mode"), "place", "fixed")
        yield exactly((*path, "addresses"), "place", (goes.at,))
    if goes.through:
        yield exactly((*path, "gateway"), "place", goes.through)


RULES = (
    Rule(
        "place", "it has the address of the work order", "it has not the address it goes to",
        "On its factory address it collides with the next new unit, and nobody finds it on site.",
        Severity.LOW, _place, _want_place,
    ),
    Rule(
        "open-sides", "it is managed only from inside", "it can be managed from outside, or by radio",
        "Anyone outside the fence, or parked near it, reaches the login.",
        Severity.HIGH, _sides, _want_sides,
    ),
    Rule(
        "announcing", "it does not introduce itself to strangers", "it introduces itself to strangers",
        "It shows its make, level and address to anyone who listens there.",
        Severity.LOW, _announcing, _want_quiet,
    ),
)  # fmt: skip
