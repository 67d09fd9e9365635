"""`tighten`: carry out the sheets, guarded and journaled, then prove."""

from __future__ import annotations

import asyncio
from pathlib import Path

from yardbolt.application.steps import Choices, Plan
from yardbolt.application.tighten import Tightened
from yardbolt.application.tighten import tighten as run
from yardbolt.core.plan.arrange import Refused

from . import show, wiring
from .approval import agreed, proved_code
from .logins import known
from .screen import Cell, Screen


def tighten(
    units: list[str] | None, job: Path, yes: bool, choices: Choices, anew: bool, login: tuple[str, Path | None, bool], this_one: bool,
    key_file: Path | None, ports: tuple[int, int],
    jobs: int, quiet: bool, no_color: bool,
) -> int:  # fmt: skip
    """Carry out the sheets of units."""
    with wiring.Yard(job, quiet, ports) as yard:
        names = yard.units(units)
        by = known(names, *login)
        yard.open_safe(key_file)
        screen = Screen(no_color)
        one_at_a_time = asyncio.Lock()

        async def work(name: str) -> int:
            unit = yard.unit(name)
            unit.this_one = this_one
            await by.give(unit)

            async def approve(made: Plan, resumed: bool) -> bool:
                async with one_at_a_time:
                    yard.progress.clear()
                    if resumed:
                        screen.say(
                            (name, "head"), "  an earlier run was cut off; what is left of the approved changes:"
                        )
                    show.plan(screen, made, unit)
                    screen.say("")
                    assert not isinstance(made.sheet, Refused)
                    return agreed(f"Carry out these {len(made.sheet.steps)} steps on {name}?", yes)

            with wiring.alone(job, name):
                done = await run(unit, approve, choices, anew)
            yard.progress.clear()
            _told(screen, name, done)
            screen.say("")
            show.proved(screen, done.proved, unit)
            screen.say("")
            screen.say(("Next: ", "next"), f"yardbolt sheet {name}")
            return proved_code(done.proved)

        return wiring.each(yard, names, jobs, work)


def _told(screen: Screen, name: str, done: Tightened) -> None:
    if done.outcome is None:
        screen.say((name, "head"), "  nothing to change: it is as it should be")
        return
    again: Cell = (" (taken up where it was cut off)" if done.resumed else "", "faint")
    screen.say((name, "head"), f"  all {done.outcome.at} steps done, each read back", again)
