"""Files that are either whole or not there: written beside under a name of their own, settled on the disk, then put in
place; mode 0600."""

from __future__ import annotations

import contextlib
import os
import tempfile
from pathlib import Path


def only_ours(path: Path) -> bool:
    """Take a file away from the eyes of others, where any could read or write it. Gives whether that was so, and is
    mended."""
    with contextlib.suppress(OSError):
        if path.is_file() and path.stat().st_mode & 0o077:
            path.chmod(0o600)
            return not path.stat().st_mode & 0o077
    return False


def write_whole(path: Path, content: bytes) -> None:
    """Write a file so that it is either whole or as it was, readable by its owner only. Raises OSError."""
    path = path.resolve()  # what a link names is written, and not the link
    number, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    temporary = Path(name)
    try:
        with os.fdopen(number, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        temporary.replace(path)
    except BaseException:
        with contextlib.suppress(OSError):
            temporary.unlink()
        raise
    folder = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)
