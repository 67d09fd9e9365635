"""`check`: see how units are set, from outside, then from inside."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from yardbolt.application.board import stage
from yardbolt.application.check import check as run

from . import show
from .approval import findings_code
from .logins import known
from .screen import Screen
from .units import each
from .values import Depth, Wish, output_format
from .yard import Yard


def check(
    units: list[str] | None, job: Path, wish: Wish, outside: bool, depth: Depth, key_file: Path | None,
    ports: tuple[int, int], report_format: str, output: Path | None, jobs: int, quiet: bool, no_color: bool,
) -> int:  # fmt: skip
    """Check units and show what was found."""
    output_format(report_format)
    with Yard(job, quiet, ports) as yard:
        names = yard.units(units)
        login = known(yard, names, wish)
        if wish.keep or (not outside and yard.needs_safe(names)):
            yard.open_safe(key_file)
        screen = Screen(no_color, output)
        documents: dict[str, Any] = {}
        shown = 0

        async def work(name: str) -> int:
            nonlocal shown
            unit = yard.unit(name)
            login.give(unit)
            found = await run(unit, not outside)
            await yard.turns.of(name)
            yard.progress.clear()
            if report_format == "json":
                documents[name] = show.document(found)
            else:
                if shown:
                    screen.say("")
                show.checked(screen, found, unit, depth)
                show.next_line(screen, stage(name, yard.records, lambda: unit.family).next)
            shown += 1
            return findings_code([one.state for one in found.findings], found.reading is not None)

        code = each(yard, names, jobs, work)
        if report_format == "json":
            documents |= {name: {"error": told} for name, told in yard.troubles.items()}
            screen.raw(json.dumps(documents, indent=2, sort_keys=True, default=vars))
        screen.close()
        return code
