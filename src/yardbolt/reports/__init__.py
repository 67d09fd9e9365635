"""Record -> text in an open format; the same bytes for the same record. One format a file; `FORMATS` is the registry."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any


def _text(record: Mapping[str, Any]) -> str:
    from .text import render

    return render(record)


def _json(record: Mapping[str, Any]) -> str:
    from .machine import render

    return render(record)


def _html(record: Mapping[str, Any]) -> str:
    from .page import render

    return render(record)


FORMATS: Mapping[str, Callable[[Mapping[str, Any]], str]] = {"text": _text, "json": _json, "html": _html}
