"""Changes to messages, and what a message will bring about: which op, how it is filled, what the stores are after
it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from ipaddress import ip_address, ip_network
from typing import Any

from ..addresses import ANYONE, NOBODY
from ..plane.change import Change, Drop, Make, Rename, Reorder, Set, apply
from ..plane.edit import Draft, get
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane
from ..plane.path import Path, filled, fits, parse, show
from ..plane.table import LISTS, coerce, holds_secret, item_of, pattern_of
from ..plane.words import human
from ..secret import PUBLIC, Ref, Slot, Text
from ..talk.conversation import ADDED, ANSWER, BOUND, TAKEN, Order
from ..talk.patterns import fill_in, slot_key, slots
from ..talk.rowsets import COLUMNS
from .binding import Place
from .model import Family, Op
from .reading import asks_for
from .spelling import CODECS, SPREADS, exactly, in_rows, meant, parted, spelled, spelled_by, spelling_of

LONGEST_LINE = 400
MOST_LINES, LONGEST_THING = 64, 120  # of a set that is written a line each
KEYS = "keys"  # the notation of public keys themselves
A_MOMENT = "2000-01-01T00:00:00+00:00"  # stands for the laptop's time while rehearsing


@dataclass(frozen=True)
class Filling:
    """Everything a slot of an op may be filled from."""

    family: Family
    op: Op
    change: Change
    values: Mapping[str, Any]
    key: str
    old: Ref | None
    now: str
    before: Plane


def op_for(family: Family, change: Change) -> Op | None:
    """The op that carries out a change, the most specific first."""
    found = [
        (pattern.count("*"), op)
        for op in family.ops
        for pattern in _patterns(op, change)
        if fits(pattern, change.path) and _writes(op, change)
    ]
    return min(found, key=lambda pair: pair[0])[1] if found else None


def _writes(op: Op, change: Change) -> bool:
    """Can it write this value (of a new account, give it this role)?"""
    if op.only and isinstance(change, Make):
        return dict(change.values).get("role") in (None, *op.only)
    if not op.only or not isinstance(change, Set):
        return True
    return change.value in [meant(change.path, word) for word in op.only]


def _patterns(op: Op, change: Change) -> tuple[Path, ...]:
    match change:
        case Make():
            return op.makes
        case Drop():
            return op.drops
        case Set() | Rename() | Reorder():
            return op.sets


def takes(op: Op) -> frozenset[str]:
    """The names of the slots of an op."""
    return frozenset(name for _, template in op.how.templates() for name, _ in slots(template))


# ---- the message ----------------------------------------------------------------------------------------------------


def render(family: Family, op: Op, change: Change, before: Plane, now: str = A_MOMENT) -> Order:
    """The order by which an op makes a change, rendered for the plane before it. `now` is the laptop's time (ISO
    8601), for ops that set a clock.

    Raises ValueError where the unit cannot be told so: a key that may not be put into a command, a value out of its
    reach."""
    inside = _item(family, op, change.path)
    key = inside[-1] if inside else ""
    if inside and not (family.is_token(key) or (_is_data(op, inside) and key.isprintable())):
        raise ValueError(f"{show(change.path)}: {key!r} may not be put into a command")
    values: dict[str, Any] = {}
    old: Ref | None = None
    if isinstance(change, Set):
        values = {"value": change.value, "secret": change.value}
        held = get(before, change.path) if holds_secret(change.path) else None
        old = held if isinstance(held, Ref) else None
    elif isinstance(change, Make):
        values = dict(change.values)
    told = family.their_key(change.path[0], key) if inside else ""
    filling = Filling(family, op, change, values, told, old, now, before)
    fill = _fill(filling)
    # one by one, each row takes its time
    rows = 2 + 2 * sum(name.startswith(BOUND) for name in fill) if op.how.rows() is not None else 1
    times = max(rows, sum(name.startswith((ADDED, TAKEN)) for name in fill))
    order = Order(op.how, fill, max(ANSWER, op.wait) * times, bool(op.renews))
    # a message that cannot be worded must be known at planning, not in mid-run
    family.ways[family.channels[op.by].talk].message(op.how, order.fill)
    return order


def _item(family: Family, op: Op, path: Path) -> Path | None:
    """The item a message is about: the row that holds the value, also of an item within that; or the innermost."""
    ask = next((one for one in family.asks if one.name == op.on), None)
    for row in ask.tree_rows if ask else ():
        if any(fits((*row.into, "*", *place.path), path) for place in row.leaves):
            return path[: len(row.into) + 1]
    return item_of(path)


def _is_data(op: Op, inside: Path) -> bool:
    """Does the key, the path of a file, reach the unit as data only?"""
    return inside[0] in ("jobs", "files") and op.how.as_data()


def _fill(filling: Filling) -> dict[str, Text]:
    fill: dict[str, Text] = {}
    for _, template in filling.op.how.templates():
        for name, notation in slots(template):
            if name in COLUMNS:
                continue  # which rows there are is seen when they are written
            text = _one(filling, name, notation)
            if text is not None:
                fill[slot_key(name, notation)] = text
    if (by_line := filling.op.how.lines()) is not None and isinstance(filling.change, Set):
        fill |= _by_line(filling, filling.change, *by_line)
    ask = next((a for a in filling.family.asks if a.name == filling.op.on), None)
    if ask is not None and isinstance(filling.change, Set):
        fill |= _bound(filling, filling.change)
    if ask is not None and filling.key:
        fill["key"] = (filling.key,)
    return fill


def _by_line(filling: Filling, change: Set, adds: str, takes: str) -> dict[str, Text]:
    """The lines that lead from the set that is there to the wanted one. Raises ValueError where it was not read, or no
    line can say it."""
    there = get(filling.before, change.path)
    if there is None:
        raise ValueError(f"{show(change.path)} was not read, so nothing says which lines lack")
    old, new = (_things(filling, change.path, value) for value in (there, change.value))
    if odd := next((one for one in old | new if not _is_safe(one)), ""):
        raise ValueError(f"{show(change.path)}: {odd!r} may not be put into a command")
    if len(old ^ new) > MOST_LINES:
        raise ValueError(f"{show(change.path)}: it would take {len(old ^ new)} lines, and {MOST_LINES} are the most")
    out: dict[str, Text] = {}
    for sign, template, things in ((ADDED, adds, new - old), (TAKEN, takes, old - new)):
        for thing in sorted(things):
            fill = {name: (text,) for name, text in _parts_of(thing).items()} | {"key": (filling.key,)}
            out[f"{sign}{thing}"] = fill_in(template, fill)
    return out


def _things(filling: Filling, path: Path, value: Any) -> frozenset[str]:
    """The things of a set, each as the unit writes it; none where that is what no lines mean."""
    own = spelling_of(filling.family, path)
    none = [meant(path, word) for word in (*own.words.values(), *([own.empty] if own.empty else []))]
    if value is ABSENT or (value in none and value in (ANYONE, NOBODY)):
        return frozenset()
    things = frozenset(each for (each,) in in_rows(filling.family, path, "", value))
    if value in (ANYONE, NOBODY) or not things:
        raise ValueError(f"{show(path)}: no line says '{human(path, value)}'")
    return things


def _is_safe(thing: str) -> bool:
    """May this thing of a set, which may come from a hostile unit, be put into a command?"""
    plain = all(c.isascii() and (c.isalnum() or c in "._:/[]- ") for c in thing)
    return plain and 0 < len(thing) <= LONGEST_THING and thing[0] != "-"


def _parts_of(thing: str) -> dict[str, str]:
    """What the slots of a line may hold of one thing: an address with its block, or words such as a place for logs."""
    found = {"value": thing}
    words = thing.split()
    if len(words) == 3:  # transport, address, port
        return found | {"address": words[1], "port": words[2]}
    address, colon, port = thing.rpartition(":")
    try:
        if colon and port.isdecimal() and (address.startswith("[") or ":" not in address):
            return found | {"address": str(ip_address(address.strip("[]"))), "port": port}
        net = ip_network(thing)
    except ValueError:
        return found
    return found | {"address": str(net.network_address), "mask": str(net.netmask), "prefix": str(net.prefixlen)}


def _said(op: Op) -> bool:
    """Does the op itself say where the value goes, and how it is written?"""
    return any(
        keys[:1] == ("fill",) and any(name == "value" for name, _ in slots(template))
        for keys, template in op.how.templates()
    )


def _bound(filling: Filling, change: Set) -> dict[str, Text]:
    """The change as the place of a tree that its ask reads it from."""
    ask = next(a for a in filling.family.asks if a.name == filling.op.on)
    rows = [(place, place.path) for place in ask.leaves]
    rows += [(place, (*row.into, "*", *place.path)) for row in ask.tree_rows for place in row.leaves]
    if _said(filling.op):
        return {}
    for place, pattern in rows:
        if not fits(pattern, change.path):
            continue
        if isinstance(change.value, Ref):
            return {f"{BOUND}{place.at}": (Slot(change.value),)}
        if place.joint is not None:
            return {f"{BOUND}{place.at}": (_joint_word(place, change, filling.before),)}
        if place.slots or place.each:
            none = place.empty is not None and meant(change.path, place.empty) == change.value
            told = () if none else in_rows(filling.family, change.path, place.codec, change.value)
            return _in_slots(place, change, told) if place.slots else _in_rows(place, change, told, none)
        if place.codec in SPREADS:
            words = [theirs for theirs, ours in place.words.items() if meant(change.path, ours) == change.value]
            value = coerce(change.path, words[0]) if words else change.value
            texts = parted(change.path, place.codec, value)
            return {f"{BOUND}{at}": (text,) for at, text in zip((place.at, *place.parts), texts, strict=True)}
        own = spelling_of(filling.family, change.path)
        if place.codec in CODECS and isinstance(change.value, float):
            exactly(change.path, place.codec, change.value)
        if place.words or place.join:
            own = type(own)(words=place.words, join=place.join)
        if place.empty is not None and meant(change.path, place.empty) == change.value:
            return {f"{BOUND}{place.at}": ()}
        text = spelled_by(own, change.path, change.value, place.codec)
        return {f"{BOUND}{place.at}": (text,) if text else ()}
    return {}


def _in_slots(place: Place, change: Set, told: tuple[tuple[str, ...], ...]) -> dict[str, Text]:
    """A set over fields that have room for so many; what is left over says that it is not in use. Raises ValueError
    where there are too few."""
    if len(told) > len(place.slots):
        raise ValueError(f"{show(change.path)}: this unit takes {len(place.slots)} of them, and there are {len(told)}")
    unused = ((place.unused,) * len(place.slots[0]),) * (len(place.slots) - len(told))
    pairs = [
        pair for slot, row in zip(place.slots, (*told, *unused), strict=True) for pair in zip(slot, row, strict=True)
    ]
    return {f"{BOUND}{at}": (text,) if text else () for at, text in pairs}


def _in_rows(place: Place, change: Set, told: tuple[tuple[str, ...], ...], none: bool) -> dict[str, Text]:
    """A set as rows, which take the place of those that are there. Raises ValueError where no rows would mean
    something else."""
    if not told and not none:
        raise ValueError(f"{show(change.path)}: no rows would mean something else here")
    base, ats = f"{BOUND}{place.each.removesuffix('*').removesuffix('/')}", (place.at, *place.parts)
    rows = {f"{base}/{n}/{at}": (text,) for n, row in enumerate(told) for at, text in zip(ats, row, strict=True)}
    return {base: (), **rows}


def _joint_word(place: Place, change: Set, before: Plane) -> str:
    """The word of a field that says something of several leaves. Raises ValueError where it has none for that."""
    assert place.joint is not None
    wanted = [change.value if path == place.path else get(before, path) for path in place.joint.of]
    for word, told in place.joint.words.items():
        if [meant(path, one) for path, one in zip(place.joint.of, told, strict=True)] == wanted:
            return word
    raise ValueError(f"{show(change.path)}: one field says this and more, and has no word for both together")


def _one(filling: Filling, name: str, notation: str) -> Text | None:
    """What fills one slot; None where nothing does, which only a question for the present secret may leave open."""
    if name == "key":
        return (filling.key,)
    if name == "now":
        return (filling.now,)
    if name == "old":
        return (Slot(filling.old),) if filling.old is not None else None
    value = filling.values.get(name)
    if notation == KEYS and isinstance(value, tuple):
        # which they are is said by their fingerprints; what they are, the job says
        slots_of = [(Slot(Ref(f"{PUBLIC}{one}")), ",") for one in value]
        return tuple(part for pair in slots_of for part in pair)[:-1]
    if isinstance(value, Ref):
        return (Slot(value, notation or "plain"),)
    path = filling.change.path if name == "value" else (*filling.change.path, name)
    text = spelled(filling.family, path, value, notation)
    longest = filling.op.longest or LONGEST_LINE
    if not text.isprintable() or len(text) > longest:
        raise ValueError(f"{show(path)}: {len(text)} characters, the unit takes {longest} printable ones on one line")
    return (text,) if text else ()


def plain_order(op: Op) -> Order:
    """The order of an op that stands alone: saving, activating, restarting."""
    return Order(op.how, {}, max(ANSWER, op.wait), bool(op.renews))


# ---- the forecast ---------------------------------------------------------------------------------------------------


def forecast(family: Family, op: Op, plane: Plane, change: Change) -> Plane:
    """The store that a change by this op leads to, with everything the family says it brings along. Raises KeyError
    on an item that is not there."""
    draft = Draft(apply(plane, change))
    base = change.path if isinstance(change, Make) else (item_of(change.path) or ())
    if isinstance(change, Make):
        for lacked in family.lacks:
            if len(lacked) == len(change.path) + 1 and fits(lacked[:-1], change.path):
                draft.put((*change.path, lacked[-1]), ABSENT)
        for name, value in change.values:
            draft.put((*change.path, name), value)
    for name, word in op.then if not isinstance(change, Drop) else ():
        if not (isinstance(change, Make) and name in dict(change.values)):
            path = (*base, *parse(name))
            # what it says of items within the item says that they are there
            if (inner := item_of(path)) is not None and inner != base:
                draft.make(inner)
            draft.put(path, meant(path, word))
    for path, value in beside(family, op, change):
        draft.put(path, value)
    if isinstance(change, Set) and pattern_of(change.path) == ("services", "*", "enabled") and change.value is False:
        # what the same program serves is gone with it
        served = get(plane, (*base, "together"))
        if isinstance(served, tuple):
            for name in [one for one in served if one in draft.keys(("services",))]:
                draft.drop(("services", name))
            draft.put((*base, "together"), ABSENT)
    for pattern, word in (*op.effects, *_by_value(op, change)):
        _effect(draft, filled(pattern, change.path), word)
    return draft.freeze()


def effects_of(family: Family, path: Path) -> frozenset[Path]:
    """Whatever may come with a change of this path, by any op and value of the family."""
    ops = [op for op in family.ops if any(fits(pattern, path) for pattern in (*op.sets, *op.makes, *op.drops))]
    brought = [pattern for op in ops for one in (op.effects, *op.by_value.values()) for pattern, _ in one]
    return frozenset(filled(pattern, path) for pattern in brought)


def beside(family: Family, op: Op, change: Change) -> Iterator[tuple[Path, Any]]:
    """What the same field says of other leaves: one list of sources for two ways in."""
    ask = next((one for one in family.asks if one.name == op.on), None)
    if ask is None or not isinstance(change, Set):
        return
    field = next((place.at for place in ask.leaves if place.path == change.path and place.joint is None), None)
    for place in ask.leaves:
        if (
            field
            and place.at == field
            and place.path != change.path
            and pattern_of(place.path) == pattern_of(change.path)
        ):
            yield place.path, change.value


def _by_value(op: Op, change: Change) -> tuple[tuple[Path, str], ...]:
    """What a value brings with it beyond itself, where the family says so for that value (of a new account, its
    role)."""
    if isinstance(change, Make):
        return op.by_value.get(str(dict(change.values).get("role")), ())
    return op.by_value.get(str(change.value), ()) if isinstance(change, Set) else ()


def _effect(draft: Draft, path: Path, word: str) -> None:
    if path in LISTS:
        for key in draft.keys(path):
            draft.drop((*path, key))
        draft.whole(path, False)
        return
    try:
        draft.put(path, None if word == "unknown" else meant(path, word))
    except KeyError:
        return  # the family speaks of an item this unit does not have


def with_effects(plane: Plane, op: Op) -> Plane:
    """The store after an op that stands alone, with its declared effects."""
    draft = Draft(plane)
    for path, word in op.effects:
        _effect(draft, path, word)
    return draft.freeze()


def readable(family: Family, paths: Iterable[Path]) -> frozenset[Path]:
    """Those of the paths that some ask reads back, and that a unit shows at all."""
    return frozenset(path for path in paths if not holds_secret(path) and asks_for(family, (path,)))
