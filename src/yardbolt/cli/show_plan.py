"""The step sheet on screen: changes that go together on one line, with who is still in and the way back; on wish every
step with its reason."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass, field

from yardbolt.application.steps import Plan
from yardbolt.application.unit import UnitInWork
from yardbolt.core.addresses import AddressSet
from yardbolt.core.plan.arrange import Refused, Sheet
from yardbolt.core.plan.belief import Standing
from yardbolt.core.plan.rehearse import Kind, Step
from yardbolt.core.plan.words import describe_step
from yardbolt.core.plane.change import Change, Drop, Make, Set
from yardbolt.core.plane.path import show
from yardbolt.core.plane.table import holds_secret
from yardbolt.core.plane.words import brief, human, listed, spoken

from .screen import Cell, Screen

WIDEST_GROUP = 44
SECONDS = {Kind.WRITE: 1.0, Kind.PROVE: 2.0, Kind.SAVE: 1.0, Kind.TRY: 5.0, Kind.ACTIVATE: 5.0, Kind.CONFIRM: 1.0}
BETWEEN = {
    Kind.PROVE: "log in anew",
    Kind.TRY: "try the stranger",
    Kind.SAVE: "save",
    Kind.ACTIVATE: "put in force",
    Kind.CONFIRM: "confirm",
    Kind.RESTART: "restart",
}


def still_in(step: Step) -> Cell:
    """By whom one is still in after a step."""
    match step.standing:
        case Standing.PROVEN:
            return step.still[0].account if step.still else "?", "good"
        case Standing.HELD:
            return "the open session", "medium"
        case Standing.LEAP:
            return "ONE-SHOT CHANGE", "bad"
        case Standing.LOST:
            return "NO WAY IN", "bad"


def back_of(step: Step) -> Cell:
    """Is there a way back?"""
    if step.back == "no way back":
        return "NONE" if isinstance(step.change, Drop) else "none", "bad"
    return ("not needed", "faint") if step.back == "none needed" else "yes"


def phrase(change: Change, unit: UnitInWork) -> str:
    """A change in as few words as say it."""
    match change:
        case Set(path, _) if holds_secret(path):
            return f"{path[1]}: new password"
        case Set(("services", name, "permitted"), AddressSet() as sources):
            return f"{name} from {brief(sources, unit.entry.address)}"
        case Set((_, name, "enabled"), on):
            return f"{name} {'on' if on else 'off'}"
        case Set(("clock", _), _):
            return "clock"
        case Set((("name" | "banner") as leaf,), _):
            return leaf
        case Set(("policy", "min_length" | "classes"), value):
            return human(change.path, value)
        case Set(path, value):
            return f"{spoken(path)} {human(path, value)}"
        case Make(path, _):
            return f"make {path[-1]}"
        case Drop(path):
            return f"remove {path[-1]}"
    return show(change.path)


@dataclass
class Line:
    """Changes that go together."""

    numbers: list[int] = field(default_factory=list)
    words: list[str] = field(default_factory=list)
    still: Cell = ""
    back: Cell = ""

    def text(self) -> str:
        """The words, a verb they share said once."""
        for verb in ("make ", "remove "):
            if all(word.startswith(verb) for word in self.words):
                return verb + listed(word.removeprefix(verb) for word in self.words)
        return ", ".join(self.words)

    def row(self) -> list[Cell]:
        """It as a row of the table."""
        first, last = self.numbers[0], self.numbers[-1]
        return [str(first) if first == last else f"{first}-{last}", self.text(), self.still, self.back]


def lines(sheet: Sheet, unit: UnitInWork) -> Iterator[list[Cell]]:
    """The sheet in few lines."""
    line, between, number = Line(), list[str](), 0
    for step in sheet.steps:
        if step.kind is not Kind.WRITE:
            word = BETWEEN[step.kind]
            # logins between changes that go together need not be told one by one
            if word not in between:
                between.append(word)
            continue
        assert step.change is not None
        number += 1
        words, still, back = phrase(step.change, unit), still_in(step), back_of(step)
        verb = words.split()[0] in ("make", "remove")
        apart = (still, back) != (line.still, line.back) or verb != (
            line.words[:1] != [] and line.words[0].split()[0] in ("make", "remove")
        )
        full = len(line.text()) + len(words) > WIDEST_GROUP
        if line.numbers and (apart or full or set(between) - {BETWEEN[Kind.PROVE]}):
            yield line.row()
            line = Line()
            if set(between) - {BETWEEN[Kind.PROVE]}:
                yield ["", (", ".join(between), "faint"), "", ""]
        between = []
        line.numbers.append(number)
        line.words.append(words)
        line.still, line.back = still, back
    if line.numbers:
        yield line.row()
    if between:
        yield ["", (", ".join(between), "faint"), "", ""]


def signature(sheet: Sheet, unit: UnitInWork) -> str:
    """What tells two plans apart, whichever unit they are for."""
    told = "\n".join(
        f"{step.kind.value} {phrase(step.change, unit)}" if step.change else step.kind.value for step in sheet.steps
    )
    return hashlib.sha256(told.replace(unit.name, "").encode()).hexdigest()[:16]


def plan(screen: Screen, made: Plan, unit: UnitInWork, full: bool = False, why: bool = False) -> None:
    """The step sheet."""
    sheet = made.sheet
    if isinstance(sheet, Refused):
        screen.say((unit.name, "head"), ("  NO PLAN: there is no order of the changes that keeps a way in", "bad"))
        for reason in sheet.why:
            screen.say(reason, indent=2)
        return
    screen.say((unit.name, "head"), f"  PLAN  {summary(sheet)}; nothing sent yet")
    if sheet.steps:
        if full or why:
            _every_step(screen, made, sheet, why)
        else:
            screen.rows(list(lines(sheet, unit)), heads=["#", "change", "still in by", "way back"])
        _after(screen, sheet, unit)
    _gaps(screen, made, unit)


def summary(sheet: Sheet) -> str:
    """How much it is: changes, restarts, and about how long."""
    writes = sum(step.kind is Kind.WRITE for step in sheet.steps)
    restarts = sum(step.kind is Kind.RESTART for step in sheet.steps)
    took = sum(SECONDS.get(step.kind, step.op.wait if step.op else 0.0) for step in sheet.steps)
    again = f", {restarts} restart{'s' if restarts > 1 else ''}" if restarts else ""
    about = f", about {max(1, round(took / 60))} min" if sheet.steps else ""
    return f"{writes} change{'' if writes == 1 else 's'}{again}{about}"


def _every_step(screen: Screen, made: Plan, sheet: Sheet, why: bool) -> None:
    rows: list[list[Cell]] = []
    for place, step in enumerate(sheet.steps, 1):
        names_in = list(dict.fromkeys(f"{way.account} by {way.service}" for way in step.still))
        still = (", ".join(names_in), "good") if step.standing is Standing.PROVEN else still_in(step)
        reason = f"\nwanted by {step.change.because}; {step.reason}" if why and step.change else ""
        rows.append([str(place), describe_step(step, made.plane) + reason, still, step.back if step.change else ""])
    screen.rows(rows, indent=0, heads=["#", "step", "still in by", "way back"])


def _after(screen: Screen, sheet: Sheet, unit: UnitInWork) -> None:
    by_door: dict[tuple[str, str, int], list[str]] = {}
    for way in sorted(sheet.forecast.proven):
        if way.source == unit.site.laptop:
            by_door.setdefault((way.service, way.door.address, way.door.port), []).append(way.account)
    for (service, address, port), accounts in by_door.items():
        permitted = sheet.forecast.live.services.get(service)
        sources = permitted.permitted if permitted else None
        limit = f", from {brief(sources, address)}" if isinstance(sources, AddressSet) else ""
        screen.say(("AFTER  ", "head"), f"{service} {address} port {port} as {listed(accounts)}{limit}")


def _gaps(screen: Screen, made: Plan, unit: UnitInWork) -> None:
    if not made.gaps:
        return
    if not unit.family.ops:
        screen.say(
            ("CANNOT  ", "bad"), f"{unit.family.title} is only read: what fails is mended by hand, then checked again"
        )
        return
    screen.say(("CANNOT BE DONE HERE", "bad"))
    for gap in made.gaps:
        screen.say(f"{spoken(gap.path)}: {gap.why}", indent=2)
