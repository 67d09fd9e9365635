"""How a unit is left, in one of four words, by one table for the screen, the board and the sheet. (A run that stopped
part-way says so itself, and where to go on.)"""

from __future__ import annotations

from enum import Enum

from ..judge.counting import Count


class Ending(Enum):
    """The first that is so counts, from the top."""

    NOT_DONE = "not done"  # a proof fails, or something is not as it was planned
    FINDINGS = "done, with findings"  # all was done as planned, and something is still not as the baseline wants it
    OWED = "owed"  # something remains to be done on site, or on its day
    DONE = "done"


def ending(sound: bool, found: Count, owed: bool) -> Ending:
    """How a unit is left: was everything planned done and did every trial hold, what fails, is something owed?"""
    if not sound:
        return Ending.NOT_DONE
    if found.failing:
        return Ending.FINDINGS
    return Ending.OWED if owed else Ending.DONE
