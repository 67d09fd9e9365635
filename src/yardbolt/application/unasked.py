"""What a unit shows to anyone who does not log in: everything the family asks for by the web, asked once more without
a login.

It counts as shown where it is just what a login was shown; that nothing is shown counts beside a login that opens
just after. Nothing is sent but questions."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime

from yardbolt.core.doors import Way
from yardbolt.core.errors import UnitError
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.model import LIVE, Ask
from yardbolt.core.family.parts import Fact, Reading
from yardbolt.core.plane.edit import Draft, exists, get
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import Path
from yardbolt.core.plane.table import is_item
from yardbolt.core.talk.conversation import Replies
from yardbolt.core.talk.outcomes import Done, Ended, Opened, Unclear

from .session import Session
from .unit import UnitInWork

# what it is, and what it says at its door
ANYBODYS = frozenset({"identity", "name", "banner", "clock", "first_run"})


async def with_unasked(unit: UnitInWork, reading: Reading, way: Way) -> Reading:
    """The reading, which was taken by `way`, and what each service of the web shows of it without a login. Raises
    IdentityError."""
    draft = Draft(reading.plane)
    for door in unit.site.doors:
        service, path = door.service, ("services", door.service)
        if unit.facts.apart(service) or unit.facts.talks(service)[2].at is None:
            continue
        if get(reading.plane, (*path, "enabled")) is False:
            continue
        unit.report(f"{unit.name}: asking {service} without a login")
        try:
            shown = await _shown(unit, replace(way, door=door), reading.plane)
        except UnitError:
            break  # the time of this unit is used up, so the rest was not tried
        # of a service that was not read there is nothing to say but what it gives away
        if shown or (shown is not None and exists(reading.plane, path)):
            draft.make(path).put((*path, "shows"), shown)
    return replace(reading, planes={**reading.planes, LIVE: draft.freeze()})


async def _shown(unit: UnitInWork, way: Way, plane: Plane) -> tuple[str, ...] | None:
    """The lists of which it shows something. None where it shows nothing, and did not answer everything, or lets in
    nobody by that door just after: neither silence nor a door that is shut to everybody is a no."""
    by, now = unit.facts.talks(way.service)[0], datetime.fromisoformat(unit.record.clock.now())
    asks = [ask for ask in unit.family.asks if ask.by == by and ask.store == LIVE and not ask.each]
    heads: set[str] = set()
    unanswered = not asks
    session: Session | None = None
    try:
        for ask in asks:
            if session is None or not session.alive:
                if session is not None:
                    await session.close()
                session = await unit.access.unasked(way.door)
            if session is None:
                unanswered = True
                break
            got = await session.ask(session.fetch(ask, ""))
            unanswered |= isinstance(got, Unclear) or (isinstance(got, Ended) and got.unheard)
            if isinstance(got, Done):
                heads |= {path[0] for path in _same(unit, ask, got.reply, now, plane)}
    finally:
        if session is not None:
            await session.close()
    if shown := tuple(sorted(heads - ANYBODYS)):
        return shown
    good = not unanswered and isinstance(await unit.access.attempt(way), Opened)
    return () if good else None


def _same(unit: UnitInWork, ask: Ask, replies: Replies, now: datetime, plane: Plane) -> set[Path]:
    """What this answer says that stands in the reading too, and that an answer with nothing in it would not say."""
    nothing = _facts(unit, ask, Replies(tree={}), now)
    said = _facts(unit, ask, replies, now)
    return {path for path, value in said.items() if nothing.get(path) != value and _stands(plane, path, value)}


def _stands(plane: Plane, path: Path, value: object) -> bool:
    if is_item(path):
        return exists(plane, path) is True
    return value is not None and value is not ABSENT and get(plane, path) == value


def _facts(unit: UnitInWork, ask: Ask, replies: Replies, now: datetime) -> dict[Path, object]:
    try:
        return {part.path: part.value for part in extract(unit.family, ask, replies, "", now) if isinstance(part, Fact)}
    except UnitError:
        return {}
