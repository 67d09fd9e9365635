"""Takes back what was written since the last proof, after a step failed: the newest first, and each is read back."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass, replace
from typing import Any

from ..family.bound import Bound, NoWayBack
from ..family.model import LIVE, STAGED, Family
from ..family.writing import plain_order, readable
from ..plan.belief import Belief, full, learn
from ..plan.guard import Armed, Fallback
from ..plan.rehearse import rehearse
from ..plan.sheet import Sheet
from ..plan.words import describe
from ..plane.change import Set
from ..plane.compare import surprises
from ..plane.edit import exists, get
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane
from ..plane.path import Path, show
from ..plane.table import holds_secret, is_item, item_of
from ..talk.outcomes import Done, Opened, told
from .events import BackedOut, BackingOut, Noted
from .readback import no_more_told
from .requests import Doing, LogIn, Note, Planes, Read, Request, Return, Returned, TakenBack
from .sessions import Conducting, Stop, differing, overlaid, reason_of, told_of
from .weighing import carries, weigh

RETURNING = ("stores", "returning")
AFTERWARDS = 60.0  # seconds a way in may take to open once it has gone back
SETTLING = 3.0  # seconds until its daemons have loaded what was put back


@dataclass(frozen=True)
class Unproven:
    """A change written since the last proof, the belief before it, and the orders that take back what changed along
    with it."""

    bound: Bound
    before: Belief
    besides: tuple[Bound, ...] = ()


class TakingBack(Conducting):
    """A run that knows how to take its last changes back."""

    def __init__(self, family: Family, sheet: Sheet, belief: Belief, now: Callable[[], str]) -> None:
        super().__init__(family, sheet, belief, now)
        self.unproven: list[Unproven] = []
        self.written: list[Bound] = []  # every change that was sent
        self.failed = sheet.gate  # trials that failed, and did not hold since
        self.before_arming = 0  # how many of them were made before the timed return was armed

    @property
    def tells_return(self) -> bool:
        """Does the unit show when it will go back by itself?"""
        return bool(readable(self.family, frozenset({RETURNING})))

    def back_out(self) -> Generator[Request, Any, TakenBack]:
        """Take back, newest first, what was written since the last proof, and read it back."""
        early = TakenBack()
        if isinstance(self.belief.guard, Armed) and self.family.op_doing("back"):
            early = yield from self.go_back()
            if isinstance(self.belief.guard, Armed):
                return early
            self.unproven = self.unproven[: self.before_arming]
        # nobody gets in to take anything back, and nobody has to
        if isinstance(self.belief.guard, Armed) and not any(
            full(self.belief.live, way) for way in self.belief.sessions
        ):
            return (yield from self.wait_for_return())
        if self.belief.waiting and self.family.op_doing("discard"):
            return early + (yield from self.discard())
        return early + (yield from self.one_by_one())

    def one_by_one(self) -> Generator[Request, Any, TakenBack]:
        """Take back each change by its own way back, the newest first. If one stays, everything before it stays too,
        because order matters."""
        every = TakenBack()
        for one in reversed(self.unproven):
            every += yield from self.undo(one)
            if every.stayed:
                break
        return every

    def undo(self, one: Unproven) -> Generator[Request, Any, TakenBack]:
        """Take back one change by its own way back, with what changed along with it."""
        done: list[str] = []
        own = one.bound.back
        for back in (*((own,) if isinstance(own, Bound) else ()), *one.besides):
            words = describe(back.change, self.belief.stores.get(back.store, self.belief.live))
            problem = yield from self.take_back(back, words, one.before)
            if problem:
                return TakenBack(tuple(done), (f"{words}: {problem}",))
            done.append(words)
        if isinstance(own, NoWayBack) and not own.needless:
            words = describe(one.bound.change, one.bound.before)
            return TakenBack(tuple(done), (f"{words}: no way back: {own.why}",))
        sessions = self.belief.sessions & one.before.sessions or self.belief.sessions
        self.belief = replace(one.before, sessions=sessions)
        return TakenBack(tuple(done))

    def take_back(self, back: Bound, words: str, before: Belief) -> Generator[Request, Any, str]:
        """Take back one change and compare with before. Returns the problem, or nothing."""
        try:
            bound = back.again(self.belief.stores.get(back.store, self.belief.live), self.now())
        except ValueError as e:
            return str(e)
        yield Note(BackingOut(what=words, path=show(bound.path)))
        try:
            answer, _ = yield from self.send(bound.order, bound.channel)
            if not isinstance(answer, Done):
                return reason_of(answer)
            paths = readable(self.family, bound.touches)
            seen = (yield from self.read(paths, "it could not be read back")) if paths else {}
        except Stop as stop:
            return stop.why
        if problem := _not_as_before(self.family, bound, seen.get(bound.store, Plane()), before):
            return problem
        if holds_secret(bound.path) and (problem := (yield from self.opens_again(bound, before))):
            return problem
        yield Note(BackedOut(what=words, path=show(bound.path)))
        return ""

    def opens_again(self, bound: Bound, before: Belief) -> Generator[Request, Any, str]:
        """No reading shows a password, so a login that opened before the change is tried. Returns the problem, or
        nothing."""
        ways = [way for way in sorted(before.proven) if way.account == bound.path[1] and way.password == bound.secret]
        if bound.path[0] != "accounts" or not ways:
            return ""
        outcome = yield LogIn(ways[0])
        if not isinstance(outcome, Opened):
            return f"{ways[0].account} with it: {told(outcome)}"
        self.belief = learn(self.belief, ways[0])
        return ""

    def discard(self) -> Generator[Request, Any, TakenBack]:
        """Drop the staged edits that are not in force."""
        op = self.family.op_doing("discard")
        assert op is not None
        words = "the staged edits"
        yield Note(BackingOut(what=words))
        try:
            answer, _ = yield from self.send(plain_order(op), op.by)
        except Stop as stop:
            return TakenBack((), (f"{words}: {stop.why}",))
        if not isinstance(answer, Done):
            return TakenBack((), (f"{words}: {reason_of(answer)}",))
        edited = self.belief.stores[STAGED]
        self.belief = replace(rehearse(self.family, self.belief, op), sessions=self.belief.sessions)
        seen: Planes | None = yield Read(None, self.session())
        if seen is None or not self.reads_discarded(edited, seen):
            return TakenBack((), (f"{words}: they could not be read as gone",))
        yield Note(BackedOut(what=words))
        return TakenBack((words,))

    def reads_discarded(self, edited: Plane, seen: Planes) -> bool:
        """Does the unit say that nothing waits, or that each edit is gone? Where it says neither, nobody knows."""
        wanted, staged = self.belief.stores[STAGED], seen.get(STAGED, Plane())
        waiting = seen.get(LIVE, Plane()).stores.waiting
        told = waiting == 0 or (waiting in (None, ABSENT) and not no_more_told(edited, wanted, staged))
        return told and not surprises(wanted, staged)

    def go_back(self) -> Generator[Request, Any, TakenBack]:
        """Make the unit go back at once to where the timed return was armed. Where nobody gets in, wait until it
        goes back by itself. Then compare the reading."""
        op, guard = self.family.op_doing("back"), self.belief.guard
        assert op is not None and isinstance(guard, Armed)
        words = "everything since the timed return was armed"
        yield Note(BackingOut(what=words))
        if not self.sessions_by(op.by):
            # one try and no more: a refusal may count
            yield from self.log_in_once()
        waited = not self.sessions_by(op.by)
        if waited and not (yield from self.wait(guard.fallback, AFTERWARDS, SETTLING)):
            seconds = f"{guard.fallback.seconds:.0f} s"
            return TakenBack((), (f"{words}: it goes back by itself within {seconds}; nobody got in by then",))
        try:
            answer, _ = yield from self.send(plain_order(op), op.by)
            if not isinstance(answer, Done):
                return TakenBack((), (f"{words}: {reason_of(answer)}",))
            problem = yield from self.stands_as_before(guard)
        except Stop as stop:
            return TakenBack((), (f"{words}: {stop.why}",))
        if problem:
            return TakenBack((), (f"{words}: {problem}",))
        yield Note(BackedOut(what=words))
        return TakenBack((f"{words}{', by itself' if waited else ''}",))

    def stands_as_before(self, guard: Armed) -> Generator[Request, Any, str]:
        """The unit went back only if it reads so. Returns the problem, or nothing."""
        fallback, was = guard.fallback, self.belief.live
        self.belief = replace(self.belief, stores=fallback.stores, ways=fallback.ways, guard=guard.gone_back())
        seen = yield from self.read(None, "it could not be read back")
        live = seen.get(LIVE, Plane())
        if self.tells_return and get(live, RETURNING) is not ABSENT:
            still = get(live, RETURNING) is not None
            return "it still reads as going back by itself" if still else "whether it still goes back was not shown"
        if untold := no_more_told(was, fallback.stores[LIVE], live):
            return f"it does not say {', '.join(map(show, untold[:3]))}"
        # what taking back needs is a file too, and goes with it; what files bring about is compared
        odd = tuple(path for path in surprises(fallback.stores[LIVE], live) if path[0] != "files")
        before, ways = fallback.stores[LIVE], fallback.ways[LIVE]
        ours = frozenset(path for bound in self.written for path in bound.touches)
        weighed = weigh(before, odd, ours, ways)
        # what no step of ours touched, and carries nobody in, is somebody else's doing
        others = tuple(path for path in weighed.others if not carries(path, before, ways))
        if left := tuple(path for path in odd if path not in others):
            return differing(before, live, left)
        if others:
            self.belief = replace(self.belief, stores={**self.belief.stores, LIVE: overlaid(before, live)})
            yield Note(
                Noted(
                    step=self.place, of=len(self.sheet.steps), kind=self.sheet.steps[self.place].kind.value,
                    what="what went back", paths=tuple(map(show, others)), reads=differing(before, live, others),
                )
            )  # fmt: skip
        return ""

    def wait(self, fallback: Fallback, longer: float = 0.0, quiet: float = -1.0) -> Generator[Request, Any, bool]:
        """Wait until the unit has gone back by itself and lets us in."""
        ways = tuple(sorted(fallback.ways[LIVE]))
        still = fallback.seconds + quiet if quiet >= 0 else 0.0
        back: Returned | None = yield Return(ways, fallback.seconds + longer, still)
        if back is None:
            return False
        self.belief = replace(self.belief, sessions=frozenset({back.way}))
        return True

    def log_in_once(self) -> Doing:
        """Log in once more, by the best proven way."""
        best = next((way for way in sorted(self.belief.proven) if full(self.belief.live, way)), None)
        if best is not None and isinstance((yield LogIn(best)), Opened):
            self.belief = learn(self.belief, best)

    def wait_for_return(self) -> Generator[Request, Any, TakenBack]:
        """Nobody gets in any more, and the unit will go back by itself: wait for that, then read it."""
        guard = self.belief.guard
        assert isinstance(guard, Armed)
        seconds = f"{guard.fallback.seconds:.0f} s"
        if not (yield from self.wait(guard.fallback)):
            return TakenBack((), (f"it should go back by itself within {seconds}; it did not let us in by then",))
        try:
            problem = yield from self.stands_as_before(guard)
        except Stop as stop:
            problem = stop.why
        if problem:
            return TakenBack((), (f"it let us in again, and whether it went back was not seen: {problem}",))
        return TakenBack(("it went back by itself",))


def _not_as_before(family: Family, bound: Bound, seen: Plane, before: Belief) -> str:
    """How a setting that was taken back differs from before; empty where it is the same, or cannot be read."""
    inside = item_of(bound.path) or bound.path
    if is_item(bound.path):
        there, wanted = exists(seen, bound.path), not bound.removes
        listed = bool(readable(family, frozenset({bound.path})))
        if listed and there is not wanted:
            return "whether it is there was not shown" if there is None else f"it reads {told_of(seen, bound.path)}"
    elif isinstance(bound.change, Set) and readable(family, frozenset({bound.path})):
        found = get(seen, bound.path)
        if found != bound.change.value:
            return "it was not shown" if found is None else f"it reads {told_of(seen, bound.path)}"
    was = before.stores.get(bound.store, before.live)
    odd: tuple[Path, ...] = tuple(
        path for path in surprises(was, seen) if path[: len(inside)] == inside and path in bound.touches
    )
    return differing(was, seen, odd) if odd else ""
