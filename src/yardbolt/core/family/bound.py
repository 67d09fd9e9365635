"""A change bound to what carries it out on one make: the op, the store it is written to, the message, what it
touches, who it cuts off, and what takes it back.

It is bound once, where the unit stands as it is believed to; arranging, rehearsing, carrying out and taking back use
only this. Bound again for another state of the same unit, it is the same change by the same op."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

from ..judge.passwords import classes
from ..plane.change import Change, Drop, Make, Set
from ..plane.compare import difference
from ..plane.edit import exists, get, leaves
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane
from ..plane.path import Path, filled, fits
from ..plane.table import holds_secret, is_item, item_of, steady
from ..plane.words import spoken
from ..secret import Ref
from ..talk.conversation import Order
from .model import LIVE, Cuts, Family, Op
from .spelling import meant
from .writing import A_MOMENT, beside, forecast, op_for, render, takes

Held = frozenset[str]  # the fingerprints of public keys that are held whole


@dataclass(frozen=True)
class NoWayBack:
    """Why a change cannot be taken back; or that it need not be (`needless`), because the value moves by itself."""

    why: str
    needless: bool = False


@dataclass(frozen=True)
class Bound:
    """One change as one make carries it out. `before` and `after` are the store it is written to, as believed and as
    forecast; `now` is the laptop's time (ISO 8601) the message was worded for."""

    change: Change
    op: Op = field(compare=False, repr=False)
    family: Family = field(compare=False, repr=False)
    before: Plane = field(compare=False, repr=False)
    after: Plane = field(compare=False, repr=False)
    order: Order = field(compare=False, repr=False)
    held: Held = field(default=frozenset(), compare=False, repr=False)

    @property
    def path(self) -> Path:
        """What it changes."""
        return self.change.path

    @property
    def channel(self) -> str:
        """The channel it goes by."""
        return self.op.by

    @property
    def store(self) -> str:
        """The store it is written to and read back from."""
        return self.op.store

    @property
    def cuts(self) -> Cuts:
        """The sessions it ends."""
        return self.op.cuts

    @cached_property
    def touches(self) -> frozenset[Path]:
        """Every path the change moves in its store, with what the family says comes along."""
        return difference(self.before, self.after) | {self.path}

    @property
    def secret(self) -> Ref | None:
        """The secret it sends, if any."""
        match self.change:
            case Set(path, Ref() as ref) if holds_secret(path):
                return ref
            case Make(_, values):
                return next((value for _, value in values if isinstance(value, Ref)), None)
        return None

    @property
    def removes(self) -> bool:
        """Does it remove something for good?"""
        return isinstance(self.change, Drop)

    @property
    def closes_an_account(self) -> bool:
        """Does it take an account, or a credential, away from its owner?"""
        return self.path[0] == "accounts" and (
            self.removes or (isinstance(self.change, Set) and holds_secret(self.path))
        )

    @cached_property
    def back(self) -> Bound | NoWayBack:
        """The change that restores the store to its earlier state."""
        return _back(self)

    def on(self, plane: Plane) -> Plane:
        """Another store, or another state of it, after the change. Raises KeyError on an item that is not there."""
        return forecast(self.family, self.op, plane, self.change)

    def again(self, plane: Plane, now: str = A_MOMENT) -> Bound:
        """The same change, bound to a store that has meanwhile changed. Raises ValueError where the unit takes no
        such order any more."""
        return bind(self.family, self.change, plane, self.held, now)

    def unmet(self, live: Plane) -> tuple[str, ...]:
        """What it needs and does not have, where the timed return that it is made under needs something too."""
        bad = list(unmet(self.op, self.before, self.path))
        arm = self.family.op_doing("arm") if self.op.guarded else None
        return (*bad, *(why for why in (unmet(arm, live) if arm else ()) if why not in bad))

    @property
    def goes_back(self) -> bool:
        """Would the timed return of the unit undo it?"""
        arm = self.family.op_doing("arm")
        return arm is not None and (self.op.guarded or any(fits(p, self.path) for p in arm.takes_back))


def bind(
    family: Family, change: Change, where: Plane | Mapping[str, Plane], held: Held = frozenset(), now: str = A_MOMENT
) -> Bound:
    """Bind a change to the store its op writes, given as one plane or as all stores. Raises ValueError where the
    unit takes no such order."""
    op = op_for(family, change)
    if op is None:
        raise ValueError(f"{family.title} has no way to change {spoken(change.path)}")
    plane = where if isinstance(where, Plane) else where.get(op.store, where[LIVE])
    try:
        after = forecast(family, op, plane, change)
    except KeyError:
        raise ValueError(f"{spoken(item_of(change.path) or change.path)} is not there yet") from None
    return Bound(change, op, family, plane, after, render(family, op, change, plane, now), held)


def bound_or_why(
    family: Family, change: Change, where: Plane | Mapping[str, Plane], held: Held = frozenset()
) -> Bound | str:
    """The bound change, or the reason why the unit takes no such order."""
    try:
        return bind(family, change, where, held)
    except ValueError as e:
        return str(e)


def brings(family: Family, change: Change) -> frozenset[Path]:
    """What the family says comes with a change, in whatever state the unit is; nothing where no op makes the change."""
    op = op_for(family, change)
    if op is None:
        return frozenset()
    more = op.by_value.get(str(change.value), ()) if isinstance(change, Set) else ()
    told = {filled(pattern, change.path) for pattern, _ in (*op.effects, *more)}
    return frozenset(told | {path for path, _ in beside(family, op, change)})


def unmet(op: Op, plane: Plane, path: Path = ()) -> tuple[str, ...]:
    """The needs of an op that this plane does not meet. An unknown value does not meet a need."""
    bad = []
    for pattern, word in op.needs:
        here = filled(pattern, path)
        value = get(plane, here)
        if value is None or (word != "known" and value != meant(here, word)):
            bad.append(f"{spoken(here)} was not read" if word == "known" else f"{spoken(here)} must be {word}")
    return tuple(bad)


# ---- the way back ---------------------------------------------------------------------------------------------------


def _back(bound: Bound) -> Bound | NoWayBack:
    change = bound.change
    if not steady(change.path):
        return NoWayBack("it moves by itself", needless=True)
    undo = _undoing(bound)
    if isinstance(undo, NoWayBack):
        return undo
    if missing := _missing(bound, undo):
        return NoWayBack(missing)
    try:
        back = bind(bound.family, undo, bound.after, bound.held)
    except ValueError as e:
        return NoWayBack(str(e))
    if lost := _lost(bound, back):
        return NoWayBack(f"{', '.join(spoken(path) for path in lost[:2])} would not be as before")
    return back


def _undoing(bound: Bound) -> Change | NoWayBack:
    match bound.change:
        case Set(path, _):
            old = get(bound.before, path)
            return NoWayBack("what was there was not read") if old is None else Set(path, old, "back-out")
        case Make(path, _):
            # what may be somebody's is not removed
            if exists(bound.before, path) is None:
                return NoWayBack("whether it was there before was not read")
            return Drop(path, "back-out")
        case Drop(path):
            known = tuple(
                (step[-1], value)
                for step, value in leaves(bound.before)
                if step[: len(path)] == path and len(step) == len(path) + 1 and value not in (None, ABSENT)
            )
            made = Make(path, known, "back-out")
            op = op_for(bound.family, made)
            if op is None:
                return NoWayBack("what is removed is not made again")
            given = takes(op) | ({"role"} if op.only else set())
            return Make(path, tuple((name, value) for name, value in known if name in given), "back-out")
    return NoWayBack("nothing takes it back")


def _missing(bound: Bound, undo: Change) -> str:
    """What the way back would have to send and nobody here has, or the unit would not accept; empty where there is
    nothing."""
    sent: tuple[object, ...] = ()
    match undo:
        case Set(path, tuple() as keys) if path[-1] == "keys":
            still = get(bound.after, path)
            gone = set(keys) - bound.held - set(still if isinstance(still, tuple) else ())
            return "the whole lines of the keys that go are not held" if gone else ""
        case Set(_, value):
            sent = (value,)
        case Make(_, values):
            sent = tuple(value for _, value in values)
    published = [login for one in sent if isinstance(one, Ref) and (login := bound.family.login(one)) is not None]
    if any(_too_weak(login.secret, bound.after) for login in published):
        return "the policy does not take the published password any more"
    return ""


def _too_weak(password: str, plane: Plane) -> bool:
    demands = plane.policy
    short = isinstance(demands.min_length, int) and len(password) < demands.min_length
    return short or (isinstance(demands.classes, int) and len(classes(password)) < demands.classes)


def _lost(bound: Bound, back: Bound) -> tuple[Path, ...]:
    """What of the item would differ from before after taking the change back."""
    inside = item_of(bound.path) or bound.path
    # how a password is kept goes with the password
    goes_with = {(*inside, "storage")} if holds_secret(bound.path) else set()
    out = []
    for path in sorted(difference(bound.before, back.after)):
        if path[: len(inside)] != inside or not steady(path) or is_item(path):
            continue
        # what was not known before cannot be lost
        if get(bound.before, path) is not None and path != bound.path and path not in goes_with:
            out.append(path)
    return tuple(out)
