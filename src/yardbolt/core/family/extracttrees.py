"""One reply taken apart that is a tree."""

from __future__ import annotations

from collections.abc import Mapping

from ..errors import Trouble, UnitError
from ..plane.kinds import SETS
from ..plane.path import Path, filled, show
from ..plane.table import coerce, row_of
from ..talk.tree import MISSING, Tree, as_text, every, one, pick, to_fill
from .binding import Place, TreeRows
from .facts import Facts
from .model import Ask, Spelling
from .parts import MOST_ITEMS, Unfound, Whole
from .spelling import CLOCKS, CODECS, COUNT, SPREADS, in_full, spelling_of


def tree_told(ask: Ask, tree: Tree, key: str, facts: Facts) -> None:
    for place in ask.leaves:
        path = filled(place.path, ("", key))
        # a list is whole only where all that is said to stand in it was seen
        if path[:1] in ask.whole and place.missing is None and one(tree, place.at) is MISSING:
            facts.left(f"{show(path)}: not there")
        if not _place(place, path, tree, facts):
            facts.parts.append(Unfound(ask.name, place.at))
    for rows in ask.tree_rows:
        _tree_rows(rows, (), tree, facts)


def _place(place: Place, path: Path, node: Tree, facts: Facts) -> bool:
    """One leaf; whether anything stands there. An absent field and an empty one mean what the family says they mean,
    and nothing where it says nothing."""
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


def _standing(place: Place, path: Path, found: Tree, facts: Facts) -> None:
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
    if place.codec in CLOCKS and str(found).strip() not in place.words:
        found = in_full(place.codec, str(found).strip())
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
        return " ".join(told)  # which suits no leaf, and is reported as it stands


def _an_item(rows: TreeRows, found: Tree) -> bool:
    """Is it what the family calls an item? One that is known by its place alone has something of what is read of it."""
    named = [place for place in rows.leaves if place.at not in (".", "#")]
    if not named or (isinstance(found, Mapping | list) and rows.items.key != "#"):
        return True
    if not isinstance(found, Mapping | list):
        return all(place.missing is not None for place in named)  # a name alone, and what the family knows of each
    return any(every(found, place.at) is not MISSING or place.missing for place in named)


def _tree_rows(rows: TreeRows, above: Path, node: Tree, facts: Facts) -> None:
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
