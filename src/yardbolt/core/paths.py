"""Paths: how findings, changes, evidence and family files name a thing on the plane.

Inside a path is a tuple of strings. As text its parts are joined by `/`, escaped as in RFC 6901 (`~0` for `~`, `~1` for `/`),
because interface names and CIDR blocks hold slashes.
"""

from __future__ import annotations

Path = tuple[str, ...]


def parse(text: str) -> Path:
    """Text to path. Raises ValueError on an empty part."""
    parts = tuple(p.replace("~1", "/").replace("~0", "~") for p in text.split("/"))
    if not all(parts):
        raise ValueError(f"{text!r} has an empty part")
    return parts


def show(path: Path) -> str:
    """Path to text; `parse` is its inverse."""
    return "/".join(p.replace("~", "~0").replace("/", "~1") for p in path)


def fits(pattern: Path, path: Path) -> bool:
    """Does `path` match `pattern`, where `*` stands for exactly one part?"""
    return len(pattern) == len(path) and all(a in ("*", b) for a, b in zip(pattern, path, strict=True))
