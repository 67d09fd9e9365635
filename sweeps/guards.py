"""The guards, taken out one after another in a copy of the sources: python sweeps/guards.py [word of a name]

Each one taken out must turn a test red.
"""

import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
GUARDS = [
    ("an unclear session is reused", "core/run/sessions.py",
     "            self.drop_session(via)\n        return answer, via", "            pass\n        return answer, via", "test_plans.py -k unclearly"),
    ("no control in check", "application/trials.py", "return replace(trial, doubts=frozenset(doubts))", "return replace(trial, doubts=frozenset())", "test_lies.py"),
    ("the copy is not compared", "adapters/safe.py", "        with contextlib.suppress(OSError):\n            content = self.path", "        if self._alike:\n            return True\n        with contextlib.suppress(OSError):\n            content = self.path", "test_wires_and_adapters.py -k safe"),
    ("not journaled before the try", "application/logins.py", "        self.record.note(Trying(", "        (lambda event: None)(Trying(", "test_lies.py"),
    ("a restart needs no proof", "core/run/execute.py", "if not back.away and not fell:", "if False:", "test_plans.py -k never_away"),
    ("the saved store needs no way in", "core/plan/belief.py", "    if belief.survives and not ours(belief.surviving, belief.kept) and", "    if False and", "test_stores.py -k standing"),
    ("keys are not checked", "core/family/model.py", "        return all(c.isascii() and (c.isalnum() or c in self.token_signs) for c in word)", "        return True", "test_talk.py"),
    ("found edits do not block", "core/plan/arrange.py", "    if refused := found_waiting(family, belief):", "    if (refused := found_waiting(family, belief)) and False:", "test_plans.py -k unkept"),
    ("lists are not merged", "core/judge/demands.py", "        return now | low\n", "        return low\n", "test_core.py"),
    ("what could shut us out is not armed", "core/plan/arrange.py", "        if guarded and not self.armed:", "        if False:", "test_stores.py -k armed_before"),
    ("armed is not read as armed", "core/run/guarding.py", "if not (isinstance(left, float) and 0 < left <= step.op.returns):", "if False:", "test_stores.py -k armed_before"),
    ("no identity before a write", "application/identity.py", "    if not known:\n        plate = ", "    if False:\n        plate = ", "test_lies.py"),
    ("a confirm needs no proof", "core/run/guarding.py", "        if not isinstance(guard, Proven):\n            raise Stop(", "        if not isinstance(guard, Proven):\n            return Proven(guard.fallback, guard.left, guard.asked, next(iter(self.belief.sessions)))\n            raise Stop(", "test_guard.py"),
    ("a proof outlives the next write", "core/plan/guard.py", "        return Armed(self.fallback, self.left, self.asked)", "        return self", "test_guard.py"),
    ("a key is no condition", "core/judge/access.py", "held = fingerprint in keys if isinstance(keys, tuple) else False if keys is ABSENT else None", "held = True", "test_guard.py"),
    ("the modes of its file are no condition", "core/judge/access.py", "    holds = True if value is ABSENT else value if isinstance(value, bool) else None\n    said", "    holds = True\n    said", "test_guard.py -k rests_on_its_key"),
    ("a box is on record under its own name alone", "application/identity.py", 'unit.record.records.latest(name, "check"', 'unit.record.records.latest(unit.name, "check"', "test_variants.py -k second_hand"),
    ("what carries a way in is let be", "core/run/weighing.py", "(mine and carries(path, expected, ways))", "False", "test_plans.py -k lie_is_caught"),
    ("nobody tries anyone who is doubtful", "core/run/following.py", "        for way in sorted(before.proven - self.belief.proven):\n", "        for way in ():\n", "test_guard.py -k doubtful"),
    ("what was left out is not remembered", "core/run/history.py", "                unit.left_out[path] = event", "                pass", "test_job.py -k hostile"),
    ("a password is read as not taken", "core/run/execute.py", "known = not holds_secret(bound.path) and told_of_it(", "known = told_of_it(", "test_plans.py -k password_was_taken"),
    ("a trial not made mends one of this run", "core/run/execute.py", "if what in self.failed]", "if what in self.sheet.gate]", "test_guard.py -k failed_in_this_run"),
    ("a host restarts that nobody gets into", "core/run/execute.py", "        if not self.lasts(self.belief):", "        if False:", "test_guard.py -k nothing_is_restarted"),
    ("guarded and not armed, and sent all the same", "core/run/guarding.py", '            raise Stop("the timed return is not armed, so nothing that needs it is sent")', "            return", "test_guard.py"),
    ("a set taken back is not compared", "core/run/undoing.py",
     "        if problem := _not_as_before(self.family, bound, seen.get(bound.store, Plane()), before):",
     "        problem = _not_as_before(self.family, bound, seen.get(bound.store, Plane()), before)\n        if problem and not isinstance(bound.change, Set):", "test_plans.py -k swallows_is"),
    ("a made one taken back is not compared", "core/run/undoing.py", "        if listed and there is not wanted:", "        if listed and wanted and not there:", "test_guard.py"),
    ("a dropped one taken back is not compared", "core/run/undoing.py", "        if listed and there is not wanted:", "        if listed and there and not wanted:", "test_guard.py"),
    ("what differs after saving is nothing", "core/run/execute.py", "        if left is None and readable(self.family, frozenset({DIFFERENCES})):", "        left = 0\n        if left is None and readable(self.family, frozenset({DIFFERENCES})):", "test_plans.py -k still_differs"),
    ("not tried clears a failure", "core/run/execute.py", "        if again or not got.held:", "        if not got.held:", "test_guard.py -k mends_nothing"),
    ("boot is no condition", "core/judge/access.py", "    if kept:\n        found.append(_comes_back(plane, service))", "    if False:\n        found.append(_comes_back(plane, service))", "test_guard.py"),
    ("somebody else's doing is no way back", "core/run/undoing.py", "if not carries(path, before, ways))", "if False)", "test_guard.py -k went_back"),
    ("what an item is not told is written to it", "core/plan/difference.py", "or _untold(before, one, family)", 'or ""', "test_plans.py -k not_told_of"),
    ("one made may be somebody's, and is taken back", "core/family/bound.py", "            if exists(bound.before, path) is None:", "            if False:", "test_plans.py -k removed_and_what"),
    ("closed after the restart, and not said", "application/owing.py", "    yield from _next_start(unit, left)\n", "", "test_tightened.py -k 'stays_so and cabin'"),
    ("nothing is typed behind it", "application/prove.py", '    yield "with a character appended", f"{right}a"\n', "", "test_lies.py -k each_lie"),
    ("the other case is not typed", "application/prove.py", "    if right.swapcase() != right:\n", "    if False:\n", "test_lies.py -k each_lie"),
    ("another middle is not typed", "application/prove.py", '(\n        "with another character in the middle",\n        right[:half] + ("a" if right[half] != "a" else "b") + right[half + 1 :],\n    )', '"with another last character", right[:-1] + "b"', "test_lies.py -k each_lie"),
    ("the fullest is not looked for", "application/fresh.py", "for way in candidates(unit) if poor else ():\n        if way in failed or way.account in", "for way in ():\n        if way in failed or way.account in", "test_tightened.py -k 'stays_so and mill'"),
]  # fmt: skip


def run(folder: str, tests: str) -> tuple[list[str], str]:
    """The tests that fail in a copy, and what was printed last."""
    words = shlex.split(tests)
    chosen = [f"tests/{word}" if word.endswith(".py") else word for word in words]
    command = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", *chosen]
    done = subprocess.run(command, cwd=folder, env={"PYTHONPATH": f"{folder}/src", "PATH": "/usr/sbin:/usr/bin:/bin", "HOME": folder, "N": "80"}, capture_output=True, text=True, check=False)  # fmt: skip
    failed = [line.split(" - ")[0] for line in done.stdout.splitlines() if line.startswith(("FAILED", "ERROR"))]
    return failed, done.stdout[-300:]


for name, file, right, _, _ in GUARDS:
    assert right in (ROOT / "src" / "yardbolt" / file).read_text(), f"{name}: the guard is not where it was"
green = 0
sound: dict[str, list[str]] = {}  # what fails as it is, by the tests that are run: a red there says nothing
for name, file, right, wrong, tests in GUARDS:
    if not all(word in name for word in sys.argv[1:]):
        continue
    with tempfile.TemporaryDirectory() as folder:
        for part in ("src", "tests", "pyproject.toml", "docs", "README.md"):
            source = ROOT / part
            (shutil.copytree if source.is_dir() else shutil.copy)(source, Path(folder) / part)
        target = Path(folder) / "src" / "yardbolt" / file
        text = target.read_text()
        if tests not in sound:
            sound[tests] = run(folder, tests)[0]
        target.write_text(text.replace(right, wrong))
        began = time.monotonic()
        red, told = run(folder, tests)
        ok = red and not sound[tests] and not red[0].startswith("ERROR")
        green += not ok
        said = f"fails as it is: {sound[tests][0]}" if sound[tests] else red[0] if red else told
        print(f"{'red  ' if ok else 'GREEN'} {time.monotonic() - began:3.0f} s  {name}: {said}", flush=True)
sys.exit(bool(green))
