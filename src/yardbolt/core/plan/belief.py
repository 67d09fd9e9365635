"""Belief: what we hold to be true of a unit, store by store, and how surely somebody can still log in.

Each store (staged, live, kept) has its plane, and the ways in that are proven to open while it is in force. Staged
edits let nobody in until they are put in force, so no way is ever proven on them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from enum import Enum

from ..doors import Way
from ..family.model import KEPT, LIVE, STAGED, Family
from ..judge.access import admit, comes_back
from ..judge.staying import beside
from ..plane.compare import surprises, unlike
from ..plane.edit import Draft, get, leaves
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane
from ..plane.path import Path, fits
from .guard import Armed, Fallback, Guard, Idle


class Standing(Enum):
    """How surely the technician can still get in, best first."""

    PROVEN = "proven"
    HELD = "held by a live session"
    LEAP = "leap"
    LOST = "lost"


@dataclass(frozen=True)
class Belief:
    """What we hold to be true. `ways` are logins that succeeded and that no later change could have taken away.
    `sessions` are alive. `laptops` are the laptop's addresses: the present one first, then those it will have."""

    stores: Mapping[str, Plane]
    ways: Mapping[str, frozenset[Way]]
    sessions: frozenset[Way]
    laptops: tuple[str, ...]
    guard: Guard = field(default=Idle(), compare=False)
    survives: bool = field(default=True, compare=False)  # a way in is there at the next start, and one has to stay

    @property
    def fallback(self) -> Fallback | None:
        """What the unit goes back to by itself, unless it is confirmed."""
        return self.guard.fallback if isinstance(self.guard, Armed) else None

    @property
    def live(self) -> Plane:
        """The settings in force."""
        return self.stores[LIVE]

    @property
    def kept(self) -> Plane:
        """The settings of the next start."""
        return self.stores[KEPT]

    @property
    def proven(self) -> frozenset[Way]:
        """The ways that open now."""
        return self.ways[LIVE]

    @property
    def surviving(self) -> frozenset[Way]:
        """The ways that would open after a power cut too."""
        return self.ways[KEPT]

    @property
    def unsaved(self) -> bool:
        """Would a power cut undo something? Unknown counts as yes."""
        return bool(unlike(self.live, self.kept))

    @property
    def waiting(self) -> frozenset[Path]:
        """Staged edits that are not in force yet."""
        return unlike(self.stores[STAGED], self.live) if STAGED in self.stores else frozenset()

    def without(self, way: Way) -> Belief:
        """The same belief without that session."""
        return replace(self, sessions=self.sessions - {way})


def arrival(
    family: Family, planes: Mapping[str, Plane], ways: Iterable[Way], laptops: tuple[str, ...], ours: bool = False
) -> Belief:
    """The belief before the first step. `ours`: unsaved settings were left by an earlier part of this run."""
    live, proven = planes[LIVE], frozenset(ways)
    stores = {LIVE: live, KEPT: planes.get(KEPT, live)}
    surviving = coming_back(stores[KEPT], proven)
    differences = live.stores.differences
    # a difference nobody can name may be in any setting that reaches the kept store only by saving
    if KEPT not in planes and family.op_keeping() is not None and differences not in (0, ABSENT):
        stores[KEPT] = _as_saved(family, live) if ours else Plane()
        surviving = coming_back(live, proven) if ours else frozenset()
    if family.op_activating() is not None:
        staged = planes.get(STAGED, Plane())
        # where nothing waits, what is staged is what is in force, with all that is known of it; unless it reads
        # otherwise
        stores[STAGED] = live if live.stores.waiting == 0 and not surprises(live, staged) else staged
    survives = any(full(stores[KEPT], way) for way in surviving) or stores[KEPT] is not live
    return Belief(stores, {LIVE: proven, KEPT: surviving}, proven, laptops, survives=survives)


def _as_saved(family: Family, live: Plane) -> Plane:
    """The live plane without the settings that reach the kept store only by saving: there they are unknown."""
    draft = Draft(live)
    late = [op for op in family.ops if LIVE in op.writes and KEPT not in op.writes]
    for path, value in leaves(live):
        if value is not None and any(fits(pattern, path) for op in late for pattern in op.sets):
            draft.put(path, None)
    return draft.freeze()


def coming_back(plane: Plane, ways: Iterable[Way]) -> frozenset[Way]:
    """The proven ways that are there again after the next start. A service that is off then, or not known to be on,
    gives none."""
    return frozenset(way for way in ways if comes_back(plane, way.service))


def full(plane: Plane, way: Way) -> bool:
    """Does this way give all rights? Only such a way counts; rights that were not read do not."""
    return bool(get(plane, ("accounts", way.account, "role")) == "full")


def learn(belief: Belief, way: Way) -> Belief:
    """A login that succeeded proves that its account and service are there and on, and which credential opens."""
    # a lesser account that gets in proves nothing of who can mend it; what it may do no login shows
    mends = full(belief.live, way)
    # a login proves what is live; it proves what is kept only where the two are the same
    saved = not belief.unsaved
    stores = dict(belief.stores)
    for store in stores:
        if store != KEPT or saved:
            stores[store] = learned(stores[store], way)
    ways = {**belief.ways, LIVE: belief.proven | {way}}
    if saved:
        stores[KEPT] = stores[LIVE] if belief.kept is belief.live else stores[KEPT]
        ways[KEPT] = belief.surviving | coming_back(stores[KEPT], {way})
    guard = belief.guard.proven(way) if mends else belief.guard
    return replace(belief, stores=stores, ways=ways, sessions=belief.sessions | {way}, guard=guard)


def learned(plane: Plane, way: Way) -> Plane:
    """What a login shows of its account and its service. A login by key shows nothing of the password."""
    draft = Draft(plane)
    account, service = plane.accounts.get(way.account), plane.services.get(way.service)
    if account is not None:
        if way.password is not None:
            draft.put(("accounts", way.account, "secret"), way.password)
        if account.enabled is None:
            draft.put(("accounts", way.account, "enabled"), True)
    if service is not None and service.enabled is None:
        draft.put(("services", way.service, "enabled"), True)
    return draft.freeze()


def standing(belief: Belief, successors: Iterable[Way], before: Belief | None = None) -> Standing:
    """How surely the technician can log in with all rights, on the live store and on the kept one. `successors` are
    unproven ways that should open by the planes. A timed return counts as a one-shot change as long as what it goes
    back to has a way in. The ways proven `before` the step vouch for what the successors share with them."""
    coming = tuple(successors)

    def ours(ways: Iterable[Way], plane: Plane) -> list[Way]:
        return [way for way in ways if way.source in belief.laptops and full(plane, way)]

    def surely(store: str) -> bool:
        plane = belief.stores[store]
        return any(opens(store, way) for way in ours((*coming, *belief.proven), plane))

    def opens(store: str, way: Way) -> bool:
        plane = belief.stores[store]
        kept = store == KEPT
        if admit(plane, way, kept).admitted is True:
            return True
        if before is None:
            return False
        # where live and saved settings are one, a login shows of both what the start of its service does not add
        shown = before.ways[LIVE] if before.kept is before.live else before.ways[store]
        return beside(before.stores[store], plane, way, shown, kept)

    goes_back = belief.fallback is not None and bool(ours(belief.fallback.ways[LIVE], belief.fallback.stores[LIVE]))
    # power can fail at any moment, so the kept store is asked first
    if belief.survives and not ours(belief.surviving, belief.kept) and not surely(KEPT) and not goes_back:
        return Standing.LOST
    if ours(belief.proven, belief.live):
        return Standing.PROVEN
    if any(opens(LIVE, way) for way in ours(coming, belief.live)):
        return Standing.HELD if belief.sessions else Standing.LEAP
    return Standing.LEAP if goes_back else Standing.LOST
