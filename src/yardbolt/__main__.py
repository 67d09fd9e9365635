"""`yardbolt` and `python -m yardbolt`: run the command line, and turn every error into one line and an exit code."""

from __future__ import annotations

import os
import sys


def _board() -> int:
    from pathlib import Path

    from yardbolt.cli.board import board

    return board(Path("yard.yaml"), no_color=False)


def _version() -> int:
    from yardbolt.cli.board import version

    return version()


def _families() -> int:
    from yardbolt.cli.family import listed

    return listed(no_color=False)


# What is asked most, and without options, is answered without loading a parser of the command line.
PLAIN = {(): _board, ("--version",): _version, ("family", "list"): _families}


def _parsed() -> object:
    from yardbolt.cli.app import app

    return app(standalone_mode=False)


def main() -> None:
    """The entry point."""
    from yardbolt.core.errors import YardboltError

    if sys.stdout is None:  # it was closed
        _say("standard output is closed, so nothing can be shown")
        sys.exit(2)
    try:
        code = PLAIN.get(tuple(sys.argv[1:]), _parsed)()
        sys.stdout.flush()
    except YardboltError as e:
        _say(str(e))
        code = e.exit_code
    except KeyboardInterrupt:
        _say("interrupted; what was done is in the record, and the same command goes on from there")
        code = 130
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        code = 1
    except Exception as e:
        code = _foreign(e)
    sys.exit(code if isinstance(code, int) else 0)


def _foreign(e: Exception) -> int:
    """Errors that are not ours: a wrong command line, or a defect. No traceback: its values might be secret."""
    shown = getattr(e, "format_message", None)
    if shown is not None:
        context = getattr(e, "ctx", None)
        path = context.command_path if context else "yardbolt"
        _say(f"{shown()} See '{path} --help'.")
        return 2
    if type(e).__name__ == "Exit":
        return int(getattr(e, "exit_code", 0))
    if type(e).__name__ == "Abort":
        _say("given up; nothing was changed")
        return 130
    last = e.__traceback__
    while last is not None and last.tb_next is not None:
        last = last.tb_next
    place = f"{last.tb_frame.f_code.co_filename.rsplit(os.sep, 1)[-1]}:{last.tb_lineno}" if last else "?"
    _say(f"this is a defect in Yard Bolt: {type(e).__name__} at {place}; please report it with the command you gave")
    return 1


def _say(message: str) -> None:
    from yardbolt.core.errors import clean

    if sys.stderr is not None:
        sys.stderr.write(f"yardbolt: {' '.join(clean(message).splitlines())}\n")


if __name__ == "__main__":
    main()
