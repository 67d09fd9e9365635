"""Rehearsal: what we hold to be true of a unit, and how each step moves it, on the live and on the kept store (D5, D6)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import Enum

from .access import Way, admit
from .family import Change, Drop, Family, Op, Set, after, op_for
from .paths import Path
from .plane import LISTS, Plane, difference, get, put, steady
from .secret import Ref


class Kind(Enum):
    """What a step does."""

    WRITE = "change"
    PROVE = "log in"
    TRY = "try"
    SAVE = "save"
    RESTART = "restart"


class Hold(Enum):
    """How surely the technician can still get in, best first."""

    PROVEN = "proven"
    HELD = "held by a live session"
    LEAP = "leap"
    LOST = "lost"


@dataclass(frozen=True)
class Step:
    """One step on one unit. `way` is who logs in; `claim` names what a TRY step tries."""

    kind: Kind
    change: Change | None = None
    way: Way | None = None
    claim: str = ""
    phase: str = ""
    reason: str = ""
    hold: Hold = Hold.PROVEN
    still: tuple[Way, ...] = ()
    back: str = ""


@dataclass(frozen=True)
class Belief:
    """What we hold to be true. `proven` are logins that succeeded and that nothing since could have taken away; `kept` are those
    that would also open after a power cut; `sessions` are alive."""

    active: Plane
    saved: Plane
    proven: frozenset[Way]
    kept: frozenset[Way]
    sessions: frozenset[Way]
    laptop: str
    dirty: bool = False


def _stays(plane: Plane, ways: Iterable[Way], moved: frozenset[Path]) -> frozenset[Way]:
    """The ways for which every condition that moved is surely true (D4)."""
    return frozenset(w for w in ways if all(c.holds is True for c in admit(plane, w).conditions if c.path in moved))


def _cut(op: Op | None, change: Change, sessions: frozenset[Way]) -> frozenset[Way]:
    cuts, key = (op.cuts if op else "none"), change.path[1] if len(change.path) > 1 else ""
    if cuts == "service" and isinstance(change, Set) and change.value is True:
        cuts = "none"
    match cuts:
        case "all":
            return frozenset()
        case "service":
            return frozenset(w for w in sessions if w.service != key)
        case "account":
            return frozenset(w for w in sessions if w.account != key)
    return sessions


def rehearse(f: Family, b: Belief, step: Step) -> Belief:
    """What will be true after the step, if the unit does as its family says."""
    if step.kind is Kind.WRITE:
        assert step.change is not None
        op = op_for(f, step.change)
        active = after(f, b.active, step.change)
        moved = difference(b.active, active)
        saved, kept, dirty = b.saved, b.kept, True
        if op is not None and op.persists == "at once":
            saved, dirty = _on(f, b.saved, step.change), b.dirty
            kept = _stays(saved, b.kept, difference(b.saved, saved))
        if not steady(step.change.path):
            dirty = b.dirty
        if dirty and f.op_doing("save"):
            active = put(active, ("stores", "differences"), None)
        if not f.op_doing("save"):
            saved, kept, dirty = active, _stays(active, b.kept, moved), False
        return replace(
            b, active=active, saved=saved, proven=_stays(active, b.proven, moved), kept=kept, sessions=_cut(op, step.change, b.sessions), dirty=dirty
        )
    if step.kind is Kind.PROVE:
        assert step.way is not None
        return learn(b, step.way)
    if step.kind is Kind.SAVE:
        active = put(b.active, ("stores", "differences"), 0)
        return replace(b, active=active, saved=active, kept=b.proven, dirty=False)
    if step.kind is Kind.RESTART:
        return replace(b, active=b.saved, proven=b.kept, sessions=frozenset())
    return b


def _on(f: Family, plane: Plane, change: Change) -> Plane:
    try:
        return after(f, plane, change)
    except KeyError:
        return plane


def learn(b: Belief, way: Way) -> Belief:
    """A login that succeeded proves that account and service are there and on, and which credential opens."""
    active = b.active
    for path, value in (
        (("accounts", way.account, "secret"), way.secret),
        (("accounts", way.account, "enabled"), True),
        (("services", way.service, "enabled"), True),
    ):
        if any(i.key == path[1] for i in getattr(active, path[0]).items) and (isinstance(value, Ref) or get(active, path) is None):
            active = put(active, path, value)
    kept = b.kept if b.dirty else b.kept | {way}
    saved = b.saved if b.dirty else active
    return replace(b, active=active, saved=saved, proven=b.proven | {way}, kept=kept, sessions=b.sessions | {way})


def full(plane: Plane, w: Way) -> bool:
    """Does the way lead to full rights? Only such a way keeps the technician in; rights that were not read do not count (H01)."""
    return bool(get(plane, ("accounts", w.account, "role")) == "full")


def hold(b: Belief, wish: Iterable[Way]) -> Hold:
    """How surely the technician can get in with full rights from the laptop's present address, on the live and on the kept store."""
    wish = tuple(wish)

    def here(ways: Iterable[Way], plane: Plane) -> list[Way]:
        return [w for w in ways if w.source == b.laptop and full(plane, w)]

    kept_coming = any(admit(b.saved, w).admitted is True for w in here((*wish, *b.proven), b.saved))
    if not here(b.kept, b.saved) and not kept_coming:
        return Hold.LOST
    if here(b.proven, b.active):
        return Hold.PROVEN
    if not any(admit(b.active, w).admitted is True for w in here(wish, b.active)):
        return Hold.LOST
    return Hold.HELD if b.sessions else Hold.LEAP


def touched(f: Family, b: Belief, step: Step) -> frozenset[Path]:
    """Every path a write moves, its declared effects included."""
    assert step.change is not None
    return difference(b.active, rehearse(f, b, step).active) | {step.change.path}


def removes(change: Change | None) -> bool:
    """Does the change take something away for good?"""
    return isinstance(change, Drop) and change.path[0] in LISTS
