"""Findings as causes: one cause, one line. A blank login by two doors is one thing to mend and not four."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from itertools import groupby

from yardbolt.core.judge.baseline import RANK, Finding
from yardbolt.core.judge.counting import leading
from yardbolt.core.judge.rules.rule import Severity, State
from yardbolt.core.plane.words import listed, spoken

MOST_NAMES = 6


@dataclass(frozen=True)
class Cause:
    """One thing to mend: how bad, in one sentence, what it rests on, and the findings behind it."""

    severity: Severity
    text: str
    basis: str
    findings: tuple[Finding, ...]


def causes(findings: Iterable[Finding]) -> tuple[Cause, ...]:
    """What fails, worst first, one line for each rule."""
    fails = [one for one in findings if one.state is State.FAILS]
    first = leading(one.counted for one in fails)
    left = [one for one in fails if one.counted in first]
    left.sort(key=lambda one: (RANK[one.severity], one.number))
    return tuple(_cause(tuple(found)) for _, found in groupby(left, key=lambda one: (one.severity, one.number)))


def _cause(found: tuple[Finding, ...]) -> Cause:
    return Cause(found[0].severity, sentence(found), found[0].basis, found)


def sentence(found: tuple[Finding, ...]) -> str:
    """Findings of one rule in one sentence: subjects that share a cause together, the others as each was seen."""
    parts = [
        f"{briefly(spoken(one.subject[:2]) for one in found if one.cause == cause)}: {cause}"
        for cause in dict.fromkeys(one.cause for one in found)
        if cause
    ]
    own = list(dict.fromkeys(one.saw for one in found if not one.cause))
    if own:
        parts.append(f"{found[0].title}: {'; '.join(own)}")
    return "; ".join(parts)


def briefly(words: Iterable[str]) -> str:
    """Names in one breath: of many only the first, and how many more."""
    names = list(dict.fromkeys(words))
    return (
        listed(names)
        if len(names) <= MOST_NAMES
        else f"{', '.join(names[:MOST_NAMES])} and {len(names) - MOST_NAMES} more"
    )
