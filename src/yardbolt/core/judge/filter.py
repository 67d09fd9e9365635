"""What the packet filter lets through to one port: exact sets of sources, in both address families, with the rules that
decide. Chains are walked as the kernel walks them: all base chains in order, acceptance ends one chain, a drop ends all.

Of what a rule matches that is not known, both is possible; so every answer is a pair, what is possibly let through and
what is possibly turned away, and only what is in one of them alone is sure.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from ..addresses import ANYONE, FOUR, NOBODY, SIX, AddressSet
from ..plane.kinds import ABSENT
from ..plane.table import InputRule, Plane
from .pieces import Pieces

DEEPEST = 16  # jumps; the kernel allows as many (nft(8))
LOOPBACK = "lo"


@dataclass(frozen=True)
class At:
    """Where something knocks: transport, port, and the address and socket of the host it knocks at (empty where not
    known)."""

    transport: str
    port: int
    address: str = ""
    interface: str = ""


@dataclass(frozen=True)
class Decision:
    """What one rule (or the end of a chain, by its name) does with some sources. `surely`: it does so with all of them
    that come to it."""

    rule: str
    action: str
    surely: bool
    bits: int
    pieces: Pieces = field(repr=False, compare=False)

    @cached_property
    def sources(self) -> AddressSet:
        """Whom it decides about."""
        return self.pieces.set_of(self.bits)


@dataclass(frozen=True)
class Passing:
    """The answer: possibly let through, possibly turned away, and every rule that decides about somebody, in order."""

    let_in: AddressSet
    turned_away: AddressSet
    decisions: tuple[Decision, ...] = ()

    @property
    def surely_in(self) -> AddressSet:
        """Let through, whatever is not known."""
        return self.let_in - self.turned_away

    def deciding(self, source: str) -> tuple[Decision, ...]:
        """What may decide about one source, in order."""
        return tuple(one for one in self.decisions if one.bits & one.pieces.piece(source))


UNREAD = Passing(ANYONE, ANYONE)
NO_FILTER = Passing(ANYONE, NOBODY)


def through(plane: Plane, at: At) -> Passing:
    """What the filter lets through to a port."""
    chains, unseen = plane.input_chains, plane.input_filter.unseen
    if not chains.complete and plane.input_filter.default is ABSENT:
        return NO_FILTER
    if not plane.input_rules.complete or any(not isinstance(rule.position, int) for rule in plane.input_rules):
        return UNREAD
    found = _Walk(plane, at).all_chains()
    # rules of another kind, where there are any or that was not read, may turn anybody away
    sure = unseen is ABSENT or not chains.complete
    return found if sure else Passing(found.let_in, ANYONE, found.decisions)


class _Walk:
    """One walk for one port; remembers what is possibly accepted and dropped, as bits of pieces."""

    def __init__(self, plane: Plane, at: At) -> None:
        self.accepted = self.dropped = 0
        self.decisions: list[Decision] = []
        self.chains: dict[str, list[tuple[InputRule, AddressSet, AddressSet]]] = {}
        sets: list[AddressSet] = []
        for rule in sorted(plane.input_rules, key=lambda rule: (rule.position or 0, rule.key)):
            surely, possibly = matched(plane, rule, at)
            if possibly:
                sets += [surely, possibly]
                chain = rule.chain if isinstance(rule.chain, str) else ""
                self.chains.setdefault(chain, []).append((rule, surely, possibly))
        self.pieces = Pieces(sets)
        base = [(c.position, c.key, c.default) for c in plane.input_chains if isinstance(c.position, int)]
        self.base = sorted(base) if plane.input_chains.complete else [(0, "", plane.input_filter.default)]

    def all_chains(self) -> Passing:
        here, turned_away = self.pieces.everybody, 0
        for _, key, policy in self.base:
            self.accepted = self.dropped = 0
            self._end(key, policy, self.chain(key, here, 0))
            turned_away |= self.dropped
            here = self.accepted
        return Passing(self.pieces.set_of(here), self.pieces.set_of(turned_away), tuple(self.decisions))

    def _decides(self, rule: str, action: str, bits: int, surely: bool) -> None:
        self.decisions.append(Decision(rule, action, surely, bits, self.pieces))
        if action != "drop":
            self.accepted |= bits
        if action != "accept":
            self.dropped |= bits

    def _end(self, key: str, policy: Any, fell: int) -> None:
        if fell:
            known = policy in ("accept", "drop")
            self._decides(f"end of {key}" if key else "the end", str(policy) if known else "unknown", fell, known)

    def chain(self, key: str, here: int, depth: int) -> int:
        """Walk one chain with those that possibly come to it; those that possibly come out at its end."""
        out = 0
        if depth > DEEPEST:
            self.accepted, self.dropped = self.accepted | here, self.dropped | here
            return here
        for rule, surely_set, possibly_set in self.chains.get(key, []):
            if not here:
                break
            hit = here & self.pieces.bits(possibly_set)
            if not hit:
                continue
            surely = self.pieces.bits(surely_set)
            stays = here & ~surely
            if rule.action in ("accept", "drop"):
                self._decides(rule.key, rule.action, hit, not hit & ~surely)
            elif rule.action == "jump" and isinstance(rule.target, str):
                stays |= self.chain(rule.target, hit, depth + 1)
            elif rule.action == "goto" and isinstance(rule.target, str):
                out |= self.chain(rule.target, hit, depth + 1)
            elif rule.action == "return":
                out |= hit
            else:
                stays = here
                # what it does is not known: it may do anything, or nothing
                if rule.action != "continue":
                    self._decides(rule.key, "unknown", hit, False)
            here = stays
        return out | here


# ---- what one rule matches ------------------------------------------------------------------------------------------


def matched(plane: Plane, rule: InputRule, at: At) -> tuple[AddressSet, AddressSet]:
    """The sources a rule surely matches at a port, and those it possibly does."""
    if rule.enabled is False:
        return NOBODY, NOBODY
    asked = (
        _transport(rule.transport, at), _ports(rule.ports, at), _group(plane, rule, at), _destinations(rule.destinations, at),
    )  # fmt: skip
    if False in asked:
        return NOBODY, NOBODY
    low, high = _sources(plane, rule)
    # what else it asks was not understood, so it may ask anything
    sure = None not in asked and rule.opaque in (False, ABSENT) and rule.enabled in (True, ABSENT)
    family = _families(rule.families)
    return (low & family if sure and rule.families is not None else NOBODY), high & family


def _families(families: object) -> AddressSet:
    if not isinstance(families, tuple):
        return ANYONE
    return (FOUR if "4" in families else NOBODY) | (SIX if "6" in families else NOBODY)


def _sources(plane: Plane, rule: InputRule) -> tuple[AddressSet, AddressSet]:
    low, high = (
        (rule.sources, rule.sources)
        if isinstance(rule.sources, AddressSet)
        else (ANYONE, ANYONE)
        if rule.sources is ABSENT
        else (NOBODY, ANYONE)
    )
    if rule.list is ABSENT:
        return low, high
    found = plane.address_lists.get(rule.list) if isinstance(rule.list, str) else None
    members = found.members if found else None
    if not isinstance(members, AddressSet) or rule.list_negated is None:
        return NOBODY, high
    # makes differ in what an empty list matches: not said is not known
    if not members:
        empty = {"anyone": ANYONE, "nobody": NOBODY}.get(str(plane.input_filter.empty_list))
        if empty is None:
            return NOBODY, high
        members = empty
    members = ANYONE - members if rule.list_negated is True else members
    return low & members, high & members


def _transport(transport: object, at: At) -> bool | None:
    return True if transport is ABSENT else transport == at.transport if isinstance(transport, str) else None


def _ports(ports: object, at: At) -> bool | None:
    if ports is ABSENT:
        return True
    if not isinstance(ports, tuple):
        return None
    spans = [(first, last or first) for first, _, last in (entry.partition("-") for entry in ports)]
    if not all(first.isdigit() and last.isdigit() for first, last in spans):
        return None
    return any(int(first) <= at.port <= int(last) for first, last in spans)


def _destinations(wanted: object, at: At) -> bool | None:
    if wanted is ABSENT or wanted is None:
        return True if wanted is ABSENT else None
    return at.address in wanted if isinstance(wanted, AddressSet) and at.address else None


def _group(plane: Plane, rule: InputRule, at: At) -> bool | None:
    if rule.group is ABSENT:
        return True
    if not isinstance(rule.group, str):
        return None
    # nobody outside comes by the host's way to itself
    if rule.group == LOOPBACK:
        return False
    if not at.interface:
        return None
    if rule.group == at.interface:
        return True
    if rule.group in plane.interfaces:
        return False
    found = plane.interface_groups.get(rule.group)
    if found is None:
        return False if plane.interface_groups.complete and plane.interfaces.complete else None
    return at.interface in found.members if isinstance(found.members, tuple) else None


# ---- what is odd about a set of rules -------------------------------------------------------------------------------

MOST_POINTS = 64


def odd(plane: Plane, points: Iterable[At]) -> tuple[str, ...]:
    """What a technician should know of these rules: rules nobody ever comes to at any of the ports they are about, no
    refusal at the end, empty lists. Empty where they could not be read."""
    rules = plane.input_rules
    if not rules.complete or not len(rules):
        return ()
    told = [
        f"list {one.key} is empty"
        for one in plane.address_lists
        if isinstance(one.members, AddressSet) and not one.members
    ]
    ends = [chain.default for chain in plane.input_chains if isinstance(chain.position, int)]
    ends = ends if plane.input_chains.complete else [plane.input_filter.default]
    if all(end == "accept" for end in ends) and not any(_refuses_the_rest(rule) for rule in rules):
        told.append("nothing is refused at the end: what no rule names is let in")
    probes = {(at.transport, at.port): at for at in points}
    some = next(iter(probes.values()), At("tcp", 22))
    for rule in rules:
        for entry in rule.ports if isinstance(rule.ports, tuple) else ():
            first = entry.partition("-")[0]
            if first.isdigit():
                transport = rule.transport if isinstance(rule.transport, str) else "tcp"
                probes.setdefault((transport, int(first)), At(transport, int(first), some.address, some.interface))
    if len(probes) > MOST_POINTS:
        return (*told, f"the rules are about {len(probes)} ports: dead ones were not looked for")
    met = {one.rule for at in probes.values() for one in through(plane, at).decisions}
    about = [
        rule
        for rule in rules
        if rule.action in ("accept", "drop") and any(matched(plane, rule, at)[1] for at in probes.values())
    ]
    told += [
        f"rule {rule.key} is dead: what stands before it decides about everybody it names"
        for rule in about
        if rule.key not in met
    ]
    return tuple(told)


def _refuses_the_rest(rule: InputRule) -> bool:
    return rule.action == "drop" and all(
        leaf is ABSENT for leaf in (rule.sources, rule.list, rule.ports, rule.group, rule.destinations)
    )
