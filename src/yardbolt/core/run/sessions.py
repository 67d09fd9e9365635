"""The run in progress: its live sessions, its entries in the journal, and reading back."""

from __future__ import annotations

from collections.abc import Callable, Generator
from typing import Any

from ..doors import Way
from ..family.model import LIVE, Family
from ..family.reading import asks_for
from ..judge.access import admit
from ..plan.belief import Belief, full, learn
from ..plan.rehearse import Step
from ..plan.sheet import Sheet
from ..plan.words import describe_step
from ..plane.change import Change
from ..plane.compare import surprises
from ..plane.edit import Draft, get, item
from ..plane.leaves import Plane
from ..plane.path import Path, show
from ..plane.table import is_item
from ..plane.words import human
from ..secret import Ref
from ..talk.conversation import Order
from ..talk.outcomes import Ended, Login, No, Opened, Unclear
from .events import NotProven, Proven, Proving, ReadBack, Sending, Unlike
from .requests import Doing, LogIn, Note, Planes, Read, Request, Send, TakenBack


class Stop(Exception):
    """The run cannot go on with this sheet, and why. `left_out` is the change it ends at, where no way in is lost
    and the rest can go on without it; `backed` is what was taken back for that, where nothing else has to be. The
    executor never lets it out."""

    def __init__(
        self, why: str, left_out: tuple[Change, Unlike] | None = None, backed: TakenBack | None = None
    ) -> None:
        super().__init__(why)
        self.why, self.left_out, self.backed = why, left_out, backed


class Conducting:
    """A run in progress: the sheet, the belief, and the current step."""

    def __init__(self, family: Family, sheet: Sheet, belief: Belief, now: Callable[[], str]) -> None:
        self.family, self.sheet, self.belief, self.now = family, sheet, belief, now
        self.place = 0

    # -- sessions --

    def sessions_by(self, channel: str) -> list[Way]:
        """The live sessions with all rights that carry a channel (any channel, where it is empty)."""
        alive = [way for way in self.belief.sessions if full(self.belief.live, way)]
        return [way for way in alive if not channel or self.family.carries(way.service, channel)]

    def session(self, channel: str = "", survives: Belief | None = None) -> Way:
        """A live session to work through; one that survives the step, if there is one."""
        found = self.sessions_by(channel)
        # what is sent may hold a secret, so by an encrypted way where there is one
        alive = sorted(found, key=lambda way: (not self.family.sealed(way.service), way.secret.factory, way))
        if not alive:
            raise Stop("no session with full rights is alive")
        return next((way for way in alive if survives is None or way in survives.sessions), alive[0])

    def some_session(self, channel: str = "") -> Doing:
        """Make sure that a live session with all rights carries a channel: log in again by a proven way, else by one
        the plan expects to open."""
        if self.sessions_by(channel):
            return
        steps = (
            *self.sheet.steps[self.place :],
            *self.sheet.steps[: self.place],
        )  # what comes next is the likeliest to open
        planned = [way for step in steps for way in (*((step.way,) if step.way else ()), *step.still)]
        coming = [
            way
            for way in dict.fromkeys((*sorted(self.belief.proven), *planned))
            if not channel or self.family.carries(way.service, channel)
        ]
        # what is proven opens, whatever a reading says of it
        likely = [
            way
            for way in coming
            if full(self.belief.live, way)
            and (way in self.belief.proven or admit(self.belief.live, way).admitted is not False)
        ]
        # each further login may cost a try of an account we still need
        for way in likely[:3]:
            outcome: Login = yield LogIn(way)
            if isinstance(outcome, Opened):
                self.belief = learn(self.belief, way)
                return
        raise Stop("no session with full rights is alive, and no way in opened")

    def drop_session(self, way: Way) -> None:
        """Nobody knows what this session is in the middle of, so nothing more is typed into it."""
        self.belief = self.belief.without(way)

    def send(
        self, order: Order, channel: str, survives: Belief | None = None, again: bool = True
    ) -> Generator[Request, Any, tuple[Any, Way]]:
        """Send an order. If the session turns out to be gone before the order left, another one takes its place, in
        the end a new one, and the order is repeated: sessions that were open together run out together. Without
        `again`, an order that was answered with the page of a finished session is not repeated."""
        yield from self.some_session(channel)
        via = self.session(channel, survives)
        answer = yield Send(order, via)
        for _ in range(len(self.belief.sessions) + 1):
            # it never left, so sending it again does it once
            if not isinstance(answer, Ended) or (answer.sent and not (answer.answered and again)):
                break
            self.drop_session(via)
            yield from self.some_session(channel)
            via = self.session(channel, survives)
            answer = yield Send(order, via)
        if isinstance(answer, Unclear | Ended) or (isinstance(answer, No) and not answer.alive):
            self.drop_session(via)
        return answer, via

    def read(self, paths: frozenset[Path] | None, problem: str) -> Generator[Request, Any, Planes]:
        """Read through a live session, or a new one where the first does not answer. Raises Stop with the problem."""
        channel = next((ask.by for ask in asks_for(self.family, paths)), "") if paths is not None else ""
        for _ in range(2):
            yield from self.some_session(channel)
            via = self.session(channel)
            seen: Planes | None = yield Read(paths, via)
            if seen is not None:
                return seen
            self.drop_session(via)
        raise Stop(problem)

    # -- events --

    def words(self, step: Step) -> str:
        store = step.bound.store if step.bound else LIVE
        return describe_step(step, self.belief.stores.get(store, self.belief.live))

    def sending(self, place: int, step: Step, words: str, secret: Ref | None = None) -> Note:
        change = step.change
        # one of SNMP opens no login
        secret = secret if change and change.path[0] == "accounts" else None
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

    def not_proven(self, place: int, step: Step, words: str, said: str, claims: tuple[str, ...] = ()) -> Note:
        kind = step.kind.value
        return Note(NotProven(step=place, of=len(self.sheet.steps), kind=kind, what=words, said=said, claims=claims))


def reason_of(answer: Any) -> str:
    match answer:
        case No(said):
            return said
        case Unclear(why):
            return why
    return "the connection ended"


def told_of(plane: Plane, path: Path) -> str:
    if is_item(path):
        return "present" if item(plane, path) else "absent"
    return human(path, get(plane, path))


def differing(expected: Plane, seen: Plane, odd: tuple[Path, ...]) -> str:
    return "; ".join(f"{show(p)} reads {told_of(seen, p)}, expected {told_of(expected, p)}" for p in odd[:4])


def otherwise(expected: Plane, seen: Plane, odd: tuple[Path, ...]) -> str:
    """The same in fewer words, where it is about one leaf that is named beside it."""
    if len(odd) != 1:
        return differing(expected, seen, odd)
    return f"reads {told_of(seen, odd[0])}, wanted {told_of(expected, odd[0])}"


def overlaid(plane: Plane, seen: Plane) -> Plane:
    """The plane, with the settings that read otherwise put in."""
    draft = Draft(plane)
    for path in surprises(plane, seen):
        if not is_item(path):
            draft.put(path, get(seen, path))
        elif item(seen, path) is None:
            draft.drop(path)
        else:
            draft.make(path)
    return draft.freeze()
