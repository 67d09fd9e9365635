"""Rehearsal: how each step moves what we believe, if the unit does as its family says."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from enum import Enum

from ..doors import Way
from ..family.model import KEPT, LIVE, STAGED, Family, Op
from ..family.writing import forecast, op_for, with_effects
from ..judge.access import stays
from ..plane.change import Change, Drop, Set
from ..plane.compare import difference, unlike
from ..plane.edit import Draft, get
from ..plane.kinds import ABSENT
from ..plane.path import Path
from ..plane.table import Plane, item_of
from .belief import Belief, Fallback, Standing, learn


class Kind(Enum):
    """What a step does."""

    WRITE = "change"
    PROVE = "log in"
    TRY = "try"
    SAVE = "save"
    ACTIVATE = "activate"
    CONFIRM = "confirm"
    RESTART = "restart"
    ARM = "arm the return"


KIND_OF: Mapping[str, Kind] = {
    "save": Kind.SAVE,
    "activate": Kind.ACTIVATE,
    "commit": Kind.ACTIVATE,
    "confirm": Kind.CONFIRM,
    "restart": Kind.RESTART,
    "arm": Kind.ARM,
}


@dataclass(frozen=True)
class Step:
    """One step on one unit: a change, a login (`way`), a trial of refusals, or an op that stands alone (`op`).

    `standing` and `still` say how one gets in after it; `back` is the way back, in words.
    """

    kind: Kind
    change: Change | None = None
    way: Way | None = None
    op: Op | None = None
    phase: str = ""
    reason: str = ""
    standing: Standing = Standing.PROVEN
    still: tuple[Way, ...] = ()
    back: str = ""


def rehearse(family: Family, belief: Belief, op: Op, changes: Iterable[Change] = ()) -> Belief:
    """What will be true after an op: it writes its stores, then copies between them; sessions it cuts are gone.

    Every save, activation, commit, confirmation, discard and restart is this one rule on the op's data.
    """
    todo = tuple(changes)
    stores, ways = dict(belief.stores), dict(belief.ways)
    for store in (s for s in op.writes if s in stores):
        after = _written(family, stores[store], todo)
        # nobody logs in to edits: the staged store has no ways to lose
        if store in ways:
            ways[store] = stays(stores[store], after, ways[store])
        stores[store] = after
    for source, targets in op.copies:
        for target in (t for t in targets if t in stores and source in stores):
            after = _copied(stores[target], stores[source], op.copies_of)
            if target in ways:
                # a copy of a whole store opens to whoever that store opens to; edits nobody has logged into prove nothing
                inherited = ways.get(source, frozenset()) if not op.copies_of else frozenset()
                ways[target] = stays(stores[target], after, ways[target]) | inherited
            stores[target] = after
    if op.effects and not todo:
        stores[LIVE] = with_effects(stores[LIVE], op)
    stores = _counted(family, belief, stores, op)
    fallback = Fallback(op.returns, belief.stores, belief.ways) if op.returns else belief.fallback
    # only now does it no longer go back by itself
    if op.does == "confirm":
        fallback = None
    if op.does == "back" and fallback is not None:
        stores, ways, fallback = dict(fallback.stores), dict(fallback.ways), None
    return replace(belief, stores=stores, ways=ways, sessions=_left(op, todo, belief.sessions), fallback=fallback)


def _written(family: Family, plane: Plane, changes: tuple[Change, ...]) -> Plane:
    for change in changes:
        try:
            plane = forecast(family, plane, change)
        except KeyError:
            return plane  # the item is not known on this store, so nothing there changes that we could foretell
    return plane


def _copied(target: Plane, source: Plane, only: tuple[Path, ...]) -> Plane:
    """The target as a copy of the source (of those paths, where the op copies no more)."""
    if not only:
        return source
    draft = Draft(target)
    for path in difference(target, source):
        inside = item_of(path)
        if (
            any(path[: len(p)] == p for p in only)
            and (inside is None or get(target, inside) is not None)
            and path != inside
        ):
            draft.put(path, get(source, path))
    return draft.freeze()


def _counted(family: Family, belief: Belief, stores: dict[str, Plane], op: Op) -> dict[str, Plane]:
    """The unit's own counts of differing settings, as far as they follow: none after a copy, not known after an edit.

    They are about the unit and not about a store, so every store shows the same.
    """
    copied = {(source, target) for source, targets in op.copies for target in targets}
    live = stores[LIVE]
    if family.op_keeping() is not None and live.stores.differences is not ABSENT:
        if (LIVE, KEPT) in copied or (KEPT, LIVE) in copied:
            stores = _all_show(stores, "differences", 0)
        elif KEPT not in op.writes and unlike(belief.live, live):
            stores = _all_show(stores, "differences", None)
    if STAGED in stores and live.stores.waiting is not ABSENT:
        if (STAGED, LIVE) in copied or (LIVE, STAGED) in copied:
            stores = _all_show(stores, "waiting", 0)
        elif STAGED in op.writes:
            stores = _all_show(stores, "waiting", None)
    return stores


def _all_show(stores: dict[str, Plane], leaf: str, value: int | None) -> dict[str, Plane]:
    # stores that are one object stay one object, so that comparing them costs nothing
    made = {id(plane): _with(plane, leaf, value) for plane in stores.values()}
    return {store: made[id(plane)] for store, plane in stores.items()}


def _with(plane: Plane, leaf: str, value: int | None) -> Plane:
    return plane if get(plane, ("stores", leaf)) == value else Draft(plane).put(("stores", leaf), value).freeze()


def _left(op: Op, changes: tuple[Change, ...], sessions: frozenset[Way]) -> frozenset[Way]:
    """The sessions an op leaves alive."""
    keys = {change.path[1] for change in changes if len(change.path) > 1}
    opens = any(isinstance(change, Set) and change.value is True for change in changes)
    match op.cuts:
        case "all":
            return frozenset()
        case "service":
            # switching a service on cuts nobody off
            return sessions if opens else frozenset(way for way in sessions if way.service not in keys)
        case "account":
            return frozenset(way for way in sessions if way.account not in keys)
        case "none":
            return sessions


def rehearse_step(family: Family, belief: Belief, step: Step) -> Belief:
    """What will be true after a step."""
    match step.kind:
        case Kind.WRITE:
            assert step.change is not None
            op = op_for(family, step.change)
            assert op is not None
            return rehearse(family, belief, op, (step.change,))
        case Kind.PROVE:
            assert step.way is not None
            return learn(belief, step.way)
        case Kind.TRY:
            return belief
        case Kind.SAVE | Kind.ACTIVATE | Kind.CONFIRM | Kind.RESTART | Kind.ARM:
            assert step.op is not None
            return rehearse(family, belief, step.op)


def store_of(family: Family, change: Change) -> str:
    """The store a change is written to and read back from."""
    op = op_for(family, change)
    return op.writes[0] if op and op.writes else LIVE


def touched(family: Family, belief: Belief, change: Change) -> frozenset[Path]:
    """Every path a write moves on the store it is written to, its declared effects included."""
    store = store_of(family, change)
    op = op_for(family, change)
    assert op is not None
    after = rehearse(family, belief, op, (change,))
    return difference(belief.stores[store], after.stores[store]) | {change.path}


def removes(change: Change | None) -> bool:
    """Does the change take something away for good?"""
    return isinstance(change, Drop)
