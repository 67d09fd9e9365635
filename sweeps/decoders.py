"""Every decoder over spoiled replies: python sweeps/decoders.py [HOW MANY] [SEED]

No exception, every fact a value its leaf takes, and no reply takes long; which decoder took longest is told."""

import random
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.spoiled import replies
from yardbolt.core.formats.decode import DECODERS

many, seed = (int(word) for word in (*sys.argv[1:], *("1000000", "1")[len(sys.argv) - 1 :]))
longest: dict[str, float] = {}
for name, reply in replies(random.Random(seed), many):
    began = time.perf_counter()
    try:
        told = DECODERS[name].decode(reply, "")
    except Exception as e:
        sys.exit(f"{name}: {type(e).__name__}: {e}\n{reply!r}")
    took = time.perf_counter() - began
    longest[name] = max(took, longest.get(name, 0.0))
    assert all(isinstance(path, tuple) for path, _ in told.facts) and took < 1.0, (name, took)
print(
    f"{many:,} replies, seed {seed}: no exception; longest {max(longest.values()) * 1000:.0f} ms ({max(longest, key=lambda n: longest[n])})"
)
