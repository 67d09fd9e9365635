"""Every command, as it is called: the README's lines as they stand, and one call of each command, with the code it
ends with."""

from __future__ import annotations

import json
import re
import socket
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
import typer

from tests.conftest import LAPTOP, MASTER, NETWORK, Tool, at_the_keyboard
from yardbolt.adapters.files import shipped
from yardbolt.cli import app

README = (Path(__file__).parent.parent / "README.md").read_text()
BOX = "sk-rb-01"
# In a job that is done: command, further words, the code it ends with, what it says. {family} and {baseline} stand
# for a call of each.
CALLS: tuple[tuple[str, str, int, str], ...] = (
    ("demo", "--folder .", 2, "wants an empty folder"),
    ("new", "job", 0, "fill in yard.yaml"),
    ("check", "", 4, "DOORS"),
    ("check", "--format json", 4, ""),
    ("check", "--at {net}.2 --format json", 4, ""),
    ("check", "sk-rb-01 --outside", 4, "not asked for"),
    ("enter", "--yes", 4, "is not known"),
    ("steps", "", 0, "0 changes"),
    ("steps", "--format json", 0, ""),
    ("tighten", "--yes", 4, "SAFE TO UNPLUG"),
    ("access", "sk-rb-01 --from {net}.66", 0, "WHO GETS IN from"),
    ("access", "sk-rb-01 --format json", 0, ""),
    ("leave", "--yes", 2, "an administrator's address"),
    ("prove", "sk-rb-01", 4, "AS LEFT"),
    ("prove", "sk-rb-01 --format json", 4, ""),
    ("sheet", "", 0, "as-left"),
    ("sheet", "sk-rb-01 --format json", 0, "json"),
    ("receive", "--at {net}.10 --port {free} --for 1 --format json", 4, "listening"),
    ("job check", "", 0, "yard.yaml"),
    ("safe list", "", 0, "sk-rb-01  lt-works"),
    ("safe show", "sk-rb-01 lt-works", 2, "terminal"),
    ("safe check", "", 0, ""),
    ("safe copy", "", 2, "never overwritten"),
    ("records show", "1", 0, '"kind"'),
    ("records journal", "sk-rb-01", 0, "lt-works"),
    ("records files", "sk-rb-01", 0, "no file of ours"),
    ("records schema", "journal", 0, "$defs"),
    ("records schema", "record", 0, "$defs"),
    ("records forget-key", "sk-sw-04", 0, "sk-sw-04"),
    ("family list", "", 0, "Quenby"),
    ("family check", "{family}", 0, "the file is sound"),
    ("family look", "sk-rb-01 /users", 2, "no places to look at"),
    ("family schema", "", 0, "$defs"),
    ("baseline show", "{baseline}", 0, ""),
    ("baseline schema", "", 0, "$defs"),
    ("bench up", "--network {net}", 2, "the bench is up already"),
    ("bench fault", "", 0, ""),
    ("bench fault", "none", 0, ""),
)  # fmt: skip


def leaves(command: typer.core.TyperCommand | typer.core.TyperGroup, name: str = "") -> Iterator[tuple[str, set[str]]]:
    """Every command that does something, with its options."""
    if isinstance(command, typer.core.TyperGroup):
        for word, one in command.commands.items():
            yield from leaves(one, f"{name} {word}".strip())  # type: ignore[arg-type]
    else:
        yield name, {word for parameter in command.params for word in parameter.opts}


def as_it_stands(tool: Tool, line: str, folder: Path) -> tuple[int, str]:
    """A line of the README, typed by somebody who says yes and gives the password of the safe."""

    def answer(asked: bytes) -> bytes | None:
        return b"yes" if asked.endswith(b"(yes/no)") else MASTER.encode() if asked.endswith(b":") else None

    path = f"PATH={Path(sys.executable).parent}:$PATH"
    _, shown, code = at_the_keyboard(tool, ["sh", "-c", f"{path}; {line}"], answer, folder, True)
    return code, re.sub(r"[^\n]*\r(?!\n)", "", shown)


def block(after: str) -> list[str]:
    """The commands that stand in the next block of the README."""
    return [line for line in README.partition(after)[2].split("```")[1].splitlines() if line.startswith("yardbolt")]


def _up(address: str, port: int) -> bool:
    for _ in range(100):
        with socket.socket() as probe:
            if probe.connect_ex((address, port)) == 0:
                return True
        time.sleep(0.2)
    return False


@pytest.fixture
def done(tool: Tool) -> Iterator[Tool]:
    """The README followed by hand to its end, with its bench in another terminal; on this run's network, and few
    ports."""
    tool.env |= {"YARDBOLT_PORTS": "2000-2200", "NO_COLOR": "1"}
    del tool.env["YARDBOLT_MASTER"]
    bench = tool.start("bench", "up", "--network", NETWORK, "--state", "bench")
    ends = {"check": 3, "tighten": 4, "prove": 4, "leave": 2}
    try:
        assert _up(f"{NETWORK}.2", 2122), "the bench did not come up"
        folder = tool.folder
        for line in block("## The job, by hand"):
            typed = line.replace("--demo", f"--demo --network {NETWORK}")
            code, said = as_it_stands(tool, typed, folder)
            word = line.split()[1].strip("#")
            assert code == ends.get(word, 0) and "Traceback" not in said, (line, code, said)
            folder = tool.folder / "job" if "cd job" in line else folder
        assert said.count("handed over") == 2, said
        tool.folder, tool.env["YARDBOLT_MASTER"] = folder, MASTER
        yield tool
    finally:
        bench.terminate()
        bench.communicate(timeout=20)


def test_the_readme_is_followed_as_it_stands_and_every_command_is_called(done: Tool) -> None:
    """Each command ends with its documented code; where JSON is asked for it is one document, and nothing beside it."""
    commands = dict(leaves(typer.main.get_command(app.app)))  # type: ignore[arg-type]
    called = {name for name, *_ in CALLS}
    assert called == commands.keys(), called ^ commands.keys()
    as_json = {name for name, words, *_ in CALLS if "--format json" in words}
    assert as_json == {name for name, options in commands.items() if "--format" in options}
    for command, words, code, says in CALLS:
        with socket.socket() as probe:
            probe.bind((LAPTOP, 0))
            words = words.format(net=NETWORK, free=probe.getsockname()[1], family="{family}", baseline="{baseline}")
        kind = next((one for one in ("family", "baseline") if f"{{{one}}}" in words), "")
        files = shipped({"family": "families", "baseline": "baselines"}[kind]) if kind else {"": Path()}
        for name, file in files.items():
            given = words.format(family=file, baseline=name).split()
            got = done.run(*command.split(), *given)
            assert got.returncode == code, (command, words, got)
            assert says in got.stdout + got.stderr, (command, words, got)
            if "json" in given and command not in ("sheet", "receive"):
                json.loads(got.stdout)
