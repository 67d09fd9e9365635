"""What the packet filter lets through to one port: exact sets of sources, in both address families, with the rules
that decide. Chains are walked as the kernel walks them: all base chains in order, acceptance ends one chain, a drop
ends all.

Of what a rule matches that is not known, both is possible; so every answer is a pair, what is possibly let through
and what is possibly blocked, and only what is in one of them alone is sure."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from functools import cached_property
from operator import attrgetter, itemgetter
from typing import Any, Literal

from ..addresses import ANYONE, FOUR, NOBODY, SIX, AddressSet
from ..plane.kinds import ABSENT
from ..plane.leaves import FilterRule, Plane
from .pieces import Pieces

DEEPEST = 16  # jumps; the kernel allows as many (nft(8))
LOOPBACK = "lo"
LINK = AddressSet.of("fe80::/10")
FEW = 8  # rules: so many are walked one by one


@dataclass(frozen=True)
class At:
    """Where something knocks: transport, port, and the address and socket of the host it knocks at (empty where not
    known). `state` is that of its connection; `finds` says that by IPv6 the host has to be found first, as a neighbour
    (RFC 4861)."""

    transport: str
    port: int
    address: str = ""
    interface: str = ""
    state: Literal["new", "established", "untracked"] = "new"
    finds: bool = True


@dataclass(frozen=True)
class Decision:
    """What one rule (or the end of a chain, by its name) does with some sources. `surely`: it does so with all of them
    that come to it."""

    rule: str
    verdict: str
    surely: bool
    bits: int
    pieces: Pieces = field(repr=False, compare=False)

    @cached_property
    def sources(self) -> AddressSet:
        """Who it decides about."""
        return self.pieces.set_of(self.bits)


Row = tuple[str, str, int | list[int], bool]  # rule, action, sources as bits or as places of pieces, surely


@dataclass(frozen=True)
class Passing:
    """The answer: possibly let through; let through, whatever is not known; and what every rule that decides does, in
    order."""

    let_in: AddressSet
    surely_in: AddressSet
    rows: tuple[Row, ...] = field(default=(), repr=False, compare=False)
    pieces: Pieces = field(default_factory=lambda: Pieces(()), repr=False, compare=False)
    later: Passing | None = field(default=None, repr=False, compare=False)  # what packets of a standing connection meet

    @cached_property
    def decisions(self) -> tuple[Decision, ...]:
        """Every rule that decides about somebody, in order: at the beginning, and what blocks somebody later."""
        later = self.later.decisions if self.later else ()
        return (*self._first(), *(one for one in later if one.verdict != "pass"))

    def _first(self) -> tuple[Decision, ...]:
        made = (
            (*row[:2], row[3], row[2] if isinstance(row[2], int) else self.pieces.bits_of(row[2])) for row in self.rows
        )
        return tuple(Decision(rule, action, surely, bits, self.pieces) for rule, action, surely, bits in made)

    def deciding(self, source: str) -> tuple[Decision, ...]:
        """What may decide about one source, in order."""
        return tuple(one for one in self.decisions if one.bits & one.pieces.piece(source))


UNREAD = Passing(ANYONE, NOBODY)
NO_FILTER = Passing(ANYONE, ANYONE)


def through(plane: Plane, at: At) -> Passing:
    """What the filter lets through to a port."""
    chains, unseen = plane.filter_stages, plane.packet_filter.unseen
    if not len(chains) and plane.packet_filter.default is ABSENT:
        return NO_FILTER
    if not plane.filter_rules.complete or {type(rule.position) for rule in plane.filter_rules} - {int}:
        return UNREAD
    found = _Walk(plane, at).all_chains()
    # who may begin and not go on is not let in
    if any(rule.state is not ABSENT for rule in plane.filter_rules):
        later = _Walk(plane, replace(at, state="established")).all_chains()
        let_in, surely_in = found.let_in & later.let_in, found.surely_in & later.surely_in
        found = replace(found, let_in=let_in, surely_in=surely_in, later=later)
    if at.finds and found.surely_in.six:
        found = replace(found, surely_in=(found.surely_in & FOUR) | (found.surely_in & _finds(plane, at)))
    # rules of another kind, where there are any or that was not read, may turn anybody away
    sure = unseen is ABSENT or not chains.complete
    return found if sure else replace(found, surely_in=NOBODY)


Entry = tuple[FilterRule, AddressSet, AddressSet]  # a rule, who it surely matches, and who it possibly does


def _finds(plane: Plane, at: At) -> AddressSet:
    """Who surely finds the host by IPv6: what asks for it, and what answers it, must be let in, from the address itself
    and from the one of the link. It goes to many at once, and no connection is kept of it."""
    asking = replace(at, transport="icmpv6", port=0, address="", state="untracked")
    found = _Walk(plane, asking).all_chains().surely_in
    return found & SIX if found >= LINK else NOBODY


class _Walk:
    """One walk for one port; remembers what is possibly accepted and dropped, as bits of pieces."""

    def __init__(self, plane: Plane, at: At) -> None:
        self.accepted = self.dropped = 0
        # what becomes of one piece in a chain does not hang on the others, so each is walked through a chain once:
        # those that were, those that came out at its end, and those that are in it just now
        self.walked: dict[str, int] = {}
        self.came_out: dict[str, int] = {}
        self.inside: dict[str, int] = {}
        self.rows: list[Row] = []
        # rules that surely do one thing with who they name stand together, and can be walked so
        self.chains: dict[str, list[tuple[bool, list[Entry]]]] = {}
        sets: list[AddressSet] = []
        asks = Asks(plane, at)
        for rule in in_order(plane):
            surely, possibly = asks.matched(rule)
            if possibly is not NOBODY:
                plain = surely is possibly and rule.verdict in ("pass", "block")
                sets += [possibly] if plain else [surely, possibly]
                chain = self.chains.setdefault(rule.stage if isinstance(rule.stage, str) else "", [])
                if not chain or chain[-1][0] is not plain:
                    chain.append((plain, []))
                chain[-1][1].append((rule, surely, possibly))
        self.pieces = Pieces(sets)
        base = [(c.position, c.key, c.default, c.families) for c in plane.filter_stages if isinstance(c.position, int)]
        self.base = sorted(base, key=itemgetter(0, 1))
        if not plane.filter_stages.complete:
            self.base = [(0, "", plane.packet_filter.default, ABSENT)]

    def all_chains(self) -> Passing:
        here, turned_away = self.pieces.everybody, 0
        for _, key, policy, families in self.base:
            self.accepted = self.dropped = 0
            self.walked, self.came_out = {}, {}
            # what is of another family passes it by; where that was not read, anybody may
            mine = here & self.pieces.bits(_families(families))
            passing_by = here if families is None else here & ~mine
            self._end(key, policy, self.chain(key, mine, 0))
            turned_away |= self.dropped
            here = self.accepted | passing_by
        let_in = self.pieces.set_of(here)
        surely_in = self.pieces.set_of(here & ~turned_away) if here & turned_away else let_in
        return Passing(let_in, surely_in, tuple(self.rows), self.pieces)

    def _decides(self, rule: str, action: str, bits: int, surely: bool) -> None:
        self.rows.append((rule, action, bits, surely))
        if action != "block":
            self.accepted |= bits
        if action != "pass":
            self.dropped |= bits

    def _end(self, key: str, policy: Any, fell: int) -> None:
        if fell:
            known = policy in ("pass", "block")
            self._decides(f"end of {key}" if key else "the end", str(policy) if known else "unknown", fell, known)

    def chain(self, key: str, here: int, depth: int) -> int:
        """Walk one chain with those that possibly come to it; those that possibly come out at its end."""
        # a chain that leads back to itself, or too deep: anything may become of them
        if endless := here & self.inside.get(key, 0) if depth <= DEEPEST else here:
            self.accepted, self.dropped = self.accepted | endless, self.dropped | endless
        new = here & ~endless & ~self.walked.get(key, 0)
        if new:
            self.walked[key] = self.walked.get(key, 0) | new
            self.inside[key] = self.inside.get(key, 0) | new
            self.came_out[key] = self.came_out.get(key, 0) | self._walk(key, new, depth)
            self.inside[key] &= ~new
        return (here & self.came_out.get(key, 0)) | endless

    def _walk(self, key: str, here: int, depth: int) -> int:
        out = 0
        for plain, rules in self.chains.get(key, []):
            if not here:
                break
            if plain and len(rules) > FEW:
                here = self._together(rules, here)
                continue
            for rule, surely, possibly in rules:
                if hit := here & self.pieces.bits(possibly):
                    here, left = self._one(rule, hit, here, hit & self.pieces.bits(surely), depth)
                    out |= left
        return out | here

    def _together(self, rules: list[Entry], here: int) -> int:
        """Rules that surely accept or drop who they name: the first that names somebody decides."""
        ends: dict[str, list[int]] = {"pass": [], "block": []}
        found = self.pieces.first_of([one for _, one, _ in rules], here)
        for (rule, _, _), places in zip(rules, found, strict=True):
            if places:
                action: str = rule.verdict  # type: ignore[assignment]  # read, and one of the two
                self.rows.append((rule.key, action, places, True))
                ends[action] += places
        accepted, dropped = self.pieces.bits_of(ends["pass"]), self.pieces.bits_of(ends["block"])
        self.accepted, self.dropped = self.accepted | accepted, self.dropped | dropped
        return here & ~accepted & ~dropped

    def _one(self, rule: FilterRule, hit: int, here: int, surely: int, depth: int) -> tuple[int, int]:
        """One rule, possibly met by `hit` and `surely` by some of those: who goes on to the next, and who leaves the
        chain."""
        stays = here & ~surely
        if rule.verdict in ("pass", "block"):
            self._decides(rule.key, rule.verdict, hit, hit == surely)
        elif rule.verdict == "jump" and isinstance(rule.leads_to, str):
            stays |= self.chain(rule.leads_to, hit, depth + 1)
        elif rule.verdict == "goto" and isinstance(rule.leads_to, str):
            return stays, self.chain(rule.leads_to, hit, depth + 1)
        elif rule.verdict == "return":
            return stays, hit
        else:
            # what it does is not known: it may do anything, or nothing
            if rule.verdict != "continue":
                self._decides(rule.key, "unknown", hit, False)
            return here, 0
        return stays, 0


def in_order(plane: Plane) -> list[FilterRule]:
    """The rules as they are asked; of two in one place by key, so that the answer is the same each time."""
    rules = [*plane.filter_rules]
    one_place = len({rule.position for rule in rules}) < len(rules)
    return sorted(rules, key=attrgetter("position", "key") if one_place else attrgetter("position"))


# ---- what one rule matches ------------------------------------------------------------------------------------------


class Asks:
    """What rules ask of one port, each kind of question answered once."""

    def __init__(self, plane: Plane, at: At) -> None:
        self.plane, self.at = plane, at
        self.answers: dict[tuple[Any, ...], tuple[bool | None, AddressSet]] = {}

    def matched(self, rule: FilterRule) -> tuple[AddressSet, AddressSet]:
        """The sources a rule surely matches, and those it possibly does."""
        about = (
            rule.enabled,
            rule.transport,
            rule.ports,
            rule.opaque,
            rule.state,
            id(rule.families),
            id(rule.socket),
            id(rule.destinations),
        )
        answer = self.answers.get(about)
        if answer is None:
            answer = self.answers[about] = self._asked(rule)
        fits, family = answer
        if fits is False:
            return NOBODY, NOBODY
        # the most usual kind: sources and nothing else
        if rule.named is ABSENT and isinstance(rule.sources, AddressSet):
            low = high = rule.sources
        else:
            low, high = _sources(self.plane, rule)
        if family is not ANYONE:
            low, high = (both := low & family, both) if low is high else (low & family, high & family)
        return low if fits else NOBODY, high

    def _asked(self, rule: FilterRule) -> tuple[bool | None, AddressSet]:
        """Does it fit, but for where somebody comes from; and for which address families it is. What it asks that was
        not understood may ask anything."""
        asked = (
            _transport(rule.transport, self.at),
            _ports(rule.ports, self.at),
            _group(self.plane, rule, self.at),
            _destinations(rule.destinations, self.at),
            _state(rule.state, self.at),
        )
        if rule.enabled is False or False in asked:
            return False, NOBODY
        sure = (
            None not in asked
            and rule.opaque in (False, ABSENT)
            and rule.enabled in (True, ABSENT)
            and rule.families is not None
        )
        return True if sure else None, _families(rule.families)


def _families(families: object) -> AddressSet:
    if not isinstance(families, tuple):
        return ANYONE
    return (FOUR if "4" in families else NOBODY) | (SIX if "6" in families else NOBODY)


def _sources(plane: Plane, rule: FilterRule) -> tuple[AddressSet, AddressSet]:
    low, high = (
        (rule.sources, rule.sources)
        if isinstance(rule.sources, AddressSet)
        else (ANYONE, ANYONE)
        if rule.sources is ABSENT
        else (NOBODY, ANYONE)
    )
    if rule.named is ABSENT:
        return low, high
    found = plane.named_addresses.get(rule.named) if isinstance(rule.named, str) else None
    members = found.members if found else None
    if not isinstance(members, AddressSet) or rule.not_named is None:
        return NOBODY, high
    # makes differ in what an empty list matches: not said is not known
    if not members:
        empty = {"anyone": ANYONE, "nobody": NOBODY}.get(str(plane.packet_filter.empty_names))
        if empty is None:
            return NOBODY, high
        members = empty
    members = ANYONE - members if rule.not_named is True else members
    return low & members, high & members


def _transport(transport: object, at: At) -> bool | None:
    return True if transport is ABSENT else transport == at.transport if isinstance(transport, str) else None


def _state(state: object, at: At) -> bool | None:
    return True if state is ABSENT else state == at.state if isinstance(state, str) else None


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


def _group(plane: Plane, rule: FilterRule, at: At) -> bool | None:
    if rule.socket is ABSENT:
        return True
    if not isinstance(rule.socket, str):
        return None
    # nobody outside comes by the host's way to itself
    if rule.socket == LOOPBACK:
        return False
    if not at.interface:
        return None
    if rule.socket == at.interface:
        return True
    if rule.socket in plane.interfaces:
        return False
    found = plane.socket_groups.get(rule.socket)
    if found is None:
        return False if plane.socket_groups.complete and plane.interfaces.complete else None
    return at.interface in found.members if isinstance(found.members, tuple) else None


# ---- what is odd about a set of rules -------------------------------------------------------------------------------

MOST_POINTS = 64


def odd(plane: Plane, points: Iterable[At]) -> tuple[str, ...]:
    """What a technician should know of these rules: rules nobody ever comes to at any of the ports they are about, no
    refusal at the end, empty lists. Empty where they could not be read."""
    rules = plane.filter_rules
    if not rules.complete or not len(rules):
        return ()
    told = [
        f"the name {one.key} has no addresses"
        for one in plane.named_addresses
        if isinstance(one.members, AddressSet) and not one.members
    ]
    told += _in_no_group(plane)
    ends = [chain.default for chain in plane.filter_stages if isinstance(chain.position, int)]
    ends = ends if plane.filter_stages.complete else [plane.packet_filter.default]
    if all(end == "pass" for end in ends) and not any(_refuses_the_rest(rule) for rule in rules):
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
    met = {row[0] for at in probes.values() for row in through(plane, at).rows}
    asked = [Asks(plane, at) for at in probes.values()]
    about = [
        rule for rule in rules if rule.verdict in ("pass", "block") and any(asks.matched(rule)[1] for asks in asked)
    ]
    told += [
        f"rule {rule.key} is dead: what stands before it decides about everybody it names"
        for rule in about
        if rule.key not in met
    ]
    return tuple(told)


def _in_no_group(plane: Plane) -> list[str]:
    """Sockets that no group names where rules go by groups: what is meant for a group leaves them out."""
    groups = {group.key: group.members for group in plane.socket_groups}
    named = [members for members in groups.values() if isinstance(members, tuple)]
    by_group = any(rule.socket in groups for rule in plane.filter_rules if isinstance(rule.socket, str))
    if not by_group or len(named) < len(groups) or not plane.socket_groups.complete:
        return []
    grouped = {key for members in named for key in members}
    loose = (one.key for one in plane.interfaces if one.enabled is not False and one.key not in grouped)
    return [f"socket {key} is in no group, and rules go by groups" for key in loose]


def _refuses_the_rest(rule: FilterRule) -> bool:
    return rule.verdict == "block" and all(
        leaf is ABSENT for leaf in (rule.sources, rule.named, rule.ports, rule.socket, rule.destinations)
    )
