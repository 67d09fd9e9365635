"""Replies to facts, and facts to a reading. Every line is matched or reported as left over; doubt never becomes a
value."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from functools import reduce
from operator import or_
from typing import Any

from ..addresses import ANYONE, AddressSet
from ..plane.edit import Draft
from ..plane.evidence import Blind, Evidence, Leftover
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane, places_of
from ..plane.path import Path, fits
from ..plane.table import LISTS, is_item, item_of, pattern_of, steady
from .model import LIVE, STAGED, Ask, Family
from .parts import Fact, Narrowed, Part, Reading, Unfound, Whole


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
        """A source may connect if the service lets it in and what filters before it does, at every port of the
        service. Where it listens elsewhere too, or what it lets in was not read, nothing is known by that."""
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
