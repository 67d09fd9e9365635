"""The approved first entry: licence terms, forced passwords. The one kind of writing that comes before the as-found reading (I8)."""

from __future__ import annotations

from dataclasses import dataclass

from yardbolt.core.access import Way
from yardbolt.core.dialogue import Entry
from yardbolt.core.errors import OperatorError, SafeError, Stopped, Trouble, UnitError
from yardbolt.core.passwords import effective, suggest
from yardbolt.core.plane import Plane
from yardbolt.core.secret import Ref, Secret, Slot, Text

from .check import Checked, candidates, check
from .desk import Desk
from .outside import floor_of


@dataclass(frozen=True)
class Question:
    """Something the unit asks at the first login, with what it says about it."""

    gate: str
    account: str
    said: str


@dataclass(frozen=True)
class Entered:
    """What the first entry did, and the check that followed."""

    done: tuple[str, ...]
    checked: Checked


def prepare(desk: Desk, accounts: tuple[str, ...], note: str) -> tuple[Ref, ...]:
    """Put a new secret for each account into the safe, on disk and in its copy, before anything is sent (I2)."""
    if desk.safe is None:
        raise SafeError("no safe is open")
    if not (desk.job.copy or desk.job.copy_waiver):
        raise SafeError("the safe has no second copy: add 'safe: {copy: PATH}' to the job file, or 'without copy: REASON'")
    refs = tuple(desk.site.secret(a) for a in accounts)
    demands = effective(desk.last_plane() or Plane(), floor_of(desk))
    missing = {r: Secret(suggest(demands, desk.pick)) for r in refs if desk.safe.value(r) is None}
    for account in accounts:
        published = next((x for x in desk.family.factory.logins if x.account == account), None)
        if published is not None and desk.safe.value(desk.site.found(account)) is None:
            missing[desk.site.found(account)] = Secret(published.secret)
    if missing:
        desk.safe.store(missing, note)
    return refs


async def questions(desk: Desk) -> tuple[Question, ...]:
    """What stands between the published logins and the unit, found by logging in and answering nothing."""
    found: dict[tuple[str, str], Question] = {}
    for login in desk.family.factory.logins:
        for c in sorted(desk.family.channels, key=lambda c: c.speaks != "ssh")[:1]:
            end, line = await desk.enter(Way(desk.site.laptop, c.service, login.account, login.ref))
            if line is not None:
                await line.close()
            if end.entry is Entry.PROMPTED:
                found[(end.gate, login.account)] = Question(end.gate, login.account, desk.scrub(end.text).strip()[-1200:])
    return tuple(found.values())


async def enter(desk: Desk, asked: tuple[Question, ...]) -> Entered:
    """Accept terms and set the forced passwords that were approved, each secret in the safe first; then read and file as found.

    Raises OperatorError when the job names nobody who accepts terms, Stopped when the unit does not take an answer.
    """
    if any(q.gate == "terms" for q in asked) and not desk.job.allows.terms:
        raise OperatorError(f"{desk.unit.name} shows licence terms and the job file names nobody who accepts them: add 'allows: {{terms: NAME}}'")
    done: list[str] = []
    for q in asked:
        desk.note({"kind": "entry", "state": "prompted", "gate": q.gate, "account": q.account, "said": q.said})
    for account in dict.fromkeys(q.account for q in asked):
        done += await _pass(desk, account)
    if not asked and not candidates(desk):
        done.append("the unit asked nothing")
    checked = await check(desk)
    if checked.reading is None:
        what = "the first entry is done, but" if done and asked else "nothing was entered:"
        raise UnitError(Trouble.NO_LOGIN, f"{what} the settings could not be read: {checked.inside}; run the same command again")
    if desk.records.latest(desk.unit.name, "as found") is None:
        found = desk.records.latest(desk.unit.name, "check")
        assert found is not None
        desk.records.file(desk.unit.name, "as found", found)
    return Entered(tuple(done), checked)


async def _pass(desk: Desk, account: str) -> list[str]:
    """Answer the questions one account is asked; the answers to terms and change are those the owner approved."""
    published = next(x for x in desk.family.factory.logins if x.account == account)
    service = sorted(desk.family.channels, key=lambda c: c.speaks != "ssh")[0].service
    way = Way(desk.site.laptop, service, account, published.ref)
    answers: dict[str, Text] = {}
    done: list[str] = []
    for _ in range(4):
        end, line = await desk.enter(way, answers)
        if line is not None:
            await line.close()
            if "change" in answers:
                await _confirm(desk, account, service)
                done.append(f"the password of {account} was changed; the new one rests in the safe")
            if "terms" in answers:
                done.append(f"licence terms accepted by {desk.job.allows.terms}")
                desk.note({"kind": "entry", "state": "accepted", "gate": "terms", "by": desk.job.allows.terms})
            return done
        if end.entry is not Entry.PROMPTED:
            raise Stopped(f"{desk.unit.name}: {account} could not pass the first login: {end.entry.value}; run the same command again")
        if end.gate in answers:
            said = desk.scrub(end.text).strip().split("\n")[-1][:120]
            raise Stopped(f"{desk.unit.name}: the unit did not take the answer to '{end.gate}': {said or 'it asks again'}")
        if end.gate == "terms":
            answers["terms"] = (next(g.send for g in desk.family.console.gates if g.name == "terms"),) if desk.family.console else ()
        elif end.gate == "change":
            (ref,) = prepare(desk, (account,), f"set at the first entry, {desk.clock.now()}")
            answers |= {"change": (Slot(ref),), "confirm": (Slot(ref),)}
            desk.note({"kind": "entry", "state": "sending", "gate": "change", "account": account, "secret": ref.entry})
        else:
            raise Stopped(f"{desk.unit.name}: the unit asks something this family does not know: {end.gate}")
    raise Stopped(f"{desk.unit.name}: the unit keeps asking at the first login")


async def _confirm(desk: Desk, account: str, service: str) -> None:
    """A new connection with the new secret: only this tells which password holds."""
    end, line = await desk.enter(Way(desk.site.laptop, service, account, desk.site.secret(account)))
    if line is None:
        raise Stopped(
            f"{desk.unit.name}: the new password of {account} was sent, but did not open a new connection: {end.entry.value}; run the same command again"
        )
    await line.close()
