"""From a target to a rehearsed step sheet: which changes, in which order, and what is refused (D7, D10 to D13).

Phases, no search: open -> prove -> save -> close -> prove -> save -> restart -> remove -> prove -> save. Within a phase the first
change whose needs hold and that keeps a way in. `PRECEDENCE` is the one table of order; each row carries the id of its need.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

from .access import Way, admit
from .addresses import AddressSet
from .demands import Gap, Target, Want
from .family import WORDS, Change, Drop, Family, Make, Op, Set, after, op_for, render, unmet
from .job import Site
from .paths import show
from .plane import ABSENT, LISTS, Plane, coerce, exists, get, human, item, reached, steady
from .rehearse import Belief, Hold, Kind, Step, full, hold, rehearse, removes
from .secret import Ref
from .signs import slots

A_MOMENT = "2000-01-01T00:00:00+00:00"  # stands for the laptop's time while rehearsing


# ---- which changes ----------------------------------------------------------------------------------------------------------


def _takes(op: Op) -> frozenset[str]:
    return frozenset(s for text in (op.say, *(send for _, send in op.prompts)) for s in slots(text))


def _of_want(plane: Plane, w: Want, f: Family, site: Site) -> tuple[list[Change], list[Gap]]:
    if w.kind == "gone":
        return _gone(plane, w, f, site)
    if w.kind == "present":
        return _present(plane, w, f)
    if len(w.path) == 3 and w.path[0] in LISTS:
        there = exists(plane, w.path[:2])
        if there is not True:
            return [], [Gap(w.path, w.rule, f"{show(w.path[:1])} were not read whole")] if there is None else []
    if reached(w.path, get(plane, w.path), w.value):
        return [], []
    change = Set(w.path, w.value, w.rule)
    if op_for(f, change) is None:
        return [], [Gap(w.path, w.rule, f"{f.title} has no way to set it")]
    return [change], []


def _gone(plane: Plane, w: Want, f: Family, site: Site) -> tuple[list[Change], list[Gap]]:
    there = exists(plane, w.path)
    if there is False:
        return [], []
    if there is None:
        return [], [Gap(w.path, w.rule, f"{show(w.path[:1])} were not read whole, so nothing unseen is removed")]
    if op_for(f, Drop(w.path)) is None:
        return [], [Gap(w.path, w.rule, f"{f.title} has no way to remove it")]
    out: list[Change] = []
    secret, kept = get(plane, (*w.path, "secret")), get(plane, (*w.path, "storage"))
    shut = Set((*w.path, "secret"), site.secret(w.path[1]), w.rule)
    if w.path[0] == "accounts" and ((isinstance(secret, Ref) and secret.factory) or kept in ("factory", "blank")) and op_for(f, shut):
        out.append(shut)  # the door is shut at once; the account itself goes last
    return [*out, Drop(w.path, w.rule)], []


def _present(plane: Plane, w: Want, f: Family) -> tuple[list[Change], list[Gap]]:
    there = exists(plane, w.path)
    if there is None:
        return [], [Gap(w.path, w.rule, f"{show(w.path[:1])} were not read whole")]
    made: list[Change] = []
    now = {name: get(plane, (*w.path, name)) for name, _ in w.value}
    if not there:
        op = op_for(f, Make(w.path, ()))
        if op is None:
            return [], [Gap(w.path, w.rule, f"{f.title} has no way to make it")]
        given = tuple((n, v) for n, v in w.value if n in _takes(op))
        made.append(Make(w.path, given, w.rule))
        now = {n: coerce((*w.path, n), WORDS.get(v, v)) for n, v in op.then} | dict(given)
    sets = [Set((*w.path, n), v, w.rule) for n, v in w.value if now.get(n) != v]
    gaps = [Gap(s.path, w.rule, f"{f.title} has no way to set it") for s in sets if op_for(f, s) is None]
    return [*made, *(s for s in sets if op_for(f, s))], gaps


def changes(plane: Plane, target: Target, f: Family, site: Site) -> tuple[tuple[Change, ...], tuple[Gap, ...]]:
    """Target minus plane: the changes to make, and the gaps that cannot be planned."""
    out: list[Change] = []
    gaps: list[Gap] = []
    for w in target:
        more, missing = _of_want(plane, w, f, site)
        out += [c for c in more if c not in out]
        gaps += missing
    return tuple(out), tuple(gaps)


# ---- in which order ---------------------------------------------------------------------------------------------------------

OPEN, CLOSE, REMOVE = "open", "close", "remove"
Test = Callable[[Change, Plane, Site], bool]


def _ours(c: Change, site: Site) -> bool:
    return c.path[0] == "accounts" and c.path[1] in {o.name for o in site.accounts}


def _wider(c: Change, p: Plane) -> bool:
    now = get(p, c.path)
    return isinstance(c, Set) and isinstance(c.value, AddressSet) and isinstance(now, AddressSet) and now <= c.value


PRECEDENCE: tuple[tuple[str, str, str, Test], ...] = (
    ("N200", OPEN, "clock before what has dates", lambda c, p, s: c.path[0] == "clock"),
    ("N167", OPEN, "name before keys and logs", lambda c, p, s: c.path == ("name",)),
    ("C06", OPEN, "policy before the passwords it binds", lambda c, p, s: c.path[0] in ("policy", "lockout")),
    ("N140", OPEN, "own account before the factory account goes", lambda c, p, s: isinstance(c, Make)),
    ("N178", OPEN, "own account has its rights before it is relied on", lambda c, p, s: isinstance(c, Set) and _ours(c, s)),
    (
        "N157",
        OPEN,
        "encrypted way open before the plain one closes",
        lambda c, p, s: isinstance(c, Set) and c.path[-1] == "enabled" and c.value is True,
    ),
    ("N183", OPEN, "new sources in before old ones go", lambda c, p, s: _wider(c, p)),
    ("N188", OPEN, "shown from the next login on", lambda c, p, s: c.path == ("banner",)),
    (
        "N173",
        CLOSE,
        "factory passwords first of all that closes",
        lambda c, p, s: isinstance(c, Set) and c.path[0] == "accounts" and c.path[-1] == "secret",
    ),
    ("N180", CLOSE, "needless services, the one in use last", lambda c, p, s: isinstance(c, Set) and c.path[-1] == "enabled" and c.value is False),
    ("N183", CLOSE, "source limits once everybody needed is inside", lambda c, p, s: isinstance(c, Set) and isinstance(c.value, AddressSet)),
    ("N139", REMOVE, "spare ways in end after the restart was survived", lambda c, p, s: isinstance(c, Drop)),
    ("N186", OPEN, "needs nothing before it", lambda c, p, s: True),
)


def rank(c: Change, p: Plane, site: Site) -> tuple[int, str, str]:
    """Place in the table, phase and reason of a change."""
    n = next(i for i, (_, _, _, test) in enumerate(PRECEDENCE) if test(c, p, site))
    return n, PRECEDENCE[n][1], PRECEDENCE[n][2]


@dataclass(frozen=True)
class Sheet:
    """The step sheet of one unit: rehearsed steps, what cannot be planned, and the state forecast at the end."""

    unit: str
    steps: tuple[Step, ...]
    gaps: tuple[Gap, ...]
    changes: tuple[Change, ...]
    forecast: Belief


@dataclass(frozen=True)
class Refused:
    """No order of the changes keeps a way in, or something must be decided first. Each line says what is blocked and why."""

    why: tuple[str, ...]


def wishes(f: Family, site: Site, target: Target, proven: Iterable[Way]) -> tuple[Way, ...]:
    """The ways worth proving, best first: the owner's accounts by the services that stay, then what is proven by another service."""
    ending = {w.path[1] for w in target if w.path[0] == "services" and w.path[-1] == "enabled" and w.value is False}
    logins = [(o.name, site.secret(o.name)) for o in sorted(site.accounts, key=lambda o: o.role != "full")]
    logins += [(w.account, w.secret) for w in sorted(proven)]
    return tuple(dict.fromkeys(Way(site.laptop, ch.service, name, ref) for name, ref in logins for ch in f.channels if ch.service not in ending))


class _Orderer:
    """One run of the planner: belief, steps so far, what is left."""

    def __init__(self, f: Family, belief: Belief, todo: tuple[Change, ...], site: Site, wish: tuple[Way, ...], leaps: frozenset[str]) -> None:
        self.f, self.b, self.site, self.wish, self.leaps = f, belief, site, wish, leaps
        self.start = belief.active
        self.left = sorted(todo, key=lambda c: (rank(c, self.start, site)[0], isinstance(c, Make) and dict(c.values).get("role") != "full"))
        self.steps: list[Step] = []
        self.wrote = False

    def add(self, step: Step) -> None:
        back = back_out(self.f, step.change, self.b.active) if step.change else ""
        self.b = rehearse(self.f, self.b, step)
        still = tuple(sorted((w for w in self.b.proven if w.source == self.b.laptop), key=self.rank_way))
        self.steps.append(replace(step, hold=hold(self.b, self.wish) if step.hold is Hold.PROVEN else step.hold, still=still, back=back))

    def rank_way(self, w: Way) -> tuple[bool, int, Way]:
        """Full rights first, then in the order of the ways that shall exist."""
        return not full(self.b.active, w), self.wish.index(w) if w in self.wish else len(self.wish), w

    def may(self, c: Change) -> tuple[Hold | None, str]:
        """How surely one could still get in after this change; None and the reason where it cannot be made now."""
        op = op_for(self.f, c)
        assert op is not None
        key = c.path[1] if len(c.path) > 1 else ""
        bad = list(unmet(self.f, op, self.b.active, key))
        if isinstance(c, Set) and c.path[0] in LISTS and item(self.b.active, c.path[:2]) is None:
            bad.append(f"{show(c.path[:2])} is not there yet")
        if isinstance(c, (Drop, Set)) and c.path[0] == "accounts" and not _ours(c, self.site) and (removes(c) or c.path[-1] == "secret"):
            bad += self.guard(c)
        if bad:
            return None, ", ".join(bad)
        try:
            render(self.f, c, self.b.active, A_MOMENT)
        except ValueError as e:
            return None, str(e)
        coming = (*self.wish, *self.successors(c))
        then = rehearse(self.f, self.b, Step(Kind.WRITE, c))
        got = hold(then, coming)
        if got is Hold.LOST:
            why = dict.fromkeys(x.why for w in coming[:2] for x in admit(then.active, w).because[:1])
            return None, "nobody with full rights could surely log in afterwards" + (f" ({'; '.join(why)})" if why else "")
        if got is Hold.LEAP and show(c.path) not in self.leaps:
            return None, f"only by a leap; consent with --leap {show(c.path)}"
        return got, ""

    def successors(self, c: Change) -> tuple[Way, ...]:
        """The way a changed secret opens: same account, new secret, by a service that is proven to let the laptop in."""
        if isinstance(c, Set) and c.path[-1] == "secret" and isinstance(c.value, Ref):
            services = sorted({w.service for w in self.b.proven if w.account == c.path[1]} or {w.service for w in self.b.proven})
            return tuple(Way(self.b.laptop, s, c.path[1], c.value) for s in services[:1])
        return ()

    def guard(self, c: Change) -> list[str]:
        """H01, I4: a factory account is touched only once one of the owner's accounts is proven, and that is saved."""
        owned = [w for w in self.b.proven if w.account in {o.name for o in self.site.accounts} and full(self.b.active, w)]
        if removes(c) and not owned:
            return ["no account of the owner with full rights has logged in yet"]
        if owned and self.b.dirty:
            return ["the new account is proven but not saved yet"]
        return []

    def prove(self, again: bool = False, extra: tuple[Way, ...] = ()) -> None:
        """Log in by every way that shall exist and is not proven (or, `again`, by the best one in any case)."""
        done = False
        for w in dict.fromkeys((*self.wish, *extra)):
            known = get(self.b.active, ("accounts", w.account, "secret")) == w.secret
            if not known or admit(self.b.active, w).admitted is False or w.source != self.b.laptop:
                continue
            if w not in self.b.proven or (again and not done):
                self.add(Step(Kind.PROVE, way=w, phase=self.steps[-1].phase if self.steps else OPEN, reason="a new connection proves it"))
                done = True

    def save(self, phase: str) -> None:
        if self.b.dirty and self.f.op_doing("save"):
            self.add(Step(Kind.SAVE, phase=phase, reason="what is proven must survive a power cut"))

    def phase(self, name: str) -> list[str]:
        """Carry out the changes of one phase; the reasons of those that are blocked."""
        while True:
            why = []
            for c in [x for x in self.left if rank(x, self.start, self.site)[1] == name]:
                got, reason = self.may(c)
                if got is None:
                    why.append(f"{worded(c, self.b.active)}: {reason}")
                    continue
                coming = self.successors(c)
                self.add(Step(Kind.WRITE, c, phase=name, reason=rank(c, self.start, self.site)[2], hold=got))
                self.left.remove(c)
                self.wrote = True
                self.prove(extra=coming)
                break
            else:
                return why

    def run(self, restarted: bool) -> list[str]:
        blocked: list[str] = []
        self.prove()
        for name in (OPEN, CLOSE):
            before = len(self.steps)
            blocked = self.phase(name)
            wrote = any(s.kind is Kind.WRITE for s in self.steps[before:])
            if wrote and name == CLOSE:
                self.prove(again=True)
                self.add(Step(Kind.TRY, claim="refusals", phase=name, reason="limits are tried out before they are saved"))
            self.save(name)
            if blocked:
                return blocked
        removals = [c for c in self.left if rank(c, self.start, self.site)[1] == REMOVE]
        if (self.wrote or removals) and not restarted and self.site.allows.restart and self.f.op_doing("restart"):
            self.add(Step(Kind.RESTART, phase="restart", reason="what is kept must come back by itself"))
            self.prove(again=True)
        blocked = self.phase(REMOVE)
        if removals:
            self.prove(again=True)
        self.save(REMOVE)
        return blocked


def order(
    f: Family, belief: Belief, todo: tuple[Change, ...], site: Site, target: Target, gaps: tuple[Gap, ...] = (),
    restarted: bool = False, leaps: frozenset[str] = frozenset(),
) -> Sheet | Refused:  # fmt: skip
    """The rehearsed order of the changes, or the reasons why there is none.

    `restarted`: a restart was already survived in this run. `leaps`: paths whose change may break the way in for a moment, by consent.
    """
    differences = belief.active.stores.differences
    if f.op_doing("save") and not belief.dirty and differences not in (0, ABSENT):
        if differences is None:
            return Refused(("whether live and kept settings agree was not read, so nothing can be relied on after a power cut",))
        many = "1 setting was" if differences == 1 else f"{differences} settings were"
        return Refused((f"{many} live but not kept on arrival; our saving would publish them: look at them, then say --found keep",))
    o = _Orderer(f, belief, todo, site, wishes(f, site, target, belief.proven), leaps)
    if not todo and not belief.dirty:
        return Sheet(site.unit, (), gaps, (), belief)
    if not todo and belief.dirty:
        o.prove(again=True)
    blocked = o.run(restarted)
    if blocked or o.left:
        return Refused(tuple(blocked) or tuple(f"{worded(c, o.b.active)}: its turn never came" for c in o.left))
    return Sheet(site.unit, tuple(o.steps), gaps, todo, o.b)


# ---- words ------------------------------------------------------------------------------------------------------------------


def inverse(f: Family, change: Change, before: Plane) -> Change | None:
    """The change that takes this one back (D13), or None where there is no way back."""
    match change:
        case Set(path, _):
            old = get(before, path)
            back: Change | None = None if old is None or not steady(path) else Set(path, old, "back-out")
        case Make(path, _):
            back = Drop(path, "back-out")
        case _:
            back = None
    if back is None or op_for(f, back) is None:
        return None
    try:
        render(f, back, before if isinstance(change, Set) else after(f, before, change), A_MOMENT)
    except (ValueError, KeyError):
        return None
    return back


def back_out(f: Family, change: Change | None, before: Plane) -> str:
    """How a step is taken back, in words."""
    if change is None:
        return ""
    back = inverse(f, change, before)
    if back is None:
        return "no way back" if steady(change.path) else "none needed"
    match back:
        case Set(path, value) if path[-1] == "secret" and isinstance(value, Ref):
            return f"back to {value.entry}"
        case Set(path, value):
            return f"back to {human(path, value)}"
    return worded(back, before)


def worded(c: Change, before: Plane) -> str:
    """A change for people."""
    match c:
        case Set(path, value) if path[-1] == "secret" and isinstance(value, Ref):
            return f"password of {path[1]} := {value.entry}"
        case Set(path, value) if path == ("clock", "offset"):
            return "clock := the laptop's time"
        case Set(path, value):
            return f"{show(path)}: {human(path, get(before, path))} -> {human(path, value)}"
        case Make(path, values):
            given = ", ".join(f"{n} {v.entry if isinstance(v, Ref) else human((*path, n), v)}" for n, v in values)
            return f"make {show(path)} ({given})"
        case Drop(path):
            return f"remove {show(path)}"


__all__ = ["PRECEDENCE", "Refused", "Sheet", "changes", "inverse", "order", "rank", "wishes", "worded"]
