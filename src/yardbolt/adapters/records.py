"""The record of a job: one SQLite file (WAL, synchronous=FULL). Append-only: nothing is ever changed in it."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

from yardbolt.core.errors import FileError
from yardbolt.core.run.documents import Document, Filed, filed_as
from yardbolt.core.run.events import Entry, Event, Stamp
from yardbolt.core.run.history import History

from .clock import LaptopClock
from .documents import event as event_of
from .documents import filed, written

D = TypeVar("D", bound=Document)
BUSY = 20.0  # seconds to wait for another process that writes
TABLES = """
create table if not exists journal (
  id integer primary key, unit text not null, run integer not null, time text not null, entry text not null);
create table if not exists documents (
  id integer primary key, unit text not null, kind text not null, time text not null, body text not null);
create index if not exists journal_unit on journal (unit);
create index if not exists documents_kind on documents (unit, kind);
"""


@dataclass(frozen=True)
class Listed:
    """What is filed: number, unit, kind, time (ISO 8601, UTC) and size in characters."""

    number: int
    unit: str
    kind: str
    time: str
    size: int


class SqliteRecords:
    """Fulfils `Records`."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._clock = LaptopClock()
        self._history = History()
        self._folded = 0
        self._latest: dict[tuple[str, str], Filed[Any]] = {}
        try:
            if not path.exists():
                path.parent.mkdir(parents=True, exist_ok=True)
                os.close(os.open(path, os.O_CREAT | os.O_WRONLY, 0o600))
        except OSError as e:
            raise FileError(str(path), 0, "", f"the record cannot be made there ({e.strerror})") from None
        try:
            self._db = sqlite3.connect(path, timeout=BUSY, isolation_level=None)
            # readers and a writer at once; and a power cut loses nothing that was reported as written
            self._db.execute("pragma journal_mode=wal")
            self._db.execute("pragma synchronous=full")
            self._db.executescript(TABLES)
        except sqlite3.OperationalError as e:
            raise FileError(str(path), 0, "", f"the record cannot be opened for writing ({e})") from None
        except sqlite3.DatabaseError as e:
            problem = f"cannot be used as a record ({e}); restore it, or move it away"
            raise FileError(str(path), 0, "", problem) from None

    @contextmanager
    def _translated(self, doing: str) -> Iterator[None]:
        try:
            yield
        except sqlite3.Error as e:
            raise FileError(
                str(self.path), 0, "", f"the record cannot be {doing} ({e}); nothing more is done"
            ) from None

    def close(self) -> None:
        """Let the file go."""
        self._db.close()

    def append(self, unit: str, run: int, event: Event) -> None:
        """Add to the journal, durably."""
        with self._translated("written"):
            self._db.execute(
                "insert into journal (unit, run, time, entry) values (?, ?, ?, ?)",
                (unit, run, self._clock.now(), written(event)),
            )

    def history(self) -> History:
        """The journal, folded once; what was added since the last call, by whomever, is folded in."""
        with self._translated("read"):
            query = "select id, unit, run, time, entry from journal where id > ? order by id"
            for number, unit, run, time, entry in self._db.execute(query, (self._folded,)).fetchall():
                self._history.add(Entry(Stamp(time, unit, run), event_of(entry, str(self.path))))
                self._folded = number
        return self._history

    def file(self, unit: str, document: Document) -> int:
        """File a document; its number."""
        with self._translated("written"):
            done = self._db.execute(
                "insert into documents (unit, kind, time, body) values (?, ?, ?, ?)",
                (unit, filed_as(document), self._clock.now(), written(document)),
            )
        return int(done.lastrowid or 0)

    def latest(self, unit: str, kind: str, of: type[D]) -> Filed[D] | None:
        """The newest document of a kind."""
        with self._translated("read"):
            query = "select max(id) from documents where unit = ? and kind = ?"
            number = self._db.execute(query, (unit, kind)).fetchone()[0]
            if number is None:
                return None
            known = self._latest.get((unit, kind))
            if known is None or known.number != number:
                row = self._db.execute("select time, body from documents where id = ?", (number,)).fetchone()
                # what is filed is never changed, so it is understood once
                known = self._latest[(unit, kind)] = Filed(number, row[0], filed(row[1], str(self.path)))
        assert isinstance(known.document, of)
        return known

    def listing(self) -> tuple[Listed, ...]:
        """What is filed, oldest first."""
        with self._translated("read"):
            query = "select id, unit, kind, time, length(body) from documents order by id"
            return tuple(Listed(*row) for row in self._db.execute(query))

    def body(self, number: int) -> tuple[Listed, str] | None:
        """One document by its number, as JSON text."""
        with self._translated("read"):
            query = "select id, unit, kind, time, length(body), body from documents where id = ?"
            row = self._db.execute(query, (number,)).fetchone()
        return (Listed(*row[:5]), row[5]) if row else None
