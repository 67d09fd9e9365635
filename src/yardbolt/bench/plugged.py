"""What every unit of the bench has: the time it was plugged in, its connections, and a way to start again."""

from __future__ import annotations

import copy
import itertools
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any


@dataclass
class Gate:
    """A way in over the web. Where no sources are written, anybody may come."""

    wire: int
    open: bool = True
    sealed: bool = False
    sources: list[str] = field(default_factory=list)


class No(Exception):
    """Not taken, and why."""


class Plugged:
    """A unit with live and saved settings. Time comes in as a function, so that nothing has to be waited for."""

    live: Any
    kept: Any

    def __init__(self, tick: Callable[[], float]) -> None:
        self.tick, self.started = tick, tick()
        self.connections: list[Connection] = []
        self.seats = itertools.count(1)
        self.on_start: list[Callable[[], None]] = []
        self.on_move: list[Callable[[], None]] = []

    def start_again(self) -> None:
        """Start again from what was kept; every connection ends."""
        self.live = copy.deepcopy(self.kept)
        for connection in list(self.connections):
            connection.end()
        self.has_started()

    def has_started(self) -> None:
        """It is on again; its listeners hear of it."""
        self.started = self.tick()
        for told in self.on_start:
            told()

    def has_moved(self) -> None:
        """It has another address; its listeners hear of it."""
        for told in self.on_move:
            told()


class Connection:
    """One connection to a unit, through a gate, from a source, as somebody once that is known."""

    def __init__(self, unit: Plugged, gate: str, source: str, hand: str = "") -> None:
        self.gate, self.source, self.hand = gate, source, hand
        self.ended, self.seat = False, next(unit.seats)
        self.asking: Callable[[str], str] | None = None
        self._among = unit.connections
        self._among.append(self)

    def end(self) -> None:
        """The connection is over."""
        self.ended = True
        if self in self._among:
            self._among.remove(self)
