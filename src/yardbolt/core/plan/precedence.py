"""Precedence: the one table of order. The first row that fits gives a change its phase and its place;
`docs/precedence.md` says why."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from ..addresses import AddressSet
from ..family.bound import Bound
from ..job import Site
from ..judge.staying import may_shut_out, rests_on
from ..plane.change import Change, Drop, Make, Set, moves_to
from ..plane.edit import get
from ..plane.leaves import Plane
from ..plane.table import holds_secret
from .belief import Belief

OPEN, CLOSE, REMOVE, MOVE = "open", "close", "remove", "move"
PEOPLE = frozenset({"ssh", "telnet", "http", "https", "netconf"})  # services people log in by to administer
FIRST = "published-first"  # the row of what is closed early where it can be, and later where not
PHASES = (OPEN, CLOSE, REMOVE, MOVE)
Inside = frozenset[str]  # the accounts by which one is in just now
Test = Callable[[Change, Plane, Site, Inside], bool]


def _set(change: Change, leaf: str, value: Any = ...) -> bool:
    return isinstance(change, Set) and change.path[-1] == leaf and (value is ... or change.value is value)


def _own(change: Change, plane: Plane, site: Site, inside: Inside) -> bool:
    return isinstance(change, Set) and is_own(change, site)


def is_own(change: Change, site: Site) -> bool:
    """Is it about an account of the owner?"""
    return change.path[0] == "accounts" and change.path[1] in {own.name for own in site.accounts}


def _sources(change: Change) -> bool:
    return isinstance(change, Set) and isinstance(change.value, AddressSet)


def _wider(change: Change, plane: Plane, site: Site, inside: Inside) -> bool:
    if not isinstance(change, Set) or not isinstance(change.value, AddressSet):
        return False
    now = get(plane, change.path)
    return isinstance(now, AddressSet) and now <= change.value


def _factory_secret(change: Change, plane: Plane, site: Site, inside: Inside) -> bool:
    return isinstance(change, Set) and change.path[0] == "accounts" and holds_secret(change.path)


def _nobody_needs(change: Change, plane: Plane, site: Site, inside: Inside) -> bool:
    if not _factory_secret(change, plane, site, inside):
        return False
    return bool(inside) and change.path[1] in site.factory and change.path[1] not in inside


def _moves(change: Change, plane: Plane, site: Site, inside: Inside) -> bool:
    return bool(moves_to(change)) or (change.path[0] == "interfaces" and _set(change, "gateway"))


def _encrypts(change: Change, plane: Plane) -> bool:
    """Does it switch on a service that encrypts?"""
    on = change.path[0] == "services" and _set(change, "enabled", True)
    service = change.path[:2]
    # one that wants a key first comes on once it has one
    return on and get(plane, (*service, "encrypted")) is True and get(plane, (*service, "keyed")) is not False


@dataclass(frozen=True)
class Row:
    """One row: its name, the phase of what fits it, the reason, and the test."""

    name: str
    phase: str
    reason: str
    fits: Test


PRECEDENCE: tuple[Row, ...] = (
    Row(
        "encrypted-first",
        OPEN,
        "an encrypted way before any password of the owner's goes over the line",
        lambda change, plane, site, inside: _encrypts(change, plane),
    ),
    Row(
        FIRST,
        OPEN,
        "a published login that nobody needs is closed first of all",
        _nobody_needs,
    ),
    Row(
        "comes-back",
        OPEN,
        "what lets people in comes back at the next start before anything closes",
        lambda change, plane, site, inside: _set(change, "boot", True),
    ),
    Row(
        "mode",
        OPEN,
        "how it guards itself before what that brings",
        lambda change, plane, site, inside: change.path == ("mode",),
    ),
    Row("clock", OPEN, "clock before what has dates", lambda change, plane, site, inside: change.path[0] == "clock"),
    Row("name", OPEN, "name before keys and logs", lambda change, plane, site, inside: change.path == ("name",)),
    Row(
        "policy",
        OPEN,
        "policy before the passwords it binds",
        lambda change, plane, site, inside: change.path[0] in ("policy", "lockout"),
    ),
    Row(
        "own-key",
        OPEN,
        "a key of its own before what cannot start without one",
        lambda change, plane, site, inside: _set(change, "keyed", True),
    ),
    Row(
        "entry_list",
        OPEN,
        "an entry list is made before it is attached",
        lambda change, plane, site, inside: isinstance(change, Make) and change.path[0] == "entry_lists",
    ),
    Row(
        "role",
        OPEN,
        "a role before the accounts that are given it",
        lambda change, plane, site, inside: change.path[0] == "roles",
    ),
    Row(
        "let-in",
        OPEN,
        "on the list of those who may log in before logging in",
        lambda change, plane, site, inside: change.path[0] == "services" and _set(change, "accounts"),
    ),
    Row(
        "own-account",
        OPEN,
        "own account before the factory account goes",
        lambda change, plane, site, inside: isinstance(change, Make),
    ),
    Row("own-rights", OPEN, "own account has its rights before it is relied on", _own),
    Row(
        "services-on",
        OPEN,
        "what is needed runs before what depends on it",
        lambda change, plane, site, inside: _set(change, "enabled", True),
    ),
    Row("wider-sources", OPEN, "new sources in before old ones go", _wider),
    Row("notice", OPEN, "shown from the next login on", lambda change, plane, site, inside: change.path == ("banner",)),
    Row(
        "communities",
        CLOSE,
        "communities go once the user that replaces them is there",
        lambda change, plane, site, inside: change.path == ("snmp", "communities"),
    ),
    Row("factory-secrets", CLOSE, "factory passwords first of all that closes", _factory_secret),
    Row(
        "spare-ways",
        REMOVE,
        "a service people log in by ends after the restart was survived without it",
        lambda change, plane, site, inside: (
            change.path[0] == "services" and change.path[1] in PEOPLE and _set(change, "enabled", False)
        ),
    ),
    Row(
        "root-login",
        REMOVE,
        "root's own login ends once a person's is proven over a restart",
        lambda change, plane, site, inside: _set(change, "root_login"),
    ),
    Row(
        "needless-services",
        CLOSE,
        "what nobody logs in by and nobody needs",
        lambda change, plane, site, inside: _set(change, "enabled", False),
    ),
    Row(
        "spare-next-start",
        REMOVE,
        "what people log in by comes back at the next start as long as it runs",
        lambda change, plane, site, inside: (
            change.path[1:2] != ()
            and change.path[1] in PEOPLE
            and _set(change, "boot", False)
            and get(plane, (*change.path[:2], "enabled")) is True
        ),
    ),
    Row(
        "next-start",
        CLOSE,
        "what does not run must not come back",
        lambda change, plane, site, inside: _set(change, "boot", False),
    ),
    Row(
        "source-limits",
        CLOSE,
        "source limits once everybody needed is inside",
        lambda change, plane, site, inside: _sources(change),
    ),
    Row(
        "attach",
        CLOSE,
        "an entry list is attached once everybody needed is inside",
        lambda change, plane, site, inside: _set(change, "entry_list"),
    ),
    Row(
        "removals",
        REMOVE,
        "spare ways in end after the restart was survived",
        lambda change, plane, site, inside: isinstance(change, Drop),
    ),
    Row(
        "pool",
        MOVE,
        "what lends addresses of the old network ends before the address moves",
        lambda change, plane, site, inside: _set(change, "lends", False),
    ),
    Row(
        "addressing",
        MOVE,
        "fixed addressing before the address it fixes",
        lambda change, plane, site, inside: change.path[0] == "interfaces" and _set(change, "mode"),
    ),
    Row("address", MOVE, "the address moves last, when all else is proven and saved", _moves),
    Row("rest", OPEN, "needs nothing before it", lambda change, plane, site, inside: True),
)


@dataclass(frozen=True)
class Rank:
    """The place of a change in the table, its phase and its reason, and the row it fits. Within a place what is made
    under the timed return goes together, and accounts with full rights are made first: they are the ones to rely
    on."""

    place: int
    phase: str
    reason: str
    row: str = ""
    guarded: bool = False
    lesser: bool = False

    @property
    def turn(self) -> tuple[int, bool, bool]:
        """What comes first has the least."""
        return self.place, not self.guarded, self.lesser


def rank(change: Change, bound: Bound | str, belief: Belief, site: Site, replaced: bool = False) -> Rank:
    """Where a change belongs, as the unit is believed to be now. A change that may lock out somebody who is in closes,
    whatever else it is, unless something takes the place of what it ends (`replaced`)."""
    inside = frozenset(way.account for way in belief.proven)
    place, row = next((n, one) for n, one in enumerate(PRECEDENCE) if one.fits(change, belief.live, site, inside))
    lesser = isinstance(change, Make) and dict(change.values).get("role") != "full"
    found = Rank(place, row.phase, row.reason, row.name, lesser=lesser)
    if isinstance(bound, str):
        return found
    found = replace(found, guarded=is_guarded(bound, belief))
    shuts = row.phase == OPEN and not replaced and may_shut_out(bound.before, bound.after, belief.proven)
    return replace(found, phase=CLOSE) if shuts else found


def is_guarded(bound: Bound, belief: Belief) -> bool:
    """Is it made under the timed return? What the return would take back is, where no forecast sees whether it could
    lock out, or it touches what a proven way rests on."""
    if not bound.goes_back:
        return False
    return bound.op.guarded or bool(bound.touches & rests_on(bound.before, belief.proven))
