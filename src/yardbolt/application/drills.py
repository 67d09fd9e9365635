"""Drills: what is demanded of passwords, what follows wrong ones, and where logs go, tried out on the unit itself.

They write, on an account made for it and taken away again, so they belong to tightening and never to a proof alone.
What could not be tried says why."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import replace

from yardbolt.core.credentials import Password
from yardbolt.core.doors import Way
from yardbolt.core.errors import OperatorError
from yardbolt.core.family.bound import bind, bound_or_why
from yardbolt.core.family.model import Does, Op
from yardbolt.core.job import OwnAccount
from yardbolt.core.judge.passwords import effective, suggest
from yardbolt.core.judge.who import who
from yardbolt.core.plane.change import Set
from yardbolt.core.plane.edit import get
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.run.proofs import Claim, Proof, Result, Sort
from yardbolt.core.secret import Ref, Secret, Slot, Text
from yardbolt.core.talk.conversation import ANSWER, Order
from yardbolt.core.talk.outcomes import Done, Locked, No, Open, Opened, Refused, told

from .contact import floor_of
from .lending import NAME, ByChanges, ByProgram, Lending, lending, why_not
from .logins import LONGEST_LOCK
from .prove import attempt_patiently
from .session import Session
from .unit import UnitInWork

FIRST, WEAK, STRONG = Ref("typed:drill-first"), Ref("typed:drill-weak"), Ref("typed:drill-strong")
DRILLS: tuple[Does, ...] = ("try policy", "lend", "take back", "mark")  # what they need a family to know
MOST_TRIES = 12  # more wrong tries are not made
ARRIVES = 20.0  # seconds a log message may take


async def drills(unit: UnitInWork, session: Session, plane: Plane, done: frozenset[Sort]) -> list[Proof]:
    """Every drill the family knows that was not made yet and whose setting is there."""
    out: list[Proof] = []
    async with _passwords(unit, plane):
        account = lending(unit, session, plane)
        if Sort.POLICY not in done and isinstance(plane.policy.min_length, int):
            unit.report(f"{unit.name}: trying a weak password on an account made for it")
            if op := unit.family.op_doing("try policy"):
                out.append(await _policy(unit, session, op))
            elif isinstance(account, ByChanges) and _is_as_wanted(unit, plane):
                out.append(await _policy_by_changes(unit, session, plane, account))
        account = lending(unit, session, plane, f"{10 + unit.pick(90)}")
        # what else is locked with it, where the manual does not say, could be us
        locks = isinstance(account, ByProgram) or unit.family.factory.locks == "account"
        if Sort.LOCKOUT not in done and isinstance(plane.lockout.tries, int) and account is not None and locks:
            unit.report(f"{unit.name}: trying wrong passwords on an account made for it")
            out.append(await _lockout(unit, session, plane, account))
    destinations = plane.logs.destinations
    if Sort.MARK not in done and isinstance(destinations, tuple) and (op := unit.family.op_doing("mark")):
        # units that are worked on at once send to one server, and this laptop can be it for one of them at a time
        async with unit.shared.receiving:
            out += [await _mark(unit, session, op, one) for one in destinations]
    if Sort.LIMITED not in done:
        out += [await _limited(unit, session, plane, *one) for one in _echoes(unit, session, plane)]
    return out


def _echoes(unit: UnitInWork, session: Session, plane: Plane) -> list[tuple[OwnAccount, Set]]:
    """Who of the owner's people may not change everything, and what each of them is to try: to set what stands there
    already, which changes nothing whatever the unit does. On a host an account without rights has no way to try."""
    leaf = next((one for one in (("name",), ("banner",)) if isinstance(get(plane, one), str)), None)
    service = session.way.service
    if leaf is None or not unit.facts.talks(service)[2].by_role:
        return []
    change = Set(leaf, get(plane, leaf))
    bound = bound_or_why(unit.family, change, plane)
    if isinstance(bound, str) or not unit.family.carries(service, bound.channel) or bound.unmet(plane):
        return []
    limited = [own for own in unit.site.accounts if own.role not in ("full", "change") and not unit.site.ended(own)]
    return [
        (own, change) for own in limited if get(plane, ("accounts", own.name, "secret")) == unit.site.secret(own.name)
    ]


async def _limited(unit: UnitInWork, session: Session, plane: Plane, own: OwnAccount, change: Set) -> Proof:
    way = replace(session.way, account=own.name, credential=Password(unit.site.secret(own.name)))
    backs = frozenset({("accounts", own.name, "role")})
    claim = Claim(
        Sort.LIMITED, f"{own.name} may not set the {change.path[0]}", way.door, way.source, own.name, way.secret,
        "the same is taken from an account with all rights, by a login just after", backs,
    )  # fmt: skip
    unit.report(f"{unit.name}: trying what {own.name} may do")
    outcome, theirs = await unit.access.enter(way)
    if theirs is None:
        return Proof(claim, Result.NOT_TRIED, f"{own.name} did not get in: {told(outcome)}")
    try:
        got = await theirs.tell(bind(unit.family, change, plane).order)
    finally:
        await theirs.close()
    if not isinstance(got, Done | No):
        return Proof(claim, Result.NOT_TRIED, "no clear answer")
    if isinstance(got, Done):
        areas = {
            area for role in unit.site.roles if role.name == own.role for area, may in role.areas if may == "change"
        }
        saw = f"taken; it may be allowed to change that: {', '.join(sorted(areas))}" if areas else "taken"
        return Proof(claim, Result.NOT_TRIED if areas else Result.FAILS, saw, claim.control)
    # by a login of its own too: what stands in the way of everybody but the session in hand would refuse it as well
    _, full = await unit.access.enter(session.way)
    if full is None:
        return Proof(claim, Result.NOT_TRIED, "refused, and no account with all rights got in to compare with")
    try:
        same = await full.tell(bind(unit.family, change, plane).order)
    finally:
        await full.close()
    if not isinstance(same, Done):
        return Proof(claim, Result.NOT_TRIED, "refused, and not taken from an account with all rights either")
    return Proof(claim, Result.HOLDS, "refused", claim.control)


@asynccontextmanager
async def _passwords(unit: UnitInWork, plane: Plane) -> AsyncIterator[None]:
    """Passwords for the account that is made for it: they rest nowhere, and open nothing afterwards."""
    floor = effective(plane, floor_of(unit))
    strong = replace(floor, min_length=max(floor.min_length, 16))
    made = {FIRST: suggest(strong, unit.pick), STRONG: suggest(strong, unit.pick), WEAK: suggest(strong, unit.pick)[:6]}
    for ref, value in made.items():
        unit.held.typed[ref] = Secret(value)
    try:
        yield
    finally:
        for ref in made:
            unit.held.typed.pop(ref, None)


async def _tell(session: Session, op: Op, **given: Text) -> str:
    """Have it done; what it says where it was not."""
    return why_not(await session.tell(Order(op.how, given, max(ANSWER, op.wait))))


async def _policy(unit: UnitInWork, session: Session, op: Op) -> Proof:
    backs = frozenset({("policy", "min_length"), ("policy", "dictionary")})
    claim = Claim(
        Sort.POLICY, "a weak password is refused to an account made for it", session.way.door, session.way.source,
        NAME, control="a strong one is taken by the same account just after", backs=backs,
    )  # fmt: skip
    said = await _tell(session, op, key=(NAME,), secret=(Slot(FIRST),), old=(Slot(WEAK),), value=(Slot(STRONG),))
    if not said:
        return Proof(claim, Result.HOLDS, "refused, and a strong one was taken", claim.control)
    if said.startswith("a weak password was taken"):
        return Proof(claim, Result.FAILS, "a weak one was taken", claim.control)
    return Proof(claim, Result.NOT_TRIED, said.removeprefix("untried: "))


def _is_as_wanted(unit: UnitInWork, plane: Plane) -> bool:
    """Is the shortest password as long as it is to be, or as long as it can be set? Else it is tried later."""
    wanted, shortest = floor_of(unit).min_length, plane.policy.min_length
    if isinstance(shortest, int) and shortest >= wanted:
        return True
    return isinstance(bound_or_why(unit.family, Set(("policy", "min_length"), wanted), plane), str)


async def _policy_by_changes(unit: UnitInWork, session: Session, plane: Plane, account: ByChanges) -> Proof:
    """Passwords that fall just short of the policy, between two that do not."""
    shortest, kinds = plane.policy.min_length, plane.policy.classes
    many = isinstance(kinds, int) and kinds > 1
    claim = Claim(
        Sort.POLICY, "a weak password is refused to an account made for it", session.way.door, session.way.source,
        account.name, control="a strong one is taken by the same account",
        backs=frozenset({("policy", "min_length"), *([("policy", "classes")] if many else [])}),
    )  # fmt: skip
    if not isinstance(shortest, int) or shortest < 2:
        return Proof(claim, Result.NOT_TRIED, "the policy asks for nothing that could be too short")
    letters = [sign for sign in "bcdfghjkmnpqrstvwxz" if sign not in floor_of(unit).barred]
    strong = unit.held.typed[FIRST].reveal()
    weak = {f"one of {shortest - 1} characters": strong[: shortest - 1]}
    if many:
        # as long as a strong one, which is taken
        weak["one of small letters alone"] = "".join(letters[unit.pick(len(letters))] for _ in strong)
    try:
        result, saw = await _weak_ones(unit, account, weak)
    finally:
        left = await account.take_back()
    return Proof(claim, Result.FAILS if left else result, left or saw, claim.control)


async def _weak_ones(unit: UnitInWork, account: ByChanges, weak: dict[str, str]) -> tuple[Result, str]:
    if account.gives and (why := await account.lend(FIRST)):
        return Result.NOT_TRIED, f"no account could be made for it: {why}"
    for what, value in weak.items():
        unit.held.typed[WEAK] = Secret(value)
        got = await account.send(WEAK)
        if isinstance(got, Done):
            return await _from_itself(account, what)
        if not (isinstance(got, No) and got.sent):
            return Result.NOT_TRIED, "no clear answer"
    if why := await account.lend(STRONG):
        return Result.NOT_TRIED, f"weak ones were refused, but a strong one too: {why}"
    return Result.HOLDS, "refused, and a strong one was taken"


async def _from_itself(account: ByChanges, what: str) -> tuple[Result, str]:
    """What an administrator may give, the account itself may have refused: many makes bind anyone who changes his
    own."""
    if not account.gives:
        return Result.FAILS, f"{what} was taken"
    saw = f"{what} was taken from an administrator"
    untold = Result.NOT_TRIED, f"{saw}; whether it is from the account itself could not be tried"
    if await account.lend(FIRST) or (own := await account.itself()) is None:
        return untold
    try:
        got = await account.send(WEAK, own)
        if isinstance(got, Done):
            return Result.FAILS, f"{saw}, and from the account itself"
        if not (isinstance(got, No) and got.sent) or not isinstance(await account.send(STRONG, own), Done):
            return untold
    finally:
        await own.close()
    return Result.HOLDS, f"refused to the account itself; {saw}"


async def _lockout(unit: UnitInWork, session: Session, plane: Plane, account: Lending) -> Proof:
    tries, release = plane.lockout.tries, plane.lockout.release
    door, source = session.way.door, await _whence(unit, session, plane)
    ends = (", and the lock ends", [("lockout", "release")]) if account.waits else ("", [])
    claim = Claim(
        Sort.LOCKOUT, f"{tries} wrong passwords lock an account made for it{ends[0]}", door, source, account.name,
        control="the right one opens it before" + ("" if account.waits else ", and another account meanwhile"),
        backs=frozenset({("lockout", "tries"), *ends[1]}),
    )  # fmt: skip
    brief = not account.waits or (isinstance(release, float) and release <= LONGEST_LOCK)
    if not (isinstance(tries, int) and tries <= MOST_TRIES and brief):
        return Proof(
            claim, Result.NOT_TRIED, f"more than {MOST_TRIES} tries or {LONGEST_LOCK:.0f} s of lock are not waited for"
        )
    if said := await account.lend(FIRST):
        return Proof(claim, Result.NOT_TRIED, said)
    try:
        lasts = release if isinstance(release, float) else LONGEST_LOCK
        other = None if account.waits else replace(session.way, source=source)
        result, saw = await _locked(unit, claim, tries, lasts, other)
    finally:
        left = await account.take_back()
    if left:
        return Proof(claim, Result.FAILS, left, claim.control)
    return Proof(claim, result, saw, claim.control)


async def _locked(unit: UnitInWork, claim: Claim, tries: int, release: float, other: Way | None) -> tuple[Result, str]:
    """Lock the account, and wait until it opens again; or see that somebody else (`other`) gets in meanwhile. Only a
    refusal shows a lock: a cut or a silence shows nothing, and what refuses everybody is no lock of an account."""
    right, wrong = replace(claim, secret=FIRST).way, replace(claim, secret=STRONG).way
    if not isinstance(first := await attempt_patiently(unit, right, False), Opened):
        return Result.NOT_TRIED, f"the right password did not open it before: {told(first)}"
    for _ in range(tries):
        if not isinstance(got := await attempt_patiently(unit, wrong, False), Refused):
            return Result.NOT_TRIED, f"a wrong password was not refused, but: {told(got)}"
    bites = await attempt_patiently(unit, right, False)
    if isinstance(bites, Opened):
        return Result.FAILS, f"it still opens after {tries} wrong ones"
    if not isinstance(bites, Refused | Locked):
        return Result.NOT_TRIED, f"after {tries} wrong ones the right one was not refused, but: {told(bites)}"
    if other is not None:
        if not isinstance(got := await attempt_patiently(unit, other), Opened):
            # the run goes on by those who are locked with it
            await unit.record.clock.sleep(min(release, LONGEST_LOCK) + 2)
            return Result.NOT_TRIED, f"refused, and {other.account} does not get in either: {told(got)}"
        return Result.HOLDS, "locked; whether the lock ends was not waited for"
    unit.report(f"{unit.name}: locked; waiting {release:.0f} s for the lock to end")
    await unit.record.clock.sleep(release + 2)
    freed = await attempt_patiently(unit, right, False)
    if isinstance(freed, Refused | Locked):
        return Result.FAILS, f"locked, and still {told(freed)} after {release:.0f} s"
    if not isinstance(freed, Opened):
        return Result.NOT_TRIED, f"locked; whether the lock ended is not known: {told(freed)}"
    return Result.HOLDS, f"locked, and open again after {release:.0f} s"


async def _whence(unit: UnitInWork, session: Session, plane: Plane) -> str:
    """From where wrong passwords are typed: the stranger's address, where it is let in so far, for a server may fine
    it."""
    stranger = unit.site.stranger
    reaches = bool(stranger) and stranger in who(plane, session.way.service, session.way.door).possible
    if reaches and isinstance(await unit.outside.look.knock(session.way.door, stranger), Open):
        return stranger
    return session.way.source


async def _mark(unit: UnitInWork, session: Session, op: Op, destination: str) -> Proof:
    kind, address, port = [*destination.split(), "", "", ""][:3]
    number = f"{unit.pick(10**6):06d}-{unit.pick(10**6):06d}"
    claim = Claim(
        Sort.MARK,
        f"a log message numbered for it arrives at {address} by {kind}",
        session.way.door,
        session.way.source,
        control="its number was made just now",
        backs=frozenset({("logs", "destinations")}),
    )
    try:
        async with unit.outside.receive(address, int(port) if port.isdigit() else 514) as receiver:
            if said := await _tell(session, op, value=(number,)):
                return Proof(claim, Result.NOT_TRIED, said.removeprefix("untried: "))
            came = await receiver.wait(session.way.door.address, f"mark {number}", ARRIVES)
    except OperatorError as e:
        return Proof(claim, Result.NOT_TRIED, str(e))
    return Proof(
        claim,
        Result.HOLDS if came else Result.FAILS,
        "arrived" if came else f"did not come within {ARRIVES:.0f} s",
        claim.control,
    )
