"""Values for people, with their units."""

from __future__ import annotations

import math
from typing import Any

from ..secret import Ref
from .kinds import ABSENT
from .path import Path
from .table import row_of


def human(path: Path, value: Any) -> str:
    """A value for people, with its unit."""
    if value is None:
        return "not read"
    if value is ABSENT:
        return "not set"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return "never" if math.isinf(value) else duration(value)
    if isinstance(value, Ref):
        return value.entry
    if isinstance(value, tuple):
        return ", ".join(map(str, value)) or "none"
    unit = row_of(path).unit
    unit = unit.removesuffix("es" if unit.endswith("sses") else "s") if value == 1 else unit
    return f"{value} {unit}".strip() if isinstance(value, int) else str(value)


def duration(value: float) -> str:
    """Seconds as people say them: `90 s`, `10 min`, `2 h 5 min`."""
    whole_seconds = round(abs(value))
    sign = "-" if value < 0 and whole_seconds else ""
    if whole_seconds < 120 and whole_seconds % 60:
        return f"{sign}{whole_seconds} s"
    days, rest = divmod(whole_seconds, 86400)
    hours, rest = divmod(rest, 3600)
    minutes, secs = divmod(rest, 60)
    parts = [f"{count} {unit}" for count, unit in ((days, "d"), (hours, "h"), (minutes, "min"), (secs, "s")) if count]
    return sign + " ".join(parts[:2] or ["0 s"])
