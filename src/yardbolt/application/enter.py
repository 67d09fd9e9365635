"""The approved first entry: licence terms, forced passwords. The one kind of writing that comes before the as-found
reading."""

from __future__ import annotations

from dataclasses import dataclass

from yardbolt.core.doors import Way
from yardbolt.core.errors import OperatorError, SafeError, Stopped, Trouble, UnitError
from yardbolt.core.judge.passwords import effective, suggest
from yardbolt.core.plane.table import Plane
from yardbolt.core.run.events import GateAnswering, GateMet, GatePassed
from yardbolt.core.secret import Ref, Secret, Slot, Text
from yardbolt.core.talk.outcomes import Asked, said_by, told

from .check import Checked, check, file_once
from .reach import candidates, floor_of
from .unit import UnitInWork

MOST_GATES = 4
LONGEST_SAID = 1200


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


async def prepare(unit: UnitInWork, accounts: tuple[str, ...], note: str) -> tuple[Ref, ...]:
    """Put a new secret for each account into the safe, on disk and in its copy, before anything is sent."""
    if unit.safe is None:
        raise SafeError("no safe is open")
    if not (unit.job.copy or unit.job.copy_waiver):
        raise SafeError(
            "the safe has no second copy: add 'safe: {copy: PATH}' to the job file, or 'without copy: REASON'"
        )
    refs = tuple(unit.site.secret(account) for account in accounts)
    demands = effective(unit.last_plane() or Plane(), floor_of(unit))
    missing = {ref: Secret(suggest(demands, unit.pick)) for ref in refs if unit.safe.value(ref) is None}
    for account in accounts:
        published = next((one for one in unit.family.factory.logins if one.account == account), None)
        if published is not None and unit.safe.value(unit.site.found(account)) is None:
            missing[unit.site.found(account)] = Secret(published.secret)
    await unit.safe.store(missing, note)
    return refs


async def questions(unit: UnitInWork) -> tuple[Question, ...]:
    """What stands between the published logins and the unit, found by logging in and answering nothing."""
    found: dict[tuple[str, str], Question] = {}
    for login in unit.family.factory.logins:
        outcome, session = await unit.enter(Way(unit.site.laptop, unit.best_door(), login.account, login.ref))
        if session is not None:
            await session.close()
        if isinstance(outcome, Asked):
            said = unit.scrub(outcome.said).strip()[-LONGEST_SAID:]
            found[(outcome.gate, login.account)] = Question(outcome.gate, login.account, said)
    return tuple(found.values())


async def enter(unit: UnitInWork, asked: tuple[Question, ...]) -> Entered:
    """Accept terms and set the forced passwords that were approved, each secret in the safe first; then read and file
    as found.

    Raises OperatorError when the job names nobody who accepts terms, Stopped when the unit does not take an answer.
    """
    if any(question.gate == "terms" for question in asked) and not unit.job.allows.terms:
        problem = "shows licence terms and the job file names nobody who accepts them: add 'allows: {terms: NAME}'"
        raise OperatorError(f"{unit.name} {problem}")
    done: list[str] = []
    for question in asked:
        unit.note(GateMet(gate=question.gate, account=question.account, said=question.said))
    for account in dict.fromkeys(question.account for question in asked):
        done += await _pass(unit, account)
    if not asked and not candidates(unit):
        done.append("the unit asked nothing")
    checked = await check(unit)
    if checked.reading is None:
        what = "the first entry is done, but" if done and asked else "nothing was entered:"
        problem = f"the settings could not be read: {checked.inside}; run the same command again"
        raise UnitError(Trouble.NO_LOGIN, f"{what} {problem}")
    file_once(unit, checked.document, "as found")
    return Entered(tuple(done), checked)


async def _pass(unit: UnitInWork, account: str) -> list[str]:
    """Answer the questions one account is asked; the answers to terms and change are those the owner approved."""
    published = next(one for one in unit.family.factory.logins if one.account == account)
    way = Way(unit.site.laptop, unit.best_door(), account, published.ref)
    consents: dict[str, Text] = {}
    for _ in range(MOST_GATES):
        outcome, session = await unit.enter(way, consents)
        if session is not None:
            await session.close()
            return await _passed(unit, account, consents)
        if not isinstance(outcome, Asked):
            problem = f"{account} could not pass the first login: {told(outcome)}; run the same command again"
            raise Stopped(f"{unit.name}: {problem}")
        # it asks again what was answered: the answer was not taken, and is not sent twice
        if outcome.gate in consents:
            said = unit.scrub(said_by(outcome)).strip().split("\n")[-1][:120] or "it asks again"
            raise Stopped(f"{unit.name}: the unit did not take the answer to '{outcome.gate}': {said}")
        await _consent(unit, account, outcome.gate, consents)
    raise Stopped(f"{unit.name}: the unit keeps asking at the first login")


async def _consent(unit: UnitInWork, account: str, gate: str, consents: dict[str, Text]) -> None:
    """Add what is sent at a gate. Raises Stopped on one the family does not know."""
    _, channel, _ = unit.family.channel_of(unit.best_door().service)
    answer = channel.gate_answer(gate)
    if answer is not None:
        consents[gate] = answer
    elif gate == "change":
        (ref,) = await prepare(unit, (account,), f"set at the first entry, {unit.clock.now()}")
        consents |= {"change": (Slot(ref),), "confirm": (Slot(ref),)}
        unit.note(GateAnswering(gate="change", account=account, secret=ref.entry))
    else:
        raise Stopped(f"{unit.name}: the unit asks something this family does not know: {gate}")


async def _passed(unit: UnitInWork, account: str, consents: dict[str, Text]) -> list[str]:
    done = []
    if "change" in consents:
        await _confirm(unit, account)
        done.append(f"the password of {account} was changed; the new one rests in the safe")
    if "terms" in consents:
        done.append(f"licence terms accepted by {unit.job.allows.terms}")
        unit.note(GatePassed(gate="terms", by=unit.job.allows.terms))
    return done


async def _confirm(unit: UnitInWork, account: str) -> None:
    """A new connection with the new secret: only this tells which password holds."""
    outcome, session = await unit.enter(Way(unit.site.laptop, unit.best_door(), account, unit.site.secret(account)))
    if session is None:
        problem = f"the new password of {account} was sent, but did not open a new connection: {told(outcome)}"
        raise Stopped(f"{unit.name}: {problem}; run the same command again")
    await session.close()
