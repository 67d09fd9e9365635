"""Proving one unit: read everything again and try every claim. Proving never writes."""

from __future__ import annotations

from collections.abc import Awaitable, Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from itertools import groupby
from typing import Any

from yardbolt.core.credentials import Nothing, Password
from yardbolt.core.doors import Way
from yardbolt.core.errors import IdentityError, OperatorError
from yardbolt.core.family.bound import brings
from yardbolt.core.family.model import Family
from yardbolt.core.family.parts import Reading
from yardbolt.core.family.writing import effects_of
from yardbolt.core.judge.baseline import Finding
from yardbolt.core.judge.demands import Target, Want
from yardbolt.core.plane.change import Change, Drop, Make, Set
from yardbolt.core.plane.compare import difference, given_out
from yardbolt.core.plane.document import recorded
from yardbolt.core.plane.edit import exists, get, reachable
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import Path, show
from yardbolt.core.plane.table import holds_secret, is_item, item_of, steady
from yardbolt.core.ports import Datagrams
from yardbolt.core.run.documents import CheckDocument, LeftDocument, ProofRow, TargetDocument
from yardbolt.core.run.events import ProofTried, ReadBack, Sending
from yardbolt.core.run.filing import baseline_name, finding_rows, reading_fields
from yardbolt.core.run.proofs import WRONG, Claim, KeySeen, Proof, Result, Sort, claims, settle
from yardbolt.core.run.proofs import Tried as Seen
from yardbolt.core.run.weighing import CARRYING
from yardbolt.core.secret import Ref, Secret
from yardbolt.core.talk.logon import NEVER_SENDS
from yardbolt.core.talk.outcomes import Cut, Login, NoListener, Open, Opened, Refused, Refusing, Silent, Untried

from .check import conclude
from .contact import candidates, shut_out, way_in, with_known_secrets
from .identity import box_of, same_unit
from .outerview import datagrams_meanwhile, look_at
from .owing import owed_later
from .session import Session
from .steps import as_wanted, target_from, target_of
from .trials import Trial
from .unasked import with_unasked
from .unit import UnitInWork

FINE = 10.0  # seconds
LONGEST_UP = 100 * 365 * 86400.0  # seconds
WRONG_ONE = Ref("typed:wrong")


@dataclass(frozen=True)
class Proved:
    """The as-left state of a unit: fresh findings, proofs, what differs from as found, what differs from the target."""

    unit: str
    plane: Plane
    findings: tuple[Finding, ...]
    proofs: tuple[Proof, ...]
    changed: tuple[tuple[Path, Any, Any], ...]
    unplanned: tuple[Path, ...]
    by_others: tuple[Path, ...]  # changed meanwhile, and carries no way in
    missing: tuple[Path, ...]
    time: str
    document: LeftDocument


# ---- one claim ------------------------------------------------------------------------------------------------------


async def try_claim(unit: UnitInWork, claim: Claim) -> Proof:
    """Try one claim with its control. A refusal counts only while the control holds."""
    match claim.sort:
        case Sort.OPENS | Sort.ANSWERED:
            return settle(claim, await attempt_patiently(unit, claim.way), True)
        case Sort.KEY:
            return settle(claim, await _key(unit, claim), True)
        case Sort.CLOSED:
            shut = await unit.outside.look.knock(claim.door, claim.source)
            return settle(claim, shut, await _answers(unit, claim.service))
        case Sort.STRANGER:
            return await _stranger(unit, claim)
        case Sort.ADMITTED:
            return settle(claim, await unit.outside.look.knock(claim.door, claim.source), True)
        case Sort.COMMUNITY | Sort.UNSEALED:
            return await _beside_user(unit, claim)
        case Sort.FACTORY | Sort.REMOVED | Sort.ENDED:
            return await _published(unit, claim)
        case Sort.ALTERED | Sort.BLANK | Sort.NAMED:
            return (await try_wrong(unit, (claim,)))[0]
        case Sort.POLICY | Sort.LOCKOUT | Sort.MARK | Sort.LIMITED:
            return settle(claim, Untried("it is tried while tightening, for it writes"), False)


async def _stranger(unit: UnitInWork, claim: Claim) -> Proof:
    """The stranger must be blocked while the laptop is let in, there or where the unit has another address and the
    service listens only there. A unit that answers strangers says so in words of its own, which the laptop does not
    see."""
    knock = unit.outside.look.knock
    met, before = claim.door, await knock(claim.door, unit.facts.source(claim.door))
    if not isinstance(before, Open):
        met = replace(claim.door, address=unit.facts.entry.address)
        before = await knock(met, unit.facts.source(met))
    got = await knock(claim.door, claim.source)
    after = await knock(met, unit.facts.source(met))
    good = [isinstance(one, Open) and not unit.family.turns_away(claim.service, one.heard) for one in (before, after)]
    if isinstance(got, Open) and unit.family.turns_away(claim.service, got.heard):
        got = Refusing(listening=True)
    return settle(claim, got, all(good))


async def _beside_user(unit: UnitInWork, claim: Claim) -> Proof:
    """What SNMP must not answer. It never answers an unknown user, so its silence is a refusal only between two
    answers."""
    right = replace(claim.way, door=replace(claim.door, scheme="snmp"))
    before = await attempt_patiently(unit, right, False)
    asked = replace(claim.way, account="", credential=Nothing()) if claim.sort is Sort.COMMUNITY else claim.way
    got = await attempt_patiently(unit, asked, False)
    both = isinstance(before, Opened) and isinstance(await attempt_patiently(unit, right, False), Opened)
    return settle(claim, Refused("no answer") if isinstance(got, Silent) and both else got, both)


async def _published(unit: UnitInWork, claim: Claim) -> Proof:
    # where a lock is not told, only a login of the very account shows that it is not locked
    locked = not claim.free and not unit.family.tells_lock(claim.service)
    account = claim.account if locked else ""
    # the control comes first: without it the try would be spent for nothing, but where it opened it when last tried
    if not await _good(unit, claim.service, account):
        if unit.record.history().opened_last(claim.account, claim.way.secret, claim.service):
            return settle(claim, await attempt_patiently(unit, claim.way), False)
        whose = f"of {account}, which may be locked, " if account else ""
        return settle(claim, Untried(f"no good login {whose}by this service to compare with"), False)
    tried = await attempt_patiently(unit, claim.way, not claim.free)
    return settle(claim, tried, await _good(unit, claim.service, account))


async def try_wrong(unit: UnitInWork, batch: tuple[Claim, ...]) -> list[Proof]:
    """Try wrong passwords of one account, between two logins with the right one."""
    first = batch[0]
    right = unit.held.secret(first.secret)
    if right is None or not right:
        return [settle(claim, Untried("its value is not in the safe"), False) for claim in batch]
    if not isinstance(await attempt_patiently(unit, first.way), Opened):
        return [settle(claim, Untried("the right password did not open it to compare with"), False) for claim in batch]
    told: list[tuple[Login, str]] = []
    for claim in batch:
        seen: list[tuple[Login, str]] = []
        for how, word in _wrong_words(claim, right.reveal()):
            tried = await _type_wrong(unit, claim, word)
            seen.append((tried, how))
            # what opens shows it; what was not answered shows nothing, and is not tried further
            if not isinstance(tried, Refused):
                break
        told.append(seen.pop())
    after = isinstance(await attempt_patiently(unit, first.way), Opened)
    proofs = [(settle(claim, tried, after), how) for claim, (tried, how) in zip(batch, told, strict=True)]
    return [replace(one, saw=f"{one.saw} {how}") if how and one.result is Result.FAILS else one for one, how in proofs]


async def _type_wrong(unit: UnitInWork, claim: Claim, word: str) -> Login:
    """Try one wrong password. If no tries are left, the right one comes first, because a good login clears the
    unit's count, and ours."""
    if unit.budget.tries_left(claim.way) <= 0:
        await attempt_patiently(unit, claim.way)
    unit.held.typed[WRONG_ONE] = Secret(word)
    try:
        return await attempt_patiently(unit, Way(claim.source, claim.door, claim.account, Password(WRONG_ONE)))
    finally:
        unit.held.typed.pop(WRONG_ONE)


def _wrong_words(claim: Claim, right: str) -> Iterator[tuple[str, str]]:
    """The wrong passwords that are tried, and what it would show if one opened."""
    if claim.sort is not Sort.ALTERED:
        yield "", "" if claim.sort is Sort.BLANK else claim.account
        return
    half = len(right) // 2
    # a unit that cuts passwords short, or compares as far as the right one goes, or without case, takes one of these
    yield "with another last character", right[:-1] + ("a" if right[-1] != "a" else "b")
    yield "with a character appended", f"{right}a"
    if right.swapcase() != right:
        yield "in the other letter case", right.swapcase()
    yield (
        "with another character in the middle",
        right[:half] + ("a" if right[half] != "a" else "b") + right[half + 1 :],
    )


async def try_all(unit: UnitInWork, todo: tuple[Claim, ...]) -> list[Proof]:
    """Try every claim; claims about wrong passwords of one account go together."""
    out: list[Proof] = []
    # the right password is compared with by the same service
    for (account, _, wrong), group in groupby(todo, key=lambda one: (one.account, one.service, one.sort in WRONG)):
        batch = tuple(group)
        unit.report(f"{unit.name}: proof {len(out) + 1} of {len(todo)}: {batch[0].text}")
        if wrong and account:
            out += await try_wrong(unit, batch)
        else:
            for claim in batch:
                out.append(await try_claim(unit, claim))
    return out


async def attempt_patiently(unit: UnitInWork, way: Way, budgeted: bool = True) -> Login:
    """A login that is ended again at once. A changed host key makes the proof untried; a claim of its own fails for
    it. A server that fines an address for wrong passwords cuts its next connections before it says anything: that is
    waited for, as long as nothing was sent and the unit has time left."""
    try:
        while True:
            outcome = await unit.access.attempt(way, budgeted)
            fined = way.service not in NEVER_SENDS and isinstance(outcome, Cut | Silent) and not outcome.secret_sent
            if not fined or unit.budget.patience <= 0:
                return outcome
            unit.budget.patience -= FINE
            unit.report(f"{unit.name}: {way.service} takes no connection just now; waiting {FINE:.0f} s")
            await unit.record.clock.sleep(FINE)
    except IdentityError:
        return Untried("the host key is not the one noted")


async def _key(unit: UnitInWork, claim: Claim) -> Seen:
    if not unit.record.pin(claim.service):
        sealed = unit.family.sealed(claim.service)
        why = "nobody logged in by it yet" if sealed else "the service has none"
        return Untried(f"no host key was noted ({why})")
    good = next(iter(candidates(unit)), None)
    if good is None or claim.service not in unit.family.services():
        return Untried("none of our logins by this service")
    try:
        outcome = await unit.access.attempt(replace(good, door=claim.door))
    except IdentityError:
        return KeySeen(False)
    return KeySeen(True) if isinstance(outcome, Opened) else outcome


async def _good(unit: UnitInWork, service: str, account: str = "") -> bool:
    """Does a login of ours open by this service (of this account, where one is named)?"""
    known = [way for way in candidates(unit) if account in ("", way.account)]
    for way in known[:2]:
        if isinstance(await attempt_patiently(unit, replace(way, door=unit.facts.door(service))), Opened):
            return True
    return False


async def _answers(unit: UnitInWork, but: str) -> bool:
    """Does the unit answer by another service at this moment?"""
    for door in unit.site.doors:
        if door.service != but and isinstance(await unit.outside.look.knock(door, unit.site.laptop), Open):
            return True
    return False


def claims_for(unit: UnitInWork, plane: Plane) -> tuple[Claim, ...]:
    """Everything that can be tried on this unit: logins of ours that should open by the plane, and everything that
    must be refused."""
    ways = [
        Way(unit.site.laptop, unit.facts.best_door(plane), account.key, Password(account.secret))
        for account in plane.accounts
        if isinstance(account.secret, Ref) and account.secret.safe and account.enabled is not False
        if unit.held.secret(account.secret) is not None
    ]
    # accounts we knew and that are gone: the password they had last must not open them
    known = unit.record.history().ours | {one.account for one in unit.family.factory.logins}
    gone = [
        Way(unit.site.laptop, unit.facts.best_door(plane), name, Password(unit.site.secret(name)))
        for name in sorted(known)
        if exists(plane, ("accounts", name)) is False and unit.held.secret(unit.site.secret(name)) is not None
    ]
    return claims(unit.family, plane, unit.site, ways, gone, _by_others(unit, plane, ways))


def _by_others(unit: UnitInWork, plane: Plane, ways: Iterable[Way]) -> list[Way]:
    """The same logins by every other encrypted service that is on and uses the same accounts."""
    family, on = unit.family, {one.key for one in plane.services if one.enabled is True}
    doors = [door for door in unit.site.doors if door.service in on and family.sealed(door.service)]
    return [
        replace(way, door=door)
        for way in ways
        for door in doors
        if door.service != way.service and family.store_of_account(door.service) == family.store_of_account(way.service)
    ]


# ---- the whole ------------------------------------------------------------------------------------------------------


async def prove(unit: UnitInWork, run: int = 0) -> Proved:
    """Read everything again, look from outside, try every claim, compare with as found and with the target; file as
    left.

    Raises UnitError when none of our logins opens, IdentityError on the wrong unit or a changed host key.
    """
    await unit.find()
    unit.report(f"{unit.name}: looking at all ports of {unit.facts.entry.address}")
    async with datagrams_meanwhile(unit.outside.look, *unit.facts.addresses()) as udp:
        return await _prove(unit, run, udp)


async def _prove(unit: UnitInWork, run: int, udp: Awaitable[tuple[Datagrams, ...]]) -> Proved:
    around = await look_at(unit.outside.look, *unit.facts.addresses())
    session, why = await way_in(unit)
    if session is None:
        raise shut_out(unit, why, "check")
    way = session.way
    asked = datetime.fromisoformat(unit.record.clock.now())
    reading = await _read(session)
    same_unit(unit, reading.plane)
    started = _started(asked, reading.plane.identity.uptime)
    todo = claims_for(unit, with_known_secrets(unit, reading.plane))
    proofs = await try_all(unit, todo)
    reading = await with_unasked(unit, reading, way)
    by = f"{way.account} by {way.service}"
    around = around.with_datagrams(await udp)
    checked = conclude(unit, around, _trials(unit, proofs), reading, f"read as {by}", way, why)
    return _filed(unit, checked.plane, checked.findings, (*proofs, *_drilled(unit)), reading, by, run, started)


def _started(asked: datetime, uptime: float | None) -> str:
    """The latest time at which it can have been started, as it says; empty where it does not say, or says something
    impossible."""
    if uptime is None or not 0 <= uptime < LONGEST_UP:
        return ""
    return (asked - timedelta(seconds=uptime)).isoformat(timespec="seconds")


def _filed(
    unit: UnitInWork,
    plane: Plane,
    findings: tuple[Finding, ...],
    proofs: tuple[Proof, ...],
    reading: Reading,
    by: str,
    run: int,
    started: str,
) -> Proved:
    """Compare with as found and with the target, and file the as-left record."""
    found = unit.record.latest("as found", CheckDocument)
    before = found.document.as_plane if found else Plane()
    changed = differences(before, plane)
    approved = unit.record.latest("target", TargetDocument)
    target = target_from(approved.document.target) if approved else ()
    wanted, earlier = brought(unit.family, target), _set_before(unit)
    was = left.document.as_plane if (left := unit.record.latest("as left", LeftDocument)) else None
    unplanned = tuple(
        path
        for path, _, _ in changed
        if found
        and not planned(path, wanted, plane)
        # what an earlier run brought, and has been so since: a target may not speak of it any more
        and not (planned(path, earlier, plane) and (was is None or _the_same(was, plane, path)))
    )
    # the job alone says who may log in, and how
    by_others = tuple(path for path in unplanned if path[0] not in CARRYING)
    unplanned = tuple(path for path in unplanned if path not in by_others)
    undone = frozenset(approved.document.gaps) if approved else frozenset()
    # what stays on starts again too
    undone |= {f"{gap.removesuffix('enabled')}boot" for gap in undone if gap.endswith("/enabled")}
    try:
        # what stands otherwise than it was chosen when that was approved, and is as good by every rule
        suits = as_wanted(target_of(unit, plane)[0], plane)
    except OperatorError:
        suits = frozenset()  # two rules leave no common value, so nothing is as good
    missing = tuple(path for path in _missing(plane, target) if show(path) not in undone and path not in suits)
    document = LeftDocument(
        box=box_of(unit, plane),
        by=by,
        run=run,
        started=started,
        family=unit.family.name,
        baseline=baseline_name(unit.facts.baseline),
        findings=finding_rows(findings),
        proofs=tuple(proof_row(proof) for proof in proofs),
        changed=tuple(show(path) for path, _, _ in changed),
        unplanned=tuple(show(path) for path in unplanned),
        by_others=tuple(show(path) for path in by_others),
        missing=tuple(show(path) for path in missing),
        **reading_fields(reading, plane),
    )
    document = replace(document, owed=tuple(owed_later(unit, document)))
    unit.record.file(document)
    return Proved(
        unit.name, plane, findings, proofs, changed, unplanned, by_others, missing, unit.record.clock.now(), document
    )


def _set_before(unit: UnitInWork) -> set[Path]:
    """Every path that was sent or set so far, also where a run ended before reading it back, with what the family
    says comes with it."""
    history = unit.record.history()
    made = (entry.event for entry in history.entries if entry.stamp.time >= history.reset_at)
    paths = {recorded(event.path) for event in made if isinstance(event, Sending | ReadBack) and event.path}
    return (paths | {effect for path in paths for effect in effects_of(unit.family, path)}) - {("files",)}


def _the_same(was: Plane, now: Plane, path: Path) -> bool:
    """Was the value the same before, as far as it was known then?"""
    if is_item(path):
        return exists(was, path) in (None, exists(now, path))
    return reachable(was, path) and get(was, path) in (None, get(now, path))


def _drilled(unit: UnitInWork) -> tuple[Proof, ...]:
    """The latest result of each trial that tightening made by writing. A proof alone never writes."""
    history, found = unit.record.history(), {}
    for entry in history.entries:
        event = entry.event
        if isinstance(event, ProofTried) and event.sort and entry.stamp.time >= history.reset_at:
            claim = Claim(Sort(event.sort), event.what, unit.facts.best_door(), unit.site.laptop, control=event.control)
            found[event.sort, event.what] = Proof(claim, Result(event.result), event.saw, event.control)
    return tuple(found.values())


async def _read(session: Session) -> Reading:
    try:
        return await session.read()
    finally:
        await session.close()


def planned(path: Path, wanted: set[Path], now: Plane) -> bool:
    """Does a change of this path follow from the target?"""
    # a file that holds just what we wrote was changed by us
    if path[0] == "files" and get(now, (*path[:2], "written")) is True:
        return True
    # how a secret is kept follows from setting it
    return any(path[: len(w)] == w or w[: len(path)] == path for w in wanted) or _about_a_secret(path)


def brought(family: Family, target: Target) -> set[Path]:
    """The target, and what the family says comes with it; without files, which show by themselves whether they are
    as we left them."""
    out = {want.path for want in target}
    for want in target:
        change: Change = Set(want.path, want.value)
        if want.kind != "set":
            change = Drop(want.path) if want.kind == "gone" else Make(want.path, ())
        out |= brings(family, change)
    return out - {("files",)}


def _about_a_secret(path: Path) -> bool:
    return path[-1] == "storage" or holds_secret(path)


def _missing(plane: Plane, target: Target) -> tuple[Path, ...]:
    """The wanted settings that do not read as wanted; a setting that was not read counts as missing."""
    return tuple(want.path for want in target if not _reads_so(plane, want))


def _reads_so(plane: Plane, want: Want) -> bool:
    inside = item_of(want.path)
    if want.kind != "set":
        return exists(plane, want.path) is (want.kind == "present")
    # a setting of something that went away is no setting any more
    if not steady(want.path) or holds_secret(want.path) or (inside is not None and exists(plane, inside) is False):
        return True
    return bool(get(plane, want.path) == want.value)


def differences(before: Plane, after: Plane) -> tuple[tuple[Path, Any, Any], ...]:
    """The differences between two readings, without what moves by itself and what one of them did not read."""
    out: list[tuple[Path, Any, Any]] = []
    for path in sorted(difference(before, after)):
        # what waits or is not kept yet is shown as such
        if not steady(path) or path[0] == "stores" or given_out(path):
            continue
        if is_item(path):
            # an item that one list did not show, because it was not read whole, has not come or gone
            known = exists(before, path) is not None and exists(after, path) is not None
            if known and path[0] in ("accounts", "services", "listening"):
                out.append((path, _there(before, path), _there(after, path)))
        elif reachable(before, path) and reachable(after, path):
            old, new = get(before, path), get(after, path)
            if old is not None and new is not None:
                out.append((path, old, new))
    return tuple(out)


def _there(plane: Plane, path: Path) -> str:
    return "there" if exists(plane, path) else "not there"


def _trials(unit: UnitInWork, proofs: list[Proof]) -> tuple[Trial, ...]:
    """What the proofs say about the published logins. On a service proven closed, nothing listens."""
    tried = [Trial(proof.claim.way, _outcome(proof)) for proof in proofs if proof.claim.sort is Sort.FACTORY]
    shut = [proof.claim.door for proof in proofs if proof.claim.sort is Sort.CLOSED and proof.result is Result.HOLDS]
    closed = [
        Trial(Way(unit.site.laptop, door, login.account, Password(login.ref)), NoListener("nothing listens"))
        for login in unit.family.factory.logins
        for door in shut
    ]
    return (*tried, *closed)


def _outcome(proof: Proof) -> Login:
    if proof.result is Result.NOT_TRIED:
        return Untried(proof.saw)
    return Opened() if proof.result is Result.FAILS else Refused()


def proof_row(proof: Proof) -> ProofRow:
    """A proof for the record."""
    claim = proof.claim
    return ProofRow(
        sort=claim.sort.value, text=claim.text, service=claim.service, source=claim.source, port=claim.door.port,
        account=claim.account, secret=claim.secret.entry, control=proof.control, result=proof.result.value,
        saw=proof.saw, backs=tuple(sorted(show(path) for path in claim.backs)),
    )  # fmt: skip
