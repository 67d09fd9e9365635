"""Bindings: which place of a tree a leaf of the plane stands in. Read both ways, so an op names its ask and repeats no
field."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from ..plane.path import Path
from ..talk.tree import Items


@dataclass(frozen=True)
class Joint:
    """One field that says something of several leaves: each of its words, and the value of each leaf by it."""

    of: tuple[Path, ...]
    words: Mapping[str, tuple[str, ...]]


@dataclass(frozen=True)
class Place:
    """One leaf and its place in the tree. `words` is the spelling of this view alone; `empty` says what an empty
    field or null means, `missing` what an absent one means: without it the leaf is not read. `codec` is the open
    notation of what stands there. `each` is where the rows are that a set is made of, a thing in each, and `at` then
    a place in the row; `slots` are the fields of a form that has room for so many of them. `parts` are further places
    where one value is spread over several fields; `joint` the other leaves that share this field, in order with this
    one, and what each of its words says of them."""

    path: Path
    at: str
    words: Mapping[str, str] = field(default_factory=dict)
    join: str = ""
    empty: str | None = None
    missing: str | None = None
    codec: str = ""
    parts: tuple[str, ...] = ()
    joint: Joint | None = None
    otherwise: str = ""  # what any other word means, where it is only read
    each: str = ""
    slots: tuple[tuple[str, ...], ...] = ()
    handles: Mapping[str, str] = field(default_factory=dict)  # of rows: what the unit allots to one
    unused: str = ""  # what stands in a field of several that holds none of the set


@dataclass(frozen=True)
class TreeRows:
    """A list: its items in the tree, and the list they go into. `rows` are lists within each item, their `into`
    relative to it."""

    items: Items
    into: Path
    leaves: tuple[Place, ...] = ()
    rows: tuple[TreeRows, ...] = ()
    whole: bool = False
    order: str = ""  # the leaf that says at which place of the list an item stands
    within: tuple[str, ...] = ()  # lists of each item of which the leaves name every item there is
    or_none: bool = False  # where the list is not there at all, there is no item
