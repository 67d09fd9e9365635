"""The wiring: the one module that knows adapters and bench, and puts them together for the use cases."""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import getpass
import hashlib
import logging
import os
import resource
import secrets as randomness
import sys
from collections.abc import Awaitable, Callable, Iterator
from pathlib import Path
from typing import TypeVar

from yardbolt.adapters import files
from yardbolt.adapters.clock import LaptopClock
from yardbolt.adapters.knock import TcpKnocker
from yardbolt.adapters.records import SqliteRecords
from yardbolt.application.desk import Desk
from yardbolt.core.errors import OperatorError, SafeError, YardboltError
from yardbolt.core.family import Channel as Spec
from yardbolt.core.family import Family, factory_names
from yardbolt.core.job import Job, site_of
from yardbolt.core.ports import Channel
from yardbolt.core.secret import Ref, Secret

from .options import worst

T = TypeVar("T")
MASTER = "YARDBOLT_MASTER"
MOST_FILES = 8192


def prepare_process() -> None:
    """Foreign libraries say nothing of their own (some would log credentials), and many sockets may be open at once."""
    logging.getLogger().addHandler(logging.NullHandler())
    for name in ("asyncssh", "telnetlib3", "pykeepass", "sqlalchemy", "asyncio"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = MOST_FILES if hard == resource.RLIM_INFINITY else min(hard, MOST_FILES)
    if soft < wanted:
        resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))


prepare_process()


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


def ask_secret(prompt: str) -> Secret:
    """A secret typed without echo. Raises OperatorError where nobody can type."""
    if not sys.stdin.isatty():
        raise OperatorError(f"{prompt.strip(': ')} is wanted, and nobody is at the keyboard")
    return Secret(getpass.getpass(prompt))


def master_password(confirm: bool = False) -> Secret:
    """The master password of the safe: from the environment, else from the keyboard. Raises SafeError."""
    if given := os.environ.get(MASTER):
        return Secret(given)
    if not sys.stdin.isatty():
        raise SafeError(f"no master password: set {MASTER}, or give --key-file")
    got = ask_secret("Master password of the safe: ")
    if confirm and ask_secret("Once more: ").reveal() != got.reveal():
        raise SafeError("the two do not agree; nothing was made")
    if not got:
        raise SafeError("a safe needs a master password")
    return got


def place_of(job_file: Path, written: str) -> Path:
    """A path of the job file: relative to where the job file lies."""
    return Path(written) if Path(written).is_absolute() else job_file.parent / written


class Yard:
    """A job with its files: the desk of each unit is made from it."""

    def __init__(self, job_file: Path, quiet: bool = True) -> None:
        if not job_file.is_file():
            raise OperatorError(f"no job file {job_file}; go to the job's folder, say --job FILE, or begin one with 'yardbolt new FOLDER'")
        self.file = job_file
        self.job: Job = files.load_job(job_file)
        self.baseline = files.load_baseline(files.find("baselines", self.job.baseline, job_file.parent))
        self.families: dict[str, Family] = {}
        self.records = SqliteRecords(job_file.parent / "record.sqlite")
        self.progress = Progress(quiet)
        self.safe: object = None
        for unit in self.job.units.values():
            if unit.family not in self.families:
                self.families[unit.family] = files.load_family(files.find("families", unit.family, job_file.parent))

    def units(self, named: list[str] | None) -> list[str]:
        """The units meant. Raises OperatorError on a name that is not in the job."""
        for name in named or ():
            if name not in self.job.units:
                raise OperatorError(f"no unit {name} in {self.file}; units are {', '.join(self.job.units)}")
        return list(dict.fromkeys(named)) if named else list(self.job.units)

    def open_safe(self, key_file: Path | None) -> None:
        """Open the safe of the job, once. Raises SafeError."""
        from yardbolt.adapters.safe import KdbxSafe

        path = place_of(self.file, self.job.safe)
        copy = place_of(self.file, self.job.copy) if self.job.copy else None
        if not path.exists():
            raise SafeError(f"{path}: there is no safe yet; 'yardbolt new' makes one")
        self.safe = KdbxSafe(path, None if key_file else master_password(), key_file, copy)

    def needs_safe(self, names: list[str]) -> bool:
        """Did a login from the safe open one of these units, or was one sent to it?"""
        return any(str(e.get("secret", "")).startswith("safe:") for n in names for e in self.records.journal(n))

    def desk(self, name: str) -> Desk:
        """Everything needed to work on one unit."""
        from yardbolt.adapters.wordlist import common_passwords

        unit = self.job.units[name]
        family = self.families[unit.family]
        site = site_of(self.job, unit, factory_names(family))
        words = frozenset(w for text in (self.job.owner, self.job.title, name, family.title) for w in text.replace(",", " ").split() if len(w) > 2)
        desk = Desk(
            self.job, unit, site, family, self.baseline, self.records, LaptopClock(),
            TcpKnocker(lambda done: self.progress(f"{name}: {done:,} of 65,535 ports looked at")),
            lambda spec, pin: dial(desk, spec, pin), self.progress, words, common_passwords(), pick=randomness.randbelow,
        )  # fmt: skip
        desk.inputs = {
            "job file": _digest(self.file),
            "baseline": _digest(files.find("baselines", self.job.baseline, self.file.parent)),
            "family": _digest(files.find("families", unit.family, self.file.parent)),
        }
        desk.safe = self.safe  # type: ignore[assignment]
        return desk


def _digest(path: Path) -> str:
    return "sha256:" + hashlib.sha256(path.read_bytes()).hexdigest()


def dial(desk: Desk, spec: Spec, pin: str) -> Channel:
    """A channel of the kind a family names, not yet connected."""
    return dial_with(desk.secret, spec.speaks, spec.mode, pin)


def dial_with(secret: Callable[[Ref], Secret | None], speaks: str, mode: str, pin: str) -> Channel:
    """A channel by what it speaks."""
    if speaks == "ssh":
        from yardbolt.adapters.ssh import SshChannel

        return SshChannel(secret, mode, pin)
    from yardbolt.adapters.telnet import TelnetChannel

    return TelnetChannel(secret)


@contextlib.contextmanager
def alone(job_file: Path, name: str) -> Iterator[None]:
    """Only one run at a time may write to a unit. Raises OperatorError where another one does."""
    lock = job_file.parent / f".{name}.lock"
    with lock.open("w") as f:
        try:
            fcntl.flock(f, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise OperatorError(f"{name}: another yardbolt works on it right now") from None
        yield


def each(yard: Yard, names: list[str], jobs: int, work: Callable[[str], Awaitable[int]]) -> int:
    """Run the work of several units at the same time; each error is one line, the worst exit code wins."""

    async def one(name: str, gate: asyncio.Semaphore) -> int:
        async with gate:
            try:
                return await work(name)
            except YardboltError as e:
                yard.progress.clear()
                told = str(e) if str(e).startswith(name) else f"{name}: {e}"
                sys.stderr.write(f"yardbolt: {told}\n")
                yard.records.append(name, 0, {"kind": "trouble", "state": "told", "error": told})
                return e.exit_code

    async def all_of_them() -> list[int]:
        gate = asyncio.Semaphore(jobs)
        return list(await asyncio.gather(*(one(n, gate) for n in names)))

    try:
        return worst(asyncio.run(all_of_them()))
    finally:
        yard.progress.clear()
