"""Facts of one reply, gathered."""

from __future__ import annotations

from datetime import datetime
from typing import Any

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

    def word(self, path: Path, word: str) -> None:
        self.add(path, meant(path, word))
