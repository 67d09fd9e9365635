"""What a reading rests on: evidence of what was asked, lines not understood, and areas that stayed blind."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Leftover:
    """A line that was not understood; the list it belongs to is then not whole."""

    ask: str
    line: str


@dataclass(frozen=True)
class Evidence:
    """What was asked, as which account, when (ISO 8601), and what came back: a SHA-256 of all of it and the first
    lines."""

    id: str
    ask: str
    channel: str
    account: str
    rights: str
    time: str
    digest: str
    excerpt: str


@dataclass(frozen=True)
class Blind:
    """An area that could not be read, and why."""

    area: str
    why: str
