"""Options that many commands share."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

Units = Annotated[
    list[str] | None, typer.Argument(metavar="[UNIT]...", help="Units of the job; none means all.", show_default=False)
]
JobFile = Annotated[Path, typer.Option("--job", metavar="FILE", help="The job file.")]
KeyFile = Annotated[
    Path | None,
    typer.Option(
        "--key-file", metavar="FILE", envvar="YARDBOLT_KEY_FILE", exists=True, help="Key file that opens the safe."
    ),
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

As = Annotated[str, typer.Option("--as", metavar="NAME", help="Log in as this account; its password is asked for.")]
SshKey = Annotated[
    Path | None, typer.Option("--ssh-key", metavar="FILE", help="With --as: an SSH private key instead of a password.")
]
Keep = Annotated[bool, typer.Option("--keep", help="With --as: keep the password in the safe, for the next command.")]
ThisOne = Annotated[
    bool, typer.Option("--this-one", help="You compared the unit's plate with the work order: it is this one.")
]

All = Annotated[bool, typer.Option("--all", help="Everything, not only what matters most.")]
Why = Annotated[bool, typer.Option("--why", help="With the reason and the paths behind each line.")]

DEFAULT_JOB = Path("yard.yaml")
