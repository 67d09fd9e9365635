"""Findings as causes: one cause, one line. A blank login by two doors is one thing to fix and not four. The screen
and the sheet say the same."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import groupby
from typing import Generic, NamedTuple, Protocol, TypeVar

from ..plane.words import listed
from .counting import SEVERITIES, Counted, leading

MOST_NAMES = 6


class Judged(Protocol):
    """A finding, as it was judged or as it is on record. `name`: the account, service or group of settings it is
    about."""

    @property
    def number(self) -> int: ...
    @property
    def title(self) -> str: ...
    @property
    def saw(self) -> str: ...
    @property
    def basis(self) -> str: ...
    @property
    def cause(self) -> str: ...
    @property
    def name(self) -> str: ...
    @property
    def counted(self) -> Counted: ...


Kind = TypeVar("Kind", bound=Judged)


@dataclass(frozen=True)
class Cause(Generic[Kind]):
    """One thing to fix: how bad, in one sentence, what it rests on, and the findings behind it."""

    severity: str
    text: str
    basis: str
    findings: tuple[Kind, ...]


def causes(findings: Iterable[Kind]) -> tuple[Cause[Kind], ...]:
    """What fails, worst first, one line for each rule."""
    fails = [(one.counted, one) for one in findings]
    fails = [row for row in fails if row[0].state == "fails"]
    first = leading(counted for counted, _ in fails)
    left = [row for row in fails if row[0] in first]
    left.sort(key=lambda row: (SEVERITIES.index(row[0].severity), row[0].number))
    groups = groupby(left, key=lambda row: (row[0].severity, row[0].number))
    return tuple(_cause(severity, tuple(one for _, one in found)) for (severity, _), found in groups)


def _cause(severity: str, found: tuple[Kind, ...]) -> Cause[Kind]:
    return Cause(severity, sentence(found), found[0].basis, found)


def sentence(found: Sequence[Judged]) -> str:
    """Findings of one rule in one sentence: subjects that share a cause together, the others as each was seen."""
    parts = [
        f"{briefly(one.name for one in found if one.cause == cause)}: {cause}"
        for cause in dict.fromkeys(one.cause for one in found)
        if cause
    ]
    own = list(dict.fromkeys(one.saw for one in found if not one.cause))
    if own:
        parts.append(f"{found[0].title}: {'; '.join(own)}")
    return "; ".join(parts)


def unjudged(findings: Iterable[Judged]) -> list[str]:
    """What could not be judged, a sentence for each rule."""
    grouped: dict[str, list[Judged]] = {}
    for one in findings:
        if one.counted.state == "unknown":
            grouped.setdefault(one.title, []).append(one)
    return [sentence(some) for some in grouped.values()]


class Row(NamedTuple):
    """A line of a list of findings."""

    state: str
    severity: str
    text: str


def rows(findings: Sequence[Kind], holding: bool = False) -> list[Row]:
    """What fails, what is waived and what could not be judged, a line for each cause; and what holds, where that is
    wanted."""
    out = [Row("fails", cause.severity, cause.text) for cause in causes(findings)]
    every = [(one.counted, one) for one in findings]
    out += [
        Row("waived", counted.severity, f"{one.title}: {one.saw}")
        for counted, one in every
        if counted.state == "waived"
    ]
    out += [Row("unknown", "", text) for text in unjudged(findings)]
    good: dict[str, list[Kind]] = {}
    for counted, one in every:
        if counted.state == "holds" and holding:
            good.setdefault(one.title, []).append(one)
    return out + [Row("holds", "", f"{title} ({briefly(one.name for one in some)})") for title, some in good.items()]


def briefly(words: Iterable[str]) -> str:
    """Names in one breath: of many only the first, and how many more."""
    names = list(dict.fromkeys(words))
    return (
        listed(names)
        if len(names) <= MOST_NAMES
        else f"{', '.join(names[:MOST_NAMES])} and {len(names) - MOST_NAMES} more"
    )
