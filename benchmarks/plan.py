"""How long planning and rehearsing the demo's sheet takes, against one reading of the unit in memory: python benchmarks/plan.py (from the project's root)"""

import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.bare import BASELINE, FAMILY, SITE
from tests.test_plans import belief_of, fresh, read_in
from yardbolt.core.baseline import wanted
from yardbolt.core.steps import changes, order

bare, way = fresh()
plane = read_in(bare, way)
start = time.perf_counter()
for _ in range(20):
    bare.read(way)
read = (time.perf_counter() - start) / 20
start = time.perf_counter()
for _ in range(20):
    target, gaps = wanted(plane, BASELINE, SITE)
    todo, more = changes(plane, target, FAMILY, SITE)
    sheet = order(FAMILY, belief_of(plane, way), todo, SITE, target, gaps + more)
planned = (time.perf_counter() - start) / 20
print(
    f"planned and rehearsed in {planned * 1000:.0f} ms; one reading in memory {read * 1000:.0f} ms: {planned / read:.1f} times"
)
