"""The unit in work: what the use cases work with for one unit, each part for itself."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field

from yardbolt.core.errors import OperatorError
from yardbolt.core.family.model import Family
from yardbolt.core.job import Site
from yardbolt.core.ports import Look, Receiver, Records, Sockets
from yardbolt.core.talk.outcomes import Open

from .budget import Budget
from .facts import Facts
from .held import Held
from .logins import Access
from .recording import Record


async def _nobody(address: str) -> str:
    return ""


def _no_receiver(address: str, port: int) -> Receiver:
    raise OperatorError("nothing here receives log messages")


@dataclass
class Shared:
    """What the units of one site have in common while they are worked on at once.

    `sockets` are for looking at ports; `tries` is the laptop's own book of login tries. One unit at a time receives
    messages: they all send to one server, and this laptop can be it for one alone. One question at a time waits for
    the technician; `approved` names, by plan, the unit it was approved for."""

    sockets: Sockets
    tries: Records | None = None
    receiving: asyncio.Lock = field(default_factory=asyncio.Lock)
    asking: asyncio.Lock = field(default_factory=asyncio.Lock)
    approved: dict[str, str] = field(default_factory=dict)


@dataclass
class Outside:
    """What is seen of a unit without logging in, and what the laptop itself has and can be."""

    look: Look
    neighbour: Callable[[str], Awaitable[str]] = _nobody  # the hardware address seen on the cable, where it can be
    receive: Callable[[str, int], Receiver] = _no_receiver
    holds: Callable[[str], bool] = lambda address: True  # has the laptop this address?


@dataclass
class UnitInWork:
    """One unit: its facts, its record, the secrets in hand, its budget, its logins, and what is seen of it from
    outside.

    `report` shows progress; `pick(n)` gives an even chance of 0..n-1; `this_one`: the technician has compared the
    plate; `plate` asks whether it bears these marks, where somebody is there to be asked."""

    facts: Facts
    record: Record
    held: Held
    budget: Budget
    access: Access
    outside: Outside
    report: Callable[[str], None]
    shared: Shared
    pick: Callable[[int], int] = lambda n: 0
    this_one: bool = False
    plate: Callable[[str], Awaitable[bool]] | None = None

    @property
    def name(self) -> str:
        """The name the work order gives it."""
        return self.facts.name

    @property
    def family(self) -> Family:
        """What is known of its make."""
        return self.facts.family

    @property
    def site(self) -> Site:
        """The job's view of it, where it is now."""
        return self.facts.site

    async def find(self) -> None:
        """Where it does not answer at the one place and does at the other, it is there: it was moved, or reset,
        meanwhile. Looked for elsewhere only once it was met, and was told to go: another box may stand where it is
        meant to be one day."""
        known = self.record.history()
        if (
            len(self.facts.places) < 2
            or not known.met_at
            or not (known.moving or known.met_at != self.facts.places[0][0].address)
        ):
            return
        for entry, site in sorted(self.facts.places, key=lambda place: place[0].address != self.facts.entry.address):
            for at in site.doors:
                if isinstance(await self.outside.look.knock(at, site.laptop), Open):
                    self.facts.is_at(entry.address)
                    return
