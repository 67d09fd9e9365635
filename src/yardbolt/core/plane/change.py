"""Changes: the only things a plan consists of. Each names the rule that wants it."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import ip_interface
from typing import Any

from .edit import Draft
from .leaves import Plane
from .path import Path


@dataclass(frozen=True)
class Set:
    """One leaf gets a value."""

    path: Path
    value: Any
    because: str = ""


@dataclass(frozen=True)
class Make:
    """An item comes to be, with these leaves."""

    path: Path
    values: tuple[tuple[str, Any], ...]
    because: str = ""


@dataclass(frozen=True)
class Drop:
    """An item goes."""

    path: Path
    because: str = ""


@dataclass(frozen=True)
class Rename:
    """An item gets another key, and stays what it is."""

    path: Path
    key: str
    because: str = ""


@dataclass(frozen=True)
class Reorder:
    """The items of an ordered list get these places; `path` is the list. Raises nothing: keys not listed come last."""

    path: Path
    keys: tuple[str, ...]
    because: str = ""


Change = Set | Make | Drop | Rename | Reorder


def apply(plane: Plane, change: Change) -> Plane:
    """The plane with one change made, and nothing else. Raises KeyError where the item is not there."""
    draft = Draft(plane)
    match change:
        case Set(path, value):
            draft.put(path, value)
        case Make(path, values):
            draft.make(path)
            for name, value in values:
                draft.put((*path, name), value)
        case Drop(path):
            draft.drop(path)
        case Rename(path, key):
            draft.rename(path, key)
        case Reorder(path, keys):
            rest = [k for k in draft.keys(path) if k not in keys]
            for place, key in enumerate((*(k for k in keys if k in draft.keys(path)), *rest), 1):
                draft.put((*path, key, "position"), place)
    return draft.freeze()


def moves_to(change: Change) -> frozenset[str]:
    """The addresses a change moves the unit to; none where it does not."""
    if not isinstance(change, Set) or change.path[0] != "interfaces" or change.path[-1] != "addresses":
        return frozenset()
    return (
        frozenset(str(ip_interface(one).ip) for one in change.value) if isinstance(change.value, tuple) else frozenset()
    )
