"""What of a sound family file would bite later: said before a unit is met, where it costs nothing.

Each sentence names what cannot be done, or never be sure, on any unit of the make, and why."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from ..addresses import ANYONE
from ..credentials import Password
from ..doors import Door, Way
from ..family.model import KEPT, STAGED, Family
from ..family.parts import Fact, Whole
from ..family.reading import merge
from ..judge.access import conditions
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane
from ..plane.path import Path, show
from ..plane.table import LISTS, pattern_of
from ..secret import Ref

OWNER = Ref("safe:unit/owner")
HERE, THERE = "192.0.2.10", "192.0.2.1"  # documentation addresses (RFC 5737)
ACCOUNTS: Path = ("accounts", "*")
# what lets somebody in, of an account and of a service: a unit at its most open
OPEN = {
    "accounts": {"role": "full", "enabled": True, "permitted": ANYONE, "factor": "none", "becomes_root": "no"},
    "services": {
        "enabled": True, "permitted": ANYONE, "accounts": ABSENT, "interfaces": ABSENT, "password_login": True,
        "root_login": "yes", "boot": True, "also": (),
    },
}  # fmt: skip


def bites(family: Family) -> tuple[str, ...]:
    """What would bite later, one sentence each; empty where nothing is foreseen."""
    return (*_changes(family), *_stores(family), *_names(family), *_signs(family), *_doubts(family))


def _changes(family: Family) -> Iterator[str]:
    ops = family.ops
    sets = {pattern_of(path) for op in ops for path in op.sets}
    makes, drops = {path for op in ops for path in op.makes}, {path for op in ops for path in op.drops}
    if not ops:
        yield "no ops: it is checked, and nothing of it is changed"
        return
    if ACCOUNTS not in makes:
        yield "no op makes accounts/*: accounts of the owner have to be there already"
    if (*ACCOUNTS, "secret") not in sets:
        yield "no op sets accounts/*/secret: a published password stays"
    if ACCOUNTS not in drops and (*ACCOUNTS, "enabled") not in sets:
        yield "no op drops accounts/* or sets accounts/*/enabled: factory accounts stay"
    if ("services", "*", "permitted") not in sets and ("entry_lists", "*") not in makes:
        yield "no op sets services/*/permitted: who may come is not limited, and stays a finding"
    for listed in sorted({path[:-1] for path in makes | drops if len(path) == 2}):
        if listed in LISTS and not any(listed in ask.whole for ask in family.asks):
            yield f"no ask reads {show(listed)} whole: nothing is ever missing there, so nothing is made or removed"


def _stores(family: Family) -> Iterator[str]:
    read = {path for ask in family.asks for path in ask.feeds}
    staged = {op.name for op in family.ops if op.store == STAGED}
    if staged and family.op_activating() is None:
        yield "ops write what is staged, and none puts it in force (copies: {staged: [live]})"
    if staged and not any(ask.store == STAGED for ask in family.asks):
        yield "ops write what is staged, and no ask reads it (store: staged)"
    if staged and ("stores", "waiting") not in read:
        yield "no ask reads stores/waiting: edits of somebody else would be put in force with ours"
    if family.op_doing("save") is not None and ("stores", "differences") not in read:
        yield "no ask reads stores/differences: whether a save was done is believed, not read"
    if family.ops and family.op_doing("restart") is None:
        yield "no op restarts it: whether it comes back as it was left is owed until somebody does"
    kept = staged or family.op_keeping() is not None or any(KEPT in op.writes for op in family.ops)
    if family.ops and not kept:
        yield "nothing says that a change survives a restart: neither an op that saves nor writes: [live, kept]"


def _names(family: Family) -> Iterator[str]:
    covered = family.covers()
    if len(family.lacks) < 4 and all(family.ways[channel.talk].by_role for channel in family.channels.values()):
        yield "nothing says what it cannot have, so each check lists all of it as unknown: without: [small appliance, ...]"
    written = {pattern_of(path) for op in family.ops for path in (*op.sets, *op.makes)}
    for path, _ in family.marks:
        if pattern_of(path) not in covered:
            yield f"marks: no ask reads {show(path)}, so no unit is ever recognised"
    for path in family.spelling:
        if path not in covered and path not in written:
            yield f"values: no ask reads {show(path)}"
    for listed in family.keys:
        if (listed, "*") not in covered and (listed,) not in covered:
            yield f"keys: no ask reads {listed}"
    carried = set(family.services())
    told = {path[1] for path, _ in family.facts if path[0] == "services"}
    told |= {place.path[1] for ask in family.asks for place in ask.leaves if place.path[:1] == ("services",)}
    for service in sorted(told - carried - {"*"}):
        yield (
            f"services/{service}: no channel carries it, so no login is tried there; right where it is only "
            "switched off"
        )


def _signs(family: Family) -> Iterator[str]:
    for name, channel in family.channels.items():
        # how it asks for a password inside is another conversation than the login
        signs = Counter(sign for keys, sign in channel.signs() if keys[0] != "passwords")
        twice = [sign for sign, many in signs.items() if many > 1]
        yield from (f"channels.{name}: the sign '{sign}' stands for two things" for sign in twice)
        gates = [gate for gate, many in Counter(channel.gates_named()).items() if many > 1]
        yield from (f"channels.{name}: two gates are called {gate}" for gate in gates)
        said = family.ways[channel.talk].says_refused or any(row.means == "refused" for row in channel.replies)
        if not said:
            yield f"channels.{name}: no reply means refused, so a wrong password reads as silence"


def _doubts(family: Family) -> Iterator[str]:
    """Why it could never be sure who gets in, by each service a login goes through."""
    for service in family.services():
        plane = _open(family, service)
        port = family.factory.ports.get(service, 1)
        way = Way(HERE, Door(service, THERE, port, service), "owner", Password(OWNER))
        unsure = [one for one in conditions(plane, way, kept=True) if one.holds is None]
        unread = {pattern_of(path) for one in unsure for path in one.paths if len(path) > 1} - family.covers()
        if unread:
            names = ", ".join(sorted(map(show, unread)))
            yield (
                f"{service}: who gets in is never sure, for no ask reads {names} (or say that it has none: without, "
                "lacks)"
            )
        # what a host filters is read as a whole, and not to be made up here
        elif unsure and family.channel_of(service)[2].by_role:
            yield f"{service}: who gets in is never sure: {'; '.join(one.why for one in unsure)}"


def _open(family: Family, service: str) -> Plane:
    """How a unit reads that lets the owner in, as far as this family reads it."""
    name = family.asks[0].name if family.asks else ""
    read = {path for ask in family.asks for path in ask.feeds}
    parts: list[Fact | Whole] = [Whole(path, name) for ask in family.asks for path in ask.whole if "*" not in path]
    for listed, key in (("accounts", "owner"), ("services", service)):
        parts.append(Fact((listed, key), True, name))
        known = {leaf: value for leaf, value in OPEN[listed].items() if (listed, "*", leaf) in read}
        parts += [Fact((listed, key, leaf), value, name) for leaf, value in known.items()]
    if ("services", "*", "port") in read:
        parts.append(Fact(("services", service, "port"), family.factory.ports.get(service, 1), name))
    parts.append(Fact(("accounts", "owner", "secret"), OWNER, name))
    if ("packet_filter", "default") in read:
        parts.append(Fact(("packet_filter", "default"), "pass", name))
    return merge(family, parts).plane
