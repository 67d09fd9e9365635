"""Carrying out a step sheet, as a pure generator: it asks for things to be done and is told what came of them (D18).

No wire, clock or disk here, so that kills and lies can be tried on it without any. Each step is journaled before it is sent and
after it was read back; "done" means read back. A step that fails stops the unit at once, is backed out through the session that
is still alive where that is possible, and leaves the state known.
"""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass, field
from typing import Any

from .access import Way
from .dialogue import Entry
from .extract import surprises
from .family import Change, Family, Order, Set, asks_for, op_for, plain_order, render
from .paths import Path, show
from .plane import LISTS, Plane, get, human, item, steady
from .rehearse import Belief, Kind, Step, full, hold, learn, rehearse, touched
from .secret import Ref
from .steps import Sheet, inverse, worded

# ---- what the executor asks for, and what it is told -------------------------------------------------------------------------


@dataclass(frozen=True)
class Send:
    """Send this on the session of `via`; told a `Sent`. `wait` is the longest time in seconds, 0 for the usual."""

    order: Order
    via: Way
    wait: float = 0.0


@dataclass(frozen=True)
class Sent:
    """What came of it: the unit's own reason for a no, whether the session ended, whether the outcome is unclear."""

    trouble: str = ""
    closed: bool = False
    unclear: bool = False


@dataclass(frozen=True)
class Read:
    """Read these paths (None = everything) on the session of `via`; told a Plane, or None where that failed."""

    paths: frozenset[Path] | None
    via: Way


@dataclass(frozen=True)
class Login:
    """Open a new connection by this way; told the `Entry`. An opened one stays open."""

    way: Way


@dataclass(frozen=True)
class Return:
    """The unit restarts: wait until one of these ways opens; told that way, or None when the time is over."""

    ways: tuple[Way, ...]
    wait: float


@dataclass(frozen=True)
class Attempt:
    """Try what must be refused now; told a tuple of sentences, one for each thing that was not refused."""

    belief: Belief


@dataclass(frozen=True)
class Note:
    """Write this into the journal, durably, before going on; told nothing."""

    entry: dict[str, Any] = field(default_factory=dict)


Request = Send | Read | Login | Return | Attempt | Note


@dataclass(frozen=True)
class Ended:
    """How the run ended. `why` is empty when all steps were done."""

    belief: Belief
    why: str = ""
    at: int = 0
    backed_out: tuple[str, ...] = ()


class _Stop(Exception):
    def __init__(self, why: str) -> None:
        super().__init__(why)
        self.why = why


class _Run:
    def __init__(self, f: Family, sheet: Sheet, b: Belief, now: Callable[[], str]) -> None:
        self.f, self.sheet, self.b, self.now = f, sheet, b, now
        self.unproven: list[tuple[Change, Change | None, Belief]] = []
        self.start = b.active

    def session(self, survives: Belief | None = None) -> Way:
        """A live session to work through, one that survives the step where there is one."""
        alive = sorted((w for w in self.b.sessions if full(self.b.active, w)), key=lambda w: (w.secret.factory, w))
        if not alive:
            raise _Stop("no session with full rights is alive")
        return next((w for w in alive if survives is None or w in survives.sessions), alive[0])

    def note(self, n: int, state: str, **more: Any) -> Note:
        step = self.sheet.steps[n]
        words = worded(step.change, self.start) if step.change else step.kind.value
        if step.kind is Kind.PROVE and step.way is not None:
            words = f"log in anew as {step.way.account} by {step.way.service}"
        return Note({"step": n, "of": len(self.sheet.steps), "kind": step.kind.value, "state": state, "what": words, **more})

    # -- one step of each kind --

    def write(self, n: int, step: Step) -> Generator[Request, Any, None]:
        assert step.change is not None
        change, op = step.change, op_for(self.f, step.change)
        forecast = rehearse(self.f, self.b, step)
        paths = touched(self.f, self.b, step)
        if not any(full(self.b.active, w) for w in self.b.sessions):
            yield from self.enter_again()
        via = self.session(forecast)
        secret = change.value if isinstance(change, Set) and isinstance(change.value, Ref) else dict(getattr(change, "values", ())).get("secret")
        extra = {"account": change.path[1], "secret": secret.entry} if isinstance(secret, Ref) else {}
        order = render(self.f, change, self.b.active, self.now())
        yield self.note(n, "sending", path=show(change.path), **extra)
        sent: Sent = yield Send(order, via, op.wait if op else 0.0)
        before, self.b = self.b, forecast
        if steady(change.path):
            self.unproven.append((change, inverse(self.f, change, before.active), before))
        if sent.closed and via in forecast.sessions:
            self.b = _without(forecast, via)
            raise _Stop(f"the connection ended at '{worded(change, before.active)}', which nobody forecast")
        if sent.unclear:
            raise _Stop(f"no clear answer to '{worded(change, before.active)}': {sent.trouble}")
        if not any(full(self.b.active, w) for w in self.b.sessions):
            yield from self.enter_again()
        seen: Plane | None = yield Read(paths, self.session())
        if seen is None:
            raise _Stop("the change could not be read back")
        odd = surprises(self.b.active, seen)
        so_already = secret is None and _confirmed(self.f, paths, self.b.active, seen)  # a password cannot be read, so a no to it is a no
        if odd or (sent.trouble and not so_already):
            yield self.note(n, "refused" if sent.trouble else "differs", said=sent.trouble, paths=[show(p) for p in odd])
            differs = "; ".join(f"{show(p)} reads {_told(seen, p)}, expected {_told(self.b.active, p)}" for p in odd[:4])
            if not sent.trouble:
                raise _Stop(differs)
            if not surprises(before.active, seen):  # nothing happened, so there is nothing to take back
                self.b = before
                self.unproven = [u for u in self.unproven if u[0] is not change]
                differs = ""
            raise _Stop(f"the unit refused '{worded(change, before.active)}': {sent.trouble}" + (f"; {differs}" if differs else ""))
        yield self.note(n, "read back", path=show(change.path))

    def enter_again(self) -> Generator[Request, Any, None]:
        """Log in again with full rights: by what is proven, else by what the sheet says will open."""
        coming = [*sorted(self.b.proven), *(w for step in self.sheet.steps for w in step.still), *(s.way for s in self.sheet.steps if s.way)]
        for way in [w for w in dict.fromkeys(coming) if full(self.b.active, w)][:3]:
            entry: Entry = yield Login(way)
            if entry is Entry.OPENED:
                self.b = learn(self.b, way)
                return
        raise _Stop("no session with full rights is alive, and no way in opened")

    def prove(self, n: int, step: Step) -> Generator[Request, Any, None]:
        assert step.way is not None
        yield self.note(n, "trying", account=step.way.account, service=step.way.service, secret=step.way.secret.entry)
        entry: Entry = yield Login(step.way)
        if entry is not Entry.OPENED:
            yield self.note(n, "not proven", said=entry.value)
            raise _Stop(f"{step.way.account} by {step.way.service} with {step.way.secret.entry}: {entry.value}")
        self.b = rehearse(self.f, self.b, step)
        yield from self.compare(step.way)
        self.unproven.clear()
        yield self.note(n, "proven", account=step.way.account, service=step.way.service, secret=step.way.secret.entry)

    def compare(self, via: Way) -> Generator[Request, Any, None]:
        seen: Plane | None = yield Read(None, via)
        if seen is None:
            raise _Stop("the unit could not be read through the new login")
        if odd := surprises(self.b.active, seen):
            raise _Stop("; ".join(f"{show(p)} reads {_told(seen, p)}, expected {_told(self.b.active, p)}" for p in odd[:4]))

    def save(self, n: int, step: Step) -> Generator[Request, Any, None]:
        op = self.f.op_doing("save")
        assert op is not None
        yield self.note(n, "sending")
        via = self.session()
        sent: Sent = yield Send(plain_order(op), via, op.wait)
        if sent.closed:
            self.b = _without(self.b, via)
        if sent.trouble or sent.closed or sent.unclear:
            raise _Stop(f"saving failed: {sent.trouble or 'the connection ended'}")
        after = rehearse(self.f, self.b, step)
        seen: Plane | None = yield Read(frozenset({("stores", "differences")}), self.session())
        if seen is None or get(seen, ("stores", "differences")) not in (0, None):
            raise _Stop("after saving, live and kept settings still differ")
        self.b = after
        yield self.note(n, "read back")

    def restart(self, n: int, step: Step) -> Generator[Request, Any, None]:
        op = self.f.op_doing("restart")
        assert op is not None
        ways = tuple(sorted(self.b.proven, key=lambda w: (w.secret.factory, w)))
        yield self.note(n, "sending")
        sent: Sent = yield Send(plain_order(op), self.session(), 0.0)
        if sent.trouble and not sent.closed:
            raise _Stop(f"the unit did not restart: {sent.trouble}")
        self.b = rehearse(self.f, self.b, step)
        back: Way | None = yield Return(ways, op.wait)
        if back is None:
            raise _Stop("the unit did not come back in time; wait, then run the same command again")
        self.b = learn(self.b, back)
        yield from self.compare(back)
        yield self.note(n, "proven", account=back.account, service=back.service)

    def attempt(self, n: int, step: Step) -> Generator[Request, Any, None]:
        yield self.note(n, "trying")
        failed: tuple[str, ...] = yield Attempt(self.b)
        if failed:
            yield self.note(n, "not proven", said="; ".join(failed))
            raise _Stop("; ".join(failed))
        yield self.note(n, "proven")

    # -- the whole --

    def back_out(self) -> Generator[Request, Any, tuple[str, ...]]:
        """Take back, newest first, what was written since the last proof, while a session is alive."""
        told = []
        for _, back, before in reversed(self.unproven):
            if back is None or not self.b.sessions:
                told.append("no way back" if back is None else "no session alive")
                break
            yield Note({"kind": "back-out", "state": "sending", "what": worded(back, self.b.active)})
            sent: Sent = yield Send(render(self.f, back, self.b.active, self.now()), self.session())
            if sent.closed or sent.unclear or sent.trouble:
                told.append(f"{worded(back, self.b.active)}: {sent.trouble or 'the connection ended'}")
                break
            told.append(worded(back, self.b.active))
            yield Note({"kind": "back-out", "state": "backed out", "what": told[-1]})
            self.b = Belief(
                before.active, before.saved, before.proven, before.kept, self.b.sessions & before.sessions or self.b.sessions, before.laptop, True
            )
        return tuple(told)

    def go(self) -> Generator[Request, Any, Ended]:
        does = {Kind.WRITE: self.write, Kind.PROVE: self.prove, Kind.SAVE: self.save, Kind.RESTART: self.restart, Kind.TRY: self.attempt}
        for n, step in enumerate(self.sheet.steps):
            self.start = self.b.active
            try:
                yield from does[step.kind](n, step)
            except _Stop as stop:
                backed = yield from self.back_out()
                yield Note(
                    {"kind": "stop", "state": "stopped", "step": n, "what": stop.why, "backed_out": list(backed), "hold": hold(self.b, ()).value}
                )
                return Ended(self.b, stop.why, n, backed)
        return Ended(self.b, "", len(self.sheet.steps))


def _told(plane: Plane, path: Path) -> str:
    if len(path) == 2 and path[0] in LISTS:
        return "present" if item(plane, path) else "absent"
    return human(path, get(plane, path))


def _without(b: Belief, way: Way) -> Belief:
    return Belief(b.active, b.saved, b.proven, b.kept, b.sessions - {way}, b.laptop, b.dirty)


def _confirmed(f: Family, paths: frozenset[Path], forecast: Plane, seen: Plane) -> bool:
    """Did the reading confirm every touched path that can be read? Then a 'no' meant: already so (N206)."""
    readable = [p for p in paths if p[-1] != "secret" and any(True for _ in asks_for(f, (p,)))]
    return bool(readable) and all(get(seen, p) is not None and get(seen, p) == get(forecast, p) for p in readable if len(p) != 2)


def carry_out(f: Family, sheet: Sheet, belief: Belief, now: Callable[[], str]) -> Generator[Request, Any, Ended]:
    """Carry out a sheet. `now` tells the laptop's time (ISO 8601) for ops that set a clock."""
    return _Run(f, sheet, belief, now).go()
