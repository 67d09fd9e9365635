"""Real SIGKILLs, sessions thrown out, refusals and faults at seeded moments of `enter` and `tighten`, on the five
units behind objects and pages: python sweeps/web.py [HOW MANY] [SEED] [UNIT]

After each one somebody of full rank must get in with a word that is in the safe or published, and at the end the
units must be as they are where nothing happened."""

import random
import signal
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.conftest import ELSEWHERE, MASTER, Bench, Tool
from tests.test_job import safe_values
from tests.test_objects import job_text, unit_of
from yardbolt.adapters.safe import make_safe
from yardbolt.bench.accesspoint import AccessPoint
from yardbolt.bench.intercomexchange import IntercomExchange
from yardbolt.bench.linecamera import LineCamera
from yardbolt.bench.packetgate import PacketGate
from yardbolt.bench.waysiderouter import WaysideRouter
from yardbolt.core.secret import Secret

FAULTS = ("drop", "garbage", "swallow", "noise", "newkey", "refuse")
OWNERS = ["lt-watch", "lt-works"]


@dataclass
class Kind:
    """How one is tightened; who gets in with full rights, by the words we know; and what it is like at the end."""

    unit: type
    more: tuple[str, ...]
    words: Callable[[Any], list[str]]
    done: Callable[[Any], bool]
    throw_out: Callable[[Any], None]


KINDS = {
    "lc2-04": Kind(LineCamera, (), lambda u: [h.word for h in u.folk.values() if h.rank == "all" and h.on], lambda u: u.guard == "strict" and sorted(u.known()) == OWNERS, lambda u: None),
    "gd6-01": Kind(PacketGate, (), lambda u: [f["word"] for f in u.live.folk.values() if f["rank"] == "keeper" and f["active"]], lambda u: not u.edits() and sorted(u.known()) == OWNERS, lambda u: u.passes.clear()),
    "wr1-02": Kind(WaysideRouter, (), lambda u: [p["word"] for p in u.live.people.values() if p["rank"] == "chief" and p["on"]], lambda u: not u.waiting() and sorted(u.known()) == OWNERS, lambda u: u.inside.clear()),
    "ix5-01": Kind(IntercomExchange, (), lambda u: [p["word"] for p in u.live.people.values() if p["role"] == "whole" and p["comes"]] if u.live.claimed else [""], lambda u: bool(u.live.guard) and u.live.lines == 24 and sorted(u.known()) == ["lt-doors", *OWNERS], lambda u: u.inside.clear()),
    "ya7-01": Kind(AccessPoint, ("--leap", "accounts/keeper/secret"), lambda u: [u.live.word], lambda u: u.live.place == u.kept.place == f"{ELSEWHERE}.7/24" and u.live.sockets["radio"]["bundle"] == "shut", lambda u: None),
}  # fmt: skip
PUBLISHED = {"warden", "lc2", "steward-gd6", "gd6-relay", "wr1", "field", "ix5help", ""}

wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 40
chance = random.Random(int(sys.argv[2]) if len(sys.argv) > 2 else 1)
names = sys.argv[3:] or list(KINDS)
mischief = shut_out = wrong_end = jobs = 0

while mischief < wanted:
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        bench = Bench(folder / "bench")
        env = {"YARDBOLT_MASTER": MASTER, "YARDBOLT_PORTS": "8000-8600", "HOME": place, "PATH": "/usr/bin:/bin"}
        tool = Tool(folder, env)
        (folder / "yard.yaml").write_text(job_text(", restart: yes, drop edits: yes"))
        (folder / "copy").mkdir()
        make_safe(folder / "safe.kdbx", Secret(MASTER), None, folder / "copy" / "safe.kdbx")
        tool("check", *names, code=3)
        jobs += 1
        for name in names:
            kind = KINDS[name]
            unit = unit_of(bench, kind.unit)
            enter, tighten = (
                ("enter", "--yes", "--this-one", name),
                ("tighten", "--yes", "--this-one", *kind.more, name),
            )
            for _ in range(chance.randint(2, 5)):
                first = name == "ix5-01" and not unit.live.claimed
                process = tool.start(*(enter if first else tighten))
                until = time.monotonic() + chance.uniform(0.5, 2.5 if first else 16.0)
                what = chance.choice(["kill", "kill", "thrown out", "refused", *FAULTS])
                while process.poll() is None and time.monotonic() < until:
                    time.sleep(0.01)
                if process.poll() is not None:
                    break
                if what == "kill":
                    process.send_signal(signal.SIGKILL)
                elif what == "thrown out":
                    kind.throw_out(unit)
                elif what == "refused":
                    unit.refuses = "not now"
                else:
                    bench.fault(what)
                    time.sleep(chance.uniform(0.5, 5.0))
                    bench.fault("none")
                said = process.communicate(timeout=400)[0]
                unit.refuses = ""
                if what == "newkey":  # anyone who looks after it finds out that nobody changed it, and says so
                    tool.run("records", "forget-key", name)
                mischief += 1
                values = set(safe_values(folder).values()) | PUBLISHED
                lost = not set(kind.words(unit)) & values
                shut_out += lost
                print(name, what, process.returncode, "SHUT OUT" if lost else "", [s for s in said.splitlines() if "yardbolt:" in s][-1:], flush=True)  # fmt: skip
            if name == "ix5-01":
                tool.run(*enter)
            said_last = tool.run(*tighten)
            if "another one than the one noted" in said_last.stderr or "host key" in said_last.stderr:
                print(name, said_last.stderr)
            good = said_last.returncode == 3 and kind.done(unit)
            if not good:
                print(name, said_last.returncode, said_last.stdout[-600:], said_last.stderr)
            wrong_end += not good
        bench.down()
        print(f"{mischief} mischiefs in {jobs} jobs: {shut_out} locked out, {wrong_end} wrong ends", flush=True)
sys.exit(bool(shut_out or wrong_end))
