"""Runs a change under a guard: a return is armed before anything that could lock somebody out. The unit is asked how
long it still waits. The same login that proves the way in confirms the change."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import replace
from datetime import datetime
from typing import Any

from ..doors import Way
from ..family.bound import Bound
from ..family.model import LIVE
from ..family.writing import plain_order
from ..plan.belief import full
from ..plan.guard import Armed, Proven
from ..plan.rehearse import Kind, Step, rehearse_step
from ..plane.edit import get
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane
from ..talk.conversation import ANSWER
from ..talk.outcomes import Done, Ended
from .requests import (
    Doing,
    Planes,
    Request,
    Send,
)
from .sessions import Stop, reason_of
from .undoing import RETURNING, TakingBack

TO_PROVE = 60.0  # seconds that must be left of a timed return to log in again and confirm


class Guarding(TakingBack):
    """A run that can arm, ask and confirm."""

    def prove(self, place: int, step: Step) -> Doing:
        """Log in again, and compare the reading."""
        raise NotImplementedError

    def order_alone(self, place: int, step: Step, doing: str, via: Way | None = None) -> Generator[Request, Any, str]:
        """Send an op that stands alone, with its entries in the journal (by this very session, where one is given);
        returns what it does, in words. Raises Stop unless it was done."""
        assert step.op is not None
        words = self.words(step)
        yield self.sending(place, step, words)
        answer: Any = Ended(sent=False)
        if via is not None and via in self.belief.sessions and self.family.carries(via.service, step.op.by):
            answer = yield Send(plain_order(step.op), via)
        if isinstance(answer, Ended) and not answer.sent:
            answer, _ = yield from self.send(plain_order(step.op), step.op.by)
        if not isinstance(answer, Done):
            raise Stop(f"{doing} failed: {reason_of(answer)}")
        return words

    def arm(self, place: int, step: Step) -> Doing:
        """Arm the return. It counts as armed only once it was read as armed, with the time it still has."""
        assert step.op is not None
        # sent, and perhaps armed though it failed: what is armed goes back to what is there now, which is no harm
        words = yield from self.order_alone(place, step, "arming the timed return")
        left = yield from self.returning()
        if not (isinstance(left, float) and 0 < left <= step.op.returns):
            raise Stop("the timed return was armed, and does not read as armed")
        self.belief = replace(rehearse_step(self.family, self.belief, step), sessions=self.belief.sessions)
        self.tell_guard(left)
        self.before_arming = len(self.unproven)
        yield self.done(place, step, words)

    def confirm(self, place: int, step: Step) -> Doing:
        """Confirm: only now are the changes permanent. It goes by the very session whose login proved them, because
        an older session would still be open where nobody gets in any more."""
        words = yield from self.order_alone(place, step, "confirming", self.proof().by)
        if (yield from self.returning()) is not ABSENT:
            raise Stop("confirmed, and yet it reads as going back by itself")
        self.belief = replace(rehearse_step(self.family, self.belief, step), sessions=self.belief.sessions)
        yield self.done(place, step, words)

    def proof(self) -> Proven:
        """The login that proves what is to be confirmed. Raises Stop where there was none since the last write."""
        guard = self.belief.guard
        if not isinstance(guard, Proven):
            raise Stop("not confirmed, so it goes back by itself: no login since the last change has proven the way in")
        return guard

    def still_armed(self, place: int, bound: Bound) -> Doing:
        """A guarded change is sent only while the unit would go back, with time left to prove it. If the time grows
        short, what was made so far is proven and confirmed, and the return is armed again."""
        guard, arm = self.belief.guard, self.family.op_doing("arm")
        if not isinstance(guard, Armed) or arm is None:
            raise Stop("the timed return is not armed, so nothing that needs it is sent")
        # where it goes back soon in any case, a part of that has to do
        enough = min(max(bound.op.wait, ANSWER) + TO_PROVE, guard.fallback.seconds / 3)
        if guard.left_at(self.seconds()) > enough:
            return
        left = yield from self.returning()
        if not isinstance(left, float) or left <= 0:
            raise Stop("the timed return is over, and what was not confirmed has gone back")
        self.tell_guard(left)
        if left > enough:
            return
        confirm = self.family.op_doing("confirm")
        best = next((way for way in sorted(self.belief.proven) if full(self.belief.live, way)), None)
        if confirm is None or best is None:
            raise Stop(f"only {left:.0f} s are left of the timed return; run the same command again")
        yield from self.prove(place, Step(Kind.PROVE, way=best))
        yield from self.confirm(place, Step(Kind.CONFIRM, op=confirm))
        yield from self.arm(place, Step(Kind.ARM, op=arm))

    def not_over(self) -> None:
        """Raises Stop if the unit has gone back by now, by the laptop's clock."""
        guard = self.belief.guard
        if isinstance(guard, Armed) and guard.left_at(self.seconds()) <= 0:
            raise Stop("the timed return is over, and what was not confirmed has gone back")

    @property
    def armed(self) -> bool:
        """Is a return armed at this moment?"""
        return isinstance(self.belief.guard, Armed)

    def seconds(self) -> float:
        """The laptop's clock. It goes on while the laptop sleeps."""
        return datetime.fromisoformat(self.now()).timestamp()

    def tell_guard(self, left: float) -> None:
        guard = self.belief.guard
        if isinstance(guard, Armed):
            self.belief = replace(self.belief, guard=guard.told(left, self.seconds()))

    def time_told(self, seen: Planes) -> None:
        """The time that is left, from a reading that was made anyway."""
        left = get(seen.get(LIVE, Plane()), RETURNING)
        if isinstance(left, float):
            self.tell_guard(left)

    def returning(self) -> Generator[Request, Any, Any]:
        """The time until the unit goes back, as it says itself. Raises Stop where no return is armed."""
        seen = yield from self.read(frozenset({RETURNING}), "whether it goes back by itself could not be read")
        left = get(seen.get(LIVE, Plane()), RETURNING)
        if left is None:
            raise Stop("the unit does not say whether it goes back by itself")
        return left
