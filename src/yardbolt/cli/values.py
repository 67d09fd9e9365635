"""What options may say, and the exit code of a command that worked on several units. Needs no parser of the command
line."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from yardbolt.core.errors import OperatorError

OUTPUT_FORMATS = ("text", "json")
ALL_PORTS = (1, 65535)
_WORST = (130, 1, 5, 2, 4, 3, 0)


@dataclass(frozen=True)
class Wish:
    """A login as it was asked for on the command line: its account, a key file instead of a password, kept or not."""

    account: str = ""
    key: Path | None = None
    keep: bool = False


@dataclass(frozen=True)
class Depth:
    """How much is shown: everything, not only what matters most; and the reasons behind it."""

    full: bool = False
    why: bool = False

    def __bool__(self) -> bool:
        return self.full or self.why


PLAIN = Depth()


def leaps_of(told: list[str] | None) -> frozenset[str]:
    """Consented leaps. Raises OperatorError on what is neither a setting nor the name of an op."""
    for one in told or ():
        if "/" in one:
            from yardbolt.core.plane.path import parse
            from yardbolt.core.plane.table import pattern_of

            try:
                pattern_of(parse(one))
            except (KeyError, ValueError):
                raise OperatorError(
                    f"--leap {one}: there is no such setting; 'steps' names those that want it, such as "
                    "accounts/NAME/secret"
                ) from None
    return frozenset(told or ())


def worst(codes: list[int]) -> int:
    """The exit code that matters most."""
    return min(codes, key=_WORST.index, default=0)


def output_format(given: str, allowed: Iterable[str] = OUTPUT_FORMATS) -> str:
    """A format that is known. Raises OperatorError."""
    known = tuple(allowed)
    if given not in known:
        raise OperatorError(f"--format: found '{given}'; allowed: {', '.join(known)}")
    return given


def span_of(ports: str) -> tuple[int, int]:
    """The ports to look at: all, or a range. Raises OperatorError."""
    first, _, last = (ports or "1-65535").partition("-")
    if first.isdigit() and last.isdigit() and 1 <= int(first) <= int(last) <= 65535:
        return int(first), int(last)
    raise OperatorError(f"--ports: found '{ports}'; a range is wanted, such as 1-1024")


def found_of(given: str) -> bool:
    """Are settings that were found unkept to be kept? Raises OperatorError on any other word."""
    if given not in ("", "keep"):
        raise OperatorError(f"--found: found '{given}'; allowed: keep")
    return given == "keep"


def schema_of(given: str) -> str:
    """Which schema of the record. Raises OperatorError."""
    if given not in ("journal", "record"):
        raise OperatorError(f"found '{given}'; allowed: journal, record")
    return given
