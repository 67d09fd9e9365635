"""How much one unit may take: tries at its accounts, time, and what may be shown to others."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, field
from datetime import timedelta

from yardbolt.core.doors import Way
from yardbolt.core.errors import Trouble, UnitError
from yardbolt.core.plane.kinds import NEVER
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.run.history import WINDOW, scopes
from yardbolt.core.secret import Ref
from yardbolt.core.talk.logon import NEVER_SENDS

from .facts import Facts
from .recording import Record

LONGEST_WORK = 15 * 60.0  # seconds on one unit, restarts and steps done not counted
LONGEST_END = 120.0  # seconds more, once that is over


@dataclass
class Budget:
    """Tries, time, and which ports refused in this run."""

    facts: Facts
    record: Record
    ends_at: float = 0.0  # loop time
    over: bool = False  # that time is over, and what was begun is taken back in a last short one
    patience: float = 180.0  # seconds that may be waited, all in all, for a server that fines wrong passwords
    shut: set[str] = field(default_factory=set)  # services whose port refused in this run

    def may_send(self, ref: Ref, service: str) -> bool:
        """May this credential go by this service? One of ours never goes readable while an encrypted way is there."""
        if ref.factory or self.facts.family.sealed(service) or service in NEVER_SENDS:
            return True
        return all(
            door.service in self.shut for door in self.facts.site.doors if self.facts.family.sealed(door.service)
        )

    def in_time(self) -> None:
        """Raises UnitError once this unit has taken its share of time, restarts not counted."""
        loop = asyncio.get_running_loop()
        if not self.ends_at:
            self.ends_at = loop.time() + LONGEST_WORK
        if loop.time() > self.ends_at:
            if not self.over:  # once, so that what was begun can be taken back
                self.over, self.ends_at = True, loop.time() + LONGEST_END
            problem = "the time for the work on it is over; it is slow, or delays on purpose"
            raise UnitError(Trouble.TOO_MUCH, f"{self.facts.name}: {problem}; run the same command again to go on")

    def tries_left(self, way: Way) -> int:
        """How many wrong tries may still be made on the account of a way."""
        where = scopes(self.facts.name, way.door.address, self.record.pin(way.service))
        limit, window = self.lockout()
        books = [self.record.records.history(), *([self.record.tries.history()] if self.record.tries else [])]
        return min(book.tries_left(way.account, limit, self.record.clock.now(), where, window) for book in books)

    def lockout(self) -> tuple[int, timedelta]:
        """The stricter of the family's limit of wrong tries and the unit's own as last read (0 = not known), and how
        long a try counts: never shorter than a lock lasts."""
        read = (self.record.last_plane() or Plane()).lockout
        limits = [one for one in (self.facts.family.factory.tries, read.tries) if isinstance(one, int) and one > 0]
        releases = [one for one in (self.facts.family.factory.release, read.release) if isinstance(one, float)]
        longest = max(releases, default=0.0)
        window = timedelta.max if longest == NEVER else max(WINDOW, timedelta(seconds=longest))
        return min(limits, default=0), window
