"""What a reading says of the change made before it."""

from __future__ import annotations

from ..family.model import Family
from ..family.writing import readable
from ..plane.compare import difference
from ..plane.edit import exists, get, listing
from ..plane.leaves import Plane
from ..plane.path import Path
from ..plane.table import holds_secret, is_item, item_of, pattern_of


def told_of_it(family: Family, path: Path, store: str, seen: Plane, was: Plane | None = None) -> bool:
    """Does the reading show the setting that was changed, where the family can read that store? Secrets never show.
    In a list that was not read whole, an item that alone is missing is gone if everything else shown before (`was`)
    is still shown."""
    if holds_secret(path) or not any(pattern_of(path) in ask.feeds and ask.store == store for ask in family.asks):
        return True
    if not is_item(path):
        return get(seen, path) is not None
    if was is None or exists(was, path) is not True or exists(seen, path) is not None:
        return exists(seen, path) is not None
    before, after = (set(listing(plane, path[:-1]).by_key) for plane in (was, seen))
    return len(before) > 1 and before - after == {path[-1]}


def no_more_told(was: Plane, wanted: Plane, seen: Plane) -> list[Path]:
    """What was to change was shown before and is not shown any more: it may be as wanted, or not."""
    out = []
    for path in sorted(difference(was, wanted)):
        if is_item(path):
            # of a list that never was read whole nothing more can be asked
            if exists(was, (*path[:-1], "")) is False and exists(seen, path) is None:
                out.append(path)
        elif not holds_secret(path) and None not in (get(was, path), get(wanted, path)) and get(seen, path) is None:
            out.append(path)
    return out


def confirmed(family: Family, paths: frozenset[Path], forecast: Plane, seen: Plane) -> bool:
    """Did the reading confirm every touched path that can be read? Then a 'no' meant: already so."""
    shown = readable(family, paths)
    gone = {path for path in shown if is_item(path) and exists(forecast, path) is exists(seen, path) is False}
    leaves = [path for path in shown if not is_item(path) and item_of(path) not in gone]
    return bool(shown) and all(get(seen, p) is not None and get(seen, p) == get(forecast, p) for p in leaves)
