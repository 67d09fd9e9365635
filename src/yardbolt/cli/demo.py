"""The demo: the bench in one process, the very commands a technician types in others, and a word of comment before
each."""

from __future__ import annotations

import contextlib
import os
import secrets
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from yardbolt.core.errors import OperatorError, Stopped

from . import wiring
from .new import DEMO_NETWORK
from .screen import Screen

NEW = ("new", ".", "--demo")
STORY: tuple[tuple[str, tuple[str, ...], tuple[int, ...]], ...] = (
    ("Two cartons arrive in the depot of Larkmoor Tramway. First a job file and an empty safe.", NEW, (0,)),
    (
        "Look before touching: every port, every published login. Nothing is changed, nothing answered.",
        ("check",),
        (3, 4),
    ),
    (
        "The switch wants terms accepted and a first password: a write, so it needs approval.",
        ("enter", "--yes", "--this-one"),
        (0,),
    ),
    ("The plan: an order in which somebody can always still get in; nothing is sent yet.", ("steps",), (0,)),
    (
        "Carry it out: write, read back, prove in a new connection, save, then close the old ways.",
        ("tighten", "--yes"),
        (0, 4),
    ),
    ("The hand-over sheets for the owner to sign, and where the job stands.", ("sheet",), (0,)),
    ("", (), (0,)),
)

HOST = "sk-log-01"
OF_A_HOST: tuple[tuple[str, tuple[str, ...], tuple[int, ...]], ...] = (
    (
        "A server came with the line: a published root password, telnet, a guest with a key and a job of his own.",
        ("check",),
        (3,),
    ),
    (
        "The plan: what could lock us out is made under a timed return, proven by a new login, and only then kept.",
        ("steps",),
        (0, 4),
    ),
    ("Carry it out, restart it, prove it by ordinary logins.", ("tighten", "--yes", "--this-one"), (0, 3, 4)),
    ("Which files are ours, and how they are taken away again.", ("records", "files", HOST), (0,)),
    ("The sheet for the owner.", ("sheet",), (0, 3, 4)),
)
YARD = """job: Skerrow line, the server
owner: Larkmoor Tramway
technician: Ros Tamblin
segments:
  room: {{network: {net}.0/24, administrators: [{net}.10, {net}.11], laptop: {net}.10, stranger: {net}.66}}
accounts:
  lt-works: {{rights: full, whose: Larkmoor Tramway works office}}
  lt-watch: {{rights: read, whose: Larkmoor Tramway control room}}
needs: {{all: [ssh]}}
banner: "Larkmoor Tramway. Authorised staff only. Use is recorded."
servers: [{{kind: logs, at: {net}.20}}]
allows: {{restart: yes, remove factory accounts: yes, remove foreign: [accounts, keys, jobs]}}
safe: {{file: safe.kdbx, copy: copy/safe.kdbx}}
units:
  {host}: {{family: works-server, segment: room, at: {net}.1}}
"""
FAMILY = """family: works-server
title: A server as it came
based_on: linux-server
factory:
  ports: {ssh: 22}
  logins: [{account: root, secret: works-4417}, {account: guest, secret: guest}]
  lockout: {tries: 20, release: 60 s}
"""
PREFIX = "yardbolt-demo-"
PROGRAM = (sys.executable, "-m", "yardbolt")


def _free_network() -> str:
    """The network of the demo's units: the usual one, or another where a bench is up there already."""
    tried = [DEMO_NETWORK, *(f"127.83.{third}" for third in range(5, 250))]
    for network in tried:
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            with contextlib.suppress(OSError):
                probe.bind((f"{network}.1", 2022))
                return network
    raise Stopped("every network of the bench is taken; end the other benches first")


def run(folder: Path | None, no_color: bool) -> int:
    """Tell the story; 0 when every command ended as it should. Raises Stopped on the first that did not, leaving
    nothing running."""
    if folder is not None and (folder / "yard.yaml").exists():
        raise OperatorError(f"{folder} holds a job already; the demo wants an empty folder")
    _clear_away()
    work = folder or Path(tempfile.mkdtemp(prefix=PREFIX))
    work.mkdir(parents=True, exist_ok=True)
    key = work / "demo.key"
    wiring.write_whole(key, secrets.token_bytes(64))
    network = _free_network()
    env = {**os.environ, "YARDBOLT_KEY_FILE": str(key.resolve()), "XDG_STATE_HOME": str(work.resolve() / "state")}
    env.pop("YARDBOLT_MASTER", None)
    if no_color:
        env["NO_COLOR"] = "1"
    screen = Screen(no_color)
    began, spent = time.monotonic(), dict[str, float]()
    bench = subprocess.Popen(
        [*PROGRAM, "bench", "up", "--state", str(work / "bench"), "--network", network],
        stdout=subprocess.PIPE,
        text=True,
        env=env,
    )
    try:
        assert bench.stdout is not None
        if not bench.stdout.readline().startswith("up:"):
            raise Stopped("the bench did not come up; is another one running?")
        for comment, command, good in STORY:
            elsewhere = command is NEW and network != DEMO_NETWORK
            whole = (*command, "--network", network) if elsewhere else command
            spent[" ".join(command[:1])] = _act(screen, comment, whole, good, work, env)
        screen.head(
            "Done",
            f"{time.monotonic() - began:.0f} s ({_longest(spent)}); the bench is down, nothing is left running",
        )
        screen.say(f"The job:  {work}  (safe key: {key.name}; delete it when you are done)")
        screen.say("By hand:  yardbolt bench up; in another terminal: yardbolt new job --demo, cd job, yardbolt check")
        return 0
    finally:
        bench.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            bench.wait(5)
        if bench.poll() is None:
            bench.kill()


def of_a_host(folder: Path | None, no_color: bool) -> int:
    """The same for a real host, made in namespaces on this laptop. Raises OperatorError where none can stand here."""
    if why := wiring.missing():
        raise OperatorError(why)
    if folder is not None and (folder / "yard.yaml").exists():
        raise OperatorError(f"{folder} holds a job already; the demo wants an empty folder")
    work = folder or Path(tempfile.mkdtemp(prefix=PREFIX))
    (work / "families").mkdir(parents=True)
    key, screen, began, spent = work / "demo.key", Screen(no_color), time.monotonic(), dict[str, float]()
    wiring.write_whole(key, secrets.token_bytes(64))
    env = {**os.environ, "YARDBOLT_KEY_FILE": str(key.resolve()), "XDG_STATE_HOME": str(work.resolve() / "state")}
    env.pop("YARDBOLT_MASTER", None)
    screen.say("Making the server; the first time its system is fetched, which takes a minute or two.")
    sys.stdout.flush()
    with wiring.standing(HOST, work / "host") as network:
        _act(screen, "A job file and an empty safe.", ("new", "."), (0,), work, env)
        (work / "yard.yaml").write_text(YARD.format(net=network, host=HOST))
        (work / "families" / "works-server.yaml").write_text(FAMILY)
        for comment, command, good in OF_A_HOST:
            spent[" ".join(command[:1])] = _act(screen, comment, command, good, work, env)
    screen.head(
        "Done", f"{time.monotonic() - began:.0f} s ({_longest(spent)}); the server is gone, nothing is left running"
    )
    screen.say(f"The job:  {work}  (safe key: {key.name}; delete it when you are done)")
    return 0


def _longest(spent: dict[str, float]) -> str:
    """The commands that took longest, with their seconds."""
    longest = sorted(spent.items(), key=lambda row: -row[1])[:3]
    return ", ".join(f"{command} {seconds:.0f} s" for command, seconds in longest)


def _clear_away() -> None:
    """Folders of demos of more than a day ago go; nobody looks at them any more."""
    for old in Path(tempfile.gettempdir()).glob(f"{PREFIX}*"):
        with contextlib.suppress(OSError):
            mine = old.stat().st_uid == os.getuid() and not old.is_symlink()
            if mine and old.stat().st_mtime < time.time() - 86_400:
                shutil.rmtree(old)


def _act(
    screen: Screen, comment: str, command: tuple[str, ...], good: tuple[int, ...], work: Path, env: dict[str, str]
) -> float:
    """Run a command of the story; the seconds it took. Raises Stopped where it ended otherwise than it should."""
    if comment:
        screen.say("")
        screen.say((f"== {comment}", "next"))
    screen.say((f"$ yardbolt {' '.join(command)}".rstrip(), "faint"))
    sys.stdout.flush()
    began = time.monotonic()
    got = subprocess.run([*PROGRAM, *command], cwd=work, env=env, check=False)
    if got.returncode not in good:
        raise Stopped(f"'yardbolt {' '.join(command)}' ended with {got.returncode}; the job lies in {work}")
    return time.monotonic() - began
