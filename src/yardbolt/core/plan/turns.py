"""Whose turn it is: what is made under the timed return, what comes before its like, what closes an account."""

from __future__ import annotations

from ..family.bound import Bound
from ..judge.staying import rests_on
from ..plane.change import Change, Drop, Make, Set
from ..plane.table import holds_secret
from .belief import Belief


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
