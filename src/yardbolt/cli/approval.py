"""Asking for approval, and the exit codes that findings and proofs give."""

from __future__ import annotations

import asyncio
import sys
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING

from yardbolt.application.prove import Proved
from yardbolt.core.errors import OperatorError
from yardbolt.core.judge.rules.rule import State
from yardbolt.core.run.documents import sound
from yardbolt.core.run.proofs import Result

if TYPE_CHECKING:
    from yardbolt.application.unit import UnitInWork

    from .yard import Yard


def agreed(question: str, yes: bool) -> bool:
    """Was it approved? Raises OperatorError where nobody is there to say so."""
    if yes:
        return True
    if not sys.stdin.isatty():
        raise OperatorError("this needs approval and nobody is at the keyboard; look at it first, then say --yes")
    sys.stdout.flush()
    return input(f"{question} (yes/no) ").strip().lower() in ("yes", "y")


def plate_asked(yard: Yard, unit: UnitInWork) -> Callable[[str], Awaitable[bool]] | None:
    """How to ask what the plate of the box says; None where nobody is at the keyboard."""
    if not sys.stdin.isatty():
        return None

    async def ask(marks: str) -> bool:
        says = f"does it say {marks}?" if marks else f"is this {unit.name}? The job file names no serial."
        async with unit.shared.asking:
            yard.progress.clear()
            return await asyncio.to_thread(agreed, f"{unit.name}: look at the plate of the box: {says}", False)

    return ask


def findings_code(states: list[State], complete: bool) -> int:
    """3 where something fails, 4 where something could not be judged."""
    if State.FAILS in states:
        return 3
    return 4 if State.UNKNOWN in states or not complete else 0


def proved_code(found: Proved) -> int:
    """3 where a proof fails or something is not as planned, else as the findings say."""
    if not sound(found.document):
        return 3
    tried = not any(proof.result is Result.NOT_TRIED for proof in found.proofs)
    return findings_code([one.state for one in found.findings], tried)
