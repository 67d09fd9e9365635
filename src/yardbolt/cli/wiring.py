"""The wiring: the one module that knows wires, adapters and bench, and puts them together for the use cases."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import importlib
import importlib.util
import logging
import os
import resource
import sys
from collections.abc import Awaitable, Callable, Iterator
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yardbolt.adapters import files
from yardbolt.core.credentials import Key
from yardbolt.core.doors import Door
from yardbolt.core.errors import OperatorError, SafeError, YardboltError
from yardbolt.core.secret import Ref, Secret

from .values import worst

if TYPE_CHECKING:
    from yardbolt.adapters.records import SqliteRecords
    from yardbolt.application.unit import Shared, UnitInWork
    from yardbolt.core.family.model import Family
    from yardbolt.core.formats.syslog import Message
    from yardbolt.core.job import Job, UnitEntry
    from yardbolt.core.judge.baseline import Baseline
    from yardbolt.core.ports import Look, Receiver, Safe, Sockets, Wire
    from yardbolt.core.talk.conversation import Talk

MASTER = "YARDBOLT_MASTER"
SHORTEST_MASTER = 12
ALL_PORTS = (1, 65535)
Secrets = Callable[[Ref], Secret | None]


def prepare_process() -> None:
    """Foreign libraries say nothing of their own (some would log credentials); nothing of ours is left for others to
    read."""
    logging.getLogger().addHandler(logging.NullHandler())
    for name in ("asyncssh", "telnetlib3", "pykeepass", "httpx", "httpcore", "pysnmp"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    # no secret in a core file, and nothing we write is for others to read
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    os.umask(0o077)


prepare_process()


# ---- wires ----------------------------------------------------------------------------------------------------------


def connect(secrets: Secrets, talk: Talk, service: str, pin: str, outdated: bool = False) -> Wire:
    """A wire, not yet opened, as the row of its way names it; `outdated` lets it take TLS and SSH that is. Raises
    OperatorError where none carries this way over this service."""
    named = talk.wires.get(service)
    if named is None:
        raise OperatorError(f"no wire carries '{talk.name}' over {service}; there are {', '.join(talk.wires)}")
    module, _, kind = named.partition(":")
    wire: Wire = getattr(importlib.import_module(f"yardbolt.wires.{module}"), kind)(secrets, pin, outdated)
    return wire


def ssh_key(file: Path) -> Key:
    """The SSH key in a file, by its fingerprint. Raises FileError where it cannot be used."""
    from yardbolt.wires.ssh import private_key

    return Key(private_key(str(file)).get_fingerprint(), str(file))


def trial_wire(secrets: Secrets, scheme: str) -> Wire:
    """A wire that tries one typed login on a host of which nothing else is known, and runs nothing there."""
    from yardbolt.core.talk.ways import UNDESCRIBED

    return connect(secrets, UNDESCRIBED[1], scheme, "")


def look_of(told: Callable[[int], None], span: tuple[int, int] = ALL_PORTS, sockets: Sockets | None = None) -> Look:
    """The look from outside. `told` hears how far it is; `span` limits it to some ports; `sockets` are shared."""
    from yardbolt.wires.look import TcpLook

    return TcpLook(told, span, sockets)


# ---- files and secrets ----------------------------------------------------------------------------------------------


def common_passwords() -> frozenset[str]:
    """The list of common passwords."""
    from yardbolt.adapters.wordlist import common_passwords as listed

    return listed()


def make_safe(path: Path, master: Secret | None, key_file: Path | None, copy: Path | None) -> None:
    """Make an empty safe and its copy. Raises SafeError where one lies there already."""
    from yardbolt.adapters.safe import create

    create(path, master, key_file, copy)


def write_whole(path: Path, content: bytes) -> None:
    """Write a file so that it is either whole or not there, readable by its owner only. Raises OSError."""
    from yardbolt.adapters.whole import write_atomically

    write_atomically(path, content)


def addresses_of(name: str) -> tuple[str, ...]:
    """The addresses of a name, at most one of each family. Raises OperatorError where there is none."""
    import socket

    try:
        if not any(sign.isalpha() for sign in name):
            raise OSError  # 192.0.2 is an address cut short, and the system would complete it in its own way
        found = [str(row[4][0]) for row in socket.getaddrinfo(name, None, type=socket.SOCK_STREAM)]
        return tuple({":" in one: one for one in reversed(found)}.values())
    except OSError:
        raise OperatorError(
            f"found '{name}'; an address, or a name that has one, is wanted, such as 192.0.2.1"
        ) from None


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


def place_of(job_file: Path, named: str) -> Path:
    """A path of the job file: relative to where the job file lies."""
    return Path(named) if Path(named).is_absolute() else job_file.parent / named


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


# ---- a job with its files -------------------------------------------------------------------------------------------


class Yard:
    """A job with its files: the unit in work is made from it."""

    def __init__(self, job_file: Path, quiet: bool = True, span: tuple[int, int] = ALL_PORTS) -> None:
        from yardbolt.adapters.records import SqliteRecords

        if not job_file.is_file():
            begin = "go to the job's folder, say --job FILE, or begin one with 'yardbolt new FOLDER'"
            raise OperatorError(f"no job file {job_file}; {begin}")
        self.file, self.span = job_file, span
        self.job: Job = files.load_job(job_file)
        for unit in self.job.units.values():
            self._find("families", unit.family)
        self._families: dict[str, Family] = {}
        self.records = SqliteRecords(job_file.parent / "record.sqlite")
        self._closing = contextlib.ExitStack()
        self._closing.callback(self.records.close)
        self.progress = Progress(quiet)
        self.troubles: dict[str, str] = {}  # what the technician was told instead of a result, by unit
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
        from yardbolt.wires.look import SocketsOfLaptop

        book = book_of_tries()
        self._closing.callback(book.close)
        return Shared(SocketsOfLaptop(), book)

    @cached_property
    def baseline(self) -> Baseline:
        """The baseline of the job."""
        return files.load_baseline(self._find("baselines", self.job.baseline))

    def family_of(self, name: str) -> Family:
        """The family of a unit, loaded once."""
        family = self.job.units[name].family
        if family not in self._families:
            self._families[family] = files.load_family(self._find("families", family))
        return self._families[family]

    def _find(self, kind: str, name: str) -> Path:
        return files.find(kind, name, self.file.parent)

    def units(self, named: list[str] | None) -> list[str]:
        """The units meant. Raises OperatorError on a name that is not in the job."""
        for name in named or ():
            if name not in self.job.units:
                raise OperatorError(f"no unit {name} in {self.file}; units are {', '.join(self.job.units)}")
        return list(dict.fromkeys(named)) if named else list(self.job.units)

    def open_safe(self, key_file: Path | None) -> Safe:
        """Open the safe of the job, once. Raises SafeError."""
        from yardbolt.adapters.safe import KdbxSafe
        from yardbolt.adapters.whole import only_ours

        path, copy = safe_places(self)
        if not path.exists():
            raise SafeError(f"{path}: there is no safe yet; 'yardbolt new' makes one")
        for place in (path, self.file.parent / "record.sqlite", *([copy] if copy else [])):
            if only_ours(place):
                sys.stderr.write(f"{place} was open to others on this laptop; it is closed to them now.\n")
        self.safe = KdbxSafe(path, None if key_file else master_password(), key_file, copy)
        return self.safe

    def needs_safe(self, names: list[str]) -> bool:
        """Did a login from the safe open one of these units, or was one sent to it?"""
        history = self.records.history()
        return any(history.of(name).uses_safe() for name in names)

    def unit(self, name: str) -> UnitInWork:
        """Everything needed to work on one unit."""
        from secrets import randbelow

        from yardbolt.adapters.clock import LaptopClock
        from yardbolt.adapters.laptop import holds, neighbour
        from yardbolt.application.budget import Budget
        from yardbolt.application.facts import Facts
        from yardbolt.application.held import Held
        from yardbolt.application.logins import Access
        from yardbolt.application.recording import Record
        from yardbolt.application.unit import Outside, UnitInWork
        from yardbolt.core.job import moved, site_of

        entry, today = self.job.units[name], LaptopClock().now()[:10]
        family = self.family_of(name)
        places = tuple(
            (one, site_of(self.job, one, family.factory_names(), doors_of(one, family), family.manual(), today))
            for one in ((entry, moved(entry)) if entry.goes_to else (entry,))
        )
        entry, site = places[0]
        texts = (self.job.owner, self.job.title, name, family.title)
        local = frozenset(word for text in texts for word in text.replace(",", " ").split() if len(word) > 2)
        facts = Facts(
            self.job, entry, site, family, self.baseline, local, common_passwords(), self.inputs(entry), places
        )
        record = Record(name, self.records, LaptopClock(), self.shared.tries)
        held = Held(facts, self.safe)
        budget = Budget(facts, record)
        look = look_of(
            lambda done: self.progress(f"{name}: {done:,} of 65,535 ports looked at"), self.span, self.shared.sockets
        )
        access = Access(
            facts, record, held, budget,
            lambda talk, service, pin: connect(held.secret, talk, service, pin, entry.outdated), self.progress,
        )  # fmt: skip
        unit = UnitInWork(
            facts,
            record,
            held,
            budget,
            access,
            Outside(look, neighbour, receiver, holds),
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


def no_host() -> str:
    """Why no real host can stand on this laptop; empty where one can."""
    from yardbolt.bench.realhost import missing

    return missing()


@contextlib.contextmanager
def real_host(name: str, folder: Path) -> Iterator[str]:
    """The server of the demo, up in namespaces of its own; the first three numbers of its network."""
    from yardbolt.bench.realhost import planted

    host = planted(name, folder)
    try:
        host.up()
        yield host.network
    finally:
        host.down()


def receiver(address: str, port: int, heard: Callable[[str, Message], None] = lambda sender, message: None) -> Receiver:
    """Receives log messages at an address of this laptop."""
    from yardbolt.wires.receiver import Receiver as Received

    return Received(address, port, heard)


def safe_places(yard: Yard) -> tuple[Path, Path | None]:
    """Where the safe and its second copy lie."""
    copy = place_of(yard.file, yard.job.copy) if yard.job.copy else None
    return place_of(yard.file, yard.job.safe), copy


def copy_notice(yard: Yard) -> str:
    """What is to be said of where the second copy lies: nothing where it lies on a device of its own."""
    from yardbolt.adapters.safe import apart

    path, copy = safe_places(yard)
    if copy is None or apart(path, copy):
        return ""
    return f"The safe and its copy are on the same disk. Put {yard.job.copy} on a USB stick."


def copy_safe(yard: Yard) -> None:
    """Make the second copy again. Raises SafeError where one is there."""
    from yardbolt.adapters.safe import copy_again

    path, copy = safe_places(yard)
    assert copy is not None
    copy_again(path, copy)


def safe_entry(unit: str, account: str) -> Ref:
    """The entry of the safe for an account of a unit."""
    return Ref(f"safe:{unit}/{account}")


def book_of_tries() -> SqliteRecords:
    """The laptop's own book of login tries, which all jobs and `--at` share, so that two of them do not lock an
    account together, in the user's state folder (XDG Base Directory). Raises OperatorError where it cannot be kept:
    then no try is made."""
    from yardbolt.adapters.records import SqliteRecords

    state = os.environ.get("XDG_STATE_HOME") or str(Path.home() / ".local" / "state")
    file = Path(state) / "yardbolt" / "tries.sqlite"
    try:
        return SqliteRecords(file)
    except (OSError, YardboltError) as e:
        why = (e.strerror if isinstance(e, OSError) else "") or str(e).replace(f"{file}: ", "")
        raise OperatorError(
            f"{file}: the book of login tries cannot be kept ({why}), so no login is tried; set XDG_STATE_HOME to a folder "
            "that can be written"
        ) from None


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


def where_of(error: BaseException) -> str:
    """Where an unexpected error came from: file and line, never a value."""
    import traceback

    frames = traceback.extract_tb(error.__traceback__)[-3:]
    return ", ".join(f"{Path(frame.filename).name}:{frame.lineno}" for frame in frames)


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


def each(yard: Yard, names: list[str], jobs: int, work: Callable[[str], Awaitable[int]]) -> int:
    """Run the work of several units at the same time; each error is one line, the worst exit code wins."""

    import asyncio

    from yardbolt.core.run.events import Troubled

    async def one(name: str, gate: asyncio.Semaphore) -> int:
        async with gate:
            try:
                return await work(name)
            except YardboltError as e:
                await yard.turns.of(name)
                yard.progress.clear()
                told = " ".join(str(e).split("\n"))
                told = told if told.startswith(name) else f"{name}: {told}"
                sys.stderr.write(f"yardbolt: {told}\n")
                yard.records.append(name, 0, Troubled(error=told))
                yard.troubles[name] = told
                return e.exit_code
            except Exception as e:
                # one unit's defect is that unit's outcome; the others go on
                await yard.turns.of(name)
                yard.progress.clear()
                told = f"{name}: stopped by a defect in Yard Bolt: {type(e).__name__}; see 'yardbolt records journal {name}'"
                sys.stderr.write(f"yardbolt: {told}\n")
                yard.records.append(name, 0, Troubled(error=f"{told} ({where_of(e)})"))
                return 1
            finally:
                # an approval that is waited for, or an end, shows nothing: then it is the next one's turn all the same
                await yard.turns.of(name)
                yard.turns.shown(name)

    async def all_of_them() -> list[int]:
        gate = asyncio.Semaphore(jobs)
        yard.turns = Turns(names)
        return list(await asyncio.gather(*(one(name, gate) for name in names)))

    try:
        return worst(asyncio.run(all_of_them()))
    finally:
        yard.progress.clear()


# ---- files by name, for the commands that only show them ------------------------------------------------------------


def load_job(path: Path, edited: bool = True) -> Job:
    """A job file. Raises FileError; where it must be `edited`, also on the words of the template."""
    return files.load_job(path, edited)


def load_family(path: Path) -> Family:
    """A family file. Raises FileError."""
    return files.load_family(path)


def family_file(name: str, beside: Path) -> Path:
    """Where a family of this name lies. Raises OperatorError."""
    return files.find("families", name, beside)


def shipped_families() -> dict[str, Path]:
    """The families that come with the program."""
    return files.shipped("families")


def outline(path: Path) -> dict[str, Any]:
    """A family's tree of texts, unchecked."""
    return files.outline(path)


def baseline(name: str, beside: Path) -> Baseline:
    """A baseline by name. Raises OperatorError or FileError."""
    return files.load_baseline(files.find("baselines", name, beside))


def schema(which: str) -> dict[str, Any]:
    """The JSON Schema of one of our files."""
    return files.schema(which)


def now() -> str:
    """The laptop's time (ISO 8601, UTC)."""
    from yardbolt.adapters.clock import LaptopClock

    return LaptopClock().now()


def renewed(addresses: list[str]) -> None:
    """Fresh units stand at these addresses: forget the tries of those before in the laptop's own book."""
    from yardbolt.core.run.events import Renewed

    book = book_of_tries()
    for address in addresses:
        book.append(address, 0, Renewed(address=address))
    book.close()


# ---- the bench ------------------------------------------------------------------------------------------------------


def bench() -> Any:
    """The bench's servers. Raises OperatorError where what only they need is not installed."""
    if not all(importlib.util.find_spec(name) for name in ("starlette", "uvicorn")):
        raise OperatorError("the bench needs two more packages: pip install 'yardbolt[bench]'")
    from yardbolt.bench import serve

    return serve
