"""Common passwords, offline: the lists that come with zxcvbn."""

from __future__ import annotations

from functools import lru_cache


@lru_cache(maxsize=1)
def common_passwords() -> frozenset[str]:
    """About 30,000 known passwords in lower case."""
    from zxcvbn.frequency_lists import FREQUENCY_LISTS

    return frozenset(FREQUENCY_LISTS["passwords"])
