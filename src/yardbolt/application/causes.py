"""Findings as causes: one cause, one line. A blank login by two doors is one thing to mend and not four."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from yardbolt.core.judge.baseline import RANK, Finding
from yardbolt.core.judge.rules.rule import Severity, State


@dataclass(frozen=True)
class Cause:
    """One thing to mend: how bad, in one sentence, what it rests on, and the findings behind it."""

    severity: Severity
    text: str
    basis: str
    findings: tuple[Finding, ...]


def names(words: Iterable[str]) -> str:
    """`a`, `a and b`, `a, b and c`."""
    *most, last = list(dict.fromkeys(words)) or [""]
    return f"{', '.join(most)} and {last}" if most else last


def _second(found: Sequence[Finding]) -> str:
    return names(
        one.subject[1].replace("tcp-", "port ") if one.subject[0] == "answering" else one.subject[1]
        for one in found
        if len(one.subject) > 1
    )


def _published(found: Sequence[Finding]) -> str:
    blank = [one for one in found if "no password" in one.saw]
    rest = [one for one in found if one.subject not in {b.subject for b in blank}]
    ways = ((blank, "without a password"), (rest, "with the published password"))
    told = [
        f"{_second(some)} open{'s' if len({o.subject for o in some}) == 1 else ''} {how}" for some, how in ways if some
    ]
    return ", ".join(told)


def _missing(found: Sequence[Finding]) -> str:
    gone = [one for one in found if one.saw == "no such account"]
    if len(gone) == len(found):
        return f"{_second(found)} {'are' if len(found) > 1 else 'is'} missing"
    return "; ".join(f"{one.subject[1]}: {one.saw}" for one in found)


def _reach(found: Sequence[Finding]) -> str:
    if all(one.saw.startswith("anyone") for one in found):
        return f"anyone may reach {_second(found)}"
    return "; ".join(one.saw for one in found)


LINES: dict[str, Callable[[Sequence[Finding]], str]] = {
    "factory-login": _published,
    "own-account": _missing,
    "open-sources": _reach,
    "plain-service": lambda found: f"{_second(found)} on, passwords readable",
    "login-keys": lambda found: "; ".join(one.saw for one in found),
    "needed-services": lambda found: "; ".join(one.saw for one in found),
    "account-name": lambda found: f"{_second(found)}: names anybody tries first",
}
# what the second rule says of a subject follows from what the first one says of it
SAME_CAUSE = (("factory-login", "weak-password"), ("plain-service", "needed-services"))


def causes(findings: Iterable[Finding]) -> tuple[Cause, ...]:
    """What fails, worst first, one line for each cause."""
    fails = [one for one in findings if one.state is State.FAILS]
    told = {(one.rule, one.subject[:2]) for one in fails}
    by_rule: dict[str, list[Finding]] = {}
    for one in fails:
        if not any((first, one.subject[:2]) in told for first, second in SAME_CAUSE if one.rule == second):
            by_rule.setdefault(one.rule, []).append(one)
    out = [_cause(rule, found) for rule, found in by_rule.items()]
    return tuple(sorted(out, key=lambda cause: RANK[cause.severity]))


def _cause(rule: str, found: list[Finding]) -> Cause:
    worst = min(found, key=lambda one: RANK[one.severity])
    special = LINES.get(rule)
    text = special(found) if special else f"{worst.title}: {'; '.join(dict.fromkeys(one.saw for one in found))}"
    return Cause(worst.severity, text, worst.basis, tuple(found))
