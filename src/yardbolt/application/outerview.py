"""Looking at a unit from outside, by one address or by one of each family, and what that makes of the plane."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterable
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from datetime import date

from yardbolt.core.addresses import by_family
from yardbolt.core.doors import Door
from yardbolt.core.judge.coverage import Looked
from yardbolt.core.ports import Datagrams, Look, Ports, Seen


@dataclass(frozen=True)
class Surroundings:
    """What a unit shows from outside: what its ports did, and what those say that answer. `also` is the same by its
    address of the other family."""

    ports: tuple[Seen, ...]
    state: Ports
    udp: Datagrams = Datagrams()
    address: str = ""
    also: Surroundings | None = None

    @property
    def whole(self) -> bool:
        """Did every port answer one way or the other?"""
        return self.state.whole and (self.also is None or self.also.whole)

    def both(self) -> tuple[Surroundings, ...]:
        """One look for each address."""
        return (replace(self, also=None), *([self.also] if self.also else []))

    def with_datagrams(self, found: tuple[Datagrams, ...]) -> Surroundings:
        """The same with what the UDP ports of each address did."""
        return replace(self, udp=found[0], also=replace(self.also, udp=found[1]) if self.also else None)


@asynccontextmanager
async def datagrams_meanwhile(
    look: Look, address: str, source: str, also: str = "", also_source: str = ""
) -> AsyncIterator[asyncio.Future[tuple[Datagrams, ...]]]:
    """The UDP ports of each address, asked while something else is done: most of that is waiting for silence."""
    places = ((address, source), *([(also, also_source)] if also else []))
    asking = asyncio.ensure_future(_datagrams(look, places))
    try:
        yield asking
    finally:
        asking.cancel()
        await asyncio.wait({asking})


async def _datagrams(look: Look, places: Iterable[tuple[str, str]]) -> tuple[Datagrams, ...]:
    return tuple(await asyncio.gather(*(look.datagrams(address, source) for address, source in places)))


async def look_at(look: Look, address: str, source: str, also: str = "", also_source: str = "") -> Surroundings:
    """Every TCP port of one address that answers, with what can be told of it; and the same of a second address."""
    if also:
        first, second = await asyncio.gather(look_at(look, address, source), look_at(look, also, also_source))
        return replace(first, also=second)
    state = await look.ports(address, source)
    seen = await asyncio.gather(*(look.look(address, port, source) for port in state.open))
    return Surroundings(tuple(seen), state, address=address)


def looked_outside(around: Surroundings, tried: Iterable[Door]) -> Looked:
    """What a look from outside covered; `tried` are the doors at which a login was."""
    both, doors = around.both(), list(tried)
    versions = frozenset(6 if ":" in one.address else 4 for one in both)
    filled = {door.port for door in doors if door.scheme in ("http", "https")}  # those a family knows how to fill in
    forms = any(
        seen.details.get("asks by") == "a form" and seen.port not in filled for one in both for seen in one.ports
    )
    web = any(seen.speaks == "http" or "web" in seen.details for one in both for seen in one.ports)
    silent = tuple(sorted({port for one in both for port in one.udp.silent}))
    by = frozenset(door.scheme for door in doors)
    return Looked(frozenset(), around.whole, versions, by, around.udp.asked, silent, forms, web)


def published_communities(around: Surroundings) -> int | None:
    """How many communities that anybody knows were answered; None where SNMP said nothing at all."""
    snmp = [seen for one in around.both() for seen in one.udp.seen if seen.speaks == "snmp"]
    return len({word.split()[0] for seen in snmp for word in seen.details["communities"]}) if snmp else None


def certificates(around: Surroundings, today: str) -> list[tuple[tuple[str, ...], object]]:
    """The certificates that were shown. `today` is YYYY-MM-DD."""
    out: list[tuple[tuple[str, ...], object]] = []
    for seen in (seen for one in around.both() for seen in one.ports):
        if seen.speaks == "tls":
            path = ("certificates", f"tcp-{seen.port}")
            out += [
                ((*path, "port"), seen.port),
                ((*path, "subject"), seen.banner),
                ((*path, "self_signed"), seen.details.get("self-signed")),
                ((*path, "protocol"), seen.details.get("version")),
                ((*path, "outdated"), seen.details.get("outdated")),
            ]
            if until := seen.details.get("until"):
                out.append(((*path, "days_left"), (date.fromisoformat(until) - date.fromisoformat(today)).days))
    return out


def answers(around: Surroundings) -> list[tuple[tuple[str, ...], object]]:
    """The rows of what answers."""
    out: list[tuple[tuple[str, ...], object]] = []
    for place, one in enumerate(around.both()):
        second = f"-{by_family(one.address).lower()}" if place else ""
        for seen in (*one.ports, *one.udp.seen):
            path = ("answering", f"{seen.transport}-{seen.port}{second}")
            out += [
                ((*path, "port"), seen.port),
                ((*path, "transport"), seen.transport),
                ((*path, "address"), one.address),
            ]
            out += [((*path, "speaks"), seen.speaks), ((*path, "banner"), seen.banner)]
            if "anonymous" in seen.details:
                out.append(((*path, "anonymous"), seen.details["anonymous"]))
            if "asks by" in seen.details:
                out.append(((*path, "asks_by"), seen.details["asks by"]))
    return out
