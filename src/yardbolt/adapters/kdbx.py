"""KDBX 4 files, through pykeepass: opening one, its entries as values, and merging two of them.

Groups are units, titles are accounts. Nothing here writes a file.
"""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

from yardbolt.core.errors import SafeError, in_words
from yardbolt.core.secret import Ref, Secret


def opened(path: Path, master: Secret | None, key_file: Path | None, other: str) -> Any:
    """A file, opened; `other` says where to restore it from. Raises SafeError."""
    from pykeepass import PyKeePass
    from pykeepass.exceptions import CredentialsError

    try:
        return PyKeePass(
            str(path), password=master.reveal() if master else None, keyfile=str(key_file) if key_file else None
        )
    except CredentialsError:
        raise SafeError(f"{path}: the master password (or key file) does not open it; nothing was changed") from None
    except Exception as e:
        raise SafeError(
            f"{path}: cannot be read as a password database ({in_words(e)}); restore it from {other}"
        ) from None


def empty(master: Secret | None, key_file: Path | None) -> bytes:
    """The content of a new, empty file."""
    from pykeepass import create_database

    content = io.BytesIO()
    create_database(content, password=master.reveal() if master else None, keyfile=str(key_file) if key_file else None)
    return content.getvalue()


def content_of(file: Any) -> bytes:
    """What is to be written; through memory, for the library's own temporary file has one name for everybody."""
    content = io.BytesIO()
    file.save(filename=content)
    return content.getvalue()


def values_of(file: Any) -> dict[Ref, Secret]:
    """Every entry with its value."""
    return {
        Ref(f"safe:{entry.group.name or ''}/{entry.title}"): Secret(entry.password or "")
        for entry in file.entries or ()
    }


def same(one: Secret | None, other: Secret) -> bool:
    """Are they the same characters?"""
    return one is not None and one.reveal() == other.reveal()


def put(file: Any, ref: Ref, secret: Secret, note: str) -> bool:
    """One value in its entry, the old one in its history; was anything changed?"""
    entry = _entry(file, ref)
    if entry is not None and (entry.password or "") == secret.reveal():
        return False
    if entry is None:
        unit, title = _parts(ref)
        group = file.find_groups(name=unit, first=True) or file.add_group(file.root_group, unit)
        file.add_entry(group, title, title.removesuffix(" (as found)"), secret.reveal(), notes=note)
        return True
    entry.save_history()
    entry.password = secret.reveal()
    entry.touch(modify=True)
    return True


def take_over(file: Any, other: Any) -> bool:
    """What the other file has and this one has not, or has older; was anything taken over?

    Where both have a value the later one stands and the other stays in the history of the entry: nothing is lost.
    """
    changed = False
    for ref, secret in values_of(other).items():
        mine, its = _entry(file, ref), _entry(other, ref)
        if mine is None or _older(mine, its):
            changed |= put(file, ref, secret, its.notes or "from the other copy of the safe")
        elif mine.password != its.password and its.password not in _past(mine):
            right, mine.password = mine.password, its.password
            mine.save_history()
            mine.password, changed = right, True
    return changed


def _parts(ref: Ref) -> tuple[str, str]:
    unit, _, title = ref.entry.removeprefix("safe:").partition("/")
    return unit, title


def _entry(file: Any, ref: Ref) -> Any:
    unit, title = _parts(ref)
    group = file.find_groups(name=unit, first=True)
    return file.find_entries(title=title, group=group, first=True) if group else None


def _past(entry: Any) -> list[str]:
    return [one.password for one in entry.history]


def _older(mine: Any, its: Any) -> bool:
    """Is the first of two entries the older one? The histories tell; where they do not, the times."""
    if mine.password == its.password or its.password in _past(mine):
        return False
    return mine.password in _past(its) or bool(its.mtime > mine.mtime)
