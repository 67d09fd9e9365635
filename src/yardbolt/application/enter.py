"""The approved first entry: licence terms, forced passwords. The one kind of writing that comes before the as-found
reading."""

from __future__ import annotations

from dataclasses import dataclass, replace

from yardbolt.core.credentials import Password
from yardbolt.core.doors import Door, Way
from yardbolt.core.errors import OperatorError, SafeError, Stopped, Trouble, UnitError
from yardbolt.core.judge.passwords import effective, suggest
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.run.events import GateAnswering, GateMet, GatePassed
from yardbolt.core.secret import Ref, Secret, Slot, Text
from yardbolt.core.talk.outcomes import Asked, Login, NoListener, NotReady, Opened, said_by, told

from .check import Checked, check
from .contact import candidates, floor_of, told_fully
from .held import TYPED
from .identity import recognise
from .session import Session
from .unit import UnitInWork

MOST_GATES, CODE = 4, "code"
STARTING = 30  # times it is looked whether it has started again
LONGEST_SAID = 1200


@dataclass(frozen=True)
class Question:
    """Something the unit asks at the first login, with what it says about it, and by which login it was met."""

    gate: str
    way: Way
    said: str

    @property
    def account(self) -> str:
        """At whose login it is asked."""
        return self.way.account


@dataclass(frozen=True)
class Met:
    """What the published logins met: what is asked, or why it is not known whether anything is."""

    asked: tuple[Question, ...]
    untold: str = ""


@dataclass(frozen=True)
class Entered:
    """What the first entry did, and the check that followed, where one was needed."""

    done: tuple[str, ...]
    checked: Checked | None


def found_secrets(unit: UnitInWork, accounts: tuple[str, ...]) -> dict[Ref, Secret]:
    """What opened these accounts as found, where the safe does not hold it yet."""
    if unit.held.safe is None:
        return {}
    logins = {one.account: Secret(one.secret) for one in unit.family.factory.logins}
    if typed := unit.held.typed.get(TYPED):
        logins[unit.facts.entry.account] = typed
    missing = (name for name in accounts if name in logins and unit.held.safe.value(unit.site.found(name)) is None)
    return {unit.site.found(name): logins[name] for name in missing}


async def prepare(unit: UnitInWork, accounts: tuple[str, ...], note: str) -> tuple[Ref, ...]:
    """Put a new secret for each account into the safe, on disk and in its copy, before anything is sent."""
    if unit.held.safe is None:
        raise SafeError("no safe is open")
    if not (unit.facts.job.copy or unit.facts.job.copy_waiver):
        raise SafeError(
            "the safe has no second copy: add 'safe: {copy: PATH}' to the job file, or 'without copy: REASON'"
        )
    refs = tuple(unit.site.secret(account) for account in accounts)
    demands = effective(unit.record.last_plane() or Plane(), floor_of(unit))
    try:
        missing = {ref: Secret(suggest(demands, unit.pick)) for ref in refs if unit.held.safe.value(ref) is None}
    except ValueError as e:
        raise OperatorError(f"{unit.name}: no password can be made that it takes: {e}") from None
    missing |= found_secrets(unit, accounts)
    await unit.held.safe.store(missing, note)
    return refs


async def questions(unit: UnitInWork) -> Met:
    """What stands between the published logins and the unit, seen by logging in and answering nothing. What is shut
    as it is found asks nothing, and the next best door does."""
    await unit.find()
    for door in unit.facts.good_doors(unit.record.last_plane()):
        met = await _met(unit, door)
        if met is not None:
            return met
    return Met((), "nothing listens where one logs in")


async def _met(unit: UnitInWork, door: Door) -> Met | None:
    """What they meet by one door; None where nothing listens there."""
    published = [Way(unit.site.laptop, door, one.account, Password(one.ref)) for one in unit.family.factory.logins]
    ours = [way for way in candidates(unit) if way.secret.typed and way.door == door]
    found: dict[tuple[str, str], Question] = {}
    opened, why = False, list[str]()
    for way in (*ours, *published):
        outcome = await unit.access.attempt(way)
        if isinstance(outcome, NoListener):
            return None
        # a code in somebody's mailbox nobody answers here
        if isinstance(outcome, Asked) and outcome.gate != CODE:
            said = unit.held.scrub(outcome.said).strip()[-LONGEST_SAID:]
            # the first visitor is asked, by any login: once is enough
            if not outcome.secret_sent and found:
                break
            found[(outcome.gate, way.account)] = Question(outcome.gate, way, said)
        elif isinstance(outcome, Opened):
            opened = True
        else:
            why.append(f"{way.account or '(no name)'} by {way.service}: {told_fully(outcome)}")
    untold = "" if found or opened else "; ".join(why) or "no login is published for it"
    return Met(tuple(found.values()), untold)


async def enter(unit: UnitInWork, asked: tuple[Question, ...]) -> Entered:
    """Accept terms and set the forced passwords that were approved, each secret in the safe first; then read.

    Raises OperatorError when the job names nobody who accepts terms, Stopped when the unit does not take an answer.
    """
    if any(question.gate == "terms" for question in asked) and not unit.facts.job.allows.terms:
        problem = "shows licence terms and the job file names nobody who accepts them: add 'allows: {terms: NAME}'"
        raise OperatorError(f"{unit.name} {problem}")
    if asked:
        unit.record.believable_clock()
        await recognise(unit, None)
    done: list[str] = []
    for question in asked:
        unit.record.note(GateMet(gate=question.gate, account=question.account, said=question.said))
    for way in dict.fromkeys(question.way for question in asked):
        done += await _pass(unit, way)
    filed = unit.record.last_check()
    # asked nothing, and it was read before: there is nothing to enter
    if not asked and filed is not None and filed.document.complete:
        return Entered((), None)
    checked = await check(unit)
    if checked.reading is None:
        what = "the first entry is done, but" if asked else "nothing was entered:"
        again = "run the same command again" if asked else f"next: yardbolt enter {unit.name} --as NAME"
        reset = (
            f", or reset it to the factory default: {unit.family.factory.reset}" if unit.family.factory.reset else ""
        )
        problem = f"the settings could not be read: {checked.inside}; {again}{'' if asked else reset}"
        raise UnitError(Trouble.NO_LOGIN, f"{unit.name}: {what} {problem}")
    return Entered(tuple(done), checked)


async def _pass(unit: UnitInWork, way: Way) -> list[str]:
    """Answer the questions one account is asked; the answers to terms and change are those the owner approved."""
    account, consents = way.account, dict[str, Text]()
    for _ in range(MOST_GATES):
        outcome, session = await unit.access.enter(way, consents)
        # the last answer may make it start again; what it holds then, a login by the new secret tells
        if isinstance(outcome, NotReady) and "change" in consents:
            return await _passed(unit, way, consents)
        if isinstance(outcome, NotReady) and consents:
            outcome, session = await _once_ready(unit, way)
        if session is not None:
            await session.close()
            return await _passed(unit, way, consents)
        if not isinstance(outcome, Asked):
            why = unit.held.scrub(said_by(outcome)).strip().split("\n")[-1][:120]
            why = f"{told(outcome)} ({why})" if why else told(outcome)
            problem = f"{account} could not pass the first login: {why}; run the same command again"
            raise Stopped(f"{unit.name}: {problem}")
        # it asks again what was answered: the answer was not taken, and is not sent twice
        if outcome.gate in consents:
            said = unit.held.scrub(said_by(outcome)).strip().split("\n")[-1][:120] or "it asks again"
            raise Stopped(f"{unit.name}: the unit did not take the answer to '{outcome.gate}': {said}")
        await _consent(unit, way, outcome.gate, consents)
    raise Stopped(f"{unit.name}: the unit keeps asking at the first login")


async def _consent(unit: UnitInWork, way: Way, gate: str, consents: dict[str, Text]) -> None:
    """Add what is sent at a gate. Raises Stopped on one the family does not know."""
    account, (_, channel, _) = way.account, unit.family.channel_of(way.service)
    answer = channel.gate_answer(gate)
    if answer is not None:
        consents[gate] = answer
    elif gate == "change":
        (ref,) = await prepare(unit, (account,), f"set at the first entry, {unit.record.clock.now()}")
        consents |= {"change": (Slot(ref),), "confirm": (Slot(ref),)}
        unit.record.note(GateAnswering(gate="change", account=account, secret=ref.entry))
    else:
        raise Stopped(f"{unit.name}: the unit asks something this family does not know: {gate}")


async def _passed(unit: UnitInWork, way: Way, consents: dict[str, Text]) -> list[str]:
    done = []
    if "change" in consents:
        await _confirm(unit, way)
        done.append(f"the password of {way.account} was changed; the new one is in the safe")
    if "terms" in consents:
        done.append(f"licence terms accepted by {unit.facts.job.allows.terms}")
        unit.record.note(GatePassed(gate="terms", by=unit.facts.job.allows.terms))
    return done


async def _once_ready(unit: UnitInWork, way: Way) -> tuple[Login, Session | None]:
    """A login, as soon as the unit takes logins again."""
    for _ in range(STARTING):
        outcome, session = await unit.access.enter(way)
        if not isinstance(outcome, NotReady | NoListener):
            break
        await unit.record.clock.sleep(max(1.0, unit.family.factory.ready_after))
    return outcome, session


async def _confirm(unit: UnitInWork, met: Way) -> None:
    """A new connection with the new secret: only this tells which password holds."""
    account, way = met.account, replace(met, credential=Password(unit.site.secret(met.account)))
    outcome, session = await _once_ready(unit, way)
    if session is None:
        problem = f"the new password of {account} was sent, but did not open a new connection: {told(outcome)}"
        raise Stopped(f"{unit.name}: {problem}; run the same command again")
    await session.close()
