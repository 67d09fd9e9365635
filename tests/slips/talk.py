"""Talking in slips: each message one line of JSON over TCP, each answer another. The file of the way."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from yardbolt.core.secret import Ref, Slot
from yardbolt.core.talk.conversation import Asking, Fetch, Fill, Keys, Order, Replies, Talk, Telling, Unprompted
from yardbolt.core.talk.outcomes import Done, Ended, Login, Lost, No, Opened, Refused, Silent, Unclear
from yardbolt.core.talk.patterns import fill_in
from yardbolt.core.talk.replies import ReplyRow


@dataclass(frozen=True)
class Slip:
    """One message: its members, whose values may hold secrets."""

    members: tuple[tuple[str, Any], ...]


@dataclass(frozen=True)
class Channel(Unprompted):
    """`hello` is the member a login stands in."""

    services: Mapping[str, Literal["sealed", "plain"]]
    hello: str
    replies: tuple[ReplyRow, ...] = ()
    talk: Literal["slips"] = "slips"


@dataclass(frozen=True)
class AskHow(Unprompted):
    """The sheet that is asked for."""

    sheet: str

    def templates(self) -> Iterator[tuple[Keys, str]]:
        yield ("sheet",), self.sheet

    def asked_as(self) -> str:
        return f"sheet {self.sheet}"


@dataclass(frozen=True)
class OpHow(Unprompted):
    """The line that is written on a sheet, and what stands there."""

    line: str
    says: str = ""

    def templates(self) -> Iterator[tuple[Keys, str]]:
        yield from ((("line",), self.line), (("says",), self.says))

    def asked_as(self) -> str:
        return f"line {self.line}"

    def as_data(self) -> bool:
        return True


Saying = Generator[Slip, Any, Any]


def login(channel: Channel, account: str, secret: Ref, authenticated: bool, consents: Fill) -> Saying:
    """Name and password in the first slip."""
    got = yield Slip(((channel.hello, (account,)), ("word", (Slot(secret),))))
    outcome: Login = Silent(True, "") if isinstance(got, Lost) else Opened() if got.get("in") else Refused()
    return outcome


def ask(channel: Channel, fetch: Fetch, session: object) -> Asking:
    """One sheet."""
    got = yield Slip((("read", fill_in(fetch.how.sheet, fetch.fill)),))
    return Ended(sent=True) if isinstance(got, Lost) else Done(Replies(tree=got))


def message(how: OpHow, fill: Fill) -> Slip:
    """What is written."""
    return Slip((("line", fill_in(how.line, fill)), ("says", fill_in(how.says, fill))))


def tell(channel: Channel, order: Order, session: object) -> Telling:
    """One line of a sheet."""
    got = yield message(order.how, order.fill)
    if isinstance(got, Lost):
        return Ended(sent=True)
    return Done(Replies()) if got.get("ok") else No(str(got["why"])) if "why" in got else Unclear("no answer")


def log_out(channel: Channel) -> Saying:
    """The connection is ended."""
    yield from ()


TALK = Talk("slips", {"slips": "wire:Slips"}, Channel, AskHow, OpHow, message, login, ask, tell, log_out)
