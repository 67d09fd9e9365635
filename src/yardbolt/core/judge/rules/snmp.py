"""Rules about SNMP: communities, and the users that replace them."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import ip_address
from typing import Any

from ...job import OwnAccount, Site
from ...plane.edit import exists, get
from ...plane.kinds import ABSENT
from ...plane.leaves import Plane
from ...plane.path import Path
from ..demands import Demand, Gone, Present, exactly
from .rule import Params, Rule, Severity, State, Verdict

COMMUNITIES = {"communities": "go over the line unencrypted", "published": "anybody knows", "writing": "may write"}
USERS = ("snmp", "users")
BOTH = "authPriv"  # RFC 3411, section 3.4.3
RIGHTS = {"full": "change", "change": "change", "read": "read"}


def _snmp(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    leaves = [("snmp", leaf) for leaf in COMMUNITIES]
    # a make without SNMP is not judged by its ports
    if not any(get(plane, path) is ABSENT for path in leaves) and _nobody_asks(plane):
        for path in leaves:
            yield Verdict(path, State.HOLDS, "nothing listens for SNMP but to the host itself")
        return
    if all(get(plane, path) is ABSENT for path in leaves):
        return
    # what was not read inside was tried from outside
    basis = "read" if plane.snmp.communities is not None else "tried"
    for path, bad in zip(leaves, COMMUNITIES.values(), strict=True):
        value = get(plane, path)
        if value is None:
            yield Verdict(path, State.UNKNOWN, f"communities that {bad}: not read", "")
        elif isinstance(value, int):
            state = State.FAILS if value else State.HOLDS
            yield Verdict(path, state, f"{value or 'no'} communit{'y' if value == 1 else 'ies'} that {bad}", basis)


def _want_no_communities(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    # where monitoring asks by them and the job names no user instead, they are a finding: what replaces them is for
    # anyone who monitors
    instead = "snmp" not in site.needed or bool(_wanted(site))
    if isinstance(plane.snmp.communities, int) and plane.snmp.communities and instead:
        yield exactly(("snmp", "communities"), "snmp-communities", 0)


def _wanted(site: Site) -> tuple[OwnAccount, ...]:
    """Who is to be a user of SNMP here."""
    return tuple(own for own in site.askers if not site.ended(own)) if "snmp" in site.needed else ()


def _users(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    ours = {own.name for own in _wanted(site)}
    # of a make without SNMP nothing is said
    if plane.snmp.communities is ABSENT and not len(plane.snmp.users):
        return
    for own in _wanted(site):
        there = exists(plane, (*USERS, own.name))
        if there is False:
            yield Verdict((*USERS, own.name), State.FAILS, "no such user", "read", "missing")
        elif there is None:
            yield Verdict((*USERS, own.name), State.UNKNOWN, "which users SNMP answers was not read", "")
    reached = not _nobody_asks(plane)
    for user in plane.snmp.users:
        path = (*USERS, user.key)
        if user.rights is None or user.level is None:
            yield Verdict(path, State.UNKNOWN, "what this user may do was not read", "")
        elif user.key not in ours:
            idle = user.rights == "none" or not reached
            saw = "it may do nothing" if user.rights == "none" else "nothing listens for SNMP but to the host itself"
            yield Verdict(
                path, State.HOLDS if idle else State.FAILS, saw if idle else "the job names no such user of SNMP"
            )
        else:
            yield _own(path, next(own for own in site.askers if own.name == user.key), user.rights, user.level)
    if not plane.snmp.users.complete and reached:
        yield Verdict(USERS, State.UNKNOWN, "which users SNMP answers was not all read", "")


def _own(path: Path, own: OwnAccount, rights: object, level: object) -> Verdict:
    if rights != RIGHTS[own.role]:
        return Verdict(path, State.FAILS, f"its rights are {rights}; wanted {RIGHTS[own.role]}")
    if level != BOTH:
        return Verdict(path, State.FAILS, f"it is answered with {level} already; wanted {BOTH}")
    return Verdict(path, State.HOLDS, f"rights {rights}, {BOTH}")


def _want_users(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    if plane.snmp.communities is ABSENT:
        return
    ours, agent = _wanted(site), plane.services.get("snmp")
    for own in ours:
        leaves: tuple[tuple[str, Any], ...] = (("rights", RIGHTS[own.role]), ("level", BOTH))
        # of one that is there, an agent that does not run shows nothing: its passphrase is compared once it answers
        if agent is None or agent.enabled is not False or plane.snmp.users.get(own.name) is None:
            leaves = (*leaves, ("secret", site.secret(own.name)))
        yield Present((*USERS, own.name), "snmp-users", leaves)
    named = {own.name for own in ours}
    for user in plane.snmp.users if "accounts" in site.allows.foreign else ():
        if user.key not in named and user.rights != "none":
            yield Gone((*USERS, user.key), "snmp-users")


def _nobody_asks(plane: Plane) -> bool:
    """Is it sure that nobody outside comes to an SNMP agent?"""
    # a list the make does not have says nothing of this
    if not plane.listening.complete or not len(plane.listening):
        return False
    for x in plane.listening:
        agent = x.transport is None or (x.transport == "udp" and (x.port in (None, 161) or x.program == "snmpd"))
        if agent and (x.address is None or x.address == "*" or not ip_address(x.address).is_loopback):
            return False
    return not any(a.speaks in ("snmp", None) for a in plane.answering)


RULES = (
    Rule(
        "snmp-communities", "no SNMP community opens it", "SNMP communities open it",
        "A community is a password that is sent unencrypted with every question (RFC 3414 replaces it).",
        Severity.HIGH, _snmp, _want_no_communities,
    ),
    Rule(
        "snmp-users", "only users the job names ask by SNMP, encrypted", "an SNMP user is not as the job wants it",
        "Each SNMP user can read everything; one that nobody knows should not be there.",
        Severity.MEDIUM, _users, _want_users,
    ),
)  # fmt: skip
