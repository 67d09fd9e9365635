"""An open session with a unit: asking, telling and reading through it, one conversation at a time."""

from __future__ import annotations

import asyncio
import hashlib
from collections.abc import Generator, Iterable
from datetime import datetime
from typing import TYPE_CHECKING, Any, TypeVar

from yardbolt.core.doors import Way
from yardbolt.core.errors import Trouble, UnitError
from yardbolt.core.family.model import Ask
from yardbolt.core.family.reading import Merging, Reading, asks_for, extract
from yardbolt.core.formats import DECODERS
from yardbolt.core.plane.evidence import Blind, Evidence
from yardbolt.core.plane.path import Path, parse
from yardbolt.core.ports import Wire
from yardbolt.core.secret import Slot, Text, masked
from yardbolt.core.talk.conversation import Channel, Fetch, Order, Replies, Talk
from yardbolt.core.talk.outcomes import Done, Ended, No, Opened, Unclear
from yardbolt.core.talk.patterns import fill_in, slot_key, slots

if TYPE_CHECKING:
    from .unit import UnitInWork

T = TypeVar("T")
Answer = Done[Replies] | No | Unclear | Ended
GRACE = 2.0  # seconds: a conversation's own time comes first, and tells more
EXCERPT = 400
CONFIG = ("services", "ssh", "config")


async def drive(wire: Wire, conversation: Generator[Any, Any, T]) -> T:
    """Carry a conversation of the core over a wire."""
    try:
        event = next(conversation)
        while True:
            event = conversation.send(await wire.exchange(event))
    except StopIteration as stop:
        return stop.value  # type: ignore[no-any-return]


class Session:
    """An open session, as one account."""

    def __init__(
        self, unit: UnitInWork, wire: Wire, channel_name: str, channel: Channel, talk: Talk, way: Way, opened: Opened
    ) -> None:
        self.unit, self.wire, self.channel_name, self.channel, self.talk, self.way = (
            unit, wire, channel_name, channel, talk, way,
        )  # fmt: skip
        self.opened = opened
        self.alive = True

    async def close(self) -> None:
        """Log out where the family knows how; then end the connection."""
        if self.alive:
            self.alive = False
            await drive(self.wire, self.talk.leave(self.channel))
        await self.wire.close()

    def _after(self, answer: Done[Replies] | No | Unclear | Ended) -> Done[Replies] | No | Unclear | Ended:
        """A session that answered unclearly is finished: nothing more is typed into it."""
        if isinstance(answer, Unclear | Ended) or (isinstance(answer, No) and not answer.alive):
            self.alive = False
        return answer

    async def tell(self, order: Order) -> Done[Replies] | No | Unclear | Ended:
        """Send one order. One that finds the session gone has not been sent. Raises SafeError."""
        # typed at a prompt nobody knows, an order might answer some other question
        if not self.alive:
            return Ended(sent=False)
        # never on its way before it rests in the safe and in its copy, whatever happened to them meanwhile
        rests = tuple(
            part.ref for text in order.fill.values() for part in text if isinstance(part, Slot) and part.ref.safe
        )
        if rests and self.unit.safe is not None:
            await self.unit.safe.assure(rests)
        return await self._within(order.seconds, self.talk.tell(self.channel, order, self.opened.session))

    async def ask(self, fetch: Fetch) -> Done[Replies] | No | Unclear | Ended:
        """Ask one thing."""
        if not self.alive:
            return Ended(sent=False)
        return await self._within(fetch.seconds, self.talk.ask_(self.channel, fetch, self.opened.session))

    async def _within(self, seconds: float, conversation: Generator[Any, Any, Answer]) -> Answer:
        """A conversation that ends within its time whatever the unit does: pages without end, a drip of characters."""
        self.unit.in_time()
        try:
            async with asyncio.timeout(seconds + GRACE):
                return self._after(await drive(self.wire, conversation))
        except TimeoutError:
            return self._after(Unclear(f"no end of the answer within {seconds:.0f} s"))

    # -- reading --

    def fetch(self, ask: Ask, key: str, so_far: Merging) -> Fetch:
        """An ask with its places filled: {key} is the item asked about, {config} the settings file read before.

        Raises ValueError where a value is not known or may not be put into a command.
        """
        fill: dict[str, Text] = {}
        for _, template in ask.how.templates():
            for name, notation in slots(template):
                fill[slot_key(name, notation)] = (self._value(ask, name, key, so_far),)
        return Fetch(ask.how, fill)

    def _value(self, ask: Ask, name: str, key: str, so_far: Merging) -> str:
        family = self.unit.family
        value = (
            so_far.so_far(CONFIG) if name == "config" else family.their_key(ask.each, key) if name == "key" else None
        )
        if not isinstance(value, str) or not value:
            raise ValueError("which file the running server takes its settings from is not known")
        words = value.strip("/").split("/") if name == "config" and value.startswith("/") else [value]
        if not all(family.is_token(word) for word in words):
            raise ValueError(f"{value[:40]!r} may not be put into a command")
        return value

    async def read(self, paths: Iterable[Path] | None = None) -> Reading:
        """Everything the family can read (or the asks that feed these paths), with evidence; what failed is a blind
        area.

        Raises UnitError when the session ended or its answers are not those of this family.
        """
        family, merging = self.unit.family, Merging(self.unit.family)
        evidence: list[Evidence] = []
        blind: list[Blind] = []
        for ask in family.asks if paths is None else asks_for(family, frozenset(paths)):
            # what only another channel can read is read at the proof of that channel
            if ask.by != self.channel_name:
                blind.append(Blind(ask.name, f"is read by another channel ({ask.by})"))
                continue
            for key in merging.keys(parse(ask.each)) if ask.each else ("",):
                problem = await self._read_one(ask, key, merging, evidence)
                if problem:
                    blind.append(Blind(f"{ask.name} {key}".strip(), problem))
        level = merging.so_far(("identity", "software"))
        if not family.fits(level):
            low, below = family.software
            span = f"{low or 'any'} to below {below or 'any'}"
            problem = (
                f"level {level} is outside what {family.name} was written for ({span}): check every finding by hand"
            )
            blind.append(Blind("software", problem))
        got = merging.reading(tuple(evidence), tuple(blind))
        if paths is None:
            self._understood(got)
        return got

    async def _read_one(self, ask: Ask, key: str, merging: Merging, evidence: list[Evidence]) -> str:
        """One ask; the reason where it could not be read."""
        now = self.unit.clock.now()
        try:
            fetch = self.fetch(ask, key, merging)
        except ValueError as e:
            return str(e)
        match await self.ask(fetch):
            case Done(replies):
                merging.add(extract(self.unit.family, ask, replies, key, datetime.fromisoformat(now)))
                evidence.append(self._evidence(ask, fetch, replies, now, len(evidence)))
                return ""
            case No(said):
                return f"{said} (as {self.way.account})"
            case Unclear(why):
                raise UnitError(Trouble.SILENT, why)
            case Ended():
                asked = ask.how.asked_as()
                raise UnitError(Trouble.CLOSED, f"the connection ended at '{asked}'; try again")

    def _understood(self, reading: Reading) -> None:
        listed = self.way.account in reading.plane.accounts
        if reading.leftovers and not listed and reading.plane.identity.serial is None:
            many = f"{len(reading.leftovers)} line{'s' if len(reading.leftovers) > 1 else ''}"
            problem = (
                f"logged in, but its answers are not understood ({many}): is 'family' right, and is the unit well?"
            )
            raise UnitError(Trouble.GARBLED, problem)

    def _evidence(self, ask: Ask, fetch: Fetch, replies: Replies, now: str, count: int) -> Evidence:
        whole = replies.text if replies.tree is None else str(replies.tree)
        private = ask.decode in DECODERS and DECODERS[ask.decode].private
        excerpt = "(holds secrets; not kept)" if private else self.unit.scrub(replies.text)[:EXCERPT]
        asked = masked(fill_in(ask.how.asked_as(), fetch.fill))
        return Evidence(
            f"{ask.name}.{count}", asked, self.way.service, self.way.account,
            self.opened.rights or "as the account", now, hashlib.sha256(whole.encode()).hexdigest(), excerpt,
        )  # fmt: skip
