"""Merging 5,000 items against filling a dict with them, and twice as many against that: python benchmarks/merge.py"""

import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.bare import FAMILY
from yardbolt.core.family.parts import Fact
from yardbolt.core.family.reading import merge

LEAVES = (("role", "full"), ("enabled", True), ("origin", "ours"), ("storage", "own"))


def facts(count: int) -> list[Fact]:
    """Four facts for each of so many accounts."""
    return [Fact(("accounts", f"a{n}", leaf), value, "hands") for n in range(count) for leaf, value in LEAVES]


def merged(count: int) -> float:
    """Seconds to merge."""
    given = facts(count)
    start = time.perf_counter()
    assert len(merge(FAMILY, given).plane.accounts) == count
    return time.perf_counter() - start


def filled(count: int) -> float:
    """Seconds to fill a dict."""
    given, tree = facts(count), {}
    start = time.perf_counter()
    for fact in given:
        tree.setdefault(fact.path[0], {}).setdefault(fact.path[1], {})[fact.path[2]] = fact.value
    return time.perf_counter() - start


ours, bare, twice = (min(f(n) for _ in range(5)) for f, n in ((merged, 5000), (filled, 5000), (merged, 10000)))
print(
    f"merged in {ours * 1000:.0f} ms, a dict in {bare * 1000:.1f} ms: {ours / bare:.0f} times; 10,000 items {twice / ours:.1f} times as long"
)
