"""The first words of an answer, for people."""

from __future__ import annotations

from yardbolt.core.errors import clean


def line(raw: bytes) -> str:
    """The first line of an answer, cleaned, at most 120 characters."""
    return clean(raw.decode("utf-8", "replace")).strip().split("\n", 1)[0][:120]


def in_url(address: str) -> str:
    """An address as it stands in a URL or a Host header (RFC 3986, section 3.2.2)."""
    return f"[{address}]" if ":" in address else address
