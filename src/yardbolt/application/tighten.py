"""Tightening one unit: carry out the approved sheet, journaled, and start again from wherever an earlier run was cut off (D18)."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Any

from yardbolt.core.access import Way
from yardbolt.core.dialogue import ANSWER, Entry
from yardbolt.core.errors import OperatorError, Stopped, Trouble, UnitError
from yardbolt.core.execute import Attempt, Ended, Login, Note, Read, Return, Send, Sent, carry_out
from yardbolt.core.extract import Reading
from yardbolt.core.family import Make, Set
from yardbolt.core.plane import Plane, exists, get, put
from yardbolt.core.proofs import Result, Sort
from yardbolt.core.rehearse import Belief, Kind
from yardbolt.core.secret import Ref
from yardbolt.core.steps import Refused, Sheet, changes

from .check import candidates, same_unit, way_in
from .desk import Desk
from .enter import prepare
from .line import Line, document
from .plan import Plan, change_key, outside_approved, plan, target_document, target_from, target_of
from .prove import Proven, claims_for, prove, try_claim

RETRY = 2.0


@dataclass
class Work:
    """One run on one unit: its number, its open lines, and how far it is."""

    desk: Desk
    run: int
    lines: dict[Way, Line] = field(default_factory=dict)
    total: int = 0
    finished: list[str] = field(default_factory=list)

    async def close(self) -> None:
        """Log out everywhere (N259)."""
        for line in self.lines.values():
            await line.close()
        self.lines.clear()


@dataclass(frozen=True)
class Tightened:
    """What a run did: the sheet it followed, how it ended, and the as-left proof when it was carried through."""

    plan: Plan
    ended: Ended | None
    proven: Proven | None
    resumed: bool


Approve = Callable[[Plan, bool], Awaitable[bool]]


def open_run(desk: Desk) -> tuple[int, bool]:
    """The number of the run to work on, and whether it was begun before and not finished."""
    entries = [e for e in desk.records.journal(desk.unit.name) if e["run"]]
    if not entries:
        return 1, False
    last = max(e["run"] for e in entries)
    begun = any(e["run"] == last and e.get("kind") == "run" and e["state"] == "begun" for e in entries)
    over = any(e["run"] == last and e.get("kind") == "run" and e["state"] in ("finished", "nothing to do") for e in entries)
    return (last, True) if begun and not over else (last + 1, False)


async def tighten(desk: Desk, approve: Approve, leaps: frozenset[str] = frozenset(), found: str = "", anew: bool = False) -> Tightened:
    """Read afresh, plan, ask for approval, carry out, prove.

    Raises OperatorError when it is not approved, Stopped when no order keeps a way in or it ended part-way, UnitError when no login opens.
    """
    run, resumed = open_run(desk)
    if anew and resumed:
        run, resumed = run + 1, False
    work = Work(desk, run)
    try:
        return await _tighten(work, resumed, approve, leaps, found)
    finally:
        await work.close()


async def _tighten(work: Work, resumed: bool, approve: Approve, leaps: frozenset[str], found: str) -> Tightened:
    desk = work.desk
    desk.tell(f"{desk.unit.name}: reading the unit afresh")
    plane, ways = await _arrive(work)
    frozen = desk.records.latest(desk.unit.name, "target") if resumed else None
    target, gaps = (target_from(frozen["target"]), ()) if frozen else target_of(desk, plane)
    restarted = resumed and any(
        e.get("kind") == Kind.RESTART.value and e.get("state") == "proven" for e in desk.records.journal(desk.unit.name, work.run)
    )
    made = plan(desk, plane, ways, target, gaps, ours=resumed, restarted=restarted, leaps=leaps, found=found)
    if isinstance(made.sheet, Refused):
        raise Stopped(f"{desk.unit.name}: not begun, for no order of the changes keeps a way in: " + "; ".join(made.sheet.why))
    todo, _ = changes(plane, target, desk.family, desk.site)
    if frozen:
        changed = [k for k, digest in frozen.get("inputs", {}).items() if desk.inputs.get(k) != digest]
        if changed:
            desk.note(
                {"kind": "inputs", "state": "changed", "what": f"since the approval: {', '.join(changed)}; the approved target stays"}, work.run
            )
        extra = outside_approved(list(frozen["changes"]), todo, target)
        if extra:
            raise OperatorError(
                f"{desk.unit.name}: the unit changed since the approval; not approved are: {'; '.join(extra)}. Check it again, then tighten with --anew"
            )
    if not made.sheet.steps:
        desk.note({"kind": "run", "state": "nothing to do"}, work.run)
        return Tightened(made, None, await prove(desk, work.run), resumed)
    if not await approve(made, resumed):
        raise OperatorError(f"{desk.unit.name}: not approved; nothing was changed")
    if not frozen:
        desk.records.file(
            desk.unit.name,
            "target",
            {
                "target": target_document(target),
                "changes": [change_key(c) for c in todo],
                "run": work.run,
                "inputs": dict(desk.inputs),
                "found": document(Reading(plane))["plane"],
            },
        )
        desk.note({"kind": "run", "state": "begun", "steps": len(made.sheet.steps), "by": desk.job.technician}, work.run)
    else:
        desk.note({"kind": "run", "state": "taken up again", "steps": len(made.sheet.steps)}, work.run)
    prepare(desk, _accounts(made.sheet), f"made for {desk.job.title}, {desk.clock.now()}")
    ended = await _drive(work, made)
    if ended.why:
        done = len(work.finished)
        back = f"; backed out: {', '.join(ended.backed_out)}" if ended.backed_out else ""
        raise Stopped(
            f"{desk.unit.name}: stopped at step {ended.at + 1} of {work.total} ({done} done): {ended.why}{back}. Next: yardbolt check {desk.unit.name}, then tighten again"
        )
    await work.close()
    proven = await prove(desk, work.run)
    desk.note({"kind": "run", "state": "finished"}, work.run)
    return Tightened(made, ended, proven, resumed)


def _accounts(sheet: Sheet) -> tuple[str, ...]:
    """The accounts whose secrets will be sent."""
    names = []
    for c in sheet.changes:
        if isinstance(c, Make) or (isinstance(c, Set) and c.path[-1] == "secret"):
            names.append(c.path[1])
    return tuple(dict.fromkeys(names))


async def _arrive(work: Work) -> tuple[Plane, frozenset[Way]]:
    """A fresh reading, and every login of ours that opens, tried within the budget (D8)."""
    desk = work.desk
    line, why = await way_in(desk)
    if line is None:
        raise UnitError(Trouble.NO_LOGIN, f"{desk.unit.name}: no login of ours opens it ({why}); next: yardbolt enter {desk.unit.name}")
    work.lines[line.way] = line
    reading = await line.read()
    same_unit(desk, reading.plane)
    plane = reading.plane
    if exists(plane, ("accounts", line.way.account)) is not True:
        raise UnitError(Trouble.GARBLED, f"logged in as {line.way.account}, but the unit does not list that account; nothing was changed")
    if desk.records.latest(desk.unit.name, "as found") is None:  # I8
        desk.records.file(desk.unit.name, "as found", document(reading, inside=f"read as {line.way.account}", findings=[], complete=True))
    seen = {line.way.account}
    plane = put(plane, ("accounts", line.way.account, "secret"), line.way.secret)
    for way in candidates(desk):
        if way.account in seen or exists(plane, ("accounts", way.account)) is not True:
            continue
        end, more = await desk.enter(way)
        if more is not None:
            seen.add(way.account)
            work.lines[way] = more
            plane = put(plane, ("accounts", way.account, "secret"), way.secret)
        elif end.entry is Entry.LOCKED:
            desk.tell(f"{desk.unit.name}: {way.account} is locked or out of tries")
    previous = desk.last_plane()
    for login in desk.family.factory.logins:
        path = ("accounts", login.account)
        if exists(plane, path) and get(plane, (*path, "secret")) is None and _still_factory(previous, login.account, login.ref):
            plane = put(plane, (*path, "secret"), login.ref)
    return plane, frozenset(work.lines)


def _still_factory(previous: Plane | None, account: str, ref: Ref) -> bool:
    """Did the published login open this account at the last check?"""
    return previous is not None and any(t.account == account and t.secret == ref and t.outcome == "opened" for t in previous.trials.items)


async def _drive(work: Work, made: Plan) -> Ended:
    desk, sheet = work.desk, made.sheet
    assert isinstance(sheet, Sheet)
    work.total = len(sheet.steps)
    executor = carry_out(desk.family, sheet, made.belief, desk.clock.now)
    told: Any = None
    try:
        while True:
            told = await _do(work, executor.send(told))
    except StopIteration as stop:
        ended: Ended = stop.value
        return ended


async def _do(work: Work, request: Any) -> Any:
    desk = work.desk
    match request:
        case Note(entry):
            desk.note(entry, work.run)
            if entry["state"] in ("read back", "proven"):
                work.finished.append(str(entry["what"]))
            if "step" in entry:
                desk.tell(f"{desk.unit.name}: step {entry['step'] + 1} of {work.total}: {entry['what']}: {entry['state']}")
        case Send(order, via, wait):
            return await _send(work, order, via, wait)
        case Read(paths, via):
            line = work.lines.get(via)
            try:
                return (await line.read(paths)).plane if line else None
            except UnitError:
                return None
        case Login(way):
            end, line = await desk.enter(way, budgeted=way.secret.factory)
            if line is not None:
                old = work.lines.pop(way, None)
                if old is not None:
                    await old.close()
                work.lines[way] = line
            return end.entry
        case Return(ways, wait):
            return await _return(work, ways, wait)
        case Attempt(belief):
            return await _attempts(work, belief)
    return None


async def _send(work: Work, order: Any, via: Way, wait: float) -> Sent:
    line = work.lines.get(via)
    if line is None:
        return Sent(closed=True)
    try:
        reply = await line.order(order, max(ANSWER, wait))
    except UnitError as e:
        return Sent(str(e), closed=e.trouble is Trouble.CLOSED, unclear=True)
    if reply.closed:
        await line.close()
        work.lines.pop(via, None)
    return Sent(work.desk.scrub(reply.trouble), reply.closed)


async def _return(work: Work, ways: tuple[Way, ...], wait: float) -> Way | None:
    """Wait for the unit to come back: its port answers, then a login opens, spaced and within the budget (N016, N017)."""
    desk, loop = work.desk, asyncio.get_running_loop()
    await work.close()
    end = loop.time() + max(wait, 30.0)
    away = False
    while loop.time() < end:
        answers = await desk.knocker.knock(desk.place(ways[0].service)) == "admitted" if ways else False
        if not answers:
            away = True
            await desk.clock.sleep(0.5)
            continue
        if away or loop.time() > end - max(wait, 30.0) + RETRY * 2:
            await desk.clock.sleep(desk.family.factory.ready_after)
            for way in ways[:2]:
                got, line = await desk.enter(way)
                if line is not None:
                    work.lines[way] = line
                    return way
                if got.entry is Entry.LOCKED:
                    continue
        await desk.clock.sleep(RETRY)
    return None


async def _attempts(work: Work, belief: Belief) -> tuple[str, ...]:
    """Try out the refusals that gate the next save: strangers turned away, closed services closed."""
    out = []
    for claim in claims_for(work.desk, belief.active):
        if claim.sort in (Sort.STRANGER, Sort.CLOSED):
            proof = await try_claim(work.desk, claim)
            work.desk.note({"kind": "proof", "state": proof.result.value, "what": claim.text, "saw": proof.saw}, work.run)
            if proof.result is Result.FAILS:
                out.append(f"{claim.text}: {proof.saw}")
    return tuple(out)
