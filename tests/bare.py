"""A bench unit without a wire: drives the core's generators on a `Board` directly, so that thousands of runs take seconds."""

from __future__ import annotations

import json
from collections.abc import Callable, Generator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from yardbolt.adapters.files import load_baseline, load_family, load_job, shipped
from yardbolt.bench.lineswitch import Board, LineSwitch
from yardbolt.core.access import Way
from yardbolt.core.dialogue import CLOSED, SILENT, Entry, Heard, Listener, Reply, Turn, converse, login
from yardbolt.core.execute import Attempt, Ended, Login, Note, Read, Return, Send, Sent
from yardbolt.core.extract import extract, merge
from yardbolt.core.family import Order, asks_for
from yardbolt.core.job import site_of
from yardbolt.core.plane import Plane

FAMILY = load_family(shipped("families")["quenby-ql8"])
BASELINE = load_baseline(shipped("baselines")["hand-tight"])
JOB = load_job(shipped("demo")["yard"])
UNIT = next(iter(JOB.units.values()))
SITE = site_of(JOB, UNIT, frozenset({"foreman", "spanner"}))
GATE = {"ssh": "shell", "telnet": "talk"}


@dataclass
class Watch:
    """A clock that moves only when told."""

    now: float = 100.0

    def __call__(self) -> float:
        return self.now


@dataclass
class Bare:
    """One unit, the secrets of the job, and the sessions that are open."""

    unit: LineSwitch
    watch: Watch
    secrets: dict[str, str]
    boards: dict[Way, Board] = field(default_factory=dict)
    journal: list[dict[str, Any]] = field(default_factory=list)
    lie: Callable[[str], str] = lambda said: said
    attempts: Callable[[], tuple[str, ...]] = lambda: ()

    def fill(self, text: Any) -> str:
        return "".join(p if isinstance(p, str) else self.secrets[p.ref.entry] for p in text)

    def talk(self, board: Board, g: Generator[Turn, Heard, Any], shown: str = "") -> Any:
        """Run one conversation to its end; `shown` is what the board has shown already."""
        try:
            turn = next(g)
            while True:
                if turn.send is not None and not board.ended:
                    typed = self.fill(turn.send)
                    shown = "" if board.hides or not turn.line else typed + "\n"
                    shown += board.hear(typed)
                turn = g.send(self.hear(turn, shown.replace("\n", "\r\n"), board))
                shown = ""
        except StopIteration as stop:
            return stop.value

    def hear(self, turn: Turn, said: str, board: Board) -> Heard:
        ears = Listener(turn)
        for c in self.lie(said):
            ears.feed(c, False)
        return ears.feed("", True) or ears.ended(CLOSED if board.ended else SILENT)

    def enter(self, way: Way, answers: dict[str, Any] | None = None) -> Entry:
        """A new connection; one that opens is kept."""
        gate = GATE[way.service]
        if not self.unit.takes(gate, way.source):
            return Entry.CLOSED
        assert FAMILY.console
        if way.service == "ssh":
            got = self.unit.check(way.account, self.secrets[way.secret.entry])
            if got != "in":
                return Entry.LOCKED if got == "resting" else Entry.REFUSED
            board = Board(self.unit, gate, way.source, way.account)
        else:
            board = Board(self.unit, gate, way.source)
        end = self.talk(board, login(FAMILY.console, way.account, way.secret, way.service == "telnet", answers), board.greet())
        if end.entry is Entry.OPENED:
            self.boards[way] = board
        else:
            board.end()
        return end.entry

    def order(self, way: Way, order: Order) -> Reply:
        assert FAMILY.console
        board = self.boards[way]
        return Reply("", closed=True) if board.ended else self.talk(board, converse(FAMILY.console, order))  # type: ignore[no-any-return]

    def read(self, way: Way, paths: frozenset[tuple[str, ...]] | None = None) -> Plane | None:
        parts: list[Any] = []
        for ask in FAMILY.asks if paths is None else asks_for(FAMILY, paths):
            reply = self.order(way, Order((ask.say,)))
            if reply.closed or reply.trouble:
                return None
            parts += extract(FAMILY, ask, reply.text, now=datetime.now(UTC))
        return merge(FAMILY, parts).plane

    def drive(self, g: Generator[Any, Any, Ended], kill_at: int = -1) -> Ended | None:
        """Carry out what the executor asks for; stop dead before request number `kill_at`."""
        told: Any = None
        n = 0
        try:
            while True:
                request = g.send(told)
                if n == kill_at:
                    g.close()
                    return None
                n += 1
                told = self.do(request)
        except StopIteration as stop:
            return stop.value

    def do(self, request: Any) -> Any:
        match request:
            case Note(entry):
                self.journal.append(json.loads(json.dumps(entry)))
            case Login(way):
                return self.enter(way)
            case Send(order, via, _):
                if via not in self.boards:
                    return Sent(closed=True)
                reply = self.order(via, order)
                return Sent(reply.trouble, reply.closed)
            case Read(paths, via):
                return self.read(via, paths)
            case Return(ways, _):
                self.watch.now += 10
                return next((w for w in ways if self.enter(w) is Entry.OPENED), None)
            case Attempt():
                return self.attempts()
        return None
