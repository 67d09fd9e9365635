"""Carrying out a step sheet, as a pure generator: it asks for things to be done and is told what came of them.

No wire, clock or disk here, so that kills and lies can be tried on it without any. Each step is journaled before it is sent and
after it was read back; "done" means read back. A step that fails stops the unit at once, is taken back through a session that
still answers (or a new one), read back too, and leaves the state known. Whatever goes wrong while a request is carried out is
thrown in here, so that the run always ends with an entry that says where the unit stands.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from ..doors import Way
from ..errors import YardboltError
from ..family.model import KEPT, LIVE, STAGED, Family
from ..family.writing import inverse, op_for, plain_order, readable, render
from ..judge.access import admit, stays
from ..plan.arrange import Sheet
from ..plan.belief import Belief, full, learn, standing
from ..plan.rehearse import Kind, Step, rehearse, rehearse_step, store_of, touched
from ..plan.words import describe, describe_step
from ..plane.change import Change, Make, Set
from ..plane.compare import difference, surprises
from ..plane.edit import Draft, get, item, reachable
from ..plane.kinds import ABSENT
from ..plane.path import Path, show
from ..plane.table import Plane, holds_secret, is_item, steady
from ..plane.words import human
from ..secret import Ref
from ..talk.conversation import Order
from ..talk.outcomes import Done, Ended, Login, No, Opened, Unclear, told
from .events import (
    BackedOut,
    BackingOut,
    Event,
    NotProven,
    Proven,
    Proving,
    ReadBack,
    Sending,
    Stopped,
    Unlike,
)

# ---- what the executor asks for, and what it is told ----------------------------------------------------------------


@dataclass(frozen=True)
class Send:
    """Send this on the session of `via`; told `Done`, `No`, `Unclear` or `Ended`."""

    order: Order
    via: Way


@dataclass(frozen=True)
class Read:
    """Read these paths (None = everything) on the session of `via`; told a plane for each store, or None where that failed."""

    paths: frozenset[Path] | None
    via: Way


@dataclass(frozen=True)
class LogIn:
    """Open a new connection by this way; told the outcome. An opened one stays open."""

    way: Way


@dataclass(frozen=True)
class Return:
    """The unit restarts, or goes back by itself: wait until one of these ways opens; told that way, or None when the time is over."""

    ways: tuple[Way, ...]
    seconds: float


@dataclass(frozen=True)
class Attempt:
    """Try what must be refused now; told a tuple of sentences, one for each thing that was not refused."""

    belief: Belief


@dataclass(frozen=True)
class Note:
    """Write this into the journal, durably, before going on; told nothing."""

    event: Event


Request = Send | Read | LogIn | Return | Attempt | Note
Planes = Mapping[str, Plane]
Doing = Generator[Request, Any, None]


@dataclass(frozen=True)
class Outcome:
    """How the run ended. `why` is empty when all steps were done; `error` is what was thrown in, if that was the reason."""

    belief: Belief
    why: str = ""
    at: int = 0
    backed_out: tuple[str, ...] = ()
    error: YardboltError | None = None


class _Stop(Exception):
    def __init__(self, why: str) -> None:
        super().__init__(why)
        self.why = why


@dataclass(frozen=True)
class _Unproven:
    """A change that was written since the last proof, what takes it back, and what was believed before it."""

    change: Change
    back: tuple[Change, ...]
    before: Belief


class _Run:
    def __init__(self, family: Family, sheet: Sheet, belief: Belief, now: Callable[[], str]) -> None:
        self.family, self.sheet, self.belief, self.now = family, sheet, belief, now
        self.unproven: list[_Unproven] = []
        self.place = 0

    # -- sessions --

    def session(self, survives: Belief | None = None) -> Way:
        """A live session to work through, one that survives the step where there is one."""
        found = (way for way in self.belief.sessions if full(self.belief.live, way))
        alive = sorted(found, key=lambda way: (way.secret.factory, way))
        if not alive:
            raise _Stop("no session with full rights is alive")
        return next((way for way in alive if survives is None or way in survives.sessions), alive[0])

    def some_session(self) -> Doing:
        """Make sure that a session with full rights is alive: log in again by what is proven, else by what the sheet says will open."""
        if any(full(self.belief.live, way) for way in self.belief.sessions):
            return
        steps = (
            *self.sheet.steps[self.place :],
            *self.sheet.steps[: self.place],
        )  # what comes next is the likeliest to open
        planned = [way for step in steps for way in (*((step.way,) if step.way else ()), *step.still)]
        coming = dict.fromkeys((*sorted(self.belief.proven), *planned))
        likely = [
            way for way in coming if full(self.belief.live, way) and admit(self.belief.live, way).admitted is not False
        ]
        for way in likely[:3]:
            outcome: Login = yield LogIn(way)
            if isinstance(outcome, Opened):
                self.belief = learn(self.belief, way)
                return
        raise _Stop("no session with full rights is alive, and no way in opened")

    def drop_session(self, way: Way) -> None:
        """What that session is at is not known any more: nothing more is typed into it."""
        self.belief = self.belief.without(way)

    def send(self, order: Order, survives: Belief | None) -> Generator[Request, Any, tuple[Any, Way]]:
        """Send an order. A session found gone before it left is replaced by a new one, once, and the order repeated."""
        yield from self.some_session()
        via = self.session(survives)
        answer = yield Send(order, via)
        if isinstance(answer, Ended) and not answer.sent:
            self.drop_session(via)
            yield from self.some_session()
            via = self.session(survives)
            answer = yield Send(order, via)
        if isinstance(answer, Unclear | Ended) or (isinstance(answer, No) and not answer.alive):
            self.drop_session(via)
        return answer, via

    def read(self, paths: frozenset[Path] | None, problem: str) -> Generator[Request, Any, Planes]:
        """Read through a live session, through a new one where the first does not answer. Raises _Stop with the problem."""
        for _ in range(2):
            yield from self.some_session()
            via = self.session()
            seen: Planes | None = yield Read(paths, via)
            if seen is not None:
                return seen
            self.drop_session(via)
        raise _Stop(problem)

    # -- events --

    def words(self, step: Step) -> str:
        return describe_step(step, self.plane_for(step.change) if step.change else self.belief.live)

    def plane_for(self, change: Change) -> Plane:
        return self.belief.stores.get(store_of(self.family, change), self.belief.live)

    def sending(self, place: int, step: Step, words: str, secret: Ref | None = None) -> Note:
        change = step.change
        return Note(
            Sending(
                step=place, of=len(self.sheet.steps), kind=step.kind.value, what=words,
                path=show(change.path) if change else "",
                account=change.path[1] if change and secret else "",
                secret=secret.entry if secret else "",
            )
        )  # fmt: skip

    def done(self, place: int, step: Step, words: str) -> Note:
        path = show(step.change.path) if step.change else ""
        return Note(ReadBack(step=place, of=len(self.sheet.steps), kind=step.kind.value, what=words, path=path))

    def proven(self, place: int, step: Step, words: str, way: Way | None) -> Note:
        account, service, secret = (way.account, way.service, way.secret.entry) if way else ("", "", "")
        return Note(
            Proven(
                step=place, of=len(self.sheet.steps), kind=step.kind.value, what=words,
                account=account, service=service, secret=secret,
            )
        )  # fmt: skip

    def proving(self, place: int, step: Step, words: str) -> Note:
        account, service, secret = (
            (step.way.account, step.way.service, step.way.secret.entry) if step.way else ("", "", "")
        )
        return Note(
            Proving(
                step=place, of=len(self.sheet.steps), kind=step.kind.value, what=words,
                account=account, service=service, secret=secret,
            )
        )  # fmt: skip

    def not_proven(self, place: int, step: Step, words: str, said: str) -> Note:
        return Note(NotProven(step=place, of=len(self.sheet.steps), kind=step.kind.value, what=words, said=said))

    # -- one step of each kind --

    def write(self, place: int, step: Step) -> Doing:
        assert step.change is not None
        change, words, store = step.change, self.words(step), store_of(self.family, step.change)
        op = op_for(self.family, change)
        assert op is not None
        yield from self.some_session()
        before = self.belief
        after = rehearse(self.family, before, op, (change,))
        paths = touched(self.family, before, change)
        secret = _secret_of(change)
        order = render(self.family, change, self.plane_for(change), self.now())
        yield self.sending(place, step, words, secret)
        answer, via = yield from self.send(order, after)
        sessions = (
            after.sessions & (self.belief.sessions | {via}) if via in self.belief.sessions else after.sessions - {via}
        )
        self.belief = replace(after, sessions=sessions)
        if steady(change.path):
            back = inverse(self.family, change, before.stores.get(store, before.live))
            self.unproven.append(_Unproven(change, (back,) if back else (), before))
        if isinstance(answer, Ended) and via in after.sessions:
            yield from self.settle(before, store, paths)
            raise _Stop(f"the connection ended at '{words}', which nobody forecast")
        if isinstance(answer, Unclear):
            yield from self.settle(before, store, paths)
            raise _Stop(f"no clear answer to '{words}': {answer.why}")
        seen = yield from self.read(paths, "the change could not be read back")
        said = answer.said if isinstance(answer, No) else ""
        yield from self.judged(place, step, words, said, seen.get(store, Plane()), before, paths)
        yield self.done(place, step, words)

    def judged(
        self, place: int, step: Step, words: str, said: str, seen: Plane, before: Belief, paths: frozenset[Path]
    ) -> Doing:
        """A no is three things after reading back: as before, already as wanted, or partly. Raises _Stop unless it is as wanted."""
        assert step.change is not None
        store = store_of(self.family, step.change)
        expected = self.belief.stores[store]
        odd = surprises(expected, seen)
        # a password cannot be read, so a no to it is a no
        already = _secret_of(step.change) is None and _confirmed(self.family, paths, expected, seen)
        if not odd and (not said or already):
            return
        paths_told, of = tuple(show(path) for path in odd), len(self.sheet.steps)
        yield Note(Unlike(step=place, of=of, kind=step.kind.value, what=words, said=said, paths=paths_told))
        differs = _differs(expected, seen, odd)
        if not said:
            self.take_over(before, store, seen)
            raise _Stop(differs)
        if not surprises(before.stores[store], seen):
            # nothing happened, so there is nothing to take back
            self.belief = replace(before, sessions=self.belief.sessions)
            self.unproven = [one for one in self.unproven if one.change is not step.change]
            raise _Stop(f"the unit refused '{words}': {said}")
        self.take_over(before, store, seen)
        raise _Stop(f"the unit refused '{words}': {said}" + (f"; {differs}" if differs else ""))

    def take_over(self, before: Belief, store: str, seen: Plane) -> None:
        """The change was made partly, or something else with it: believe what was read, judge the ways anew, take the difference back."""
        was = before.stores[store]
        now = _overlaid(self.belief.stores[store], seen)
        stores = {**self.belief.stores, store: now}
        ways = dict(self.belief.ways)
        if store in ways:
            ways[store] = stays(was, now, before.ways[store])
        self.belief = replace(self.belief, stores=stores, ways=ways)
        if not self.unproven:
            return
        last = self.unproven[-1]
        more = tuple(
            back
            for path in sorted(difference(was, now) & frozenset(surprises(was, seen)))
            if not is_item(path) and path != last.change.path and (back := self.back_to(path, was, now))
        )
        self.unproven[-1] = replace(last, back=(*last.back, *more))

    def back_to(self, path: Path, was: Plane, now: Plane) -> Change | None:
        """The change that sets one leaf to what it was, where the unit can be told so."""
        old = get(was, path)
        if old is None or not reachable(now, path):
            return None
        back = Set(path, old, "back-out")
        try:
            return back if op_for(self.family, back) and render(self.family, back, now) else None
        except ValueError:
            return None

    def settle(self, before: Belief, store: str, paths: frozenset[Path]) -> Doing:
        """What became of an unclear order is settled by reading, through another session: never by sending again."""
        try:
            seen = yield from self.read(paths, "")
        except _Stop:
            return  # nobody gets in just now; what takes it back is tried all the same, and says so
        plane = seen.get(store, Plane())
        readable_paths = readable(self.family, paths)
        if readable_paths and not surprises(before.stores[store], plane):
            self.belief = replace(before, sessions=self.belief.sessions)
            self.unproven = self.unproven[:-1]
        elif surprises(self.belief.stores[store], plane):
            self.take_over(before, store, plane)

    def prove(self, place: int, step: Step) -> Doing:
        assert step.way is not None
        way, words = step.way, self.words(step)
        yield self.proving(place, step, words)
        outcome: Login = yield LogIn(way)
        if not isinstance(outcome, Opened):
            yield self.not_proven(place, step, words, told(outcome))
            raise _Stop(f"{way.account} by {way.service} with {way.secret.entry}: {told(outcome)}")
        self.belief = learn(self.belief, way)
        yield from self.compare(way)
        self.unproven.clear()
        yield self.proven(place, step, words, way)

    def compare(self, via: Way) -> Doing:
        """Everything reads as forecast, on every store that can be read."""
        seen: Planes | None = yield Read(None, via)
        if seen is None:
            raise _Stop("the unit could not be read through the new login")
        for store in (name for name in seen if name in self.belief.stores):
            if odd := surprises(self.belief.stores[store], seen[store]):
                raise _Stop(_differs(self.belief.stores[store], seen[store], odd))

    def save(self, place: int, step: Step) -> Doing:
        assert step.op is not None
        words = self.words(step)
        yield self.sending(place, step, words)
        answer, _ = yield from self.send(plain_order(step.op), None)
        if not isinstance(answer, Done):
            raise _Stop(f"{'saving' if step.kind is Kind.SAVE else 'confirming'} failed: {_said(answer)}")
        after = rehearse_step(self.family, self.belief, step)
        kept_is_read = any(ask.store == KEPT for ask in self.family.asks)
        paths = None if kept_is_read else frozenset({("stores", "differences")})
        seen = yield from self.read(paths, "what was saved could not be read back")
        if get(seen.get(LIVE, Plane()), ("stores", "differences")) not in (0, None, ABSENT):
            raise _Stop("after saving, live and kept settings still differ")
        if kept_is_read and (odd := surprises(after.kept, seen.get(KEPT, Plane()))):
            raise _Stop(f"saved, and yet kept {_differs(after.kept, seen.get(KEPT, Plane()), odd)}")
        self.belief = replace(after, sessions=self.belief.sessions)
        yield self.done(place, step, words)

    def activate(self, place: int, step: Step) -> Doing:
        """Staged edits are put in force, all at once; the unit may refuse, with a reason, and then nothing is in force."""
        assert step.op is not None
        words, before = self.words(step), self.belief
        after = rehearse(self.family, before, step.op)
        yield self.sending(place, step, words)
        answer, via = yield from self.send(plain_order(step.op), after)
        alive = self.belief.sessions
        if isinstance(answer, No):
            raise _Stop(f"the unit refused to put the edits in force: {answer.said}")
        self.belief = replace(after, sessions=after.sessions & alive)
        unforeseen = isinstance(answer, Unclear) or (isinstance(answer, Ended) and via in after.sessions)
        seen = yield from self.read(None, "what is in force could not be read")
        live = seen.get(LIVE, Plane())
        if odd := surprises(after.live, live):
            if unforeseen and not surprises(before.live, live):
                self.belief = replace(before, sessions=self.belief.sessions)
                raise _Stop(f"no clear answer to '{words}', and nothing of it is in force")
            expected = self.belief.live
            self.take_over(before, LIVE, live)
            raise _Stop(_differs(expected, live, odd))
        yield self.done(place, step, words)

    def restart(self, place: int, step: Step) -> Doing:
        assert step.op is not None
        words = self.words(step)
        yield from self.some_session()
        ways = tuple(sorted(self.belief.proven, key=lambda way: (way.secret.factory, way)))
        yield self.sending(place, step, words)
        answer, _ = yield from self.send(plain_order(step.op), None)
        if isinstance(answer, No) and answer.alive:
            raise _Stop(f"the unit did not restart: {answer.said}")
        self.belief = rehearse_step(self.family, self.belief, step)
        back: Way | None = yield Return(ways, step.op.wait)
        if back is None:
            raise _Stop("the unit did not come back in time; wait, then run the same command again")
        self.belief = learn(self.belief, back)
        yield from self.compare(back)
        yield self.proven(place, step, words, back)

    def attempt(self, place: int, step: Step) -> Doing:
        words = self.words(step)
        yield self.proving(place, step, words)
        failed: tuple[str, ...] = yield Attempt(self.belief)
        if failed:
            yield self.not_proven(place, step, words, "; ".join(failed))
            raise _Stop("; ".join(failed))
        yield self.proven(place, step, words, None)

    # -- taking back --

    def back_out(self) -> Generator[Request, Any, tuple[str, ...]]:
        """Take back, newest first, what was written since the last proof, and read that back too."""
        if self.belief.fallback is not None and not any(full(self.belief.live, way) for way in self.belief.sessions):
            return (yield from self.wait_for_return())
        if self.belief.waiting and self.family.op_doing("discard"):
            return (yield from self.discard())
        told_so: list[str] = []
        for one in reversed(self.unproven):
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
            answer, _ = yield from self.send(order, None)
            if not isinstance(answer, Done):
                return _said(answer)
            paths = readable(self.family, (back.path,))
            seen = (yield from self.read(paths, "it could not be read back")) if paths else {}
        except _Stop as stop:
            return stop.why
        plane = seen.get(store_of(self.family, back), Plane())
        if isinstance(back, Set) and paths and get(plane, back.path) != back.value:
            return f"it reads {_told(plane, back.path)}"
        yield Note(BackedOut(what=words, path=show(back.path)))
        return ""

    def discard(self) -> Generator[Request, Any, tuple[str, ...]]:
        """Drop the staged edits that are not in force."""
        op = self.family.op_doing("discard")
        assert op is not None
        words = "the staged edits"
        yield Note(BackingOut(what=words))
        try:
            answer, _ = yield from self.send(plain_order(op), None)
        except _Stop as stop:
            return (f"{words}: {stop.why}",)
        if not isinstance(answer, Done):
            return (f"{words}: {_said(answer)}",)
        sessions = self.belief.sessions
        self.belief = replace(rehearse(self.family, self.belief, op), sessions=sessions)
        seen: Planes | None = yield Read(None, self.session())
        if seen is None or surprises(self.belief.stores[STAGED], seen.get(STAGED, Plane())):
            return (f"{words}: they could not be read as gone",)
        yield Note(BackedOut(what=words))
        return (words,)

    def wait_for_return(self) -> Generator[Request, Any, tuple[str, ...]]:
        """Nobody gets in any more, and the unit goes back by itself: wait for that."""
        fallback = self.belief.fallback
        assert fallback is not None
        back: Way | None = yield Return(tuple(sorted(fallback.ways[LIVE])), fallback.seconds)
        self.belief = replace(
            self.belief, stores=fallback.stores, ways=fallback.ways, sessions=frozenset(), fallback=None
        )
        if back is None:
            return (f"it should go back by itself within {fallback.seconds:.0f} s; it did not let us in by then",)
        self.belief = learn(self.belief, back)
        return ("it went back by itself",)

    # -- the whole --

    def go(self) -> Generator[Request, Any, Outcome]:
        does = {
            Kind.WRITE: self.write,
            Kind.PROVE: self.prove,
            Kind.SAVE: self.save,
            Kind.CONFIRM: self.save,
            Kind.ACTIVATE: self.activate,
            Kind.RESTART: self.restart,
            Kind.TRY: self.attempt,
        }
        for place, step in enumerate(self.sheet.steps):
            self.place = place
            try:
                yield from does[step.kind](place, step)
            except _Stop as stop:
                return (yield from self.stopped(place, stop.why, None))
            except YardboltError as error:
                return (yield from self.stopped(place, str(error), error))
        return Outcome(self.belief, "", len(self.sheet.steps))

    def stopped(self, place: int, why: str, error: YardboltError | None) -> Generator[Request, Any, Outcome]:
        try:
            backed = yield from self.back_out()
        except _Stop as stop:
            backed = (stop.why,)
        except YardboltError as again:
            backed = (str(again),)
        left = standing(self.belief, ()).value
        yield Note(Stopped(step=place, what=why, backed_out=backed, standing=left))
        return Outcome(self.belief, why, place, backed, error)


def _secret_of(change: Change) -> Ref | None:
    match change:
        case Set(path, Ref() as ref) if holds_secret(path):
            return ref
        case Make(_, values):
            return next((value for _, value in values if isinstance(value, Ref)), None)
    return None


def _said(answer: Any) -> str:
    match answer:
        case No(said):
            return said
        case Unclear(why):
            return why
    return "the connection ended"


def _told(plane: Plane, path: Path) -> str:
    if is_item(path):
        return "present" if item(plane, path) else "absent"
    return human(path, get(plane, path))


def _differs(expected: Plane, seen: Plane, odd: tuple[Path, ...]) -> str:
    return "; ".join(f"{show(p)} reads {_told(seen, p)}, expected {_told(expected, p)}" for p in odd[:4])


def _overlaid(plane: Plane, seen: Plane) -> Plane:
    """The plane, with what was read otherwise put in its place."""
    draft = Draft(plane)
    for path in surprises(plane, seen):
        if not is_item(path):
            draft.put(path, get(seen, path))
        elif item(seen, path) is None:
            draft.drop(path)
        else:
            draft.make(path)
    return draft.freeze()


def _confirmed(family: Family, paths: frozenset[Path], forecast: Plane, seen: Plane) -> bool:
    """Did the reading confirm every touched path that can be read? Then a 'no' meant: already so."""
    shown = readable(family, paths)
    leaves = [path for path in shown if not is_item(path)]
    return bool(shown) and all(get(seen, p) is not None and get(seen, p) == get(forecast, p) for p in leaves)


def carry_out(family: Family, sheet: Sheet, belief: Belief, now: Callable[[], str]) -> Generator[Request, Any, Outcome]:
    """Carry out a sheet. `now` tells the laptop's time (ISO 8601) for ops that set a clock."""
    return _Run(family, sheet, belief, now).go()
