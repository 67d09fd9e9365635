"""The technician at the keyboard: secrets typed without echo, and the line that shows how far the work is."""

from __future__ import annotations

import os
import sys

from yardbolt.core.errors import OperatorError, SafeError
from yardbolt.core.secret import Secret

MASTER = "YARDBOLT_MASTER"
SHORTEST_MASTER = 12


def ask_secret(prompt: str) -> Secret:
    """A secret typed without echo. Raises OperatorError where nobody can type."""
    if not sys.stdin.isatty():
        raise OperatorError(f"{prompt.strip(': ')} is wanted, and nobody is at the keyboard")
    import getpass

    return Secret(getpass.getpass(prompt))


def master_password(confirm: bool = False) -> Secret:
    """The master password of the safe: from the environment, else from the keyboard. Raises SafeError."""
    given = os.environ.get(MASTER)
    if not given and not sys.stdin.isatty():
        raise SafeError(f"no master password: set {MASTER}, or give --key-file")
    got = Secret(given) if given else ask_secret("Master password of the safe: ")
    if confirm and not given and ask_secret("Once more: ").reveal() != got.reveal():
        raise SafeError("the two do not agree; nothing was made")
    if not got:
        raise SafeError("a safe needs a master password")
    if confirm and len(got.reveal()) < SHORTEST_MASTER:
        raise SafeError(
            f"the master password opens every unit: give it {SHORTEST_MASTER} characters or more; nothing was made"
        )
    return got


class Progress:
    """One line on stderr that is overwritten; none when it is not a terminal or not wanted."""

    def __init__(self, quiet: bool) -> None:
        self.on = not quiet and sys.stderr.isatty()
        self.width = 0

    def __call__(self, text: str) -> None:
        if self.on:
            shown = text[:78]
            sys.stderr.write("\r" + shown.ljust(self.width))
            sys.stderr.flush()
            self.width = len(shown)

    def clear(self) -> None:
        """Take the line away, before something is printed."""
        if self.on and self.width:
            sys.stderr.write("\r" + " " * self.width + "\r")
            sys.stderr.flush()
            self.width = 0
