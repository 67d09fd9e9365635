"""What the packet filter does with one way in, as one condition that rests on what was looked at."""

from __future__ import annotations

from ..doors import Door, Way
from ..plane.kinds import ABSENT
from ..plane.leaves import FilterRule, Plane
from ..plane.path import Path
from .condition import Condition
from .filter import Asks, At, in_order, through
from .whereabouts import interface_of, whereabouts

_SAYS = {True: "accepts it", False: "drops it", None: "may drop it"}
_FILTER: Path = ("packet_filter",)
_RULES: Path = ("filter_rules",)
_LOOKED_AT = (
    "position",
    "verdict",
    "enabled",
    "opaque",
    "families",
    "sources",
    "destinations",
    "named",
    "not_named",
    "socket",
    "transport",
    "ports",
)
FILTERING = ("packet_filter", "filter_stages", "filter_rules", "named_addresses", "socket_groups", "interfaces")


def passage(plane: Plane, way: Way) -> Condition:
    """Does the packet filter let this way through? Rules are looked at in order up to the first that surely matches;
    what stands behind it, and any comment, is not rested on. A name that was not read rests on all lists."""
    at, default = at_door(plane, way.door), plane.packet_filter.default
    if plane.filter_stages.complete:
        found = through(plane, at)
        holds = True if way.source in found.surely_in else None if way.source in found.let_in else False
        return Condition(frozenset((area,) for area in FILTERING), holds, f"the packet filter {_SAYS[holds]}")
    rests: set[Path] = {(*_FILTER, "default")}
    if default is ABSENT:
        return Condition(frozenset(rests), True, "there is no packet filter")
    ordered = plane.filter_rules.complete and all(isinstance(r.position, int) for r in plane.filter_rules)
    # one rule unread, or its place, and any rule might be the first that matches
    if not ordered:
        rests |= {_RULES, ("named_addresses",), ("socket_groups",)}
        return Condition(frozenset(rests), None, "the rules were not read whole")
    possible: set[str | None] = set()
    asks = Asks(plane, at)
    for rule in in_order(plane):
        rests |= _rested_on(plane, rule)
        surely, possibly = asks.matched(rule)
        if way.source not in possibly:
            continue
        possible.add(rule.verdict if rule.verdict in ("pass", "block") else None)
        if way.source in surely and rule.verdict in ("pass", "block"):
            break
    else:
        possible.add(default if default in ("pass", "block") else None)
    holds = True if possible == {"pass"} else False if possible == {"block"} else None
    return Condition(frozenset(rests), holds, f"the packet filter {_SAYS[holds]}")


def at_door(plane: Plane, met: Door, transport: str = "tcp") -> At:
    """Where somebody knocks who comes to a door. One that is not the unit's own is passed on, to the service's own
    port, at an address that is not known."""
    service = plane.services.get(met.service)
    port = service.port if service is not None else None
    if service is not None and isinstance(port, int) and (transport, met.port) not in service.places:
        return At(transport, port)
    return At(transport, met.port, met.address, interface_of(plane, met))


def _rested_on(plane: Plane, rule: FilterRule) -> set[Path]:
    """Everything that what a rule matches hangs on."""
    rests: set[Path] = {(*_RULES, rule.key, leaf) for leaf in _LOOKED_AT}
    if isinstance(rule.named, str):
        rests |= {("named_addresses", rule.named), (*_FILTER, "empty_names")}
    elif rule.named is None:  # it may name any list, so a change of any list may change the answer
        rests.add(("named_addresses",))
    if rule.socket is not ABSENT:
        rests.add(("socket_groups", rule.socket) if isinstance(rule.socket, str) else ("socket_groups",))
        rests |= whereabouts(plane)
    return rests
