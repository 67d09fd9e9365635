"""The safe of a job: a KDBX 4 file, through pykeepass, with a second copy. Opened once per run, written atomically,
mode 0600."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from yardbolt.core.errors import SafeError
from yardbolt.core.secret import Ref, Secret


def _parts(ref: Ref) -> tuple[str, str]:
    unit, _, title = ref.entry.removeprefix("safe:").partition("/")
    return unit, title


class KdbxSafe:
    """Fulfils `Safe`. Groups are units, titles are accounts."""

    def __init__(self, path: Path, master: Secret | None, key_file: Path | None, copy: Path | None) -> None:
        from pykeepass import PyKeePass
        from pykeepass.exceptions import CredentialsError

        self.path, self.copy = path, copy
        try:
            self._kp: Any = PyKeePass(
                str(path), password=master.reveal() if master else None, keyfile=str(key_file) if key_file else None
            )
        except CredentialsError:
            raise SafeError(
                f"{path}: the master password (or key file) does not open it; nothing was changed"
            ) from None
        except FileNotFoundError:
            raise SafeError(f"{path}: there is no safe yet; 'yardbolt new' makes one") from None
        except Exception as e:
            raise SafeError(
                f"{path}: cannot be read as a password database ({type(e).__name__}); restore it from its second copy"
            ) from None
        self._values: dict[Ref, Secret] = {}
        for entry in self._kp.entries or ():
            unit = entry.group.name if entry.group else ""
            self._values[Ref(f"safe:{unit}/{entry.title}")] = Secret(entry.password or "")

    def value(self, ref: Ref) -> Secret | None:
        """The secret behind a reference, or None."""
        return self._values.get(ref)

    def entries(self) -> tuple[Ref, ...]:
        """Every reference the safe knows."""
        return tuple(self._values)

    def store(self, new: Mapping[Ref, Secret], note: str) -> None:
        """Put these in, on disk and in the second copy, before returning. Raises SafeError; then nothing new counts as
        stored."""
        for ref, secret in new.items():
            unit, title = _parts(ref)
            group = self._kp.find_groups(name=unit, first=True) or self._kp.add_group(self._kp.root_group, unit)
            entry = self._kp.find_entries(title=title, group=group, first=True)
            if entry is None:
                self._kp.add_entry(group, title, title.removesuffix(" (as found)"), secret.reveal(), notes=note)
            else:
                entry.save_history()
                entry.password = secret.reveal()
        try:
            self._write()
        except OSError as e:
            raise SafeError(
                f"{e.filename or self.path}: the safe cannot be written ({e.strerror}); nothing was sent to the unit"
            ) from None
        self._values |= new

    def _write(self) -> None:
        temporary = self.path.with_name(self.path.name + ".new")
        with contextlib.suppress(FileNotFoundError):
            temporary.unlink()
        os.close(os.open(temporary, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
        self._kp.save(filename=str(temporary))
        _settle(temporary, self.path)
        if self.copy:
            self.copy.parent.mkdir(parents=True, exist_ok=True)
            write_atomically(self.copy, self.path.read_bytes())


def _settle(temporary: Path, final: Path) -> None:
    temporary.chmod(0o600)
    with temporary.open("rb") as f:
        os.fsync(f.fileno())
    temporary.replace(final)
    folder = os.open(final.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def write_atomically(path: Path, content: bytes) -> None:
    """Write a file so that it is either whole or not there, readable by its owner only. Raises OSError."""
    temporary = path.with_name(path.name + ".new")
    with contextlib.suppress(FileNotFoundError):
        temporary.unlink()
    with os.fdopen(os.open(temporary, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "wb") as f:
        f.write(content)
        f.flush()
        os.fsync(f.fileno())
    _settle(temporary, path)


def create(path: Path, master: Secret | None, key_file: Path | None, copy: Path | None) -> None:
    """Make an empty safe and its copy. Raises SafeError where one lies there already."""
    from pykeepass import create_database

    for place in filter(None, (path, copy)):
        if place.exists():
            raise SafeError(f"{place}: a safe lies there already; it is never overwritten")
        place.parent.mkdir(parents=True, exist_ok=True)
    temporary = path.with_name(path.name + ".new")
    create_database(
        str(temporary), password=master.reveal() if master else None, keyfile=str(key_file) if key_file else None
    )
    _settle(temporary, path)
    if copy:
        write_atomically(copy, path.read_bytes())
