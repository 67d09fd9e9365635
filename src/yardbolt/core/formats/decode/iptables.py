"""The packet filter of Linux as iptables-save(8) and ip6tables-save(8) print it: what may reach the host itself,
chain by chain.

A condition or a target not known here makes its rule opaque: it may then match, or not, and no verdict rests on it.
Our own chain is what its services are limited to, and no rule of anybody else."""

from __future__ import annotations

import re
import shlex
from collections import Counter
from dataclasses import dataclass, field

from ...addresses import FOUR, NOBODY, SIX, AddressSet
from .decoder import Narrow, Pairs
from .filtering import FAMILIES, HOOKS, OURS, PRIORITIES, TABLES, Rule, chain_told, told

_HOOKED = {
    "raw": ("prerouting",),
    "mangle": ("prerouting", "input"),
    "nat": ("prerouting",),
    "filter": ("input",),
    "security": ("input",),
}
BUILT_IN = frozenset(_HOOKED)
_ENDS = {"ACCEPT": "pass", "DROP": "block", "REJECT": "block", "RETURN": "return"}
# what becomes of a packet is not touched by these
_GOES_ON = frozenset(
    [
        "LOG",
        "NFLOG",
        "ULOG",
        "MARK",
        "CONNMARK",
        "TRACE",
        "TCPMSS",
        "SET",
        "DSCP",
        "TOS",
        "TTL",
        "HL",
        "CLASSIFY",
        "AUDIT",
    ]
)
_PROTOCOLS = {"6": "tcp", "17": "udp", "1": "icmp", "58": "icmpv6", "ipv6-icmp": "icmpv6"}
# what these know is seen by their options; others match something without any
_MATCHES = frozenset({"tcp", "udp", "multiport", "state", "conntrack", "comment", "icmp6", "icmpv6"})
_CONDITIONS = frozenset(
    {"-s", "-d", "-p", "-i", "--dport", "--dports", "--ctstate", "--state", "--icmpv6-type", "--comment"}
)
# of these (neighbour solicitation and advertisement, RFC 4861) each is a number here
_NUMBERS = {"135": "nd-neighbor-solicit", "136": "nd-neighbor-advert"}
LONGEST = 20_000  # rules
LONGEST_NAME = 120  # characters
# said by the conditions themselves
_REPEATS = re.compile(r" -m (?:tcp|udp|state|conntrack|comment|multiport)\b| --comment (?:\"[^\"]*\"|[^\s\"]+)")


@dataclass
class Saved:
    """One family's tables: the policies of its base chains, and its rules in their order."""

    family: str  # ip, ip6
    older: bool
    policies: dict[tuple[str, str], str] = field(default_factory=dict)  # table, chain
    own: set[tuple[str, str]] = field(default_factory=set)  # table, chain: made by somebody
    rules: list[tuple[str, str, Rule, str, str]] = field(
        default_factory=list
    )  # table, chain, rule, comment, how it reads
    strange: bool = False

    def name(self, table: str, chain: str) -> str:
        """How a chain goes by in the plane: as nft would show it."""
        return f"{'older ' if self.older else ''}{self.family} {table} {chain}"

    def decides(self, table: str, chain: str) -> bool:
        """Does this base chain do anything? Looking at a table can bring its empty chains into being."""
        policy = self.policies.get((table, chain))
        return policy == "drop" or (policy is not None and any(row[:2] == (table, chain) for row in self.rules))


def saved(lines: list[str], family: str, older: bool) -> Saved:
    """What iptables-save printed, line by line. Nothing is raised."""
    out, table = Saved(family, older), ""
    for line in lines:
        if line.startswith("*"):
            table = line[1:].strip()
        elif line.startswith(":"):
            chain, policy = [*line[1:].split(), "", ""][:2]
            if policy in ("ACCEPT", "DROP"):
                out.policies[table, chain] = policy.lower()
            else:
                out.own.add((table, chain))
        elif line.startswith(("-A ", "[")):
            _rule(out, table, line)
        elif line.startswith("#"):
            # a table that holds what only nft can say is left out with a remark
            out.strange |= "incompatible" in line
        elif line.strip() not in ("", "COMMIT"):
            out.strange = True
    out.strange |= len(out.rules) > LONGEST
    return out


def _rule(out: Saved, table: str, line: str) -> None:
    try:
        words = shlex.split(line)
    except ValueError:
        words = []
    # with counters they stand first
    words = words[1:] if words and words[0].startswith("[") else words
    if len(words) < 2 or words[0] != "-A":
        out.strange = True
        return
    rule = Rule(FAMILIES[out.family], out.name(table, "").rstrip())
    reads = " ".join(_REPEATS.sub("", line.partition(" -A ")[2] if line.startswith("[") else line[3:]).split()[1:])
    comment = _Words(rule, words[2:], {chain for where, chain in out.own if where == table}).all()
    out.rules.append((table, words[1], rule, comment, reads[:LONGEST_NAME]))


class _Words:
    """The words of one rule, taken in from left to right."""

    def __init__(self, rule: Rule, words: list[str], chains: set[str]) -> None:
        self.rule, self.words, self.chains, self.comment = rule, words, chains, ""

    def all(self) -> str:
        """Take all of them in; the comment."""
        while self.words:
            negated = self.words[0] == "!"
            if negated:
                self.words.pop(0)
            word = self._next()
            if word in ("-j", "-g"):
                self._target(word, self._next())
            elif not (self._next() in _MATCHES and not negated if word == "-m" else self._condition(word, negated)):
                self.rule.opaque = True
                while self.words and self.words[0] != "!" and not self.words[0].startswith("-"):
                    self.words.pop(0)
        return self.comment

    def _next(self) -> str:
        return self.words.pop(0) if self.words else ""

    def _target(self, how: str, target: str) -> None:
        rule = self.rule
        if target in _ENDS:
            rule.action = _ENDS[target]
        elif target in _GOES_ON:
            rule.action = "continue"
        elif target in self.chains:
            rule.action, rule.target = "jump" if how == "-j" else "goto", f"{rule.where} {target}"
        else:
            rule.action, rule.opaque = "other", True
        # the rest is how it does that
        if target in _ENDS or target in _GOES_ON:
            rule.resets = self.words[:2] == ["--reject-with", "tcp-reset"]
            self.words.clear()

    def _condition(self, word: str, negated: bool) -> bool:
        """Take one condition in. False where it is not known."""
        if word not in _CONDITIONS:
            return False
        value = self._next()
        match word:
            case "-s" | "-d":
                return self._address(word, value, negated)
            case "-p":
                return negated is False and self._protocol(value)
            case "-i":
                return not negated and "+" not in value and self.rule.take({"socket": value})
            case "--dport" | "--dports":
                return not negated and self._ports(value)
            case "--ctstate" | "--state":
                return self._state(value, negated)
            case "--icmpv6-type":
                kind = value.partition("/")[0]
                return not negated and kind.isdigit() and self.rule.take_kinds({_NUMBERS.get(kind, "another")})
            case "--comment":
                self.comment = value
                return True
        return False

    def _address(self, word: str, value: str, negated: bool) -> bool:
        family = self.rule.sources
        try:
            members = AddressSet.of(value)
        except ValueError:
            return False
        chosen = (FOUR if "." in value else SIX) - members if negated else members
        if word == "-s":
            self.rule.sources = family & chosen
            return True
        return self.rule.take({"destinations": chosen})

    def _protocol(self, value: str) -> bool:
        return value == "all" or self.rule.take({"transport": _PROTOCOLS.get(value, value)})

    def _ports(self, value: str) -> bool:
        ports = [one.replace(":", "-") for one in value.split(",")]
        if not all(end.isascii() and end.isdigit() for one in ports for end in one.split("-")):
            return False
        return self.rule.take({"ports": tuple(sorted(ports))})

    def _state(self, value: str, negated: bool) -> bool:
        # a login begins as a new connection, and all that follows is of an established one
        states = {state for state in ("new", "established") if (state.upper() in value.split(",")) != negated}
        if len(states) == 1:
            return self.rule.take({"state": states.pop()})
        self.rule.sources = self.rule.sources if states else NOBODY
        return True


def facts_of(every: list[Saved], after: int) -> tuple[Pairs, list[str]]:
    """What these tables say of the plane, their base chains after so many others; and what is not judged."""
    facts: Pairs = []
    left: list[str] = []
    base = sorted(
        (
            HOOKS.index(hook),
            PRIORITIES.get(table, 0),
            one.name(table, hook.upper()),
            one.policies[table, hook.upper()],
            one.family,
        )
        for one in every
        for table, hooks in _HOOKED.items()
        for hook in hooks
        if table != "nat" and one.decides(table, hook.upper())
    )
    for place, (_, _, name, policy, family) in enumerate(base, after + 1):
        facts += chain_told(name, place, policy, family)
    met: Counter[str] = Counter()
    for one in every:
        if any((table, chain) == ("nat", "PREROUTING") for table, chain, *_ in one.rules):
            left.append(f"chain {one.name('nat', 'PREROUTING')} changes addresses before they are looked at")
        for table, chain, rule, comment, reads in one.rules:
            # what somebody puts before it or takes away leaves it its name
            key = f"{one.name(table, chain)}: {reads}"
            met[key] += 1
            key = f"{key} ({met[key]})" if met[key] > 1 else key
            facts += told(rule, key, met.total(), one.name(table, chain), comment, TABLES[one.family])
    return facts, left


def ours(every: list[Saved], families: frozenset[str]) -> list[Narrow]:
    """The limits of our own chain, service by service, and their rules taken out; none where it is not exactly as we
    write it in each of these families. What the other end of a port is in no family is nobody."""
    found = [(one, limits) for one in every if (limits := _limits(one)) is not None]
    if not families or {one.family for one, _ in found} != families or len(found) != len(families):
        return []
    admitted: dict[tuple[str, str, str], AddressSet] = {}
    for key in {key for _, limits in found for key in limits}:
        sets = [limits.get(key, FAMILIES[one.family]) for one, limits in found]
        admitted[key] = sets[0] | sets[-1]
    for one, _ in found:
        one.rules = [row for row in one.rules if OURS not in (row[1], row[2].target.rsplit(" ", 1)[-1])]
    return [
        (name, by, (port,), sources) for (name, by, port), sources in sorted(admitted.items(), key=lambda row: row[0])
    ]


def _limits(one: Saved) -> dict[tuple[str, str, str], AddressSet] | None:
    inside = [(rule, comment) for table, chain, rule, comment, _ in one.rules if (table, chain) == ("filter", OURS)]
    first = next((rule for table, chain, rule, *_ in one.rules if (table, chain) == ("filter", "INPUT")), None)
    here = FAMILIES[one.family]
    if (
        first is None
        or first.target != one.name("filter", OURS)
        or first.opaque
        or first.found
        or first.sources != here
    ):
        return None
    if len(inside) < 2:
        return None
    own = inside[0][0]
    if own.opaque or own.action != "return" or own.found != {"socket": "lo"} or own.sources != here:
        return None
    out: dict[tuple[str, str, str], AddressSet] = {}
    open_: dict[tuple[str, str, str], AddressSet] = {}
    for rule, name in inside[1:]:
        found = {**rule.found}
        ports, by = found.pop("ports", ()), str(found.pop("transport", ""))
        answers = rule.action == "return" and found.pop("state", "") == "established"
        if rule.opaque or found or by not in ("tcp", "udp") or len(ports) != 1:
            return None
        key = (name, by, ports[0])
        if key in out:
            return None
        if rule.action == "return":
            open_[key] = open_.get(key, NOBODY) if answers else open_.get(key, NOBODY) | rule.sources
        elif rule.action == "block" and rule.sources == here and (rule.resets or by == "udp"):
            out[key] = open_.pop(key, NOBODY)
        else:
            return None
    return None if open_ else out
