"""Members of the objects that are sent: made from slots and words, in the type that stands there, put at their
places. Pure."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from ...secret import Text
from ..conversation import BOUND, Fill
from ..patterns import fill_in
from ..tree import MISSING, Tree, one

LITERALS: Mapping[str, Any] = {"(yes)": True, "(no)": False, "(null)": None, "(list)": []}
NUMBER, FLAG = "(number ", "(flag "
MASKS = "*\u2022\u25cf\u00b7"  # the signs that fields show in the place of a password


@dataclass(frozen=True)
class Kept:
    """A place that the wire fills with something it kept of this session."""

    name: str


Member = Any  # a JSON value whose texts may be a Text (of strings and slots), a Kept or a Signed


def literal(text: str) -> Member:
    """A member as written: a text, or one of the words that stand for something else. Raises ValueError."""
    if text.startswith(FLAG) and text.endswith(")"):
        text = f"({text[len(FLAG) : -1]})"
        if text not in ("(yes)", "(no)"):
            raise ValueError(f"'{text[1:-1]}' is neither yes nor no")
    if text.startswith(NUMBER) and text.endswith(")"):
        return _number(text[len(NUMBER) : -1])
    return LITERALS.get(text, (text,))


def from_slots(template: str, fill: Fill) -> Member:
    """A member made from slots: a text whatever it says, where the template does not say otherwise."""
    text = fill_in(template, fill)
    plain = [part for part in text if isinstance(part, str)]
    return literal("".join(plain)) if template.startswith((NUMBER, FLAG)) and len(plain) == len(text) else text


def _number(plain: str) -> int | float:
    try:
        return int(plain)
    except ValueError:
        found = float(plain)
        if not math.isfinite(found):
            raise ValueError(f"'{plain}' is not a number") from None
        return found


def bound_in(fill: Fill, found: Tree) -> dict[str, Member]:
    """The members that are changed, each in the type that stands there. Raises ValueError where that is not known, or
    the value does not suit."""
    changed = {name[len(BOUND) :]: text for name, text in fill.items() if name.startswith(BOUND)}
    return {name: typed(name, text, _standing(found, name, text, changed)) for name, text in changed.items()}


def _standing(found: Tree, name: str, text: Text, changed: Mapping[str, Text]) -> Tree:
    """What stands at a place; at one of rows that are all written again, what the first one has, or else what a
    number or a text is."""
    there = one(found, name)
    rows = next((base for base in changed if name.startswith(f"{base}/")), "")
    if there is not MISSING or not rows:
        return there
    _, _, place = name[len(rows) + 1 :].partition("/")
    first = one(found, f"{rows}/0/{place}")
    return first if first is not MISSING else 0 if len(text) == 1 and str(text[0]).isdecimal() else ""


def typed(name: str, text: Text, there: Tree) -> Member:
    """A value as what stood there is: a number stays one, and so do a flag, a list and a null."""
    if there is MISSING:
        raise ValueError(f"{name} is not there, so of what kind it is is not known")
    if not text:
        return [] if isinstance(there, list) else None if there is None or isinstance(there, Mapping) else ("",)
    if any(not isinstance(part, str) for part in text):
        return text
    plain = "".join(part for part in text if isinstance(part, str))
    if isinstance(there, bool):
        if plain not in ("yes", "no"):
            raise ValueError(f"{name} is a flag there, and '{plain}' is none")
        return plain == "yes"
    if isinstance(there, int | float):
        try:
            return _number(plain)
        except ValueError:
            raise ValueError(f"{name} is a number there, and '{plain}' is none") from None
    if isinstance(there, list):
        return [(each.strip(),) for each in plain.split(",")]
    return (plain,)


def copied(node: Tree) -> Any:
    if isinstance(node, Mapping):
        return {name: copied(child) for name, child in node.items()}
    return [copied(child) for child in node] if isinstance(node, list) else (node,) if isinstance(node, str) else node


def leave_out(whole: Any, without: tuple[str, ...], members: Mapping[str, Member]) -> None:
    """Leave out of an object that was read what is not sent back. Raises ValueError where signs that stand for a
    password would go back, and be one."""
    for name in without:
        *path, last = name.split("/")
        if isinstance(above := one(whole, "/".join(path) or "."), dict):
            above.pop(last, None)
    masked = (place for place, text in _texts(whole) if len(text) >= 3 and len({*text}) == 1 and text[0] in MASKS)
    if name := next((place for place in masked if place not in members), ""):
        raise ValueError(f"{name} shows signs in the place of a password; name it under without, or fill it")


def _texts(node: Any, at: str = "") -> Iterator[tuple[str, str]]:
    """The texts of a copied object, each with its place."""
    if isinstance(node, tuple):
        yield at, node[0]
    children = node.items() if isinstance(node, dict) else enumerate(node) if isinstance(node, list) else ()
    for name, child in children:
        yield from _texts(child, f"{at}/{name}".lstrip("/"))


def nested(flat: Mapping[str, Member]) -> dict[str, Member]:
    out: dict[str, Any] = {}
    for name, member in flat.items():
        put_at(out, name, member)
    return out


def put_at(into: Any, where: str, member: Member) -> None:
    """Put a member at its place. What does not stand yet is made: a list where its first item, 0, is put there."""
    *path, last = where.split("/")
    for step, after in zip(path, [*path, last][1:], strict=True):
        below = _at(into, step)
        if not isinstance(below, dict | list):
            below = [] if after == "0" else {}
            _set(into, step, below)
        into = below
    _set(into, last, member)


def _at(into: Any, step: str) -> Any:
    if isinstance(into, list):
        return into[int(step)] if step.isdecimal() and int(step) < len(into) else None
    return into.get(step)


def _set(into: Any, step: str, member: Member) -> None:
    if not isinstance(into, list):
        into[step] = member
    elif step.isdecimal() and int(step) < len(into):
        into[int(step)] = member
    else:
        into.append(member)
