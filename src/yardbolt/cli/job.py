"""`job`: a job file looked at alone, without a safe, a record or a unit."""

from __future__ import annotations

from pathlib import Path

from yardbolt.core.errors import OperatorError

from . import wiring
from .screen import Screen


def check(file: Path, no_color: bool) -> int:
    """Is the job file sound, with the families and the baseline it names? Raises FileError or OperatorError."""
    if not file.is_file():
        raise OperatorError(f"no job file {file}; begin one with 'yardbolt new FOLDER'")
    made = wiring.load_job(file)
    for unit in made.units.values():
        wiring.load_family(wiring.family_file(unit.family, file.parent))
    baseline = wiring.named_baseline(made.baseline, file.parent)
    screen = Screen(no_color)
    many = len(made.units)
    screen.say(
        (f"{file}: sound", "good"), f"  {many} unit{'' if many == 1 else 's'}, {baseline.name} {baseline.version}"
    )
    for segment in made.segments.values():
        if segment.laptop and segment.laptop not in segment.administrators:
            screen.say(
                f"{segment.name}: the laptop {segment.laptop} is no administrator's: it is let in while you work",
                indent=2,
            )
        if not segment.stranger:
            screen.say(f"{segment.name}: no stranger, so nobody can be shown to be blocked", indent=2)
    for unit in made.units.values():
        if not (unit.serial or unit.hardware):
            screen.say(
                f"{unit.name}: no serial and no hardware address: say --this-one before it is written to", indent=2
            )
    if not (made.copy or made.copy_waiver):
        screen.say("the safe has no second copy: add 'safe: {copy: PATH}', or 'without copy: REASON'", indent=2)
    screen.say(("NEXT  ", "next"), "yardbolt check")
    return 0
