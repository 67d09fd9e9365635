"""The shape of a rule, and the small judgements many rules share."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from enum import Enum
from typing import Any

from ...job import Site
from ...plane.edit import get
from ...plane.kinds import ABSENT
from ...plane.leaves import Plane
from ...plane.path import Path
from ...plane.words import human
from ..demands import Demand, exactly

Params = Mapping[str, Any]


class State(Enum):
    """What a rule says of one subject. Unknown never counts as good."""

    FAILS = "fails"
    HOLDS = "holds"
    UNKNOWN = "unknown"
    NOT_APPLICABLE = "not applicable"
    WAIVED = "waived"


class Severity(Enum):
    """How bad, worst first."""

    CRITICAL = "critical"
    HIGH = "high"
    MEDIUM = "medium"
    LOW = "low"


@dataclass(frozen=True)
class Verdict:
    """One subject, what was seen there, and on what basis: `tried` (behaviour) or `read` (settings). `cause` is what
    subjects that fail alike have in common, in as few words as say it; empty where each fails in its own way."""

    subject: Path
    state: State
    saw: str
    basis: str = "read"
    cause: str = ""


@dataclass(frozen=True)
class Param:
    """A number or length of time a baseline may set for a rule, within `low` and `high`. `kind` raises ValueError on
    what it does not take."""

    kind: Callable[[Any], Any]
    meaning: str
    default: Any
    low: float = 0
    high: float = math.inf
    source: str = ""

    def read(self, raw: Any) -> Any:
        """The value. Raises ValueError."""
        value = self.kind(raw)
        if not self.low <= value <= self.high:
            bound = f"at least {self.low:g}" if value < self.low else f"at most {self.high:g}"
            raise ValueError(f"found '{raw}'; {bound} makes sense here{f' ({self.source})' if self.source else ''}")
        return value


def no_demand(plane: Plane, site: Site, params: Params) -> Iterable[Demand]:
    """A rule that only judges."""
    return ()


@dataclass(frozen=True)
class Rule:
    """One thing a baseline can demand. `right` is said where it holds, `wrong` where it fails."""

    id: str
    right: str
    wrong: str
    why: str
    severity: Severity
    judge: Callable[[Plane, Site, Params], Iterable[Verdict]]
    demand: Callable[[Plane, Site, Params], Iterable[Demand]] = no_demand
    params: Mapping[str, Param] = field(default_factory=dict)


def on_leaf(plane: Plane, path: Path, good: Callable[[Any], bool], needed: str) -> Verdict:
    """Judge one leaf: not read is unknown; not set fails."""
    value = get(plane, path)
    if value is None:
        return Verdict(path, State.UNKNOWN, "not read", "")
    holds = value is not ABSENT and good(value)
    return Verdict(
        path, State.HOLDS if holds else State.FAILS, f"{human(path, value)}" + ("" if holds else f"; wanted {needed}")
    )


@dataclass(frozen=True)
class Leaf:
    """What a rule about one leaf wants: `wanted` gives its value for a site (None: nothing), `needed` says it. A unit
    that does not have the leaf is judged only where that `must` be there; `unasked` is said where nothing is wanted.
    `only_judged`: it is for nobody to set."""

    path: Path
    wanted: Callable[[Site], Any]
    needed: Callable[[Site], str]
    must: bool = False
    unasked: str = ""
    only_judged: bool = False


def about(leaf: Leaf, id: str, right: str, wrong: str, why: str, severity: Severity) -> Rule:
    """The rule a leaf makes: it holds where the leaf is as wanted, and asks for that."""

    def judge(plane: Plane, site: Site, params: Params) -> Iterable[Verdict]:
        wanted = leaf.wanted(site)
        if wanted is None:
            return [Verdict(leaf.path, State.NOT_APPLICABLE, leaf.unasked, "")]
        if get(plane, leaf.path) is ABSENT and not leaf.must:
            return []
        return [on_leaf(plane, leaf.path, lambda value: bool(value == wanted), leaf.needed(site))]

    def demand(plane: Plane, site: Site, params: Params) -> Iterable[Demand]:
        wanted = leaf.wanted(site)
        there = leaf.must or get(plane, leaf.path) is not ABSENT
        return [exactly(leaf.path, id, wanted)] if there and wanted is not None and not leaf.only_judged else []

    return Rule(id, right, wrong, why, severity, judge, demand)
