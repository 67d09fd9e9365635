"""Comparing planes: what differs, and what reads otherwise than was forecast. Parts that are the same object are not
walked."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from .kinds import FIRST_OWN, Leaf
from .leaves import Plane
from .path import Path
from .table import ROOT, Branch, Many, holds_secret


def difference(one: Plane, other: Plane) -> frozenset[Path]:
    """Every path whose value differs; an item on one side only counts by its own path and its leaves."""
    return frozenset(_differing(one, other, ROOT, ()))


def _differing(one: Any, other: Any, branch: Branch, at: Path) -> Iterator[Path]:
    # most of two planes is shared, so this is what makes comparing cheap
    if one is other:
        return
    for name, below in branch.under.items():
        here = getattr(one, name) if one is not None else None
        there = getattr(other, name) if other is not None else None
        if isinstance(below, Leaf):
            if here != there:
                yield (*at, name)
        elif isinstance(below, Branch):
            yield from _differing(here, there, below, (*at, name))
        elif here is not there:
            mine, theirs = (here.by_key if here else {}), (there.by_key if there else {})
            for key in [*mine, *(k for k in theirs if k not in mine)]:
                if (key in mine) != (key in theirs):
                    yield (*at, name, key)
                yield from _differing(mine.get(key), theirs.get(key), below.item, (*at, name, key))


def unlike(one: Plane, other: Plane) -> frozenset[Path]:
    """What differs and does not move by itself: the paths by which two stores would really differ."""
    return frozenset(path for path in difference(one, other) if path[0] != "stores" and _steady(path))


def _steady(path: Path) -> bool:
    node: Leaf | Branch | Many = ROOT
    for step in path:
        if isinstance(node, Many):
            if not node.steady:
                return False
            node = node.item
        elif isinstance(node, Branch):
            node = node.under[step]
    return node.steady if isinstance(node, Leaf) else True


def surprises(forecast: Plane, seen: Plane) -> tuple[Path, ...]:
    """Paths that read otherwise than forecast. What moves by itself, what no unit shows, and what was not read are no
    surprise."""
    return tuple(sorted(path for path in set(_surprising(forecast, seen, ROOT, ())) if not given_out(path)))


def given_out(path: Path) -> bool:
    """Is it about a port that the host gave to something that sends by UDP? It gets another one at each start."""
    words = path[1].split() if path[:1] == ("listening",) and len(path) > 1 else []
    return words[:1] == ["udp"] and words[-1].isdigit() and int(words[-1]) >= FIRST_OWN


def _surprising(forecast: Any, seen: Any, branch: Branch, at: Path) -> Iterator[Path]:
    for name, below in branch.under.items():
        expected, found = getattr(forecast, name), getattr(seen, name)
        path = (*at, name)
        if isinstance(below, Leaf):
            # what was not read on either side can neither agree nor differ
            known = found is not None and expected is not None
            if known and below.steady and expected != found and not holds_secret(path):
                yield path
        elif isinstance(below, Branch):
            yield from _surprising(expected, found, below, path)
        elif below.steady:
            yield from _items(expected, found, below, path)


def _items(expected: Any, found: Any, below: Many, path: Path) -> Iterator[Path]:
    mine, theirs = expected.by_key, found.by_key
    # only a list read whole can say that something is gone
    if found.complete:
        yield from ((*path, key) for key in mine if key not in theirs)
    # what we did not know of before is no surprise when it turns up
    if expected.complete:
        yield from ((*path, key) for key in theirs if key not in mine)
    for key in mine:
        if key in theirs:
            yield from _surprising(mine[key], theirs[key], below.item, (*path, key))
