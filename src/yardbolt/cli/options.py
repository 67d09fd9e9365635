"""Options that many commands share, and the exit code of a command that worked on several units."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Annotated

import typer

from yardbolt.core.errors import OperatorError

Units = Annotated[
    list[str] | None, typer.Argument(metavar="[UNIT]...", help="Units of the job; none means all.", show_default=False)
]
JobFile = Annotated[Path, typer.Option("--job", metavar="FILE", help="The job file.")]
KeyFile = Annotated[
    Path | None,
    typer.Option("--key-file", metavar="FILE", envvar="YARDBOLT_KEY_FILE", help="Key file that opens the safe."),
]
Format = Annotated[str, typer.Option("--format", metavar="FORM", help="text or json.")]
Output = Annotated[Path | None, typer.Option("--output", metavar="FILE", help="Write here instead of the screen.")]
Jobs = Annotated[int, typer.Option("--jobs", metavar="N", min=1, max=64, help="Units worked on at the same time.")]
Ports = Annotated[
    str,
    typer.Option(
        "--ports",
        metavar="A-B",
        envvar="YARDBOLT_PORTS",
        help="Look only at these ports; the rest counts as not looked at.",
    ),
]
Quiet = Annotated[bool, typer.Option("--quiet", help="No progress, only results.")]
NoColor = Annotated[bool, typer.Option("--no-color", help="No colours; NO_COLOR does the same.")]
Yes = Annotated[bool, typer.Option("--yes", help="Approve without being asked.")]

DEFAULT_JOB = Path("yard.yaml")
OUTPUT_FORMATS = ("text", "json")
_WORST = (130, 1, 5, 2, 4, 3, 0)


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
