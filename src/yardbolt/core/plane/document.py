"""The JSON form of a plane (RFC 8259): a missing key was not read, null was read and is not set; and its JSON
Schema."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from ..addresses import ANYONE, AddressSet
from ..secret import Ref
from .edit import Draft
from .kinds import ABSENT, Leaf
from .leaves import Plane
from .path import Path, parse
from .table import ROOT, Branch

Tree = Mapping[str, Any]
# What records made before say, and what it is called now.
RENAMED: Mapping[Path, str] = {
    ("input_filter",): "packet_filter", ("input_chains",): "filter_stages", ("input_rules",): "filter_rules",
    ("address_lists",): "named_addresses", ("interface_groups",): "socket_groups", ("bundles",): "entry_lists",
    ("console_lines",): "consoles", ("interfaces", "*", "bundle"): "entry_list",
    ("packet_filter", "empty_list"): "empty_names", ("filter_rules", "*", "chain"): "stage",
    ("filter_rules", "*", "action"): "verdict", ("filter_rules", "*", "target"): "leads_to",
    ("filter_rules", "*", "list"): "named", ("filter_rules", "*", "list_negated"): "not_named",
    ("filter_rules", "*", "group"): "socket", ("filter_rules", "*", "comment"): "note",
}  # fmt: skip
VERDICTS = {"accept": "pass", "drop": "block"}


def spell(value: Any) -> Any:
    """A value as JSON writes it."""
    if value is ABSENT:
        return None
    if isinstance(value, AddressSet):
        return "anyone" if value == ANYONE else list(value.texts())
    if isinstance(value, Ref):
        return value.entry
    if isinstance(value, float):
        return "never" if math.isinf(value) else value
    return list(value) if isinstance(value, tuple) else value


def to_tree(plane: Plane) -> dict[str, Any]:
    """The plane as a JSON object; `from_tree` is its inverse."""
    return _written(plane, ROOT)


def _written(node: Any, branch: Branch) -> dict[str, Any]:
    out: dict[str, Any] = {}
    for name, below in branch.under.items():
        value = getattr(node, name)
        if isinstance(below, Leaf):
            if value is not None:
                out[name] = spell(value)
        elif isinstance(below, Branch):
            if inner := _written(value, below):
                out[name] = inner
        # an empty list that was read whole says something; one that was not read says nothing
        elif value.by_key or value.complete:
            items = {one.key: _written(one, below.item) for one in value}
            out[name] = {"complete": value.complete, "items": items}
    return out


def from_tree(tree: Tree) -> Plane:
    """The plane a JSON object stands for. Raises KeyError or ValueError on what the table does not know."""
    draft = Draft()
    _read(draft, tree, ROOT, ())
    return draft.freeze()


def recorded(text: str) -> Path:
    """The path a record names, by the names of today. Raises ValueError as `parse` does."""
    path: Path = ()
    for called in parse(text):
        path = _below(path, called)
    return path


def meant_by(path: Path, raw: Any) -> Any:
    """The value a record gives a path, by the words of today; null stands for not set."""
    verdict = path[-1] == "verdict" or (path[-1] == "default" and path[0] in ("packet_filter", "filter_stages"))
    return ABSENT if raw is None else VERDICTS.get(raw, raw) if verdict else raw


def _below(at: Path, called: str) -> Path:
    pattern = (at[0], "*", *at[2:]) if len(at) > 1 and at[0] in ("filter_rules", "interfaces") else at
    return (*at, RENAMED.get((*pattern, called), called))


def _read(draft: Draft, tree: Tree, branch: Branch, at: Path) -> None:
    for called, value in tree.items():
        path = _below(at, called)
        below = branch.under[path[-1]]
        if isinstance(below, Leaf):
            draft.put(path, meant_by(path, value))
        elif isinstance(below, Branch):
            _read(draft, value, below, path)
        else:
            for key, row in value["items"].items():
                draft.make((*path, key))
                _read(draft, row, below.item, (*path, key))
            draft.whole(path, bool(value["complete"]))


_JSON_TYPES: Mapping[str, Any] = {
    "text": {"type": ["string", "null"]},
    "program": {"type": ["string", "null"]},
    "number": {"type": ["integer", "null"]},
    "seconds": {"anyOf": [{"type": ["number", "null"]}, {"const": "never"}]},
    "flag": {"type": ["boolean", "null"]},
    "sources": {"anyOf": [{"type": "array", "items": {"type": "string"}}, {"enum": ["anyone", None]}]},
    "wordset": {"anyOf": [{"type": "array", "items": {"type": "string"}}, {"type": "null"}]},
    "interface_addresses": {"anyOf": [{"type": "array", "items": {"type": "string"}}, {"type": "null"}]},
    "reference": {"type": ["string", "null"]},
    "nameset": {"type": ["array", "null"], "items": {"type": "string"}},
    "doubt_set": {"type": ["array", "null"], "items": {"type": "string"}},
}


def schema(branch: Branch = ROOT) -> dict[str, Any]:
    """The JSON Schema (2020-12) of the JSON form, from the same table."""
    under: dict[str, Any] = {}
    for name, below in branch.under.items():
        if isinstance(below, Leaf):
            under[name] = {**_JSON_TYPES[below.kind.__name__], "description": below.meaning}
        elif isinstance(below, Branch):
            under[name] = schema(below)
        else:
            items = {"type": "object", "additionalProperties": schema(below.item)}
            listed = {"complete": {"type": "boolean"}, "items": items}
            under[name] = {"type": "object", "properties": listed, "required": ["complete", "items"]}
    return {"type": "object", "properties": under, "additionalProperties": False}
