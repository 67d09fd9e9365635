"""Checking one unit, outside then inside. Checking never changes anything: no question is passed, no command writes."""

from __future__ import annotations

from collections.abc import Awaitable
from dataclasses import dataclass, replace
from typing import Literal

from yardbolt.core.doors import Way
from yardbolt.core.errors import Trouble, UnitError
from yardbolt.core.family.parts import Reading
from yardbolt.core.judge.baseline import Finding, judge
from yardbolt.core.judge.coverage import Looked, not_looked_at
from yardbolt.core.plan.belief import learned
from yardbolt.core.plane.edit import exists, get
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.ports import Datagrams
from yardbolt.core.run.documents import CheckDocument, LeftDocument
from yardbolt.core.run.filing import baseline_name, finding_rows, reading_fields
from yardbolt.core.talk.outcomes import Opened

from .contact import (
    candidates,
    outside_rows,
    seen_from_outside,
    way_in,
    with_credentials,
    with_known_secrets,
)
from .identity import box_of, not_another, same_box, same_unit
from .outerview import Surroundings, datagrams_meanwhile, look_at, looked_outside
from .trials import Trial, Trials
from .unasked import with_unasked
from .unit import UnitInWork

MANY_SILENT = 60_000

NOT_ASKED = "not asked for"


@dataclass(frozen=True)
class Checked:
    """What a check found. `inside` says how the settings were read, or why they were not; `document` is what was
    filed."""

    unit: str
    plane: Plane
    around: Surroundings
    tried: tuple[Trial, ...]
    findings: tuple[Finding, ...]
    reading: Reading | None
    inside: str
    time: str
    document: CheckDocument


async def check(unit: UnitInWork, inside: bool = True) -> Checked:
    """Look from outside, then read inside where that needs no writing; judge; file the record.

    Raises UnitError when nothing answers, IdentityError on the wrong unit or a changed host key.
    """
    await unit.find()
    unit.report(f"{unit.name}: looking at all ports of {unit.facts.entry.address}")
    async with datagrams_meanwhile(unit.outside.look, *unit.facts.addresses()) as udp:
        return await _check(unit, inside, udp)


async def _check(unit: UnitInWork, inside: bool, udp: Awaitable[tuple[Datagrams, ...]]) -> Checked:
    around = await look_at(unit.outside.look, *unit.facts.addresses())
    # nothing answers: no login is tried, so no account can be locked
    if not around.ports:
        raise UnitError(Trouble.UNREACHABLE, _nothing_answers(unit, around))
    unit.report(f"{unit.name}: trying the published logins")
    tried = await Trials(unit, around, candidates(unit)).run()
    if not inside:
        return conclude(unit, around.with_datagrams(await udp), tried, None, NOT_ASKED, None)
    unit.report(f"{unit.name}: reading inside")
    reading, told, way, instead = await _read_inside(unit, tried)
    return conclude(unit, around.with_datagrams(await udp), tried, reading, told, way, instead)


def _nothing_answers(unit: UnitInWork, around: Surroundings) -> str:
    what = "is silent" if len(around.state.silent) >= MANY_SILENT else "refuses every port"
    socket = f" ({unit.family.factory.socket})" if unit.family.factory.socket else ""
    remedy = f"check the cable, the socket{socket} and that this laptop has {unit.site.laptop}"
    return f"{unit.name}: {unit.facts.entry.address} {what}; {remedy}"


async def _read_inside(unit: UnitInWork, tried: tuple[Trial, ...]) -> tuple[Reading | None, str, Way | None, str]:
    """The reading, how it was taken or why not, by which way, and why not by a better one."""
    failed: dict[Way, str] = {}
    session, why = await way_in(unit, tried, failed)
    if session is None:
        return None, why, None, ""
    way = session.way
    try:
        reading = await session.read(drafts=False)
    finally:
        await session.close()
    ours = tuple(one for one in candidates(unit) if one not in failed and one.account != way.account)
    if fuller := _fuller(unit, reading.plane, way, tried, ours):
        _, better = await unit.access.enter(fuller)
        if better is not None:
            try:
                way, reading = fuller, await better.read(drafts=False)
            finally:
                await better.close()
    if not reading.evidence:
        problem = reading.blind[0].why if reading.blind else "nothing could be read"
        return None, f"logged in, but {problem}", way, why
    same_unit(unit, reading.plane)
    reading = await with_unasked(unit, reading, way)
    return reading, f"read as {way.account} by {way.service}", way, why


def _fuller(unit: UnitInWork, plane: Plane, way: Way, tried: tuple[Trial, ...], ours: tuple[Way, ...]) -> Way | None:
    """Another login, of ours or one that opened, that has full rights, where the one that was read by has not: it sees
    more."""
    if get(plane, ("accounts", way.account, "role")) == "full":
        return None
    opened = [trial.way for trial in tried if isinstance(trial.outcome, Opened)]
    return next((one for one in (*ours, *opened) if get(plane, ("accounts", one.account, "role")) == "full"), None)


def _tells_no_more(unit: UnitInWork, document: CheckDocument) -> bool:
    """Is a look from outside poorer than what is on record, which steps and access go by: the settings were read
    before, and nothing fails now that did not fail when it was read or proven last?"""
    last, left = unit.record.last_check(), unit.record.latest("as left", LeftDocument)
    if last is None or not last.document.complete:
        return False
    newest = left.document if left and left.number > last.number else last.document
    failing, known = ({row.rule for row in one.findings if row.state == "fails"} for one in (document, newest))
    return failing <= known


def conclude(
    unit: UnitInWork,
    around: Surroundings,
    tried: tuple[Trial, ...],
    reading: Reading | None,
    told: str,
    way: Way | None,
    instead: str = "",
) -> Checked:
    """Join outside and inside, judge, and file what was found. `instead` says why it was not read by a better way."""
    base = reading.plane if reading else Plane()
    if way is not None and exists(base, ("accounts", way.account)):
        base = learned(base, way)
    plane = with_credentials(unit, with_known_secrets(unit, seen_from_outside(unit, around, tried, base)), tried)
    now = unit.record.clock.now()
    findings = judge(plane, unit.facts.baseline, unit.site, now[:10])
    unseen = not_looked_at(looked(unit, around, tried, reading))
    document = CheckDocument(
        kind="check",
        box=box_of(unit, plane),
        outside=outside_rows(unit, around, tried),
        inside=told,
        complete=reading is not None,
        not_looked_at=tuple(f"{name}: {why}" for name, why in unseen),
        family=unit.family.name,
        baseline=baseline_name(unit.facts.baseline),
        findings=finding_rows(findings),
        **reading_fields(reading or Reading(), plane),
    )
    notice = not_another(unit, document.box)
    if way is not None and instead and get(plane, ("accounts", way.account, "role")) != "full":
        notice = "; ".join(one for one in (notice, f"{told}, which shows less: {instead}") if one)
    left, reset_at = unit.record.latest("as left", LeftDocument), unit.record.history().reset_at
    if left and left.time < reset_at:
        again = (
            f"it was reset after it was left on {left.time[:10]}: a published login opens what our password had opened"
        )
        notice = "; ".join(one for one in (again, notice) if one)
    if notice:
        document = replace(document, notices=(notice,))
    poorer = told == NOT_ASKED and _tells_no_more(unit, document)
    unit.record.file(replace(document, kind="from outside") if poorer else document)
    file_once(unit, document, "as found outside")
    # the first whole reading of a box is how it was found, no matter who made it
    if reading is not None:
        file_once(unit, document, "as found")
    return Checked(unit.name, plane, around, tried, findings, reading, told, now, document)


def looked(unit: UnitInWork, around: Surroundings, tried: tuple[Trial, ...], reading: Reading | None) -> Looked:
    """What this look covered."""
    outside = looked_outside(around, (trial.way.door for trial in tried))
    return replace(outside, read=unit.family.covers() if reading else frozenset())


def file_once(unit: UnitInWork, document: CheckDocument, kind: Literal["as found outside", "as found"]) -> None:
    """File a check as the as-found record of this box, unless there is one; a box that was exchanged or reset begins a
    new one, and the old one is kept."""
    filed = unit.record.latest(kind, CheckDocument)
    if (
        filed is None
        or filed.time < unit.record.history().reset_at
        or same_box(filed.document.box, document.box) is False
    ):
        unit.record.file(replace(document, kind=kind))
