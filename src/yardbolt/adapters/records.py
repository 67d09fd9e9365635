"""The record of a job: one SQLite file (WAL, synchronous=FULL) through SQLAlchemy Core. Append-only: nothing is ever changed in it."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from yardbolt.core.errors import FileError

from .clock import LaptopClock

META = sa.MetaData()
JOURNAL = sa.Table(
    "journal",
    META,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("unit", sa.Text, nullable=False, index=True),
    sa.Column("run", sa.Integer, nullable=False),
    sa.Column("time", sa.Text, nullable=False),
    sa.Column("entry", sa.Text, nullable=False),
)
DOCUMENTS = sa.Table(
    "documents",
    META,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("unit", sa.Text, nullable=False, index=True),
    sa.Column("kind", sa.Text, nullable=False),
    sa.Column("time", sa.Text, nullable=False),
    sa.Column("body", sa.Text, nullable=False),
)


class SqliteRecords:
    """Fulfils `Records`."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._clock = LaptopClock()
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            os.close(os.open(path, os.O_CREAT | os.O_WRONLY, 0o600))
        self._engine = sa.create_engine(f"sqlite:///{path}", connect_args={"timeout": 20})
        try:
            with self._engine.begin() as c:
                c.exec_driver_sql("PRAGMA journal_mode=WAL")
                META.create_all(c)
        except sa.exc.DatabaseError as e:
            raise FileError(str(path), 0, "", f"cannot be used as a record ({type(e.orig).__name__}); restore it, or move it away") from None

    def _write(self, statement: Any) -> int:
        try:
            with self._engine.begin() as c:
                c.exec_driver_sql("PRAGMA synchronous=FULL")
                return int(c.execute(statement).lastrowid)
        except sa.exc.DatabaseError as e:
            raise FileError(str(self.path), 0, "", f"the record cannot be written ({e.orig}); nothing more is done") from None

    def append(self, unit: str, run: int, entry: Mapping[str, Any]) -> None:
        """Add to the journal, durably."""
        self._write(JOURNAL.insert().values(unit=unit, run=run, time=self._clock.now(), entry=json.dumps(entry, sort_keys=True)))

    def journal(self, unit: str, run: int | None = None) -> tuple[Mapping[str, Any], ...]:
        """Entries of a unit (of one run), oldest first, each with `time` and `run`."""
        q = sa.select(JOURNAL).where(JOURNAL.c.unit == unit).order_by(JOURNAL.c.id)
        q = q if run is None else q.where(JOURNAL.c.run == run)
        with self._engine.connect() as c:
            return tuple({"time": r.time, "run": r.run, **json.loads(r.entry)} for r in c.execute(q))

    def file(self, unit: str, kind: str, document: Mapping[str, Any]) -> int:
        """File a document; its number."""
        return self._write(DOCUMENTS.insert().values(unit=unit, kind=kind, time=self._clock.now(), body=json.dumps(document, sort_keys=True)))

    def latest(self, unit: str, kind: str) -> Mapping[str, Any] | None:
        """The newest document of a kind, with its `time` and `number`."""
        q = sa.select(DOCUMENTS).where(DOCUMENTS.c.unit == unit, DOCUMENTS.c.kind == kind).order_by(DOCUMENTS.c.id.desc()).limit(1)
        with self._engine.connect() as c:
            row = c.execute(q).first()
        return {"time": row.time, "number": row.id, **json.loads(row.body)} if row else None

    def listing(self, unit: str | None = None) -> tuple[Mapping[str, Any], ...]:
        """What is filed: number, unit, kind, time, size; oldest first."""
        q = sa.select(DOCUMENTS.c.id, DOCUMENTS.c.unit, DOCUMENTS.c.kind, DOCUMENTS.c.time, sa.func.length(DOCUMENTS.c.body)).order_by(DOCUMENTS.c.id)
        q = q if unit is None else q.where(DOCUMENTS.c.unit == unit)
        with self._engine.connect() as c:
            return tuple({"number": r[0], "unit": r[1], "kind": r[2], "time": r[3], "bytes": r[4]} for r in c.execute(q))

    def document(self, number: int) -> Mapping[str, Any] | None:
        """One document by its number."""
        with self._engine.connect() as c:
            row = c.execute(sa.select(DOCUMENTS).where(DOCUMENTS.c.id == number)).first()
        return {"unit": row.unit, "kind": row.kind, "time": row.time, **json.loads(row.body)} if row else None
