"""Who can get in: may source S log in as account A through service V? Three-valued, with every condition and its path (D4).

The planner relies on *surely*, the judge on *possibly*. A login that succeeded proves each of its conditions; after a change the
way stays proven exactly when every condition the change touched is surely true.
"""

from __future__ import annotations

from dataclasses import dataclass

from .addresses import ANYONE, NOBODY, AddressSet
from .paths import Path, show
from .plane import ABSENT, Account, Plane, Service, exists, get, listing
from .secret import Ref


@dataclass(frozen=True, order=True)
class Way:
    """A way in: one concrete way an administrator can log in. `source` is an address of the laptop's side."""

    source: str
    service: str
    account: str
    secret: Ref


@dataclass(frozen=True)
class Condition:
    """One thing that must hold for a login. `holds` is None where it was not read."""

    path: Path
    holds: bool | None
    why: str


@dataclass(frozen=True)
class Admission:
    """The answer: one sure no decides, else one unknown, else yes."""

    admitted: bool | None
    conditions: tuple[Condition, ...]

    @property
    def because(self) -> tuple[Condition, ...]:
        """The conditions that decided it: those that fail, or else those not known."""
        return tuple(c for c in self.conditions if c.holds is False) or tuple(c for c in self.conditions if c.holds is None)


def _limit(path: Path, permitted: object, source: str) -> Condition:
    if isinstance(permitted, AddressSet):
        inside = source in permitted
        return Condition(path, inside, f"{show(path)} is {permitted}")
    return Condition(path, True if permitted is ABSENT else None, f"{show(path)} " + ("has no limit" if permitted is ABSENT else "was not read"))


def _account_list(path: Path, allowed: object, way: Way) -> Condition:
    if allowed is ABSENT:
        return Condition(path, True, "every account may use it")
    if not isinstance(allowed, tuple):
        return Condition(path, None, f"{show(path)} was not read")
    for entry in allowed:
        name, _, where = entry.partition("@")
        if any(c in entry for c in "*?!"):
            return Condition(path, None, f"{show(path)} holds the pattern {entry}")
        if name == way.account and (not where or where == way.source):
            return Condition(path, True, f"{show(path)} names {entry}")
    return Condition(path, False, f"{show(path)} does not name {way.account}")


def admit(plane: Plane, way: Way) -> Admission:
    """May this way be used, as far as this plane tells?"""
    s, a = ("services", way.service), ("accounts", way.account)
    conditions = [Condition(p, exists(plane, p), f"{show(p)} is there") for p in (s, a)]
    for p in ((*s, "enabled"), (*a, "enabled")):
        value = get(plane, p)
        conditions.append(Condition(p, value if isinstance(value, bool) else None, f"{show(p)} is {value}"))
    for p in ((*s, "permitted"), (*a, "permitted")):
        conditions.append(_limit(p, get(plane, p), way.source))
    conditions.append(_account_list((*s, "accounts"), get(plane, (*s, "accounts")), way))
    held = get(plane, (*a, "secret"))
    conditions.append(Condition((*a, "secret"), held == way.secret if isinstance(held, Ref) else None, f"the credential of {way.account}"))
    verdicts = {c.holds for c in conditions}
    return Admission(False if False in verdicts else None if None in verdicts else True, tuple(conditions))


@dataclass(frozen=True)
class Sources:
    """From where a service lets somebody log in: surely, possibly, and what decides it."""

    sure: AddressSet
    possible: AddressSet
    because: tuple[Path, ...]


def who(plane: Plane, service: str) -> Sources:
    """The sources from which at least one account may log in through `service`, in both address families."""
    path = ("services", service)
    there = exists(plane, path)
    v: Service | None = next((x for x in plane.services.items if x.key == service), None)
    if there is False or (v is not None and v.enabled is False):
        return Sources(NOBODY, NOBODY, ((*path, "enabled"),))
    if v is None:
        return Sources(NOBODY, ANYONE, (path,))
    gate_sure, gate_possible = _bounds(v.permitted, v.enabled is True)
    sure, possible = NOBODY, NOBODY
    accounts: tuple[Account, ...] = listing(plane, "accounts").items
    for a in accounts:
        if a.enabled is False:
            continue
        low, high = _bounds(a.permitted, a.enabled is True and v.accounts is ABSENT)
        sure, possible = sure | (low & gate_sure), possible | (high & gate_possible)
    if not plane.accounts.complete:
        possible = possible | gate_possible
    return Sources(sure, possible, ((*path, "permitted"),))


def _bounds(permitted: object, certain: bool) -> tuple[AddressSet, AddressSet]:
    high = permitted if isinstance(permitted, AddressSet) else ANYONE
    known = isinstance(permitted, AddressSet) or permitted is ABSENT
    return (high if certain and known else NOBODY), high
