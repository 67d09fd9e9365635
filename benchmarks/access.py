"""Who gets in through 10,000 rules, with the rules that decide, against a bare sweep over the same rules that tells
only the sources: python benchmarks/access.py [RULES]"""

from __future__ import annotations

import heapq
import random
import sys
import time
from collections.abc import Callable
from ipaddress import ip_network

from yardbolt.core.addresses import AddressSet
from yardbolt.core.judge.filter import At, through
from yardbolt.core.plane.edit import Draft
from yardbolt.core.plane.kinds import ABSENT

MANY = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
AT = At("tcp", 22, "10.0.0.1", "eth0")
NOTHING = dict.fromkeys(
    ["sources", "destinations", "named", "not_named", "ports", "transport", "socket", "leads_to", "families", "state"],
    ABSENT,
)
chance, plan, bare_rules = random.Random(5), Draft(), []
for place in range(MANY):
    length = chance.choice((16, 20, 24, 28, 32))
    net = ip_network(((chance.getrandbits(32) >> (32 - length)) << (32 - length), length))
    action, ports = chance.choice(("pass", "block")), chance.choice(("22", "20-30"))
    bare_rules.append((int(net[0]), int(net[-1]), action, "tcp", ports))
    facts = {
        **NOTHING, "position": place, "stage": "in", "verdict": action, "opaque": False, "enabled": True,
        "ports": (ports,), "transport": "tcp", "sources": AddressSet.of(str(net)),
    }  # fmt: skip
    plan.put_all((("filter_rules", f"r{place}", leaf), value) for leaf, value in facts.items())
plan.make(("filter_stages", "in")).put(("filter_stages", "in", "position"), 1).put(
    ("filter_stages", "in", "default"), "block"
)
plan.put(("packet_filter", "unseen"), ABSENT).put(("filter_stages", "in", "families"), ABSENT)
for listed in ("filter_rules", "filter_stages", "named_addresses"):
    plan.whole((listed,))
plane = plan.freeze()


def bare() -> list[tuple[int, int]]:
    """One pass over where rules begin and end; the first in force decides."""
    events = []
    for place, (first, last, _, transport, ports) in enumerate(bare_rules):
        low, _, high = ports.partition("-")
        if transport == "tcp" and int(low) <= 22 <= int(high or low):
            events += [(first, place, True), (last + 1, place, False)]
    events.sort()
    begun: list[int] = []
    ended, out, state, since = set[int](), [], "block", 0
    for number, (at, place, begins) in enumerate(events):
        heapq.heappush(begun, place) if begins else ended.add(place)
        if number + 1 < len(events) and events[number + 1][0] == at:
            continue
        while begun and begun[0] in ended:
            heapq.heappop(begun)
        now = bare_rules[begun[0]][2] if begun else "block"
        if now != state:
            out += [(since, at - 1)] if state == "pass" else []
            state, since = now, at
    return out


def best(work: Callable[[], object]) -> float:
    """The quickest of fifteen, in seconds."""
    times = []
    for _ in range(15):
        began = time.perf_counter()
        work()
        times.append(time.perf_counter() - began)
    return min(times)


found = through(plane, AT)
assert found.let_in.four == tuple(bare()) and not found.let_in.six
one, other = best(bare), best(lambda: through(plane, AT))
print(f"{MANY:,} rules: bare sweep {one * 1000:.1f} ms, with reasons {other * 1000:.1f} ms, ratio {other / one:.2f}")
