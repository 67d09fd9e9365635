"""Conversations with a console, as generators: they yield what to send and what to wait for, and are sent what was heard (D19).

One event: `Turn` -> `Heard`. A sign counts only as the whole last line and only after silence. A gate (licence terms, a forced
password) is an outcome and is never passed by itself. Nothing here reads a clock or a socket.
"""

from __future__ import annotations

import re
from collections.abc import Generator, Mapping
from dataclasses import dataclass
from enum import Enum

from .errors import Trouble, UnitError
from .family import Console, Order
from .secret import Ref, Slot, Text
from .signs import sign

MOST = 1024 * 1024
LONGEST_LINE = 16 * 1024
SETTLE = 0.05
ANSWER = 30.0
GREET = 12.0
_ANSI = re.compile(r"\x1b(?:\[[0-?]*[ -/]*[@-~]|\][^\x07\x1b]{0,256}(?:\x07|\x1b\\)|[@-Z\\-_])")
_CONTROL = {c: None for c in (*range(32), *range(127, 160)) if c not in (9, 10)} | {0x2028: None, 0x2029: None, 0x202E: None, 0x202D: None}

CLOSED, SILENT = "(closed)", "(silent)"


@dataclass(frozen=True)
class Turn:
    """Send this (a line, unless empty), then wait for one of these signs: silence of `settle` seconds, `seconds` in all."""

    send: Text | None
    until: tuple[str, ...]
    settle: float = SETTLE
    seconds: float = ANSWER
    line: bool = True


@dataclass(frozen=True)
class Heard:
    """Which sign ended it (or CLOSED, SILENT), and the clean text before that sign."""

    sign: str
    text: str


def clean(text: str) -> str:
    """Text of a unit without terminal sequences and control characters; tabs and line ends stay."""
    return _ANSI.sub("", text).replace("\r\n", "\n").replace("\r", "\n").translate(_CONTROL)


class Listener:
    """Gathers what a unit says during one turn, and tells when a sign stands alone on the last line."""

    def __init__(self, turn: Turn) -> None:
        self.turn, self.raw = turn, ""
        self.signs = tuple((s, sign(s).form) for s in turn.until)

    def feed(self, chunk: str, quiet: bool) -> Heard | None:
        """Take more text; with `quiet` (nothing came for the settling time) decide. Raises UnitError beyond the limits."""
        self.raw += chunk
        if len(self.raw) > MOST:
            raise UnitError(Trouble.TOO_MUCH, f"the unit sent more than {MOST // 1024} KiB in one answer")
        if len(chunk) > 64 and "\n" not in self.raw[-LONGEST_LINE:] and len(self.raw) > LONGEST_LINE:
            raise UnitError(Trouble.TOO_MUCH, f"the unit sent a line longer than {LONGEST_LINE // 1024} KiB")
        if not quiet:
            return None
        text = clean(self.raw)
        head, _, last = text.rpartition("\n")
        for name, form in self.signs:
            if form.match(last):
                return Heard(name, head)
        return None

    def ended(self, why: str) -> Heard:
        """The turn ended without a sign."""
        return Heard(why, clean(self.raw))


class Entry(Enum):
    """How a login ended."""

    OPENED = "opened"
    REFUSED = "refused"
    LOCKED = "locked"
    PROMPTED = "prompted"
    CLOSED = "closed"
    SILENT = "silent"
    UNTRIED = "untried"  # left alone, to spare the account


@dataclass(frozen=True)
class LoginEnd:
    """The end of a login; `gate` names the question that stands in the way, `text` is what the unit said."""

    entry: Entry
    gate: str = ""
    text: str = ""


@dataclass(frozen=True)
class Reply:
    """What came back: the text without echo, pages joined; `trouble` is the unit's own reason for a no."""

    text: str
    trouble: str = ""
    closed: bool = False


def login(console: Console, account: str, secret: Ref, typed: bool, answers: Mapping[str, Text] | None = None) -> Generator[Turn, Heard, LoginEnd]:
    """Log in. `typed`: name and secret are asked for line by line (telnet); else the channel has done that (SSH).

    `answers` maps a gate to what is sent there; a gate without an answer ends the login as `prompted`.
    """
    gates = {g.sign: g for g in console.gates}
    signs = tuple(s for s in (console.prompt, console.account, console.secret, console.more, *gates) if s)
    said, passed = "", set[str]()
    heard = yield Turn(None, signs, seconds=GREET)
    name_sent = secret_sent = not typed
    for _ in range(40):
        said = f"{said}\n{heard.text}"[-4000:]
        if heard.sign == console.prompt:
            return LoginEnd(Entry.OPENED, text=said)
        if heard.sign in (CLOSED, SILENT):
            entry = Entry.LOCKED if console.locked and console.locked in said else Entry.CLOSED if heard.sign == CLOSED else Entry.SILENT
            return LoginEnd(Entry.REFUSED if secret_sent and typed and console.refused in said and entry is Entry.CLOSED else entry, text=said)
        if heard.sign == console.account:
            if secret_sent or name_sent:
                return LoginEnd(Entry.LOCKED if console.locked and console.locked in heard.text else Entry.REFUSED, text=heard.text)
            name_sent = True
            heard = yield Turn((account,), signs, seconds=GREET)
        elif heard.sign == console.secret:
            if secret_sent:
                return LoginEnd(Entry.REFUSED, text=heard.text)
            secret_sent = True
            heard = yield Turn((Slot(secret),), signs, seconds=GREET)
        elif heard.sign == console.more:
            heard = yield Turn((console.turn,), signs, line=False)
        else:
            gate = gates[heard.sign]
            answer = (answers or {}).get(gate.name)
            if answer is None or gate.name in passed:
                return LoginEnd(Entry.PROMPTED, gate.name, heard.text if gate.name in passed else said)
            passed.add(gate.name)
            heard = yield Turn(answer, signs)
    return LoginEnd(Entry.SILENT, text="the unit keeps asking")


def _unechoed(text: str, sent: str) -> tuple[str, bool]:
    """The text after the echo of what was sent, and whether that echo was there."""
    lines = text.split("\n")
    for n, line in enumerate(lines):
        if sent and line.rstrip().endswith(sent.rstrip()):
            return "\n".join(lines[n + 1 :]), True
    return text, not sent


def converse(console: Console, order: Order, seconds: float = ANSWER) -> Generator[Turn, Heard, Reply]:
    """Send one command, answer the questions it is known to ask, turn its pages, and return the reply.

    A question asked twice is a no. If the echo of the command did not come back, an empty line settles whether the prompt heard
    was the real one.
    """
    prompts = dict(order.prompts)
    signs = (console.prompt, *prompts, *((console.more,) if console.more else ()))
    sent = order.say[0] if len(order.say) == 1 and isinstance(order.say[0], str) else ""
    text, asked, doubted = "", set[str](), False
    heard = yield Turn(order.say, signs, seconds=seconds)
    while True:
        text = f"{text}\n{heard.text}" if text else heard.text
        if len(text) > MOST:
            raise UnitError(Trouble.TOO_MUCH, f"the unit sent more than {MOST // 1024} KiB in one answer")
        if heard.sign == CLOSED:
            return Reply(text, closed=True)
        if heard.sign == SILENT:
            raise UnitError(Trouble.SILENT, f"no answer within {seconds:.0f} s")
        if heard.sign == console.prompt:
            body, echoed = _unechoed(text, sent)
            if echoed or doubted:
                return Reply(body, _trouble(console, body))
            doubted = True
            heard = yield Turn((), signs, settle=SETTLE * 4, seconds=seconds)
        elif heard.sign == console.more:
            heard = yield Turn((console.turn,), signs, line=False, seconds=seconds)
        elif heard.sign in asked:
            return Reply(text, text.strip().rsplit("\n", 1)[-1][:200] or "asked the same question again", closed=True)
        else:
            asked.add(heard.sign)
            heard = yield Turn(prompts[heard.sign], signs, seconds=seconds)


def _trouble(console: Console, text: str) -> str:
    if not console.trouble:
        return ""
    return next((line.strip()[:200] for line in text.split("\n") if line.startswith(console.trouble)), "")
