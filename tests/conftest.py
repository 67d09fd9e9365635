"""The program as its users run it, in temporary folders: in this process where no kill and no terminal is needed. A
real bench and a real sshd where a test asks for one, on addresses no other run of the tests uses."""

from __future__ import annotations

import asyncio
import contextlib
import getpass
import io
import logging
import os
import pty
import re
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings
from pykeepass import PyKeePass

from tests.yard.hosts import Host
from yardbolt.adapters.files import shipped
from yardbolt.adapters.safe import make_safe
from yardbolt.bench import serve
from yardbolt.bench.lineswitch import LineSwitch
from yardbolt.bench.stand import Stand
from yardbolt.core.secret import Secret

MASTER = "MARKER-master-9qzx"
# Two runs at once on one machine do not meet: each has a network of its own, by its process id.
NETWORK = f"127.{90 + os.getpid() % 150}.{os.getpid() // 150 % 250}"
ELSEWHERE = f"127.{240 + os.getpid() % 14}.{os.getpid() // 14 % 250}"  # where units are moved to
UNIT, LAPTOP, STRANGER = f"{NETWORK}.1", f"{NETWORK}.10", f"{NETWORK}.66"
SOME_PORTS = "2000-2100"  # one test looks at all of them


def one_unit_yard(plain: bool = False) -> str:
    """The demo's job on this process's network, with the line switch alone, or with the plain unit alone."""
    head, _, units = shipped("demo")["yard"].read_text().partition("  sk-sw-04:")
    switch, mark, box = units.partition("  sk-rb-01:")
    return (head + (mark + box if plain else "  sk-sw-04:" + switch)).replace("127.83.4.", f"{NETWORK}.")


@dataclass(frozen=True)
class Said:
    """What a command said, and its exit code."""

    returncode: int
    stdout: str
    stderr: str


@dataclass
class Tool:
    """`yardbolt`, in a folder; keeps everything it ever said."""

    folder: Path
    env: dict[str, str]
    said: list[str] = field(default_factory=list)

    def __call__(self, *args: str, code: int | None = 0, cwd: Path | None = None) -> str:
        got = self.run(*args, cwd=cwd)
        if code is not None:
            assert got.returncode == code, f"{args}: {got.returncode}\n{got.stdout}\n{got.stderr}"
        return got.stdout

    def run(self, *args: str, cwd: Path | None = None, env: dict[str, str] | None = None) -> Said:
        """Run a command in this process."""
        from yardbolt.__main__ import main

        out, err, code = io.StringIO(), io.StringIO(), 0
        before = dict(os.environ), Path.cwd(), sys.argv, sys.stdin
        with Path(os.devnull).open() as nothing, contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            try:
                os.environ.clear()
                os.environ.update(env or self.env)
                os.chdir(cwd or self.folder)
                sys.argv, sys.stdin = ["yardbolt", *args], nothing
                main()
            except SystemExit as e:
                code = e.code if isinstance(e.code, int) else 1
            finally:
                os.environ.clear()
                os.environ.update(before[0])
                os.chdir(before[1])
                sys.argv, sys.stdin = before[2:]
        self.said += [out.getvalue(), err.getvalue(), *args]
        words = re.search(r"Traceback|\b[A-Z]\w*(?:Error|Exception)\b", out.getvalue() + err.getvalue())
        assert words is None, f"nothing of Python: {words}"
        return Said(code, out.getvalue(), err.getvalue())

    def error(self, *args: str, code: int) -> str:
        """The one line of an error."""
        got = self.run(*args)
        lines = got.stderr.splitlines()
        assert got.returncode == code and len(lines) == 1, (got.returncode, got.stderr, got.stdout[-400:])
        return lines[0]

    def start(self, *args: str) -> subprocess.Popen[str]:
        """Run a command in a process of its own, which can be killed."""
        argv = [sys.executable, "-m", "yardbolt", *args]
        return subprocess.Popen(
            argv, cwd=self.folder, env=self.env, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )


def at_the_keyboard(
    tool: Tool, command: list[str], answer: Callable[[bytes], bytes | None], folder: Path, shown_there: bool
) -> tuple[str, str, int]:
    """Run a command at a terminal and type the answer to each prompt: what it wrote to its output (unless that is the
    terminal too), what the terminal shows, the code."""
    ours, theirs = pty.openpty()
    process = subprocess.Popen(
        command, cwd=folder, env=tool.env, stdin=theirs, stdout=theirs if shown_there else subprocess.PIPE, stderr=theirs, start_new_session=True,
    )  # fmt: skip
    os.close(theirs)
    shown = b""

    def watch() -> None:
        nonlocal shown
        asked = 0
        with contextlib.suppress(OSError):
            while got := os.read(ours, 4096):
                shown += got
                if (given := answer(shown[asked:].rstrip())) is not None:
                    asked = len(shown)
                    os.write(ours, given + b"\n")

    watching = threading.Thread(target=watch, daemon=True)
    watching.start()
    try:
        out = (process.communicate(timeout=600)[0] or b"").decode()
    finally:
        process.kill()
        watching.join(5)
        os.close(ours)
    tool.said += [out, shown.decode(errors="replace")]
    return out, tool.said[-1], process.returncode


def typed(tool: Tool, answers: list[bytes], *args: str) -> tuple[str, int]:
    """Run the program at a terminal and type the answers, one after another."""
    left = list(answers)
    command = [sys.executable, "-m", "yardbolt", *args]
    out, _, code = at_the_keyboard(
        tool, command, lambda asked: left.pop(0) if left and asked.endswith(b":") else None, tool.folder, False
    )
    return out, code


@pytest.fixture
def tool(tmp_path: Path) -> Tool:
    env = {k: v for k, v in os.environ.items() if not k.startswith("YARDBOLT")}
    more = {"YARDBOLT_MASTER": MASTER, "YARDBOLT_PORTS": SOME_PORTS, "COLUMNS": "120", "HOME": str(tmp_path)}
    return Tool(tmp_path, {**env, **more})


class Bench:
    """A bench of its own in a thread, on this run's network, with its fault switch."""

    def __init__(self, state: Path) -> None:
        self.state = state
        state.mkdir(parents=True)
        self._loop = asyncio.new_event_loop()
        self._ready = threading.Event()
        self._task: asyncio.Task[None] | None = None
        self.stands: list[Stand] = []
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()
        assert self._ready.wait(10), "the bench did not come up"

    def _up(self, stands: list[Stand]) -> None:
        self.stands = stands
        for stand in stands:
            stand.unit.started -= 60  # it was plugged in a while ago; restarts and the demo's unit are slow to wake
        self._ready.set()

    @property
    def switch(self) -> LineSwitch:
        """The line switch among the units."""
        unit = self.stands[0].unit
        assert isinstance(unit, LineSwitch)
        return unit

    def _serve(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._task = self._loop.create_task(serve.up(self.state, NETWORK, self._up))
        with contextlib.suppress(asyncio.CancelledError):
            self._loop.run_until_complete(self._task)
        self._loop.run_until_complete(self._loop.shutdown_asyncgens())
        self._loop.close()

    def fault(self, kind: str) -> None:
        (self.state / "fault").write_text(kind)
        time.sleep(0.1)

    def down(self) -> None:
        assert self._task is not None
        self._loop.call_soon_threadsafe(self._task.cancel)
        self._thread.join(60)
        assert not self._thread.is_alive(), "the bench does not end"


@pytest.fixture
def benches(tmp_path: Path) -> Iterator[Callable[[], Bench]]:
    """Starts a fresh bench, ending the one before."""
    running: list[Bench] = []

    def start() -> Bench:
        stop()
        running.append(Bench(tmp_path / f"bench-{len(list(tmp_path.iterdir()))}"))
        return running[-1]

    def stop() -> None:
        while running:
            running.pop().down()

    yield start
    stop()


def empty_safe(path: Path) -> bytes:
    """An empty safe that opens quickly: what a safe costs to open is chosen when it is made, and is no concern of most
    tests."""
    make_safe(path, Secret(MASTER), None, None)
    opened = PyKeePass(str(path), password=MASTER)
    cost = opened.kdbx.header.value.dynamic_header.kdf_parameters.data.dict
    cost["I"].value, cost["M"].value = 1, 65536
    opened.save()
    return path.read_bytes()


@pytest.fixture(scope="session")
def light_safe(tmp_path_factory: pytest.TempPathFactory) -> bytes:
    """One for all tests."""
    return empty_safe(tmp_path_factory.mktemp("safe") / "light.kdbx")


@pytest.fixture
def job(tool: Tool, benches: Callable[[], Bench], light_safe: bytes) -> Tool:
    """The demo's job with its bench up and an empty safe."""
    benches()
    tool.folder = tool.folder / "job"
    (tool.folder / "stick").mkdir(parents=True)
    (tool.folder / "yard.yaml").write_text(one_unit_yard())
    for place in ("safe.kdbx", "stick/safe.kdbx"):
        (tool.folder / place).write_bytes(light_safe)
        (tool.folder / place).chmod(0o600)
    return tool


@dataclass
class Sshd:
    address: str
    port: int
    user: str
    key: Path


@pytest.fixture
def sshd(tmp_path: Path) -> Iterator[Sshd]:
    """Debian's own sshd on a loopback address, with a configuration of its own and one key that opens it."""
    program = shutil.which("sshd", path=f"{os.environ['PATH']}:/usr/sbin")
    assert program, "the tests need Debian's openssh-server; .ci/system installs it"
    address, user = f"{NETWORK}.9", getpass.getuser()
    with socket.socket() as probe:
        probe.bind((address, 0))
        port = probe.getsockname()[1]
    for name in ("host", "user"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(tmp_path / name)], check=True)
    (tmp_path / "notice").write_text("Larkmoor Tramway. Authorised staff only.\n")
    (tmp_path / "sshd_config").write_text(
        f"Port {port}\nListenAddress {address}\nHostKey {tmp_path}/host\nPidFile {tmp_path}/pid\nStrictModes no\n"
        f"AuthorizedKeysFile {tmp_path}/user.pub\nPermitRootLogin yes\nPasswordAuthentication yes\nUsePAM no\n"
        f"MaxAuthTries 9\nAllowUsers {user}\nBanner {tmp_path}/notice\nCiphers aes128-ctr,aes128-cbc\n"
    )
    if os.getuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    time.sleep(1.1)  # a file written in the second of the start may have been written after it
    process = subprocess.Popen([program, "-D", "-f", str(tmp_path / "sshd_config")], stderr=subprocess.DEVNULL)
    try:
        for _ in range(100):
            with socket.socket() as probe:
                if probe.connect_ex((address, port)) == 0:
                    break
            time.sleep(0.05)
        yield Sshd(address, port, user, tmp_path / "user")
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait(10)


@pytest.fixture(autouse=True)
def nothing_leaks() -> Iterator[None]:
    """A task that was lost, or an error nobody fetched, is said through asyncio's logger: here it fails the test."""
    heard: list[str] = []

    class Ear(logging.Handler):
        def emit(self, record: logging.LogRecord) -> None:
            heard.append(record.getMessage())

    ear = Ear(logging.ERROR)
    logging.getLogger("asyncio").addHandler(ear)
    yield
    logging.getLogger("asyncio").removeHandler(ear)
    assert not heard, heard


# anyone who takes minutes begins first, each at the front of what another worker is given: else all wait for the last
LONG = (
    "stays_so[mill]", "other_habits", "readme_is_followed", "waits_for_its_first_visitor", "killed_at_any_moment", "and_pages_are_tightened_and_proven",
    "what_misbehaves", "stays_so[cabin]", "hostile_units", "each_lie_of_it", "tells_the_whole_job", "armed_before_keeps", "moved_to_its_place", "a_host_goes_back",
    "agreed_to_by_name", "makevariety", "packets_meet[mill]", "told[shed]",
)  # fmt: skip


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The order of the tests, the same in every worker."""
    many = int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", "1"))
    items.sort(key=lambda item: next((n for n, name in enumerate(LONG) if name in item.nodeid), len(LONG)))
    items[:] = [item for first in range(many) for item in items[first::many]]


settings.register_profile(
    "yard", deadline=None, derandomize=bool(os.environ.get("CI")), suppress_health_check=[HealthCheck.too_slow]
)
settings.load_profile("yard")


@pytest.fixture
def host(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Host]:
    """A real host of the yard, up; the parameter names its kind."""
    from tests.yard.truth import FILTER, KINDS

    name: str = request.param
    kind, number = KINDS[name], list(KINDS).index(name) + 1
    made = kind.host(name, number, "", kind.start, tmp_path / "host", kind.boot)
    filled = FILTER.replace("NET6", made.network6).replace("NET", made.network)
    made.setup = f"FILTER='{filled}'\n" + kind.setup.replace("NET", made.network)
    made.up()
    yield made
    made.down()
