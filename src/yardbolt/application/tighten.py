"""Tightens one unit: carries out the approved plan, with a journal, and goes on from wherever an earlier run was cut
off."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from yardbolt.core.doors import Way
from yardbolt.core.errors import IdentityError, OperatorError, Stopped, UnitError, YardboltError
from yardbolt.core.judge.demands import Gap, Target
from yardbolt.core.judge.who import who
from yardbolt.core.plan.belief import Belief, full
from yardbolt.core.plan.difference import changes
from yardbolt.core.plan.sheet import Refused, Sheet
from yardbolt.core.plan.words import short
from yardbolt.core.plane.change import Change
from yardbolt.core.plane.document import from_tree, recorded, to_tree
from yardbolt.core.plane.edit import exists, get
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import Path, show
from yardbolt.core.plane.table import is_item, reached
from yardbolt.core.run.documents import TargetDocument
from yardbolt.core.run.events import (
    InputsChanged,
    Noted,
    ProofTried,
    Proven,
    ReadBack,
    RunBegun,
    RunFinished,
    RunResumed,
)
from yardbolt.core.run.events import (
    Stopped as StoppedEvent,
)
from yardbolt.core.run.execute import carry_out
from yardbolt.core.run.history import events_of
from yardbolt.core.run.proofs import Proof, Result, Sort
from yardbolt.core.run.requests import (
    Attempt,
    Attempted,
    LogIn,
    Note,
    Outcome,
    Pause,
    Read,
    Request,
    Return,
    Returned,
    Send,
    WhyUnread,
)
from yardbolt.core.run.weighing import CARRYING
from yardbolt.core.talk.conversation import Order
from yardbolt.core.talk.outcomes import (
    Done,
    Ended,
    Locked,
    Login,
    No,
    NoListener,
    Open,
    Silent,
    Unclear,
    Untried,
    spends_a_try,
)

from .drills import DRILLS, drills
from .enter import prepare
from .fresh import Run, arrive
from .identity import same_unit
from .prove import Proved, brought, claims_for, differences, planned, prove, try_claim
from .session import Session
from .steps import (
    CLOCK,
    PLAIN,
    Choices,
    Plan,
    as_wanted,
    change_key,
    outside_approved,
    plan,
    target_from,
    target_of,
    want_rows,
)
from .unit import UnitInWork

POLL = 0.1  # seconds between two looks for a unit that restarts
NOT_YET = 10  # half-seconds a listener may be gone
RETRY = 2.0  # seconds between two rounds of logins
LONGEST_WHY = 200  # characters
EARNED = 30.0  # seconds more on a unit for each step done: a slow one is finished, one that holds us up is not
LONGEST_AWAY = 30.0  # seconds a restart is waited for where the family names less


@dataclass(frozen=True)
class Tightened:
    """What a run did: the plan it followed last, how that ended, how many steps it took in all, and the as-left
    proof if it finished. `now`: changes that could not be planned before this run and can be now."""

    plan: Plan
    outcome: Outcome | None
    proved: Proved
    resumed: bool
    steps: int
    now: tuple[Change, ...] = ()


Approve = Callable[[Plan, bool], Awaitable[bool]]


async def tighten(unit: UnitInWork, approve: Approve, choices: Choices = PLAIN, replan: bool = False) -> Tightened:
    """Read again, plan, ask for approval, carry out, prove. `replan` leaves a run that was cut off behind.

    Raises OperatorError when it is not approved, Stopped when no order keeps a way in or it ended part-way, UnitError
    when no login opens."""
    number, resumed = unit.record.history().open_run()
    # the old run stays on record as it was cut off
    if replan and resumed:
        number, resumed = number + 1, False
    run = Run(unit, number)
    choices = replace(choices, resumed=resumed)
    try:
        while True:
            done = await _tighten(run, choices, approve)
            if isinstance(done, Tightened):
                return replace(done, resumed=resumed)
            # what is left of the approved changes, without what it would not take
            await run.close()
            choices = replace(choices, resumed=True, declined={**choices.declined, **done})
    finally:
        await run.close()


async def _tighten(run: Run, choices: Choices, approve: Approve) -> Tightened | dict[str, Gap]:
    """Carry out and prove one plan; or return the change that the unit refused, with the gap it leaves."""
    unit = run.unit
    unit.record.believable_clock()
    await unit.find()
    there = unit.site.laptop_there
    if there and not unit.outside.holds(there):
        problem = f"this laptop has not {there} yet, from where it meets the unit once that has moved"
        raise OperatorError(
            f"{unit.name}: {problem}: ip address add {there}/{unit.facts.prefix_there} dev SOCKET; then run the same "
            "command again"
        )
    unit.report(f"{unit.name}: reading the unit again")
    planes, ways = await arrive(run)
    filed = unit.record.latest("target", TargetDocument) if choices.resumed else None
    approved = filed.document if filed else None
    target, gaps = _target(unit, planes["live"], approved)
    if approved:  # what was consented to is consented to until it is done
        choices = replace(choices, leaps=choices.leaps | frozenset(approved.leaps))
    restarted = choices.resumed and run.number in unit.record.history().restarted
    choices = replace(choices, restarted=restarted, gate=unit.record.history().gate)
    made = plan(unit, planes, ways, target, gaps, choices)
    if isinstance(made.sheet, Refused):
        left_out = "; ".join(f"{show(gap.path)}: {gap.why}" for gap in choices.declined.values())
        before = f"stopped: left out were {left_out}; then nothing more was begun" if left_out else "not begun"
        raise Stopped(f"{unit.name}: {before}{_refused(run, made.sheet)}")
    if approved:
        _as_approved(run, made, approved, choices.keep_found)
    if not made.sheet.steps:
        unit.record.note(RunFinished(), run.number)
        return Tightened(made, None, await prove(unit, run.number), choices.resumed, run.carried)
    if not choices.declined and not await approve(made, choices.resumed):
        raise OperatorError(f"{unit.name}: not approved; nothing was changed")
    await _begin(run, made, made.sheet, approved, choices.leaps)
    outcome = await drive(run, made, made.sheet)
    run.carried += outcome.at
    if outcome.left_out is not None:
        change, how = outcome.left_out
        if change_key(change) not in choices.declined:  # each time there is one less to make
            unit.report(f"{unit.name}: '{short(change)}': {how.why}; going on without that")
            stayed = f"; not taken back: {', '.join(outcome.stayed)}" if outcome.stayed else ""
            return {change_key(change): Gap(change.path, change.because, f"{how.why}{stayed}")}
    if outcome.why:
        raise stopped(run, outcome, "tighten")
    await run.close()
    proved = await prove(unit, run.number)
    unit.record.note(RunFinished(steps=len(made.sheet.steps)), run.number)
    return Tightened(made, outcome, proved, choices.resumed, run.carried, _possible_now(unit, made, proved))


def _possible_now(unit: UnitInWork, made: Plan, proved: Proved) -> tuple[Change, ...]:
    """The changes that could not be planned because something was not read, and can be planned now. They were not
    approved, so they are for another run. A change that only the order forbade, or that needs a consent, is not
    among them."""
    filed = unit.record.latest("target", TargetDocument)
    assert filed is not None  # what is carried out was approved
    approved = filed.document
    found = from_tree(approved.found)
    tried = {change.path for change in made.changes} | {recorded(key.split(" ")[1]) for key in approved.changes}
    tried |= {recorded(path) for path in unit.record.history().left_out}
    gaps = {gap.path for gap in changes(made.plane, made.target, unit.family, unit.site)[1]}
    todo = changes(proved.plane, target_of(unit, proved.plane)[0], unit.family, unit.site)[0]
    return tuple(
        change for change in todo if change.path not in tried and (change.path in gaps or _unread(found, change.path))
    )


def _unread(plane: Plane, path: Path) -> bool:
    return exists(plane, path) is None if is_item(path) else get(plane, path) is None


def _target(unit: UnitInWork, plane: Plane, approved: TargetDocument | None) -> tuple[Target, tuple[Gap, ...]]:
    if approved is None:
        return target_of(unit, plane)
    found = from_tree(approved.found)
    # of what could not be done whole, a part may have been approved: what must stay gets a password of the owner's
    changed = {key.split(" ")[1] for key in approved.changes}
    undone = {gap for gap in approved.gaps if not any(_stands_for(one, gap) for one in changed)}
    # what could not be planned when it was approved is for another approval, once this run is done;
    # what was as wanted, and cannot be read just now, is not done again; that it is unread is said at the end
    # what came out as good as the value that was chosen is done
    fresh = target_of(unit, plane)[0]
    suits = as_wanted(fresh, plane)
    # a value as good as the chosen one is as good in a run that is taken up again
    demands = {want.path: want.demand for want in fresh}
    target = tuple(
        replace(want, demand=demands.get(want.path))
        for want in target_from(approved.target)
        if show(want.path) not in undone
        and (want.path not in suits or reached(want.path, get(plane, want.path), want.value))
        and (
            want.kind != "set"
            or get(plane, want.path) is not None
            or not reached(want.path, get(found, want.path), want.value)
        )
    )
    # a clock goes wrong by itself, and while it is wrong much cannot be read: setting it needs no new approval
    more = () if any(want.path == CLOCK for want in target) else (w for w in fresh if w.path == CLOCK)
    return (*target, *more), ()


def _stands_for(changed: str, gap: str) -> bool:
    """Was this change approved in the place of one that cannot be done whole: a part of it, or blocking a service
    that cannot be switched off?"""
    shut = f"{gap.removesuffix('/enabled')}/permitted" if gap.endswith("/enabled") else gap
    return changed in (gap, shut) or changed.startswith(f"{gap}/")


def _as_approved(run: Run, made: Plan, approved: TargetDocument, keep_found: bool) -> None:
    """A resumed run does what was approved and nothing else. Raises OperatorError where a change lies outside of it."""
    unit = run.unit
    changed = [name for name, digest in approved.inputs.items() if unit.facts.inputs.get(name) != digest]
    if changed:
        what = f"since the approval: {', '.join(changed)}; the approved target stays"
        unit.record.note(InputsChanged(what=what), run.number)
    # what somebody else changed meanwhile would be published by our saving
    wanted = brought(unit.family, made.target)
    found = from_tree(approved.found)
    # what was weighed already while this run went on
    events = events_of(unit.record.history(), run.number)
    noted = {recorded(path) for event in events if isinstance(event, Noted) for path in event.paths}
    foreign = [
        path
        for path, _, _ in differences(found, made.plane)
        if path[0] != "stores" and not planned(path, wanted, made.plane) and path not in noted
    ]
    if run.unit.family.op_keeping() is None and not run.unit.family.op_activating():
        # nothing of it would be published by us; what carries no way in is somebody else's business
        meanwhile = [path for path in foreign if path[0] not in CARRYING]
        foreign = [path for path in foreign if path not in meanwhile]
        if meanwhile:
            paths = tuple(map(show, meanwhile))
            event = Noted(
                step=0, of=0, kind="", what="taken up again", paths=paths, reads=f"changed: {', '.join(paths)}"
            )
            unit.record.note(event, run.number)
    if foreign and not keep_found:
        problem = f"changed since the approval, and not by this run: {', '.join(map(show, foreign))}"
        raise OperatorError(f"{unit.name}: {problem}; look at it, then say --found keep, or set it back")
    if extra := outside_approved(approved.changes, made.changes, made.target):
        problem = f"the unit changed since the approval; not approved are: {'; '.join(extra)}"
        raise OperatorError(f"{unit.name}: {problem}. Check it again, then tighten with --replan")


async def _begin(run: Run, made: Plan, sheet: Sheet, approved: TargetDocument | None, leaps: frozenset[str]) -> None:
    unit = run.unit
    if approved:
        unit.record.note(RunResumed(steps=len(sheet.steps)), run.number)
    else:
        document = TargetDocument(
            target=want_rows(made.target), changes=tuple(change_key(change) for change in made.changes),
            run=run.number, inputs=dict(unit.facts.inputs), found=to_tree(made.plane),
            gaps=tuple(show(gap.path) for gap in made.gaps), leaps=tuple(sorted(leaps)),
        )  # fmt: skip
        unit.record.file(document)
        unit.record.note(RunBegun(steps=len(sheet.steps), by=unit.facts.job.technician), run.number)
    # before the first byte of them is sent, in the safe and in its copy
    await prepare(unit, _accounts(sheet), f"made for {unit.facts.job.title}, {unit.record.clock.now()}")


def _accounts(sheet: Sheet) -> tuple[str, ...]:
    """The safe entries of the accounts whose secrets will be sent."""
    refs = (step.bound.secret for step in sheet.steps if step.bound is not None)
    return tuple(dict.fromkeys(ref.entry.partition("/")[2] for ref in refs if ref is not None and ref.safe))


def stopped(run: Run, outcome: Outcome, command: str) -> YardboltError:
    """The error that says where a run stopped, what was taken back, and how to go on."""
    back = f"; taken back: {', '.join(outcome.backed_out)}" if outcome.backed_out else ""
    back += f"; NOT taken back: {', '.join(outcome.stayed)}" if outcome.stayed else ""
    name = run.unit.name
    where = f"stopped at step {outcome.at + 1} of {run.total} ({run.finished} done): {outcome.why}{back}"
    message = f"{name}: {where}; next: yardbolt {command} {name}"
    return IdentityError(message) if isinstance(outcome.error, IdentityError) else Stopped(message)


# ---- arriving -------------------------------------------------------------------------------------------------------


async def drive(run: Run, made: Plan, sheet: Sheet) -> Outcome:
    """Carry out the sheet. Whatever goes wrong while a request is carried out is thrown into the executor, which
    always ends."""
    run.total = len(sheet.steps)
    executor = carry_out(run.unit.family, sheet, made.belief, run.unit.record.clock.now)
    answer: Any = None
    error: Exception | None = None
    try:
        while True:
            request = executor.throw(error) if error else executor.send(answer)
            error = None
            try:
                answer = await _do(run, request)
            except Exception as e:  # whatever it is, the run ends with an entry that says where the unit stands
                answer, error = None, e
    except StopIteration as stop:
        outcome: Outcome = stop.value
    if outcome.error is not None and not isinstance(outcome.error, YardboltError):
        raise outcome.error
    return outcome


async def _do(run: Run, request: Request) -> Any:
    match request:
        case Note():
            return _note(run, request)
        case Send(order, via):
            return await _send(run, order, via)
        case Read(paths, via):
            session = run.sessions.get(via)
            try:
                return await _read(run, session, paths) if session else None
            except IdentityError:
                raise
            except UnitError:
                return None
        case WhyUnread():
            return run.unread
        case LogIn(way):
            return await _log_in(run, way)
        case Return(ways, seconds, quiet):
            return await (_gone_back(run, ways, seconds, quiet) if quiet else _return(run, ways, seconds))
        case Pause(seconds):
            await run.unit.record.clock.sleep(seconds)
            return None
        case Attempt(belief):
            return await _attempts(run, belief)


async def _read(run: Run, session: Session, paths: Iterable[Path] | None) -> Mapping[str, Plane]:
    reading = await session.read(paths)
    whys = [*(f"{blind.area}: {blind.why}" for blind in reading.blind), *(left.line for left in reading.leftovers)]
    run.unread = run.unit.held.scrub(whys[0])[:LONGEST_WHY] if whys else ""
    return reading.planes


def _note(run: Run, note: Note) -> None:
    event = note.event
    run.unit.record.note(event, run.number)
    if isinstance(event, ReadBack | Proven):
        run.finished += 1
        run.unit.budget.ends_at += EARNED
    if isinstance(event, StoppedEvent):
        return
    step = getattr(event, "step", None)
    if step is not None:
        what = getattr(event, "what", "")
        run.unit.report(f"{run.unit.name}: step {step + 1} of {run.total}: {what}: {event.event}")


async def _send(run: Run, order: Order, via: Way) -> Done[Any] | No | Unclear | Ended:
    session = run.sessions.get(via)
    if session is None:
        return Ended(sent=False)
    answer = await session.tell(order)
    if order.renews and not isinstance(answer, No) and getattr(answer, "sent", True):
        # what its manual announces is followed once: the next one shown is noted, and the box recognised before
        # anything else
        run.unit.record.forget_pins(run.unit.site.doors)
        run.renewed = True
    if not session.alive:
        await session.close()
        run.sessions.pop(via, None)
    if isinstance(answer, No):
        return replace(answer, said=run.unit.held.scrub(answer.said))
    return answer


def _refused(run: Run, sheet: Refused) -> str:
    """Why no plan was made: nobody with enough rights logged in, or no order keeps a way in."""
    if run.barred:
        return f": {run.barred}; next: yardbolt check {run.unit.name}"
    return f", for no order of the changes keeps a way in: {'; '.join(sheet.why)}"


async def _log_in(run: Run, way: Way) -> Login:
    outcome, session = await run.unit.access.enter(way, budgeted=way.secret.factory)
    # while a service loads its settings nothing listens for a moment
    for _ in range(NOT_YET):
        if not isinstance(outcome, NoListener):
            break
        await run.unit.record.clock.sleep(RETRY / 4)
        outcome, session = await run.unit.access.enter(way, budgeted=way.secret.factory)
    # one that has just started, and is slow, may not have said its first word: nothing was sent, so nothing is known
    if isinstance(outcome, Silent) and not outcome.secret_sent:
        await run.unit.record.clock.sleep(RETRY)
        outcome, session = await run.unit.access.enter(way, budgeted=way.secret.factory)
    if session is not None:
        await _still_that(run, session)
        old = run.sessions.pop(way, None)
        if old is not None:
            await old.close()
        run.sessions[way] = session
    return outcome


async def _still_that(run: Run, session: Session) -> None:
    """Is it the same box, after the announced change of its certificate or host key? Raises IdentityError where it
    is not."""
    if not run.renewed:
        return
    marks = frozenset({("identity", "serial"), ("identity", "hardware")})
    seen = (await session.read(marks)).plane
    same_unit(run.unit, seen)
    before = run.unit.record.last_plane() or Plane()
    for leaf in ("serial", "hardware"):
        was, now = getattr(before.identity, leaf), getattr(seen.identity, leaf)
        if isinstance(was, str) and was != now:
            raise IdentityError(f"{run.unit.name}: its {leaf} was {was}, and is {now or 'not shown'}; check the cable")
    run.renewed = False


async def _gone_back(run: Run, ways: tuple[Way, ...], seconds: float, quiet: float) -> Returned | None:
    """Wait until the unit has gone back by itself, without a single login try before that."""
    unit, loop = run.unit, asyncio.get_running_loop()
    unit.budget.ends_at += seconds
    await run.close()
    began = loop.time()
    unit.report(f"{unit.name}: nobody gets in; it goes back by itself in {quiet:.0f} s: do not unplug")
    await unit.record.clock.sleep(quiet)
    for way in ways[:2]:
        while loop.time() < began + seconds:
            outcome, session = await unit.access.enter(way)
            if session is not None:
                run.sessions[way] = session
                return Returned(way, False)
            if isinstance(outcome, Locked | Untried) or spends_a_try(outcome):
                break
            await unit.record.clock.sleep(RETRY)
    return None


async def _return(run: Run, ways: tuple[Way, ...], seconds: float) -> Returned | None:
    """Wait for the unit to come back: first its port answers, then a login opens; tries are spaced and counted."""
    unit, loop = run.unit, asyncio.get_running_loop()
    unit.budget.ends_at += max(seconds, LONGEST_AWAY)
    await run.close()
    if not ways:
        return None
    limit = max(seconds, LONGEST_AWAY)
    unit.report(f"{unit.name}: restarting, up to {limit:.0f} s: do not unplug")
    began, away = loop.time(), False
    while loop.time() < began + limit:
        if not isinstance(await unit.outside.look.knock(ways[0].door, ways[0].source), Open):
            away = True
            await unit.record.clock.sleep(POLL)
            continue
        if not away and loop.time() < began + RETRY * 2:
            await unit.record.clock.sleep(POLL)  # it has not gone yet
            continue
        # a good login is refused while it wakes, and counted: so wait first
        await unit.record.clock.sleep(unit.family.factory.ready_after)
        for way in ways[:2]:
            _, session = await unit.access.enter(way)
            if session is not None:
                await _still_that(run, session)
                run.sessions[way] = session
                return Returned(way, away)
        await unit.record.clock.sleep(RETRY)
    # not where it was to be: it may be where it was
    for way in [one for one in ways if one.door != ways[0].door][:2]:
        if isinstance(await unit.outside.look.knock(way.door, way.source), Open):
            _, session = await unit.access.enter(way)
            if session is not None:
                await _still_that(run, session)
                run.sessions[way] = session
                return Returned(way, away)
    return None


async def _attempts(run: Run, belief: Belief) -> Attempted:
    """Try the refusals that the next save depends on: strangers blocked, closed services closed."""
    found = []
    waived = {waiver.rule for waiver in run.unit.site.waivers}
    tried = {Sort.CLOSED} | (set() if "open-sources" in waived else {Sort.STRANGER})
    for claim in claims_for(run.unit, belief.live):
        # a gate is what this plan closed; what stays open, because the make cannot close it, is a finding and no gate
        open_to_all = claim.sort is Sort.STRANGER and claim.source in who(belief.live, claim.service).possible
        if claim.sort in tried and not open_to_all:
            proof = await try_claim(run.unit, claim)
            run.unit.record.note(ProofTried(result=proof.result.value, what=claim.text, saw=proof.saw), run.number)
            found.append(proof)
    found += await _drills(run, belief)
    of = {result: {one.claim.text: one.saw for one in found if one.result is result} for result in Result}
    return Attempted(of[Result.FAILS], of[Result.NOT_TRIED], len(of[Result.HOLDS]))


async def _drills(run: Run, belief: Belief) -> list[Proof]:
    """Try the password policy and the lock-out, through a session with all rights."""
    unit = run.unit
    family = unit.family
    by = {op.by for does in DRILLS if (op := family.op_doing(does)) is not None}
    session = next(
        (
            one
            for way, one in run.sessions.items()
            if one.alive and way in belief.proven and full(belief.live, way)
            if all(family.carries(way.service, channel) for channel in by)
        ),
        None,
    )
    if session is None:
        return []
    for proof in await drills(unit, session, belief.live, frozenset(one.claim.sort for one in run.drilled)):
        run.drilled.append(proof)
        event = ProofTried(
            result=proof.result.value,
            what=proof.claim.text,
            saw=proof.saw,
            sort=proof.claim.sort.value,
            control=proof.control,
        )
        unit.record.note(event, run.number)
    # a make whose limited accounts may do more is a finding; no other order of steps would mend it
    return [one for one in run.drilled if one.claim.sort is not Sort.LIMITED]
