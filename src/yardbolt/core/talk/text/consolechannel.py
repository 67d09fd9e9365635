"""The keys of the console in a family file: its channel, what is typed to ask, and what is typed to change
something."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from ...secret import Text
from ..conversation import OURS, Keys, NotThere, Unprompted
from ..patterns import PatternError, row, sign, slots
from ..replies import ReplyRow

ROW_SLOTS = ("value", "address", "mask", "prefix", "port")  # what stands in the line of one thing of a set


@dataclass(frozen=True)
class Gate:
    """A question that stands between a login and the console. It is never passed by itself."""

    gate: Literal["terms", "change", "confirm"]
    sign: str
    send: str


@dataclass(frozen=True)
class Prompt:
    """A question a command is known to ask, and the answer."""

    sign: str
    send: str


@dataclass(frozen=True)
class Block:
    """A place of the console that one goes into, line by line, and out of again. `prompt` is what it shows inside,
    where that is another than outside."""

    into: tuple[str, ...]
    out: str
    prompt: str = ""


@dataclass(frozen=True)
class Channel(Unprompted):
    """How one talks with the unit line by line. Signs are patterns, for they may hold a name that we change.

    `passwords` are the questions by which it takes a password, whatever the command. Of every reply: `frame` is the
    sign at both ends of a line, a line of nothing but `rulers` is none, and neither is one that fits a row of
    `ignore`."""

    services: Mapping[str, Literal["sealed", "plain"]]
    prompt: str
    account: str = ""
    secret: str = ""
    more: str = ""
    turn: str = " "
    log_out: str = ""
    gates: tuple[Gate, ...] = ()
    passwords: tuple[Prompt, ...] = ()
    blocks: Mapping[str, Block] = field(default_factory=dict)
    frame: str = ""
    rulers: str = ""
    ignore: tuple[str, ...] = ()
    replies: tuple[ReplyRow, ...] = ()
    talk: Literal["console"] = "console"

    def signs(self) -> Iterator[tuple[Keys, str]]:
        """Every sign it waits for."""
        yield from (((key,), value) for key in ("prompt", "account", "secret", "more") if (value := getattr(self, key)))
        yield from ((("gates", place, "sign"), gate.sign) for place, gate in enumerate(self.gates))
        yield from ((("passwords", place, "sign"), one.sign) for place, one in enumerate(self.passwords))
        yield from ((("blocks", name, "prompt"), one.prompt) for name, one in self.blocks.items() if one.prompt)

    def amiss(self) -> tuple[Keys, str] | None:
        """A line to be ignored that is no row, or a block nobody gets into or out of."""
        for place, written in enumerate(self.ignore):
            try:
                row(written)
            except PatternError as e:
                return ("ignore", place), str(e)
        odd = next((name for name, one in self.blocks.items() if not one.into or not one.out), "")
        return (("blocks", odd), "into and out are both wanted") if odd else None

    def prompts(self) -> tuple[str, ...]:
        """What it may show when it waits for a command."""
        return (self.prompt, *(one.prompt for one in self.blocks.values() if one.prompt))

    def bare(self, text: str) -> str:
        """A reply without its frame, its rulers and the lines that are none."""
        if not (self.frame or self.rulers or self.ignore or self.more):
            return text
        return "\n".join(line for line in map(self._unframed, text.split("\n")) if not self._is_none(line))

    def _unframed(self, line: str) -> str:
        inside = line.strip()
        if not self.frame or not inside.startswith(self.frame):
            return line
        return inside.removeprefix(self.frame).removesuffix(self.frame).strip()

    def _is_none(self, line: str) -> bool:
        signs = set(line) - {" ", "\t"}
        ruler = bool(signs) and signs <= {*self.rulers, *self.frame}
        # a unit may turn the page by itself, or by the end of our own line
        turned = bool(self.more) and sign(self.more).regex.match(line)
        return ruler or bool(turned) or any(row(one).regex.match(line) for one in self.ignore)

    def gate_answer(self, gate: str) -> Text | None:
        """What accepting takes; None where a value of ours is asked for."""
        found = next((g.send for g in self.gates if g.gate == gate), None)
        return None if found is None or slots(found) else (found,)

    def gates_named(self) -> tuple[str, ...]:
        """The questions that may come at the login."""
        return tuple(g.gate for g in self.gates)

    def asks_inside(self) -> bool:
        """A console asks once."""
        return False


@dataclass(frozen=True)
class AskHow(Unprompted):
    """What is typed to ask; `block` is where."""

    say: str
    block: str = ""
    place: Block | None = field(default=None, metadata=OURS)

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The texts with slots."""
        yield ("say",), self.say
        if self.place is not None:
            yield from ((("block",), text) for text in (*self.place.into, self.place.out))

    def asked_as(self) -> str:
        """What is asked, for the evidence."""
        return self.say

    def in_channel(self, channel: Channel, secret: bool) -> Any:
        """The same, in its block of the channel."""
        if not self.block:
            return self
        if self.block not in channel.blocks:
            raise NotThere(("block",), f"{self.block} is not a block; they are {', '.join(channel.blocks) or 'none'}")
        return replace(self, place=channel.blocks[self.block])


@dataclass(frozen=True)
class OpHow(AskHow):
    """What is typed to change something, and the answers to what it asks in return. A set whose things are added and
    taken away by a line each is said by `adds` and `takes`."""

    say: str = ""
    prompts: tuple[Prompt, ...] = ()
    adds: str = ""
    takes: str = ""
    passwords: tuple[Prompt, ...] = field(default=(), metadata=OURS)

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The command and the answers, but for the lines of a set."""
        if self.say:
            yield ("say",), self.say
        if self.place is not None:
            yield from ((("block",), text) for text in (*self.place.into, self.place.out))
        yield from ((("prompts", place, "send"), prompt.send) for place, prompt in enumerate(self.prompts))
        yield from ((("passwords", place, "send"), prompt.send) for place, prompt in enumerate(self.passwords))

    def signs(self) -> Iterator[tuple[Keys, str]]:
        """The questions."""
        yield from ((("prompts", place, "sign"), prompt.sign) for place, prompt in enumerate(self.prompts))

    def amiss(self) -> tuple[Keys, str] | None:
        """One of the two lines without the other, or beside a command for the whole; a slot that no thing fills."""
        if bool(self.adds) != bool(self.takes):
            return ("adds" if self.takes else "takes",), "a set by lines needs both adds and takes"
        if bool(self.say) == bool(self.adds):
            return ("say",), "give say, or adds and takes"
        for key in ("adds", "takes"):
            odd = [name for name, _ in slots(getattr(self, key)) if name not in ("key", *ROW_SLOTS)]
            if odd:
                return (key,), f"{{{odd[0]}}} is none of {', '.join(f'{{{name}}}' for name in ROW_SLOTS)}"
        return None

    def lines(self) -> tuple[str, str] | None:
        """How one thing of a set is added, and how it is taken away."""
        return (self.adds, self.takes) if self.adds else None

    def asked_as(self) -> str:
        """The command, unfilled."""
        return self.say or self.adds

    def in_channel(self, channel: Channel, secret: bool) -> Any:
        """The same, with the questions by which the unit takes any password."""
        return replace(super().in_channel(channel, secret), passwords=channel.passwords if secret else ())
