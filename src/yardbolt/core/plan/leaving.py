"""The sheet of the last change of all: the end of the laptop's own opening."""

from __future__ import annotations

from dataclasses import replace

from ..doors import Way
from ..family.model import Family
from ..job import Site
from ..judge.demands import Target
from ..plane.change import Change
from .arrange import Arranging
from .belief import Belief, Standing
from .found import found_waiting
from .precedence import CLOSE
from .rehearse import Kind
from .sheet import Refused, Sheet
from .wishes import wishes


class Leaving(Arranging):
    """The planner of the last change: nobody here can log in after it, so nothing is proven by a new connection."""

    def prove(self, again: bool = False, extra: tuple[Way, ...] = ()) -> None:
        pass


def leaving(family: Family, belief: Belief, todo: tuple[Change, ...], site: Site, target: Target) -> Sheet | Refused:
    """The sheet that ends the laptop's own opening and saves, through the session that is open.

    `belief.laptops` holds the laptop's address first, then those of the administrators: one of theirs must surely be
    let in afterwards, by the settings that are live and by those that are kept.
    """
    if refused := found_waiting(family, belief):
        return refused
    here, *office = belief.laptops
    wish = tuple(replace(way, source=source) for way in wishes(family, site, target, belief) for source in office)
    arranging = Leaving(family, belief, todo, site, wish, frozenset())
    blocked = arranging.phase(CLOSE)
    arranging.save(CLOSE)
    if blocked or arranging.left:
        return Refused(tuple(blocked))
    writes = [step for step in arranging.steps if step.kind is Kind.WRITE]
    if not writes or writes[-1].standing is not Standing.HELD:
        return Refused((f"{here} would still get in, or the change ends the session it is made in",))
    return Sheet(site.unit, tuple(arranging.steps), (), todo, arranging.belief)
