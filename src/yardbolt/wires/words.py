"""The first words of an answer, for people."""

from __future__ import annotations

import socket

from yardbolt.core.errors import clean


def line(raw: bytes) -> str:
    """The first line of an answer, cleaned, at most 120 characters."""
    return clean(raw.decode("utf-8", "replace")).strip().split("\n", 1)[0][:120]


def place(address: str, port: int) -> tuple[str, int] | tuple[str, int, int, int]:
    """Where a socket is to go; a link-local address names the laptop's socket it is met at (RFC 4007, section 11).
    Raises OSError where there is no such socket."""
    host, _, zone = address.partition("%")
    return (host, port, 0, socket.if_nametoindex(zone)) if zone else (host, port)


def in_url(address: str) -> str:
    """An address as it stands in a URL or a Host header (RFC 3986, section 3.2.2)."""
    return f"[{address.partition('%')[0]}]" if ":" in address else address
