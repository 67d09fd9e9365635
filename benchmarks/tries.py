"""How long asking for the tries left takes at 10,000 entries of the journal against 100: python benchmarks/tries.py"""

import time
from datetime import UTC, datetime, timedelta

from yardbolt.core.run.events import Entry, Stamp, Tried
from yardbolt.core.run.history import History, scopes

START = datetime(2026, 1, 1, tzinfo=UTC)


def asked(count: int) -> float:
    """Seconds for one answer."""
    tried = Tried(account="a", service="ssh", source="s", address="x", secret="safe:u/a", outcome="refused", spent=True)
    history = History(Entry(Stamp((START + timedelta(seconds=n)).isoformat(), "u", 0), tried) for n in range(count))
    now = (START + timedelta(seconds=count)).isoformat()
    start = time.perf_counter()
    for _ in range(2000):
        history.tries_left("a", 5, now, scopes("u", "x", "k"))
    return (time.perf_counter() - start) / 2000


few, many = asked(100), asked(10_000)
print(f"{many * 1e6:.1f} us at 10,000 entries, {few * 1e6:.1f} us at 100: {many / few:.2f} times")
