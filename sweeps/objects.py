"""Real SIGKILLs, sessions thrown out and refused activations at seeded moments of `tighten`, on units behind objects:
python sweeps/objects.py [HOW MANY] [SEED]

After each one somebody of full rank must get in with a word that is in the safe or published, and at the end the units must be as
they are where nothing happened.
"""

import random
import signal
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.conftest import MASTER, NETWORK, Bench, Tool
from tests.test_job import safe_values
from tests.test_objects import YARD, unit_of
from yardbolt.adapters.safe import create
from yardbolt.bench.linecamera import LineCamera
from yardbolt.bench.packetgate import PacketGate
from yardbolt.core.secret import Secret

wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 40
chance = random.Random(int(sys.argv[2]) if len(sys.argv) > 2 else 1)
mischief = shut_out = wrong_end = jobs = 0
PUBLISHED = {"warden", "lc2", "steward-gd6", "gd6-relay"}


def gets_in(unit: Any, values: set[str]) -> bool:
    """Is there somebody of full rank whose word is known to us?"""
    if isinstance(unit, LineCamera):
        return any(hand.rank == "all" and hand.on and hand.word in values for hand in unit.folk.values())
    return any(f["rank"] == "keeper" and f["active"] and f["word"] in values for f in unit.live.folk.values())


while mischief < wanted:
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        bench = Bench(folder / "bench")
        env = {"YARDBOLT_MASTER": MASTER, "YARDBOLT_PORTS": "8000-8600", "HOME": place, "PATH": "/usr/bin:/bin"}
        tool = Tool(folder, env)
        (folder / "yard.yaml").write_text(YARD.format(net=NETWORK, more=", drop edits: yes"))
        (folder / "copy").mkdir()
        create(folder / "safe.kdbx", Secret(MASTER), None, folder / "copy" / "safe.kdbx")
        tool("check", code=3)
        units = {"lc2-04": unit_of(bench, LineCamera), "gd6-01": unit_of(bench, PacketGate)}
        jobs += 1
        for name, unit in units.items():
            for _ in range(chance.randint(2, 5)):
                process = tool.start("tighten", "--yes", name)
                until = time.monotonic() + chance.uniform(1.0, 14.0)
                what = chance.choice(["kill", "kill", "thrown out", "refused"] if name == "gd6-01" else ["kill"])
                while process.poll() is None and time.monotonic() < until:
                    time.sleep(0.01)
                if process.poll() is not None:
                    break
                if what == "kill":
                    process.send_signal(signal.SIGKILL)
                elif what == "thrown out":
                    unit.passes.clear()
                else:
                    unit.refuses = "not now"
                process.communicate(timeout=200)
                unit.refuses = ""
                mischief += 1
                values = set(safe_values(folder).values()) | PUBLISHED
                shut_out += not gets_in(unit, values)
            said = tool.run("tighten", "--yes", name)
            good = said.returncode == 3 and sorted(unit.known()) == ["lt-watch", "lt-works"]
            if not good:
                print(said.returncode, said.stdout[-600:], said.stderr)
            wrong_end += not good
        bench.down()
        print(f"{mischief} mischiefs in {jobs} jobs: {shut_out} shut out, {wrong_end} wrong ends", flush=True)
sys.exit(bool(shut_out or wrong_end))
