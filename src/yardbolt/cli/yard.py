"""A job with its files, and the units in work that are made from it."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import os
import sys
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from yardbolt.core.doors import Door
from yardbolt.core.errors import OperatorError, SafeError

from . import wiring
from .keyboard import Progress, master_password
from .values import ALL_PORTS

if TYPE_CHECKING:
    from yardbolt.application.unit import Shared, UnitInWork
    from yardbolt.core.family.model import Family
    from yardbolt.core.job import Job, UnitEntry
    from yardbolt.core.judge.baseline import Baseline
    from yardbolt.core.ports import Safe


def place_of(job_file: Path, named: str) -> Path:
    """A path of the job file: relative to where the job file lies."""
    return Path(named) if Path(named).is_absolute() else job_file.parent / named


class Turns:
    """Results in the order of the job, not in the order they finish."""

    def __init__(self, names: list[str]) -> None:
        import asyncio

        self._shown = {name: asyncio.Event() for name in names}
        self._before = dict(zip(names[1:], names, strict=False))

    async def of(self, name: str) -> None:
        """Wait until all before it have shown theirs."""
        if name in self._before:
            await self._shown[self._before[name]].wait()

    def shown(self, name: str) -> None:
        """It has shown what it had to show."""
        self._shown[name].set()


class Yard:
    """A job with its files: the unit in work is made from it."""

    def __init__(self, job_file: Path, quiet: bool = True, span: tuple[int, int] = ALL_PORTS) -> None:
        if not job_file.is_file():
            begin = "go to the job's folder, say --job FILE, or begin one with 'yardbolt new FOLDER'"
            raise OperatorError(f"no job file {job_file}; {begin}")
        self.file, self.span = job_file, span
        self.job: Job = wiring.load_job(job_file)
        for unit in self.job.units.values():
            self._find("families", unit.family)
        self._families: dict[str, Family] = {}
        self.records = wiring.SqliteRecords(job_file.parent / "record.sqlite")
        self._closing = contextlib.ExitStack()
        self._closing.callback(self.records.close)
        self.progress = Progress(quiet)
        self.troubles: dict[str, str] = {}  # what the technician saw instead of a result, by unit
        self.safe: Safe | None = None
        self.turns = Turns([])

    def __enter__(self) -> Yard:
        return self

    def __exit__(self, *exc: object) -> None:
        self._closing.close()

    @cached_property
    def shared(self) -> Shared:
        """What its units have in common."""
        from yardbolt.application.unit import Shared

        book = wiring.book_of_tries()
        self._closing.callback(book.close)
        return Shared(wiring.SocketsOfLaptop(), book)

    @cached_property
    def baseline(self) -> Baseline:
        """The baseline of the job."""
        return wiring.load_baseline(self._find("baselines", self.job.baseline))

    def family_of(self, name: str) -> Family:
        """The family of a unit, loaded once."""
        family = self.job.units[name].family
        if family not in self._families:
            self._families[family] = wiring.load_family(self._find("families", family))
        return self._families[family]

    def _find(self, kind: str, name: str) -> Path:
        return wiring.find(kind, name, self.file.parent)

    def units(self, named: list[str] | None) -> list[str]:
        """The units meant. Raises OperatorError on a name that is not in the job."""
        for name in named or ():
            if name not in self.job.units:
                raise OperatorError(f"no unit {name} in {self.file}; units are {', '.join(self.job.units)}")
        return list(dict.fromkeys(named)) if named else list(self.job.units)

    def open_safe(self, key_file: Path | None) -> Safe:
        """Open the safe of the job, once. Raises SafeError."""
        path, copy = safe_places(self)
        if not path.exists():
            raise SafeError(f"{path}: there is no safe yet; 'yardbolt new' makes one")
        for place in (path, self.file.parent / "record.sqlite", *([copy] if copy else [])):
            if wiring.only_ours(place):
                sys.stderr.write(f"{place} was open to others on this laptop; it is closed to them now.\n")
        self.safe = wiring.KdbxSafe(path, None if key_file else master_password(), key_file, copy)
        return self.safe

    def needs_safe(self, names: list[str]) -> bool:
        """Did a login from the safe open one of these units, or was one sent to it?"""
        history = self.records.history()
        return any(history.of(name).uses_safe() for name in names)

    def unit(self, name: str) -> UnitInWork:
        """Everything needed to work on one unit."""
        from secrets import randbelow

        from yardbolt.application.budget import Budget
        from yardbolt.application.facts import Facts
        from yardbolt.application.held import Held
        from yardbolt.application.logins import Access
        from yardbolt.application.recording import Record
        from yardbolt.application.unit import Outside, UnitInWork
        from yardbolt.core.job import moved, site_of

        entry, today = self.job.units[name], wiring.LaptopClock().now()[:10]
        family = self.family_of(name)
        places = tuple(
            (one, site_of(self.job, one, family.factory_names(), doors_of(one, family), family.manual(), today))
            for one in ((entry, moved(entry)) if entry.goes_to else (entry,))
        )
        entry, site = places[0]
        texts = (self.job.owner, self.job.title, name, family.title)
        local = frozenset(word for text in texts for word in text.replace(",", " ").split() if len(word) > 2)
        facts = Facts(
            self.job, entry, site, family, self.baseline, local, wiring.common_passwords(), self.inputs(entry), places
        )
        record = Record(name, self.records, wiring.LaptopClock(), self.shared.tries)
        held = Held(facts, self.safe)
        budget = Budget(facts, record)
        look = wiring.TcpLook(
            lambda done: self.progress(f"{name}: {done:,} of 65,535 ports looked at"), self.span, self.shared.sockets
        )
        access = Access(
            facts, record, held, budget,
            lambda talk, service, pin: wiring.connect(held.secret, talk, service, pin, entry.outdated), self.progress,
        )  # fmt: skip
        unit = UnitInWork(
            facts,
            record,
            held,
            budget,
            access,
            Outside(look, wiring.neighbour, wiring.Receiver, wiring.holds),
            self.progress,
            self.shared,
            randbelow,
        )
        facts.is_at(record.history().met_at)  # begin with the place where a login opened last
        return unit

    def inputs(self, entry: UnitEntry) -> dict[str, str]:
        """Digests of the files a plan rests on."""
        return {
            "job file": _digest(self.file),
            "baseline": _digest(self._find("baselines", self.job.baseline)),
            "family": _digest(self._find("families", entry.family)),
        }


def safe_places(yard: Yard) -> tuple[Path, Path | None]:
    """Where the safe and its second copy lie."""
    copy = place_of(yard.file, yard.job.copy) if yard.job.copy else None
    return place_of(yard.file, yard.job.safe), copy


def copy_notice(yard: Yard) -> str:
    """What is to be said of where the second copy lies: nothing where it lies on a device of its own."""
    path, copy = safe_places(yard)
    if copy is None or wiring.apart(path, copy):
        return ""
    return f"The safe and its copy are on the same disk. Put {yard.job.copy} on a USB stick."


def copy_safe(yard: Yard) -> None:
    """Make the second copy again. Raises SafeError where one is there."""
    path, copy = safe_places(yard)
    assert copy is not None
    wiring.copy_again(path, copy)


def doors_of(entry: UnitEntry, family: Family) -> tuple[Door, ...]:
    """Where each service is met: as the job file says, else as the unit comes from the factory; the best way of talking
    first."""
    ports = {**family.factory.ports, **entry.ports}
    return tuple(Door(s, entry.address, ports[s], s) for s in family.services() if s in ports)


def _digest(path: Path) -> str:
    return "sha256:" + hashlib.sha256(path.read_bytes()).hexdigest()


@contextlib.contextmanager
def alone(job_file: Path, name: str) -> Iterator[None]:
    """Only one run at a time may write to a unit. Raises OperatorError where another one does."""
    lock = job_file.parent / f".{name}.lock"
    try:
        # a link is not followed: what it names is not ours
        opened = os.fdopen(os.open(lock, os.O_CREAT | os.O_RDWR | os.O_NOFOLLOW, 0o600), "w")
    except OSError as e:
        raise OperatorError(
            f"{lock.parent}: cannot be written ({e.strerror}), so nothing can be recorded there"
        ) from None
    with opened as held:
        try:
            fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise OperatorError(f"{name}: another yardbolt works on it right now") from None
        yield
