"""The twelve guards, taken out one after another in a copy of the sources: python sweeps/guards.py

Each one taken out must turn a test red.
"""

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parent.parent
GUARDS = [
    ("an unclear session is reused", "core/run/conducting.py",
     "            self.drop_session(via)\n        return answer, via", "            pass\n        return answer, via", "test_plans.py test_stores.py"),
    ("no control in check", "application/trials.py", "return replace(trial, doubts=frozenset(doubts))", "return replace(trial, doubts=frozenset())", "test_lies.py"),
    ("the copy is not compared", "adapters/safe.py", "        with contextlib.suppress(OSError):\n            content = self.path", "        if self._alike:\n            return True\n        with contextlib.suppress(OSError):\n            content = self.path", "test_wires_and_adapters.py -k safe"),
    ("not journaled before the try", "application/unit.py", "        self.note(Trying(", "        (lambda event: None)(Trying(", "test_lies.py"),
    ("a restart needs no proof", "core/run/execute.py", "if not back.away and not fell:", "if False:", "test_plans.py -k never_away"),
    ("the saved store needs no way in", "core/plan/belief.py", "    if not ours(belief.surviving, belief.kept) and", "    if False and", "test_stores.py test_plans.py"),
    ("keys are not checked", "core/family/model.py", "        return all(c.isascii() and (c.isalnum() or c in self.token_signs) for c in word)", "        return True", "test_talk.py"),
    ("found edits do not block", "core/plan/arrange.py", "    if refused := found_waiting(family, belief):", "    if (refused := found_waiting(family, belief)) and False:", "test_plans.py test_stores.py"),
    ("lists are not merged", "core/judge/demands.py", "        return now | low\n", "        return low\n", "test_core.py"),
    ("what could shut us out is not armed", "core/plan/arrange.py", "        if guarded and not self.armed:", "        if False:", "test_stores.py"),
    ("armed is not read as armed", "core/run/execute.py", "if not (isinstance(left, float) and 0 < left <= step.op.returns):", "if False:", "test_stores.py"),
    ("no identity before a write", "application/identity.py", "    if not known:\n        wanted", "    if False:\n        wanted", "test_lies.py"),
]  # fmt: skip

green = 0
for name, file, right, wrong, tests in GUARDS:
    with tempfile.TemporaryDirectory() as folder:
        for part in ("src", "tests", "pyproject.toml", "docs", "README.md"):
            source = ROOT / part
            (shutil.copytree if source.is_dir() else shutil.copy)(source, Path(folder) / part)
        target = Path(folder) / "src" / "yardbolt" / file
        text = target.read_text()
        assert right in text, f"{name}: the guard is not where it was"
        target.write_text(text.replace(right, wrong))
        words = tests.split()
        chosen = [f"tests/{word}" if word.endswith(".py") else word for word in words]
        command = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", *chosen]
        done = subprocess.run(command, cwd=folder, env={"PYTHONPATH": f"{folder}/src", "PATH": "/usr/sbin:/usr/bin:/bin", "HOME": folder}, capture_output=True, text=True, check=False)  # fmt: skip
        red = [line.split(" - ")[0] for line in done.stdout.splitlines() if line.startswith("FAILED")]
        green += not red
        print(f"{'red  ' if red else 'GREEN'} {name}: {red[0] if red else done.stdout[-300:]}", flush=True)
sys.exit(bool(green))
