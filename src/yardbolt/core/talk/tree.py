"""Trees: what JSON, XML, HTML and SNMP replies become before core sees them, and picking from them by path.

A tree is a mapping, a list, a text, or nothing. A path is written `a/b/*/c`: names step into mappings, `*` into every
item of a list, a number into that item of it (0 is the first), `.` is the node itself, `#` the key or place of the
item a walk stands on. A list of one is passed through, because XML cannot tell one from many."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

Tree = Any  # mapping of text to Tree, sequence of Tree, text, bool, number or None
Keys = tuple[str, ...]
DEEPEST = 64


def pick(tree: Tree, path: str) -> Iterator[tuple[Keys, Tree]]:
    """Every node a path leads to, with the keys taken at each `*`. What is not there yields nothing; nothing is
    raised."""
    yield from _pick(tree, tuple(path.split("/")) if path else (), ())


def _pick(node: Tree, steps: tuple[str, ...], keys: Keys) -> Iterator[tuple[Keys, Tree]]:
    if not steps:
        yield keys, node
        return
    first, rest = steps[0], steps[1:]
    if first == ".":
        yield from _pick(node, rest, keys)
    elif first == "#":
        yield from _pick(keys[-1] if keys else None, rest, keys)
    elif first == "*":
        for key, child in _children(node):
            yield from _pick(child, rest, (*keys, key))
    elif isinstance(node, Mapping):
        if first in node:
            yield from _pick(node[first], rest, keys)
    elif isinstance(node, Sequence) and not isinstance(node, str) and first.isdecimal():
        yield from _pick(node[int(first)], rest, keys) if int(first) < len(node) else ()
    elif isinstance(node, Sequence) and not isinstance(node, str) and len(node) == 1:
        yield from _pick(node[0], steps, keys)


def _children(node: Tree) -> Iterator[tuple[str, Tree]]:
    if isinstance(node, Mapping):
        yield from ((str(key), child) for key, child in node.items())
    elif isinstance(node, Sequence) and not isinstance(node, str):
        yield from ((str(place), child) for place, child in enumerate(node))
    elif node is not None:
        yield "0", node  # one where many were meant


MISSING: Any = object()


@dataclass(frozen=True)
class Sort:
    """In the place of a value: what sort of thing stands there, and which it is now."""

    sort: str
    now: str = ""


CALLED = "{key}"  # the slot of the key in what an item is called


@dataclass(frozen=True)
class Items:
    """Where the items of a list stand in a tree; at which place each says what it is called (`#`: the key or place in
    the tree), and around what its key stands there; and what the unit allots to it (handle -> place in the item).
    Where the `beside` places say it together with that one, it is called by all of them."""

    at: str = ""
    key: str = ""
    called: str = CALLED
    handles: Mapping[str, str] = field(default_factory=dict)
    beside: tuple[str, ...] = ()

    def told(self, keys: Keys, item: Tree) -> str | None:
        """What an item is called; None where it does not say."""
        if self.key == "#":
            return keys[-1] if keys else None
        texts = self.texts(item)
        return None if texts is None else "/".join(texts)

    def texts(self, item: Tree) -> tuple[str, ...] | None:
        """What it says of itself, place by place; None where one of them says nothing."""
        texts = [as_text(one(item, at)) for at in (self.key, *self.beside)]
        return None if None in texts else tuple(text for text in texts if text is not None)

    def key_in(self, told: str | None) -> str | None:
        """The key in what an item is called; None where it is called otherwise."""
        before, _, after = self.called.partition(CALLED)
        if told is None or not (told.startswith(before) and told.endswith(after)):
            return None
        return told[len(before) : len(told) - len(after)] or None

    def item(self, tree: Tree, key: str) -> Tree:
        """The item of a key; MISSING where it is not there."""
        return next((item for keys, item in pick(tree, self.at) if self.key_in(self.told(keys, item)) == key), MISSING)


def to_fill(item: Tree, at: str) -> bool:
    """Is it a line of a table that is there to be filled in: with a field at this place, and nothing in it?"""
    fields = item.get("fields") if isinstance(item, Mapping) else None
    return isinstance(fields, Mapping) and at in fields and as_text(item.get(at)) == ""


def one(tree: Tree, path: str) -> Tree:
    """The one node a path leads to; `MISSING` where there is none or more than one. None is a node: the reply said
    null."""
    found = [node for _, node in pick(tree, path)]
    return found[0] if len(found) == 1 else MISSING


def every(tree: Tree, path: str) -> list[Tree]:
    """All nodes a path leads to, in order; `MISSING` where one of those it passes has not what the path names, so
    that there may be more of them than are seen."""
    nodes: list[Tree] = [tree]
    for step in path.split("/") if path else ():
        inside = [one(node, step) if step != "*" else _inside(node) for node in nodes]
        if any(node is MISSING for node in inside):
            return MISSING  # type: ignore[no-any-return]
        nodes = [child for node in inside for child in node] if step == "*" else inside
    return nodes


def _inside(node: Tree) -> Tree:
    return MISSING if node is None else [child for _, child in _children(node)]


def places(tree: Tree, at: str = "") -> Iterator[tuple[str, Tree]]:
    """Every place of a tree that holds a value, with that; of a list of alike items those of all of them as one."""
    if isinstance(tree, Mapping):
        for name, child in tree.items():
            yield from places(child, f"{at}/{name}".lstrip("/"))
    elif isinstance(tree, Sequence) and not isinstance(tree, str):
        alike = [child for child in tree if isinstance(child, Mapping)]
        if alike and len(alike) == len(tree):
            merged: dict[str, Any] = {}
            for child in alike:
                merged = {**child, **{name: held for name, held in merged.items() if held not in ("", None, [], {})}}
            yield f"{at}/*".lstrip("/"), Sort(f"{len(tree)} item{'s' if len(tree) > 1 else ''}")
            yield from places(merged, f"{at}/*".lstrip("/"))
        elif any(isinstance(child, Mapping | list) for child in tree):
            yield from places(tree[0], f"{at}/*".lstrip("/"))
        else:
            yield f"{at}/*".lstrip("/"), list(tree)
    else:
        yield at or ".", tree


def depth(tree: Tree, limit: int = DEEPEST) -> int:
    """How deep a tree is, counted no further than `limit`; walked without recursion, for the tree may be hostile."""
    # recursion would end in a RecursionError just where depth matters
    level: list[Tree] = [tree]
    for count in range(limit):
        level = [child for node in level for _, child in _children(node) if isinstance(node, Mapping | list | tuple)]
        if not level:
            return count
    return limit


def as_text(node: Tree) -> str | None:
    """A node as the text of a field; None where it is no single value. JSON's true and false become yes and no."""
    if isinstance(node, bool):
        return "yes" if node else "no"
    if isinstance(node, int | float):
        return str(node)
    return node if isinstance(node, str) else None
