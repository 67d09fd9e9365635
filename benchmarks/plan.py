"""How long planning and rehearsing the demo's sheet takes, against one reading of the unit in memory: python
benchmarks/plan.py"""

import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.bare import BASELINE, FAMILY, SITE
from tests.test_plans import belief_of, fresh, read_in
from yardbolt.core.judge.baseline import wanted
from yardbolt.core.plan.arrange import arrange
from yardbolt.core.plan.difference import changes

ROUNDS = 20
bare, way = fresh()
plane = read_in(bare, way)
start = time.perf_counter()
for _ in range(ROUNDS):
    bare.read(way)
read = (time.perf_counter() - start) / ROUNDS
start = time.perf_counter()
for _ in range(ROUNDS):
    target, gaps = wanted(plane, BASELINE, SITE)
    todo, more = changes(plane, target, FAMILY, SITE)
    sheet = arrange(FAMILY, belief_of(plane, way), todo, SITE, target, gaps + more)
planned = (time.perf_counter() - start) / ROUNDS
print(f"planned in {planned * 1000:.0f} ms; one reading in memory {read * 1000:.0f} ms: {planned / read:.1f} times")
