"""Who can get in: may source S log in as account A through door D? Three-valued, with every condition and the paths it
rests on.

The planner relies on *surely*, the judge on *possibly*. A login that succeeded proves each of its conditions; after a
change the way stays proven exactly when every condition the change touched is surely true.
"""

from __future__ import annotations

from ..addresses import AddressSet
from ..credentials import Key, Nothing, Passphrase, Password
from ..doors import Door, Way
from ..plane.edit import exists, get
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane, places_of
from ..plane.path import Path
from ..plane.words import human, spoken
from ..secret import Ref
from .condition import Admission, Condition, admission, one_path
from .passage import passage
from .whereabouts import at_address, bound_to, by_entry_list


def admit(plane: Plane, way: Way, kept: bool = False) -> Admission:
    """May this way be used, as far as this plane tells? `kept`: once the unit has started again with these settings."""
    return admission(conditions(plane, way, kept))


def conditions(plane: Plane, way: Way, kept: bool = False) -> tuple[Condition, ...]:
    """Everything that must hold for this way; where the settings are those of the next start, that its service comes
    back too."""
    service, account = ("services", way.service), ("accounts", way.account)
    found = [_there(path, exists(plane, path)) for path in (service, account)]
    for path in ((*service, "enabled"), (*account, "enabled")):
        value = get(plane, path)
        # what cannot be switched off is on
        on = True if value is ABSENT else value if isinstance(value, bool) else None
        found.append(one_path(path, on, f"{spoken(path)}: {human(path, value)}"))
    found += [_limit(plane, (*owner, "permitted"), way.source) for owner in (service, account)]
    # what goes to somebody's mailbox nobody types here
    also = get(plane, (*account, "factor"))
    found.append(
        one_path((*account, "factor"), also in (None, ABSENT, "none"), f"{way.account} is asked for {also} too")
    )
    found.append(_root_login(plane, way))
    found.append(_account_list((*service, "accounts"), get(plane, (*service, "accounts")), way))
    found.append(_port(plane, service, way.door))
    found += _shown(plane, way)
    if kept:
        found.append(_comes_back(plane, service))
    return (*found, *at_address(plane, way), bound_to(plane, way.door), by_entry_list(plane, way), passage(plane, way))


def _there(path: Path, holds: bool | None) -> Condition:
    said = "may be there or not" if holds is None else "is there" if holds else "is not there"
    return one_path(path, holds, f"{spoken(path)} {said}")


def _shown(plane: Plane, way: Way) -> tuple[Condition, ...]:
    """What must hold of the credential. A key rests on the account's keys and not on its password; a password on
    itself, and on the service taking passwords, blank ones too where it is one."""
    service, account = ("services", way.service), ("accounts", way.account)
    match way.credential:
        case Nothing():
            return ()
        case Key(fingerprint):
            keys = get(plane, (*account, "keys"))
            held = fingerprint in keys if isinstance(keys, tuple) else False if keys is ABSENT else None
            return (
                one_path((*account, "keys"), held, f"the SSH key of {way.account}"),
                _modes(plane, (*account, "keys_taken")),
                _takes(plane, (*service, "key_login"), f"{way.service} takes keys"),
            )
        case Password(ref) | Passphrase(ref):
            told = get(plane, (*account, "secret"))
            known = told == ref if isinstance(told, Ref) else None
            return (
                one_path((*account, "secret"), known, f"the credential of {way.account}"),
                _takes(plane, (*service, "password_login"), f"{way.service} takes passwords"),
                _kept_so(plane, way),
            )


def _takes(plane: Plane, path: Path, why: str) -> Condition:
    """Does the service take this kind of credential? Where nothing of the kind is read of it, it takes them all."""
    value = get(plane, path)
    tells = get(plane, (*path[:2], "root_login")) not in (None, ABSENT)
    holds = value if isinstance(value, bool) else None if value is None and tells else True
    return Condition(frozenset({path, (*path[:2], "root_login")}) if tells else frozenset({path}), holds, why)


def _modes(plane: Plane, path: Path) -> Condition:
    """Is the file of keys taken, by the modes of all that leads to it? A make without such files has none that others
    write."""
    value = get(plane, path)
    holds = True if value is ABSENT else value if isinstance(value, bool) else None
    said = "not read" if holds is None else "yes" if holds else "no"
    return one_path(path, holds, f"whether the file of keys of {path[1]} is taken, by its modes: {said}")


def _kept_so(plane: Plane, way: Way) -> Condition:
    """Can a password be given that is kept like this one? A locked one never; a blank one where blank ones are
    taken."""
    storage, blank = ("accounts", way.account, "storage"), ("services", way.service, "blank_login")
    how, takes = get(plane, storage), _takes(plane, blank, "").holds
    holds = False if how == "locked" else takes if how == "blank" else True
    return Condition(frozenset({storage, blank}), holds, f"the password of {way.account} is {how}")


def comes_back(plane: Plane, service: str) -> bool | None:
    """Does the next start bring the service? None where that was not read of a host that starts each by itself; any
    other unit starts what is on."""
    value = get(plane, ("services", service, "boot"))
    if isinstance(value, bool):
        return value
    return True if plane.host.init is ABSENT else None


def _comes_back(plane: Plane, service: Path) -> Condition:
    holds = comes_back(plane, service[-1])
    why = "was not read" if holds is None else "is yes" if holds else "is no"
    return Condition(frozenset({(*service, "boot"), ("host", "init")}), holds, f"{service[-1]} at the next start {why}")


def _limit(plane: Plane, path: Path, source: str) -> Condition:
    permitted = get(plane, path)
    if isinstance(permitted, AddressSet):
        return one_path(path, source in permitted, f"{spoken(path)}: {permitted}")
    if permitted is ABSENT:
        return one_path(path, True, f"{spoken(path)}: no limit")
    return one_path(path, None, f"{spoken(path)} was not read")


def _account_list(path: Path, allowed: object, way: Way) -> Condition:
    if allowed is ABSENT:
        return one_path(path, True, "every account may use it")
    if not isinstance(allowed, tuple):
        return one_path(path, None, f"{spoken(path)} was not read")
    if way.account in allowed and not any(entry.startswith("!") for entry in allowed):
        return one_path(path, True, f"{spoken(path)}: {way.account} is named")
    for entry in allowed:
        name, _, where = entry.partition("@")
        if any(sign in entry for sign in "*?!"):
            return one_path(path, None, f"{spoken(path)}: there is the pattern {entry}")
        if name == way.account and where == way.source:
            return one_path(path, True, f"{spoken(path)}: {entry} is named")
    return one_path(path, False, f"{spoken(path)}: {way.account} is not named")


def _root_login(plane: Plane, way: Way) -> Condition:
    """Does the service let root in with this credential, where it tells root from others?"""
    told, becomes = ("services", way.service, "root_login"), ("accounts", way.account, "becomes_root")
    may, kind = get(plane, told), get(plane, becomes)
    # a make of which neither is read does not tell root from others
    by_key = isinstance(way.credential, Key)
    if may in (ABSENT, "yes") or kind not in ("is root", None) or (may is None and kind is None):
        return Condition(frozenset({told, becomes}), True, f"{way.service} lets {way.account} in")
    if may == "keys" and by_key:
        return Condition(frozenset({told, becomes}), True, f"{way.service} lets {way.account} in by a key")
    if kind is None or may is None:
        return Condition(frozenset({told, becomes}), None, f"whether {way.service} lets root in was not read")
    return Condition(frozenset({told, becomes}), False, f"{spoken(told)}: {may}, and {way.account} is root")


def _port(plane: Plane, service: Path, door: Door) -> Condition:
    path = (*service, "port")
    port = get(plane, path)
    if port is None:
        return one_path(path, None, f"{spoken(path)} was not read")
    # a service that has no port of its own to set is met where it was met before
    there = port is ABSENT or ("tcp", door.port) in places_of("tcp", port, get(plane, (*service, "also")))
    return one_path(path, there, f"{spoken(path)}: {human(path, port)}")
