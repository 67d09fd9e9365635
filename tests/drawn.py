"""Cases drawn by a program, and how each of them ended; N in the environment draws more."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st


def many(examples: int = 150) -> settings:
    """So many cases, as long as they take."""
    return settings(
        max_examples=int(os.environ.get("N", examples)), deadline=None, suppress_health_check=list(HealthCheck)
    )


def ends_of(case: Callable[[Any], str], examples: int = 150) -> Counter[str]:
    """How many of the cases ended how."""
    ends: Counter[str] = Counter()

    @many(examples)
    @given(st.data())
    def run(data: Any) -> None:
        ends[case(data)] += 1

    run()
    return ends
