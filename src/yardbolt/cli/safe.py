"""`safe`: what rests in the safe of the job, by name; one value shown on a cleared screen; the two files compared."""

from __future__ import annotations

import asyncio
import sys
from pathlib import Path

from yardbolt.core.errors import OperatorError
from yardbolt.core.secret import Ref

from .approval import agreed
from .screen import Screen
from .yard import Yard, copy_notice, copy_safe

CLEAR = "\033[H\033[2J\033[3J"  # home, the screen, and what scrolled away (ECMA-48; the last is common to terminals)


def listed(job: Path, key_file: Path | None, no_color: bool) -> int:
    """Every entry by its unit and account, never its value."""
    with Yard(job) as yard:
        safe = yard.open_safe(key_file)
        screen = Screen(no_color)
        names = [ref.entry.removeprefix("safe:").partition("/") for ref in sorted(safe.entries())]
        if not names:
            screen.say("The safe is empty: nothing was set on a unit yet.")
            return 0
        rows = [[unit, account] for unit, _, account in names]
        screen.rows([list(row) for row in rows], indent=0, heads=["unit", "account"])
        screen.say(("NEXT  ", "next"), f"yardbolt safe show {rows[0][0]} '{rows[0][1]}'   (on this screen only)")
        return 0


def shown(unit: str, account: str, job: Path, key_file: Path | None) -> int:
    """One value, on a cleared screen, until a key is struck. Raises OperatorError where it would go to a pipe."""
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise OperatorError("a value of the safe is shown on a terminal only, never into a pipe or a file")
    with Yard(job) as yard:
        safe = yard.open_safe(key_file)
        ref = Ref(f"safe:{unit}/{account}")
        value = safe.value(ref)
        if value is None:
            raise OperatorError(
                f"the safe holds nothing for {account} of {unit}; it lists its entries: yardbolt safe list"
            )
        if not agreed(f"Show the password of {account} of {unit} on this screen?", False):
            raise OperatorError("not shown")
        try:
            sys.stdout.write(f"{CLEAR}{unit}  {account}\n\n    {value.reveal() or '(blank)'}\n\n")
            sys.stdout.flush()
            input("Enter clears the screen. ")
        finally:
            sys.stdout.write(CLEAR)
            sys.stdout.flush()
        return 0


def check(job: Path, key_file: Path | None, no_color: bool) -> int:
    """Open both files, merge what only one of them knows, compare them, and say where they lie."""
    with Yard(job) as yard:
        safe = yard.open_safe(key_file)
        screen = Screen(no_color)
        asyncio.run(safe.store({}, ""))
        many = len(safe.entries())
        screen.say(f"{yard.job.safe}: opens, {many} {'entry' if many == 1 else 'entries'}")
        if not yard.job.copy:
            waived = yard.job.copy_waiver
            screen.say(
                f"no second copy: {waived}" if waived else "no second copy: add 'safe: {copy: PATH}' to the job file"
            )
            return 0 if waived else 3
        screen.say(f"{yard.job.copy}: the same")
        if notice := copy_notice(yard):
            screen.say(notice)
        return 0


def copy(job: Path) -> int:
    """Make the second copy again, where it is lost."""
    with Yard(job) as yard:
        if not yard.job.copy:
            raise OperatorError("the job file names no second copy: add 'safe: {copy: PATH}' to it")
        copy_safe(yard)
        sys.stdout.write(f"made {yard.job.copy}\n")
        if notice := copy_notice(yard):
            sys.stdout.write(f"{notice}\n")
        return 0
