"""How long `tighten` waits on the bench, against the time the unit itself is away or deaf (3 s): python
benchmarks/waiting.py

Waiting is wall time less the time the program computes; only a hundred ports are looked at."""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.conftest import MASTER, NETWORK, SOME_PORTS
from yardbolt.bench.lineswitch import SHY_SECONDS
from yardbolt.bench.stand import AWAY_SECONDS

ENV = {**os.environ, "YARDBOLT_MASTER": MASTER, "YARDBOLT_PORTS": SOME_PORTS}
PROGRAM = [sys.executable, "-m", "yardbolt"]


def run(*argv: str) -> tuple[float, float]:
    """Wall and processor time of one command, in seconds."""
    start = time.perf_counter()
    child = subprocess.Popen([*PROGRAM, *argv], cwd=folder, env=ENV, stdout=subprocess.DEVNULL)
    _, status, used = os.wait4(child.pid, 0)
    child.returncode = os.waitstatus_to_exitcode(status)
    assert child.returncode in (0, 3, 4), f"{argv}: {child.returncode}"  # what failed at once took no time
    return time.perf_counter() - start, used.ru_utime + used.ru_stime


with tempfile.TemporaryDirectory() as folder:
    up = [*PROGRAM, "bench", "up", "--state", f"{folder}/bench", "--network", NETWORK]
    bench = subprocess.Popen(up, stdout=subprocess.PIPE, env=ENV)
    try:
        assert bench.stdout is not None and bench.stdout.readline()
        for argv in (["new", ".", "--demo", "--network", NETWORK], ["check"], ["enter", "--yes", "--this-one"]):
            run(*argv)
        wall, computing = run("tighten", "--yes")
    finally:
        bench.terminate()
        bench.wait()
    unit = AWAY_SECONDS + SHY_SECONDS
    print(
        f"tighten {wall:.1f} s, of which {wall - computing:.1f} s waiting; the unit's own {unit:.0f} s: {(wall - computing) / unit:.1f} times"
    )
