"""Whose turn it is: what is made under the timed return, what comes before its like, what closes an account."""

from __future__ import annotations

from ..family.bound import Bound, Held, bind, bound_store
from ..family.model import Family
from ..judge.staying import rests_on
from ..plane.change import Change, Drop, Make, Set
from ..plane.leaves import Plane
from ..plane.table import holds_secret
from .belief import Belief


def store_for(family: Family, belief: Belief, change: Change) -> Plane:
    """The store a change is made on, as it is believed to be."""
    return belief.stores.get(bound_store(family, change), belief.live)


def as_believed(family: Family, belief: Belief, change: Change, held: Held = frozenset()) -> Bound | None:
    """The change as the unit would be told it as it is believed to be now; None where it cannot be told so."""
    try:
        return bind(family, change, store_for(family, belief, change), held)
    except ValueError:
        return None


def under_guard(family: Family, belief: Belief, todo: tuple[Change, ...]) -> bool:
    """Is any of these changes made under the timed return?"""
    return any((bound := as_believed(family, belief, one)) is not None and guarded(bound, belief) for one in todo)


def guarded(bound: Bound, belief: Belief) -> bool:
    """Is it made under the timed return? What the return would take back is, where no forecast sees whom it could shut out, or
    it touches what a proven way rests on."""
    if not bound.goes_back:
        return False
    return bound.op.guarded or bool(bound.touches & rests_on(bound.before, belief.proven))


def lesser(change: Change) -> bool:
    """Accounts with full rights are made first: they are the ones to rely on."""
    return isinstance(change, Make) and dict(change.values).get("role") != "full"


def closes_an_account(change: Change) -> bool:
    if change.path[0] != "accounts":
        return False
    return isinstance(change, Drop) or (isinstance(change, Set) and holds_secret(change.path))
