"""The step sheet of one unit, or why there is none."""

from __future__ import annotations

from dataclasses import dataclass

from ..judge.demands import Gap, Target
from ..plane.change import Change
from .belief import Belief
from .rehearse import Step


@dataclass(frozen=True)
class Sheet:
    """The step sheet of one unit: rehearsed steps, what cannot be planned, and what is believed at the end."""

    unit: str
    steps: tuple[Step, ...]
    gaps: tuple[Gap, ...]
    changes: tuple[Change, ...]
    forecast: Belief
    target: Target = ()
    gate: frozenset[str] = frozenset()  # what must be refused and was not when it was tried last


@dataclass(frozen=True)
class Refused:
    """No order of the changes keeps a way in, or something must be decided first. Each line says what is blocked and
    why."""

    why: tuple[str, ...]
