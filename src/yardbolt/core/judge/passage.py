"""What the packet filter does with one way in, as one condition that rests on what was looked at."""

from __future__ import annotations

from ..doors import Door, Way
from ..plane.kinds import ABSENT
from ..plane.leaves import InputRule, Plane
from ..plane.path import Path
from .condition import Condition
from .filter import Asks, At, in_order, through
from .whereabouts import interface_of, whereabouts

_SAYS = {True: "accepts it", False: "drops it", None: "may drop it"}
_FILTER: Path = ("input_filter",)
_RULES: Path = ("input_rules",)
_LOOKED_AT = (
    "position",
    "action",
    "enabled",
    "opaque",
    "families",
    "sources",
    "destinations",
    "list",
    "list_negated",
    "group",
    "transport",
    "ports",
)
FILTERING = ("input_filter", "input_chains", "input_rules", "address_lists", "interface_groups", "interfaces")


def passage(plane: Plane, way: Way) -> Condition:
    """Does the packet filter let this way through? Rules are looked at in order up to the first that surely matches;
    what stands behind it, and any comment, is not rested on. A name that was not read rests on all lists."""
    at, default = at_door(plane, way.door), plane.input_filter.default
    if plane.input_chains.complete:
        found = through(plane, at)
        holds = True if way.source in found.surely_in else None if way.source in found.let_in else False
        return Condition(frozenset((area,) for area in FILTERING), holds, f"the packet filter {_SAYS[holds]}")
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
    """Where somebody knocks who comes to a door. One that is not the unit's own is passed on, to the service's own
    port, at an address that is not known."""
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
        rests |= whereabouts(plane)
    return rests
