"""What a decoder is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ..paths import Path

Pairs = list[tuple[Path, Any]]


@dataclass(frozen=True)
class Decoded:
    """(path, value) pairs; a path of two parts alone says that the item is there. Leftovers are lines not understood."""

    facts: tuple[tuple[Path, Any], ...]
    leftovers: tuple[str, ...] = ()


@dataclass(frozen=True)
class Decoder:
    """A named decoder: `decode(reply, key)`, where key is the item asked about or empty. Any text gives a value; nothing is raised."""

    name: str
    standard: str
    decode: Callable[[str, str], Decoded]
    feeds: frozenset[Path]
    whole: tuple[str, ...] = ()
