"""`baseline`: what is demanded."""

from __future__ import annotations

from pathlib import Path

from yardbolt.core.judge.rules import RULES
from yardbolt.core.plane.words import duration

from . import show, wiring
from .screen import Cell, Screen


def shown(name: str, job: Path, no_color: bool) -> int:
    """A baseline, requirement by requirement."""
    baseline = wiring.named_baseline(name, job.parent)
    screen = Screen(no_color)
    screen.say(show.baseline_line(baseline))
    screen.say("")
    rows: list[list[Cell]] = []
    for one in baseline.requirements:
        numbers = (f"{k} {duration(v) if isinstance(v, float) else v}" for k, v in one.params.items())
        severity = one.severity.value
        rows.append([str(one.number), (severity, severity), one.rule, RULES[one.rule].right, ", ".join(numbers)])
    screen.rows(rows, indent=0, heads=["", "severity", "rule", "requirement", "numbers"])
    return 0
