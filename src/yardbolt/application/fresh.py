"""Begins work on a unit that is to be written to: a fresh reading, every login of ours that opens, and nothing left
over from a run that was cut off."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from yardbolt.core.doors import Way
from yardbolt.core.errors import OperatorError, Trouble, UnitError
from yardbolt.core.family.parts import Reading
from yardbolt.core.family.writing import plain_order
from yardbolt.core.judge.access import admit
from yardbolt.core.plan.belief import full, learned
from yardbolt.core.plane.edit import exists, get, make, put
from yardbolt.core.plane.kinds import ABSENT, NEVER
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.run.documents import CheckDocument
from yardbolt.core.run.filing import reading_fields
from yardbolt.core.run.proofs import Proof
from yardbolt.core.talk.outcomes import Done, Locked, No

from .check import file_once
from .contact import (
    COMES_FIRST,
    candidates,
    missed,
    published_ways,
    shut_out,
    told_fully,
    way_in,
    with_answered,
    with_credentials,
)
from .identity import box_of, not_another, recognise
from .lending import ByChanges, ByProgram, lent
from .session import Session
from .unit import UnitInWork


@dataclass
class Run:
    """One run on one unit: its number, its open sessions, and how far it is."""

    unit: UnitInWork
    number: int
    sessions: dict[Way, Session] = field(default_factory=dict)
    total: int = 0
    finished: int = 0
    carried: int = 0  # steps that were carried out by the sheets before, and by the one that is done
    unread: str = ""  # why the last reading did not tell everything
    drilled: list[Proof] = field(default_factory=list)
    barred: str = ""  # why nobody who logged in may change it; empty where somebody may
    renewed: bool = False  # another certificate or key was announced, and the box behind it is not recognised yet

    async def close(self) -> None:
        """Log out everywhere."""
        for session in self.sessions.values():
            await session.close()
        self.sessions.clear()


async def arrive(run: Run) -> tuple[Mapping[str, Plane], frozenset[Way]]:
    """A fresh reading, and every login of ours that opens, within the allowed tries."""
    unit = run.unit
    failed: dict[Way, str] = {}
    session, why = await way_in(unit, failed=failed)
    if session is None:
        raise shut_out(unit, why, "enter")
    run.sessions[session.way] = session
    session, reading = await _fullest(run, session, await session.read(), failed)
    reading = await _not_lent(run, session, await _not_going_back(run, session, reading))
    reading = await _none_waiting(run, session, reading)
    plane, account = reading.plane, session.way.account
    if unit.facts.entry.serial and plane.identity.serial is None and ("identity", "serial") in unit.family.covers():
        problem = f"the work order says serial {unit.facts.entry.serial}, and the unit shows none; nothing was changed"
        raise UnitError(Trouble.GARBLED, f"{unit.name}: {problem}")
    await recognise(unit, reading, run.number)
    not_another(unit, box_of(unit, plane))
    plane = _known_there(session, reading)
    _file_found(unit, reading, account)
    seen = set()
    for way in run.sessions:
        seen.add(way.account)
        if exists(plane, ("accounts", way.account)):
            plane = learned(plane, way)
    for way in candidates(unit):
        if way.account in seen or way in failed or exists(plane, ("accounts", way.account)) is not True:
            continue
        # its settings turn it away: the try would be spent for nothing, and what opened it last is what it has
        held = learned(plane, way)
        if admit(held, way).admitted is False:
            plane = held if unit.record.history().opened.get(way.account) == way.secret else plane
            continue
        outcome, more = await unit.access.enter(way)
        if more is not None:
            seen.add(way.account)
            run.sessions[way] = more
            plane = learned(plane, way)
            continue
        failed[way] = f"{way.account} by {way.service}: {told_fully(outcome)}"
        if isinstance(outcome, Locked):
            unit.report(f"{unit.name}: {way.account} is locked or out of tries")
    plane = await _by_published(run, plane, seen)
    if not any(full(plane, one) for one in run.sessions):
        blind = [f"{one.area} not read: {one.why}" for one in reading.blind[:1]]
        came = " and ".join(sorted({one.account or COMES_FIRST for one in run.sessions}))
        unread = any(get(plane, ("accounts", one.account, "role")) is None for one in run.sessions)
        what = "whose rights were not read" if unread else "and may not change it"
        run.barred = "; ".join(filter(None, [f"only {came} logged in, {what}", missed(unit, failed), *blind]))
    plane = with_credentials(unit, _with_published(unit, with_answered(unit, plane)), ())
    return {**reading.planes, "live": plane}, frozenset(run.sessions)


def _known_there(session: Session, reading: Reading) -> Plane:
    """The live plane, with what the login itself shows of its account. Raises UnitError where the unit does not list
    that account, or shows no accounts."""
    plane, account = reading.plane, session.way.account
    there = exists(plane, ("accounts", account))
    if not there and not len(plane.accounts):
        why = "; ".join(f"{one.area}: {one.why}" for one in reading.blind[:1]) or "the unit showed none"
        raise UnitError(
            Trouble.GARBLED, f"logged in as {account}, but its accounts were not read ({why}); nothing was changed"
        )
    if there is False:
        problem = f"logged in as {account}, but the unit does not list that account; nothing was changed"
        raise UnitError(Trouble.GARBLED, problem)
    # on a list that was not read whole, it is there all the same: it logged in
    return make(plane, ("accounts", account))


async def _fullest(run: Run, session: Session, reading: Reading, failed: dict[Way, str]) -> tuple[Session, Reading]:
    """If the account that logged in may not read everything, another of ours may: returns the reading with the
    fewest unread parts, and its session. An account known under another name is not tried twice."""
    unit = run.unit
    # anyone who has all rights reads as much as anybody
    poor = reading.blind and not session.was_root and not full(reading.plane, session.way)
    for way in candidates(unit) if poor else ():
        if way in failed or way.account in {one.account for one in run.sessions}:
            continue
        if admit(learned(reading.plane, way), way).admitted is False:
            continue
        outcome, more = await unit.access.enter(way)
        if more is None:
            failed[way] = f"{way.account} by {way.service}: {told_fully(outcome)}"
            continue
        run.sessions[way] = more
        other = await more.read()
        if len(other.blind) < len(reading.blind):
            session, reading = more, other
        if not reading.blind:
            break
    return session, reading


async def _by_published(run: Run, plane: Plane, seen: set[str]) -> Plane:
    """A run that was cut off may have left our account with few rights, and all rights with a published login: that
    login is used too."""
    unit = run.unit
    for way in published_ways(unit):
        if (
            way.account in seen
            or any(full(plane, one) for one in run.sessions)
            or not exists(plane, ("accounts", way.account))
        ):
            continue
        _, more = await unit.access.enter(way)
        if more is not None:
            run.sessions[way] = more
            plane = learned(plane, way)
    return plane


async def _not_going_back(run: Run, session: Session, reading: Reading) -> Reading:
    """What an earlier part of this run left under a timed return was never proven: make the unit go back now, and
    read it again. Raises OperatorError where somebody else armed the return."""
    unit, left = run.unit, reading.plane.stores.returning
    if left in (None, ABSENT):
        return reading
    assert isinstance(left, float)
    if not unit.record.history().open_run()[1]:
        when = f"in {left:.0f} s" if left != NEVER else "when it starts next"
        raise OperatorError(
            f"{unit.name}: a timed return that is not ours goes off {when}; wait for it, then run this again"
        )
    op = unit.family.op_doing("back")
    assert op is not None
    unit.report(f"{unit.name}: taking back what was not proven when the run was cut off")
    session = await _with_rights(run, session, reading)
    answer = await session.tell(plain_order(op))
    again = await session.read()
    if not isinstance(answer, Done) or again.plane.stores.returning is not ABSENT:
        said = answer.said if isinstance(answer, No) else "no clear answer"
        raise UnitError(Trouble.GARBLED, f"{unit.name}: it does not go back to how it was: {said}; nothing was changed")
    return again


async def _none_waiting(run: Run, session: Session, reading: Reading) -> Reading:
    """What an earlier part of this run staged is planned again. Edits of somebody else are dropped where the owner
    allows it; otherwise they stay and stop the plan. Raises UnitError where the unit does not drop them."""
    unit, op = run.unit, run.unit.family.op_doing("discard")
    waiting = reading.plane.stores.waiting
    ours = unit.record.history().open_run()[1] and unit.record.history().staging
    if op is None or not isinstance(waiting, int) or not waiting or not (ours or unit.site.allows.drop_edits):
        return reading
    whose = "of this run" if ours else "found here"
    unit.report(f"{unit.name}: dropping what was staged and never put in force ({whose})")
    found = _file_found(unit, reading, session.way.account)
    if not ours:
        unit.record.file(replace(found, kind="found waiting"))
    session = await _with_rights(run, session, reading)
    answer = await session.tell(plain_order(op))
    again = await session.read()
    if not isinstance(answer, Done) or again.plane.stores.waiting != 0:
        said = answer.said if isinstance(answer, No) else "no clear answer"
        raise UnitError(
            Trouble.GARBLED, f"{unit.name}: it does not drop what is staged: {said}; nothing of the plan was sent"
        )
    return again


async def _not_lent(run: Run, session: Session, reading: Reading) -> Reading:
    """Remove the accounts of a trial that was cut off, first of all."""
    unit = run.unit
    names = lent(reading.plane)
    if not names:
        return reading
    session = await _with_rights(run, session, reading)
    by_program = unit.family.op_doing("take back") is not None
    for name in names:
        await (ByProgram(unit, session) if by_program else ByChanges(unit, session, reading.plane, name)).take_back()
    return await session.read()


async def _with_rights(run: Run, session: Session, reading: Reading) -> Session:
    """Another session, where the first one has not all rights: a run that was cut off may have given a password to
    an account that may only read, and that one came first."""
    unit = run.unit

    def may(way: Way) -> bool:
        # where something waits, a make may show no other rights than those that are staged
        return any(full(plane, way) for plane in reading.planes.values())

    if may(session.way):
        return session
    for way in (*candidates(unit), *published_ways(unit)):
        if may(way) and way not in run.sessions:
            _, more = await unit.access.enter(way)
            if more is not None:
                run.sessions[way] = more
                return more
    return session


def _file_found(unit: UnitInWork, reading: Reading, account: str) -> CheckDocument:
    """File the as-found record before the first change."""
    fields = reading_fields(reading)
    found = CheckDocument(
        kind="as found", box=box_of(unit, reading.plane), inside=f"read as {account}", complete=True,
        family=unit.family.name, **fields,
    )  # fmt: skip
    file_once(unit, found, "as found")
    return found


def _with_published(unit: UnitInWork, plane: Plane) -> Plane:
    """Accounts that a published login opened at the last check are believed to have it still."""
    previous = unit.record.last_plane()
    for login in unit.family.factory.logins:
        path = ("accounts", login.account)
        opened = previous is not None and any(
            trial.account == login.account and trial.secret == login.ref and trial.outcome == "opened"
            for trial in previous.trials
        )
        if opened and exists(plane, path) and get(plane, (*path, "secret")) is None:
            plane = put(plane, (*path, "secret"), login.ref)
    return plane
