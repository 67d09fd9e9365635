"""An open session with a unit: asking, sending orders and reading through it, one conversation at a time."""

from __future__ import annotations

import asyncio
import hashlib
from collections.abc import Awaitable, Callable, Generator, Iterable
from dataclasses import replace
from datetime import datetime
from typing import Any, TypeVar

from yardbolt.core.credentials import BY_KEY
from yardbolt.core.doors import Way
from yardbolt.core.errors import Trouble, UnitError
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.model import LIVE, STAGED, Ask
from yardbolt.core.family.parts import Reading
from yardbolt.core.family.reading import Merging, asks_for
from yardbolt.core.formats.decode import DECODERS
from yardbolt.core.plane.edit import exists, get, make, put
from yardbolt.core.plane.evidence import Blind, Evidence
from yardbolt.core.plane.path import Path, parse
from yardbolt.core.ports import Wire
from yardbolt.core.run.events import Tried, Trying
from yardbolt.core.run.history import again_as
from yardbolt.core.secret import Slot, Text, masked
from yardbolt.core.talk.conversation import Answer, Fetch, GivenAgain, Order, Replies
from yardbolt.core.talk.outcomes import Done, Ended, Lost, No, Opened, Unclear
from yardbolt.core.talk.patterns import fill_in, slot_key, slots

from .budget import Budget
from .facts import Facts
from .held import Held
from .recording import Record

T = TypeVar("T")
WAITING, NAMES = ("stores", "waiting"), ("stores", "names")
GRACE = 2.0  # seconds: a conversation's own time comes first, and tells more
EXCERPT = 400
MOST_BROKEN = 8  # asks of one reading that may come to nothing


async def drive(wire: Wire, conversation: Generator[Any, Any, T]) -> T:
    """Carry a conversation of the core over a wire."""
    try:
        event = next(conversation)
        while True:
            event = conversation.send(await wire.exchange(event))
    except StopIteration as stop:
        return stop.value  # type: ignore[no-any-return]


class Session:
    """An open session of one account. `again` logs in once more by the same way, to replace a session that ended."""

    def __init__(
        self, facts: Facts, record: Record, held: Held, budget: Budget, wire: Wire, way: Way, opened: Opened,
        again: Callable[[], Awaitable[Session | None]],
    ) -> None:  # fmt: skip
        self.facts, self.record, self.held, self.budget, self.again = facts, record, held, budget, again
        self.channel_name, self.channel, self.talk = facts.talks(way.service)
        self.wire, self.way, self.opened = wire, way, opened
        self.alive = True
        self.was_root = False  # what only root may ask was answered, though the account is not root
        self._whole = False  # the reading in hand wants everything
        self._heard: dict[str, Done[Replies]] = {}  # of the reading in hand
        self._withheld = ""  # why the password is not given again in this session

    async def close(self) -> None:
        """Log out where the family knows how; then end the connection."""
        if self.alive:
            self.alive = False
            await drive(self.wire, self.talk.log_out(self.channel))
        await self.wire.close()

    def _after(self, answer: Done[Replies] | No | Unclear | Ended) -> Done[Replies] | No | Unclear | Ended:
        """A session that answered unclearly is finished: nothing more is typed into it."""
        if isinstance(answer, Unclear | Ended) or (isinstance(answer, No) and not answer.alive):
            self.alive = False
        return answer

    async def _drive(self, conversation: Generator[Any, Any, T]) -> T:
        """Drive a conversation over the wire. Where it gives the password once more, that counts as a try."""
        try:
            event = next(conversation)
            while True:
                answer = await (self._again(event) if isinstance(event, GivenAgain) else self.wire.exchange(event))
                event = conversation.send(answer)
        except StopIteration as stop:
            return stop.value  # type: ignore[no-any-return]

    async def _again(self, event: GivenAgain) -> Any:
        way = self.way
        if self.held.secret(way.secret) is None:
            return await self.wire.exchange(event)  # there is none to give, and the wire says so
        wrong = self.record.history().refused_last(way.account, way.secret, event.service)
        # what opened this very session is right here too, unless it was seen to be wrong
        sure = not wrong and (
            way.secret != BY_KEY or self.record.history().opened_last(way.account, way.secret, event.service)
        )
        counted = replace(way, account=again_as(event.service, way.account))
        if not sure and min(self.budget.tries_left(way), self.budget.tries_left(counted)) < event.costs:
            self._withheld = self._withheld or f"not asked: the try budget of {way.account} is used up; wait an hour"
        if self._withheld:
            return event.withheld(self._withheld)
        said: dict[str, Any] = {
            "account": way.account, "service": event.service, "source": way.source, "address": way.door.address,
            "key": self.record.pin(way.service), "secret": way.secret.entry, "again": True,
        }  # fmt: skip
        for _ in range(event.costs):  # one that never ends counts for good
            self.record.note(Trying(**said))
        good, outcome = False, "silent"
        try:
            answer = await self.wire.exchange(event)
            good = event.taken(answer)
            outcome = "opened" if good else "cut" if isinstance(answer, Lost) else "refused"
        finally:
            self.record.note(Tried(**said, outcome=outcome, spent=not good, accepted=good))
        if not good:
            self._withheld = "not asked again: the password was wrong"
            charged = event.whose(answer)
            for _ in range(event.costs if charged not in ("", way.account) else 0):
                self.record.note(Tried(**{**said, "account": charged}, outcome="refused", spent=True))
        return answer

    async def tell(self, order: Order) -> Done[Replies] | No | Unclear | Ended:
        """Send one order. If the session was gone already, the order was not sent. Raises SafeError."""
        # typed at a prompt nobody knows, an order might answer some other question
        if not self.alive:
            return Ended(sent=False)
        # never on its way before it rests in the safe and in its copy, whatever happened to them meanwhile
        rests = tuple(
            part.ref for text in order.fill.values() for part in text if isinstance(part, Slot) and part.ref.safe
        )
        if rests and self.held.safe is not None:
            await self.held.safe.assure(rests)
        here = replace(order, source=self.way.source)
        return await self._within(order.seconds, self.talk.tell(self.channel, here, self.opened.session))

    async def ask(self, fetch: Fetch) -> Done[Replies] | No | Unclear | Ended:
        """Ask one thing."""
        if not self.alive:
            return Ended(sent=False)
        answer = await self._within(fetch.seconds, self.talk.ask_(self.channel, fetch, self.opened.session))
        # a session that ran out is begun again, once: asking again changes nothing
        if isinstance(answer, Ended) and not answer.sent and await self._anew():
            answer = await self._within(fetch.seconds, self.talk.ask_(self.channel, fetch, self.opened.session))
        return answer

    async def _anew(self) -> bool:
        """Log in again by the same way, to replace a session that ended."""
        more = await self.again()
        if more is None:
            return False
        await self.wire.close()
        self.wire, self.opened, self.alive = more.wire, more.opened, True
        return True

    async def _within(self, seconds: float, conversation: Generator[Any, Any, Answer]) -> Answer:
        """A conversation that ends in time whatever the unit does: endless pages, characters that drip in."""
        self.budget.in_time()
        try:
            async with asyncio.timeout(seconds + GRACE):
                return self._after(await self._drive(conversation))
        except TimeoutError:
            return self._after(Unclear(f"no end of the answer within {seconds:.0f} s"))

    # -- reading --

    def fetch(self, ask: Ask, key: str) -> Fetch:
        """An ask with its slots filled: {key} is the item asked about. Raises ValueError where that may not be put
        into a command."""
        fill: dict[str, Text] = {}
        for _, template in ask.how.templates():
            for name, notation in slots(template):
                theirs = self.facts.family.their_key(ask.each, key)
                if not self.facts.family.is_token(theirs):
                    raise ValueError(f"{theirs[:40]!r} may not be put into a command")
                fill[slot_key(name, notation)] = (theirs,)
        if ask.each:
            fill["key"] = (self.facts.family.their_key(ask.each, key),)
        return Fetch(ask.how, fill, given=self._given() if self.talk.ask_all else {})

    def _given(self) -> dict[str, str]:
        """What a section may know of the job: the accounts and addresses for which settings may differ."""
        site = self.facts.site
        names = ["root", *(own.name for own in site.accounts), *site.factory, self.way.account]
        networks = (*site.administrators.nets, *site.monitoring.nets)
        sources = [site.laptop, site.stranger, *(str(network[0]) for network in networks)]
        return {
            "accounts": " ".join(dict.fromkeys(name for name in names if self.facts.family.is_token(name))),
            "sources": " ".join(dict.fromkeys(source.partition("%")[0] for source in sources if source)),
            "here": self.way.door.address.partition("%")[0],
            "port": str(self.way.door.port),
        }

    async def read(self, paths: Iterable[Path] | None = None, drafts: bool = True) -> Reading:
        """Everything the family can read (or the asks that feed these paths), with evidence; what failed is a blind
        area. Without `drafts`, what is staged is not read where it is named: nobody is judged by it.

        Raises UnitError when the session ended or its answers are not those of this family.
        """
        self._heard.clear()
        self._whole, self.was_root = paths is None, False
        family = self.facts.family
        todo = family.asks if paths is None else asks_for(family, frozenset(paths))
        merging = Merging(family, todo)
        evidence: list[Evidence] = []
        blind: list[Blind] = []
        # what only another channel can read is read at the proof of that channel
        blind += [
            Blind(ask.name, f"is read by another channel ({ask.by})") for ask in todo if ask.by != self.channel_name
        ]
        mine = [ask for ask in todo if ask.by == self.channel_name]
        # whether anything waits first: where nothing does, what is staged is what is in force, and one of the two is
        # read
        mine.sort(key=lambda ask: WAITING not in ask.feeds)
        told = frozenset(path for ask in mine if ask.store == LIVE for path in ask.feeds)
        if self.talk.ask_all is None:
            for ask in mine:
                if paths is None and ask.store == STAGED and ask.feeds <= told and _is_spared(merging, drafts):
                    continue
                for key in _keys(ask, merging):
                    await self._read_all([(ask, key)], merging, evidence, blind)
        else:
            # what is asked item by item needs the items first
            await self._read_all([(ask, "") for ask in mine if not ask.each], merging, evidence, blind)
            each = [(ask, key) for ask in mine if ask.each for key in _keys(ask, merging)]
            await self._read_all(each, merging, evidence, blind)
        level = merging.so_far(("identity", "software"))
        if not family.fits(level):
            low, below = family.software
            span = f"{low or 'any'} to below {below or 'any'}"
            problem = (
                f"level {level} is outside what {family.name} was written for ({span}): check every finding by hand"
            )
            blind.append(Blind("software", problem))
        got = self._with_own_rights(merging.reading(tuple(evidence), tuple(blind)))
        if paths is None:
            self._understood(got)
        return got

    def _with_own_rights(self, got: Reading) -> Reading:
        """An account that became root before our eyes may do everything, even if its sudo rules were not understood."""
        account = ("accounts", self.way.account)
        there = exists(got.plane, account)
        # on a list that was not read whole it is there all the same: it logged in
        if not self.was_root or not (there or (there is None and self._whole)):
            return got
        plane = make(got.plane, account)
        if get(plane, (*account, "role")) is None:
            plane = put(plane, (*account, "role"), "full")
        return replace(got, planes={**got.planes, LIVE: plane})

    async def _read_all(
        self, todo: list[tuple[Ask, str]], merging: Merging, evidence: list[Evidence], blind: list[Blind]
    ) -> None:
        """Several asks at once, where the way can, and their answers. Raises UnitError where the session ends."""
        now = self.record.clock.now()
        ready: list[tuple[Ask, str, Fetch]] = []
        for ask, key in todo:
            try:
                ready.append((ask, key, self.fetch(ask, key)))
            except ValueError as e:
                blind.append(Blind(f"{ask.name} {key}".strip(), str(e)))
        answers = await self._answers(tuple(fetch for _, _, fetch in ready))
        for (ask, key, fetch), answer in zip(ready, answers, strict=True):
            match answer:
                case Done(replies):
                    self.was_root |= ask.how.as_root() and self.opened.rights == "account"
                    merging.add(extract(self.facts.family, ask, replies, key, datetime.fromisoformat(now)))
                    evidence.append(self._evidence(ask, fetch, replies, now, len(evidence)))
                case No(said):
                    blind.append(Blind(f"{ask.name} {key}".strip(), f"{said} (as {self.way.account})"))
                case Unclear(why):
                    problem = f"{ask.how.asked_as()}: {why}"
                    await self._past(Blind(f"{ask.name} {key}".strip(), why), blind, UnitError(Trouble.SILENT, problem))
                case Ended():
                    why = f"the connection ended at '{ask.how.asked_as()}'"
                    broken = UnitError(Trouble.CLOSED, f"{why}; try again")
                    await self._past(Blind(f"{ask.name} {key}".strip(), why), blind, broken)

    async def _past(self, one: Blind, blind: list[Blind], broken: UnitError) -> None:
        """Go on after an ask without an answer, where each ask is a question of its own; the next one gets a new
        session. Raises `broken` where nothing can be asked any more."""
        if not self._whole or not self.talk.apart or len(blind) >= MOST_BROKEN or not await self._anew():
            raise broken
        blind.append(one)

    async def _answers(self, fetches: tuple[Fetch, ...]) -> tuple[Answer, ...]:
        if self.talk.ask_all is None:
            return tuple([await self._twice(fetch) for fetch in fetches])
        if not fetches:
            return ()
        if not self.alive:
            return (Ended(sent=False),) * len(fetches)
        self.budget.in_time()
        answers = await self._drive(self.talk.ask_all(self.channel, fetches, self.opened.session))
        # nothing was asked yet when the session ended: once more in a new one
        if all(answer == Ended(sent=False) for answer in answers) and await self._anew():
            answers = await self._drive(self.talk.ask_all(self.channel, fetches, self.opened.session))
        for answer in answers:
            self._after(answer)
        return answers

    async def _twice(self, fetch: Fetch) -> Answer:
        """Ask once more in a new session when the whole unit is read, so that a momentary fault leaves nothing
        unread."""
        answer = await self._once(fetch)
        broken = isinstance(answer, Unclear | Ended) and self._whole and self.talk.apart
        return await self._once(fetch) if broken and await self._anew() else answer

    async def _once(self, fetch: Fetch) -> Answer:
        """A page or object that two asks of one reading share is fetched once."""
        whole = fetch.how.shared()
        key = repr((whole, fetch.fill))
        if key not in self._heard:
            answer = await self.ask(replace(fetch, how=whole))
            if not isinstance(answer, Done):
                return answer
            self._heard[key] = answer
        if whole is fetch.how or self.talk.part is None:
            return self._heard[key]
        return self.talk.part(self.channel, fetch.how, self._heard[key].reply)

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
        excerpt = "(holds secrets; not kept)" if private else self.held.scrub(replies.text)[:EXCERPT]
        asked = masked(fill_in(ask.how.asked_as(), fetch.fill))
        return Evidence(
            f"{ask.name}.{count}", asked, self.way.service, self.way.account,
            self.opened.rights or "as the account", now, hashlib.sha256(whole.encode()).hexdigest(), excerpt,
        )  # fmt: skip


def _keys(ask: Ask, merging: Merging) -> tuple[str, ...]:
    """The items that an ask is made for."""
    return merging.keys(parse(ask.each), ask.store) if ask.each else ("",)


def _is_spared(merging: Merging, drafts: bool) -> bool:
    """May reading the staged store be left out? Yes where nothing waits, because it equals the live store; otherwise
    only where the waiting edits have names."""
    waiting, names = merging.so_far(WAITING), merging.so_far(NAMES)
    return waiting == 0 or (not drafts and isinstance(waiting, int) and isinstance(names, tuple))
