"""The packet filter of Linux as `nft --json list ruleset` prints it (libnftables-json(5)): what may reach the host
itself.

Only base chains on the input hook count. An expression not known here leaves the action of its rule unread, so that no
verdict rests on it; rules of another mechanism are not seen here at all, so an empty ruleset says nothing.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ..addresses import NOBODY, AddressSet
from ..plane.kinds import ABSENT
from ..talk.tree import Tree, as_text, one, pick
from .decoder import Decoded, Decoder, Pairs, of_tree

_RULES, _LISTS = ("input_rules",), ("address_lists",)
_VERDICTS = ("accept", "drop", "reject")


def decode_ruleset(tree: Tree) -> Decoded:
    """Rules of the input hook in order, their named sets, and the policy where there is one input chain."""
    entries = [node for _, node in pick(tree, "nftables/*") if isinstance(node, Mapping)]
    chains = [c for _, c in pick(entries, "*/chain") if isinstance(c, Mapping) and c.get("hook") == "input"]
    if not entries or not chains:
        return Decoded((), ("no chain looks at what reaches the host; rules of another kind would not be seen here",))
    facts: Pairs = []
    names = {(str(c.get("family")), str(c.get("table")), str(c.get("name"))) for c in chains}
    if len(chains) == 1:
        facts.append((("input_filter", "default"), str(chains[0].get("policy", "accept"))))
    facts.append((("input_filter", "empty_list"), "nobody"))
    rules = [r for _, r in pick(entries, "*/rule") if isinstance(r, Mapping)]
    mine = [r for r in rules if (str(r.get("family")), str(r.get("table")), str(r.get("chain"))) in names]
    for place, rule in enumerate(mine, 1):
        path = (*_RULES, f"{rule.get('family')} {rule.get('table')} {rule.get('handle')}")
        facts += [(path, True), ((*path, "position"), place if len(chains) == 1 else None), *_rule(path, rule)]
    for listed in (s for _, s in pick(entries, "*/set") if isinstance(s, Mapping)):
        members = _addresses(listed.get("elem", []))
        path = (*_LISTS, str(listed.get("name")))
        facts += [(path, True), ((*path, "members"), members)]
    return Decoded(tuple((path, value) for path, value in facts if value is not None))


def _rule(path: tuple[str, ...], rule: Mapping[str, Any]) -> Pairs:
    """The leaves of one rule. What is not understood leaves its action unread."""
    found: dict[str, Any] = {}
    known = True
    for _, expr in pick(rule, "expr/*"):
        known = isinstance(expr, Mapping) and len(expr) == 1 and _expression(dict(expr), found) and known
    if not known:
        found.pop("action", None)
    matched = {"sources", "list", "ports", "transport", "group", "list_negated"}
    unset = [((*path, leaf), ABSENT) for leaf in sorted(matched - found.keys())] if known else []
    comment = as_text(rule.get("comment"))
    told = [((*path, "comment"), comment)] if comment else []
    return [*(((*path, leaf), value) for leaf, value in found.items()), *unset, *told, ((*path, "enabled"), True)]


def _expression(expr: dict[str, Any], found: dict[str, Any]) -> bool:
    """Take one expression in; False where it is not known, or would say a second thing of the same kind."""
    word, body = next(iter(expr.items()))
    if word in _VERDICTS:
        found["action"] = "accept" if word == "accept" else "drop"
        return True
    if word in ("counter", "log"):
        return True
    if word != "match" or not isinstance(body, Mapping) or body.get("op") not in ("==", "in", "!="):
        return False
    return _match(body.get("left"), body.get("right"), str(body.get("op")), found)


def _match(left: Tree, right: Tree, op: str, found: dict[str, Any]) -> bool:
    field = one(left, "payload/field")
    values: dict[str, Any] = {}
    if field == "saddr" and isinstance(right, str) and right.startswith("@"):
        values = {"list": right[1:], "list_negated": op == "!="}
    elif field == "saddr" and op != "!=":
        members = _addresses(right)
        values = {} if members is None else {"sources": members}
    elif field == "dport" and op != "!=":
        ports = _ports(right)
        values = {} if ports is None else {"ports": ports, "transport": one(left, "payload/protocol")}
    elif one(left, "meta/key") in ("iifname", "iif") and op != "!=" and isinstance(right, str):
        values = {"group": right}
    elif one(left, "ct/key") == "state" and op != "!=":
        states = right if isinstance(right, list) else [one(right, "set") if isinstance(right, Mapping) else right]
        flat = [s for state in states for s in (state if isinstance(state, list) else [state])]
        # a rule for connections that stand already decides nothing about a new login
        values = {"sources": NOBODY} if flat and set(flat) <= {"established", "related"} else {}
    if not values or values.keys() & found.keys():
        return False
    found.update(values)
    return True


def _addresses(node: Tree) -> AddressSet | None:
    texts = []
    for entry in _entries(node):
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
    for entry in _entries(node):
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


_LEAVES = ("position", "action", "enabled", "sources", "list", "list_negated", "group", "transport", "ports", "comment")
_FEEDS = {(*_RULES, "*", leaf) for leaf in _LEAVES} | {
    (*_LISTS, "*"),
    (*_LISTS, "*", "members"),
    (*_RULES, "*"),
    _RULES,
}
DECODERS = (
    Decoder(
        "nftables",
        "libnftables-json(5)",
        of_tree(decode_ruleset),
        frozenset(_FEEDS | {("input_filter", "default"), ("input_filter", "empty_list")}),
        (_RULES,),
    ),
)
