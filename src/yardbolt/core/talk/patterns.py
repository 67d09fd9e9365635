"""Patterns of family files: literal text with named columns, no regular expressions.

A sign (`{any} |> `) is what a console shows when it waits. A row (`{key} {port:number} {state} {from:rest}`) is a line
with columns. Both are matched in a time linear in the line, whatever stands between the columns (RE2), so that no
hostile line can make them crawl.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import re2

from ..secret import Slot, Text

_PART = re.compile(r"([^{}]*)(?:\{([a-z_]+)(?::([a-z]+))?\})?")
_CLASSES = {"word": r"\S{1,120}", "number": r"-?\d{1,12}", "rest": r"\S.{0,500}|"}


class PatternError(ValueError):
    """A pattern is written wrongly."""


@dataclass(frozen=True)
class Pattern:
    """A compiled pattern and the names of its columns."""

    text: str
    regex: Any
    names: tuple[str, ...]


def _parts(text: str) -> list[tuple[str, str, str]]:
    if text.count("{") != text.count("}"):
        raise PatternError(f"{text!r}: braces do not match")
    found = _PART.findall(text)
    if "".join(a + (f"{{{b}:{c}}}" if c else f"{{{b}}}" if b else "") for a, b, c in found) != text:
        raise PatternError(f"{text!r}: a column is written {{name}} or {{name:number}} or {{name:rest}}")
    return found


@lru_cache(maxsize=512)
def row(text: str) -> Pattern:
    """A line with columns; runs of blanks fit runs of blanks. Raises PatternError."""
    out, names = "", []
    for literal, name, kind in _parts(text):
        if kind and kind not in _CLASSES:
            raise PatternError(f"{text!r}: {kind} is not a kind of column; kinds are {', '.join(_CLASSES)}")
        fixed = re.sub(r"(?:\\ )+", r"[ \\t]+", re.escape(literal))
        if kind == "rest" and fixed.endswith(r"[ \t]+"):
            fixed = fixed[: -len(r"[ \t]+")] + r"[ \t]*"
        out += fixed
        if name:
            out += f"(?P<{name}>{_CLASSES[kind or 'word']})"
            names.append(name)
    if len(set(names)) != len(names):
        raise PatternError(f"{text!r}: a column is named twice")
    return Pattern(text, re2.compile(rf"[ \t]*{out}[ \t]*\z"), tuple(names))


@lru_cache(maxsize=512)
def sign(text: str) -> Pattern:
    """What a console shows when it waits, from the start of a line to its end; `{any}` is 1 to 80 characters without
    blanks."""
    out = "".join(re.escape(literal) + (r"\S{1,80}" if name else "") for literal, name, _ in _parts(text))
    return Pattern(text, re2.compile(out + r"\z"), ())


def split(text: str) -> tuple[tuple[str, str, str], ...]:
    """(literal, name, notation) triples of a message to be filled. Raises PatternError."""
    return tuple(_parts(text))


def slots(text: str) -> tuple[tuple[str, str], ...]:
    """The (name, notation) pairs in braces, in order. Raises PatternError."""
    return tuple((name, notation) for _, name, notation in _parts(text) if name)


def slot_key(name: str, notation: str) -> str:
    """Under which key a filling stands for a slot."""
    return f"{name}:{notation}" if notation else name


def fill_in(template: str, fill: Mapping[str, Text]) -> Text:
    """The template with its slots filled. Raises ValueError where nothing fills one: an open slot is never typed into
    a unit."""
    out: list[str | Slot] = []
    for literal, name, notation in _parts(template):
        out.append(literal)
        if name:
            key = slot_key(name, notation)
            if key not in fill:
                raise ValueError(f"nothing fills {{{key}}}")
            out += fill[key]
    return tuple(part for part in out if part != "")
