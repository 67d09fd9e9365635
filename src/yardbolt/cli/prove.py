"""`prove`: read everything again and try it out. Never writes."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from yardbolt.application.prove import prove as run

from . import show, show_proofs
from .approval import proved_code
from .logins import known
from .screen import Screen
from .units import each
from .values import Depth, Wish, output_format
from .yard import Yard


def prove(
    units: list[str] | None, job: Path, wish: Wish, depth: Depth, key_file: Path | None, ports: tuple[int, int],
    report_format: str, output: Path | None,
    jobs: int, quiet: bool, no_color: bool,
) -> int:  # fmt: skip
    """Prove units and show what held."""
    output_format(report_format)
    with Yard(job, quiet, ports) as yard:
        names = yard.units(units)
        by = known(yard, names, wish)
        yard.open_safe(key_file)
        screen = Screen(no_color, output)
        documents: dict[str, Any] = {}

        async def work(name: str) -> int:
            unit = yard.unit(name)
            by.give(unit)
            found = await run(unit)
            await yard.turns.of(name)
            yard.progress.clear()
            if report_format == "json":
                documents[name] = show.document(found)
            else:
                show_proofs.proved(screen, found, unit, depth)
                show.next_line(screen, show_proofs.after(found, unit))
            return proved_code(found)

        code = each(yard, names, jobs, work)
        if report_format == "json":
            documents |= {name: {"error": told} for name, told in yard.troubles.items()}
            screen.raw(json.dumps(documents, indent=2, sort_keys=True, default=vars))
        screen.close()
        return code
