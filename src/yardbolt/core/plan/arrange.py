"""Puts changes into a rehearsed step sheet: it decides the order, and what is left out.

There is no search. The phases are open -> prove -> save -> close -> prove -> save -> restart -> remove -> prove ->
save -> move -> prove -> save. Within a phase, the first change is taken whose needs hold and that keeps a way in.
Where edits are staged, each phase ends by putting them in force; where the unit goes back by itself, each phase ends
with a confirmation, after a login has proven it.
"""

from __future__ import annotations

from dataclasses import replace

from ..credentials import Password
from ..doors import Way
from ..family.bound import Bound, Held, bound_or_why
from ..family.model import LIVE, Family
from ..job import Site
from ..judge.access import admit
from ..judge.demands import Gap, Target
from ..judge.staying import contradicted
from ..judge.whereabouts import addresses_of
from ..plane.change import Change, Set, moves_to
from ..plane.edit import get
from ..plane.leaves import Plane
from ..plane.path import show
from ..plane.table import holds_secret
from ..secret import Ref
from .belief import Belief, Standing, full, standing
from .found import found_waiting
from .guard import Idle, Proven
from .precedence import CLOSE, FIRST, MOVE, OPEN, REMOVE, Rank, is_guarded, is_own, rank
from .rehearse import KIND_OF, Kind, Step, rehearse, rehearse_step
from .sheet import Refused, Sheet
from .wishes import moved, wishes
from .words import describe


class Arranging:
    """One run of the planner: belief, steps so far, what is left."""

    def __init__(
        self,
        family: Family,
        belief: Belief,
        todo: tuple[Change, ...],
        site: Site,
        wish: tuple[Way, ...],
        leaps: frozenset[str],
        gate: frozenset[str] = frozenset(),
    ) -> None:
        self.family, self.belief, self.site, self.wish, self.leaps = family, belief, site, wish, leaps
        self.gate = gate
        self.first = addresses_of(belief.live)
        self.denied = contradicted(belief.live, belief.proven)
        self.held: Held = frozenset(print_ for own in site.accounts for print_, _ in own.public)
        self.steps: list[Step] = []
        self.wrote = False
        self.barred: list[Gap] = []
        self.known: dict[Change, Bound | str] = {}
        self.ranks: dict[Change, Rank] = {change: self.ranked(change) for change in todo}
        self.left = sorted(todo, key=lambda change: self.ranks[change].turn)

    def ranked(self, change: Change) -> Rank:
        bound = self.bound(change)
        replaced = isinstance(bound, Bound) and bool(self.successors(bound))
        return rank(change, bound, self.belief, self.site, replaced)

    def bound(self, change: Change) -> Bound | str:
        """The change as it would be sent in the state the unit is believed to be in, or the reason why it cannot be
        sent."""
        if change not in self.known:
            self.known[change] = bound_or_why(self.family, change, self.belief.stores, self.held)
        return self.known[change]

    def add(self, step: Step) -> None:
        self.belief = rehearse_step(self.family, self.belief, step)
        self.known = {}
        kept = standing(self.belief, self.wish) if step.standing is Standing.PROVEN else step.standing
        here = (way for way in self.belief.proven if way.source in self.belief.laptops)
        still = tuple(sorted(here, key=self.preference))
        self.steps.append(replace(step, standing=kept, still=still, guarded=self.armed))

    def preference(self, way: Way) -> tuple[bool, int, Way]:
        """Full rights first, then in the order of the wanted ways."""
        return not full(self.belief.live, way), self.wish.index(way) if way in self.wish else len(self.wish), way

    def may(self, change: Change) -> tuple[Bound, Standing] | str:
        """The bound change, and how surely somebody can still log in after it; or the reason why it cannot be made
        now."""
        bound = self.bound(change)
        if isinstance(bound, str):
            return bound
        bad = list(bound.unmet(self.belief.live))
        within = sorted(way for way in self.belief.proven if self.family.carries(way.service, bound.channel))
        if not within:
            bad.append(f"nobody has logged in by {bound.channel} yet")
        elif not any(full(self.belief.live, way) for way in within):
            roles = {way.account: get(self.belief.live, ("accounts", way.account, "role")) for way in within}
            told = (
                f"{name} has the role {role}" if role else f"what {name} may do was not read"
                for name, role in roles.items()
            )
            bad.append(f"nobody with full rights is in by {bound.channel}: {', '.join(told)}")
        # our own accounts may change their secret at any time; a factory account only behind the guard
        if bound.closes_an_account and not is_own(change, self.site):
            bad += self.guard(bound)
        if bad:
            return ", ".join(bad)
        before = self.as_it_will_be(bound)
        found, why = self.judged(
            Step(Kind.WRITE, bound), show(change.path), self.successors(bound), before, is_guarded(bound, self.belief)
        )
        return why if found is None else (bound, found)

    def as_it_will_be(self, bound: Bound) -> Belief:
        """The belief at the moment of the change. For a guarded change the timed return is armed. Before any other
        change it is confirmed, so that nothing goes back that was made without it."""
        arm = self.family.op_doing("arm")
        if not is_guarded(bound, self.belief) or arm is None:
            return replace(self.belief, guard=Idle()) if self.armed else self.belief
        return self.belief if self.armed else rehearse(self.family, self.belief, arm)

    def judged(
        self, step: Step, consent: str, coming: tuple[Way, ...], before: Belief | None = None, tried: bool = True
    ) -> tuple[Standing | None, str]:
        """How surely somebody can log in after a step, or why the step may not be made. `tried`: a login proves it
        before it becomes permanent."""
        then = rehearse_step(self.family, before or self.belief, step)
        found = standing(then, (*self.wish, *coming), before or self.belief)
        if found is Standing.LOST or (found is Standing.LEAP and not self.would_open(then, coming, before, tried)):
            why = dict.fromkeys(c.why for way in (*coming, *self.wish)[:2] for c in admit(then.live, way).because[:1])
            reasons = f" ({'; '.join(why)})" if why else ""
            return None, f"nobody with full rights could surely log in afterwards{reasons}"
        if found is Standing.LEAP and consent not in self.leaps:
            return None, f"only by a one-shot change; consent with --leap {consent}"
        return found, ""

    def would_open(self, then: Belief, coming: tuple[Way, ...], before: Belief | None, tried: bool) -> bool:
        """Would somebody get in after the step? Going back by itself is not enough: somebody must surely get in, or
        may get in and is tried before the step becomes permanent."""
        ways = (*coming, *self.wish, *then.proven)
        if standing(replace(then, guard=Idle()), ways, before or self.belief) is not Standing.LOST:
            return True
        left = (way for way in ways if way.source in then.laptops and full(then.live, way))
        return tried and any(not self.hopeless(then.live, way) for way in left)

    def hopeless(self, plane: Plane, way: Way) -> bool:
        """Do the settings surely refuse this way? A setting that denied a door by which somebody got in all the same
        proves nothing."""
        return any(c.holds is False and (way.door, c.why) not in self.denied for c in admit(plane, way).conditions)

    def successors(self, *made: Bound) -> tuple[Way, ...]:
        """The ways that replace those a change ends: with a new secret, or at a new address or port."""
        out: list[Way] = []
        for bound in made:
            change = bound.change
            match change:
                case Set(("accounts", *_) as path, Ref() as ref) if holds_secret(path):
                    by_it = {w for w in self.belief.proven if w.account == path[1]}
                    # a door that is shut, and that nobody went in by, is no way to rely on: whether it is open is not
                    # asked
                    if (
                        not by_it
                        and not is_own(change, self.site)
                        and get(self.belief.live, (*path[:2], "role")) != "full"
                    ):
                        continue
                    known = sorted(by_it or self.belief.proven)
                    # no password of the owner goes readable where an encrypted way is proven
                    best = [way for way in known if self.family.sealed(way.service)] or known
                    out += [replace(way, account=path[1], credential=Password(ref)) for way in best[:1]]
                case Set(path, _) if path[0] in ("interfaces", "services"):
                    out += moved(self.belief, bound)
        return tuple(dict.fromkeys(out))

    def guard(self, bound: Bound) -> list[str]:
        """A factory account is touched only after an account of the owner is proven and saved."""
        names = {own.name for own in self.site.accounts}
        owned = [w for w in self.belief.proven if self.owners(w, names) and full(self.belief.live, w)]
        if bound.removes and not owned:
            return ["no account of the owner with full rights has logged in yet"]
        kept = [w for w in self.belief.surviving if self.owners(w, names) and full(self.belief.kept, w)]
        if owned and not kept:
            return ["the new account is proven but not saved yet"]
        return []

    def owners(self, way: Way, names: set[str]) -> bool:
        """Is this a way of the owner: by one of his accounts, or as root with a password of ours or one that nobody
        published?"""
        path = ("accounts", way.account)
        is_root = get(self.belief.live, (*path, "origin")) == "system" and not way.secret.factory
        return way.account in names or (is_root and get(self.belief.live, (*path, "becomes_root")) == "is root")

    # -- what stands between the changes --

    def prove(self, again: bool = False, extra: tuple[Way, ...] = ()) -> None:
        """Log in by every wanted way that is not proven yet (`again`: by the best one in any case)."""
        done = False
        # where no socket is any more that was there, nobody knocks, whatever else may have its address
        left_behind = self.first - addresses_of(self.belief.live)
        # what is proven can be proven again, though nobody wished for it
        for way in dict.fromkeys(
            (*self.wish, *extra, *(sorted(self.belief.proven, key=self.preference) if again else ()))
        ):
            if way.door.address in left_behind:
                continue
            held = get(self.belief.live, ("accounts", way.account, "secret"))
            known = way.password is None or held == way.password
            if not known or way.source not in self.belief.laptops or self.hopeless(self.belief.live, way):
                continue
            # once more by the best way, after what could have locked us out
            if way not in self.belief.proven or (again and not done):
                phase = self.steps[-1].phase if self.steps else OPEN
                self.add(Step(Kind.PROVE, way=way, phase=phase, reason="a new connection proves it"))
                # one with few rights proves itself, and not that anything could be mended
                done = done or full(self.belief.live, way)

    def alone(self, kind: Kind, phase: str, reason: str) -> None:
        """An op of this kind that stands alone, if the family has one."""
        for does, of_kind in KIND_OF.items():
            op = self.family.op_doing(does) if of_kind is kind else None  # type: ignore[arg-type]  # a key of the table
            if op is not None:
                self.add(Step(kind, op=op, phase=phase, reason=reason))
                return

    def save(self, phase: str) -> None:
        if self.belief.unsaved and self.family.op_doing("save"):
            self.alone(Kind.SAVE, phase, "what is proven must survive a power cut")

    def activate(self, phase: str, made: tuple[Bound, ...]) -> list[str]:
        """Put the staged edits in force, prove the way in, and confirm where the unit would go back by itself.
        Returns the reason where that may not be done."""
        op = self.family.op_activating()
        if op is None or not self.belief.waiting:
            return []
        coming = self.successors(*made)
        step = Step(
            Kind.ACTIVATE, op=op, phase=phase, reason="staged edits let nobody in or out until they are in force"
        )
        # what moves the unit is consented to as that, however it is put in force
        moves = [show(bound.path) for bound in made if moves_to(bound.change)]
        found, why = self.judged(step, moves[0] if moves else op.name, coming)
        if found is None:
            return [f"put the staged edits in force: {why}"]
        self.add(replace(step, standing=found))
        self.prove(again=self.belief.fallback is not None, extra=coming)
        return self.confirm(phase, "a login has proven it, so it need not go back by itself")

    def confirm(self, phase: str, reason: str) -> list[str]:
        """Confirm what a login has proven since the last write. Returns the reason why there is no plan otherwise."""
        if isinstance(self.belief.guard, Proven):
            self.alone(Kind.CONFIRM, phase, reason)
        elif not isinstance(self.belief.guard, Idle):
            return [f"no login could prove what goes back by itself otherwise: {self.why_none()}"]
        return []

    def why_none(self) -> str:
        """Why none of our accounts may try to log in."""
        told = []
        for way in dict.fromkeys((*self.wish, *sorted(self.belief.proven))):
            denied = [c.why for c in admit(self.belief.live, way).conditions if c.holds is False]
            held = get(self.belief.live, ("accounts", way.account, "secret"))
            given = denied or (["its password will be different by then"] if way.password not in (None, held) else [])
            rights = [] if full(self.belief.live, way) else ["it has not all rights"]
            told.append(f"{way.account} by {way.service}: {', '.join((*given, *rights)) or 'not from here'}")
        return "; ".join(told[:3]) or "there is none"

    def demands_written(self, since: int) -> bool:
        """Did this sheet write demands on passwords, or what follows wrong ones?"""
        made = [step.change for step in self.steps[since:] if step.change is not None]
        return any(change.path[0] in ("policy", "lockout") for change in made)

    def already(self, change: Change) -> bool:
        """Did an earlier step of this sheet bring this about as well?"""
        if not isinstance(change, Set) or holds_secret(change.path) or not self.steps:
            return False
        bound = self.bound(change)
        return isinstance(bound, Bound) and get(bound.before, change.path) == change.value

    @property
    def armed(self) -> bool:
        """Will the unit go back by itself at this point, because a step armed it?"""
        return self.belief.fallback is not None and self.family.op_doing("arm") is not None

    def guard_step(self, name: str, guarded: bool, coming: list[Way]) -> list[str]:
        """Before a guarded change: arm the timed return. Before any other: prove the way in and cancel it. Returns
        the reason where the way in cannot be proven."""
        if guarded and not self.armed:
            self.alone(Kind.ARM, name, "what comes now goes back by itself, unless a new login proves the way in")
        elif not guarded and self.armed:
            self.prove(again=True, extra=tuple(coming))
            coming.clear()
            return self.confirm(name, "a new login has proven the way in")
        return []

    def phase(self, name: str) -> list[str]:
        """Carry out the changes of one phase. Blocked changes are left out, with their reason. Returns the reasons
        why there is no plan at all."""
        made: list[Bound] = []
        after: list[Way] = []
        while True:
            blocked: dict[Change, str] = {}
            self.left = [change for change in self.left if not self.already(change)]
            for change in [one for one in self.left if self.ranks[one].phase == name]:
                found = self.may(change)
                if isinstance(found, str):
                    blocked[change] = found
                    continue
                bound, standing_then = found
                coming = self.successors(bound)
                under = is_guarded(bound, self.belief)
                if why := self.guard_step(name, under, after):
                    return why
                after += coming
                self.add(Step(Kind.WRITE, bound, phase=name, reason=self.ranks[change].reason, standing=standing_then))
                self.left.remove(change)
                self.wrote = True
                made.append(bound)
                if bound.store == LIVE:
                    self.prove(extra=coming)
                break
            else:
                # a closing that was only wanted early has its turn later
                early = [one for one in blocked if self.ranks[one].row == FIRST and name == OPEN]
                for one in early:
                    self.ranks[one] = replace(self.ranks[one], phase=CLOSE)
                for one in [one for one in blocked if one not in early]:
                    self.left.remove(one)
                    self.barred.append(Gap(one.path, one.because, blocked[one]))
                return self.guard_step(name, False, after) + self.activate(name, tuple(made))

    def bar_closing(self) -> None:
        """If no service we can log in by comes back at the next start, nothing else may be closed, because a power
        cut would lock everybody out. Those changes are left out, with their reason."""
        if any(full(self.belief.kept, way) for way in self.belief.surviving) or self.belief.unsaved:
            return
        off = sorted({way.service for way in self.belief.proven if full(self.belief.live, way)})
        known = [one for one in off if get(self.belief.live, ("services", one, "boot")) is False]
        why = f"{known[0]} does not come back" if known else f"whether {' or '.join(off)} comes back was not read"
        why = f"{why} at the next start, so nothing is closed before" if off else "nobody with all rights is in"
        for change in [one for one in self.left if self.ranks[one].phase != OPEN]:
            self.left.remove(change)
            self.barred.append(Gap(change.path, change.because, why))

    def run(self, restarted: bool) -> list[str]:
        self.prove()
        # what an earlier part of this run left unsaved is proven, tried out and kept first: nothing is closed before
        # that
        if self.belief.unsaved and self.family.op_doing("save"):
            self.prove(again=True)
            self.try_limits(OPEN)
            self.save(OPEN)
        for name in (OPEN, CLOSE):
            if name == CLOSE:
                self.bar_closing()
            before = len(self.steps)
            blocked = self.phase(name)
            wrote = any(step.kind is Kind.WRITE for step in self.steps[before:])
            # what is live and unkept may be limits of an earlier run that were never tried out
            if name == CLOSE and (wrote or self.gate or self.belief.unsaved):
                self.prove(again=True)
                self.try_limits(name)
            if name == OPEN and wrote and self.family.op_doing("try policy") and self.demands_written(before):
                self.add(Step(Kind.TRY, phase=name, reason="demands on passwords are tried on an account made for it"))
            self.save(name)
            if blocked:
                return blocked
        removals = [change for change in self.left if self.ranks[change].phase == REMOVE]
        comes_back = any(full(self.belief.kept, way) for way in self.belief.surviving)
        restarts = self.site.allows.restart and self.family.op_doing("restart") and comes_back
        if (self.wrote or removals) and not restarted and restarts:
            self.alone(Kind.RESTART, "restart", "what is kept must come back by itself")
            self.prove(again=True)
        for name in (REMOVE, MOVE):
            todo = [change for change in self.left if self.ranks[change].phase == name]
            had = bool(todo)
            blocked = self.phase(name)
            if had:
                self.prove(again=True)
            if name == REMOVE and had and any(self.closes(change) for change in todo):
                self.try_limits(name)
            self.save(name)
            if blocked:
                return blocked
        return []

    def closes(self, change: Change) -> bool:
        """Does it close a door for everybody?"""
        return isinstance(change, Set) and change.path[0] == "services" and change.value is False

    def try_limits(self, name: str) -> None:
        self.add(Step(Kind.TRY, phase=name, reason="limits are tried out before they are saved"))


def arrange(
    family: Family, belief: Belief, todo: tuple[Change, ...], site: Site, target: Target, gaps: tuple[Gap, ...] = (),
    restarted: bool = False, leaps: frozenset[str] = frozenset(), gate: frozenset[str] = frozenset(),
) -> Sheet | Refused:  # fmt: skip
    """The rehearsed order of the changes, or the reasons why there is none. `restarted`: this run has already
    survived a restart. `gate`: what was to be refused and was not, at the last trial. `leaps`: paths (or op names)
    that may break the way in, by consent."""
    if refused := found_waiting(family, belief):
        return refused
    # as it should be, and kept: nothing to do, and nothing to prove by doing
    if not todo and not belief.unsaved and not gate:
        return Sheet(site.unit, (), gaps, (), belief)
    stays: tuple[Gap, ...] = ()
    while True:
        kept = {gap.path for gap in stays}
        left = tuple(change for change in todo if change.path not in kept)
        wish = wishes(family, site, tuple(want for want in target if want.path not in kept), belief)
        arranging = Arranging(family, belief, left, site, wish, leaps, gate)
        if not left:
            arranging.prove(again=True)
        blocked = arranging.run(restarted)
        # what cannot be closed stays a way in, which one may then rely on
        more = tuple(gap for gap in arranging.barred if gap.path[0] == "services" and gap.path[-1] == "enabled")
        if not more:
            break
        stays += more
    if blocked or arranging.left:
        turns = tuple(f"{describe(change, arranging.belief.live)}: its turn never came" for change in arranging.left)
        return Refused(tuple(blocked) or turns)
    barred = {gap.path: gap for gap in (*stays, *arranging.barred)}
    nobody = not any(full(belief.live, way) for way in belief.proven)
    if nobody and todo and all(one.path in barred for one in todo):
        return Refused(tuple(f"{describe(one, belief.live)}: {barred[one.path].why}" for one in todo))
    done = tuple(change for change in todo if change.path not in barred)
    return Sheet(site.unit, tuple(arranging.steps), (*gaps, *barred.values()), done, arranging.belief, target, gate)
