"""Demands: what rules want of the plane, how they meet, and which value is chosen.

Demands on one path are intersected; where nothing is left, both rules are named and nothing is planned. A demand on a
leaf never creates an item: only `Present` does.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from ..addresses import AddressSet
from ..plane.kinds import ABSENT
from ..plane.path import Path, show
from ..plane.table import holds_secret


@dataclass(frozen=True)
class Between:
    """`low <= value <= high` in the order of the leaf (sets by inclusion); an end that is None is open."""

    path: Path
    rule: str
    low: Any = None
    high: Any = None


@dataclass(frozen=True)
class OneOf:
    """One of these values."""

    path: Path
    rule: str
    values: tuple[Any, ...]


@dataclass(frozen=True)
class Gone:
    """No such item."""

    path: Path
    rule: str


@dataclass(frozen=True)
class Present:
    """Such an item, made with these leaves where it is not there."""

    path: Path
    rule: str
    values: tuple[tuple[str, Any], ...] = ()


Demand = Between | OneOf | Gone | Present


class Conflict(Exception):
    """Two rules leave no common value."""


@dataclass(frozen=True)
class Gap:
    """Something that is wanted and cannot be planned, and why."""

    path: Path
    rule: str
    why: str


@dataclass(frozen=True)
class Want:
    """What is wanted of one path after all rules have met: a chosen value, or the item gone or present."""

    path: Path
    rule: str
    kind: Literal["set", "gone", "present"]
    value: Any = None
    demand: Between | OneOf | None = field(default=None, compare=False, repr=False)  # what the value was chosen from

    def suits(self, value: Any) -> bool:
        """Is this value as wanted, or as good: one that every rule takes?"""
        if value == self.value:
            return True
        match self.demand:
            case OneOf(_, _, values):
                return value in values
            case Between() as bounds:
                return _within(bounds, value)
        return False


Target = tuple[Want, ...]


def exactly(path: Path, rule: str, value: Any) -> Between | OneOf:
    """A demand for one value."""
    return (
        Between(path, rule, value, value)
        if isinstance(value, (int, float, AddressSet)) and not isinstance(value, bool)
        else OneOf(path, rule, (value,))
    )


def _within(d: Between, value: Any) -> bool:
    if isinstance(value, AddressSet | int | float):
        return (d.low is None or d.low <= value) and (d.high is None or value <= d.high)
    return False


def _join(a: Demand, b: Demand) -> Demand:
    both = a.rule if b.rule in a.rule.split(" and ") else f"{a.rule} and {b.rule}"
    match a, b:
        case Between(), Between():
            # sets meet by inclusion: at least the union of what must be in, at most what all allow
            if isinstance(a.low if a.low is not None else a.high, AddressSet):
                low = a.low | b.low if a.low is not None and b.low is not None else a.low if b.low is None else b.low
                high = (
                    a.high & b.high
                    if a.high is not None and b.high is not None
                    else a.high
                    if b.high is None
                    else b.high
                )
            else:
                lows, highs = (
                    [x for x in (a.low, b.low) if x is not None],
                    [x for x in (a.high, b.high) if x is not None],
                )
                low, high = max(lows, default=None), min(highs, default=None)
            if low is None or high is None or low <= high:
                return Between(a.path, both, low, high)
        case OneOf(), OneOf():
            if left := tuple(v for v in a.values if v in b.values):
                return OneOf(a.path, both, left)
        case (OneOf() as o, Between() as i) | (Between() as i, OneOf() as o):
            if left := tuple(v for v in o.values if _within(i, v)):
                return OneOf(a.path, both, left)
        case Gone(), Gone():
            return Gone(a.path, both)
        case Present(), Present():
            if all(dict(b.values).get(k, v) == v for k, v in a.values):
                return Present(a.path, both, tuple((dict(a.values) | dict(b.values)).items()))
        case _:
            raise Conflict(f"{show(a.path)}: the rules {a.rule} and {b.rule} disagree whether it may exist")
    raise Conflict(f"{show(a.path)}: the rules {a.rule} and {b.rule} leave no value that satisfies both")


def meet(demands: Iterable[Demand]) -> Mapping[Path, Demand]:
    """One demand per path. Raises Conflict naming both rules."""
    met: dict[Path, Demand] = {}
    for d in demands:
        met[d.path] = _join(met[d.path], d) if d.path in met else d
    inside: dict[Path, list[Demand]] = {}
    for path, d in met.items():
        inside.setdefault(path[:-1], []).append(d)
    for path, d in met.items():
        if isinstance(d, Gone) and (keeps := [m for m in inside.get(path, []) if not holds_secret(m.path)]):
            raise Conflict(f"{show(path)}: {d.rule} wants it gone, {keeps[0].rule} wants {show(keeps[0].path)}")
    return met


def choose(d: Between | OneOf, now: Any) -> Any:
    """The admissible value nearest to the present one; a `Gap` where only an upper set is known."""
    if isinstance(d, OneOf):
        return now if now in d.values else d.values[0]
    if isinstance(d.low if d.low is not None else d.high, AddressSet):
        if d.low is None and now is None:
            return Gap(
                d.path, d.rule, "the job says who must not get in, but not who must: add administrators to the segment"
            )
        low = d.low if d.low is not None else AddressSet()
        if not isinstance(now, AddressSet) or (d.high is not None and not (now <= d.high)):
            inside = (
                now & d.high
                if isinstance(now, AddressSet) and d.high is not None and not d.high <= now
                else AddressSet()
            )
            return (
                low | inside
                if low
                else Gap(d.path, d.rule, "nobody would be let in: add administrators to the segment")
            )
        return now | low
    if now is not None and now is not ABSENT and _within(d, now):
        return now
    if d.low is not None and (now is None or now is ABSENT or d.high is None or now < d.low):
        return d.low
    return d.high
