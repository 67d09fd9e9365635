"""Cases drawn by a program, and how each of them ended; N in the environment draws more (sweeps/thorough.py)."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

# what takes minutes more is done too
THOROUGH = "N" in os.environ


def many(examples: int = 80) -> settings:
    """So many cases, as long as they take."""
    return settings(
        max_examples=int(os.environ.get("N", examples)), deadline=None, suppress_health_check=list(HealthCheck)
    )


def ends_of(case: Callable[[Any], str], examples: int = 80) -> Counter[str]:
    """How many of the cases ended how."""
    ends: Counter[str] = Counter()

    @many(examples)
    @given(st.data())
    def run(data: Any) -> None:
        ends[case(data)] += 1

    run()
    return ends
