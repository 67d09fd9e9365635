"""Paths: how findings, changes, evidence and family files name a thing on the plane.

Inside a path is a tuple of strings. As text its parts are joined by `/`, escaped as in RFC 6901 (`~0` for `~`, `~1`
for `/`), because interface names and CIDR blocks hold slashes.
"""

from __future__ import annotations

from collections.abc import Iterable

Path = tuple[str, ...]


def parse(text: str) -> Path:
    """Text to path. Raises ValueError on an empty part."""
    parts = tuple(part.replace("~1", "/").replace("~0", "~") for part in text.split("/"))
    if not all(parts):
        raise ValueError(f"{text!r} has an empty part")
    return parts


def show(path: Path) -> str:
    """Path to text; `parse` is its inverse."""
    return "/".join(part.replace("~", "~0").replace("/", "~1") for part in path)


def fits(pattern: Path, path: Path) -> bool:
    """Does `path` match `pattern`, where `*` stands for exactly one part?"""
    return len(pattern) == len(path) and all(a in ("*", b) for a, b in zip(pattern, path, strict=True))


def filled(pattern: Path, like: Path) -> Path:
    """The pattern with each `*` replaced by the part of `like` at that place, where `like` reaches so far."""
    return tuple(like[n] if part == "*" and n < len(like) else part for n, part in enumerate(pattern))


def touches(moved: Iterable[Path], resting: Iterable[Path]) -> bool:
    """Does anything that moved lie at, above or below anything that is rested on?"""
    grounds = tuple(resting)
    return any(a[: len(b)] == b or b[: len(a)] == a for a in moved for b in grounds)
