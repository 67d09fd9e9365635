"""The table: the fields below are the one place from which paths, coercion of replies, checking of family files and
baselines, the JSON form, differences and the reference in `docs/plane.md` are derived."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, fields, replace
from functools import cache
from typing import Any

from .kinds import (
    Absent,
    Leaf,
    reference,
)
from .leaves import Plane
from .path import Path, show


@dataclass(frozen=True)
class Branch:
    """A part of the plane, or one item of a list: what stands under each name."""

    cls: type
    under: Mapping[str, Leaf | Branch | Many]


@dataclass(frozen=True)
class Many:
    """A list of the plane: what its items look like."""

    item: Branch
    meaning: str
    steady: bool


def _branch(cls: type) -> Branch:
    under: dict[str, Leaf | Branch | Many] = {}
    for each in fields(cls):
        if "leaf" in each.metadata:
            under[each.name] = replace(each.metadata["leaf"], absent="Absent" in str(each.type))
        elif "part" in each.metadata:
            under[each.name] = _branch(each.metadata["part"])
        elif "item" in each.metadata:
            under[each.name] = Many(_branch(each.metadata["item"]), each.metadata["meaning"], each.metadata["steady"])
    return Branch(cls, under)


ROOT = _branch(Plane)


def _rows(branch: Branch, at: Path = ()) -> Iterator[tuple[Path, Leaf]]:
    for name, node in branch.under.items():
        if isinstance(node, Leaf):
            yield (*at, name), node
        elif isinstance(node, Branch):
            yield from _rows(node, (*at, name))
        else:
            yield (*at, name), Leaf(tuple, node.meaning, "list", node.steady)
            yield (*at, name, "*"), Leaf(bool, f"one of: {node.meaning}", "item", node.steady)
            yield from _rows(node.item, (*at, name, "*"))


TABLE: Mapping[Path, Leaf] = dict(_rows(ROOT))


LISTS: frozenset[Path] = frozenset(path for path, row in TABLE.items() if row.unit == "list")


STEADY: frozenset[Path] = frozenset(path for path, row in TABLE.items() if row.steady)


def pattern_of(path: Path) -> Path:
    """The row of TABLE a concrete path belongs to. Raises KeyError naming the path."""
    # parts and top leaves need no walk
    if path in TABLE:
        return path
    node: Leaf | Branch | Many = ROOT
    out: list[str] = []
    for step in path:
        if isinstance(node, Many):
            out.append("*")
            node = node.item
        elif isinstance(node, Branch) and step in node.under:
            out.append(step)
            node = node.under[step]
        else:
            raise KeyError(show(path))
    pattern = tuple(out)
    if pattern not in TABLE:
        raise KeyError(show(path))
    return pattern


def row_of(path: Path) -> Leaf:
    """The row of a concrete path. Raises KeyError."""
    return TABLE[pattern_of(path)]


def item_of(path: Path) -> Path | None:
    """The item a path lies in (the innermost), or None where it lies in no list. `accounts/x` lies in itself."""
    pattern = pattern_of(path)
    ends = [n + 1 for n, part_of in enumerate(pattern) if part_of == "*"]
    return path[: ends[-1]] if ends else None


def is_item(path: Path) -> bool:
    """Does the path name an item of a list, and not a leaf?"""
    return pattern_of(path)[-1] == "*"


@cache
def _secret_rows() -> frozenset[Path]:
    return frozenset(path for path, row in TABLE.items() if row.kind is reference)


def holds_secret(path: Path) -> bool:
    """Is what stands there a reference to a secret, which no unit ever shows?"""
    return pattern_of(path) in _secret_rows()


def coerce(path: Path, raw: Any) -> Any:
    """A raw value as the kind of its leaf. ABSENT and None pass. Raises ValueError."""
    return raw if raw is None or isinstance(raw, Absent) else row_of(path).kind(raw)


def steady(path: Path) -> bool:
    """Does the value stay unless somebody changes it?"""
    return path in STEADY or pattern_of(path) in STEADY


def reached(path: Path, now: Any, wanted: Any) -> bool:
    """Is the present value the wanted one, as closely as this leaf can be set?"""
    slack = row_of(path).slack
    if slack and isinstance(now, float) and isinstance(wanted, float):
        return abs(now - wanted) <= slack
    return bool(now == wanted)
