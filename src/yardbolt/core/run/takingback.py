"""Taking back what was written since the last proof, when a step failed: newest first, and read back too."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass, replace
from typing import Any

from ..family.model import LIVE, STAGED, Family
from ..family.writing import op_for, plain_order, readable, render
from ..plan.arrange import Sheet
from ..plan.belief import Belief, full, learn
from ..plan.rehearse import rehearse, store_of
from ..plan.words import describe
from ..plane.change import Change, Set
from ..plane.compare import surprises
from ..plane.edit import get
from ..plane.path import show
from ..plane.table import Plane
from ..talk.outcomes import Done, Opened
from .conducting import Conducting, Stop, differing, reason_of, told_of
from .events import BackedOut, BackingOut
from .requests import Doing, LogIn, Note, Planes, Read, Request, Return, Returned

AFTERWARDS = 60.0  # seconds a way in may take to open once it has gone back
SETTLING = 3.0  # seconds until its daemons have loaded what was put back


@dataclass(frozen=True)
class Unproven:
    """A change that was written since the last proof, what takes it back, and what was believed before it."""

    change: Change
    back: tuple[Change, ...]
    before: Belief


class TakingBack(Conducting):
    """A run that knows how to take its last changes back."""

    def __init__(self, family: Family, sheet: Sheet, belief: Belief, now: Callable[[], str]) -> None:
        super().__init__(family, sheet, belief, now)
        self.unproven: list[Unproven] = []
        self.before_arming = 0  # how many of them were made before the timed return was armed

    def back_out(self) -> Generator[Request, Any, tuple[str, ...]]:
        """Take back, newest first, what was written since the last proof, and read that back too."""
        early: tuple[str, ...] = ()
        if self.belief.fallback is not None and self.family.op_doing("back"):
            early = yield from self.go_back()
            if self.belief.fallback is not None:
                return early
            self.unproven = self.unproven[: self.before_arming]
        # nobody gets in to take anything back, and nobody has to
        if self.belief.fallback is not None and not any(full(self.belief.live, way) for way in self.belief.sessions):
            return (yield from self.wait_for_return())
        if self.belief.waiting and self.family.op_doing("discard"):
            return (yield from self.discard())
        told_so: list[str] = list(early)
        for one in reversed(self.unproven):
            # what lies before a change that cannot be taken back stays too: order matters
            if not one.back:
                told_so.append("no way back")
                break
            for back in one.back:
                words = describe(back, self.plane_for(back))
                problem = yield from self.take_back(back, words)
                if problem:
                    told_so.append(f"{words}: {problem}")
                    return tuple(told_so)
                told_so.append(words)
            sessions = self.belief.sessions & one.before.sessions or self.belief.sessions
            self.belief = replace(one.before, sessions=sessions)
        return tuple(told_so)

    def take_back(self, back: Change, words: str) -> Generator[Request, Any, str]:
        """One change taken back and read back; the problem, or nothing."""
        try:
            order = render(self.family, back, self.plane_for(back), self.now())
        except ValueError as e:
            return str(e)
        yield Note(BackingOut(what=words, path=show(back.path)))
        try:
            op = op_for(self.family, back)
            answer, _ = yield from self.send(order, op.by if op else "")
            if not isinstance(answer, Done):
                return reason_of(answer)
            paths = readable(self.family, (back.path,))
            seen = (yield from self.read(paths, "it could not be read back")) if paths else {}
        except Stop as stop:
            return stop.why
        plane = seen.get(store_of(self.family, back), Plane())
        if isinstance(back, Set) and paths and get(plane, back.path) != back.value:
            return f"it reads {told_of(plane, back.path)}"
        yield Note(BackedOut(what=words, path=show(back.path)))
        return ""

    def discard(self) -> Generator[Request, Any, tuple[str, ...]]:
        """Drop the staged edits that are not in force."""
        op = self.family.op_doing("discard")
        assert op is not None
        words = "the staged edits"
        yield Note(BackingOut(what=words))
        try:
            answer, _ = yield from self.send(plain_order(op), op.by)
        except Stop as stop:
            return (f"{words}: {stop.why}",)
        if not isinstance(answer, Done):
            return (f"{words}: {reason_of(answer)}",)
        sessions = self.belief.sessions
        self.belief = replace(rehearse(self.family, self.belief, op), sessions=sessions)
        seen: Planes | None = yield Read(None, self.session())
        if seen is None or surprises(self.belief.stores[STAGED], seen.get(STAGED, Plane())):
            return (f"{words}: they could not be read as gone",)
        yield Note(BackedOut(what=words))
        return (words,)

    def go_back(self) -> Generator[Request, Any, tuple[str, ...]]:
        """Have the unit go back at once to where the timed return was armed; where nobody gets in, wait until it does so
        by itself. Either way what it then reads is compared."""
        op, fallback = self.family.op_doing("back"), self.belief.fallback
        assert op is not None and fallback is not None
        words = "everything since the timed return was armed"
        yield Note(BackingOut(what=words))
        if not self.sessions_by(op.by):
            # one try and no more: a refusal may count
            yield from self.log_in_once()
        waited = not self.sessions_by(op.by)
        if waited:
            back: Returned | None = yield Return(
                tuple(sorted(fallback.ways[LIVE])), fallback.seconds + AFTERWARDS, fallback.seconds + SETTLING
            )
            if back is None:
                return (f"it goes back by itself within {fallback.seconds:.0f} s; nobody got in by then",)
            self.belief = replace(self.belief, sessions=frozenset({back.way}))
        try:
            answer, _ = yield from self.send(plain_order(op), op.by)
            if not isinstance(answer, Done):
                return (f"{words}: {reason_of(answer)}",)
            self.belief = replace(self.belief, stores=fallback.stores, ways=fallback.ways, fallback=None)
            seen = yield from self.read(None, "it could not be read back")
        except Stop as stop:
            return (f"{words}: {stop.why}",)
        # what taking back needs is a file too, and goes with it; what files bring about is compared
        odd = tuple(path for path in surprises(fallback.stores[LIVE], seen.get(LIVE, Plane())) if path[0] != "files")
        if odd:
            return (f"{words}: {differing(fallback.stores[LIVE], seen[LIVE], odd)}",)
        yield Note(BackedOut(what=words))
        return (f"{words}{', by itself' if waited else ''}",)

    def log_in_once(self) -> Doing:
        """A new login by the best way that was proven."""
        best = next((way for way in sorted(self.belief.proven) if full(self.belief.live, way)), None)
        if best is not None and isinstance((yield LogIn(best)), Opened):
            self.belief = learn(self.belief, best)

    def wait_for_return(self) -> Generator[Request, Any, tuple[str, ...]]:
        """Nobody gets in any more, and the unit goes back by itself: wait for that."""
        fallback = self.belief.fallback
        assert fallback is not None
        back: Returned | None = yield Return(tuple(sorted(fallback.ways[LIVE])), fallback.seconds)
        self.belief = replace(
            self.belief, stores=fallback.stores, ways=fallback.ways, sessions=frozenset(), fallback=None
        )
        if back is None:
            return (f"it should go back by itself within {fallback.seconds:.0f} s; it did not let us in by then",)
        self.belief = learn(self.belief, back.way)
        return ("it went back by itself",)
