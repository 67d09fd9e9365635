"""Lies over units that stage, with one leaf hidden at a time: python sweeps/liar.py [HOW MANY]

Nobody is locked out, live or after a power cut, and no way is wrongly called proven; how the runs ended is counted."""

import sys
from collections import Counter
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.test_stores import lied_to

wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
ends: Counter[str] = Counter()


@settings(max_examples=wanted, deadline=None, database=None, suppress_health_check=list(HealthCheck))
@given(st.data())
def run(data: Any) -> None:
    """One unit, one lie, one leaf hidden."""
    ends[lied_to(data)] += 1


run()
print(f"{ends.total():,} runs, 0 locked out, 0 ways wrongly called proven: {dict(ends)}")
