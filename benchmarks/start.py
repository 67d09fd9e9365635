"""How long starting takes, each command against `import typer` in the same run: python benchmarks/start.py"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from yardbolt.adapters.files import shipped

ROUNDS = 15
# as installed: modules are compiled once, not at every start
ENV = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}


def took(folder: str, *argv: str) -> float:
    """Wall time of one command, in seconds."""
    start = time.perf_counter()
    subprocess.run([sys.executable, *argv], check=True, stdout=subprocess.DEVNULL, cwd=folder, env=ENV)
    return time.perf_counter() - start


with tempfile.TemporaryDirectory() as folder:
    (Path(folder) / "yard.yaml").write_text(shipped("demo")["yard"].read_text())
    commands = {"--help": ["--help"], "--version": ["--version"], "family list": ["family", "list"], "the board": []}
    for argv in commands.values():
        took(folder, "-m", "yardbolt", *argv)
    times: dict[str, list[float]] = {name: [] for name in (*commands, "typer")}
    for _ in range(ROUNDS):
        times["typer"].append(took(folder, "-c", "import typer"))
        for name, argv in commands.items():
            times[name].append(took(folder, "-m", "yardbolt", *argv))
    typer = statistics.median(times.pop("typer"))
    for name, all_times in times.items():
        ours = statistics.median(all_times)
        print(f"{name:<12} {ours * 1000:.0f} ms, import typer {typer * 1000:.0f} ms: {ours / typer:.2f} times")
