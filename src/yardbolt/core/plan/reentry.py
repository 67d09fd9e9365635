"""Getting in again where a unit is moved: by which way, where it was, and what would still name that afterwards."""

from __future__ import annotations

from dataclasses import dataclass

from ..addresses import AddressSet
from ..doors import Way
from ..family.model import Family
from ..job import Site
from ..plane.change import Set, moves_to
from ..plane.edit import leaves
from ..plane.leaves import Plane
from ..plane.path import Path
from ..plane.table import steady
from .belief import full
from .sheet import Sheet

FEW = 1024  # addresses: a set that is larger names nobody in particular


@dataclass(frozen=True)
class ReEntry:
    """After which change of the sheet, by which way, and the leaves that still name where it was."""

    number: int
    way: Way
    mentions: tuple[Path, ...]


def reentry(family: Family, sheet: Sheet, site: Site) -> ReEntry | None:
    """How to get in again; None where the sheet moves nothing. The best way with full rights at the new place, as the
    sheet forecasts it."""
    changes = [step.change for step in sheet.steps if step.change is not None]
    moves = [
        (n, moves_to(change)) for n, change in enumerate(changes, 1) if isinstance(change, Set) and moves_to(change)
    ]
    live = sheet.forecast.live
    for number, there in moves:
        ways = [way for way in sheet.forecast.proven if way.door.address in there and way.source in site.laptops]
        ways.sort(key=lambda way: (not full(live, way), not family.sealed(way.service), way))
        if ways:
            return ReEntry(number, ways[0], naming(live, site.at))
    return None


def naming(plane: Plane, address: str) -> tuple[Path, ...]:
    """The settings that name an address, themselves or in a small set."""
    return tuple(path for path, value in leaves(plane) if steady(path) and _names(value, address))


def _names(value: object, address: str) -> bool:
    if isinstance(value, AddressSet):
        return value.count() < FEW and address in value
    texts = value if isinstance(value, tuple) else (value,)
    between = "/" if ":" in address else "/:"  # what may follow an address: its prefix length, or a port
    words = [
        text.translate(str.maketrans(between, " " * len(between))).split() for text in texts if isinstance(text, str)
    ]
    return any(address in each for each in words)
