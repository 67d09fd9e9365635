"""What every use case works with for one unit: the job's view of it, its family, and the ports; logins with their try budget."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from yardbolt.core import family as fam
from yardbolt.core.access import Way
from yardbolt.core.baseline import Baseline
from yardbolt.core.dialogue import Entry, LoginEnd, login
from yardbolt.core.errors import IdentityError, UnitError
from yardbolt.core.family import Family
from yardbolt.core.job import Job, Site, UnitEntry
from yardbolt.core.plane import Plane, from_json
from yardbolt.core.ports import Channel, Clock, Credential, Knocker, Place, Records, Safe
from yardbolt.core.secret import Ref, Secret, Text

from .line import Line, hold_talk

SPARE_TRIES = 2
UNKNOWN_BUDGET = 2
WINDOW = timedelta(hours=1)


@dataclass
class Desk:
    """One unit on the bench, with everything needed to work on it."""

    job: Job
    unit: UnitEntry
    site: Site
    family: Family
    baseline: Baseline
    records: Records
    clock: Clock
    knocker: Knocker
    dial: Callable[[fam.Channel, str], Channel]
    tell: Callable[[str], None]
    words: frozenset[str] = frozenset()  # names of the place, for the password analysis
    common: frozenset[str] = frozenset()
    safe: Safe | None = None
    typed: dict[Ref, Secret] = field(default_factory=dict)
    key_file: str = ""
    inputs: Mapping[str, str] = field(default_factory=dict)  # digests of the files this was planned from
    pick: Callable[[int], int] = lambda n: 0
    ready: bool = False  # a login opened in this run, so refusals mean what they say

    # -- secrets --

    def secret(self, ref: Ref) -> Secret | None:
        """The value behind a reference: published, typed in, or from the safe."""
        if published := self.family.login(ref):
            return Secret(published.secret)
        return self.typed.get(ref) or (self.safe.value(ref) if self.safe else None)

    def scrub(self, text: str) -> str:
        """A text of the unit without any secret of the job; published logins are not scrubbed (D15)."""
        refs = self.safe.entries() if self.safe else ()
        hidden = [v.reveal() for r in refs if "(as found)" not in r.entry and (v := self.safe.value(r) if self.safe else None)]
        hidden += [v.reveal() for v in self.typed.values()]
        for value in sorted((h for h in hidden if len(h) >= 4), key=len, reverse=True):
            text = text.replace(value, "•••")
        return text

    # -- places --

    def ports(self) -> dict[str, int]:
        """The port of each service: as the job file says, else as the family does."""
        return {c.service: self.unit.ports.get(c.service, c.port) for c in self.family.channels}

    def place(self, service: str, source: str = "") -> Place:
        """Where a service is, bound to the laptop's address (or to `source`)."""
        return Place(self.unit.address, self.ports()[service], source or self.site.laptop, service)

    def pin(self, service: str) -> str:
        """The host key noted for this service, or empty."""
        noted = self.records.latest(self.unit.name, f"host key {service}")
        return str(noted["fingerprint"]) if noted else ""

    def last_plane(self) -> Plane | None:
        """The plane of the latest check, or None."""
        doc = self.records.latest(self.unit.name, "check")
        return from_json(doc["plane"]) if doc else None

    # -- tries --

    def note(self, entry: Mapping[str, Any], run: int = 0) -> None:
        """Write into the journal of this unit."""
        self.records.append(self.unit.name, run, entry)

    def budget(self, account: str) -> int:
        """How many wrong tries may still be made on an account: the unit's limit less two, counted across runs (N041).

        An unknown limit means two tries an hour. A login that opened clears the count.
        """
        limit = self.family.factory.tries - SPARE_TRIES if self.family.factory.tries else UNKNOWN_BUDGET
        since = datetime.fromisoformat(self.clock.now()) - WINDOW
        used = 0
        for e in self.records.journal(self.unit.name):
            if e.get("kind") != "login" or e.get("account") != account:
                continue
            if e["outcome"] in ("opened", "prompted"):
                used = 0
            elif e["outcome"] in ("refused", "locked") and datetime.fromisoformat(str(e["time"])) > since:
                used += 1
        return limit - used

    def opened_last(self, account: str, ref: Ref) -> bool:
        """Did this very credential open the account the last time it was tried? Then trying it again needs no budget."""
        outcomes = [
            e["outcome"]
            for e in self.records.journal(self.unit.name)
            if e.get("kind") == "login"
            and e.get("account") == account
            and e.get("secret") == ref.entry
            and e["outcome"] not in ("silent", "closed", "wrong host key")
        ]
        return bool(outcomes) and outcomes[-1] in ("opened", "prompted")

    async def enter(self, way: Way, answers: Mapping[str, Text] | None = None, budgeted: bool = True) -> tuple[LoginEnd, Line | None]:
        """One login by one way, within the budget, written down. An opened line is the caller's to close.

        Raises IdentityError when the host key is not the one noted.
        """
        spec = self.family.channel(way.service)
        assert spec is not None
        if budgeted and self.budget(way.account) <= 0 and not self.opened_last(way.account, way.secret):
            return LoginEnd(Entry.UNTRIED, text="the try budget of this account is used up; wait an hour, or unlock it by hand"), None
        channel = self.dial(spec, self.pin(way.service))
        end, line, outcome = LoginEnd(Entry.SILENT), None, ""
        try:
            end = await self._open(way, channel, spec, answers)
            if end.entry in (Entry.OPENED, Entry.PROMPTED):
                self.ready = True
            if end.entry is Entry.OPENED:
                line = Line(self, channel, spec, way, end.text)
        except IdentityError:
            outcome = "wrong host key"
            raise
        finally:
            if line is None:
                await channel.close()
            self.note(
                {
                    "kind": "login",
                    "account": way.account,
                    "service": way.service,
                    "source": way.source,
                    "secret": way.secret.entry,
                    "outcome": outcome or end.entry.value,
                    "gate": end.gate,
                }
            )
        return end, line

    async def _open(self, way: Way, channel: Channel, spec: fam.Channel, answers: Mapping[str, Text] | None) -> LoginEnd:
        place = self.place(way.service, way.source)
        opening = await channel.open(place, Credential(way.account, way.secret, self.key_file if way.secret.entry == "typed:key" else ""))
        if opening.fingerprint and not self.pin(way.service):
            self.records.file(self.unit.name, f"host key {way.service}", {"fingerprint": opening.fingerprint})
        if opening.state != "opened":
            locked = self.family.console is not None and self.family.console.locked and self.family.console.locked in opening.said
            entry = Entry.LOCKED if locked else {"refused": Entry.REFUSED, "closed": Entry.CLOSED}.get(opening.state, Entry.SILENT)
            return LoginEnd(entry, text=opening.said or opening.state)
        if spec.mode == "commands" or self.family.console is None:
            return LoginEnd(Entry.OPENED, text=opening.said)
        try:
            return await hold_talk(channel, login(self.family.console, way.account, way.secret, channel.typed, answers))
        except UnitError as e:
            return LoginEnd(Entry.SILENT, text=str(e))

    async def wait_ready(self, since: float) -> None:
        """Wait until the family's start-up time has passed since this run first met the unit."""
        left = self.family.factory.ready_after - (asyncio.get_running_loop().time() - since)
        if left > 0:
            self.tell(f"{self.unit.name}: may still be starting; trying again in {left:.0f} s")
            await self.clock.sleep(left)
