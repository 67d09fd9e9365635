"""Log messages as they come over the line (RFC 5424, section 6; RFC 3164, section 4), and how they are told apart in
a stream (RFC 6587, section 3.4)."""

from __future__ import annotations

import re
from dataclasses import dataclass

LONGEST = 8192  # bytes of one message; RFC 5424, section 6.1 asks for 2048
_PRIORITY = re.compile(rb"^<(\d{1,3})>")
_MODERN = re.compile(r"^1 (\S+) (\S+) (\S+) (\S+) (\S+) (-|(?:\[[^\]]*\])+)(?: (.*))?$", re.S)
_OLDER = re.compile(r"^[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d (?:(\S+) )?([^\s:\[]{1,48})(?:\[\d+\])?: ?(.*)$", re.S)


@dataclass(frozen=True)
class Message:
    """One message: facility and severity as numbers, who says it, from which host as it names itself, and the text."""

    facility: int
    severity: int
    host: str
    who: str
    text: str


def parsed(raw: bytes) -> Message | None:
    """One message; None where it has no priority, and so is none."""
    raw = raw[:LONGEST]
    found = _PRIORITY.match(raw)
    if not found or int(found[1]) > 191:
        return None
    number, rest = int(found[1]), raw[found.end() :].decode("utf-8", "replace").rstrip("\n\0")
    if match := _MODERN.match(rest):
        text = (match[7] or "").removeprefix("\ufeff")
        return Message(number // 8, number % 8, _known(match[2]), _known(match[3]), text)
    if match := _OLDER.match(rest):
        return Message(number // 8, number % 8, match[1] or "", match[2], match[3])
    return Message(number // 8, number % 8, "", "", rest)


def _known(word: str) -> str:
    return "" if word == "-" else word


def split(stream: bytes) -> tuple[list[bytes], bytes]:
    """The whole messages at the head of a stream, counted in bytes or ended by a line feed, and what is left of it."""
    out: list[bytes] = []
    while stream:
        counted = re.match(rb"^([1-9]\d{0,4}) (?=<)", stream)
        if counted:
            end = counted.end() + int(counted[1])
            if len(stream) < end:
                break
            out.append(stream[counted.end() : end])
            stream = stream[end:]
            continue
        line, found, rest = stream.partition(b"\n")
        if not found:
            # what never ends is cut where no message reaches
            if len(stream) > LONGEST:
                out.append(stream[:LONGEST])
                stream = b""
            break
        if line.strip():
            out.append(line)
        stream = rest
    return out, stream
