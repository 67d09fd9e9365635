"""The job board: where each unit stands, and the next command."""

from __future__ import annotations

import sys
from functools import partial
from pathlib import Path

from yardbolt import __version__

BEGIN = """No job here. Begin with one of:
  yardbolt demo                     the whole job on a simulated unit
  yardbolt new FOLDER               a job of your own
  yardbolt check --at ADDRESS       look at any host from outside
"""


def version() -> int:
    """The version."""
    sys.stdout.write(f"yardbolt {__version__}\n")
    return 0


def board(job: Path, no_color: bool) -> int:
    """The job board, or where to begin."""
    if not job.is_file():
        sys.stdout.write(BEGIN)
        return 0 if job == Path("yard.yaml") else 2
    from yardbolt.application.board import stage

    from .screen import Cell, Screen
    from .yard import Yard

    with Yard(job) as yard:
        screen = Screen(no_color)
        screen.say((f"{yard.job.title}, for {yard.job.owner}", "head"))
        table: list[list[Cell]] = []
        for name in yard.job.units:
            stands = stage(name, yard.records, partial(yard.family_of, name))
            state = stands.count.in_words() if stands.checked else ""
            style = "bad" if stands.count.failing else "unknown" if stands.count.unknown else "good"
            table.append([stands.unit, stands.stage, (state, style), stands.worst, (stands.next, "next")])
        screen.rows(table, indent=0, heads=["unit", "stage", "findings", "worst", "next"])
        return 0
