"""Real SIGKILLs at seeded moments of `tighten`, through the program: python sweeps/kills.py [HOW MANY] [SEED]

After each one some credential of the safe must open the unit; a job that was killed again and again must end as one
that never was."""

import random
import signal
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.conftest import MASTER, SOME_PORTS, Bench, Tool, one_unit_yard
from tests.test_job import safe_values, somebody_gets_in, steps_of
from yardbolt.adapters.safe import make_safe
from yardbolt.core.secret import Secret

wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 81
chance = random.Random(int(sys.argv[2]) if len(sys.argv) > 2 else 1)
kills = shut_out = lost = jobs = wrong_end = 0


def begin(folder: Path) -> tuple[Tool, Bench]:
    """A fresh unit, entered, with a job of its own."""
    bench = Bench(folder / "bench")
    env = {"YARDBOLT_MASTER": MASTER, "YARDBOLT_PORTS": SOME_PORTS, "HOME": str(folder), "PATH": "/usr/bin:/bin"}
    tool = Tool(folder, env)
    (folder / "yard.yaml").write_text(one_unit_yard())
    make_safe(folder / "safe.kdbx", Secret(MASTER), None, folder / "stick" / "safe.kdbx")
    tool("check", code=3)
    tool("enter", "--yes", "--this-one")
    return tool, bench


while kills < wanted:
    with tempfile.TemporaryDirectory() as folder:
        tool, bench = begin(Path(folder))
        jobs += 1
        done = False
        while not done and kills < wanted:
            before, more = len(steps_of(tool.folder)), chance.randint(1, 9)
            process = tool.start("tighten", "--yes", "--quiet")
            while process.poll() is None and len(steps_of(tool.folder)) < before + more:
                time.sleep(0.003)
            time.sleep(chance.random() * 0.05)
            process.send_signal(signal.SIGKILL)
            process.communicate()
            done = process.returncode in (0, 4)
            kills += not done
            known = {name: value for name, value in safe_values(tool.folder).items() if "as found" not in name}
            shut_out += not somebody_gets_in(tool.folder)
            lost += not {"foreman", "lt-works"} & {name.split("/")[1] for name in known}
        tool("tighten", "--yes", code=4)
        wrong_end += sorted(bench.switch.hands) != ["lt-watch", "lt-works"]
        bench.down()
        print(
            f"{kills} kills in {jobs} jobs: {shut_out} locked out, {lost} lost secrets, {wrong_end} wrong ends",
            flush=True,
        )
