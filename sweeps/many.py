"""Thirty plain units at once, one broken in each way, through the program: python sweeps/many.py [UNITS]

Every whole unit must end tightened whatever the broken ones do; each broken one must end with one line of its own.
"""

import asyncio
import os
import sys
import tempfile
import threading
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.conftest import MASTER, NETWORK, Tool, one_unit_yard
from yardbolt.adapters.safe import make_safe
from yardbolt.bench.relaybox import RelayBox
from yardbolt.bench.stand import FAULTS, Stand
from yardbolt.core.secret import Secret

many = int(sys.argv[1]) if len(sys.argv) > 1 else 30
broken = ["hang", "drop", "noise", "garbage", "endless", "refuse", "swallow"]
faults = {n: broken[n - 2] if n - 2 < len(broken) else "none" for n in range(2, many + 2)}
assert set(broken) <= set(FAULTS)
now = dict.fromkeys(faults, "none")
stands = [Stand(RelayBox(time.monotonic, f"RB3-{n:05}"), f"{NETWORK}.{n}", lambda n=n: now[n]) for n in faults]


async def serve() -> None:
    await asyncio.gather(*(stand.run() for stand in stands))


threading.Thread(target=lambda: asyncio.run(serve()), daemon=True).start()
with tempfile.TemporaryDirectory() as folder:
    env = {"YARDBOLT_MASTER": MASTER, "YARDBOLT_PORTS": "2100-2150", "HOME": folder, "PATH": os.environ["PATH"]}
    tool = Tool(Path(folder), env)
    head, _, unit = one_unit_yard(plain=True).partition("  sk-rb-01:")
    block = unit.replace("RB3-00912", "RB3-{n:05}").replace(f"{NETWORK}.2", NETWORK + ".{n}")
    block = "".join(line + "\n" for line in block.splitlines() if "hardware" not in line)
    (tool.folder / "yard.yaml").write_text(
        head + "".join(f"  u-{n}:" + block.replace("{n:05}", f"{n:05}").replace("{n}", str(n)) for n in faults)
    )
    make_safe(tool.folder / "safe.kdbx", Secret(MASTER), None, tool.folder / "stick" / "safe.kdbx")
    began = time.monotonic()
    tool("check", "--jobs", "30", "--quiet", code=None)
    print(f"checked {many} in {time.monotonic() - began:.0f} s", flush=True)
    now.update(faults)
    began = time.monotonic()
    got = tool.run("tighten", "--yes", "--jobs", "30", "--quiet")
    told = {line.split()[1].rstrip(":"): line for line in got.stderr.splitlines() if line.startswith("yardbolt: u-")}
    whole = [stand.unit for stand, fault in zip(stands, faults.values(), strict=True) if fault == "none"]
    done = sum(sorted(unit.known()) == ["lt-watch", "lt-works"] for unit in whole)
    print(
        f"tightened {done} of {len(whole)} whole units in {time.monotonic() - began:.0f} s; {len(told)} of {len(broken)} broken ones told"
    )
    print("\n".join(line[:150] for line in told.values()))
    sys.exit(done != len(whole) or len(told) != len(broken))
