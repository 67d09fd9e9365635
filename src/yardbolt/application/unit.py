"""The unit in work: what every use case works with for one unit. The job's view of it, its family, the ports; its
secrets, its doors, and logins within their try budget."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass, field, replace
from datetime import timedelta

from yardbolt.core.credentials import BY_KEY, Credential, Key, Password
from yardbolt.core.doors import Door, Way
from yardbolt.core.errors import IdentityError, OperatorError, Trouble, UnitError
from yardbolt.core.family.model import Family
from yardbolt.core.job import Job, Site, UnitEntry
from yardbolt.core.judge.baseline import Baseline
from yardbolt.core.plane.kinds import NEVER
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.ports import Clock, Look, Receiver, Records, Safe, Wire
from yardbolt.core.run.documents import CheckDocument, Filed, KeyDocument
from yardbolt.core.run.events import Event, Kept, Tried, Trying
from yardbolt.core.run.history import WINDOW, UnitHistory, scopes
from yardbolt.core.secret import PUBLIC, Ref, Secret, Text
from yardbolt.core.talk.conversation import Channel, Talk
from yardbolt.core.talk.logon import NEVER_SENDS
from yardbolt.core.talk.outcomes import (
    Login,
    NoListener,
    Open,
    Opened,
    Refused,
    Silent,
    Untried,
    accepted,
    spends_a_try,
    told,
)
from yardbolt.core.talk.replies import reread
from yardbolt.core.talk.ways import UNDESCRIBED

from .session import Session, drive


async def _nobody(address: str) -> str:
    return ""


def _no_receiver(address: str, port: int) -> Receiver:
    raise OperatorError("nothing here receives log messages")


BUILT = "2025-01-01"  # no clock that is right shows an earlier day
LONGEST_WORK = 15 * 60.0  # seconds on one unit, restarts and steps done not counted
LONGEST_END = 120.0  # seconds more, once that is over
LONGEST_LOGIN = 150.0  # seconds
LONGEST_LOCK = 120.0  # seconds; a longer one is not waited for
AWAKE = 10.0  # seconds in which a host that answers has started what lets people in
TYPED = Ref("typed:password")
Connect = Callable[[Talk, str, str], Wire]


@dataclass
class UnitInWork:
    """One unit, with everything needed to work on it.

    `connect` gives a wire for a way of talking, a service and a noted host key; `report` shows progress; `pick(n)`
    gives an even chance of 0..n-1; `local_names` and `common` are words for the password analysis; `inputs` are
    digests of the files this was planned from.
    """

    job: Job
    entry: UnitEntry
    site: Site
    family: Family
    baseline: Baseline
    records: Records
    clock: Clock
    look: Look
    connect: Connect
    report: Callable[[str], None]
    local_names: frozenset[str] = frozenset()
    common: frozenset[str] = frozenset()
    safe: Safe | None = None
    typed: dict[Ref, Secret] = field(default_factory=dict)
    key: Key | None = None  # the SSH key the technician named
    inputs: Mapping[str, str] = field(default_factory=dict)
    pick: Callable[[int], int] = lambda n: 0
    tries: Records | None = None  # the laptop's own book of tries, by address and host key
    neighbour: Callable[[str], Awaitable[str]] = _nobody  # the hardware address seen on the cable, where it can be
    receive: Callable[[str, int], Receiver] = _no_receiver
    holds: Callable[[str], bool] = lambda address: True  # has the laptop this address?
    keep: bool = False  # a typed password that opens it is kept in the safe
    this_one: bool = False  # the technician has compared the plate
    ready: bool = False  # a login was accepted in this run, so refusals mean what they say
    ends_at: float = 0.0  # loop time
    over: bool = False  # that time is over, and what was begun is taken back in a last short one
    patience: float = 180.0  # seconds that may be waited, all in all, for a server that fines wrong passwords
    shut: set[str] = field(default_factory=set)  # services whose port refused in this run
    places: tuple[tuple[UnitEntry, Site], ...] = ()  # where it is, and where it goes to

    @property
    def name(self) -> str:
        """The name the work order gives it."""
        return self.entry.name

    # -- secrets --

    def secret(self, ref: Ref) -> Secret | None:
        """The value behind a reference: published, typed in, or from the safe."""
        if ref.entry.startswith(PUBLIC):
            known = dict(pair for own in self.job.accounts for pair in own.public)
            return Secret(known.get(ref.entry.removeprefix(PUBLIC), ""))
        if published := self.family.login(ref):
            return Secret(published.secret)
        # a blank password is one too; a key file is none, but what sudo asks for may stand beside it
        if ref == BY_KEY:
            return self.typed.get(ref) or None
        if ref in self.typed:
            return self.typed[ref]
        return self.safe.value(ref) if self.safe else None

    def credential(self, ref: Ref) -> Credential:
        """What is shown at a door, by what the record calls it."""
        return self.key if ref == BY_KEY and self.key is not None else Password(ref)

    def scrub(self, text: str) -> str:
        """A text of the unit without any secret of the job; published logins are not scrubbed."""
        refs = self.safe.entries() if self.safe else ()
        published = {one.secret for one in self.family.factory.logins}
        known = [value.reveal() for ref in refs if self.safe and (value := self.safe.value(ref))]
        hidden = [characters for characters in known if characters not in published]
        hidden += [typed.reveal() for typed in self.typed.values()]
        # the longest first: one value may be the beginning of another; shorter than four would blot out everything
        for characters in sorted((one for one in hidden if len(one) >= 4), key=len, reverse=True):
            text = text.replace(characters, "•••")
        return text

    def may_send(self, ref: Ref, service: str) -> bool:
        """May this credential go by this service? One of ours never goes readable while an encrypted way is there."""
        if ref.factory or self.family.sealed(service) or service in NEVER_SENDS:
            return True
        return all(door.service in self.shut for door in self.site.doors if self.family.sealed(door.service))

    def talks(self, service: str) -> tuple[str, Channel, Talk]:
        """How one talks by a service: as a channel of the family does, else one can only log in there."""
        if self.apart(service):
            return "", *UNDESCRIBED
        return self.family.channel_of(service)

    def apart(self, service: str) -> bool:
        """Is it a service no channel of the family uses, whose accounts may be others?"""
        return service not in self.family.services()

    # -- where it is --

    @property
    def prefix_there(self) -> str:
        """The prefix length of the network it goes to."""
        return self.entry.goes_to.at.partition("/")[2] if self.entry.goes_to else ""

    def where_it_was_met(self) -> None:
        """Begin with the place where a login opened last."""
        self.is_at(self.history().met_at)

    def is_at(self, address: str) -> None:
        """It was met there: where that is the other of its two places, that is where it is from now on."""
        for entry, site in self.places:
            if entry.address == address != self.entry.address:
                self.entry, self.site = replace(entry, account=self.entry.account), site

    async def find(self) -> None:
        """Where it does not answer at the one place and does at the other, it is there: it was moved, or reset, meanwhile. Looked
        for elsewhere only once it was met, and was told to go: another box may stand where it is meant to be one day."""
        known = self.history()
        if len(self.places) < 2 or not known.met_at or not (known.moving or known.met_at != self.places[0][0].address):
            return
        for entry, site in sorted(self.places, key=lambda place: place[0].address != self.entry.address):
            for at in site.doors:
                if isinstance(await self.look.knock(at, site.laptop), Open):
                    self.is_at(entry.address)
                    return

    # -- doors --

    def addresses(self) -> tuple[str, str, str, str]:
        """Where it is met and from which address of the laptop; the same in the other family, or empty."""
        return self.entry.address, self.site.laptop, self.entry.also, self.site.laptop_also

    def source(self, door: Door) -> str:
        """From which address of the laptop a door is met."""
        return self.site.laptop_also if door.address == self.entry.also else self.site.laptop

    def door(self, service: str) -> Door:
        """Where a service is met. Raises KeyError on a service no channel uses."""
        found = self.site.door(service)
        if found is None:
            raise KeyError(service)
        return found

    def best_door(self, plane: Plane | None = None) -> Door:
        """Where the best way of talking is met: the best of all or, on a plane, of those that are not off there."""
        names = self.family.services()
        off = {one.key for one in plane.services if one.enabled is False} if plane is not None else set()
        return self.door(next((name for name in names if name not in off), names[0]))

    def doors_in(self) -> tuple[Door, ...]:
        """Where to log in: by the best way and, where the last reading says that this is off, by the best that is on."""
        return tuple(dict.fromkeys((self.best_door(), self.best_door(self.last_plane()))))

    def pin(self, service: str) -> str:
        """The host key noted for this service, or empty."""
        noted = self.records.latest(self.name, f"host key {service}", KeyDocument)
        return noted.document.fingerprint if noted else ""

    def forget_pins(self) -> None:
        """The unit will show another certificate or key: the next one is noted anew."""
        for door in self.site.doors:
            if self.pin(door.service):
                self.records.file(self.name, KeyDocument(service=door.service, fingerprint=""))

    # -- the record --

    def note(self, event: Event, run: int = 0) -> None:
        """Write into the journal of this unit; a try also into the laptop's own book, which all jobs share."""
        if self.tries is not None and isinstance(event, Trying | Tried):
            self.tries.append(event.address, 0, event)
        self.records.append(self.name, run, event)

    def history(self) -> UnitHistory:
        """What the journal says of this unit."""
        return self.records.history().of(self.name)

    def last_check(self) -> Filed[CheckDocument] | None:
        """The latest check."""
        return self.records.latest(self.name, "check", CheckDocument)

    def last_plane(self) -> Plane | None:
        """The plane of the latest check, or None."""
        filed = self.last_check()
        return filed.document.as_plane if filed else None

    def believable_clock(self) -> None:
        """Raises OperatorError where the laptop's clock is before this program was made: it would be set on the unit."""
        now = self.clock.now()
        if now[:10] < BUILT:
            problem = f"this laptop's clock says {now[:10]}, before Yard Bolt was made ({BUILT})"
            raise OperatorError(f"{self.name}: {problem}; set it first, for it is written into the unit and the record")

    def in_time(self) -> None:
        """Raises UnitError once this unit has taken its share of time, restarts not counted."""
        loop = asyncio.get_running_loop()
        if not self.ends_at:
            self.ends_at = loop.time() + LONGEST_WORK
        if loop.time() > self.ends_at:
            if not self.over:  # once, so that what was begun can be taken back
                self.over, self.ends_at = True, loop.time() + LONGEST_END
            problem = "the time for the work on it is over; it is slow, or holds us up on purpose"
            raise UnitError(Trouble.TOO_MUCH, f"{self.name}: {problem}; run the same command again to go on")

    # -- logins --

    def tries_left(self, way: Way) -> int:
        """How many wrong tries may still be made on the account of a way."""
        where = scopes(self.name, way.door.address, self.pin(way.service))
        limit, window = self.lockout()
        books = [self.records.history(), *([self.tries.history()] if self.tries else [])]
        return min(book.tries_left(way.account, limit, self.clock.now(), where, window) for book in books)

    def lockout(self) -> tuple[int, timedelta]:
        """The stricter of the family's limit of wrong tries and the unit's own as last read (0 = not known), and how
        long a try counts: never shorter than a lock lasts."""
        read = (self.last_plane() or Plane()).lockout
        limits = [one for one in (self.family.factory.tries, read.tries) if isinstance(one, int) and one > 0]
        releases = [one for one in (self.family.factory.release, read.release) if isinstance(one, float)]
        longest = max(releases, default=0.0)
        window = timedelta.max if longest == NEVER else max(WINDOW, timedelta(seconds=longest))
        return min(limits, default=0), window

    def settles(self) -> float:
        """Seconds after which a unit that refuses what opened it before may have come to itself: has started, or has let
        the account go; 0 where neither is to be expected. A lock that lasts long is not waited for."""
        read = (self.last_plane() or Plane()).lockout.release
        lasts = read if isinstance(read, float) else self.family.factory.release
        starts = 0.0 if self.ready else self.family.factory.ready_after or AWAKE
        return max(starts, lasts + 1 if 0 < lasts < LONGEST_LOCK else 0.0)

    async def enter(
        self, way: Way, consents: Mapping[str, Text] | None = None, budgeted: bool = True
    ) -> tuple[Login, Session | None]:
        """One login by one way, within the budget, written down before and after. An opened session is the caller's to
        close.

        Raises IdentityError when the host key is not the one noted.
        """
        opened = self.history().opened_last(way.account, way.secret, way.service)
        if budgeted and not opened and self.tries_left(way) <= 0:
            return Untried("the try budget of this account is used up; wait an hour, or unlock it by hand"), None
        if not self.may_send(way.secret, way.service):
            return Untried(f"a password of ours does not go by {way.service}, where it is readable"), None
        self.in_time()
        pin = self.pin(way.service)
        self.note(Trying(account=way.account, service=way.service, source=way.source, address=way.door.address,
                         key=pin, secret=way.secret.entry))  # fmt: skip
        name, channel, talk = self.talks(way.service)
        wire = self.connect(talk, way.door.scheme, pin)
        outcome: Login = Silent(True, "interrupted")  # what is not known to have ended counts as a try
        session, word = None, ""
        try:
            try:
                async with asyncio.timeout(LONGEST_LOGIN):
                    outcome = await self._open(way, wire, consents or {})
            except TimeoutError:
                outcome = Silent(True, f"the login did not end within {LONGEST_LOGIN:.0f} s")
            self.ready = self.ready or (accepted(outcome) and not self.apart(way.service))
            (self.shut.add if isinstance(outcome, NoListener) else self.shut.discard)(way.service)
            if isinstance(outcome, Opened):
                self.is_at(way.door.address)
                # a mistyped one is not worth keeping
                if self.keep and way.secret == TYPED and self.safe is not None:
                    found = self.site.found(way.account)
                    if self.secret(found) != self.typed[TYPED]:
                        await self.safe.store({found: self.typed[TYPED]}, "typed by the technician")
                        self.note(Kept(account=way.account, secret=found.entry))
                session = Session(self, wire, name, channel, talk, way, outcome)
        except IdentityError:
            outcome, word = Untried("the host key is not the one noted"), "wrong host key"
            raise
        finally:
            if session is None:
                await wire.close()
            gate = getattr(outcome, "gate", "")
            self.note(
                Tried(
                    account=way.account, service=way.service, source=way.source, address=way.door.address,
                    key=wire.fingerprint or pin, secret=way.secret.entry, outcome=word or told(outcome), gate=gate,
                    spent=spends_a_try(outcome), accepted=accepted(outcome), apart=self.apart(way.service),
                )
            )  # fmt: skip
        return outcome, session

    async def enter_trusted(self, way: Way) -> tuple[Login, Session | None]:
        """One login; where what opened it before is refused, the unit may still be starting, or wrong tries have locked the
        account for a while and it does not say so: it is tried once more, on one of the tries that are spared."""
        trusted = self.history().opened_last(way.account, way.secret, way.service)
        outcome, session = await self.enter(way)
        seconds = self.settles()
        if trusted and seconds and isinstance(outcome, Refused) and self.tries_left(way) >= 0:
            self.report(f"{self.name}: {way.account} is refused, which is new; trying again in {seconds:.0f} s")
            await self.clock.sleep(seconds)
            outcome, session = await self.enter(way, budgeted=False)
        return outcome, session

    async def attempt(self, way: Way, budgeted: bool = True) -> Login:
        """One login that is ended again at once. Raises IdentityError when the host key is not the one noted."""
        outcome, session = await self.enter(way, budgeted=budgeted)
        if session is not None:
            await session.close()
        return outcome

    async def _open(self, way: Way, wire: Wire, consents: Mapping[str, Text]) -> Login:
        _, channel, talk = self.talks(way.service)
        name = self.family.login_name(way.account)
        outcome = await wire.open(way.door, way.source, name, way.credential)
        # noted even where the login is refused: the next one must meet the same box
        if wire.fingerprint and not self.pin(way.service):
            self.records.file(self.name, KeyDocument(service=way.service, fingerprint=wire.fingerprint))
        if not isinstance(outcome, Opened):
            return reread(channel.replies, outcome)
        ended: Login = await drive(wire, talk.login(channel, name, way.secret, wire.authenticates, consents))
        return ended

    async def wait_ready(self, since: float) -> None:
        """Wait until the family's start-up time has passed since this run first met the unit (loop time, seconds)."""
        left = self.family.factory.ready_after - (asyncio.get_running_loop().time() - since)
        if left > 0:
            self.report(f"{self.name}: may still be starting; trying again in {left:.0f} s")
            await self.clock.sleep(left)
