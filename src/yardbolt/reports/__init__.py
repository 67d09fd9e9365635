"""Record -> text in an open format; the same bytes for the same record. One format a file; `FORMATS` is the
registry."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from yardbolt.core.run.handover import HandOver


def _text(record: HandOver) -> str:
    from .text import render

    return render(record)


def _json(record: HandOver) -> str:
    from .machine import render

    return render(record)


def _html(record: HandOver) -> str:
    from .page import render

    return render(record)


FORMATS: Mapping[str, Callable[[HandOver], str]] = {"text": _text, "json": _json, "html": _html}
