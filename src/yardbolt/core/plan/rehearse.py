"""Rehearsal: how each step changes what we believe, if the unit does what its family says."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from enum import Enum

from ..doors import Way
from ..family.bound import Bound
from ..family.model import KEPT, LIVE, STAGED, Family, Op
from ..family.writing import with_effects
from ..judge.staying import stays
from ..plane.change import Change, Set
from ..plane.compare import difference, unlike
from ..plane.edit import Draft, get
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane
from ..plane.path import Path
from ..plane.table import item_of
from .belief import Belief, Standing, coming_back, full, learn
from .guard import Armed, Fallback, Guard, Idle, Proven


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
    `standing` and `still` say how somebody can log in after it."""

    kind: Kind
    bound: Bound | None = None
    way: Way | None = None
    op: Op | None = None
    phase: str = ""
    reason: str = ""
    standing: Standing = Standing.PROVEN
    still: tuple[Way, ...] = ()
    guarded: bool = False  # made under the timed return

    @property
    def change(self) -> Change | None:
        """What it changes."""
        return self.bound.change if self.bound is not None else None


def rehearse(family: Family, belief: Belief, op: Op, bound: Bound | None = None) -> Belief:
    """The belief after an op, with a change (`bound`) or without. The op writes its stores, then copies between
    them; sessions it cuts are gone. Every save, activation, commit, confirmation, discard and restart follows this
    one rule from the data of its op."""
    stores, ways = dict(belief.stores), dict(belief.ways)
    written: dict[int, Plane] = {}
    for store in (s for s in op.writes if s in stores and bound is not None):
        before = stores[store]
        # stores that are one object stay one object, so that comparing them costs nothing
        if id(before) not in written:
            written[id(before)] = _written(bound, before)  # type: ignore[arg-type]  # the loop is empty without one
        after = written[id(before)]
        # nobody logs in to edits: the staged store has no ways to lose
        if store in ways:
            ways[store] = stays(before, after, ways[store], store == KEPT)
        stores[store] = after
    for source, targets in op.copies:
        for target in (t for t in targets if t in stores and source in stores):
            after = _copied(stores[target], stores[source], op.copies_of) if op.copies_of else stores[source]
            if target in ways:
                # a copy of a whole store opens to everybody that store opens to; edits nobody has logged into prove
                # nothing
                inherited = ways.get(source, frozenset()) if not op.copies_of else frozenset()
                stay = stays(stores[target], after, ways[target], target == KEPT) | inherited
                # what does not start by itself is gone after a restart, and is not kept
                ways[target] = coming_back(after, stay) if KEPT in (source, target) else stay
            stores[target] = after
    if op.effects and bound is None:
        stores[LIVE] = with_effects(stores[LIVE], op)
    if op.does == "restart":
        started = {id(plane): _started(plane) for plane in stores.values()}
        stores = {store: started[id(plane)] for store, plane in stores.items()}
    stores = _counted(family, belief, stores, op)
    if stores[KEPT] is stores[LIVE]:
        ways[KEPT] |= coming_back(stores[LIVE], ways[LIVE])
    if op.does == "back" and belief.fallback is not None:
        stores, ways = dict(belief.fallback.stores), dict(belief.fallback.ways)
    left = _left(belief.sessions, op, bound)
    survives = belief.survives or any(full(stores[KEPT], way) for way in ways[KEPT])
    guard = _guarded(belief, op, bound)
    return replace(belief, stores=stores, ways=ways, sessions=left, guard=guard, survives=survives)


def _left(sessions: frozenset[Way], op: Op, bound: Bound | None) -> frozenset[Way]:
    """The sessions that survive it."""
    key = bound.path[1] if bound is not None and len(bound.path) > 1 else ""
    match op.cuts:
        case "all":
            return frozenset()
        case "service":
            # switching one on cuts nobody off
            on = bound is not None and isinstance(bound.change, Set) and bound.change.value is True
            return sessions if on else frozenset(way for way in sessions if way.service != key)
        case "account":
            return frozenset(way for way in sessions if way.account != key)
        case "none":
            return sessions


def _started(plane: Plane) -> Plane:
    """After a restart, the kept settings are live."""
    off = [one.key for one in plane.services if one.boot is False and one.enabled is True]
    draft = Draft(plane).put_all((("services", key, "enabled"), False) for key in off)
    return draft.freeze() if off else plane


def _guarded(belief: Belief, op: Op, bound: Bound | None) -> Guard:
    """The guard after an op. A change that no login has proven cannot be confirmed, so the unit will still go back."""
    guard = belief.guard
    if op.returns:
        return Idle().arm(Fallback(op.returns, belief.stores, belief.ways))
    if op.does == "confirm":
        return guard.confirmed() if isinstance(guard, Proven) else guard
    if op.does == "back":
        return guard.gone_back() if isinstance(guard, Armed) else guard
    return guard.wrote() if bound is not None or op.does == "activate" else guard


def _written(bound: Bound, plane: Plane) -> Plane:
    if plane is bound.before:
        return bound.after
    try:
        return bound.on(plane)
    except KeyError:
        return plane  # the item is not known on this store, so nothing there changes that we could foretell


def _copied(target: Plane, source: Plane, only: tuple[Path, ...]) -> Plane:
    """The target with those paths as a copy of the source."""
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
    """The unit's own counts of differing settings, as far as they can be foreseen: none after a copy, unknown after
    an edit. They belong to the unit and not to a store, so every store shows the same."""
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


def rehearse_step(family: Family, belief: Belief, step: Step) -> Belief:
    """The belief after a step."""
    match step.kind:
        case Kind.WRITE:
            assert step.bound is not None
            return rehearse(family, belief, step.bound.op, step.bound)
        case Kind.PROVE:
            assert step.way is not None
            return learn(belief, step.way)
        case Kind.TRY:
            return belief
        case Kind.SAVE | Kind.ACTIVATE | Kind.CONFIRM | Kind.RESTART | Kind.ARM:
            assert step.op is not None
            return rehearse(family, belief, step.op)
