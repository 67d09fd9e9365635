"""The sheet as one self-contained HTML page that prints: no script, nothing loaded from elsewhere, everything
escaped."""

from __future__ import annotations

from importlib.resources import files

from jinja2 import Environment, StrictUndefined

from yardbolt.core.errors import clean
from yardbolt.core.judge.causes import rows
from yardbolt.core.judge.counting import count
from yardbolt.core.run.handover import HandOver


def render(record: HandOver) -> str:
    """The page of one unit."""
    source = (files("yardbolt") / "data" / "sheet.html.j2").read_text("utf-8")
    env = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    counts = {side: count(one.counted for one in getattr(record, side).findings) for side in ("found", "left")}
    listed = {"found": rows(record.found.findings), "left": rows(record.left.findings, holding=True)}
    return clean(env.from_string(source).render(r=record, counts=counts, rows=listed))
