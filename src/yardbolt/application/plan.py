"""Planning one unit: from the latest reading to a rehearsed step sheet. Sends nothing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from yardbolt.core.access import Way
from yardbolt.core.baseline import wanted
from yardbolt.core.demands import Conflict, Gap, Target, Want
from yardbolt.core.errors import OperatorError
from yardbolt.core.family import Change, Drop, Make, Set
from yardbolt.core.paths import parse, show
from yardbolt.core.plane import ABSENT, Plane, coerce, spell
from yardbolt.core.rehearse import Belief
from yardbolt.core.secret import Ref
from yardbolt.core.steps import Refused, Sheet, changes, order

from .desk import Desk


@dataclass(frozen=True)
class Plan:
    """A target and the sheet that reaches it, or why there is none."""

    target: Target
    gaps: tuple[Gap, ...]
    sheet: Sheet | Refused
    plane: Plane
    belief: Belief


def target_of(desk: Desk, plane: Plane) -> tuple[Target, tuple[Gap, ...]]:
    """What the baseline wants of this unit. Raises OperatorError where two rules leave no common value."""
    try:
        return wanted(plane, desk.baseline, desk.site, desk.clock.now()[:10])
    except Conflict as e:
        raise OperatorError(f"{desk.unit.name}: {e}; change the job's needs, or waive one of the two rules") from None


def belief_of(desk: Desk, plane: Plane, ways: frozenset[Way], ours: bool = False) -> Belief:
    """What is held to be true before the first step. `ours`: unkept settings were left by an earlier part of this run."""
    differences = plane.stores.differences
    agree = differences in (0, ABSENT) or desk.family.op_doing("save") is None
    kept = ways if agree or ours else frozenset()
    return Belief(
        plane, plane if agree or ours else Plane(), ways, kept, ways, desk.site.laptop, bool(ours and isinstance(differences, int) and differences)
    )


def plan(desk: Desk, plane: Plane, ways: frozenset[Way], target: Target, gaps: tuple[Gap, ...], ours: bool = False,
         restarted: bool = False, leaps: frozenset[str] = frozenset(), found: str = "") -> Plan:  # fmt: skip
    """The rehearsed sheet for a target. Unkept settings found on arrival block, until the owner says what becomes of them (D6)."""
    belief = belief_of(desk, plane, ways, ours or found == "keep")
    todo, more = changes(plane, target, desk.family, desk.site)
    everything = (*gaps, *more)
    return Plan(target, everything, order(desk.family, belief, todo, desk.site, target, everything, restarted, leaps), plane, belief)


def steps(desk: Desk, leaps: frozenset[str] = frozenset(), found: str = "") -> Plan:
    """The step sheet on the latest reading, without touching the unit. Raises OperatorError where nothing was read yet."""
    plane = desk.last_plane()
    doc = desk.records.latest(desk.unit.name, "check")
    if plane is None or doc is None:
        raise OperatorError(f"{desk.unit.name} was not checked yet; next: yardbolt check {desk.unit.name}")
    if not doc["complete"]:
        raise OperatorError(f"{desk.unit.name}: its settings were not read ({doc['inside']}); next: yardbolt enter {desk.unit.name}")
    by = [a for a in plane.accounts.items if isinstance(a.secret, Ref)]
    by = [a for a in by if isinstance(a.secret, Ref) and a.secret.safe] or by
    service = sorted(desk.family.channels, key=lambda c: c.speaks != "ssh")[0].service
    ways = frozenset(Way(desk.site.laptop, service, a.key, a.secret) for a in by if isinstance(a.secret, Ref))
    target, gaps = target_of(desk, plane)
    return plan(desk, plane, ways, target, gaps, leaps=leaps, found=found)


# ---- targets and changes in the record: what is approved is the set of changes (D18) ----------------------------------------


def target_document(target: Target) -> list[dict[str, Any]]:
    """A target as JSON."""
    return [
        {"path": show(w.path), "rule": w.rule, "kind": w.kind, "value": {k: spell(v) for k, v in w.value} if w.kind == "present" else spell(w.value)}
        for w in target
    ]


def target_from(rows: list[Mapping[str, Any]]) -> Target:
    """A target from JSON."""
    out = []
    for r in rows:
        path = parse(r["path"])
        value: Any = None
        if r["kind"] == "present":
            value = tuple((k, coerce((*path, k), v)) for k, v in r["value"].items())
        elif r["kind"] == "set":
            value = coerce(path, r["value"])
        out.append(Want(path, r["rule"], r["kind"], value))
    return tuple(out)


def change_key(c: Change) -> str:
    """A change as one comparable line, without the value it starts from."""
    match c:
        case Set(path, value):
            return f"set {show(path)} {spell(value)}"
        case Make(path, values):
            return f"make {show(path)} {sorted((k, spell(v)) for k, v in values)}"
        case Drop(path):
            return f"drop {show(path)}"


def outside_approved(approved: list[str], todo: tuple[Change, ...], target: Target) -> tuple[str, ...]:
    """Changes that are not among the approved ones. A part of an approved item (a leaf of an account to be made) is approved with it."""
    whole = {show(w.path) for w in target if w.kind in ("present", "gone")}
    return tuple(k for c in todo if (k := change_key(c)) not in approved and show(c.path[:2]) not in whole)
