"""The safe of a job, a KDBX 4 file, and its second copy.

One rule holds it together: under a lock, what lies in both files is merged with what is new, both are written whole,
and both are read back and compared before anything counts as stored. Neither file ever replaces what only the other
knows.
"""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import hashlib
import os
import time
from collections.abc import Iterator, Mapping
from pathlib import Path

from yardbolt.core.errors import SafeError
from yardbolt.core.secret import Ref, Secret

from . import kdbx
from .whole import write_whole

LONGEST_WAIT = 120.0  # seconds for other runs that write the safe just now
NOTHING_SENT = "nothing was sent to the unit"


class KdbxSafe:
    """Fulfils `Safe`. Raises SafeError where it cannot be opened."""

    def __init__(self, path: Path, master: Secret | None, key_file: Path | None, copy: Path | None) -> None:
        self.path, self.copy, self._key = path, copy, (master, key_file)
        self._turn, self._waiting = asyncio.Lock(), dict[Ref, Secret]()
        self._alike = ""  # digest of what both files held when they were compared last
        if not path.is_file():
            none = "is no file" if path.exists() else "there is no safe yet; 'yardbolt new' makes one"
            raise SafeError(f"{path}: {none}")
        if copy and copy.exists() and copy.samefile(path):
            raise SafeError(f"{copy}: the second copy is the safe itself; name another place in the job file")
        self._last: tuple[str, object] = ("", None)  # the safe as opened last, and the digest of its bytes then
        try:
            self._values = kdbx.values_of(self._main())
        except OSError as e:
            raise SafeError(f"{path}: cannot be read ({e.strerror or e})") from None

    def value(self, ref: Ref) -> Secret | None:
        """The secret behind a reference, or None."""
        return self._values.get(ref)

    def entries(self) -> tuple[Ref, ...]:
        """Every reference the safe knows."""
        return tuple(self._values)

    async def store(self, new: Mapping[Ref, Secret], note: str) -> None:
        """Put these in, in the safe and in its copy, read back and compared before returning; with nothing new, see to
        it that the two agree. What several units want at the same time is written at once.

        Raises SafeError; then nothing new counts as stored.
        """
        self._waiting |= new
        async with self._turn:
            if not all(kdbx.same(self._values.get(ref), secret) for ref, secret in new.items()) or not self._settled():
                batch, self._waiting = {**self._waiting, **new}, {}
                await asyncio.to_thread(self._store, batch, note)

    async def assure(self, refs: tuple[Ref, ...]) -> None:
        """Before these are sent: both files are where they should be, agree, and hold them. Raises SafeError."""
        held = {ref: secret for ref in refs if (secret := self._values.get(ref))}
        await self.store({}, "")
        for ref in refs:
            if ref not in held or not kdbx.same(self._values.get(ref), held[ref]):
                raise SafeError(f"{self.path}: {ref.entry} is not in the safe as it was; {NOTHING_SENT}")

    def _store(self, new: Mapping[Ref, Secret], note: str) -> None:
        try:
            with _alone(self.path):
                self._merge(new, note)
        except OSError as e:
            where = e.filename or self.path
            raise SafeError(f"{where}: the safe cannot be written ({e.strerror or e}); {NOTHING_SENT}") from None

    def _merge(self, new: Mapping[Ref, Secret], note: str) -> None:
        kept, changed = self._main(), False
        # from here on what is in memory may be more than what is on the disk
        before, self._last = self._last, ("", None)
        if self.copy is not None:
            if not self.copy.is_file():
                gone = "put the stick back; where it is lost for good: yardbolt safe copy"
                raise SafeError(f"{self.copy}: the second copy of the safe is not there; {gone}; {NOTHING_SENT}")
            if self.copy.read_bytes() != self.path.read_bytes():
                changed = kdbx.take_over(kept, self._opened(self.copy))
        for ref, secret in new.items():
            changed |= kdbx.put(kept, ref, secret, note)
        wanted = kdbx.values_of(kept)
        if changed:
            write_whole(self.path, kdbx.content_of(kept))
        if self.copy is not None and self.copy.read_bytes() != self.path.read_bytes():
            write_whole(self.copy, self.path.read_bytes())
        if not changed:
            self._last = before
        there, content = kdbx.values_of(self._main()), self.path.read_bytes()
        # a copy of the very same bytes opens as the safe does
        if not self._hold(content) or any(not kdbx.same(there.get(ref), one) for ref, one in wanted.items()):
            raise SafeError(f"{self.path}: read back, safe and copy do not hold what was stored; {NOTHING_SENT}")
        self._values, self._alike = there, hashlib.sha256(content).hexdigest()

    def _hold(self, content: bytes) -> bool:
        return all(place.read_bytes() == content for place in (self.path, self.copy) if place)

    def _settled(self) -> bool:
        """Do both files hold the very bytes that were compared last?"""
        with contextlib.suppress(OSError):
            content = self.path.read_bytes()
            return hashlib.sha256(content).hexdigest() == self._alike and self._hold(content)
        return False

    def _main(self) -> object:
        """The safe, opened again wherever its bytes are not those that were opened last."""
        digest = hashlib.sha256(self.path.read_bytes()).hexdigest()
        if digest != self._last[0]:
            self._last = (digest, self._opened(self.path))
        return self._last[1]

    def _opened(self, path: Path) -> object:
        other = "its second copy" if path == self.path else "the safe itself: move it away, then yardbolt safe copy"
        return kdbx.opened(path, *self._key, other)


@contextlib.contextmanager
def _alone(path: Path) -> Iterator[None]:
    """Only one run at a time writes this safe. Raises SafeError, or OSError where no lock can be made."""
    held = os.open(path.with_name(f".{path.name}.lock"), os.O_CREAT | os.O_RDWR, 0o600)
    began = time.monotonic()
    try:
        while True:
            try:
                fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() - began > LONGEST_WAIT:
                    raise SafeError(f"{path}: another run holds the safe; {NOTHING_SENT}") from None
                time.sleep(0.05)
        yield
    finally:
        os.close(held)


def make_safe(path: Path, master: Secret | None, key_file: Path | None, copy: Path | None) -> None:
    """Make an empty safe and its copy, the copy first. Raises SafeError where one lies there already."""
    for place in filter(None, (path, copy)):
        if place.exists():
            raise SafeError(f"{place}: a safe lies there already; it is never overwritten")
    try:
        content = kdbx.empty(master, key_file)
        for place in filter(None, (copy, path)):
            place.parent.mkdir(parents=True, exist_ok=True)
            write_whole(place, content)
    except OSError as e:
        raise SafeError(f"{e.filename or path}: the safe cannot be made ({e.strerror or e})") from None


def apart(path: Path, copy: Path) -> bool:
    """Does the copy lie on another device than the safe, so that not both are lost with it?"""
    with contextlib.suppress(OSError):
        return path.parent.stat().st_dev != copy.parent.stat().st_dev
    return True  # a missing place has an error of its own


def copy_again(path: Path, copy: Path) -> None:
    """Make the second copy again, where it is lost. Raises SafeError where one is there, or the place is not."""
    if copy.exists():
        raise SafeError(f"{copy}: a copy lies there; it is never overwritten")
    if not copy.parent.is_dir():
        raise SafeError(f"{copy.parent}: no such folder; put the stick in first")
    try:
        with _alone(path):
            write_whole(copy, path.read_bytes())
    except OSError as e:
        raise SafeError(f"{e.filename or copy}: the copy cannot be made ({e.strerror or e})") from None
