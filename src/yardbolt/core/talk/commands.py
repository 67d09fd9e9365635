"""Talking in single commands, each with its own output and exit status (RFC 4254, section 6.5). One event: `Run` ->
`Ran`."""

from __future__ import annotations

import shlex
from collections.abc import Generator, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from ..secret import Ref, Text
from .conversation import ANSWER, Asking, Fetch, Fill, Keys, Order, Replies, Talk, Telling, Unprompted
from .outcomes import Done, End, Ended, Login, Lost, No, Opened, Unclear
from .patterns import fill_in
from .replies import LONGEST_REASON, ReplyRow
from .tree import Tree


@dataclass(frozen=True)
class Channel(Unprompted):
    """How commands are run. `elevate` words a command for an account that is not root; `{command}` is quoted for a
    shell."""

    services: Mapping[str, Literal["sealed", "plain"]]
    elevate: str = ""
    replies: tuple[ReplyRow, ...] = ()
    talk: Literal["commands"] = "commands"


@dataclass(frozen=True)
class AskHow(Unprompted):
    """What is run to ask, with which rights, and whether its output is a tree."""

    say: str
    rights: Literal["", "root"] = ""
    tree: Literal["", "json"] = ""

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The one text with slots."""
        yield ("say",), self.say

    def asked_as(self) -> str:
        """The command, for the evidence."""
        return self.say


@dataclass(frozen=True)
class OpHow(Unprompted):
    """What is run to change something."""

    say: str
    rights: Literal["", "root"] = ""

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The one text with slots."""
        yield ("say",), self.say

    def asked_as(self) -> str:
        """The command, unfilled."""
        return self.say


@dataclass(frozen=True)
class Run:
    """Run this; `tree` says what the output is to be parsed as, empty for text."""

    command: Text
    seconds: float = ANSWER
    tree: str = ""


@dataclass(frozen=True)
class Ran:
    """What it wrote, its exit status, what it said on standard error, and its output as a tree where that was asked
    for."""

    text: str
    status: int
    errors: str = ""
    tree: Tree = None


@dataclass(frozen=True)
class Session:
    """With which rights commands run: root, or those of the account."""

    rights: Literal["root", "account"]


def login(
    channel: Channel, account: str, secret: Ref, authenticated: bool, consents: Fill
) -> Generator[Run, Ran | Lost, Login]:
    """The wire has logged in; what is left is to learn with which rights."""
    ran = yield Run(("id -u",))
    session = Session("root" if isinstance(ran, Ran) and ran.text.strip() == "0" else "account")
    return Opened(rights=session.rights, session=session)


def message(how: AskHow | OpHow, fill: Fill) -> Text:
    """The command. Raises ValueError where a slot stays open."""
    return fill_in(how.say, fill)


def _run(channel: Channel, step: Fetch | Order, session: Session) -> Asking:
    command = message(step.how, step.fill)
    if step.how.rights == "root" and session.rights != "root":
        plain = "".join(part for part in command if isinstance(part, str))
        # a secret inside a quoted command would stand in a process list
        if not channel.elevate or len(plain) < 1 or any(not isinstance(part, str) for part in command):
            return No("needs root", sent=False)
        command = (channel.elevate.replace("{command}", shlex.quote(plain)),)
    ran = yield Run(command, step.seconds, getattr(step.how, "tree", ""))
    if isinstance(ran, Lost):
        return (
            Ended(sent=True) if ran.end is End.CLOSED else Unclear(ran.why or f"no answer within {step.seconds:.0f} s")
        )
    if ran.status != 0:
        return No(ran.errors.strip().split("\n")[0][:LONGEST_REASON] or f"exit status {ran.status}")
    if step.how.__class__ is AskHow and step.how.tree and ran.tree is None:
        return No(f"the answer is no {step.how.tree}")
    return Done(Replies(ran.text, ran.tree))


def ask(channel: Channel, fetch: Fetch, session: Session) -> Asking:
    """Run one command that asks."""
    return (yield from _run(channel, fetch, session))


def tell(channel: Channel, order: Order, session: Session) -> Telling:
    """Run one command that changes something."""
    return (yield from _run(channel, order, session))


def leave(channel: Channel) -> Generator[Run, Any, None]:
    """Nothing to say; the connection is ended."""
    yield from ()


TALK = Talk("commands", Channel, AskHow, OpHow, message, login, ask, tell, leave)
