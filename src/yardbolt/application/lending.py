"""An account that is made for a trial and taken away again: by programs of a host, or by the ops that make and remove
any account of the unit. Where the family cannot make, give and remove one at once, none is made."""

from __future__ import annotations

from dataclasses import replace
from typing import Protocol

from yardbolt.core.credentials import Password
from yardbolt.core.errors import UnitError
from yardbolt.core.family.bound import Bound, bound_or_why
from yardbolt.core.family.model import LIVE, Does, Family
from yardbolt.core.plane.change import Change, Drop, Make, Set, apply
from yardbolt.core.plane.edit import exists, get
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.secret import Ref, Slot, Text
from yardbolt.core.talk.conversation import ANSWER, Answer, Order
from yardbolt.core.talk.outcomes import Done, No

from .session import Session
from .unit import UnitInWork

NAME = "yardbolt-try"
SHORTER = ("yardbolttry", "ybtry")  # where the unit takes no name like that
DIGITS = "0123456789"
UNTRIED = "untried: "
A_WORD = Ref("typed:drill-first")


def name_for(family: Family, number: str = "") -> str:
    """What the account is called on a unit of this family; with a number, for a unit may remember a locked one by its
    name."""
    return next((one + number for one in (NAME, *SHORTER) if family.is_token(one + number)), NAME)


def lent(plane: Plane) -> list[str]:
    """Accounts of a trial that was cut off."""
    return [one.key for one in plane.accounts if one.key.rstrip(DIGITS) in (NAME, *SHORTER)]


class Lending(Protocol):
    """What lends an account and takes it back; each returns why it was not done, or nothing. `waits`: the end of a
    lock is waited for."""

    waits: bool
    name: str

    async def lend(self, ref: Ref) -> str: ...

    async def take_back(self) -> str: ...


def why_not(answer: Answer) -> str:
    """What it says where something was not done; empty where it was."""
    return "" if isinstance(answer, Done) else answer.said if isinstance(answer, No) else "no clear answer"


class ByProgram:
    """A host's own: the programs of its family that lend an account and take it back."""

    waits = True
    name = NAME

    def __init__(self, unit: UnitInWork, session: Session) -> None:
        self._unit, self._session = unit, session

    async def lend(self, ref: Ref) -> str:
        """Make it."""
        return await self._tell("lend", key=(NAME,), secret=(Slot(ref),))

    async def take_back(self) -> str:
        """Remove it."""
        return await self._tell("take back", key=(NAME,))

    async def _tell(self, does: Does, **given: Text) -> str:
        op = self._unit.family.op_doing(does)
        assert op is not None
        answer = await self._session.tell(Order(op.how, given, max(ANSWER, op.wait)))
        return why_not(answer).removeprefix(UNTRIED)


class ByChanges:
    """What makes, gives a password to and removes any account of the unit."""

    waits = False

    def __init__(self, unit: UnitInWork, session: Session, plane: Plane, name: str = "") -> None:
        self._unit, self._session, self._plane = unit, session, plane
        self.name = name or name_for(unit.family)
        self._here = ("accounts", self.name)

    def can(self) -> bool:
        """Does this make add and remove an account at once, by this service, and was every account read?"""
        if exists(self._plane, self._here) is not False:
            return False
        for change in (self._made(A_WORD), Drop(self._here)):
            bound = self._bound(change)
            if isinstance(bound, str) or bound.cuts not in ("none", "account") or bound.op.guarded:
                return False
            if bound.store != LIVE or bound.unmet(self._plane):
                return False
        return True

    @property
    def gives(self) -> bool:
        """Can an account that is there be given another password?"""
        there = apply(self._plane, self._made(A_WORD))
        bound = bound_or_why(self._unit.family, self._given(A_WORD), there)
        return not isinstance(bound, str) and bound.store == LIVE

    def _bound(self, change: Change) -> Bound | str:
        plane = self._plane
        if isinstance(change, Drop) and not exists(plane, self._here):
            plane = apply(plane, self._made(A_WORD))
        bound = bound_or_why(self._unit.family, change, plane)
        if not isinstance(bound, str) and not self._unit.family.carries(self._session.way.service, bound.channel):
            return "it is made and removed by another service"
        return bound

    async def send(self, ref: Ref, session: Session | None = None) -> Answer | str:
        """Make it with this password, or give it this one where it is there; through another session where one is
        given."""
        session = session or self._session
        change: Change = self._given(ref) if exists(self._plane, self._here) else self._made(ref)
        bound = self._bound(change)
        if isinstance(bound, str):
            return bound
        if not session.alive:
            return "the session ended"
        answer = await session.tell(bound.order)
        if isinstance(answer, Done):
            self._plane = apply(self._plane, change)
        return answer

    async def itself(self) -> Session | None:
        """Its own session, by the password it was given last."""
        held = get(self._plane, (*self._here, "secret"))
        way = replace(self._session.way, account=self.name, credential=Password(held))
        return (await self._unit.access.enter(way, budgeted=False))[1] if isinstance(held, Ref) else None

    def _made(self, ref: Ref) -> Make:
        return Make(self._here, (("role", "read"), ("secret", ref)))

    def _given(self, ref: Ref) -> Set:
        return Set((*self._here, "secret"), ref)

    async def lend(self, ref: Ref) -> str:
        """Make it."""
        answer = await self.send(ref)
        return answer if isinstance(answer, str) else why_not(answer)

    async def take_back(self) -> str:
        """Remove it, whatever came of making it, and read that it is gone."""
        session = self._session
        try:
            if not session.alive:
                _, more = await self._unit.access.enter(session.way)
                if more is None:
                    return f"{self.name} may stay: nobody got in to remove it"
                session = more
            return await self._removed(session)
        except UnitError as e:
            return f"{self.name} may stay: {e}"
        finally:
            if session is not self._session:
                await session.close()

    async def _removed(self, session: Session) -> str:
        if await self._gone(session):
            return ""
        bound = self._bound(Drop(self._here))
        if isinstance(bound, str):
            return f"{self.name} may stay: {bound}"
        said = why_not(await session.tell(bound.order))
        return "" if await self._gone(session) else f"{self.name} stays: {said or 'it is listed still'}"

    async def _gone(self, session: Session) -> bool:
        if exists((await session.read((self._here,))).plane, self._here) is not False:
            return False
        if exists(self._plane, self._here):
            self._plane = apply(self._plane, Drop(self._here))
        return True


def lending(unit: UnitInWork, session: Session, plane: Plane, number: str = "") -> ByProgram | ByChanges | None:
    """How an account is lent on this unit; None where none can be made and removed at once."""
    if unit.family.op_doing("lend"):
        return ByProgram(unit, session)
    account = ByChanges(unit, session, plane, name_for(unit.family, number))
    return account if account.can() else None
