"""What a family file says once, written out for every ask and op: the tree of a file before it is checked.

`every` holds what all asks, or all ops, say. `like` takes what another op says, but for what it changes. `set` as a
table gives each path the words that stand for `{word}` in the rest of its op. `stores` of an ask gives each store the
words that stand for `{store}`. Every part that is written out keeps the place it came from, so that a complaint names
the line the author wrote. What cannot be written out is left as it is, and refused by the checks that follow.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..talk.conversation import Keys
from .model import LIVE

Tree = dict[str, Any]
WORD, STORE = "{word}", "{store}"
CHANGES = {"set", "make", "drop", "does"}
ALONE = CHANGES - {"set"}  # what no table of settings goes with


def unfolded(tree: Tree) -> tuple[Tree, Callable[[Keys], Keys]]:
    """The tree with everything written out, and where the author wrote what now stands under given keys."""
    came: dict[Keys, Keys] = {}
    every = tree.get("every", {})
    asks = _with(tree.get("asks", {}), every.get("asks", {}))
    ops = _like(_with(tree.get("ops", {}), every.get("ops", {})))
    written = {**tree, "asks": _asks(asks, came), "ops": _ops(ops, asks, came)}
    written.pop("every", None)

    def wrote(keys: Keys) -> Keys:
        lengths = range(len(keys), 0, -1)
        length = next((length for length in lengths if keys[:length] in came), 0)
        return (*came[keys[:length]], *keys[length:]) if length else keys

    return written, wrote


def _with(part: Tree, every: Tree) -> Tree:
    return {name: {**every, **one} if isinstance(one, dict) else one for name, one in part.items()}


def _like(ops: Tree) -> Tree:
    """What an op says like another one. One that is like an op which is itself like another stays as it is."""
    out: Tree = {}
    for name, one in ops.items():
        other = ops.get(one["like"]) if isinstance(one, dict) and isinstance(one.get("like"), str) else None
        if isinstance(other, dict) and "like" not in other:
            own = {key: value for key, value in one.items() if key != "like"}
            one = {**{key: value for key, value in other.items() if key not in CHANGES}, **own}
        out[name] = one
    return out


def _asks(asks: Tree, came: dict[Keys, Keys]) -> Tree:
    out: Tree = {}
    for name, one in asks.items():
        stores = _stores_of(asks, name)
        rest = {key: value for key, value in one.items() if key != "stores"} if stores else {}
        taken = [new for new in (_in_store(asks, name, store) for store in stores) if new != name and new in asks]
        if not stores or taken or STORE not in str(rest):
            out[name] = one
            continue
        for store, word in stores.items():
            new = _in_store(asks, name, store)
            out[new] = {**_put(rest, STORE, str(word)), "store": store}
            if "on" in rest:
                out[new]["on"] = _in_store(asks, rest["on"], store)
            came["asks", new] = ("asks", name)
            came["asks", new, "store"] = ("asks", name, "stores", store)
    return out


def _stores_of(asks: Tree, name: Any) -> Tree:
    one = asks.get(name) if isinstance(name, str) else None
    stores = one.get("stores") if isinstance(one, dict) else None
    return stores if isinstance(stores, dict) else {}


def _in_store(asks: Tree, name: Any, store: str) -> Any:
    """The name of an ask of one store, where it asks several: of the first, its own."""
    return f"{name}.{store}" if store in list(_stores_of(asks, name))[1:] else name


def _ops(ops: Tree, asks: Tree, came: dict[Keys, Keys]) -> Tree:
    out: Tree = {}
    for name, one in ops.items():
        if not isinstance(one, dict):
            out[name] = one
            continue
        writes = one.get("writes", [LIVE])
        if isinstance(writes, list) and writes and "on" in one:
            one = {**one, "on": _in_store(asks, one["on"], str(writes[0]))}
        if not isinstance(one.get("set"), dict) or not one["set"] or not ALONE.isdisjoint(one):
            out[name] = one
            continue
        rest = {key: value for key, value in one.items() if key != "set"}
        for path, word in one["set"].items():
            new = f"{name} {path}"
            out[new] = {**_put(rest, WORD, str(word)), "set": [path]}
            came["ops", new] = ("ops", name)
            # what a path's words stand in is as wrong as they are
            worded = ["set", *(key for key, value in rest.items() if WORD in str(value))]
            came |= {("ops", new, key): ("ops", name, "set", path) for key in worded}
    return out


def _put(node: Any, sign: str, word: str) -> Any:
    """The same with a word in the place of a sign, wherever it stands in a text."""
    if isinstance(node, str):
        return node.replace(sign, word)
    if isinstance(node, dict):
        return {key: _put(value, sign, word) for key, value in node.items()}
    return [_put(value, sign, word) for value in node] if isinstance(node, list) else node
