"""The shape of a way of talking: what it reads from a family file, what it sends, and its conversations as generators.

A conversation yields events of its way and is sent the wire's answers; it never touches a wire, a clock or a family. A
new way of talking is one file here, one wire, and a row in `ways.py`.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from ..secret import Ref, Text
from .outcomes import Done, Ended, Login, No, Unclear
from .replies import ReplyRow
from .tree import Items, Tree

ANSWER = 30.0  # seconds one ask may take
OURS = {"ours": True}  # of a field: no key of a family file; it is filled in when one is read
ADDED, TAKEN = "+", "-"  # begin the key of a line that adds, or takes away, one thing of a set; the thing follows
BOUND = "="  # begins the key of what fills a place of a tree, and no slot
Keys = tuple[str | int, ...]
Fill = Mapping[str, Text]


class GivenAgain:
    """An event that gives the password once more after the login: where it is wrong, that costs so many tries.

    `service` is what takes it; `withheld` gives the answer where it may not be sent, `taken` reads the answer."""

    service = ""
    costs = 1

    def withheld(self, why: str) -> Any:
        """What to answer instead."""
        raise NotImplementedError

    def taken(self, answer: Any) -> bool:
        """Was the password good?"""
        raise NotImplementedError

    def whose(self, answer: Any) -> str:
        """Whose password was wanted, where it says so: a wrong one counts against that account."""
        return ""


@dataclass(frozen=True)
class Replies:
    """What came back: text without echo and with its pages joined, or a tree; of an object also the place it was read
    from, and the entity tag it had."""

    text: str = ""
    tree: Tree = None
    tag: tuple[str, str] = ("", "")


class Shelf(Protocol):
    """What there is to run on a host, by name: sections that read, programs that write."""

    @property
    def sections(self) -> Mapping[str, Any]: ...

    @property
    def programs(self) -> Mapping[str, Any]: ...


class NotThere(ValueError):
    """What stands under `keys` of a family file names what is not there, in the library or the channel."""

    def __init__(self, keys: Keys, problem: str) -> None:
        super().__init__(problem)
        self.keys = keys


class How(Protocol):
    """How one ask or op is put on its way: the way's own keys of the family file."""

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """Every text with slots, and the keys it stands under."""

    def signs(self) -> Iterator[tuple[Keys, str]]:
        """Every sign it waits for, and the keys it stands under."""

    def asked_as(self) -> str:
        """What is asked, as the evidence quotes it."""

    def amiss(self) -> tuple[Keys, str] | None:
        """Which key does not go with the others, and why; None where all do."""

    def in_channel(self, channel: Any, secret: bool) -> How:
        """The same, with what its channel says once for all that goes through it, or for all with which a password
        goes. Raises NotThere."""

    def from_library(self, library: Callable[[], Shelf]) -> tuple[How, str]:
        """The same with the texts of the library that it names, and the decoder of what they print, or empty. Raises
        NotThere."""

    def as_data(self) -> bool:
        """Does what fills it reach the unit as data, and never as a part of a command?"""

    def as_root(self) -> bool:
        """Is it answered to nobody but root?"""

    def writes_rows(self) -> bool:
        """Can one message replace all the rows a set is made of?"""

    def rows(self) -> Items | None:
        """Where the rows stand of a set that are added and taken away one at a time; None where that is not so."""

    def lines(self) -> tuple[str, str] | None:
        """How one thing of a set is added, and taken away, where a line does that; the slots are filled beforehand."""

    def by_row(self, ask: Any, items: Items) -> Any:
        """The same, its rows found where this asks for them."""

    def on(self, ask: Any, items: Items) -> Any:
        """The same, written to the very place this asks for, where the way does so, and its items stand."""


class Channel(Protocol):
    """A block of the family file: what one way of talking needs to know of this make."""

    @property
    def talk(self) -> str:
        """The name of its way of talking."""

    @property
    def services(self) -> Mapping[str, str]:
        """service -> `sealed` or `plain`."""

    @property
    def replies(self) -> tuple[ReplyRow, ...]:
        """What an answer means."""

    def signs(self) -> Iterator[tuple[Keys, str]]:
        """Every sign it waits for, and the keys it stands under."""

    def gate_answer(self, gate: str) -> Text | None:
        """What accepting the terms of a gate takes, where the family says it; None where the answer is ours to make."""

    def gates_named(self) -> tuple[str, ...]:
        """The questions that may stand between a login and the inside."""

    def answers(self) -> tuple[tuple[str, str], ...]:
        """What else is answered at a first login, as the family has it, and why."""

    def amiss(self) -> tuple[Keys, str] | None:
        """Which key does not go with the others, and why; None where all do."""

    def asks_inside(self) -> bool:
        """May the password be wanted once more inside, for full rights, however one logged in?"""


class Unprompted:
    """What a channel, an ask or an op is that waits for no sign and meets no gate: most ways but consoles and pages."""

    def signs(self) -> Iterator[tuple[Keys, str]]:
        """None."""
        yield from ()

    def gate_answer(self, gate: str) -> Text | None:
        """There is no gate to answer."""
        return None

    def gates_named(self) -> tuple[str, ...]:
        """None."""
        return ()

    def answers(self) -> tuple[tuple[str, str], ...]:
        """Nothing."""
        return ()

    def asks_inside(self) -> bool:
        """No."""
        return False

    def as_data(self) -> bool:
        """No."""
        return False

    def as_root(self) -> bool:
        """No."""
        return False

    def amiss(self) -> tuple[Keys, str] | None:
        """Nothing."""
        return None

    def in_channel(self, channel: Any, secret: bool) -> Any:
        """Itself: its channel says nothing for it."""
        return self

    def from_library(self, library: Callable[[], Shelf]) -> tuple[Any, str]:
        """Itself: it names nothing there."""
        return self, ""

    def writes_rows(self) -> bool:
        """One thing at a time."""
        return False

    def rows(self) -> Items | None:
        """None."""
        return None

    def lines(self) -> tuple[str, str] | None:
        """None."""
        return None

    def by_row(self, ask: Any, items: Items) -> Any:
        """It has no rows."""
        return self

    def on(self, ask: Any, items: Items) -> Any:
        """What is said to it names its place by itself."""
        return self

    def shared(self) -> Any:
        """What it asks for a part of, of which others may ask for another part; itself where it asks for the whole."""
        return self


@dataclass(frozen=True)
class Fetch:
    """One thing to ask. `fill` fills its slots; `given` is what a section may know of the job; `seconds` is the longest
    it may take."""

    how: Any
    fill: Fill = field(default_factory=dict)
    seconds: float = ANSWER
    given: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Order:
    """One thing to write, filled; its secrets are slots still. `renews`: from then on the unit shows another
    certificate or host key, and says so in its manual. `source` is the address of the laptop in this conversation."""

    how: Any
    fill: Fill = field(default_factory=dict)
    seconds: float = ANSWER
    renews: bool = False
    source: str = ""


Answer = Done[Replies] | No | Unclear | Ended
Asking = Generator[Any, Any, Answer]
Telling = Generator[Any, Any, Answer]


class LogIn(Protocol):
    """Logging in. `authenticated`: the wire has given name and secret already. `consents` maps a gate to what is sent
    there."""

    def __call__(
        self, channel: Any, account: str, secret: Ref, authenticated: bool, consents: Fill
    ) -> Generator[Any, Any, Login]: ...


@dataclass(frozen=True)
class Talk:
    """One way of talking, a row of the table of ways.

    `wires` says which wire carries it over a service, as `module:Class` of the room of wires. `channel`, `ask` and
    `op` are the dataclasses whose fields are the keys of the family file, so its check, its schema and its reading
    need no more of a way than this row; `message` is pure and raises ValueError at planning where the unit cannot be
    told so. `ask_all` asks many things at once, where the way can; `part` takes what one ask wants out of what it
    shares with others. `apart`: each ask is a question of its own, and one that came to nothing says nothing of the
    next. `at` asks for one place, where the way has places, and `shown` is what came of it, by its places. `by_role`:
    the unit itself decides what an account may set this way. `says_refused`: its protocol has a word for a wrong
    password, where otherwise only the family knows one."""

    name: str
    wires: Mapping[str, str]
    channel: type
    ask: type
    op: type
    message: Callable[[Any, Fill], Any]
    login: LogIn
    ask_: Callable[[Any, Fetch, Any], Asking]
    tell: Callable[[Any, Order, Any], Telling]
    log_out: Callable[[Any], Generator[Any, Any, None]]
    ask_all: Callable[[Any, tuple[Fetch, ...], Any], Generator[Any, Any, tuple[Answer, ...]]] | None = None
    part: Callable[[Any, Any, Replies], Answer] | None = None
    apart: bool = False
    at: Callable[[str], Any] | None = None
    shown: Callable[[Tree], Tree] = lambda tree: tree
    by_role: bool = True
    says_refused: bool = True
