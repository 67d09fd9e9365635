"""What sections print: lines that begin with a tag and a blank."""

from __future__ import annotations

from collections.abc import Mapping


def tagged(reply: str, known: str) -> tuple[Mapping[str, list[str]], tuple[str, ...]]:
    """The lines of each tag, in order; and those of no tag in `known` (tags with blanks between), which nobody
    understands."""
    found: dict[str, list[str]] = {}
    strange: list[str] = []
    tags = set(known.split())
    for line in reply.splitlines():
        tag, _, rest = line.partition(" ")
        if tag in tags:
            found.setdefault(tag, []).append(rest)
        elif line.strip():
            strange.append("a line that no section prints")
    return found, tuple(dict.fromkeys(strange))


def digits(text: str) -> bool:
    """Is it a number as such tools write one: a few decimal digits, and nothing else that passes for digits?"""
    return 0 < len(text) < 13 and text.isascii() and text.isdigit()


def hexadecimal(text: str) -> bool:
    """Is it a number of sixteens, as proc(5) writes ports and addresses?"""
    return 0 < len(text) < 33 and all(sign in "0123456789abcdefABCDEF" for sign in text)
