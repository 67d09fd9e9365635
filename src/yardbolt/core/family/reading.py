"""Replies to facts, and facts to a reading. Every line is matched or reported as left over; doubt never becomes a
value."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import reduce
from operator import or_
from typing import Any

from ..addresses import ANYONE, AddressSet
from ..errors import Trouble, UnitError
from ..formats.decode import DECODERS
from ..plane.edit import Draft
from ..plane.evidence import Blind, Evidence, Leftover
from ..plane.kinds import ABSENT, SETS
from ..plane.path import Path, filled, fits, parse, show
from ..plane.table import LISTS, Plane, coerce, is_item, item_of, pattern_of, places_of, row_of, steady
from ..talk.conversation import Replies
from ..talk.patterns import row
from ..talk.tree import MISSING, Tree, as_text, every, one, pick, to_fill
from .binding import Place, TreeRows
from .model import LIVE, STAGED, Ask, Family, Spelling, TextLine
from .spelling import CODECS, COUNT, SPREADS, meant, read_value, spelling_of

MOST_ITEMS = 10_000
LONGEST_LEFTOVER = 200


@dataclass(frozen=True)
class Fact:
    """One path has one value, says one ask. The path of an item with the value True says that the item is there."""

    path: Path
    value: Any
    ask: str
    store: str = LIVE


@dataclass(frozen=True)
class Whole:
    """This list was read in full."""

    path: Path
    ask: str
    store: str = LIVE


@dataclass(frozen=True)
class Narrowed:
    """To these ports of a service only these sources come, whatever the service itself lets in."""

    service: str
    transport: str
    ports: tuple[str, ...]
    sources: AddressSet
    store: str = LIVE


@dataclass(frozen=True)
class Unfound:
    """Nothing stood at this place of the reply."""

    ask: str
    at: str


Part = Fact | Whole | Leftover | Narrowed | Unfound


@dataclass(frozen=True)
class Reading:
    """What was read: one plane for each store, with what it rests on."""

    planes: Mapping[str, Plane] = field(default_factory=lambda: {LIVE: Plane()})
    evidence: tuple[Evidence, ...] = ()
    origin: Mapping[Path, tuple[str, ...]] = field(default_factory=dict)
    conflicts: tuple[Path, ...] = ()
    leftovers: tuple[Leftover, ...] = ()
    blind: tuple[Blind, ...] = ()

    @property
    def plane(self) -> Plane:
        """The live store."""
        return self.planes[LIVE]


# ---- one reply ------------------------------------------------------------------------------------------------------


class _Facts:
    """Facts of one reply; a value that does not suit its leaf is a leftover, never a guess."""

    def __init__(self, family: Family, ask: Ask, now: datetime | None) -> None:
        self.family, self.ask, self.now = family, ask, now
        self.parts: list[Part] = []
        self.doubt = False

    def left(self, line: str) -> None:
        self.doubt = True
        self.parts.append(Leftover(self.ask.name, line[:LONGEST_LEFTOVER]))

    def add(self, path: Path, value: Any) -> None:
        self.parts.append(Fact(path, value, self.ask.name, self.ask.store))

    def read(self, path: Path, raw: str, spelling: Spelling | None = None) -> None:
        try:
            self.add(path, read_value(spelling or spelling_of(self.family, path), path, raw, self.now))
        except (ValueError, TypeError):
            self.left(f"{show(path)}: {raw}")

    def word(self, path: Path, word: str) -> None:
        self.add(path, meant(path, word))


def extract(family: Family, ask: Ask, replies: Replies, key: str = "", now: datetime | None = None) -> tuple[Part, ...]:
    """The facts of a reply. `key` is the item an `each` ask was about; `now` the laptop's time, for a clock.

    Any reply gives parts; nothing is raised but UnitError on more rows than the limit.
    """
    facts = _Facts(family, ask, now)
    lines = [line for line in replies.text.splitlines() if line.strip()]
    if len(lines) > MOST_ITEMS:
        raise UnitError(Trouble.TOO_MUCH, f"{ask.name}: more than {MOST_ITEMS:,} lines")
    if ask.decode:
        _decoded(ask, replies, key, facts)
    elif ask.rows:
        _rows(ask, lines, facts)
    elif ask.pairs:
        _pairs(ask, lines, facts)
    elif ask.leaves or ask.tree_rows:
        _tree(ask, replies.tree, key, facts)
    else:
        for line in lines:
            _line(ask.lines, line, facts)
        facts.parts = _joined(facts.parts)
    # one line not understood may be an account: then nothing unseen is taken for absent
    if not facts.doubt:
        facts.parts += [Whole(filled(path, ("", key)), ask.name, ask.store) for path in ask.whole]
    return tuple(facts.parts)


def _joined(parts: list[Part]) -> list[Part]:
    """Lines that each name one of a set make one set of them."""
    sets: dict[Path, Fact] = {}
    out: list[Part] = []
    for part in parts:
        if isinstance(part, Fact) and isinstance(part.value, tuple):
            before = sets[part.path].value if part.path in sets else ()
            sets[part.path] = replace(part, value=tuple(sorted({*before, *part.value})))
        else:
            out.append(part)
    return [*out, *sets.values()]


def _decoded(ask: Ask, replies: Replies, key: str, facts: _Facts) -> None:
    decoded = DECODERS[ask.decode].decode(replies, key)
    for path, value in decoded.facts:
        try:
            facts.add(path, True if is_item(path) else coerce(path, value))
        except (ValueError, TypeError) as e:
            facts.left(f"{show(path)}: {e}")
    facts.parts += [Narrowed(*one, ask.store) for one in decoded.narrows]
    for line in decoded.leftovers:
        facts.left(line)


def _line(patterns: Iterable[TextLine], line: str, facts: _Facts) -> None:
    for pattern in patterns:
        if match := row(pattern.row).regex.match(line):
            for column, written in pattern.take.items():
                facts.read(parse(written), match[column])
            return
    facts.left(line)


def _rows(ask: Ask, lines: list[str], facts: _Facts) -> None:
    table = ask.rows
    assert table is not None
    regex = row(table.row).regex
    if table.heading:  # by position: an account may be called like a heading
        if not lines or lines[0].split() != table.heading.split():
            facts.left(lines[0] if lines else "(no heading)")
        lines = lines[1:]
    for line in lines:
        match = regex.match(line)
        if not match:
            _line(ask.lines, line, facts)
            continue
        # a key is typed into commands later on, so a hostile one is no key
        if not facts.family.is_key(table.into[0], match["key"]):
            facts.left(line)
            continue
        base = (*table.into, facts.family.our_key(table.into[0], match["key"]))
        facts.add(base, True)
        for name, raw in match.groupdict().items():
            if name not in ("key", "skip"):
                facts.read((*base, name), raw)


def _pairs(ask: Ask, lines: list[str], facts: _Facts) -> None:
    assert ask.pairs is not None
    for line in lines:
        label, value = _cut(line, ask.pairs.between)
        written = ask.pairs.take.get(label)
        if written is None:
            facts.left(line)
        elif written != "-":
            facts.read(parse(written), value)


def _cut(line: str, leader: str) -> tuple[str, str]:
    """Label and value around the first run of `leader` that has a blank after it; where none has, around the first
    there is."""
    at = 0
    while (at := line.find(leader, at)) >= 0:
        end = at
        while line.startswith(leader, end):
            end += len(leader)
        if end == len(line) or line[end].isspace():
            return line[:at].strip(), line[end:].strip()
        at = end
    label, _, value = line.partition(leader)
    return label.strip(), value.strip()


# ---- trees ----------------------------------------------------------------------------------------------------------


def _tree(ask: Ask, tree: Tree, key: str, facts: _Facts) -> None:
    for place in ask.leaves:
        path = filled(place.path, ("", key))
        # a list is whole only where all that is said to stand in it was seen
        if path[:1] in ask.whole and place.missing is None and one(tree, place.at) is MISSING:
            facts.left(f"{show(path)}: not there")
        if not _place(place, path, tree, facts):
            facts.parts.append(Unfound(ask.name, place.at))
    for rows in ask.tree_rows:
        _tree_rows(rows, (), tree, facts)


def _place(place: Place, path: Path, node: Tree, facts: _Facts) -> bool:
    """One leaf; whether anything stands there. An absent field and an empty one mean what the family says they mean, and
    nothing where it says nothing."""
    ats = (place.at, *place.parts)
    if place.slots:
        found = _several([_in_fields(place, slot, node) for slot in place.slots])
        # what is not in use holds nothing of the set
        found = found if found is MISSING else [each for each in found if each]
    elif place.each:
        rows = every(node, place.each)
        filled_in = [] if rows is MISSING else [row for row in rows if not to_fill(row, place.at)]
        found = rows if rows is MISSING else _several([_in_fields(place, ats, row) for row in filled_in])
    elif "*" in place.at.split("/"):
        found = every(node, place.at)  # one value made of many places: a set of words
    else:
        found = _in_fields(place, ats, node) if place.parts else one(node, place.at)
    if found is MISSING:
        # absent is not empty, and neither is a value unless the family says so
        if place.missing is not None:
            facts.word(path, place.missing)
        return place.missing is not None
    _standing(place, path, found, facts)
    return True


def _standing(place: Place, path: Path, found: Tree, facts: _Facts) -> None:
    if place.codec == COUNT and isinstance(found, list):
        facts.add(path, len(found))
        return
    if found is None or found == "" or found == []:
        # the spelling of the leaf holds where the place has none of its own; what null means says the place alone
        empty = place.empty
        if empty is None and found is not None:
            empty = spelling_of(facts.family, path).empty
        if empty is not None:
            facts.word(path, empty)
        return
    if isinstance(found, list | tuple) and row_of(path).kind not in SETS:
        # of a leaf that holds one thing, a list is what its texts say together
        told = [as_text(each) for each in found]
        found = found if None in told else ",".join(map(str, told))
    if place.otherwise and str(found).strip() not in place.words:
        facts.word(path, place.otherwise)
        return
    own = Spelling(words=place.words, join=place.join) if place.words or place.join else None
    unit = CODECS.get(place.codec, "")
    bare = isinstance(found, int | float | str) and not isinstance(found, bool) and str(found).strip().isdigit()
    if unit and bare and str(found).strip() not in place.words:
        found = f"{found} {unit}"
    texts = [as_text(each) for each in found] if isinstance(found, list | tuple) else [as_text(found)]
    if any(text is None for text in texts):
        facts.left(f"{show(path)}: not a single value")
    elif isinstance(found, list | tuple):
        words = (own or spelling_of(facts.family, path)).words
        try:
            facts.add(path, coerce(path, [words.get(str(text), text) for text in texts]))
        except (ValueError, TypeError):
            facts.left(show(path))
    else:
        facts.read(path, str(texts[0]), own)


def _several(told: list[Tree]) -> Tree:
    """What a set is made of; MISSING where one thing of it is."""
    return MISSING if MISSING in told else told


def _in_fields(place: Place, ats: tuple[str, ...], node: Tree) -> Tree:
    """What fields say together: MISSING where one of them is, empty where all are, or say that they are not in use."""
    texts = [as_text(one(node, at)) for at in ats]
    if None in texts:
        return MISSING
    told = tuple("" if str(text).strip() == place.unused else str(text).strip() for text in texts)
    if len(told) == 1 or not any(told):
        return told[0]
    try:
        return SPREADS[place.codec].together(told)
    except ValueError:
        return " ".join(told)  # which suits no leaf, and is told as it stands


def _an_item(rows: TreeRows, found: Tree) -> bool:
    """Is it what the family calls an item? One that is known by its place alone has something of what is read of it."""
    named = [place for place in rows.leaves if place.at not in (".", "#")]
    if not named or (isinstance(found, Mapping | list) and rows.items.key != "#"):
        return True
    if not isinstance(found, Mapping | list):
        return all(place.missing is not None for place in named)  # a name alone, and what the family knows of each
    return any(every(found, place.at) is not MISSING or place.missing for place in named)


def _tree_rows(rows: TreeRows, above: Path, node: Tree, facts: _Facts) -> None:
    into = (*above, *rows.into)
    # an answer of another shape is no empty list
    if every(node, rows.items.at) is MISSING and not rows.or_none:
        facts.doubt = True
        facts.parts.append(Unfound(facts.ask.name, rows.items.at))
    unfound, items = dict.fromkeys(place.at for place in rows.leaves), False
    for count, (keys, found) in enumerate(pick(node, rows.items.at)):
        if count >= MOST_ITEMS:
            raise UnitError(Trouble.TOO_MUCH, f"{facts.ask.name}: more than {MOST_ITEMS:,} items")
        if to_fill(found, rows.items.key):
            continue
        told = rows.items.told(keys, found)
        named = rows.items.key_in(told)
        items, nameless, whole = True, named is None or not facts.family.is_key(into[0], named), _an_item(rows, found)
        if nameless or not whole:
            facts.left(f"{show(into)}: {told}")
        if named is None or nameless or not (whole or isinstance(found, Mapping | list)):
            continue
        base = (*into, facts.family.our_key(into[0], named))
        facts.add(base, True)
        if rows.order:
            facts.add((*base, rows.order), count)
        for place in rows.leaves:
            before = len(facts.parts)
            if _place(place, (*base, *place.path), found, facts):
                unfound.pop(place.at, None)
            if place.path[0] in rows.within and len(facts.parts) == before:
                facts.left(f"{show((*base, *place.path))}: not there")
        if not facts.doubt:
            facts.parts += [Whole((*base, each), facts.ask.name, facts.ask.store) for each in rows.within]
        for inner in rows.rows:
            _tree_rows(inner, base, found, facts)
            if inner.whole and not facts.doubt:
                facts.parts.append(Whole((*base, *inner.into), facts.ask.name, facts.ask.store))
    facts.parts += [Unfound(facts.ask.name, f"{rows.items.at}/{at}") for at in unfound if items]


# ---- all replies ----------------------------------------------------------------------------------------------------


class Merging:
    """Facts folded into a reading, in one pass. Two asks that disagree within a store make the path unknown and a
    conflict; what another ask has a say in too that is not among those `asked` (all, if not given) is not known."""

    def __init__(self, family: Family, asked: Iterable[Ask] | None = None) -> None:
        self.family = family
        self._asked = frozenset(one.name for one in (family.asks if asked is None else asked))
        self.drafts: dict[str, Draft] = {LIVE: Draft()}
        self.leftovers: list[Leftover] = []
        self._seen: dict[str, dict[Path, tuple[Any, tuple[str, ...]]]] = {}  # store -> path -> value, asks
        self._unfound: dict[str, dict[str, None]] = {}
        self._clash: dict[tuple[str, Path], None] = {}
        self._narrowed: list[Narrowed] = []
        self._staged: list[Part] = []
        self._limits_itself = frozenset(service for one in family.channels.values() for service in one.services)

    def add(self, parts: Iterable[Part]) -> None:
        """Take the facts of one reply in."""
        for part in parts:
            if isinstance(part, Fact | Whole | Narrowed) and part.store == STAGED:
                self._staged.append(part)
            match part:
                case Unfound(ask, at):
                    self._unfound.setdefault(ask, {})[at] = None
                case Leftover():
                    self.leftovers.append(part)
                case Narrowed():
                    self._narrowed.append(part)
                case Whole(path, _, store):
                    self._draft(store).whole(path)
                case Fact(path, value, ask, store):
                    self._fact(path, value, ask, store)

    def _draft(self, store: str) -> Draft:
        if store not in self.drafts:
            self.drafts[store] = Draft()
        return self.drafts[store]

    def _fact(self, path: Path, value: Any, ask: str, store: str) -> None:
        draft = self._draft(store)
        if value is True and (path[:-1] in LISTS or (len(path) > 3 and is_item(path))):
            draft.make(path)
            return
        if value is None:
            return
        seen = self._seen.setdefault(store, {})
        known = seen.get(path)
        if known is None:
            seen[path] = (value, (ask,))
        else:
            # two answers about one thing: neither is believed
            if known[0] != value and steady(path):
                self._clash[(store, path)] = None
            seen[path] = (value, known[1] if ask in known[1] else (*known[1], ask))
        try:
            draft.put(path, value)
        except KeyError:
            # its item is there, if only because it has this value
            draft.make(item_of(path) or path[:2]).put(path, value)

    def _narrow(self, store: str, service: str, limits: Mapping[tuple[str, int], AddressSet]) -> None:
        """Who may connect is who may by the service and by what stands before it, wherever it listens. Where it listens
        elsewhere too, or what it lets in was not read, nothing is known by that."""
        path = ("services", service)
        draft = self._draft(store)
        try:
            port, permitted = draft.get((*path, "port")), draft.get((*path, "permitted"))
            by, also = draft.get((*path, "transport")), draft.get((*path, "also"))
        except KeyError:
            return
        places = places_of(by, port, also)
        # of most daemons nothing is read of limits of their own; what stands before them holds all the same
        if not places:
            draft.put((*path, "permitted"), None)
        elif places <= limits.keys() and (permitted is not None or service not in self._limits_itself):
            own = permitted if isinstance(permitted, AddressSet) else ANYONE
            draft.put((*path, "permitted"), own & reduce(or_, (limits[place] for place in places)))

    def keys(self, path: Path, store: str = LIVE) -> tuple[str, ...]:
        """The keys of a list as far as it was read."""
        return self._draft(store).keys(path)

    def so_far(self, path: Path) -> Any:
        """A value as far as it was read; None where it, or its item, was not."""
        try:
            return self.drafts[LIVE].get(path)
        except KeyError:
            return None

    def reading(self, evidence: tuple[Evidence, ...] = (), blind: tuple[Blind, ...] = ()) -> Reading:
        """The reading, with what the manual says added."""
        # what is staged is in force where nothing waits; where a unit shows the one alone, it stands for the other then
        if self.so_far(("stores", "waiting")) == 0:
            staged, self._staged = self._staged, []
            told = {path for ask in self.family.asks if ask.store == LIVE for path in ask.feeds}
            # what it shows of the other is not overruled
            self.add(
                replace(part, store=LIVE)
                for part in staged
                if isinstance(part, Fact | Whole) and pattern_of(part.path) not in told
            )
        limits: dict[tuple[str, str], dict[tuple[str, int], AddressSet]] = {}
        for each in self._narrowed:
            places = {(each.transport, int(port)): each.sources for port in each.ports if port.isdigit()}
            limits.setdefault((each.store, each.service), {}).update(places)
        for (store, service), found in limits.items():
            self._narrow(store, service, found)
        missed = {(ask.store, path) for ask in self.family.asks if ask.name not in self._asked for path in ask.feeds}
        half = {
            (store, path) for store, seen in self._seen.items() for path in seen if (store, pattern_of(path)) in missed
        }
        for store, path in self._clash.keys() | half:
            self._draft(store).put(path, None)
        planes = {store: _with_manual(self.family, draft) for store, draft in self.drafts.items()}
        clash = tuple(sorted({path for _, path in self._clash}))
        origin = {path: asks for seen in self._seen.values() for path, (_, asks) in seen.items()}
        nothing = tuple(Blind(ask, f"nothing stands at {', '.join(ats)}") for ask, ats in self._unfound.items())
        return Reading(planes, evidence, origin, clash, tuple(self.leftovers), (*blind, *nothing))


def merge(
    family: Family, parts: Iterable[Part], evidence: tuple[Evidence, ...] = (), blind: tuple[Blind, ...] = ()
) -> Reading:
    """Fold facts into a reading: never last-one-wins."""
    merging = Merging(family)
    merging.add(parts)
    return merging.reading(evidence, blind)


def _with_manual(family: Family, draft: Draft) -> Plane:
    """The plane with what the manual says: known facts of items that are there, and ABSENT for what this make does not
    have."""
    for path, value in family.facts:
        # a service that the manual says is on is there, where the unit does not list them all
        if value is True and fits(("services", "*", "enabled"), path) and not draft.is_whole(path[:1]):
            draft.make(path[:2])
    for path, value in family.facts:
        draft.fill(path, value)
    for pattern in family.lacks:
        if pattern in LISTS:
            draft.close(pattern)
        else:
            draft.fill(pattern, ABSENT)
    return draft.freeze()


def asks_for(family: Family, paths: Iterable[Path]) -> tuple[Ask, ...]:
    """The asks that read these paths back."""
    rows = {pattern_of(path) for path in paths}
    rows |= {row_path[:at] for row_path in rows for at, step in enumerate(row_path) if step == "*"}
    return tuple(ask for ask in family.asks if ask.feeds & rows)
