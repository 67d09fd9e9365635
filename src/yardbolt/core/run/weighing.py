"""What it means that something reads otherwise than was forecast: for who gets in, and for what was approved.

A forecast is a hypothesis. Where nobody loses a way in, what was read is believed, and the run goes on: what no step
of ours touches is somebody else's doing, and what one touches did not come out as wanted. Where a way in hangs on
what reads otherwise, a new login tells whether it is still there."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from ..doors import Way
from ..judge.staying import rests_on
from ..plane.leaves import Plane
from ..plane.path import Path, fits, touches
from ..plane.table import holds_secret, is_item, pattern_of

# what tells that something goes back by itself, or how many settings are not kept, is the run's own business
OWN_BUSINESS = "stores"
# who gets in, with which credential, by which service, with which rights
CARRYING = ("accounts", "services", "entry_lists", "interfaces", "roles")


@dataclass(frozen=True)
class Weighed:
    """What reads otherwise: what a step of ours touches, what none does, and what a way in or the run itself hangs
    on."""

    ours: tuple[Path, ...] = ()
    others: tuple[Path, ...] = ()
    at_stake: tuple[Path, ...] = ()


def weigh(expected: Plane, odd: Iterable[Path], touched: Iterable[Path], ways: Iterable[Way]) -> Weighed:
    """Weigh what reads otherwise than `expected`. `touched` are the paths steps of ours touch, `ways` those that
    should still open. Somebody else may change what carries a way in, and a login tells; where a step of ours did not
    bring about what it should have there, a way in is at stake."""
    ways, touched = frozenset(ways), frozenset(touched)
    ours: list[Path] = []
    others: list[Path] = []
    at_stake: list[Path] = []
    for path in odd:
        mine = touches((path,), touched)
        if path[0] == OWN_BUSINESS or holds_secret(path) or (mine and carries(path, expected, ways)):
            at_stake.append(path)
        else:
            (ours if mine else others).append(path)
    return Weighed(tuple(ours), tuple(others), tuple(at_stake))


def carries(path: Path, plane: Plane, ways: Iterable[Way]) -> bool:
    """Does this leaf, of whatever service or account, carry a way in?"""
    if is_item(path):
        return path[0] in CARRYING
    pattern = pattern_of(path)
    # a way may rest on a whole list, too
    return any(fits(pattern, one) for one in rests_on(plane, ways))
