"""What is run by hand still starts: every sweep and every benchmark, small; what takes real hosts or minutes is
loaded whole."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

HERE = Path(__file__).parent.parent
# with how much to do; None: real hosts or minutes, so it is only loaded
SMALL: dict[str, list[str] | None] = {
    "sweeps/clock.py": None, "sweeps/decoders.py": ["300"], "sweeps/filters.py": None, "sweeps/guarded.py": None, "sweeps/guards.py": ["no guard of this name"],
    "sweeps/hostile.py": ["20"], "sweeps/hosts.py": None, "sweeps/hostvariety.py": None, "sweeps/kills.py": None, "sweeps/liar.py": ["2"],
    "sweeps/makevariety.py": ["seeds", "0"], "sweeps/manuals.py": [], "sweeps/many.py": None, "sweeps/safe.py": None, "sweeps/thorough.py": ["3", "tests/test_host_texts.py", "-n0", "-k", "taken_out"], "sweeps/solver.py": ["5"], "sweeps/walk.py": [], "sweeps/web.py": None,
    "benchmarks/access.py": ["300"], "benchmarks/hosts.py": None, "benchmarks/judge.py": [], "benchmarks/merge.py": [], "benchmarks/objects.py": None,
    "benchmarks/plan.py": [], "benchmarks/run.py": None, "benchmarks/start.py": None, "benchmarks/tries.py": None, "benchmarks/waiting.py": None,
}  # fmt: skip
LOADED = "import ast, sys; tree = ast.parse(open(sys.argv[1]).read()); exec(compile(ast.Module([n for n in tree.body if isinstance(n, ast.Import | ast.ImportFrom)], []), sys.argv[1], 'exec'))"


def test_every_sweep_and_benchmark_has_a_row() -> None:
    found = {f"{room}/{file.name}" for room in ("sweeps", "benchmarks") for file in (HERE / room).glob("[a-z]*.py")}
    assert found == set(SMALL)


@pytest.mark.parametrize("name", SMALL)
def test_what_is_run_by_hand_starts(name: str, tmp_path: Path) -> None:
    given = SMALL[name]
    argv = [sys.executable, name, *given] if given is not None else [sys.executable, "-c", LOADED, name]
    env = {**os.environ, "PYTHONPATH": str(HERE), "TMPDIR": str(tmp_path), "VARIETY": str(tmp_path)}
    got = subprocess.run(argv, cwd=HERE, env=env, capture_output=True, text=True, check=False)
    assert got.returncode == 0 and "Traceback" not in got.stderr, got.stdout[-2000:] + got.stderr[-2000:]
