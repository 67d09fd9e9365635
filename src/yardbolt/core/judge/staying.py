"""What a change does to the ways in: which stay proven, which it may lock out, and what they rest on."""

from __future__ import annotations

from collections.abc import Iterable

from ..doors import Door, Way
from ..plane.compare import difference
from ..plane.leaves import Plane
from ..plane.path import Path, touches
from .access import admit, conditions
from .passage import FILTERING


def stays(before: Plane, after: Plane, ways: Iterable[Way], kept: bool = False) -> frozenset[Way]:
    """The ways whose touched conditions are all surely true afterwards, in the plane before and after. `kept`: the
    planes are those of the next start."""
    moved = difference(before, after)
    # the common case while rehearsing: the store was not touched at all
    if not moved:
        return frozenset(ways)
    return frozenset(way for way in ways if _stays(before, after, way, moved, kept))


def beside(before: Plane, after: Plane, way: Way, proven: Iterable[Way], kept: bool = False) -> bool:
    """Is a way surely let in afterwards, where proven ways vouch for the conditions it shares with them (same
    source, same door) and that nothing touched?"""
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
    """The ways with a touched condition that is not surely true afterwards, now or at the next start."""
    every = frozenset(ways)
    return every - (stays(before, after, every) & stays(before, after, every, kept=True))


def contradicted(plane: Plane, ways: Iterable[Way]) -> frozenset[tuple[Door, str]]:
    """The doors that a reading calls closed, although somebody got in there: the door, and what the reading said."""
    return frozenset((way.door, c.why) for way in ways for c in admit(plane, way).conditions if c.holds is False)


# Whatever a condition can rest on lies in the service, in the account, or in one of these areas.
_AREAS = frozenset((*FILTERING, "entry_lists"))


def _stays(before: Plane, after: Plane, way: Way, moved: frozenset[Path], kept: bool) -> bool:
    own = (("services", way.service), ("accounts", way.account))
    if not any(path[0] in _AREAS or path[:2] in own for path in moved):
        return True
    was, now = conditions(before, way, kept), conditions(after, way, kept)
    if len(was) != len(now):
        # what is asked of the way changed its shape, so every condition counts as touched
        return all(c.holds is True for c in now)
    return all(new.holds is True for old, new in zip(was, now, strict=True) if touches(moved, old.paths | new.paths))
