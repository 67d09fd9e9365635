"""`family`: what is known of one make."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from . import wiring
from .screen import Cell, Screen
from .units import each
from .values import Wish
from .yard import Yard

SHOWN = 60  # characters of a value
SEEN_FROM_OUTSIDE = ("trials", "answering", "first_run", "certificates")
TRIED = (("accounts", "*", "secret"), ("accounts", "*", "weakness"), ("services", "*", "shows"))


def listed(no_color: bool) -> int:
    """The shipped families, as their files say; they are checked when they are used."""
    rows: list[list[Cell]] = []
    for name, path in wiring.shipped("families").items():
        tree = wiring.outline(path)
        services = [service for channel in tree["channels"].values() for service in channel["services"]]
        ops = f"{len(tree['ops'])} ops" if tree.get("ops") else "reads only"
        rows.append([name, tree["title"], ", ".join(services), f"{len(tree['asks'])} asks", ops])
    Screen(no_color).rows(rows, indent=0)
    return 0


def check(file: Path, no_color: bool) -> int:
    """Check a family file, and list what it does not read."""
    from yardbolt.core.plan.foresight import bites
    from yardbolt.core.plane.path import show
    from yardbolt.core.plane.table import TABLE

    family = wiring.load_family(file)
    screen = Screen(no_color)
    covered = family.covers()
    unread = [
        path
        for path, row in TABLE.items()
        if row.unit not in ("list", "item")
        and path not in covered
        and path[0] not in SEEN_FROM_OUTSIDE
        and path not in TRIED
        # of a list that this make does not have, nothing is unread
        if not any(path[: len(lacked)] == lacked for lacked in family.lacks)
    ]
    screen.say((family.title, "head"), f"  {len(family.asks)} asks, {len(family.ops)} ops: the file is sound")
    foreseen = bites(family)
    if foreseen:
        screen.head("Would bite later", "sound, and yet")
        screen.rows([[one] for one in foreseen])
    screen.head("Not read by this family", "these stay unknown")
    beside: dict[str, list[str]] = {}
    for path in unread:
        beside.setdefault(show(path[:-1]) or path[-1], []).append(path[-1] if path[1:] else "")
    screen.rows([[above, ", ".join(filter(None, leaves))] for above, leaves in beside.items()])
    return 0


def look(
    name: str, place: str, job: Path, values: bool, wish: Wish, key_file: Path | None, quiet: bool, no_color: bool
) -> int:
    """The places of one page or object of a unit, as a family file names them. Of what stands there only the kind,
    unless the values are asked for: a unit may show secrets."""
    from yardbolt.application.places import seen_at

    from .logins import known

    with Yard(job, quiet) as yard:
        names = yard.units([name])
        by = known(yard, names, wish)
        yard.open_safe(key_file)

        async def work(name: str) -> int:
            unit = yard.unit(name)
            by.give(unit)
            found = await seen_at(unit, place)
            yard.progress.clear()
            rows: list[list[Cell]] = [[at, _value(held) if values else _kind(held)] for at, held in found]
            Screen(no_color).rows(rows or [["nothing"]], indent=0)
            return 0

        return each(yard, names, 1, work)


def _value(held: Any) -> str:
    from yardbolt.core.talk.tree import Sort

    if isinstance(held, Sort):
        return f"({held.sort}{f'; now {held.now}' if held.now else ''})"
    texts = ", ".join(map(str, held)) if isinstance(held, list) else "null" if held is None else str(held)
    return texts if len(texts) <= SHOWN else f"{texts[:SHOWN]}..."


def _kind(held: Any) -> str:
    from yardbolt.core.talk.tree import Sort

    match held:
        case Sort(sort):
            return f"({sort})"
        case None:
            return "null"
        case bool():
            return "yes or no"
        case int() | float():
            return "a number"
        case list():
            return f"a list of {len(held)}"
    return "a text" if held else "empty"
