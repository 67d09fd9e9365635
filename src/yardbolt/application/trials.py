"""Trying the published logins, with the controls that say what a refusal is worth.

A refusal may mean that the password is another one; or that the unit is still starting, that the account is locked,
that the service blocks everybody, or that one knocked at the wrong port. What was not ruled out stays a doubt.
"""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import assert_never

from yardbolt.core.credentials import Password
from yardbolt.core.doors import Door, Way
from yardbolt.core.plane.edit import exists
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.ports import Seen
from yardbolt.core.talk.outcomes import (
    Asked,
    Cut,
    Locked,
    Login,
    NoListener,
    Open,
    Port,
    Quiet,
    Refused,
    Refusing,
    Silent,
    Untried,
    accepted,
)
from yardbolt.core.talk.ways import UNDESCRIBED

from .outerview import Surroundings
from .unit import UnitInWork

USUAL_PORT = {"ssh": 22, "telnet": 23, "ftp": 21, "http": 80, "https": 443}
STARTING, LOCKED, EVERYBODY, ELSEWHERE = "starting", "locked", "everybody", "elsewhere"


@dataclass(frozen=True)
class Trial:
    """One published login by one way, how it ended, and what else than a wrong password could explain that."""

    way: Way
    outcome: Login
    doubts: frozenset[str] = frozenset()
    early: bool = False  # before any login had opened

    @property
    def gate(self) -> str:
        """The question that stood behind it."""
        return self.outcome.gate if isinstance(self.outcome, Asked) else ""


class Trials:
    """The trials of one unit in one run."""

    def __init__(self, unit: UnitInWork, around: Surroundings, known: tuple[Way, ...]) -> None:
        self.unit, self.around, self.known = unit, around, known
        self.met = asyncio.get_running_loop().time()
        self.before = unit.record.last_plane() or Plane()
        self.ours: set[str] = set()  # accounts that a password of ours opened in this run, each in its store
        self.locked: set[str] = set()  # accounts, each in the store it is kept in

    async def run(self) -> tuple[Trial, ...]:
        """Every published login by every door, within the try budget; a door that was shut is knocked at once more at
        the end, for the unit may have been starting."""
        if not self.unit.family.factory.logins:
            return ()
        doors = self.unit.site.doors
        for one in self.around.both():
            doors = (*doors, *others(doors, one.address, one.ports))
        states = {door: self._state(door) for door in doors}
        found = {
            door: await self._door(door, states[door]) for door in doors if not self.unit.facts.apart(door.service)
        }
        # of these none says anything of another
        apart = [door for door in doors if door not in found]
        found |= zip(apart, await asyncio.gather(*(self._door(door, states[door]) for door in apart)), strict=True)
        for door, state in states.items():
            if not isinstance(state, Open | Quiet):
                knocked = await self.unit.outside.look.knock(door, self.unit.facts.source(door))
                if knocked != state:
                    found[door] = await self._door(door, knocked)
        return tuple(trial for trials in found.values() for trial in trials)

    def _state(self, door: Door) -> Port:
        """What its port did."""
        return next(one for one in self.around.both() if one.address == door.address).state.at(door.port)

    async def _door(self, door: Door, state: Port) -> list[Trial]:
        ways = [
            Way(self.unit.facts.source(door), door, one.account, Password(one.ref))
            for one in self.unit.family.factory.logins
        ]
        match state:
            case Open():
                return await self._batch(door, ways)
            case Quiet():
                return [Trial(way, Silent(False, "its port says nothing")) for way in ways]
            case Refusing(listening=True):
                return [Trial(way, Cut(False, "its port takes connections and ends them")) for way in ways]
            case Refusing():
                return [Trial(way, NoListener("nothing listens on its port"), self._elsewhere(door)) for way in ways]
            case Untried():
                return [Trial(way, state) for way in ways]
        assert_never(state)

    def _elsewhere(self, door: Door) -> frozenset[str]:
        """Does another port speak what this door should, so that this may be the wrong one?"""
        known = {one.port for one in self.unit.site.doors}
        speaks = {one.speaks for one in self.around.ports if one.port not in known}
        alike = bool({door.scheme, door.service, "unknown"} & speaks)
        return frozenset({ELSEWHERE} if alike else ()) | frozenset(() if self._settled() else {STARTING})

    def _settled(self) -> bool:
        """Is its start-up over? A login was accepted, or the time the family names has passed."""
        waited = asyncio.get_running_loop().time() - self.met
        return self.unit.access.ready or 0 < self.unit.family.factory.ready_after <= waited

    # -- one door that is open --

    async def _batch(self, door: Door, ways: list[Way]) -> list[Trial]:
        """Every login by a door that is open, between two logins that open: one of ours where there is one, else a
        published one that opened."""
        # a password of ours goes only where we manage the unit
        known = () if self.unit.facts.apart(door.service) else self.known
        known = tuple(replace(way, door=door) for way in known if self.unit.budget.may_send(way.secret, door.service))[
            :1
        ]
        control = [way for way in known if await self._opens(way)]
        out: list[Trial] = []
        for way in ways:
            out.append(await self._one(way))
            if isinstance(out[-1].outcome, Silent):
                rest = ways[len(out) :]
                return [*out, *(Trial(one, Silent(False, "it did not answer the login before")) for one in rest)]
            if not control and accepted(out[-1].outcome):
                control = [way]
                # refused before any login opened: it may have been starting, so once more, now that one has
                out = [await self._one(t.way) if isinstance(t.outcome, Refused) and t.early else t for t in out]
        if not any(isinstance(trial.outcome, Refused) for trial in out):
            return out
        beside = [await self._opens(way) for way in control] == [True]
        return [self._doubted(trial, beside) for trial in out]

    async def _one(self, way: Way) -> Trial:
        store = self.unit.family.account_key(way.service, way.account)
        if store in self.locked:
            return Trial(way, Locked("the account is locked; left alone"))
        early = not self.unit.access.ready
        gone = exists(self.before, ("accounts", way.account)) is False  # nothing there to lock
        outcome = await self.unit.access.attempt(way, not gone)
        self.locked |= {store} if isinstance(outcome, Locked) else set()
        if isinstance(outcome, Refused) and self.unit.family.factory.ready_after and not self._settled():
            await self.unit.access.wait_ready(self.met)
            outcome = await self.unit.access.attempt(way, not gone)
        return Trial(way, outcome, early=early)

    async def _opens(self, way: Way) -> bool:
        """Does a login open that should?"""
        outcome, session, by = await self.unit.access.enter_trusted(way)
        if session is not None:
            await session.close()
        account = self.unit.family.account_key(way.service, way.account)
        self.locked |= {account} if isinstance(outcome, Locked) else set()
        # a key that opens says nothing of the password
        if accepted(outcome) and by.password is not None and not by.secret.factory:
            self.ours.add(account)
        return accepted(outcome)

    def _doubted(self, trial: Trial, beside: bool) -> Trial:
        """What else could explain a refusal. `beside`: did a login by the same service open just before and after?"""
        if not isinstance(trial.outcome, Refused):
            return trial
        doubts = set[str]()
        # where the account opens with a password of ours, the published one is not its password
        if self.unit.family.account_key(trial.way.service, trial.way.account) not in self.ours:
            if not beside:
                doubts |= {EVERYBODY} | (set() if self.unit.access.ready else {STARTING})
            if self.unit.facts.apart(trial.way.service) or not self.unit.family.tells_lock(trial.way.service):
                doubts.add(LOCKED)
        return replace(trial, doubts=frozenset(doubts))


def others(doors: Iterable[Door], address: str, seen: Iterable[Seen]) -> tuple[Door, ...]:
    """Where else one can log in, judged by the ports that answer: SSH on further ports, web servers that ask by
    themselves, terminals, file transfer. Where few tries are left, first what is encrypted, then where a maker's own
    accounts are likeliest."""
    known, out, services = {one.port for one in doors}, list[Door](), [*UNDESCRIBED[0].services]
    for one in seen:
        by_itself = one.details.get("asks by") in ("basic", "digest")
        scheme = {"tls": "https" if by_itself else "", "http": "http" if by_itself else ""}.get(one.speaks, one.speaks)
        if one.port not in known and scheme in services:
            named = (
                scheme
                if USUAL_PORT[scheme] == one.port and scheme not in {d.service for d in doors}
                else f"{scheme}-{one.port}"
            )
            out.append(Door(scheme, address, one.port, named))
    return tuple(sorted(out, key=lambda door: services.index(door.scheme)))


def settled(trial: Trial) -> bool:
    """Is it known how this login stands?"""
    if accepted(trial.outcome):
        return True
    return isinstance(trial.outcome, Refused | NoListener) and not trial.doubts
