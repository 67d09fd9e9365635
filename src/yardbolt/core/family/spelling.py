"""How a unit writes values, in both directions. The plane holds meanings; the family owns the spelling."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from ipaddress import ip_interface
from typing import Any

from ..addresses import ANYONE, NOBODY, AddressSet
from ..plane.kinds import ABSENT, HALF, seconds, text
from ..plane.path import Path, show
from ..plane.table import coerce, pattern_of, row_of
from ..plane.words import human
from .model import Family, Spelling

MEANINGS: Mapping[str, Any] = {
    "anyone": ANYONE,
    "nobody": NOBODY,
    "never": math.inf,
    "yes": True,
    "no": False,
    "not set": ABSENT,
}
NOTATIONS: Mapping[str, Callable[[float], str]] = {
    "minutes": lambda value: str(max(1, round(value / 60))),
    "seconds": lambda value: str(round(value)),
    "milliseconds": lambda value: str(round(value * 1000)),
    "hours": lambda value: _wholes(value, 3600, "hours"),
    "days": lambda value: _wholes(value, 86400, "days"),
}
MOST_SINGLY = 64  # addresses written one by one
ONE_EACH = "one-each"  # of a set: each of its words in a field of its own
COUNT = "count"  # of a list: how many stand there
# of a length of time that is written as a bare number
CODECS = {"milliseconds": "ms", "seconds": "s", "minutes": "min", "hours": "h", "days": "d", COUNT: ""}
# of a length of time that is written like a clock: how many seconds each of its parts is worth
CLOCKS = {"minutes:seconds": (60, 1), "hours:minutes": (3600, 60), "hours:minutes:seconds": (3600, 60, 1)}
# of a place for logs that is written without its transport: by UDP (RFC 5426), port 514 where no port is said
BARE = ("udp-address", "udp-address:port")
DEFAULT = Spelling()
BY_PATH: Mapping[Path, Spelling] = {("clock", "offset"): Spelling(moment="yes")}


def _wholes(value: float, per: int, what: str) -> str:
    if value % per:
        raise ValueError(f"{value:.0f} s is no whole number of {what}")
    return str(int(value) // per)


def _clock_time(value: Any) -> tuple[str, ...]:
    return str(int(value) // 60), str(int(value) % 60)


def _address(value: Any, by_mask: bool) -> tuple[str, ...]:
    one = ip_interface(value[0])
    return str(one.ip), str(one.netmask) if by_mask else str(one.network.prefixlen)


def _place_told(t: tuple[str, ...]) -> str:
    whole = t[0] and t[1].isdigit() and 0 < int(t[1]) < 65536
    return f"udp {t[0]} {t[1]}" if whole else f"{HALF} {t[0] or t[1]}"


def _udp_place(value: Any) -> bool:
    return isinstance(value, tuple) and len(value) == 1 and value[0].startswith("udp ") and len(value[0].split()) == 3


@dataclass(frozen=True)
class Spread:
    """A value that stands in several fields: how many, what their texts say together, and how a value is parted."""

    fields: int
    together: Callable[[tuple[str, ...]], str]
    parted: Callable[[Any], tuple[str, ...]]
    fits: Callable[[Any], bool]


SPREADS: Mapping[str, Spread] = {
    "minutes-seconds": Spread(
        2,
        lambda t: f"{int(t[0]) * 60 + int(t[1])} s",
        _clock_time,
        lambda v: isinstance(v, float) and math.isfinite(v) and v == int(v) >= 0,
    ),
    "address-mask": Spread(
        2, "/".join, lambda v: _address(v, True), lambda v: isinstance(v, tuple) and len(v) == 1 and ":" not in v[0]
    ),
    "udp-address-port": Spread(2, _place_told, lambda v: tuple(v[0].split()[1:]), _udp_place),
    "octets": Spread(4, ".".join, lambda v: tuple(str(v).split(".")), lambda v: str(v).count(".") == 3),
    "address-prefix": Spread(2, "/".join, lambda v: _address(v, False), lambda v: isinstance(v, tuple) and len(v) == 1),
}


def parted(path: Path, codec: str, value: Any) -> tuple[str, ...]:
    """A value over the fields it stands in. Raises ValueError where it does not fit into them."""
    if not SPREADS[codec].fits(value):
        raise ValueError(f"{show(path)}: {value!r} cannot be written as {codec}")
    return SPREADS[codec].parted(value)


def in_rows(family: Family, path: Path, codec: str, value: Any) -> tuple[tuple[str, ...], ...]:
    """A set as rows, each over the fields it stands in. Raises ValueError where it cannot be written so."""
    told = spelled_by(replace(spelling_of(family, path), join="\n"), path, value)
    each = [one for one in told.split("\n") if one]
    return tuple(parted(path, codec, (one,)) if codec in SPREADS else (one,) for one in each)


def meant(path: Path, word: str) -> Any:
    """The value one of our own words stands for at a path. Raises ValueError."""
    value = MEANINGS.get(word, word)
    # of a leaf that holds words, yes and no are words
    return coerce(path, word if isinstance(value, bool) and row_of(path).kind is text else value)


def spelling_of(family: Family, path: Path) -> Spelling:
    """How this family writes a path."""
    own = pattern_of(path)
    return family.spelling.get(own) or BY_PATH.get(own, DEFAULT)


def read_value(spelling: Spelling, path: Path, raw: str, now: datetime | None) -> Any:
    """A text of the unit as a value of the plane. Raises ValueError or TypeError where it does not suit the leaf.

    `now` is the laptop's time, for a clock; without it a moment is not read.
    """
    raw = raw.strip()
    if spelling.moment:
        if now is None:
            return None
        told = datetime.fromisoformat(raw.replace(" ", "T", 1).replace(" ", ""))
        if told.tzinfo is None and spelling.moment != "UTC":
            raise ValueError("a time without a zone")
        return ((told if told.tzinfo else told.replace(tzinfo=UTC)) - now).total_seconds()
    if raw in spelling.words:
        return meant(path, spelling.words[raw])
    if spelling.empty and not raw:
        return meant(path, spelling.empty)
    if not spelling.join:
        return coerce(path, in_full(spelling.codec, raw))
    return coerce(path, [in_full(spelling.codec, one.strip()) for one in raw.split(spelling.join) if one.strip()])


def in_full(codec: str, raw: str) -> str:
    """A text of the unit in full, where it is written in short."""
    if codec in CLOCKS:
        parts = raw.split(":")
        fits = len(parts) == len(CLOCKS[codec]) and all(one.isdecimal() and one.isascii() for one in parts)
        return f"{sum(int(one) * worth for one, worth in zip(parts, CLOCKS[codec], strict=True))} s" if fits else raw
    if codec in CODECS:
        return f"{raw} {CODECS[codec]}" if raw.isdecimal() and raw.isascii() else raw
    if codec in BARE:
        address, found, port = (raw, "", "") if codec == BARE[0] else raw.rpartition(":")
        return f"udp {address.strip('[]')} {port or 514}" if found or codec == BARE[0] else f"{HALF} {raw}"
    return raw


def _in_short(path: Path, codec: str, value: Any) -> str:
    """A place for logs as it is written without its transport. Raises ValueError where that leaves something out."""
    words = str(value).split()
    if len(words) != 3 or words[0] != "udp" or (codec == BARE[0] and words[2] != "514"):
        raise ValueError(f"{show(path)}: {value} cannot be written as {codec}")
    address = f"[{words[1]}]" if ":" in words[1] and codec != BARE[0] else words[1]
    return address if codec == BARE[0] else f"{address}:{words[2]}"


def _like_a_clock(path: Path, codec: str, value: float) -> str:
    """A length of time as a clock shows it. Raises ValueError where it does not come out even, or has no end."""
    worths = CLOCKS[codec]
    if not math.isfinite(value) or value < 0 or value % worths[-1]:
        raise ValueError(f"{show(path)}: {value:g} s cannot be written as {codec}")
    left, out = int(value), []
    for worth in worths:
        out.append(f"{left // worth:02}")
        left %= worth
    return ":".join(out)


def exactly(path: Path, codec: str, value: float) -> None:
    """Raises ValueError where a length of time is no whole number of what it is written in: nothing is rounded."""
    per = seconds(f"1 {CODECS[codec]}")
    if math.isfinite(value) and abs(value / per - round(value / per)) > 1e-6:
        raise ValueError(f"{show(path)}: {value:.0f} s is no whole number of {codec}")


def spelled(family: Family, path: Path, value: Any, notation: str = "") -> str:
    """A value as this unit writes it. Raises ValueError where it cannot be written."""
    return spelled_by(spelling_of(family, path), path, value, notation)


def spelled_by(spelling: Spelling, path: Path, value: Any, notation: str = "") -> str:
    """A value in one spelling. Raises ValueError where it cannot be written."""
    for ours, theirs in spelling.write.items():
        if meant(path, ours) == value:
            return theirs
    for theirs, ours in spelling.words.items():
        if meant(path, ours) == value:
            return theirs
    if spelling.empty and meant(path, spelling.empty) == value:
        return ""
    if isinstance(value, AddressSet) and value not in (ANYONE, NOBODY):
        if spelling.singly and value.count() > MOST_SINGLY:
            raise ValueError(
                f"{show(path)}: this unit takes addresses one by one, and there are {value.count():,} of them"
            )
        if spelling.singly:
            return (spelling.join or ",").join(str(each) for net in value.nets for each in net)
        return (spelling.join or ",").join(value.texts())
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float) and (notation or spelling.codec) in CLOCKS:
        return _like_a_clock(path, notation or spelling.codec, value)
    if isinstance(value, tuple) and spelling.codec in BARE:
        return (spelling.join or ",").join(_in_short(path, spelling.codec, one) for one in value)
    if isinstance(value, tuple):
        return (spelling.join or ",").join(map(str, value))
    if not notation and spelling.codec in NOTATIONS and isinstance(value, float):
        exactly(path, spelling.codec, value)
        notation = spelling.codec
    if notation in NOTATIONS and isinstance(value, int | float) and not math.isinf(value):
        return NOTATIONS[notation](value)
    if isinstance(value, str | int):
        return str(value)
    shown = "not set" if value is None else human(path, value)
    raise ValueError(f"{show(path)}: this unit has no way to write '{shown}'")
