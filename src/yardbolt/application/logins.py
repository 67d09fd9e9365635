"""Logging in to one unit, within its budget, written down before and after."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

from yardbolt.core.credentials import Nothing, Password
from yardbolt.core.doors import Door, Way
from yardbolt.core.errors import IdentityError
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.ports import Wire
from yardbolt.core.run.documents import KeyDocument
from yardbolt.core.run.events import Kept, Tried, Trying
from yardbolt.core.secret import Text
from yardbolt.core.talk.conversation import Talk
from yardbolt.core.talk.outcomes import (
    Cut,
    Login,
    NoListener,
    Opened,
    Refused,
    Silent,
    Untried,
    accepted,
    spends_a_try,
    told,
)
from yardbolt.core.talk.replies import reread

from .budget import Budget
from .facts import Facts
from .held import TYPED, Held
from .recording import Record
from .session import Session, drive

LONGEST_LOGIN = 150.0  # seconds
LONGEST_LOCK = 120.0  # seconds; a longer one is not waited for
AWAKE = 10.0  # seconds in which a host that answers has started what lets people in
Connect = Callable[[Talk, str, str], Wire]


@dataclass
class Access:
    """Every login of the work on one unit. `connect` gives a wire for a way of talking, a service and a noted host
    key. `ready`: a login was accepted in this run, so refusals mean what they say. `heard`: one was answered; None
    where none was tried. `anybody`: it let in somebody who had not said who he is."""

    facts: Facts
    record: Record
    held: Held
    budget: Budget
    connect: Connect
    report: Callable[[str], None]
    ready: bool = False
    heard: bool | None = None
    anybody: bool = False

    def settles(self) -> float:
        """Seconds after which a unit that refuses what opened it before may have come to itself: has started, or has
        let the account go; 0 where neither is to be expected. A lock that lasts long is not waited for."""
        read = (self.record.last_plane() or Plane()).lockout
        lasts = read.release if isinstance(read.release, float) else self.facts.family.factory.release
        lasts = 0.0 if read.tries is ABSENT else lasts
        starts = 0.0 if self.ready else self.facts.family.factory.ready_after or AWAKE
        return max(starts, lasts + 1 if 0 < lasts < LONGEST_LOCK else 0.0)

    async def enter(
        self, way: Way, consents: Mapping[str, Text] | None = None, budgeted: bool = True
    ) -> tuple[Login, Session | None]:
        """One login by one way, within the budget, written down before and after. An opened session is the caller's to
        close.

        Raises IdentityError when the host key is not the one noted.
        """
        opened = self.record.history().opened_last(way.account, way.secret, way.service)
        if budgeted and not opened and self.budget.tries_left(way) <= 0:
            return Untried("the try budget of this account is used up; wait an hour, or unlock it by hand"), None
        if not self.budget.may_send(way.secret, way.service):
            return Untried(f"a password of ours does not go by {way.service}, where it is readable"), None
        self.budget.in_time()
        pin = self.record.pin(way.service)
        self.record.note(Trying(account=way.account, service=way.service, source=way.source, address=way.door.address,
                         key=pin, secret=way.secret.entry))  # fmt: skip
        talk = self.facts.talks(way.service)[2]
        wire = self.connect(talk, way.door.scheme, pin)
        outcome: Login = Silent(True, "interrupted")  # what is not known to have ended counts as a try
        session, word = None, ""
        try:
            try:
                async with asyncio.timeout(LONGEST_LOGIN):
                    outcome = await self._open(way, wire, consents or {})
            except TimeoutError:
                outcome = Silent(True, f"the login did not end within {LONGEST_LOGIN:.0f} s")
            if not isinstance(outcome, Untried):
                self.heard = bool(self.heard) or not _unheard(outcome)
            self.anybody = self.anybody or (isinstance(outcome, Silent) and outcome.anybody)
            self.ready = self.ready or (accepted(outcome) and not self.facts.apart(way.service))
            (self.budget.shut.add if isinstance(outcome, NoListener) else self.budget.shut.discard)(way.service)
            if isinstance(outcome, Opened):
                self.facts.is_at(way.door.address)
                # a mistyped one is not worth keeping
                if self.held.keep and way.secret == TYPED and self.held.safe is not None:
                    found = self.facts.site.found(way.account)
                    if self.held.secret(found) != self.held.typed[TYPED]:
                        await self.held.safe.store({found: self.held.typed[TYPED]}, "typed by the technician")
                        self.record.note(Kept(account=way.account, secret=found.entry))
                session = self._session(wire, way, outcome)
        except IdentityError:
            outcome, word = Untried("the host key is not the one noted"), "wrong host key"
            raise
        finally:
            if session is None:
                await wire.close()
            gate = getattr(outcome, "gate", "")
            self.record.note(
                Tried(
                    account=way.account, service=way.service, source=way.source, address=way.door.address,
                    key=wire.fingerprint or pin, secret=way.secret.entry, outcome=word or told(outcome), gate=gate,
                    spent=spends_a_try(outcome), accepted=accepted(outcome), apart=self.facts.apart(way.service),
                )
            )  # fmt: skip
        return outcome, session

    def _session(self, wire: Wire, way: Way, opened: Opened) -> Session:
        async def again() -> Session | None:
            return (await self.enter(way))[1]

        return Session(self.facts, self.record, self.held, self.budget, wire, way, opened, again)

    async def unasked(self, door: Door) -> Session | None:
        """A session in which nobody logs in, where the unit takes the connection. Nothing of it is a try. Raises
        IdentityError."""
        self.budget.in_time()
        wire = self.connect(self.facts.talks(door.service)[2], door.scheme, self.record.pin(door.service))
        way, opened = Way(self.facts.source(door), door, "", Nothing()), None
        try:
            opened = await wire.open(door, way.source, "", way.credential)
        finally:
            if not isinstance(opened, Opened):
                await wire.close()

        async def again() -> Session | None:
            return None

        if not isinstance(opened, Opened):
            return None
        return Session(self.facts, self.record, self.held, self.budget, wire, way, opened, again)

    async def enter_trusted(self, way: Way) -> tuple[Login, Session | None, Way]:
        """One login, and by which way it ended so. Where what opened it before is refused, the unit may have lost it,
        with its power or by a reset: then the published password of the account opens. Or it is still starting, or
        wrong tries have locked the account for a while and it does not say so: it is tried once more, on one of the
        tries that are spared."""
        trusted = self.record.history().opened_last(way.account, way.secret, way.service)
        outcome, session = await self.enter(way)
        seconds = self.settles()
        if not (trusted and seconds and isinstance(outcome, Refused) and self.budget.tries_left(way) >= 0):
            return outcome, session, way
        for login in self.facts.family.factory.logins if way.secret.safe else ():
            if login.account == way.account:
                first = replace(way, credential=Password(login.ref))
                got, session = await self.enter(first)
                if accepted(got):
                    return got, session, first
        if self.budget.tries_left(way) < 0:
            return outcome, None, way
        self.report(f"{self.facts.name}: {way.account} is refused, which is new; trying again in {seconds:.0f} s")
        await self.record.clock.sleep(seconds)
        outcome, session = await self.enter(way, budgeted=False)
        return outcome, session, way

    async def attempt(self, way: Way, budgeted: bool = True) -> Login:
        """One login that is ended again at once. Raises IdentityError when the host key is not the one noted."""
        outcome, session = await self.enter(way, budgeted=budgeted)
        if session is not None:
            await session.close()
        return outcome

    async def _open(self, way: Way, wire: Wire, consents: Mapping[str, Text]) -> Login:
        _, channel, talk = self.facts.talks(way.service)
        name = self.facts.family.login_name(way.account)
        outcome = await wire.open(way.door, way.source, name, way.credential)
        # noted even where the login is refused: the next one must meet the same box
        if wire.fingerprint and not self.record.pin(way.service):
            self.record.file(KeyDocument(service=way.service, fingerprint=wire.fingerprint))
        if not isinstance(outcome, Opened):
            return reread(channel.replies, outcome)
        ended: Login = await drive(wire, talk.login(channel, name, way.secret, wire.authenticates, consents))
        return ended

    async def wait_ready(self, since: float) -> None:
        """Wait until the family's start-up time has passed since this run first met the unit (loop time, seconds)."""
        left = self.facts.family.factory.ready_after - (asyncio.get_running_loop().time() - since)
        if left > 0:
            self.report(f"{self.facts.name}: may still be starting; trying again in {left:.0f} s")
            await self.record.clock.sleep(left)

    def doors_in(self) -> tuple[Door, ...]:
        """Where to log in: by the best way and, where the last reading says that this is off, by the best that is
        on."""
        return tuple(dict.fromkeys((self.facts.best_door(), self.facts.best_door(self.record.last_plane()))))


def _unheard(outcome: Login) -> bool:
    """Did nobody answer? Where a password was on its way, an end may be the answer to it."""
    return isinstance(outcome, NoListener) or (isinstance(outcome, Cut | Silent) and not outcome.secret_sent)
