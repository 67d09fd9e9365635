"""What ends an idle session at a prompt: TMOUT of the shells that know it (the manuals of bash, ash, ksh and zsh)."""

from __future__ import annotations

import re
from collections.abc import Iterable

from ...plane.kinds import NEVER
from .linuxhost import NO_SHELL

_SETS = re.compile(r"^(?:export |readonly |declare -[a-z]+ |typeset -[a-z]+ )*TMOUT=(\d{1,9})(?:\s*;.*|\s*(?:#.*)?)$")
_REPEATS = re.compile(r"^\s*(?:#.*|(?:export|readonly)(?: \w+)* TMOUT(?: \w+)*\s*)$")
_KNOW_IT = {"bash", "ash", "busybox", "ksh", "ksh93", "mksh", "zsh", "rbash"}


def at_a_prompt(lines: Iterable[str], shells: Iterable[str]) -> float | None:
    """The seconds after which a shell ends at its prompt, by the lines of profiles that name TMOUT and the shells in
    use; None where they do not say it plainly."""
    told = [line for line in lines if not _REPEATS.match(line)]
    if not told:
        return NEVER
    found = [_SETS.match(line) for line in told]
    values = {int(match[1]) for match in found if match}
    # under a condition, or set twice, it is not known what holds
    if None in found or len(values) != 1:
        return None
    names = {shell.strip().rsplit("/", 1)[-1] for shell in shells} - {*NO_SHELL, ""}
    limit = values.pop()
    return float(limit) if limit and names and names <= _KNOW_IT else NEVER


def shortest(*limits: float | None) -> float | None:
    """The shortest of limits that each end the session; None where an unread one may be shorter than none."""
    known = [limit for limit in limits if limit is not None and limit != NEVER]
    return min(known) if known else None if None in limits else NEVER
