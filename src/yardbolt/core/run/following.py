"""Follows the unit and not its forecast: a setting that reads otherwise is weighed, believed where it harms nothing,
and the run goes on."""

from __future__ import annotations

from collections.abc import Generator, Iterable
from dataclasses import replace
from typing import Any

from ..family.bound import Bound
from ..family.model import KEPT, STAGED
from ..judge.staying import rests_on, stays
from ..plan.belief import Belief, full, learn
from ..plan.guard import Idle
from ..plan.rehearse import Step
from ..plane.change import Change
from ..plane.compare import surprises
from ..plane.edit import get
from ..plane.leaves import Plane
from ..plane.path import Path, show, touches
from ..plane.table import is_item
from ..talk.outcomes import Login, Opened, told
from .events import Noted, Unlike
from .guarding import Guarding
from .requests import Doing, LogIn, Note, Request, TakenBack
from .sessions import Stop, differing, overlaid
from .weighing import carries, weigh


class Following(Guarding):
    """A run that goes on as long as no way in is lost."""

    def accept(
        self, place: int, step: Step, words: str, store: str, seen: Plane, touched: Iterable[Path]
    ) -> Generator[Request, Any, tuple[Path, ...]]:
        """Believe a reading that differs from the forecast, where no way in is lost. Returns the settings that steps
        of ours touch (`touched`) and that are not as wanted. Raises Stop where a way in is at stake, or something
        the run itself rests on."""
        expected = self.belief.stores[store]
        odd = surprises(expected, seen)
        if not odd:
            return ()
        differs, now = differing(expected, seen, odd), overlaid(expected, seen)
        weighed = weigh(expected, odd, touched, frozenset().union(*self.belief.ways.values()))
        # somebody else's edits that wait would be put in force by ours
        if (store == STAGED and weighed.others) or any(not self.suits(path, now) for path in weighed.at_stake):
            raise Stop(differs)
        yield from self.still_in(self.adopted(expected, now), differs)
        good = tuple(path for path in (*weighed.ours, *weighed.at_stake) if self.suits(path, now))
        if noted := (*good, *weighed.others):
            yield Note(
                Noted(
                    step=place, of=len(self.sheet.steps), kind=step.kind.value, what=words,
                    paths=tuple(map(show, noted)), reads=differing(expected, seen, noted),
                )
            )  # fmt: skip
        return tuple(path for path in weighed.ours if path not in good)

    def suits(self, path: Path, now: Plane) -> bool:
        """Is the value that stands there as good as the wanted one?"""
        return not is_item(path) and any(
            want.path == path and want.suits(get(now, path)) for want in self.sheet.target if want.kind == "set"
        )

    def adopted(self, expected: Plane, now: Plane) -> Belief:
        """Take the reading into every store it belongs to; returns the belief of before."""
        before = self.belief
        stores = {name: now if plane is expected else plane for name, plane in before.stores.items()}
        ways = {
            name: stays(expected, now, every, name == KEPT) if stores[name] is now else every
            for name, every in before.ways.items()
        }
        self.belief = replace(before, stores=stores, ways=ways)
        return before

    def still_in(self, before: Belief, differs: str) -> Doing:
        """Can everybody still log in whose way in the reading makes doubtful? A new login decides. Raises Stop where
        one fails, or where nobody is surely let in at the next start any more."""
        for way in sorted(before.proven - self.belief.proven):
            outcome: Login = yield LogIn(way)
            if not isinstance(outcome, Opened):
                raise Stop(f"{differs}; {way.account} by {way.service} does not get in any more: {told(outcome)}")
            self.belief = learn(self.belief, way)
        if before.survives and self.lasts(before) and not self.lasts(self.belief):
            raise Stop(f"{differs}; whether anybody gets in at the next start is not known any more")

    @staticmethod
    def lasts(belief: Belief) -> bool:
        """Is somebody with all rights surely let in at the next start?"""
        return any(full(belief.kept, way) for way in belief.surviving)

    def harmless(self, bound: Bound) -> bool:
        """Does no way in depend on what the change touches?"""
        ways = frozenset().union(*self.belief.ways.values())
        return not any(carries(path, bound.before, ways) for path in bound.touches)

    def is_rested_on(self, bound: Bound) -> bool:
        """Does a way in rest on it, or is it a password, which no reading shows?"""
        ways = frozenset().union(*self.belief.ways.values())
        return bound.secret is not None or touches(tuple(bound.touches), rests_on(bound.before, ways))

    def leave_out(
        self,
        place: int,
        step: Step,
        words: str,
        bound: Bound,
        said: str,
        reads: str,
        odd: Iterable[Path] = (),
        asked: bool = True,
    ) -> Generator[Request, Any, tuple[Change, Unlike]]:
        """Note that a change is left out from now on, and how it came out."""
        event = self.unlike(place, step, words, bound, said, reads, odd, asked=asked)
        yield Note(event)
        return bound.change, event

    def unlike(
        self,
        place: int,
        step: Step,
        words: str,
        bound: Bound,
        said: str,
        reads: str,
        odd: Iterable[Path],
        left_out: bool = True,
        asked: bool = True,
    ) -> Unlike:
        """How the outcome of a change differs."""
        return Unlike(
            step=place, of=len(self.sheet.steps), kind=step.kind.value, what=words, path=show(bound.path), said=said,
            paths=tuple(map(show, odd)), left_out=left_out, reads=reads, asked=asked,
        )  # fmt: skip

    @property
    def alone(self) -> bool:
        """Can one change be taken back without the others: is no return armed, and does nothing wait to be put in
        force?"""
        return isinstance(self.belief.guard, Idle) and not self.belief.waiting

    def undone(self, bound: Bound) -> Generator[Request, Any, TakenBack | None]:
        """Take back the last change alone; returns what came of it, or None where everything since the last proof
        has to go."""
        if not self.alone or not self.unproven or self.unproven[-1].bound is not bound:
            return None
        try:
            return (yield from self.undo(self.unproven.pop()))
        except Stop as stop:
            return TakenBack((), (stop.why,))

    def refused(self, before: Belief, bound: Bound) -> TakenBack | None:
        """A refused change did nothing, so nothing is taken back; None where everything since the last proof has to
        go."""
        self.belief = replace(before, sessions=self.belief.sessions)
        self.unproven = [one for one in self.unproven if one.bound is not bound]
        return TakenBack() if self.alone else None
