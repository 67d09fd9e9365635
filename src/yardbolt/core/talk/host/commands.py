"""Talking in single commands, each with its own output and exit status (RFC 4254, section 6.5). One event: `Run` ->
`Ran`."""

from __future__ import annotations

import re
from collections.abc import Callable, Generator, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from ...secret import Ref, Slot, Text
from ..conversation import (
    ANSWER,
    Answer,
    Asking,
    Fetch,
    Fill,
    GivenAgain,
    Keys,
    NotThere,
    Order,
    Replies,
    Shelf,
    Talk,
    Telling,
    Unprompted,
)
from ..outcomes import Done, End, Ended, Login, Lost, No, Opened, Unclear
from ..patterns import fill_in
from ..replies import LONGEST_REASON, ReplyRow
from ..tree import Tree
from . import expiry
from .script import AS_ONESELF, AS_ROOT, BEGIN, whole

REFUSES = 9  # how a program of the library ends that says no
ALL_SECONDS = 300.0  # what one script of many sections may take: a slow host is none that hangs
SUDO_SECONDS = 25.0
LONGEST_START = 120.0  # a host may open a session only once something else of it has timed out
WHOSE = "password of "
_WHOSE = re.compile(rf"{WHOSE}([^\s;]{{1,64}});")
_MAY_NOT = re.compile(r"is not in the sudoers file|is not allowed to (run sudo|execute) ")


@dataclass(frozen=True)
class Channel(Unprompted):
    """How commands are run. `elevate` is how an account that is not root becomes it."""

    services: Mapping[str, Literal["sealed", "plain"]]
    elevate: Literal["", "sudo"] = ""
    replies: tuple[ReplyRow, ...] = ()
    talk: Literal["commands"] = "commands"

    def asks_inside(self) -> bool:
        """sudo may ask for it."""
        return bool(self.elevate)


@dataclass(frozen=True)
class AskHow(Unprompted):
    """What is run to ask, with which rights (`best`: root's where they are to be had), and whether its output is a
    tree, or what stands below a line `json` of it. `section` names a text of the library instead; `say` is then that
    text, and has no slots."""

    say: str = ""
    section: str = ""
    rights: Literal["", "root", "best"] = ""
    tree: Literal["", "json", "below"] = ""

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The one text with slots."""
        if not self.section:
            yield ("say",), self.say

    def asked_as(self) -> str:
        """The command, for the evidence."""
        return f"section {self.section}" if self.section else self.say

    def as_root(self) -> bool:
        """Where nobody else gets an answer."""
        return self.rights == "root"

    def from_library(self, library: Callable[[], Shelf]) -> tuple[AskHow, str]:
        """With the text, the rights and the decoder of its section."""
        if not self.section:
            return self, ""
        known = _found(("section",), self.section, library().sections, "a section of the library")
        return replace(self, say=known.text, rights=known.rights, tree=known.tree), known.decode


@dataclass(frozen=True)
class OpHow(Unprompted):
    """What is run to change something: a command, or a `program` of the library with what it is `given` (argument ->
    text with slots); a program always runs as root, and everything it is given goes over its input."""

    say: str = ""
    program: str = ""
    given: Mapping[str, str] = field(default_factory=dict)
    rights: Literal["", "root"] = ""

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The texts with slots."""
        if not self.program:
            yield ("say",), self.say
        for name, template in self.given.items():
            yield ("given", name), template

    def asked_as(self) -> str:
        """The command, unfilled."""
        return f"program {self.program}" if self.program else self.say

    def as_data(self) -> bool:
        """A program reads everything from its input."""
        return bool(self.program)

    def amiss(self) -> tuple[Keys, str] | None:
        """One of the two is needed, and not both."""
        if bool(self.say) == bool(self.program):
            return (), "give say or program, one of the two"
        return None

    def from_library(self, library: Callable[[], Shelf]) -> tuple[OpHow, str]:
        """With the text of its program, which is given all it takes."""
        if not self.program:
            return self, ""
        known = _found(("program",), self.program, library().programs, "a program of the library")
        for argument in self.given:
            _found(("given", argument), argument, dict.fromkeys(known.takes), f"what {self.program} takes")
        if missing := [argument for argument in known.takes if argument not in self.given]:
            raise NotThere(("given",), f"{self.program} also takes {', '.join(missing)}")
        return replace(self, say=known.text), ""


def _found(keys: Keys, name: str, known: Mapping[str, Any], what: str) -> Any:
    if name not in known:
        raise NotThere(keys, f"{name} is not {what}; they are {', '.join(known)}")
    return known[name]


@dataclass(frozen=True)
class Run:
    """Run this, with `input` given to it."""

    command: Text
    seconds: float = ANSWER
    input: Text = ()


@dataclass(frozen=True)
class Ran:
    """What it wrote, its exit status, and what it said on standard error."""

    text: str
    status: int
    errors: str = ""


@dataclass(frozen=True)
class AskedBySudo(Run, GivenAgain):
    """Give sudo the password. After a wrong one it asks again, and takes the end of its input for another wrong one."""

    service = "sudo"
    costs = 2

    def withheld(self, why: str) -> Ran:
        """As if it had been asked and said so."""
        return Ran("", 1, why)

    def taken(self, answer: Any) -> bool:
        """It did what it was asked to, or said that this account may not, which it does after a good one (sudo(8))."""
        return isinstance(answer, Ran) and (answer.status == 0 or bool(_MAY_NOT.search(answer.errors)))

    def whose(self, answer: Any) -> str:
        """Whose password it wanted, as it says itself (sudo(8), -p): the account's own, unless it is set otherwise."""
        found = _WHOSE.search(answer.errors) if isinstance(answer, Ran) else None
        return found[1] if found else ""


@dataclass(frozen=True)
class Section:
    """One section of a framed script; `tree` says whether its output is to be parsed as JSON, or what stands `below`
    a line that says so."""

    text: Text
    tree: str = ""


@dataclass(frozen=True)
class RunAll:
    """Run these sections as one framed script over the input of `command`, after `before`."""

    command: str
    sections: tuple[Section, ...]
    before: Text = ()
    given: Mapping[str, str] = field(default_factory=dict)
    seconds: float = ALL_SECONDS


@dataclass(frozen=True)
class Part:
    """What one section wrote, its exit status (its reason, where it failed), and its output as a tree."""

    text: str
    status: int
    tree: Tree = None


@dataclass(frozen=True)
class RanAll:
    """The sections that came whole, by their place, and what the whole said on standard error."""

    parts: Mapping[int, Part]
    errors: str = ""


@dataclass(frozen=True)
class Session:
    """With which rights commands run, root or those of the account, and the password sudo may ask for."""

    rights: Literal["root", "account"]
    secret: Ref


def login(
    channel: Channel, account: str, secret: Ref, authenticated: bool, consents: Fill
) -> Generator[Any, Any, Login]:
    """The wire has logged in; what is left is to learn with which rights, unless a new password is wanted first."""
    ran = yield Run(("id -u",), LONGEST_START)
    if isinstance(ran, Ran) and ran.status != 0 and expiry.wanted(said := f"{ran.errors}\n{ran.text}".strip()):
        return (yield from expiry.changed(said, secret, consents))
    # a shell may greet before it runs a command
    told = ran.text.split("\n") if isinstance(ran, Ran) and ran.status == 0 else []
    told = [line.strip() for line in told if line.strip()]
    session = Session("root" if told[-1:] == ["0"] else "account", secret)
    return Opened(rights=session.rights, session=session)


def message(how: AskHow | OpHow, fill: Fill) -> Text:
    """The command. Raises ValueError where a slot stays open."""
    if isinstance(how, AskHow) and how.section:
        return (how.say,)
    if isinstance(how, OpHow) and how.program:
        given = {name: fill_in(template, fill) for name, template in how.given.items()}
        return whole(how.say, given)
    return fill_in(how.say, fill)


def _root(channel: Channel, session: Session) -> Generator[Run, Ran | Lost, tuple[Text, str] | None]:
    """What has to be sent before a script that runs as root, and why it cannot, where it cannot; None where the
    connection ended before. The script itself goes only after sudo has said yes: after a no it would take the next
    lines for further passwords."""
    if not channel.elevate:
        return (), "needs root"
    free = yield Run(("env LC_ALL=C sudo -n true",), SUDO_SECONDS)
    if isinstance(free, Ran) and free.status == 0:
        return (BEGIN, "\n"), ""
    if isinstance(free, Lost):
        return None
    if free.status == 127:
        return (), "needs root, and there is no sudo"
    asking = f"env LC_ALL=C sudo -S -p '{WHOSE}%p;' -- true"
    ran = yield AskedBySudo((asking,), SUDO_SECONDS, (Slot(session.secret), "\n"))
    if isinstance(ran, Ran) and ran.status == 0:
        return (Slot(session.secret), "\n", BEGIN, "\n"), ""
    said = _WHOSE.sub("", ran.errors).strip().split("\n")[0] if isinstance(ran, Ran) else "no answer"
    whose = _WHOSE.search(ran.errors) if isinstance(ran, Ran) else None
    if said.startswith("Sorry, try again"):
        said = f"wrong password; it asked for the password of {whose[1]}" if whose else "wrong password"
    return (), f"needs root, and sudo says: {said[:LONGEST_REASON]}"


def ask_all(channel: Channel, fetches: tuple[Fetch, ...], session: Session) -> Generator[Any, Any, tuple[Answer, ...]]:
    """Ask many things in one script, as root where that is to be had."""
    command, before, why = AS_ONESELF, Text(), ""
    if session.rights != "root" and any(fetch.how.rights for fetch in fetches):
        rooted = yield from _root(channel, session)
        if rooted is None:
            return (Ended(sent=False),) * len(fetches)
        before, why = rooted
        command = AS_ONESELF if why else AS_ROOT
    asked = [fetch for fetch in fetches if not (why and fetch.how.rights == "root")]
    given = {name: value for fetch in fetches for name, value in fetch.given.items()}
    sections = tuple(Section(message(fetch.how, fetch.fill), fetch.how.tree) for fetch in asked)
    ran = (yield RunAll(command, sections, before, given)) if asked else RanAll({})
    if isinstance(ran, Lost):
        ended = Ended(sent=True) if ran.end is End.CLOSED else Unclear(ran.why or "no answer in time")
        return (ended,) * len(fetches)
    answers = iter([_answer(ran, place, section) for place, section in enumerate(sections)])
    return tuple(No(why, sent=False) if fetch not in asked else next(answers) for fetch in fetches)


def _answer(ran: RanAll, place: int, section: Section) -> Answer:
    part = ran.parts.get(place)
    if part is None:
        said = ran.errors.strip().split("\n")[0][:LONGEST_REASON]
        return No(f"its answer did not come whole{f' ({said})' if said else ''}")
    if part.status in (124, 143):
        return No("it took too long")
    if part.status != 0:
        return No(part.text.strip().split("\n")[0][:LONGEST_REASON] or f"exit status {part.status}")
    if section.tree == "json" and part.tree is None:
        return No("the answer is no json")
    return Done(Replies(part.text, part.tree))


def ask(channel: Channel, fetch: Fetch, session: Session) -> Asking:
    """Ask one thing."""
    return (yield from ask_all(channel, (fetch,), session))[0]


def tell(channel: Channel, order: Order, session: Session) -> Telling:
    """Run one command that changes something. As root by sudo it goes over input, never as an argument."""
    run = Run(message(order.how, order.fill), order.seconds)
    by_input = bool(order.how.program)
    if by_input:
        run = Run((AS_ONESELF,), order.seconds, run.command)
    if (by_input or order.how.rights == "root") and session.rights != "root":
        rooted = yield from _root(channel, session)
        if rooted is None:
            return Ended(sent=False)
        before, why = rooted
        if why:
            return No(why, sent=False)
        script = run.input if by_input else ("{ ", *run.command, "\n} </dev/null\n")
        run = Run((AS_ROOT,), order.seconds, (*before, *script))
    ran = yield run
    if isinstance(ran, Lost):
        return (
            Ended(sent=True) if ran.end is End.CLOSED else Unclear(ran.why or f"no answer within {order.seconds:.0f} s")
        )
    if ran.status != 0:
        # a program of ours ends with its reason; what sudo or a shell has to say of itself comes before
        said = ran.errors.strip().split("\n")[-1 if by_input and ran.status == REFUSES else 0]
        return No(said[:LONGEST_REASON] or f"exit status {ran.status}")
    return Done(Replies(ran.text))


def log_out(channel: Channel) -> Generator[Run, Any, None]:
    """Nothing to say; the connection is ended."""
    yield from ()


TALK = Talk(
    "commands",
    {"ssh": "ssh:SshCommands"},
    Channel,
    AskHow,
    OpHow,
    message,
    login,
    ask,
    tell,
    log_out,
    ask_all,
    by_role=False,
)
