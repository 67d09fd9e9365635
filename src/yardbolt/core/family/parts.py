"""What a reply is taken apart into, and the reading all of it makes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from ..addresses import AddressSet
from ..plane.evidence import Blind, Evidence, Leftover
from ..plane.leaves import Plane
from ..plane.path import Path
from .model import LIVE

MOST_ITEMS = 10_000
LONGEST_LEFTOVER = 200


@dataclass(frozen=True)
class Fact:
    """One path has one value, says one ask. The path of an item with the value True says that the item is there."""

    path: Path
    value: Any
    ask: str
    store: str = LIVE


@dataclass(frozen=True)
class Whole:
    """This list was read in full."""

    path: Path
    ask: str
    store: str = LIVE


@dataclass(frozen=True)
class Narrowed:
    """To these ports of a service only these sources come, whatever the service itself lets in."""

    service: str
    transport: str
    ports: tuple[str, ...]
    sources: AddressSet
    store: str = LIVE


@dataclass(frozen=True)
class Unfound:
    """Nothing stood at this place of the reply."""

    ask: str
    at: str


Part = Fact | Whole | Leftover | Narrowed | Unfound


@dataclass(frozen=True)
class Reading:
    """What was read: one plane for each store, with what it rests on."""

    planes: Mapping[str, Plane] = field(default_factory=lambda: {LIVE: Plane()})
    evidence: tuple[Evidence, ...] = ()
    origin: Mapping[Path, tuple[str, ...]] = field(default_factory=dict)
    conflicts: tuple[Path, ...] = ()
    leftovers: tuple[Leftover, ...] = ()
    blind: tuple[Blind, ...] = ()

    @property
    def plane(self) -> Plane:
        """The live store."""
        return self.planes[LIVE]
