"""One place of a unit, as a family file would name what stands there: for the author of a family file. Nothing is
judged, and nothing is filed but the tries of the login."""

from __future__ import annotations

from yardbolt.core.credentials import Password
from yardbolt.core.doors import Way
from yardbolt.core.errors import OperatorError, Trouble, UnitError
from yardbolt.core.talk.conversation import Fetch
from yardbolt.core.talk.outcomes import Done, No
from yardbolt.core.talk.tree import Tree, places

from .contact import shut_out, told_fully, way_in
from .unit import UnitInWork


async def seen_at(unit: UnitInWork, place: str) -> list[tuple[str, Tree]]:
    """The places of a page or an object, and what stands there, read once through the best login that opens. Raises
    OperatorError where the way of talking has no places, UnitError where nobody gets in or nothing came back."""
    if not place.startswith("/"):
        raise OperatorError(f"'{place}' is not a place on a unit; a place begins with /")
    session, why = await way_in(unit)
    # one that was never checked: by a published login, within the number of tries
    published = [
        Way(unit.site.laptop, unit.facts.best_door(), one.account, Password(one.ref))
        for one in unit.family.factory.logins
    ]
    while session is None and published:
        way = published.pop(0)
        outcome, session = await unit.access.enter(way)
        why = f"{way.account} by {way.service}: {told_fully(outcome)}"
    if session is None:
        raise shut_out(unit, why, "enter")
    try:
        if session.talk.at is None:
            raise OperatorError(f"{unit.name} talks by {session.talk.name}, which has no places to look at")
        answer = await session.ask(Fetch(session.talk.at(place)))
    finally:
        await session.close()
    if isinstance(answer, Done):
        return list(places(session.talk.shown(answer.reply.tree)))
    said = answer.said if isinstance(answer, No) else getattr(answer, "why", "the session ended")
    raise UnitError(Trouble.SILENT, f"{unit.name}: {place}: {unit.held.scrub(said)}")
