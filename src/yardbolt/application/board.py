"""The job board: where a unit stands, and the next command. Touches no unit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yardbolt.core.judge.counting import Count, count
from yardbolt.core.run.documents import CheckDocument, Filed, LeftDocument, TargetDocument, sound
from yardbolt.core.run.ending import ending

if TYPE_CHECKING:
    from yardbolt.core.family.model import Family
    from yardbolt.core.ports import Records


@dataclass(frozen=True)
class Stage:
    """Where a unit stands, for the job board: what is open, and the next command."""

    unit: str
    stage: str
    checked: bool
    count: Count
    worst: str
    next: str


def stage(name: str, records: Records, family: Callable[[], Family]) -> Stage:
    """Where a unit stands. Its family is asked for only where the answer hangs on it."""
    checked = records.latest(name, "check", CheckDocument)
    left = records.latest(name, "as left", LeftDocument)
    last: Filed[LeftDocument] | Filed[CheckDocument] | None = checked
    if left and checked and left.number > checked.number:
        last = left
    findings = last.document.findings if last else ()
    fails = [row for row in findings if row.state == "fails"]
    counted = count(row.counted for row in findings)
    at, then = _stage(name, records, family, checked, left, counted)
    return Stage(name, at, last is not None, counted, fails[0].title if fails else "", f"yardbolt {then} {name}")


def _stage(
    name: str, records: Records, family: Callable[[], Family], checked: Filed[CheckDocument] | None,
    left: Filed[LeftDocument] | None, counted: Count,
) -> tuple[str, str]:  # fmt: skip
    if checked is None:
        return "not begun", "check"
    _, unfinished = records.history().of(name).open_run()
    if unfinished:
        return "tightening", "tighten"
    if left and left.number > checked.number:
        if records.history().of(name).handed_over == left.number:
            return "handed over", "prove"
        return ending(sound(left.document), counted, bool(left.document.owed)).value, "sheet"
    if not checked.document.complete:
        # a published login that is good leads in; where none is, somebody has to give one
        good = any(row.gate or row.outcome == "opened" for row in checked.document.outside.tried)
        return "checked", "enter" if good else "check --as NAME"
    history = records.history().of(name)
    target = records.latest(name, "target", TargetDocument)
    # what was done before it was reset is no more
    if target and target.time < history.reset_at:
        return "reset", "tighten" if history.shown else "steps"
    if target:
        return "tightened", "steps" if counted.failing else "prove"
    if history.shown:
        return "planned", "tighten"
    return "read", "steps" if family().ops else "sheet"
