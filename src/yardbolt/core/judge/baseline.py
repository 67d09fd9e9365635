"""A baseline: numbered lines of rules with their numbers; judging a plane by it, and gathering what it wants ."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from ..job import Site
from ..plane.edit import drop, get, make, put, reachable
from ..plane.leaves import Plane
from ..plane.path import Path, parse, show
from ..plane.table import item_of, pattern_of
from ..plane.words import spoken
from .counting import Counted
from .demands import Demand, Gap, Gone, Present, Target, Want, choose, meet
from .rules import RULES
from .rules.rule import Severity, State

RANK = {s: n for n, s in enumerate(Severity)}
MANUAL = "maker's manual"
WORST_FIRST = {State.FAILS: 0, State.UNKNOWN: 1, State.WAIVED: 2, State.HOLDS: 3, State.NOT_APPLICABLE: 4}


@dataclass(frozen=True)
class Requirement:
    """One numbered requirement."""

    number: int
    rule: str
    severity: Severity
    params: Mapping[str, Any]


@dataclass(frozen=True)
class Baseline:
    """Requirements in the owner's order. `meaning` is printed with the name, always."""

    name: str
    version: str
    meaning: str
    requirements: tuple[Requirement, ...]


@dataclass(frozen=True)
class Finding:
    """A rule's verdict on one subject, with the number it used and what it rests on."""

    number: int
    rule: str
    title: str
    why: str
    severity: Severity
    subject: Path
    state: State
    saw: str
    basis: str
    cause: str = ""

    @property
    def name(self) -> str:
        """What it is about, in words."""
        return spoken(self.subject[:2])

    @property
    def counted(self) -> Counted:
        """As it counts."""
        about = "/".join(self.subject[:2])
        return Counted(self.rule, self.number, self.title, self.severity.value, self.state.value, about)


def judge(plane: Plane, baseline: Baseline, site: Site, today: str = "") -> tuple[Finding, ...]:
    """Every verdict, worst first. `today` (YYYY-MM-DD) decides which waivers still hold; without it none does."""
    found = []
    for line in baseline.requirements:
        rule = RULES[line.rule]
        verdicts = tuple(rule.judge(plane, site, line.params))
        for v in verdicts:
            state, saw = v.state, v.saw
            if state is State.FAILS:
                waiver = next((w for w in site.waivers if w.rule == line.rule and today and today <= w.until), None)
                if waiver:
                    state, saw = (
                        State.WAIVED,
                        f"{v.saw}; waived by {waiver.owner} until {waiver.until}: {waiver.reason}",
                    )
            title = rule.wrong if v.state is State.FAILS else rule.right
            # the sentence speaks for all; where not all hold, each says only what was seen of it
            if v.state is State.HOLDS and any(other.state is not State.HOLDS for other in verdicts):
                title = v.saw
            basis = v.basis
            # what the make does not have, or its manual says, was not read from the unit
            if basis == "read" and v.subject and pattern_of(v.subject) in site.manual:
                basis = MANUAL
            found.append(
                Finding(line.number, line.rule, title, rule.why, line.severity, v.subject, state, saw, basis, v.cause)
            )
        if not verdicts:
            none = "nothing here it applies to"
            found.append(
                Finding(line.number, line.rule, rule.right, rule.why, line.severity, (), State.NOT_APPLICABLE, none, "")
            )
    return tuple(sorted(found, key=lambda f: (WORST_FIRST[f.state], RANK[f.severity], f.number, f.subject)))


def count(findings: tuple[Finding, ...]) -> Mapping[State, int]:
    """How many findings are in each state."""
    return {s: sum(f.state is s for f in findings) for s in State}


def _pick(d: Demand, plane: Plane) -> Want | Gap:
    match d:
        case Gone():
            return Want(d.path, d.rule, "gone")
        case Present():
            return Want(d.path, d.rule, "present", d.values)
    value = choose(d, get(plane, d.path))
    return value if isinstance(value, Gap) else Want(d.path, d.rule, "set", value, d)


def reach(plane: Plane, w: Want) -> Plane:
    """The plane once this want is satisfied; wants on items that are not there change nothing."""
    if w.kind == "gone":
        return drop(plane, w.path)
    if w.kind == "present":
        plane = make(plane, w.path)
        for name, value in w.value:
            path = (*w.path, *parse(name))
            plane = put(make(plane, item_of(path) or w.path), path, value)
        return plane
    if not reachable(plane, w.path):
        return plane
    return put(plane, w.path, w.value)


def wanted(plane: Plane, baseline: Baseline, site: Site, today: str = "") -> tuple[Target, tuple[Gap, ...]]:
    """What the baseline wants of this unit, gathered to a fixed point and never retracted.

    A waived rule wants nothing. Raises Conflict naming both rules where no common value is left.
    """
    waived = {w.rule for w in site.waivers if today and today <= w.until}
    lines = [line for line in baseline.requirements if line.rule not in waived]
    gathered: dict[tuple[str, Path, str], Demand] = {}
    now = plane
    while True:
        fresh = {
            (d.rule, d.path, type(d).__name__): d
            for line in lines
            for d in RULES[line.rule].demand(now, site, line.params)
        }
        # a demand may make an item whose leaves other rules then want: until nothing new is wanted
        if fresh.keys() <= gathered.keys():
            break
        gathered = {**fresh, **gathered}
        now = plane
        for d in meet(gathered.values()).values():
            got = _pick(d, plane)
            now = reach(now, got) if isinstance(got, Want) else now
    picked = [_pick(d, plane) for d in meet(gathered.values()).values()]
    wants = sorted((p for p in picked if isinstance(p, Want)), key=lambda w: show(w.path))
    return tuple(wants), tuple(p for p in picked if isinstance(p, Gap))
