"""What the decoders of packet filters share: a rule as far as it was understood, and what it says of the plane."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from ...addresses import ANYONE, FOUR, NOBODY, SIX, AddressSet
from ...plane.kinds import ABSENT
from ...plane.path import Path
from ...plane.table import TABLE

RULES, LISTS, CHAINS = "filter_rules", "named_addresses", "filter_stages"
HOOKS = ("ingress", "prerouting", "input")
FAMILIES = {"ip": FOUR, "ip6": SIX, "inet": ANYONE}
TABLES = {"ip": ("4",), "ip6": ("6",), "inet": ABSENT}
PRIORITIES = {"raw": -300, "mangle": -150, "dstnat": -100, "filter": 0, "security": 50, "srcnat": 100}
OURS = "yardbolt"
ENDS = {"accept": "pass", "drop": "block"}  # their words for what happens at the end of a chain, and ours
FOUND_BY = frozenset({"nd-neighbor-solicit", "nd-neighbor-advert"})


@dataclass
class Rule:
    """One rule as far as it was understood: what it matches, and what it does. Where something of it was not, it is
    opaque: it may match, or not."""

    sources: AddressSet
    where: str
    found: dict[str, Any] = field(default_factory=dict)
    opaque: bool = False
    action: str = "continue"
    target: str = ""
    resets: bool = False

    def take(self, values: dict[str, Any]) -> bool:
        """Take conditions in; a second one of the same kind is not understood."""
        if values.keys() & (self.found.keys() - {"transport"}) or self.found.get(
            "transport", values.get("transport")
        ) != values.get("transport", self.found.get("transport")):
            return False
        self.found.update(values)
        return True

    def take_kinds(self, kinds: set[str]) -> bool:
        """Take kinds of ICMPv6 in: of these only finding a neighbour matters here (RFC 4861), which needs both. False
        for one of them alone: then the rule is about half of it."""
        found = FOUND_BY & kinds
        self.sources &= SIX if found else NOBODY
        return self.take({"transport": "icmpv6"}) and found in (FOUND_BY, frozenset())


def told(
    rule: Rule, key: str, position: int, chain: str, comment: str | None, families: Any
) -> Iterator[tuple[Path, Any]]:
    """What a rule says of the plane."""
    path = (RULES, key)
    yield path, True
    yield (*path, "position"), position
    yield (*path, "stage"), chain
    yield (*path, "verdict"), rule.action
    yield (*path, "leads_to"), rule.target or ABSENT
    yield (*path, "opaque"), rule.opaque
    yield (*path, "families"), families
    yield (*path, "enabled"), True
    yield (*path, "sources"), rule.sources if rule.sources != ANYONE else ABSENT
    for leaf in ("named", "not_named", "ports", "transport", "socket", "destinations", "state"):
        yield (*path, leaf), rule.found.get(leaf, ABSENT)
    if comment:
        yield (*path, "note"), comment


def chain_told(name: str, position: int, default: str, family: str) -> Iterator[tuple[Path, Any]]:
    """What a base chain says of the plane. A table of one address family never sees the packets of the other."""
    path = (CHAINS, name)
    yield path, True
    yield (*path, "position"), position
    yield (*path, "default"), ENDS.get(default, default)
    yield (*path, "families"), TABLES[family]


FEEDS = frozenset(path for path in TABLE if path[0] in (RULES, LISTS, CHAINS)) | {
    ("packet_filter", "empty_names"),
    ("services", "*", "permitted"),
}
WHOLE = ((RULES,), (LISTS,), (CHAINS,))
