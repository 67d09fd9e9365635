"""`tighten`: carry out the sheets, guarded and journaled, then prove."""

from __future__ import annotations

import asyncio
from pathlib import Path

from yardbolt.application.steps import Choices, Plan
from yardbolt.application.tighten import Tightened
from yardbolt.application.tighten import tighten as run
from yardbolt.application.unit import UnitInWork
from yardbolt.core.plan.sheet import Refused
from yardbolt.core.plan.words import short
from yardbolt.core.plane.path import show as show_path
from yardbolt.core.plane.words import listed

from . import show, show_plan, show_proofs
from .approval import agreed, plate_asked, proved_code
from .logins import known
from .screen import Cell, Screen
from .units import each
from .values import Depth, Wish
from .yard import Yard, alone, copy_notice


class Consent:
    """Asking for approval, one unit at a time and in a thread of its own, so that others go on; equal plans of equal
    units are asked once."""

    def __init__(self, yard: Yard, screen: Screen, yes: bool, depth: Depth) -> None:
        self.yard, self.screen, self.yes, self.depth = yard, screen, yes, depth

    async def asked(self, made: Plan, unit: UnitInWork, resumed: bool) -> bool:
        """Was this plan approved?"""
        async with unit.shared.asking:
            self.yard.progress.clear()
            assert not isinstance(made.sheet, Refused)
            told, plan = show_plan.summary(made.sheet), show_plan.signature(made.sheet, unit)
            name: Cell = (unit.name, "head")
            if resumed:
                self.screen.say(name, "  an earlier run was cut off; what is left of the approved changes:")
            if first := unit.shared.approved.get(plan):
                self.screen.say(name, f"  PLAN  the same as {first}: {told}")
                return True
            if unit.record.history().shown == plan and not self.depth:
                self.screen.say(name, f"  PLAN  as shown by steps: {told}")
            else:
                show_plan.plan(self.screen, made, unit, self.depth)
            question = f"Carry it out on {unit.name}, and on units with the same plan?"
            good = await asyncio.to_thread(agreed, question, self.yes)
            if good:
                unit.shared.approved[plan] = unit.name
            return good


def tighten(
    units: list[str] | None, job: Path, yes: bool, choices: Choices, replan: bool, wish: Wish, this_one: bool,
    depth: Depth, key_file: Path | None, ports: tuple[int, int], jobs: int, quiet: bool, no_color: bool,
) -> int:  # fmt: skip
    """Carry out the sheets of units."""
    with Yard(job, quiet, ports) as yard:
        names = yard.units(units)
        by = known(yard, names, wish)
        yard.open_safe(key_file)
        screen = Screen(no_color)
        consent = Consent(yard, screen, yes, depth)
        if notice := copy_notice(yard):
            screen.say((notice, "medium"))

        async def work(name: str) -> int:
            unit = yard.unit(name)
            unit.this_one, unit.plate = this_one, plate_asked(yard, unit)
            by.give(unit)

            async def approve(made: Plan, resumed: bool) -> bool:
                return await consent.asked(made, unit, resumed)

            with alone(job, name):
                done = await run(unit, approve, choices, replan)
            await yard.turns.of(name)
            yard.progress.clear()
            show_proofs.proved(screen, done.proved, unit, depth, _told(done, unit))
            if done.now:
                more = listed(short(change) for change in done.now)
                screen.item(("POSSIBLE NOW  ", "medium"), f"{more}: what was not read before could be read")
            then = f"yardbolt steps {name}" if done.now else show_proofs.after(done.proved, unit)
            show.next_line(screen, then)
            return proved_code(done.proved)

        return each(yard, names, jobs, work)


def _told(done: Tightened, unit: UnitInWork) -> str:
    if not done.steps:
        left = " that can be done here" if done.plan.gaps else ""
        return f"nothing to change{left}; "
    again = " (taken up where it was cut off)" if done.resumed else ""
    known = unit.record.history()
    missed = sum(show_path(path) in known.left_out for path in done.proved.missing)
    more = [f"{missed} change{'s' if missed > 1 else ''} left out"] if missed else []
    more += ["a trial failed"] if known.gate else []
    steps = "1 step" if done.steps == 1 else f"{'' if more else 'all '}{done.steps} steps"
    return f"{steps} done, each read back{again}{''.join(f', {one}' for one in more)}; "
