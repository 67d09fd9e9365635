"""Ways worth proving: those that are wanted, and those that replace others."""

from __future__ import annotations

from dataclasses import replace

from ..credentials import Credential, Key, Password
from ..doors import Way
from ..family.bound import Bound
from ..family.model import Family
from ..job import Site
from ..judge.access import admit
from ..judge.demands import Target
from ..judge.whereabouts import door, interface_of, passed_on
from ..plane.change import moves_to
from .belief import Belief, full


def wishes(family: Family, site: Site, target: Target, belief: Belief) -> tuple[Way, ...]:
    """The ways worth proving, best first: the owner's accounts by the services that stay, then what is proven by
    another service."""
    ending = {w.path[1] for w in target if w.path[0] == "services" and w.path[-1] == "enabled" and w.value is False}
    logins: list[tuple[str, Credential]] = [
        (own.name, Password(site.secret(own.name)))
        for own in sorted(site.accounts, key=lambda own: own.role != "full")
        if not site.ended(own)
    ]
    logins += [(family.login_name(way.account), way.credential) for way in sorted(belief.proven)]
    stay = [service for service in family.services() if service not in ending and site.door(service)]
    # no password of the owner goes readable where an encrypted way stays
    sealed = [service for service in stay if family.sealed(service)]
    met = [one for service in sealed or stay if (one := site.door(service)) is not None]
    # where somebody got in by a door that is not the unit's own, the job alone knows the doors
    foreign = any(passed_on(belief.live, way.door) for way in belief.proven)
    doors = met if foreign else [door(belief.live, one.service, one.interface, one) for one in met]
    ways = (
        Way(belief.laptops[0], at, family.account_key(at.service, name), shown)
        for name, shown in logins
        for at in doors
        # a key is for SSH alone
        if at is not None and (at.scheme == "ssh" or not isinstance(shown, Key))
    )
    return tuple(dict.fromkeys(ways))


def moved(belief: Belief, bound: Bound) -> list[Way]:
    """The proven ways, met where they will be after the change, from each address the laptop will have."""
    out = []
    for way in sorted(belief.proven):
        # where it is passed on to, nobody here can tell
        if passed_on(bound.before, way.door):
            continue
        at = door(bound.after, way.service, interface_of(belief.live, way.door), way.door)
        if at is not None and (at.address, at.port) != (way.door.address, way.door.port):
            out += [replace(way, door=at, source=source) for source in belief.laptops]
    return out


def successors_at(before: Belief, bound: Bound) -> tuple[Way, ...]:
    """The ways by which one gets in again where a change moves the unit elsewhere: those with full rights that would
    surely open there, ours first."""
    if not moves_to(bound.change):
        return ()
    plane, family = bound.after, bound.family
    ways = [way for way in moved(before, bound) if full(plane, way) and admit(plane, way).admitted is not False]
    return tuple(sorted(ways, key=lambda way: (way.secret.factory, not family.sealed(way.service), way)))
