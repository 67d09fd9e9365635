"""Carries out a step sheet, as a pure generator: it asks for things to be done and gets the answers back.

There is no wire, clock or disk here, so kills and lies can be tried without any. Each step is written into the
journal before it is sent and after it was read back; "done" means read back. A step that fails stops the unit at
once. It is taken back through a session that still answers (or a new one), and that is read back too, so the state
is known. Whatever goes wrong while a request is carried out is thrown in here, so the run always ends with an entry
that says where the unit stands.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable
from dataclasses import replace
from datetime import datetime
from typing import Any

from ..doors import Way
from ..errors import YardboltError
from ..family.bound import Bound, bind
from ..family.model import KEPT, LIVE, Family, Op
from ..family.writing import plain_order, readable
from ..judge.access import admit
from ..judge.staying import stays
from ..plan.belief import Belief, full, learn, standing
from ..plan.rehearse import Kind, Step, rehearse, rehearse_step
from ..plan.sheet import Sheet
from ..plan.wishes import successors_at
from ..plane.change import Set
from ..plane.compare import difference, surprises
from ..plane.edit import get, reachable
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane
from ..plane.path import Path, show, touches
from ..plane.table import holds_secret, is_item
from ..talk.conversation import Replies
from ..talk.outcomes import Done, Ended, Login, No, Opened, Unclear, told
from .events import LeftUntried, Stopped
from .following import Following
from .readback import confirmed, no_more_told, told_of_it
from .requests import (
    Attempt,
    Attempted,
    Doing,
    LogIn,
    Note,
    Outcome,
    Pause,
    Planes,
    Read,
    Request,
    Return,
    Returned,
    TakenBack,
    WhyUnread,
)
from .sessions import Stop, differing, otherwise, overlaid
from .undoing import RETURNING, Unproven

DIFFERENCES = ("stores", "differences")
WRITING = 1.0  # seconds between looks while it writes
ROUNDED = 60.0  # seconds: some units tell how long they are up in minutes only


class _Run(Following):
    """One run of a sheet."""

    def write(self, place: int, step: Step) -> Doing:
        assert step.bound is not None
        words = self.words(step)
        yield from self.some_session(step.bound.channel)
        if step.guarded:
            yield from self.still_armed(place, step.bound)
        before = self.belief
        bound = self.bound_to_now(step.bound)
        after = rehearse(self.family, before, bound.op, bound)
        # while it goes back by itself, each reading tells how long there is left
        paths = bound.touches | ({RETURNING} if self.armed and self.tells_return else frozenset())
        yield self.sending(place, step, words, bound.secret)
        if step.guarded:
            self.not_over()  # the lid may have been closed since it was asked
        answer, via = yield from self.send(bound.order, bound.channel, after, again=False)
        if isinstance(answer, Ended) and answer.answered:
            # whether it was taken, only reading tells; where all reads as before, it was not, and is sent once more
            read = yield from self.read(paths, "the change could not be read back")
            if self.reads_as_before(before, bound, read.get(bound.store, Plane())):
                answer, via = yield from self.send(bound.order, bound.channel, after)
        # those the op cuts are gone, and so is one that answered unclearly
        self.belief = replace(after, sessions=self.belief.sessions - (before.sessions - after.sessions))
        elsewhere = successors_at(before, bound)
        if bound.cuts == "all" and (bound.op.wait or elsewhere) and not isinstance(answer, No):
            yield from self.come_back(bound.op, before, elsewhere)
            # the cut was announced: the next login shows what came of it
            answer = Done(Replies()) if elsewhere else answer
        self.unproven.append(Unproven(bound, before))
        self.written.append(bound)
        if isinstance(answer, Ended) and not answer.answered and via in after.sessions:
            yield from self.settle(before, bound, paths)
            raise Stop(f"the connection ended at '{words}', which nobody forecast")
        if isinstance(answer, Unclear):
            yield from self.settle(before, bound, paths)
            raise Stop(f"no clear answer to '{words}': {answer.why}")
        # done means read back, whatever the unit said to it
        seen = yield from self.read(paths, "the change could not be read back")
        no = answer if isinstance(answer, No) else None
        yield from self.judged(place, step, words, no, seen.get(bound.store, Plane()), before, bound)
        self.time_told(seen)
        yield self.done(place, step, words)

    def bound_to_now(self, bound: Bound) -> Bound:
        """The change as it is sent now. Raises Stop where it cannot be sent any more."""
        try:
            return bound.again(self.belief.stores.get(bound.store, self.belief.live), self.now())
        except ValueError as e:
            raise Stop(str(e)) from None

    def come_back(self, op: Op, before: Belief, elsewhere: tuple[Way, ...] = ()) -> Doing:
        """The unit goes away for this step and comes back, perhaps at another address."""
        old = sorted((way for way in before.proven if full(before.live, way)), key=lambda way: way.secret.factory)
        back: Returned | None = yield Return((*elsewhere, *old), op.wait)
        if back is None:
            raise Stop(f"the unit did not come back within {op.wait:.0f} s; wait, then run the same command again")
        self.belief = learn(self.belief, back.way)

    def judged(
        self, place: int, step: Step, words: str, no: No | None, seen: Plane, before: Belief, bound: Bound
    ) -> Doing:
        """Read back after a refusal, or after a yes that reads otherwise. The setting is as before, as wanted, or
        partly changed. Raises Stop where the sheet cannot go on."""
        store, said = bound.store, no.said if no else ""
        expected, shown = (
            self.belief.stores[store],
            told_of_it(self.family, bound.path, store, seen, before.stores[store]),
        )
        odd, as_before = surprises(expected, seen), not surprises(before.stores[store], seen)
        if not odd and not said and not shown:
            why = yield WhyUnread()
            untold = f"'{words}' was sent, but the unit did not say what became of it" + (f" ({why})" if why else "")
            left_out = yield from self.leave_out(place, step, words, bound, "", "the unit does not say how")
            # a way in may hang on it: the run ends here, and the next one goes on without it
            if not self.harmless(bound):
                raise Stop(untold)
            raise Stop(untold, left_out, (yield from self.undone(bound)))
        # a password cannot be read, so a no to it is a no
        already = bound.secret is None and confirmed(self.family, bound.touches, expected, seen)
        if not odd and (not said or already):
            return
        # what the unit was never asked, and what nobody read before or could read afterwards, it has not refused
        # (of a password nothing shows whether it was taken)
        known = not holds_secret(bound.path) and told_of_it(self.family, bound.path, store, before.stores[store])
        refused = (no.sent if no else known) and as_before and shown
        mine = tuple(path for path in odd if touches((path,), bound.touches))
        differs, how = differing(expected, seen, odd), otherwise(expected, seen, mine)
        asked = no is None or no.sent
        why = f"the unit refused '{words}': {said}" if said else differs
        why = why if asked else f"'{words}' could not be sent: {said}"
        if as_before and (said or refused):
            # nobody reads it, before or after; no way of ours rests on it, and all else is as before
            # what could not even be asked fails the same way next time
            idle = not asked and shown and self.harmless(bound)
            refused_it = no is not None and asked
            if not (refused or idle) and not (refused_it and not known and not self.is_rested_on(bound)):
                yield Note(self.unlike(place, step, words, bound, said, "", odd, refused_it, asked))
                self.refused(before, bound)
                raise Stop(why)
            left_out = yield from self.leave_out(place, step, words, bound, said, how, odd, asked)
            raise Stop(why, left_out, self.refused(before, bound))
        try:
            not_so = yield from self.accepted(place, step, words, store, seen, bound)
        except Stop:
            # the run ends here; where it is this change that came out otherwise, the next one goes on without it
            yield Note(self.unlike(place, step, words, bound, said, how, odd, left_out=bool(mine or said)))
            self.take_over(before, store, seen)
            raise
        if not not_so and not said:
            return
        self.besides(before, store, seen, not_so)
        left_out = yield from self.leave_out(place, step, words, bound, said, how, mine)
        raise Stop(f"{why}; {differs}" if said and differs else why, left_out, (yield from self.undone(bound)))

    def take_over(self, before: Belief, store: str, seen: Plane) -> None:
        """The change was made partly, or changed something else too: believe the reading, judge the ways in again,
        take the difference back."""
        was = before.stores[store]
        now = overlaid(self.belief.stores[store], seen)
        stores = {**self.belief.stores, store: now}
        ways = dict(self.belief.ways)
        if store in ways:
            ways[store] = stays(was, now, before.ways[store], store == KEPT)
        self.belief = replace(self.belief, stores=stores, ways=ways)
        self.besides(before, store, seen, difference(was, now))

    def besides(self, before: Belief, store: str, seen: Plane, changed: Iterable[Path]) -> None:
        """What changed along with the last change is taken back with it."""
        if not self.unproven:
            return
        was, now, last = before.stores[store], self.belief.stores[store], self.unproven[-1]
        more = tuple(
            back
            for path in sorted(frozenset(changed) & frozenset(surprises(was, seen)))
            if not is_item(path) and path != last.bound.path and (back := self.back_to(path, was, now))
        )
        self.unproven[-1] = replace(last, besides=(*last.besides, *more))

    def back_to(self, path: Path, was: Plane, now: Plane) -> Bound | None:
        """The order that sets one leaf back to its earlier value, where the unit takes such an order."""
        old = get(was, path)
        if old is None or not reachable(now, path):
            return None
        try:
            return bind(self.family, Set(path, old, "back-out"), now)
        except ValueError:
            return None

    def settle(self, before: Belief, bound: Bound, paths: frozenset[Path]) -> Doing:
        """Settle an order with an unclear outcome by reading through another session, never by sending it again."""
        store = bound.store
        try:
            seen = yield from self.read(paths, "")
        except Stop:
            return  # nobody gets in just now; what takes it back is tried all the same, and says so
        plane = seen.get(store, Plane())
        if readable(self.family, paths) and self.reads_as_before(before, bound, plane):
            self.belief = replace(before, sessions=self.belief.sessions)
            self.unproven = [one for one in self.unproven if one.bound is not bound]
        elif surprises(self.belief.stores[store], plane):
            self.take_over(before, store, plane)

    def reads_as_before(self, before: Belief, bound: Bound, seen: Plane) -> bool:
        """Does the unit show this setting, with its value from before the change?"""
        told_so = told_of_it(self.family, bound.path, bound.store, seen)
        return told_so and not surprises(before.stores[bound.store], seen)

    def prove(self, place: int, step: Step) -> Doing:
        assert step.way is not None
        way, words = step.way, self.words(step)
        yield self.proving(place, step, words)
        outcome: Login = yield LogIn(way)
        if not isinstance(outcome, Opened):
            yield self.not_proven(place, step, words, told(outcome))
            unread = [one.why for one in admit(self.belief.live, way).because if one.holds is None]
            known = f" ({unread[0]})" if unread else ""
            raise Stop(f"{way.account} by {way.service} with {way.secret.entry}: {told(outcome)}{known}")
        self.belief = learn(self.belief, way)
        yield from self.compare(place, step, words, way)
        # a new connection has shown that this state lets us in: it is where we go back to no further
        self.unproven.clear()
        yield self.proven(place, step, words, way)

    def compare(self, place: int, step: Step, words: str, via: Way) -> Generator[Request, Any, Plane]:
        """Read everything, in every store that can be read. A change of ours that no longer holds is left out, with
        a note. Returns the live store."""
        seen: Planes | None = yield Read(None, via)
        if seen is None:
            raise Stop("the unit could not be read through the new login")
        for store in (name for name in seen if name in self.belief.stores):
            yield from self.accepted(place, step, words, store, seen[store])
        return seen.get(LIVE, Plane())

    def accepted(
        self, place: int, step: Step, words: str, store: str, seen: Plane, just: Bound | None = None
    ) -> Generator[Request, Any, tuple[Path, ...]]:
        """Changes of earlier steps that read otherwise now do not last on this unit: each is left out, with a note.
        Returns what the change made `just` now has brought about otherwise."""
        expected = self.belief.stores[store]
        made = {path: bound for bound in self.written for path in bound.touches}
        mine = []
        for path in (yield from self.accept(place, step, words, store, seen, made)):
            if just is not None and touches((path,), just.touches):
                mine.append(path)
                continue
            bound = next(one for at, one in made.items() if touches((path,), (at,)))
            yield from self.leave_out(place, step, words, bound, "", otherwise(expected, seen, (path,)), (path,))
        return tuple(mine)

    def save(self, place: int, step: Step) -> Doing:
        confirms = step.kind is Kind.CONFIRM
        by = self.proof().by if confirms else None
        words = yield from self.order_alone(place, step, "confirming" if confirms else "saving", by)
        after = rehearse_step(self.family, self.belief, step)
        kept_is_read = any(ask.store == KEPT for ask in self.family.asks)
        paths = None if kept_is_read else frozenset({DIFFERENCES})
        seen = yield from self.read(paths, "what was saved could not be read back")
        left, waited = get(seen.get(LIVE, Plane()), DIFFERENCES), 0.0
        # a yes may come before it has been written
        while left not in (0, None, ABSENT) and step.op is not None and waited < step.op.wait:
            yield Pause(WRITING)
            waited += WRITING
            seen = yield from self.read(paths, "what was saved could not be read back")
            left = get(seen.get(LIVE, Plane()), DIFFERENCES)
        if left is None and readable(self.family, frozenset({DIFFERENCES})):
            raise Stop("saved, but the unit did not say whether live and saved settings still differ")
        if left not in (0, None, ABSENT):
            raise Stop("after saving, live and saved settings still differ")
        kept = seen.get(KEPT, Plane())
        if kept_is_read and (untold := no_more_told(self.belief.kept, after.kept, kept)):
            raise Stop(f"saved, but the unit did not say whether it kept {', '.join(map(show, untold[:3]))}")
        self.belief = replace(after, sessions=self.belief.sessions)
        if kept_is_read:
            yield from self.accepted(place, step, words, KEPT, kept)
        yield self.done(place, step, words)

    def activate(self, place: int, step: Step) -> Doing:
        """Put the staged edits in force, all at once. The unit may refuse with a reason; then nothing is in force."""
        assert step.op is not None
        words, before = self.words(step), self.belief
        after = rehearse(self.family, before, step.op)
        yield self.sending(place, step, words)
        answer, via = yield from self.send(plain_order(step.op), step.op.by, after)
        # the unit's own reason; nothing of it is in force, so what is staged is dropped
        if isinstance(answer, No):
            raise Stop(f"the unit refused to put the edits in force: {answer.said}")
        self.belief = replace(after, sessions=self.belief.sessions - (before.sessions - after.sessions))
        unforeseen = isinstance(answer, Unclear) or (isinstance(answer, Ended) and via in after.sessions)
        seen = yield from self.read(None, "what is in force could not be read")
        live = seen.get(LIVE, Plane())
        if surprises(after.live, live):
            if unforeseen and not surprises(before.live, live):
                self.belief = replace(before, sessions=self.belief.sessions)
                raise Stop(f"no clear answer to '{words}', and nothing of it is in force")
            try:
                not_so = yield from self.accept(place, step, words, LIVE, live, difference(before.live, after.live))
            except Stop:
                self.take_over(before, LIVE, live)
                raise
            made = [one.bound for one in self.unproven if touches(not_so, one.bound.touches)]
            if not_so:
                self.besides(before, LIVE, live, not_so)
                differs = differing(after.live, live, not_so)
                raise Stop(
                    differs, (yield from self.leave_out(place, step, words, made[-1], "", differs)) if made else None
                )
        if untold := no_more_told(before.live, after.live, live):
            self.take_over(before, LIVE, live)
            raise Stop(f"'{words}' was sent, but the unit did not say what became of {', '.join(map(show, untold))}")
        yield self.done(place, step, words)

    def restart(self, place: int, step: Step) -> Doing:
        assert step.op is not None
        words = self.words(step)
        # planned on what was true then: somebody else may have changed that since
        if not self.lasts(self.belief):
            raise Stop("not restarted: it is no longer certain that anybody gets in after it")
        yield from self.some_session()
        ways = tuple(sorted(self.belief.proven, key=lambda way: (way.secret.factory, way)))
        yield self.sending(place, step, words)
        began, before = datetime.fromisoformat(self.now()), self.belief.live.identity.uptime
        answer, _ = yield from self.send(plain_order(step.op), step.op.by)
        if isinstance(answer, No) and answer.alive:
            raise Stop(f"the unit did not restart: {answer.said}")
        self.belief = rehearse_step(self.family, self.belief, step)
        back: Returned | None = yield Return(ways, step.op.wait)
        if back is None:
            raise Stop("the unit did not come back in time; wait, then run the same command again")
        self.belief = learn(self.belief, back.way)
        up = (yield from self.compare(place, step, words, back.way)).identity.uptime
        # what was never restarted has survived nothing
        if up is not None and up > (datetime.fromisoformat(self.now()) - began).total_seconds() + ROUNDED:
            raise Stop(f"the unit says it has been up for {up:.0f} s, so it did not restart")
        fell = up is not None and before is not None and up < before
        if not back.away and not fell:
            raise Stop(
                "whether it restarted could not be tried: it was never away, and no uptime shows it; 'restart: no' in "
                "the job file goes on without"
            )
        yield self.proven(place, step, words, back.way)

    def attempt(self, place: int, step: Step) -> Doing:
        words = self.words(step)
        yield self.proving(place, step, words)
        got: Attempted = yield Attempt(self.belief)
        if got.failed:
            said = "; ".join(f"{what}: {saw}" for what, saw in got.failed.items())
            # nobody loses a way in by that: it is said at the end, and tried again in the next run
            self.failed = frozenset(got.failed) | (self.failed & got.untried.keys())
            yield self.not_proven(place, step, words, said, tuple(sorted(self.failed)))
            return
        # what could not be tried shows nothing, and mends nothing that failed before
        again = [f"{what}: {saw}" for what, saw in got.untried.items() if what in self.failed]
        if again or not got.held:
            said = next(iter(again or got.untried.values()), "there is nothing to try")
            yield Note(LeftUntried(step=place, of=len(self.sheet.steps), kind=step.kind.value, what=words, said=said))
            return
        self.failed = frozenset()
        yield self.proven(place, step, words, None)

    def go(self) -> Generator[Request, Any, Outcome]:
        does = {
            Kind.WRITE: self.write,
            Kind.PROVE: self.prove,
            Kind.SAVE: self.save,
            Kind.CONFIRM: self.confirm if self.family.op_doing("arm") else self.save,
            Kind.ARM: self.arm,
            Kind.ACTIVATE: self.activate,
            Kind.RESTART: self.restart,
            Kind.TRY: self.attempt,
        }
        for place, step in enumerate(self.sheet.steps):
            self.place = place
            try:
                yield from does[step.kind](place, step)
            except Stop as stop:
                return (yield from self.stopped(place, stop.why, None, stop))
            # thrown in by the code that carries the requests out, or a defect of our own: the run still ends with its
            # state known
            except YardboltError as error:
                return (yield from self.stopped(place, str(error), error))
            except Exception as defect:  # its text may hold anything, so it goes into no record
                return (yield from self.stopped(place, f"a defect in Yard Bolt ({type(defect).__name__})", defect))
        return Outcome(self.belief, "", len(self.sheet.steps))

    def stopped(
        self, place: int, why: str, error: Exception | None, ended: Stop | None = None
    ) -> Generator[Request, Any, Outcome]:
        left_out, settled = (ended.left_out, ended.backed) if ended else (None, None)
        try:
            backed = settled or (yield from self.back_out())
        except Stop as stop:
            backed = TakenBack((), (stop.why,))
        except YardboltError as again:
            backed = TakenBack((), (str(again),))
        except Exception as defect:
            backed = TakenBack((), (f"a defect in Yard Bolt ({type(defect).__name__})",))
        left = standing(self.belief, ()).value
        yield Note(Stopped(step=place, what=why, backed_out=backed.done, stayed=backed.stayed, standing=left))
        return Outcome(self.belief, why, place, backed.done, backed.stayed, error, left_out)


def carry_out(family: Family, sheet: Sheet, belief: Belief, now: Callable[[], str]) -> Generator[Request, Any, Outcome]:
    """Carry out a sheet. `now` gives the laptop's time (ISO 8601) for ops that set a clock."""
    return _Run(family, sheet, belief, now).go()
