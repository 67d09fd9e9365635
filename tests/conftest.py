"""The built program, run as its users run it, in temporary folders; a real bench and a real sshd where a test asks for one."""

from __future__ import annotations

import getpass
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

MASTER = "MARKER-master-9qzx"


@dataclass
class Tool:
    """`yardbolt`, in a folder; keeps everything it ever said."""

    folder: Path
    env: dict[str, str]
    said: list[str] = field(default_factory=list)

    def __call__(self, *args: str, code: int | None = 0, cwd: Path | None = None, env: dict[str, str] | None = None) -> str:
        got = self.run(*args, cwd=cwd, env=env)
        if code is not None:
            assert got.returncode == code, f"{args}: {got.returncode}\n{got.stdout}\n{got.stderr}"
        return got.stdout

    def run(self, *args: str, cwd: Path | None = None, env: dict[str, str] | None = None) -> subprocess.CompletedProcess[str]:
        argv = [sys.executable, "-m", "yardbolt", *args]
        got = subprocess.run(argv, cwd=cwd or self.folder, env=env or self.env, capture_output=True, text=True, stdin=subprocess.DEVNULL)
        self.said += [got.stdout, got.stderr, *args]
        assert "Traceback" not in got.stderr, got.stderr
        return got

    def error(self, *args: str, code: int) -> str:
        """The one line of an error."""
        got = self.run(*args)
        lines = got.stderr.splitlines()
        assert got.returncode == code and len(lines) == 1, (got.returncode, got.stderr, got.stdout[-400:])
        return lines[0]

    def start(self, *args: str) -> subprocess.Popen[str]:
        argv = [sys.executable, "-m", "yardbolt", *args]
        return subprocess.Popen(argv, cwd=self.folder, env=self.env, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)


@pytest.fixture
def tool(tmp_path: Path) -> Tool:
    env = {k: v for k, v in os.environ.items() if not k.startswith("YARDBOLT")}
    return Tool(tmp_path, {**env, "YARDBOLT_MASTER": MASTER, "COLUMNS": "120", "HOME": str(tmp_path)})


@dataclass
class Bench:
    state: Path
    process: subprocess.Popen[str]

    def fault(self, kind: str) -> None:
        (self.state / "fault").write_text(kind)
        time.sleep(0.2)


@pytest.fixture
def benches(tool: Tool) -> Iterator[Callable[[], Bench]]:
    """Starts a fresh bench, ending the one before."""
    running: list[Bench] = []

    def start() -> Bench:
        stop()
        state = tool.folder / f"bench-{len(list(tool.folder.iterdir()))}"
        process = tool.start("bench", "up", "--state", str(state))
        assert process.stdout is not None
        first = process.stdout.readline()
        assert first.startswith("up:"), first
        running.append(Bench(state, process))
        return running[-1]

    def stop() -> None:
        for b in running:
            b.process.send_signal(signal.SIGTERM)
            b.process.wait(10)
            assert b.process.stdout is not None
            b.process.stdout.close()
        running.clear()

    yield start
    stop()


@pytest.fixture
def job(tool: Tool, benches: Callable[[], Bench]) -> Tool:
    """The demo's job with its bench up and an empty safe."""
    benches()
    tool("new", "job", "--demo")
    tool.folder = tool.folder / "job"
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
    assert program, "the tests need Debian's openssh-server; .ci/run installs it"
    address, user = "127.83.9.1", getpass.getuser()
    with socket.socket() as s:
        s.bind((address, 0))
        port = s.getsockname()[1]
    for name in ("host", "user"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(tmp_path / name)], check=True)
    (tmp_path / "notice").write_text("Larkmoor Tramway. Authorised staff only.\n")
    (tmp_path / "sshd_config").write_text(
        f"Port {port}\nListenAddress {address}\nHostKey {tmp_path}/host\nPidFile none\nAuthorizedKeysFile {tmp_path}/user.pub\nStrictModes no\n"
        f"PermitRootLogin yes\nPasswordAuthentication yes\nUsePAM no\nMaxAuthTries 9\nAllowUsers {user}\nBanner {tmp_path}/notice\n"
        "Ciphers aes128-ctr,aes128-cbc\n"
    )
    if os.getuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    process = subprocess.Popen([program, "-D", "-f", str(tmp_path / "sshd_config")], stderr=subprocess.DEVNULL)
    try:
        for _ in range(100):
            with socket.socket() as s:
                if s.connect_ex((address, port)) == 0:
                    break
            time.sleep(0.1)
        yield Sshd(address, port, user, tmp_path / "user")
    finally:
        process.terminate()
        process.wait(10)


settings.register_profile("yard", deadline=None, derandomize=bool(os.environ.get("CI")), suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("yard")
