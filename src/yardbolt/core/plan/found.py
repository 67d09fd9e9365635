"""Settings found on arrival that would be saved, or put in force, together with ours."""

from __future__ import annotations

from ..family.model import Family
from ..plane.kinds import ABSENT
from ..plane.path import show
from .belief import Belief
from .sheet import Refused


def found_waiting(family: Family, belief: Belief) -> Refused | None:
    """Settings that were live but not saved, or staged but not live, on arrival: they would be kept, or go in force,
    with ours."""
    live = belief.live
    if family.op_activating() is not None and live.stores.waiting not in (0, ABSENT):
        if live.stores.waiting is None:
            why = "whether edits of somebody else wait was not read, and they would go in force with ours"
            return Refused((why,))
        told = live.stores.names if isinstance(live.stores.names, tuple) else sorted(map(show, belief.waiting))
        one = live.stores.waiting == 1
        many = "1 edit" if one else f"{live.stores.waiting} edits"
        names = f" ({', '.join(told)})" if 0 < len(told) <= 9 else ""
        verbs = ("is", "it") if one else ("are", "they")
        why = f"somebody left {many}{names} that {verbs[0]} not in force; {verbs[1]} would go in force with ours"
        return Refused((f"{why}: have the person who made them finish, or say 'allows: {{drop edits: yes}}'",))
    differences = live.stores.differences
    if family.op_keeping() is None or differences in (0, ABSENT) or belief.surviving:
        return None
    if differences is None:
        return Refused(
            ("whether live and saved settings agree was not read, so nothing can be relied on after a power cut",)
        )
    many = "1 setting was" if differences == 1 else f"{differences} settings were"
    unkept = live.stores.names if isinstance(live.stores.names, tuple) else ()
    many = f"{', '.join(unkept)}: {many}" if unkept else many
    return Refused(
        (f"{many} live but not saved on arrival, and would be saved with ours: look at them, then say --found keep",)
    )
