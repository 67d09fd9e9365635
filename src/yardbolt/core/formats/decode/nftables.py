"""The packet filter of Linux as `nft --json list ruleset` prints it (libnftables-json(5)): what may reach the host
itself, chain by chain.

Base chains that every incoming packet passes (prerouting and input, in the order of hook and priority), and the chains
they jump to. An expression not known here makes its rule opaque: it may then match, or not, and no verdict rests on it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from ...addresses import ANYONE, FOUR, NOBODY, SIX, AddressSet
from ...plane.kinds import ABSENT
from ...talk.tree import Tree, as_text, one, pick
from .decoder import Decoded, Decoder, Narrow, Pairs, of_text, of_tree
from .filtering import FAMILIES, FEEDS, HOOKS, LISTS, OURS, PRIORITIES, RULES, WHOLE, Rule, chain_told, told
from .tagged import tagged

_ENDS = {"accept": "pass", "drop": "block", "reject": "block", "return": "return", "continue": "continue"}
_SILENT = frozenset({"counter", "log", "comment", "meter"})


def decode_ruleset(tree: Tree) -> Decoded:
    """Chains, rules and named sets of the hooks an incoming packet passes."""
    entries = [node for _, node in pick(tree, "nftables/*") if isinstance(node, Mapping)]
    if not entries:
        return Decoded((), ("the reply is no ruleset",))
    every = [c for _, c in pick(entries, "*/chain") if isinstance(c, Mapping)]
    chains = [c for c in every if str(c.get("family")) in FAMILIES]
    sets = {
        _full(s, "name"): s for word in ("set", "map") for _, s in pick(entries, f"*/{word}") if isinstance(s, Mapping)
    }
    facts: Pairs = [(("packet_filter", "empty_names"), "nobody")]
    limits = _ours(entries, every)
    if limits:
        # a table of ours is what its services are limited to, and no rule of anybody else
        entries = [e for e in entries if not any(isinstance(n, Mapping) and n.get("table") == OURS for n in e.values())]
        chains = [c for c in chains if c.get("table") != OURS]
    base = [c for c in chains if c.get("hook") in HOOKS]
    left = [
        f"chain {_full(c, 'name')} changes addresses before they are looked at"
        for c in base
        if c.get("type") == "nat" and _does_something(entries, c)
    ]
    # what is dropped on the wire, or on a bridge, never comes so far
    left += [
        f"chain {_full(c, 'name')} is not judged"
        for c in every
        if str(c.get("family")) in ("netdev", "bridge") and c.get("hook") and _does_something(entries, c)
    ]
    base.sort(key=lambda c: (HOOKS.index(str(c.get("hook"))), _priority(c.get("prio"))))
    for place, chain in enumerate((c for c in base if c.get("type") != "nat"), 1):
        name, policy = _full(chain, "name"), str(chain.get("policy", "accept"))
        facts += chain_told(name, place, policy, str(chain.get("family")))
    for place, rule in enumerate((r for _, r in pick(entries, "*/rule") if isinstance(r, Mapping)), 1):
        if str(rule.get("family")) in FAMILIES:
            facts += _rule(rule, place, sets)
    for name, listed in sorted(sets.items()):
        members = _addresses(listed.get("elem", []))
        facts += [((LISTS, name), True), *([((LISTS, name, "members"), members)] if members is not None else [])]
    return Decoded(tuple((path, value) for path, value in facts if value is not None), tuple(left), tuple(limits))


def _ours(entries: list[Mapping[str, Any]], every: list[Mapping[str, Any]]) -> list[Narrow]:
    """The limits of our own table, service by service; none where it is not exactly as we write it."""
    chains = [c for c in every if c.get("table") == OURS]
    rules = [r for _, r in pick(entries, "*/rule") if isinstance(r, Mapping) and r.get("table") == OURS]
    hooked = {"family": "inet", "type": "filter", "hook": "input", "prio": -5, "policy": "accept"}
    if len(chains) != 1 or any(chains[0].get(key) != value for key, value in hooked.items()) or len(rules) < 2:
        return []
    read = [_understood(rule) for rule in rules]
    first, *rest = read
    if first.opaque or first.action != "pass" or first.found not in ({"socket": "lo"},):
        return []
    out: list[Narrow] = []
    admitted = NOBODY
    begun: tuple[str, str] | None = None
    for rule, each in zip(rules[1:], rest, strict=True):
        name, found = as_text(rule.get("comment")) or "", {**each.found}
        ports = found.pop("ports", ())
        by = str(found.pop("transport", ""))
        answers = each.action == "pass" and found.pop("state", "") == "established"
        if each.opaque or found or by not in ("tcp", "udp") or not ports or (begun and (name, by) != begun):
            return []
        begun = (name, by)
        if answers:
            continue  # to what the host itself asked; nobody comes in by that
        if each.action == "pass":
            admitted = admitted | each.sources
        elif each.action == "block" and (each.resets or by == "udp") and each.sources == ANYONE:
            out.append((name, by, ports, admitted))
            admitted, begun = NOBODY, None
        else:
            return []
    return [] if begun else out


def _understood(rule: Mapping[str, Any]) -> Rule:
    read = Rule(FAMILIES.get(str(rule.get("family")), NOBODY), "")
    for _, expr in pick(rule, "expr/*"):
        if not isinstance(expr, Mapping) or len(expr) != 1:
            read.opaque = True
            continue
        word, body = next(iter(expr.items()))
        _expression(read, str(word), body)
    return read


def _full(node: Mapping[str, Any], name: str) -> str:
    return f"{node.get('family')} {node.get('table')} {node.get(name)}"


def _priority(written: Tree) -> int:
    return written if isinstance(written, int) else PRIORITIES.get(str(written), 0)


def _does_something(entries: list[Mapping[str, Any]], chain: Mapping[str, Any]) -> bool:
    rules = (r for _, r in pick(entries, "*/rule") if isinstance(r, Mapping))
    return chain.get("policy") == "drop" or any(_full(r, "chain") == _full(chain, "name") for r in rules)


def _rule(
    rule: Mapping[str, Any], place: int, sets: Mapping[str, Mapping[str, Any]]
) -> Iterator[tuple[tuple[str, ...], Any]]:
    """One rule, or one for each row of a verdict map."""
    name = f"{rule.get('family')} {rule.get('table')} {rule.get('handle')}"
    where = f"{rule.get('family')} {rule.get('table')}"
    read = Rule(FAMILIES[str(rule.get("family"))], where)
    several: list[Rule] = []
    for _, expr in pick(rule, "expr/*"):
        if not isinstance(expr, Mapping) or len(expr) != 1:
            read.opaque = True
            continue
        word, body = next(iter(expr.items()))
        if word == "vmap":
            several = _map(read, body, sets)
        else:
            _expression(read, str(word), body)
    comment = as_text(rule.get("comment"))
    for count, each in enumerate(several or [read]):
        key = f"{name}.{count + 1}" if several else name
        # a listing drops the family before a TCP reset: then it is told by the section `filter-families` alone
        hidden = rule.get("family") == "inet" and each.resets and each.sources == ANYONE
        yield from told(each, key, place * 1000 + count, _full(rule, "chain"), comment, ABSENT if not hidden else None)


def _map(read: Rule, body: Tree, sets: Mapping[str, Mapping[str, Any]]) -> list[Rule]:
    """A verdict map: one rule for each of its rows."""
    data = one(body, "data")
    if isinstance(data, str) and data.startswith("@"):
        data = {"set": sets.get(f"{read.where} {data[1:]}", {}).get("elem", [])}
    rows = data.get("set", []) if isinstance(data, Mapping) else []
    out = []
    for row in rows:
        if not isinstance(row, list) or len(row) != 2:
            out.append(Rule(read.sources, read.where, dict(read.found), True, "other"))
            continue
        each = Rule(read.sources, read.where, dict(read.found), read.opaque)
        _match(each, one(body, "key"), row[0], "==")
        for word, verdict in row[1].items() if isinstance(row[1], Mapping) else ():
            _expression(each, str(word), verdict)
        out.append(each)
    return out or [Rule(read.sources, read.where, dict(read.found), True, "other")]


def _expression(read: Rule, word: str, body: Tree) -> None:
    """Take one expression in."""
    if word in _ENDS:
        read.action = _ENDS[word]
        read.resets = one(body, "type") == "tcp reset"
    elif word in ("jump", "goto"):
        read.action, read.target = word, f"{read.where} {one(body, 'target')}"
    elif word == "match" and isinstance(body, Mapping):
        _match(read, body.get("left"), body.get("right"), str(body.get("op")))
    elif word == "limit":
        read.opaque = True
    elif word not in _SILENT:
        read.opaque = True
        read.action = (
            "other"
            if word in ("queue", "notrack", "redirect", "dnat", "snat", "tproxy", "dup", "fwd", "synproxy", "xt")
            else read.action
        )


def _match(read: Rule, left: Tree, right: Tree, op: str) -> None:
    if op not in ("==", "in", "!="):
        read.opaque = True
        return
    known = (
        _payload(read, left, right, op == "!=")
        if isinstance(one(left, "payload/field"), str)
        else _meta(read, left, right, op == "!=")
    )
    if not known:
        read.opaque = True


def _payload(read: Rule, left: Tree, right: Tree, negated: bool) -> bool:
    name, protocol = str(one(left, "payload/field")), str(one(left, "payload/protocol"))
    if name in ("saddr", "daddr") and protocol in ("ip", "ip6"):
        family = FAMILIES[protocol]
        read.sources = read.sources & family
        if name == "saddr" and isinstance(right, str) and right.startswith("@"):
            return read.take({"named": f"{read.where} {right[1:]}", "not_named": negated})
        members = _addresses(right)
        if members is None:
            return False
        chosen = family - members if negated else members
        if name == "saddr":
            read.sources = read.sources & chosen
            return True
        return read.take({"destinations": chosen})
    if name == "dport" and not negated:
        ports = _ports(right)
        transport = {} if protocol == "th" else {"transport": protocol}
        same = not transport or read.found.get("transport", protocol) == protocol
        read.found.update(transport if same else {})
        return ports is not None and same and read.take({"ports": ports})
    if name == "protocol" and protocol == "ip" and not negated:
        return _protocol(read, right)
    if name == "type" and protocol == "icmpv6" and not negated:
        return read.take_kinds({*_flat(right)})
    return False


def _meta(read: Rule, left: Tree, right: Tree, negated: bool) -> bool:
    word = one(left, "meta/key")
    if word in ("iifname", "iif"):
        one_name = isinstance(right, str) and right[:1] != "@" and "*" not in right
        return not negated and one_name and read.take({"socket": right})
    if word in ("l4proto", "protocol", "nfproto") and not negated:
        return _protocol(read, right)
    if one(left, "ct/key") == "state":
        # a login begins as a new connection, and all that follows is of an established one
        states = {state for state in ("new", "established") if (state in _flat(right)) != negated}
        if len(states) == 1:
            return read.take({"state": states.pop()})
        read.sources = read.sources if states else NOBODY
        return True
    return False


def _protocol(read: Rule, right: Tree) -> bool:
    names = set(_flat(right))
    families = {"ip": FOUR, "ipv4": FOUR, "ip6": SIX, "ipv6": SIX}
    if names and names <= families.keys():
        chosen = NOBODY
        for name in names:
            chosen = chosen | families[name]
        read.sources = read.sources & chosen
        return True
    if len(names) == 1:
        return read.take({"transport": {"ipv6-icmp": "icmpv6"}.get(name := names.pop(), name)})
    if names and not names & {"tcp", "udp"}:
        return read.take({"transport": ",".join(sorted(names))})
    return names >= {"tcp", "udp"}


def _flat(node: Tree) -> list[str]:
    return [str(x) for entry in _entries(node) for x in (entry if isinstance(entry, list) else [entry])]


def _addresses(node: Tree) -> AddressSet | None:
    texts = []
    for raw in _entries(node):
        entry = one(raw, "elem/val") if isinstance(raw, Mapping) and "elem" in raw else raw
        if isinstance(entry, str):
            texts.append(entry)
        elif isinstance(prefix := one(entry, "prefix"), Mapping):
            texts.append(f"{prefix.get('addr')}/{prefix.get('len')}")
        elif isinstance(span := one(entry, "range"), list) and len(span) == 2:
            texts.append(f"{span[0]}-{span[1]}")
        else:
            return None
    try:
        return AddressSet.of(*texts)
    except ValueError:
        return None


def _ports(node: Tree) -> tuple[str, ...] | None:
    out = []
    for raw in _entries(node):
        entry = one(raw, "elem/val") if isinstance(raw, Mapping) and "elem" in raw else raw
        if isinstance(entry, int):
            out.append(str(entry))
        elif isinstance(span := one(entry, "range"), list) and len(span) == 2:
            out.append(f"{span[0]}-{span[1]}")
        else:
            return None
    return tuple(sorted(out))


def _entries(node: Tree) -> list[Tree]:
    inner = node.get("set") if isinstance(node, Mapping) and "set" in node else node
    return list(inner) if isinstance(inner, list) else [inner]


_RESET = re.compile(r"\[ reject type 1 ")
_FAMILY = re.compile(r"meta load nfproto => reg (\d+) \] \[ cmp eq reg \1 0x0*([2a]) \]")


def decode_families(reply: str, key: str = "") -> Decoded:
    """The section `filter-families`: for which address family a rule that resets is, from its instructions."""
    seen, strange = tagged(reply, "rule")
    facts: Pairs = []
    for line in seen.get("rule", []):
        head, _, body = line.partition(" [ ")
        words = head.split()
        if len(words) < 4 or words[0] != "inet" or words[1] == OURS or not _RESET.search(f"[ {body}"):
            continue
        found = {{"2": "4", "a": "6"}[match[2]] for match in _FAMILY.finditer(f"[ {body}")}
        # compared otherwise than by being one of them, it is not known
        if "nfproto" in body and not found:
            continue
        facts.append(((RULES, f"inet {words[1]} {words[3]}", "families"), tuple(sorted(found)) or ("4", "6")))
    return Decoded(tuple(facts), strange)


DECODERS = (
    Decoder(
        "nftables",
        "libnftables-json(5)",
        of_tree(decode_ruleset),
        FEEDS,
        WHOLE,
    ),
    Decoder("filter-families", "nft(8)", of_text(decode_families), frozenset({(RULES, "*", "families")})),
)
