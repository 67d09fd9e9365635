"""The step sheet on screen: changes that go together on one line, with who is still in and the way back; on wish every
step with its reason."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass, replace

from yardbolt.application.steps import Plan, change_key
from yardbolt.application.unit import UnitInWork
from yardbolt.core.addresses import AddressSet
from yardbolt.core.plan.belief import Standing
from yardbolt.core.plan.precedence import OPEN
from yardbolt.core.plan.reentry import reentry
from yardbolt.core.plan.rehearse import Kind, Step
from yardbolt.core.plan.sheet import Refused, Sheet
from yardbolt.core.plan.words import NO_WAY_BACK, describe_step, short, way_back
from yardbolt.core.plane.change import Change, Drop, Make, Set
from yardbolt.core.plane.words import brief, listed, spoken

from .screen import Cell, Screen
from .values import PLAIN, Depth

WIDEST_GROUP = 44
SECONDS = {
    Kind.WRITE: 1.0,
    Kind.PROVE: 2.0,
    Kind.SAVE: 1.0,
    Kind.TRY: 5.0,
    Kind.ACTIVATE: 5.0,
    Kind.CONFIRM: 1.0,
    Kind.ARM: 3.0,
}
BETWEEN = {
    Kind.PROVE: "log in again",
    Kind.TRY: "try the stranger",
    Kind.SAVE: "save",
    Kind.ACTIVATE: "put in force",
    Kind.CONFIRM: "confirm",
    Kind.ARM: "arm the return",
    Kind.RESTART: "restart",
}


def still_in(step: Step) -> Cell:
    """Who is still logged in after a step."""
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
    back = way_back(step)
    if back.startswith(NO_WAY_BACK):
        return "NONE" if isinstance(step.change, Drop) else "none", "bad"
    if back.startswith("by itself"):
        return "by itself"
    return ("not needed", "faint") if back == "none needed" else "yes"


@dataclass
class Line:
    """Changes of one kind that go together, with who is still in and the way back."""

    first: int
    last: int
    kind: type[Change]
    words: list[str]
    still: Cell
    back: Cell

    def takes(self, other: Line) -> bool:
        """Does another one go with it?"""
        alike = (self.kind, self.still, self.back) == (other.kind, other.still, other.back)
        return alike and len(", ".join((*self.words, *other.words))) <= WIDEST_GROUP

    def row(self) -> list[Cell]:
        """It as a row of the table; a verb they share is said once."""
        verb = {Make: "make ", Drop: "remove "}.get(self.kind, "")
        words = verb + listed(word.removeprefix(verb) for word in self.words) if verb else ", ".join(self.words)
        return [
            str(self.first) if self.first == self.last else f"{self.first}-{self.last}",
            words,
            self.still,
            self.back,
        ]


WEAK = "try weak and wrong passwords"


def lines(sheet: Sheet, unit: UnitInWork) -> Iterator[list[Cell]]:
    """The sheet in few lines."""
    line: Line | None = None
    between: list[str] = []
    leap: Cell = ""
    number = 0
    for step in sheet.steps:
        if step.change is None:
            leap = still_in(step) if step.standing is Standing.LEAP else leap
            word = WEAK if step.kind is Kind.TRY and step.phase == OPEN else BETWEEN[step.kind]
            between += [word] if word not in between else []
            continue
        number += 1
        words = [short(step.change, unit.facts.entry.address)]
        one = Line(number, number, type(step.change), words, still_in(step), back_of(step))
        # logins between changes that go together need not be told one by one
        alone = not between or between == [BETWEEN[Kind.PROVE]]
        if line is not None and alone and line.takes(one):
            line.words += one.words
            line.last = number
        else:
            if line is not None:
                yield line.row()
            if not alone:
                yield ["", (", ".join(between), "faint"), leap, ""]
            line = one
        between, leap = [], ""
    if line is not None:
        yield line.row()
    if between:
        yield ["", (", ".join(between), "faint"), leap, ""]


def signature(sheet: Sheet, unit: UnitInWork) -> str:
    """What tells two plans apart, whichever unit they are for: every change with its exact value, but for the unit's
    own name and its own entries of the safe."""
    own = (("name",), unit.name)
    told = [
        "name" if isinstance(step.change, Set) and (step.change.path, step.change.value) == own
        else change_key(step.change).replace(f"safe:{unit.name}/", "safe:/") if step.change
        else step.kind.value
        for step in sheet.steps
    ]  # fmt: skip
    return hashlib.sha256("\n".join(told).encode()).hexdigest()[:16]


def plan(screen: Screen, made: Plan, unit: UnitInWork, depth: Depth = PLAIN) -> None:
    """The step sheet."""
    sheet = made.sheet
    if isinstance(sheet, Refused):
        screen.say((unit.name, "head"), ("  NO PLAN: every order of the changes could lock you out", "bad"))
        for reason in sheet.why:
            screen.say(reason, indent=2)
        # without one of the owner's accounts there may be none
        own = {account.name for account in unit.site.accounts}
        bars = tuple(gap for gap in made.gaps if gap.path[0] == "accounts" and gap.path[1] in own)
        _gaps(screen, replace(made, gaps=bars), unit)
        return
    screen.say((unit.name, "head"), f"  PLAN  {summary(sheet)}; nothing sent yet")
    if sheet.steps:
        if depth:
            _every_step(screen, made, sheet, depth.why)
        else:
            screen.rows(list(lines(sheet, unit)), heads=["#", "change", "access kept by", "way back"])
        _after(screen, sheet, unit)
        _card(screen, sheet, unit)
        _outages(screen, sheet, unit)
        plain = {
            w.service
            for s in sheet.steps
            if (w := s.way) and not w.secret.factory and not unit.family.sealed(w.service)
        }
        if plain:
            screen.say(
                ("READABLE  ", "bad"),
                f"the owner's passwords go by {listed(sorted(plain))}, where anyone can read them: there is no "
                "encrypted way",
            )
    if made.left:
        count = made.plane.stores.differences
        many = "1 setting" if count == 1 else f"{count} settings"
        screen.say(("NOT SAVED  ", "bad"), f"{many} left by a first login or an earlier run; this plan saves them")
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
        rows.append([str(place), describe_step(step, made.plane) + reason, still, way_back(step)])
    screen.rows(rows, indent=0, heads=["#", "step", "access kept by", "way back"])


def _after(screen: Screen, sheet: Sheet, unit: UnitInWork) -> None:
    if reentry(unit.family, sheet, unit.site) is not None:
        return  # the card tells where it is then
    by_door: dict[tuple[str, str, int], list[str]] = {}
    for way in sorted(sheet.forecast.proven):
        if way.source == unit.site.laptop:
            by_door.setdefault((way.service, way.door.address, way.door.port), []).append(way.account)
    for (service, address, port), accounts in by_door.items():
        permitted = sheet.forecast.live.services.get(service)
        sources = permitted.permitted if permitted else None
        limit = f", from {brief(sources, address)}" if isinstance(sources, AddressSet) else ""
        screen.say(("AFTER  ", "head"), f"{service} {address} port {port} as {listed(accounts)}{limit}")


def _card(screen: Screen, sheet: Sheet, unit: UnitInWork) -> None:
    """How to get in again once the unit has moved, before it does."""
    card = reentry(unit.family, sheet, unit.site)
    if card is None:
        return
    door, there, old = card.way.door, card.way.source, unit.facts.best_door()
    where = f"{door.service} {door.address} port {door.port} as {card.way.account}, this laptop at {there}"
    screen.say(("RE-ENTRY  ", "head"), f"after change {card.number}: {where}")
    if there != unit.site.laptop:
        line = f"ip address add {there}/{unit.facts.prefix_there} dev SOCKET"
        screen.say(f"this laptop needs {there} beside its own: {line}", indent=2)
    undone = "; power off and on brings it back there until it is saved" if unit.family.op_keeping() else ""
    was = f"{old.service} {old.address} port {old.port}, this laptop at {unit.site.laptop}"
    screen.say(f"if nobody answers there: {was}{undone}", indent=2)
    if card.mentions:
        screen.say(f"still names {unit.site.at} afterwards: {listed(map(spoken, card.mentions))}", indent=2)


def _outages(screen: Screen, sheet: Sheet, unit: UnitInWork) -> None:
    """How often, and for how long, nothing listens while it is carried out."""
    found = [step.bound.op.outage for step in sheet.steps if step.bound and step.bound.op.outage]
    waits = [step.op.wait for step in sheet.steps if step.kind is Kind.RESTART and step.op]
    often = f"{len(found)} times" if len(found) > 1 else "once"
    told = [f"{often} about {max(found):g} s while its service loads its settings"] if found else []
    told += [f"the restart, up to {waits[0]:.0f} s"] if waits else []
    if found:
        screen.say(("OUTAGES  ", "head"), f"no new logins: {listed(told)}")


def _gaps(screen: Screen, made: Plan, unit: UnitInWork) -> None:
    if not made.gaps:
        return
    if not unit.family.ops:
        screen.say(
            ("CANNOT  ", "bad"), f"{unit.family.title} can only be read: fix what fails by hand, then check again"
        )
        return
    screen.say(("CANNOT BE DONE HERE", "bad"))
    alike: dict[str, list[str]] = {}
    for gap in made.gaps:
        alike.setdefault(gap.why, []).append(spoken(gap.path))
    for why, what in alike.items():
        screen.say(f"{listed(what)}: {why}", indent=2)
