"""Proving one unit: reading everything afresh and trying out every claim. Proving never writes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from yardbolt.core.access import Way
from yardbolt.core.baseline import Finding
from yardbolt.core.dialogue import Entry
from yardbolt.core.errors import IdentityError, Trouble, UnitError
from yardbolt.core.extract import Reading
from yardbolt.core.paths import Path, show
from yardbolt.core.plane import Plane, difference, exists, from_json, get, steady
from yardbolt.core.proofs import Claim, Proof, Result, Sort, claims, settle
from yardbolt.core.secret import Ref, Secret

from .check import candidates, conclude, finding_document, known_secrets, same_unit, way_in
from .desk import Desk
from .line import Line, document
from .outside import Tried, look_at
from .plan import target_from


@dataclass(frozen=True)
class Proven:
    """The as-left state of a unit: fresh findings, proofs, what differs from as found, what differs from the target."""

    unit: str
    plane: Plane
    findings: tuple[Finding, ...]
    proofs: tuple[Proof, ...]
    changed: tuple[tuple[Path, Any, Any], ...]
    unplanned: tuple[Path, ...]
    missing: tuple[Path, ...]
    time: str
    document: dict[str, Any]


async def try_claim(desk: Desk, claim: Claim) -> Proof:
    """Try one claim with its control. A refusal counts only while the control holds."""
    place = desk.place(claim.service, claim.source)
    match claim.sort:
        case Sort.OPENS:
            return settle(claim, await _login(desk, Way(claim.source, claim.service, claim.account, claim.secret)), True)
        case Sort.KEY:
            return settle(claim, await _key(desk, claim), True)
        case Sort.CLOSED:
            return settle(claim, _closed(await desk.knocker.knock(place)), await _answers(desk, claim.service))
        case Sort.STRANGER:
            before = await desk.knocker.knock(desk.place(claim.service))
            got = await desk.knocker.knock(place)
            after = await desk.knocker.knock(desk.place(claim.service))
            return settle(claim, got, before == after == "admitted")
        case Sort.FACTORY:
            good = await _good(desk, claim.service)
            got = (
                await _login(desk, Way(claim.source, claim.service, claim.account, claim.secret), not claim.free)
                if good
                else "untried: no good login by this service to compare with"
            )
            return settle(claim, got, good and await _good(desk, claim.service))
        case Sort.ALTERED:
            way = Way(claim.source, claim.service, claim.account, claim.secret)
            right = desk.secret(claim.secret)
            if right is None or not right:
                return settle(claim, "untried: its value is not in the safe", False)
            before_ok = await _login(desk, way) == "opened"
            wrong = Ref("typed:altered")
            desk.typed[wrong] = Secret(right.reveal()[:-1] + ("a" if right.reveal()[-1] != "a" else "b"))
            try:
                got = await _login(desk, Way(claim.source, claim.service, claim.account, wrong))
            finally:
                desk.typed.pop(wrong)
            return settle(claim, got, before_ok and await _login(desk, way) == "opened")


def _closed(knocked: str) -> str:
    return "admitted" if knocked == "admitted" else knocked


async def _login(desk: Desk, way: Way, budgeted: bool = True) -> str:
    try:
        end, line = await desk.enter(way, budgeted=budgeted)
    except IdentityError:
        return "untried: the host key is not the one noted"
    if line is not None:
        await line.close()
    return f"untried: {end.text}" if end.entry is Entry.UNTRIED else end.entry.value


async def _key(desk: Desk, claim: Claim) -> str:
    if not desk.pin(claim.service):
        return "untried: no host key was noted (" + ("the service has none)" if claim.service == "telnet" else "nobody logged in by it yet)")
    good = next((w for w in candidates(desk) if w.service == claim.service), None)
    if good is None:
        return "untried: no login of ours by this service"
    got = await _login(desk, good)
    return "changed" if "host key" in got else "same" if got == "opened" else f"untried: {got}"


async def _good(desk: Desk, service: str) -> bool:
    for way in candidates(desk)[:2]:
        end, line = await desk.enter(Way(way.source, service, way.account, way.secret))
        if line is not None:
            await line.close()
        if end.entry is Entry.OPENED:
            return True
    return False


async def _answers(desk: Desk, but: str) -> bool:
    """Does the unit answer by another service at this moment?"""
    for c in desk.family.channels:
        if c.service != but and await desk.knocker.knock(desk.place(c.service)) == "admitted":
            return True
    return False


def claims_for(desk: Desk, plane: Plane) -> tuple[Claim, ...]:
    """What can be tried on this unit: logins of ours that the plane says should open, and everything that must be refused."""
    service = sorted(desk.family.channels, key=lambda c: c.speaks != "ssh")[0].service
    ways = [
        Way(desk.site.laptop, service, a.key, a.secret)
        for a in plane.accounts.items
        if isinstance(a.secret, Ref) and a.secret.safe and desk.secret(a.secret) is not None and a.enabled is not False
    ]
    return claims(desk.family, plane, desk.site, ways, desk.ports())


async def prove(desk: Desk, run: int | None = None) -> Proven:
    """Read everything afresh, look from outside, try every claim, compare with as found and with the target; file as left.

    Raises UnitError when no login of ours opens, IdentityError on the wrong unit or a changed host key.
    """
    desk.tell(f"{desk.unit.name}: looking at all ports of {desk.unit.address}")
    ports = await look_at(desk.knocker, desk.unit.address, desk.site.laptop)
    line, why = await way_in(desk)
    if line is None:
        raise UnitError(Trouble.NO_LOGIN, f"{desk.unit.name}: no login of ours opens it ({why}); next: yardbolt check {desk.unit.name}")
    reading = await _read(desk, line)
    same_unit(desk, reading.plane)
    plane = known_secrets(desk, reading.plane)
    proofs: list[Proof] = []
    todo = claims_for(desk, plane)
    for n, claim in enumerate(todo, 1):
        desk.tell(f"{desk.unit.name}: proof {n} of {len(todo)}: {claim.text}")
        proofs.append(await try_claim(desk, claim))
    tried = tuple(_tried(p) for p in proofs if p.claim.sort is Sort.FACTORY) + _untried_closed(desk, proofs)
    checked = conclude(desk, ports, tried, reading, f"read as {line.way.account} by {line.way.service}", line.way)
    plane, findings = checked.plane, checked.findings
    found = desk.records.latest(desk.unit.name, "as found")
    before = from_json(found["plane"]) if found else Plane()
    changed = differences(before, plane)
    approved = desk.records.latest(desk.unit.name, "target")
    target = target_from(approved["target"]) if approved else ()
    wanted = {w.path for w in target}
    unplanned = tuple(p for p, _, _ in changed if found and not _planned(p, wanted))
    missing = tuple(
        w.path
        for w in target
        if w.kind == "set" and steady(w.path) and w.path[-1] != "secret" and _there(plane, w.path) and get(plane, w.path) != w.value
    )
    doc = document(
        Reading(plane, reading.evidence, reading.origin, reading.conflicts, reading.leftovers, reading.blind),
        findings=[finding_document(f) for f in findings],
        proofs=[_proof_document(p) for p in proofs],
        changed=[show(p) for p, _, _ in changed], unplanned=[show(p) for p in unplanned], missing=[show(p) for p in missing],
        baseline={"name": desk.baseline.name, "version": desk.baseline.version}, family=desk.family.name,
        by=f"{line.way.account} by {line.way.service}", run=run or 0,
    )  # fmt: skip
    desk.records.file(desk.unit.name, "as left", doc)
    return Proven(desk.unit.name, plane, findings, tuple(proofs), changed, unplanned, missing, desk.clock.now(), doc)


async def _read(desk: Desk, line: Line) -> Reading:
    try:
        return await line.read()
    finally:
        await line.close()


def _there(plane: Plane, path: Path) -> bool:
    return len(path) < 3 or exists(plane, path[:2]) is True


def _planned(path: Path, wanted: set[Path]) -> bool:
    return any(path[: len(w)] == w or w[: len(path)] == path for w in wanted) or path[-1] in ("storage", "secret")


def differences(before: Plane, after: Plane) -> tuple[tuple[Path, Any, Any], ...]:
    """What differs between two readings, leaving out what moves by itself and what one of them did not read."""
    out: list[tuple[Path, Any, Any]] = []
    for p in sorted(difference(before, after)):
        if not steady(p) or p[-1] == "weakness":
            continue
        if len(p) == 2 and p[0] in ("accounts", "services", "listening"):
            out.append((p, "there" if exists(before, p) else "not there", "there" if exists(after, p) else "not there"))
        elif _there(before, p) and _there(after, p) and get(before, p) is not None and get(after, p) is not None:
            out.append((p, get(before, p), get(after, p)))
    return tuple(out)


def _tried(p: Proof) -> Tried:
    outcome = p.saw.split(":")[0] if p.result is not Result.NOT_TRIED else "untried"
    return Tried(p.claim.service, p.claim.account, p.claim.secret, outcome)


def _untried_closed(desk: Desk, proofs: list[Proof]) -> tuple[Tried, ...]:
    """Published logins on services proven closed: nothing listens there."""
    shut = [p.claim.service for p in proofs if p.claim.sort is Sort.CLOSED and p.result is Result.HOLDS]
    return tuple(Tried(s, x.account, x.ref, "closed", said="nothing listens") for x in desk.family.factory.logins for s in shut)


def _proof_document(p: Proof) -> dict[str, Any]:
    c = p.claim
    return {
        "sort": c.sort.value, "text": c.text, "service": c.service, "source": c.source, "port": c.port, "account": c.account,
        "secret": c.secret.entry, "control": p.control, "result": p.result.value, "saw": p.saw, "backs": sorted(show(b) for b in c.backs),
    }  # fmt: skip
