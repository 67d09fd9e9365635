"""`leave`: end this laptop's own opening on units, the last change of all."""

from __future__ import annotations

import asyncio
from pathlib import Path

from yardbolt.application.leave import leave as run
from yardbolt.core.addresses import AddressSet
from yardbolt.core.plane.words import brief, listed

from . import show
from .approval import agreed
from .logins import known
from .screen import Screen
from .units import each
from .values import Wish
from .yard import Yard, alone


def leave(
    units: list[str] | None, job: Path, yes: bool, wish: Wish, key_file: Path | None, ports: tuple[int, int],
    quiet: bool,
    no_color: bool,
) -> int:  # fmt: skip
    """Leave units, one after the other: each is asked about."""
    with Yard(job, quiet, ports) as yard:
        names = yard.units(units)
        by = known(yard, names, wish)
        yard.open_safe(key_file)
        screen = Screen(no_color)

        async def work(name: str) -> int:
            unit = yard.unit(name)
            by.give(unit)
            laptop, near = unit.site.laptop, unit.facts.entry.address

            async def approve(services: tuple[str, ...], sources: AddressSet) -> bool:
                yard.progress.clear()
                screen.say(
                    (name, "head"), ("  ONE-SHOT CHANGE  ", "bad"),
                    f"{listed(services)} no longer lets in {brief(AddressSet.of(laptop), near)}, this laptop, but only "
                    f"{brief(sources, near)}",
                )  # fmt: skip
                screen.say("After it this laptop cannot log in, and cannot take it back.", indent=2)
                return await asyncio.to_thread(agreed, f"End this laptop's opening on {name}?", yes)

            with alone(job, name):
                left = await run(unit, approve)
            yard.progress.clear()
            last = left.document.proofs[-len(left.services) :]
            screen.say(
                (name, "head"), "  LEFT  ", f"saved and read back; this laptop: {listed(one.saw for one in last)}"
            )
            show.next_line(screen, f"yardbolt sheet {name}")
            failed = any(one.result == "fails" for one in last)
            return 3 if failed else 0 if all(one.result == "holds" for one in last) else 4

        return each(yard, names, 1, work)
