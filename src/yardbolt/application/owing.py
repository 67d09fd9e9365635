"""What could not be done today, and is to be done on site or on its day."""

from __future__ import annotations

from collections.abc import Iterable

from yardbolt.core.judge.who import passing
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.run.documents import LeftDocument
from yardbolt.core.run.events import ReadBack

from .unit import UnitInWork


def set_here(unit: UnitInWork) -> frozenset[str]:
    """What was set on this unit, ever, and read back."""
    return frozenset(one.event.path for one in unit.record.history().entries if isinstance(one.event, ReadBack))


def console_words(unit: UnitInWork, plane: Plane) -> tuple[str, ...]:
    """The consoles that were given a word."""
    made = set_here(unit)
    return tuple(one.key for one in plane.consoles if f"consoles/{one.key}/secret" in made)


def owed_later(unit: UnitInWork, left: LeftDocument) -> Iterable[str]:
    """What could not be done today and is to be done on site, or on its day."""
    yield from _next_start(unit, left)
    for proof in left.proofs:
        if proof.result == "could not be tried":
            yield f"could not be tried: {proof.text} ({proof.saw})"
    plane = left.as_plane
    for own in unit.site.accounts:
        account = plane.accounts.get(own.name)
        if own.codes and account and account.factor == "none":
            yield f"codes for {own.name} go to {own.codes}: switch them on, on site, once a test mail has arrived"
    if plane.stored.support_code is True and not unit.site.code_noted:
        yield "the maker's support code: write it down from the unit, and say so in the job (support code noted)"
    for line in console_words(unit, plane):
        yield f"the password of {line} was set and cannot be tried from here: try it there"
    if let_in := ", ".join(one.key for one in passing(plane, unit.site)):
        yield (
            f"this laptop's address {unit.site.laptop} is still let in by {let_in}: last of all, yardbolt leave "
            f"{unit.name}"
        )
    for own in unit.facts.job.accounts:
        if own.until:
            yield f"{own.name} ends on {own.until}: yardbolt tighten {unit.name} after that day removes it"
    yield from (
        f"{one.kind} server {one.address} is not here: prove it on site"
        for one in unit.facts.job.servers
        if not one.here
    )


def _next_start(unit: UnitInWork, left: LeftDocument) -> Iterable[str]:
    """What of the as-left state no restart has tried: all that a run changed which made none; else, on a host that
    starts programs of anybody's, the services that were closed after it: another may take their port at the next
    start."""
    history, plane = unit.record.history(), left.as_plane
    since = max(left.started, history.reset_at)  # ISO 8601, UTC: later is greater, and not told is empty
    changed = {path: stamp for path, stamp in history.since_restart.items() if stamp.time > since}
    if any(stamp.run not in history.restarted for stamp in changed.values()):
        yield (
            "not restarted, so whether it comes back like this was not tried: restart it, then yardbolt prove "
            f"{unit.name}"
        )
        return
    if plane.host.init is ABSENT:
        return
    off = [one.key for one in plane.services if f"services/{one.key}/enabled" in changed and one.enabled is False]
    if off:
        ports = {proof.service: f" ({proof.port})" for proof in left.proofs if proof.port}
        names = ", ".join(f"{name}{ports.get(name, '')}" for name in off)
        yield f"{names} closed after the restart: whether closed at the next start too was not tried"
