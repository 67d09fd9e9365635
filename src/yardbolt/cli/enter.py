"""`enter`: the approved first entry of units, one after the other."""

from __future__ import annotations

from pathlib import Path

from yardbolt.application.enter import Met, questions
from yardbolt.application.enter import enter as run
from yardbolt.application.unit import UnitInWork
from yardbolt.core.errors import OperatorError
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.words import listed

from . import show
from .approval import agreed, plate_asked
from .logins import known
from .screen import Screen
from .units import each
from .values import Wish
from .yard import Yard, alone


def enter(
    units: list[str] | None,
    job: Path,
    yes: bool,
    wish: Wish,
    this_one: bool,
    key_file: Path | None,
    ports: tuple[int, int],
    quiet: bool,
    no_color: bool,
) -> int:
    """Ask for approval of what each unit asks, and enter."""
    with Yard(job, quiet, ports) as yard:
        names = yard.units(units)
        login = known(yard, names, wish)
        yard.open_safe(key_file)
        screen = Screen(no_color)

        async def work(name: str) -> int:
            unit = yard.unit(name)
            unit.this_one, unit.plate = this_one, plate_asked(yard, unit)
            login.give(unit)
            with alone(job, name):
                met = await questions(unit)
                asked = met.asked
                yard.progress.clear()
                _ask(screen, unit, met)
                if asked and not agreed(f"Enter {name}?", yes):
                    raise OperatorError(f"{name}: not approved; nothing was changed")
                entered = await run(unit, asked)
                yard.progress.clear()
                for done in entered.done if asked else ():
                    screen.say(("DONE  ", "good"), done)
                if entered.checked is not None:
                    show.found(screen, entered.checked, unit)
                    if (
                        asked
                        and unit.family.op_keeping()
                        and entered.checked.plane.stores.differences not in (0, ABSENT)
                    ):
                        screen.say(
                            ("NOT SAVED  ", "bad"), "what was set is lost at a power cut until tighten has saved it"
                        )
                show.next_line(screen, f"yardbolt steps {name}")
                return 4 if met.untold else 0

        return each(yard, names, 1, work)


def _ask(screen: Screen, unit: UnitInWork, met: Met) -> None:
    """What the unit asks, and what approving means."""
    asked = met.asked
    screen.say((unit.name, "head"), f"  {unit.family.title}  {unit.facts.entry.address}")
    if met.untold:
        told = f"No published login opened it, so whether it asks anything is not known: {met.untold}"
        screen.say(f"{told}; nothing was changed.", indent=2)
    elif not asked:
        screen.say("It asks nothing; nothing was changed.", indent=2)
    if not asked:
        return
    screen.say(("It asks", "head"), ("  (seen by logging in and answering nothing)", "faint"))
    for gate in dict.fromkeys(question.gate for question in asked):
        accounts = listed(question.account for question in asked if question.gate == gate)
        what = {"terms": "licence terms", "change": "a new password"}.get(gate, gate)
        screen.say((f"{what} ", "head"), (f"(at the login of {accounts})", "faint"), indent=2)
    said = next((question.said for question in asked if question.gate == "terms"), "")
    for line in said.split("\n") if said else ():
        screen.say((f"| {line}", "faint"), indent=4)
    if said:
        accepts = unit.facts.job.allows.terms or "nobody"
        screen.say(f"Accepting binds the owner, in the name of {accepts} (job file)", indent=2)
    _, channel, _ = unit.family.channel_of(asked[0].way.service)
    if "change" in set(channel.gates_named()) - {question.gate for question in asked}:
        screen.say("After that it may ask for a new password. Your approval covers that too.", indent=2)
    for answer, because in channel.answers() if asked else ():
        screen.say((f"It then asks for {answer}", "plain"), (f"  ({because})" if because else "", "faint"), indent=2)
    by = asked[0].way.service
    if not unit.family.sealed(by):
        screen.say(("READABLE  ", "bad"), f"a new password goes by {by}, readable: no encrypted way is open", indent=2)
    screen.say(f"Each new password is stored in {unit.facts.job.safe} and its copy before it is sent.", indent=2)
