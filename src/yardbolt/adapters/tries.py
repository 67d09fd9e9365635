"""The laptop's own book of login tries."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from yardbolt.core.errors import OperatorError, YardboltError

from .records import SqliteRecords


def book_of_tries() -> SqliteRecords:
    """The laptop's own book of login tries, which all jobs and `--at` share, so that two of them do not lock an
    account together, in the user's state folder (XDG Base Directory). Raises OperatorError where it cannot be kept:
    then no try is made."""
    state = os.environ.get("XDG_STATE_HOME") or str(Path.home() / ".local" / "state")
    file = Path(state) / "yardbolt" / "tries.sqlite"
    try:
        return SqliteRecords(file)
    except (OSError, YardboltError) as e:
        why = (e.strerror if isinstance(e, OSError) else "") or str(e).replace(f"{file}: ", "")
        raise OperatorError(
            f"{file}: the book of login tries cannot be kept ({why}), so no login is tried; "
            "set XDG_STATE_HOME to a folder that can be written"
        ) from None


def renewed(addresses: Iterable[str]) -> None:
    """Fresh units stand at these addresses: forget the tries of those before in the laptop's own book."""
    from yardbolt.core.run.events import Renewed

    book = book_of_tries()
    for address in addresses:
        book.append(address, 0, Renewed(address=address))
    book.close()
