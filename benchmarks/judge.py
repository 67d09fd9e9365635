"""How many planes are judged in a second, and the same with ten times as many accounts: python benchmarks/judge.py"""

import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.bare import BASELINE, SITE
from tests.test_plans import fresh, read_in
from yardbolt.core.judge.baseline import judge
from yardbolt.core.plane.edit import Draft
from yardbolt.core.plane.leaves import Plane


def rate(plane: Plane) -> float:
    """Planes a second."""
    start = time.perf_counter()
    for _ in range(300):
        judge(plane, BASELINE, SITE, "2026-01-01")
    return 300 / (time.perf_counter() - start)


bare, way = fresh()
plane = read_in(bare, way)
more = Draft(plane).put_all((("accounts", f"a{n}", "role"), "read") for n in range(18)).freeze()
one, ten = rate(plane), rate(more)
print(
    f"{one:.0f} planes a second by {len(BASELINE.requirements)} rules; with {len(more.accounts)} accounts instead of {len(plane.accounts)}: {ten:.0f}, {one / ten:.1f} times the work"
)
