"""A bench unit without a wire: drives the core's generators on a `Board` directly, so that thousands of runs take
seconds."""

from __future__ import annotations

import json
from collections.abc import Callable, Generator, Mapping
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from typing import Any

from yardbolt.adapters.documents import event as event_of
from yardbolt.adapters.files import load_baseline, load_family, load_job, shipped
from yardbolt.bench.lineswitch import Board, LineSwitch
from yardbolt.cli.yard import doors_of
from yardbolt.core.credentials import Password
from yardbolt.core.doors import Door, Way
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.reading import asks_for, merge
from yardbolt.core.job import site_of
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.run.events import Event
from yardbolt.core.run.requests import Attempt, Attempted, LogIn, Note, Outcome, Read, Return, Returned, Send
from yardbolt.core.secret import Ref
from yardbolt.core.talk.conversation import Fetch, Order
from yardbolt.core.talk.outcomes import Done, End, Ended, Locked, Login, Lost, NoListener, Opened, Refused
from yardbolt.core.talk.text import console
from yardbolt.core.talk.text.console import Heard, Listener, Turn

FAMILY = load_family(shipped("families")["quenby-ql8"])
BOARD = FAMILY.channels["board"]
BASELINE = load_baseline(shipped("baselines")["hand-tight"])
JOB = load_job(shipped("demo")["yard"])
ENTRY = next(iter(JOB.units.values()))
DOORS = {door.service: door for door in doors_of(ENTRY, FAMILY)}
SITE = site_of(JOB, ENTRY, frozenset({"foreman", "spanner"}), doors_of(ENTRY, FAMILY))
GATE = {"ssh": "shell", "telnet": "talk"}


def way_by(service: str, account: str, secret: str, source: str = SITE.laptop) -> Way:
    """A way in by one of the unit's doors."""
    return Way(source, DOORS[service], account, Password(Ref(secret)))


def door_at(service: str = "ssh", port: int = 22, address: str = "192.0.2.1", interface: str = "") -> Door:
    return Door(service, address, port, service, interface)


@dataclass
class Watch:
    """A clock that moves only when told."""

    now: float = 100.0

    def __call__(self) -> float:
        return self.now


def run_on(answer: Callable[[Any], Any], conversation: Generator[Any, Any, Any]) -> Any:
    """Run a conversation to its end on something that answers its events."""
    try:
        event = next(conversation)
        while True:
            event = conversation.send(answer(event))
    except StopIteration as stop:
        return stop.value


@dataclass
class Bare:
    """One unit, the secrets of the job, and the sessions that are open."""

    unit: LineSwitch
    watch: Watch
    secrets: dict[str, str]
    boards: dict[Way, Board] = field(default_factory=dict)
    journal: list[Event] = field(default_factory=list)
    lie: Callable[[str], str] = lambda said: said
    attempts: Callable[[], tuple[str, ...]] = lambda: ()
    away: bool = True  # is it seen to be away while it restarts?

    def fill(self, text: Any) -> str:
        return "".join(part if isinstance(part, str) else self.secrets[part.ref.entry] for part in text)

    def talk(self, board: Board, conversation: Generator[Turn, Heard | Lost, Any], shown: str = "") -> Any:
        """Run one conversation to its end; `shown` is what the board has shown already."""

        def answer(turn: Turn) -> Heard | Lost:
            nonlocal shown
            if turn.send is not None and not board.ended:
                typed = self.fill(turn.send)
                shown = "" if board.hides or not turn.line else typed + "\n"
                shown += board.hear(typed)
            said, shown = shown, ""
            return self.hear(turn, said.replace("\n", "\r\n"), board)

        return run_on(answer, conversation)

    def hear(self, turn: Turn, said: str, board: Board) -> Heard | Lost:
        listener = Listener(turn)
        for character in self.lie(said):
            listener.feed(character)
        return listener.decide() or listener.lost(End.CLOSED if board.ended else End.SILENT)

    def enter(self, way: Way, consents: dict[str, Any] | None = None) -> Login:
        """A new connection; one that opens is kept."""
        gate = GATE[way.service]
        if not self.unit.takes(gate, way.source):
            return NoListener()
        if way.service == "ssh":
            got = self.unit.try_phrase(way.account, self.secrets[way.secret.entry])
            if got != "in":
                return Locked() if got == "resting" else Refused()
            board = Board(self.unit, gate, way.source, way.account)
        else:
            board = Board(self.unit, gate, way.source)
        conversation = console.login(BOARD, way.account, way.secret, way.service == "ssh", consents or {})  # type: ignore[arg-type]
        outcome: Login = self.talk(board, conversation, board.greet())
        if isinstance(outcome, Opened):
            self.boards[way] = board
        else:
            board.end()
        return outcome

    def opens(self, way: Way) -> bool:
        return isinstance(self.enter(way), Opened)

    def order(self, way: Way, order: Order) -> Any:
        board = self.boards[way]
        return Ended(sent=False) if board.ended else self.talk(board, console.tell(BOARD, order, None))  # type: ignore[arg-type]

    def read(self, way: Way, paths: frozenset[tuple[str, ...]] | None = None) -> Mapping[str, Plane] | None:
        parts: list[Any] = []
        for ask in FAMILY.asks if paths is None else asks_for(FAMILY, paths):
            board = self.boards[way]
            if board.ended:
                return None
            answer = self.talk(board, console.ask(BOARD, Fetch(ask.how), None))  # type: ignore[arg-type]
            if not isinstance(answer, Done):
                return None
            parts += extract(FAMILY, ask, answer.reply, now=datetime.now(UTC))
        return merge(FAMILY, parts).planes

    def drive(self, executor: Generator[Any, Any, Outcome], kill_at: int = -1) -> Outcome | None:
        """Carry out what the executor asks for; stop dead before request number `kill_at`."""
        answer: Any = None
        count = 0
        try:
            while True:
                request = executor.send(answer)
                if count == kill_at:
                    executor.close()
                    return None
                count += 1
                answer = self.do(request)
        except StopIteration as stop:
            return stop.value

    def do(self, request: Any) -> Any:
        match request:
            case Note(event):
                # through the very form it has on disk
                self.journal.append(event_of(json.dumps(asdict(event)), "journal"))
            case LogIn(way):
                return self.enter(way)
            case Send(order, via):
                return self.order(via, order) if via in self.boards else Ended(sent=False)
            case Read(paths, via):
                return self.read(via, paths) if via in self.boards else None
            case Return(ways):
                self.watch.now += 10
                return next((Returned(way, self.away) for way in ways if self.opens(way)), None)
            case Attempt():
                return Attempted(dict.fromkeys(self.attempts(), "it opened"), held=1)
        return None
