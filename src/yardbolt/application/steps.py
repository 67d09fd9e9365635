"""Planning one unit: from the latest reading to a rehearsed step sheet. Sends nothing."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from yardbolt.core.addresses import NOBODY
from yardbolt.core.credentials import Password
from yardbolt.core.doors import Way
from yardbolt.core.errors import OperatorError
from yardbolt.core.family.bound import Bound, bound_or_why
from yardbolt.core.family.model import KEPT, LIVE, STAGED
from yardbolt.core.judge.access import admit
from yardbolt.core.judge.baseline import wanted
from yardbolt.core.judge.demands import Conflict, Gap, Target, Want
from yardbolt.core.plan.arrange import arrange
from yardbolt.core.plan.belief import Belief, arrival
from yardbolt.core.plan.difference import changes, with_mode
from yardbolt.core.plan.sheet import Refused, Sheet
from yardbolt.core.plan.words import describe, short
from yardbolt.core.plane.change import Change, Drop, Make, Rename, Reorder, Set
from yardbolt.core.plane.document import meant_by, recorded, spell
from yardbolt.core.plane.edit import get, put
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import Path, fits, show
from yardbolt.core.plane.table import coerce, item_of, reached
from yardbolt.core.run.documents import WantRow
from yardbolt.core.secret import Ref

from .contact import published_ways
from .unit import UnitInWork

Planes = Mapping[str, Plane]


@dataclass(frozen=True)
class Plan:
    """A target and the sheet that reaches it, or why there is none. `left`: what is not kept yet is of a first entry,
    or of an earlier run of ours, and is saved with it."""

    target: Target
    gaps: tuple[Gap, ...]
    sheet: Sheet | Refused
    plane: Plane
    belief: Belief
    changes: tuple[Change, ...]
    left: bool = False


@dataclass(frozen=True)
class Choices:
    """What was decided for this plan: leaps by consent, what becomes of settings found unkept, whether a run goes on
    and was restarted already, whether a gate failed before, what the unit refused in this run (change -> gap),
    whether what it refused before is tried once more."""

    leaps: frozenset[str] = frozenset()
    keep_found: bool = False
    resumed: bool = False
    restarted: bool = False
    gate: frozenset[str] = frozenset()  # a trial of refusals failed, and stays in the plan until it holds
    declined: Mapping[str, Gap] = field(default_factory=dict)
    again: bool = False


PLAIN = Choices()


def target_of(unit: UnitInWork, plane: Plane) -> tuple[Target, tuple[Gap, ...]]:
    """What the baseline wants of this unit. Raises OperatorError where two rules leave no common value."""
    try:
        found = wanted(plane, unit.facts.baseline, unit.site, unit.record.clock.now()[:10])
        # what suits is chosen by what will stand there
        coming = with_mode(plane, found[0], unit.family)
        return (
            found if coming is plane else wanted(coming, unit.facts.baseline, unit.site, unit.record.clock.now()[:10])
        )
    except Conflict as e:
        raise OperatorError(f"{unit.name}: {e}; change the job's needs, or waive one of the two rules") from None


def as_wanted(target: Target, plane: Plane) -> frozenset[Path]:
    """What of it reads just so already."""
    return frozenset(
        want.path for want in target if want.kind == "set" and reached(want.path, get(plane, want.path), want.value)
    )


def _dropped(unit: UnitInWork, planes: Planes) -> Planes:
    """The stores once what is staged was dropped, where the owner allows that and tightening begins with it."""
    waiting = planes[LIVE].stores.waiting
    drops = unit.site.allows.drop_edits and unit.family.op_doing("discard") is not None
    if not drops or not isinstance(waiting, int) or not waiting:
        return planes
    live = put(planes[LIVE], ("stores", "waiting"), 0)
    return {**planes, LIVE: live, STAGED: live}


def by_the_job(target: Target) -> frozenset[str]:
    """The leaps the job itself consents to: it says where the unit goes."""
    return frozenset(show(want.path) for want in target if want.rule == "place" and want.path[-1] == "addresses")


def plan(
    unit: UnitInWork,
    planes: Planes,
    ways: Iterable[Way],
    target: Target,
    gaps: tuple[Gap, ...],
    choices: Choices = PLAIN,
) -> Plan:
    """The rehearsed sheet for a target. Unkept settings found on arrival block, until the owner says what becomes of
    them."""
    planes = _dropped(unit, planes)
    plane = planes[LIVE]
    left = left_by_us(unit, plane)
    belief = arrival(unit.family, planes, ways, unit.site.laptops, choices.resumed or choices.keep_found or left)
    todo, more = changes(plane, target, unit.family, unit.site)
    declined = {**({} if choices.again else _declined_before(unit, todo, planes)), **choices.declined}
    todo = tuple(change for change in todo if change_key(change) not in declined)
    everything = (*gaps, *more, *declined.values())
    sheet = arrange(
        unit.family,
        belief,
        todo,
        unit.site,
        target,
        everything,
        choices.restarted,
        choices.leaps | by_the_job(target),
        choices.gate,
    )
    gaps = sheet.gaps if isinstance(sheet, Sheet) else everything
    return Plan(target, gaps, sheet, plane, belief, todo, left and not choices.resumed)


def left_by_us(unit: UnitInWork, plane: Plane) -> bool:
    """Are the settings that are not kept those that a first entry, or a run that ended early, left there? As many as
    were sent at the most, and where the unit names them, each name speaks of one of ours."""
    sent = [recorded(path) for path in unit.record.history().unsaved]
    sent = [path for path in sent if _needs_saving(unit, path)]
    differences, names = plane.stores.differences, plane.stores.names
    ours = {_called(unit, path) for path in sent}
    known = all(ours & set(NO_WORD.split(name)) for name in names) if isinstance(names, tuple) else True
    return isinstance(differences, int) and 0 < differences <= len(sent) and known


NO_WORD = re.compile(r"[^\w.-]+")


def _called(unit: UnitInWork, path: Path) -> str:
    """The unit's word for the item a path lies in; where it lies in none, ours for the setting."""
    inside = item_of(path)
    return unit.family.their_key(inside[0], inside[-1]) if inside else path[-1]


def _needs_saving(unit: UnitInWork, path: Path) -> bool:
    """Is what sets, makes or drops it kept by saving alone?"""
    ops = [op for op in unit.family.ops for pattern in (*op.sets, *op.makes, *op.drops) if fits(pattern, path)]
    return all(KEPT not in op.writes for op in ops)


def _declined_before(unit: UnitInWork, todo: Iterable[Change], planes: Planes) -> dict[str, Gap]:
    """What of it was left out when it was last told so, for the unit refused it or it came out otherwise, with the
    gap that leaves."""
    out, left_out = {}, unit.record.history().left_out
    for change in todo:
        before = left_out.get(show(change.path))
        bound = bound_or_why(unit.family, change, planes)
        words = describe(change, bound.before if isinstance(bound, Bound) else planes[LIVE])
        if before is not None and before.what == words:
            why = f"{before.why}; --again has it tried once more"
            out[change_key(change)] = Gap(change.path, change.because, why)
    return out


def steps(unit: UnitInWork, choices: Choices = PLAIN) -> Plan:
    """The step sheet on the latest reading, without touching the unit. Raises OperatorError where nothing was read
    yet."""
    filed = unit.record.last_check()
    if filed is None:
        raise OperatorError(f"{unit.name} was not checked yet; next: yardbolt check {unit.name}")
    checked = filed.document
    if not checked.complete:
        problem = f"its settings were not read ({checked.inside}); next: yardbolt enter {unit.name}"
        raise OperatorError(f"{unit.name}: {problem}")
    plane = checked.as_plane
    held = [(account.key, account.secret) for account in plane.accounts if isinstance(account.secret, Ref)]
    # a sheet rests on logins of ours; a published one only where there is no other, and then on one alone
    best = [login for login in held if not login[1].factory] or _one_published(unit, plane, held)
    every = (Way(unit.site.laptop, unit.facts.best_door(plane), account, Password(ref)) for account, ref in best)
    # one whose login its settings block is no way in, whatever opened it before
    ways = frozenset(way for way in every if admit(plane, way).admitted is not False)
    target, gaps = target_of(unit, plane)
    return plan(unit, {LIVE: plane}, ways, target, gaps, choices)


def _one_published(unit: UnitInWork, plane: Plane, held: list[tuple[str, Ref]]) -> list[tuple[str, Ref]]:
    opened = {way.account: way.secret for way in published_ways(unit)}
    full = [login for login in held if get(plane, ("accounts", login[0], "role")) == "full"]
    return sorted(full or held, key=lambda login: list(opened).index(login[0]) if login[0] in opened else len(opened))[
        :1
    ]


# ---- targets and changes in the record: what is approved is the set of changes --------------------------------------


def want_rows(target: Target) -> tuple[WantRow, ...]:
    """A target for the record."""
    return tuple(WantRow(path=show(w.path), rule=w.rule, kind=w.kind, value=_spelled(w)) for w in target)


def _spelled(want: Want) -> Any:
    return {name: spell(value) for name, value in want.value} if want.kind == "present" else spell(want.value)


def target_from(rows: Iterable[WantRow]) -> Target:
    """A target from the record."""
    out = []
    for row in rows:
        path = recorded(row.path)
        value: Any = None
        if row.kind == "present":
            leaves = [(recorded(f"{row.path}/{name}"), raw) for name, raw in row.value.items()]
            value = tuple((show(leaf[len(path) :]), _meant(leaf, raw)) for leaf, raw in leaves)
        elif row.kind == "set":
            value = _meant(path, row.value)
        out.append(Want(path, row.rule, row.kind, value))
    return tuple(out)


def _meant(path: Path, raw: Any) -> Any:
    """A wanted value: nothing stands for not set, for nobody wants what is not known."""
    meant = meant_by(path, raw)
    return meant if meant is ABSENT else coerce(path, meant)


def change_key(change: Change) -> str:
    """A change as one comparable text, without the value it starts from."""
    match change:
        case Set(path, value):
            return f"set {show(path)} {spell(value)}"
        case Make(path, values):
            return f"make {show(path)} {sorted((name, spell(value)) for name, value in values)}"
        case Drop(path):
            return f"drop {show(path)}"
        case Rename(path, key):
            return f"rename {show(path)} {key}"
        case Reorder(path, keys):
            return f"reorder {show(path)} {','.join(keys)}"


CLOCK = ("clock", "offset")  # which moves by itself: no approval is spoilt by it


def outside_approved(approved: Iterable[str], todo: tuple[Change, ...], target: Target) -> tuple[str, ...]:
    """Changes that are not among the approved ones, in words. A part of an approved item (a leaf of an account to be
    made) is approved with it; so is shutting to everybody what was to be off."""
    known = frozenset(approved)
    whole = {want.path for want in target if want.kind in ("present", "gone")}
    return tuple(
        short(change)
        for change in todo
        if change_key(change) not in known and item_of(change.path) not in whole and change.path != CLOCK
        if not (
            isinstance(change, Set)
            and change.value == NOBODY
            and change_key(Set((*change.path[:-1], "enabled"), False)) in known
        )
    )
