"""Weighs a setting that reads otherwise than planned: what it means for who gets in, and for what was approved.

A forecast is a hypothesis. Where no way in is lost, the reading is believed and the run goes on. A setting that no
step of ours touches was changed by somebody else; one that a step touches did not come out as wanted. Where a way in
depends on it, a new login shows whether the way still opens.
"""

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
    """The settings that read otherwise, in three groups: those a step of ours touches, those none touches, and those
    that a way in or the run itself depends on."""

    ours: tuple[Path, ...] = ()
    others: tuple[Path, ...] = ()
    at_stake: tuple[Path, ...] = ()


def weigh(expected: Plane, odd: Iterable[Path], touched: Iterable[Path], ways: Iterable[Way]) -> Weighed:
    """Weigh everything that reads otherwise than `expected`. `touched` are the paths that steps of ours touch,
    `ways` the logins that should still open. If somebody else changed what carries a way in, a login decides. If a
    step of ours did not bring about what it should have, a way in is at stake."""
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
