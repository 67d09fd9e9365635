"""Conditions of a way in: each holds, fails or is not known, and rests on paths."""

from __future__ import annotations

from dataclasses import dataclass

from ..plane.path import Path


@dataclass(frozen=True)
class Condition:
    """One thing that must hold for a login. `holds` is None where it was not read; `paths` is what was looked at to
    tell."""

    paths: frozenset[Path]
    holds: bool | None
    why: str


@dataclass(frozen=True)
class Admission:
    """The answer: one sure no decides, else one unknown, else yes."""

    admitted: bool | None
    conditions: tuple[Condition, ...]

    @property
    def because(self) -> tuple[Condition, ...]:
        """The conditions that decided it: those that fail, or else those not known."""
        return tuple(c for c in self.conditions if c.holds is False) or tuple(
            c for c in self.conditions if c.holds is None
        )


def admission(found: tuple[Condition, ...]) -> Admission:
    """What some conditions amount to."""
    verdicts = {c.holds for c in found}
    return Admission(False if False in verdicts else None if None in verdicts else True, found)


def one_path(path: Path, holds: bool | None, why: str) -> Condition:
    return Condition(frozenset({path}), holds, why)
