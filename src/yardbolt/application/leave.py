"""Ending this laptop's own opening on a unit: the one change after which nobody here can log in any more.

It is made and saved through the session that is open, and only where an administrator's address is surely let in. That
the laptop is blocked is tried, while the open session shows that the unit still answers.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass, replace
from functools import reduce
from operator import or_

from yardbolt.core.addresses import AddressSet
from yardbolt.core.errors import OperatorError, Stopped, Trouble, UnitError
from yardbolt.core.family.bound import Bound, bound_or_why
from yardbolt.core.family.model import LIVE
from yardbolt.core.judge.baseline import judge
from yardbolt.core.judge.demands import Target, Want
from yardbolt.core.judge.who import passing
from yardbolt.core.plan.belief import arrival
from yardbolt.core.plan.difference import changes
from yardbolt.core.plan.leaving import leaving
from yardbolt.core.plan.precedence import is_guarded
from yardbolt.core.plan.sheet import Refused
from yardbolt.core.plane.change import Change
from yardbolt.core.plane.document import to_tree
from yardbolt.core.plane.edit import get, put
from yardbolt.core.run.documents import Filed, LeftDocument, TargetDocument, sound
from yardbolt.core.run.events import OpeningEnded
from yardbolt.core.run.filing import finding_rows
from yardbolt.core.run.proofs import Claim, Sort, settle

from .fresh import Run, arrive
from .owing import owed_later
from .prove import proof_row
from .steps import Plan, change_key, left_by_us, target_from, want_rows
from .tighten import drive, stopped
from .unit import UnitInWork


@dataclass(frozen=True)
class Left:
    """What was ended: the services, and the sources they let in from now on."""

    services: tuple[str, ...]
    sources: AddressSet
    document: LeftDocument


CONTROL = "the session that was open still answered"
Approve = Callable[[tuple[str, ...], AddressSet], Awaitable[bool]]


async def leave(unit: UnitInWork, approve: Approve) -> Left:
    """End this laptop's own opening, save, and try that it is blocked.

    Raises OperatorError where nothing is to be ended, it is too early, or it is not approved; Stopped where no
    administrator would surely get in, or it ended part-way; UnitError when no login opens.
    """
    await unit.find()
    filed = unit.record.latest("as left", LeftDocument)
    _not_too_early(unit, filed)
    assert filed is not None
    run = Run(unit, unit.record.history().last_run + 1)
    try:
        return await _leave(run, approve, filed.document)
    finally:
        await run.close()


def _not_too_early(unit: UnitInWork, filed: Filed[LeftDocument] | None) -> None:
    name, checked = unit.name, unit.record.last_check()
    if unit.site.laptop in unit.site.administrators:
        raise OperatorError(f"{name}: {unit.site.laptop} is an administrator's address; nothing is to be ended")
    if unit.record.history().open_run()[1]:
        raise OperatorError(f"{name}: a run was cut off; next: yardbolt tighten {name}")
    if filed is None or (checked and checked.number > filed.number):
        why = "it is not proven yet" if filed is None else "it was checked since it was proven"
    elif not sound(filed.document):
        why = "a proof fails, or something is not as planned"
    else:
        return
    raise OperatorError(f"{name}: {why}, and afterwards this laptop cannot log in; next: yardbolt prove {name}")


async def _leave(run: Run, approve: Approve, left: LeftDocument) -> Left:
    unit = run.unit
    planes, ways = await arrive(run)
    plane = planes[LIVE]
    here = AddressSet.of(unit.site.laptop)
    target = tuple(
        Want(("services", one.key, "permitted"), "open-sources", "set", one.permitted - here)
        for one in passing(plane, unit.site)
        if isinstance(one.permitted, AddressSet)
    )
    if not target:
        raise OperatorError(
            f"{unit.name}: no service has an opening for {unit.site.laptop} alone; nothing is to be ended"
        )
    office = tuple(str(net[0]) for net in unit.site.administrators.nets)
    belief = arrival(unit.family, planes, ways, (unit.site.laptop, *office), left_by_us(unit, plane))
    todo, gaps = changes(plane, target, unit.family, unit.site)
    bound = [bound_or_why(unit.family, one, belief.stores) for one in todo]
    if unit.family.op_doing("arm") and any(isinstance(one, Bound) and is_guarded(one, belief) for one in bound):
        why = "the packet filter of a host ends this very session with that change, and nothing could be tried"
        how = (
            "at an administrator's computer give 'laptop' its address in the job file, then yardbolt tighten "
            f"{unit.name}"
        )
        raise OperatorError(f"{unit.name}: {why}; {how}")
    sheet = Refused(tuple(gap.why for gap in gaps)) if gaps else leaving(unit.family, belief, todo, unit.site, target)
    if isinstance(sheet, Refused):
        raise Stopped(f"{unit.name}: not begun: {'; '.join(sheet.why)}")
    services = tuple(want.path[1] for want in target)
    sources = reduce(or_, (want.value for want in target))
    if not await approve(services, sources):
        raise OperatorError(f"{unit.name}: not approved; nothing was changed")
    # from here on it may be so, whatever happens; a login that opens says otherwise
    unit.record.note(OpeningEnded(laptop=unit.site.laptop), run.number)
    outcome = await drive(run, Plan(target, (), sheet, plane, belief, todo), sheet)
    if outcome.why:
        raise stopped(run, outcome, "leave")
    document = await _turned_away(run, target, left)
    _file_target(run, target, todo)
    return Left(services, sources, document)


def _file_target(run: Run, target: Target, todo: tuple[Change, ...]) -> None:
    """What was approved, with the new limits: a proof from an administrator's address is held against it."""
    records, name = run.unit.record.records, run.unit.name
    if approved := records.latest(name, "target", TargetDocument):
        new = {want.path for want in target}
        kept = tuple(want for want in target_from(approved.document.target) if want.path not in new)
        keys = (*approved.document.changes, *map(change_key, todo))
        records.file(name, replace(approved.document, target=want_rows((*kept, *target)), changes=keys))


async def _turned_away(run: Run, target: Target, left: LeftDocument) -> LeftDocument:
    """Knock from here while the session that is open still answers; as left is filed again with what it reads now."""
    unit = run.unit
    session = next((one for one in run.sessions.values() if one.alive), None)
    if session is None:
        raise UnitError(Trouble.CLOSED, f"{unit.name}: saved, and the session ended before anything could be tried")
    knocks = {
        want.path[1]: await unit.outside.look.knock(unit.facts.door(want.path[1]), unit.site.laptop) for want in target
    }
    reading = await session.read()
    plane, rows = left.as_plane, list(left.proofs)
    for want in target:
        service = want.path[1]
        value = get(reading.plane, want.path)
        if value != want.value:
            raise UnitError(Trouble.GARBLED, f"{unit.name}: {service} reads {value} afterwards, not {want.value}")
        plane = put(plane, want.path, value)
        text = f"{unit.site.laptop} (this laptop, its opening ended) is blocked by {service}"
        claim = Claim(Sort.STRANGER, text, unit.facts.door(service), unit.site.laptop, control=CONTROL)
        rows.append(proof_row(settle(claim, knocks[service], True)))
    plane = put(plane, ("stores", "differences"), reading.plane.stores.differences)
    findings = finding_rows(judge(plane, unit.facts.baseline, unit.site, unit.record.clock.now()[:10]))
    # what was to be refused stays as it was proven; the logins that opened are the administrators' from here on
    document = replace(left, run=run.number, plane=to_tree(plane), findings=findings, proofs=tuple(rows))
    document = replace(document, owed=tuple(owed_later(unit, document)))
    unit.record.file(document)
    return document
