"""Facts of one reply, gathered."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from typing import Any

from ..addresses import AddressSet
from ..plane.evidence import Leftover
from ..plane.path import Path, show
from .model import LIVE, Ask, Family, Spelling
from .parts import LONGEST_LEFTOVER, Fact, Part
from .spelling import meant, read_value, spelling_of


class Facts:
    """Facts of one reply; a value that does not suit its leaf is a leftover, never a guess."""

    def __init__(self, family: Family, ask: Ask, now: datetime | None) -> None:
        self.family, self.ask, self.now = family, ask, now
        self.parts: list[Part] = []
        self.doubt = False
        self._lines: dict[Path, int] = {}  # sets that lines make one by one: where their fact stands

    def left(self, line: str) -> None:
        self.doubt = True
        self.parts.append(Leftover(self.ask.name, line[:LONGEST_LEFTOVER]))

    def add(self, path: Path, value: Any) -> None:
        # what it is, and what waits, is of the unit, whichever of its stores a reply shows
        store = LIVE if path[0] in ("identity", "stores") else self.ask.store
        self.parts.append(Fact(path, value, self.ask.name, store))

    def read(self, path: Path, raw: str, spelling: Spelling | None = None) -> None:
        try:
            self.add(path, read_value(spelling or spelling_of(self.family, path), path, raw, self.now))
        except (ValueError, TypeError):
            self.left(f"{show(path)}: {raw}")

    def read_one(self, path: Path, raw: str) -> None:
        """A text of a line. Lines that each name one thing of a set make one set of them."""
        count = len(self.parts)
        self.read(path, raw)
        new = self.parts[-1] if len(self.parts) > count else None
        if not isinstance(new, Fact) or not isinstance(new.value, tuple | AddressSet):
            return
        if path in self._lines:
            before = self.parts[self._lines[path]]
            assert isinstance(before, Fact)
            self.parts[self._lines[path]] = replace(before, value=_both(before.value, new.value))
            self.parts.pop()
        else:
            self._lines[path] = count

    def drop_partial_sets(self) -> None:
        """A line that was not understood may name one more of a set: then none of the sets made by lines was read."""
        if self.doubt:
            partial = set(self._lines.values())
            self.parts = [part for index, part in enumerate(self.parts) if index not in partial]

    def word(self, path: Path, word: str) -> None:
        self.add(path, meant(path, word))


def _both(one: Any, other: Any) -> Any:
    return one | other if isinstance(one, AddressSet) else tuple(sorted({*one, *other}))
