"""Kinds: how a raw value becomes a value of the plane. Each raises ValueError and never repairs.

A leaf has three states: a value, `ABSENT` (read, and not set) and `None` (not read). A list is a `Listing`; only a
complete one can say that something is not there.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from enum import Enum
from ipaddress import ip_interface
from typing import Any, Generic, TypeVar

from ..addresses import ANYONE, AddressSet
from ..secret import Ref

T = TypeVar("T")
NEVER = math.inf
LONGEST_TEXT = 4096


class Absent(Enum):
    """The type of `ABSENT`: the setting was read, and there is none."""

    ABSENT = "not set"

    def __repr__(self) -> str:
        return "ABSENT"


ABSENT = Absent.ABSENT


@dataclass(frozen=True)
class Listing(Generic[T]):
    """The items known, by key, and whether that is all of them. Not read = no items, not complete.

    Iterating gives the items in the order in which they were read.
    """

    by_key: Mapping[str, T] = field(default_factory=dict)
    complete: bool = False

    def __iter__(self) -> Iterator[T]:
        return iter(self.by_key.values())

    def __len__(self) -> int:
        return len(self.by_key)

    def __contains__(self, key: object) -> bool:
        return key in self.by_key

    def get(self, key: str) -> T | None:
        """The item of this key, or None where it was not seen."""
        return self.by_key.get(key)


def text(raw: Any) -> str:
    """Characters, at most 4,096 of them."""
    got = str(raw)
    if len(got) > LONGEST_TEXT:
        raise ValueError(f"longer than {LONGEST_TEXT} characters")
    return got


@dataclass(frozen=True)
class Among:
    """The kind of a text that is one of these words. Raises ValueError on any other: it is not understood."""

    words: tuple[str, ...]

    @property
    def __name__(self) -> str:
        return text.__name__

    def __call__(self, raw: Any) -> str:
        """The word."""
        if raw not in self.words:
            raise ValueError(f"{str(raw)[:40]!r} is not among: {', '.join(self.words)}")
        return str(raw)


def program(raw: Any) -> str:
    """The program of a command, without what is given to it: that may be a secret."""
    return text(raw).split(maxsplit=1)[0] if str(raw).strip() else text(raw)


def number(raw: Any) -> int:
    """A whole number."""
    # 18 digits fit any counter a unit can have; more is a hostile text
    got = str(raw).strip()
    if not got.lstrip("-").isascii() or not got.lstrip("-").isdigit() or len(got) > 18:
        raise ValueError(f"{got[:40]!r} is not a whole number")
    return int(got)


_UNIT_SECONDS = {"ms": 0.001, "s": 1, "m": 60, "h": 3600, "d": 86400}
_LENGTHS = re.compile(
    r"(\d{1,9}(?:\.\d{1,3})?) ?(?:(ms)|(s)(?:ecs?|econds?)?|(m)(?:ins?|inutes?)?|(h)(?:rs?|ours?)?|(d)(?:ays?)?)(?: "
    r"|(?=\d)|\Z)"
)


def seconds(raw: Any) -> float:
    """A length of time: `90`, `90 s`, `10 minutes`, `0d 2h 5m`, `00h40m23s`; `never` is infinity and not 0."""
    if isinstance(raw, (int, float)) and not isinstance(raw, bool):
        return float(raw)
    got = str(raw).strip()[:80]
    # 0 is not never: units differ in what they mean by it, and the family says which
    if got == "never":
        return NEVER
    pairs = _LENGTHS.findall(got)
    if pairs and not _LENGTHS.sub("", got):
        return float(sum(float(count) * _UNIT_SECONDS["".join(unit)] for count, *unit in pairs))
    try:
        value = float(got)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise ValueError(f"{got[:40]!r} is not a length of time; write it as 90 s, 10 min, 2 h or never")
    return value


_FLAGS = {"true": True, "yes": True, "on": True, "false": False, "no": False, "off": False}


def flag(raw: Any) -> bool:
    """yes/no, true/false, on/off."""
    if isinstance(raw, bool):
        return raw
    try:
        return _FLAGS[str(raw).strip().lower()]
    except KeyError:
        raise ValueError(f"{str(raw)[:40]!r} is neither yes nor no") from None


def sources(raw: Any) -> AddressSet:
    """A set of addresses, from a list of texts or `anyone`."""
    if isinstance(raw, AddressSet):
        return raw
    if raw == "anyone":
        return ANYONE
    return AddressSet.of(*([raw] if isinstance(raw, str) else raw))


def wordset(raw: Any) -> tuple[str, ...]:
    """A set of words, sorted."""
    return tuple(sorted(set(raw.replace(",", " ").split() if isinstance(raw, str) else map(str, raw))))


FIRST_OWN = 32768  # ports a host gives out to what sends, from here on (ip(7), ip_local_port_range)
HALF = "half-filled"  # begins a place for logs of which a part is left empty: many makes take it, and send nothing


def nameset(raw: Any) -> tuple[str, ...]:
    """A set of names that may hold blanks, sorted; as text, with commas between."""
    given = raw.split(",") if isinstance(raw, str) else raw
    return tuple(sorted({str(one).strip() for one in given if str(one).strip()}))


def interface_addresses(raw: Any) -> tuple[str, ...]:
    """Addresses with their prefix length, sorted: `192.0.2.1/24`, `2001:db8::1/64`."""
    given = raw.replace(",", " ").split() if isinstance(raw, str) else raw
    return tuple(sorted(str(ip_interface(str(one))) for one in given))


SETS = (sources, wordset, nameset, interface_addresses)  # the kinds that hold several of a thing


def reference(raw: Any) -> Ref:
    """A reference to a secret."""
    return raw if isinstance(raw, Ref) else Ref(str(raw))


TRIAL_ENDS = ("opened", "asked", "refused", "locked", "not ready", "nothing listens", "cut", "silent", "untried")


DOUBTS = ("starting", "locked", "everybody", "elsewhere")


def doubt_set(raw: Any) -> tuple[str, ...]:
    """What else than a wrong password could explain a refusal: any of `DOUBTS`, sorted."""
    found = wordset(raw)
    if odd := [word for word in found if word not in DOUBTS]:
        raise ValueError(f"{odd[0][:40]!r} is no doubt; doubts are {', '.join(DOUBTS)}")
    return found


@dataclass(frozen=True)
class Leaf:
    """One row of the table. `steady` is false for what moves by itself (clock, sessions) and is never compared;
    `slack` is how far a value may be off and still count as reached; `absent`: may it be read, and not set."""

    kind: Callable[[Any], Any]
    meaning: str
    unit: str = ""
    steady: bool = True
    slack: float = 0.0
    absent: bool = True


def leaf(kind: Callable[[Any], Any], meaning: str, unit: str = "", steady: bool = True, slack: float = 0.0) -> Any:
    """A field of the table that holds one value."""
    return field(default=None, metadata={"leaf": Leaf(kind, meaning, unit, steady, slack)})


def many(item: type, meaning: str, steady: bool = True) -> Any:
    """A field of the table that holds a list of keyed items."""
    return field(default_factory=Listing, metadata={"item": item, "meaning": meaning, "steady": steady})


def part(cls: type, meaning: str) -> Any:
    """A field of the table that holds a group of leaves."""
    return field(default_factory=cls, metadata={"part": cls, "meaning": meaning})
