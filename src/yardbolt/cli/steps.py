"""`steps`: the rehearsed step sheets. Sends nothing."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

from yardbolt.application.steps import Choices, Plan, change_key
from yardbolt.application.steps import steps as run
from yardbolt.core.errors import YardboltError
from yardbolt.core.plan.sheet import Refused
from yardbolt.core.plan.words import describe_step, way_back
from yardbolt.core.run.events import PlanShown

from . import show, show_plan
from .screen import Screen
from .values import Depth, output_format, worst
from .yard import Yard


def steps(
    units: list[str] | None,
    job: Path,
    choices: Choices,
    depth: Depth,
    report_format: str,
    output: Path | None,
    no_color: bool,
) -> int:
    """Plan units and show their sheets."""
    output_format(report_format)
    with Yard(job) as yard:
        screen = Screen(no_color, output)
        documents: dict[str, Any] = {}
        codes = []
        for place, name in enumerate(yard.units(units)):
            unit = yard.unit(name)
            try:
                made = run(unit, choices)
            except YardboltError as e:
                sys.stderr.write(f"yardbolt: {e}\n")
                codes.append(e.exit_code)
                continue
            if report_format == "json":
                documents[name] = _document(made)
            else:
                if place:
                    screen.say("")
                if unit.record.history().open_run()[1]:
                    screen.say(
                        (name, "head"),
                        "  a run was cut off: tighten reads the unit again and does what is left of this plan:",
                    )
                show_plan.plan(screen, made, unit, depth)
                if not isinstance(made.sheet, Refused):
                    unit.record.note(PlanShown(plan=show_plan.signature(made.sheet, unit)))
                if not isinstance(made.sheet, Refused) and made.sheet.steps:
                    leaps = "".join(f" --leap {leap}" for leap in sorted(choices.leaps))
                    show.next_line(screen, f"yardbolt tighten {name}{leaps}")
            codes.append(5 if isinstance(made.sheet, Refused) else 4 if made.gaps else 0)
        if report_format == "json":
            screen.raw(json.dumps(documents, indent=2))
        screen.close()
        return worst(codes)


def _document(made: Plan) -> dict[str, Any]:
    sheet = made.sheet
    if isinstance(sheet, Refused):
        return {"refused": list(sheet.why)}
    rows = [
        {
            "kind": step.kind.value,
            "does": describe_step(step, made.plane),
            "change": change_key(step.change) if step.change else None,
            "phase": step.phase,
            "reason": step.reason,
            "standing": step.standing.value,
            "access kept by": [f"{way.account} by {way.service}" for way in step.still],
            "back-out": way_back(step),
        }
        for step in sheet.steps
    ]
    gaps = [{"path": "/".join(gap.path), "why": gap.why, "rule": gap.rule} for gap in made.gaps]
    return {"steps": rows, "gaps": gaps}
