"""The check from outside: which ports answer, what they say, and which published logins open. It never passes a question."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from typing import Any

from yardbolt.core.access import Way
from yardbolt.core.passwords import Demands, weaknesses
from yardbolt.core.plane import Plane, exists, get, make, put, whole
from yardbolt.core.ports import Knocker, Port
from yardbolt.core.secret import Ref

from .desk import Desk

LOCAL_RATE, RATE = 50_000, 2_000


@dataclass(frozen=True)
class Tried:
    """One published login by one service, and how it ended."""

    service: str
    account: str
    ref: Ref
    outcome: str  # opened | refused | prompted | not ready | locked | closed | silent | untried
    gate: str = ""
    said: str = ""


def rate_for(address: str) -> int:
    """Probes a second: units are spared, this machine is not."""
    return LOCAL_RATE if address.startswith("127.") or address == "::1" else RATE


async def look_at(knocker: Knocker, address: str, source: str) -> tuple[Port, ...]:
    """Every TCP port of one address that answers, with what can be told of it."""
    numbers = await knocker.ports(address, source, rate_for(address))
    return tuple(await asyncio.gather(*(knocker.look(address, n, source) for n in numbers[:64])))


async def try_logins(desk: Desk, ports: Iterable[int]) -> tuple[Tried, ...]:
    """The family's published logins by every channel whose port answers, within the try budget.

    A refusal while the unit may still be starting proves nothing: that login waits, and is tried once more (N017).
    """
    open_ports, met = set(ports), asyncio.get_running_loop().time()
    out: list[Tried] = []
    before = desk.last_plane() or Plane()
    mute: set[str] = set()
    locked: set[str] = set()
    for login in desk.family.factory.logins:
        for c in desk.family.channels:
            if c.service in mute:
                out.append(Tried(c.service, login.account, login.ref, "silent", said="it did not answer the login before"))
                continue
            if login.account in locked:
                out.append(Tried(c.service, login.account, login.ref, "locked", said="the account is locked; left alone"))
                continue
            if desk.ports()[c.service] not in open_ports:
                out.append(Tried(c.service, login.account, login.ref, "closed", said="nothing listens on its port"))
                continue
            way = Way(desk.site.laptop, c.service, login.account, login.ref)
            gone = exists(before, ("accounts", login.account)) is False  # nothing there to lock
            got = await _once(desk, way, not gone)
            starting = asyncio.get_running_loop().time() - met < desk.family.factory.ready_after
            if got.outcome == "refused" and starting and not desk.ready:
                await desk.wait_ready(met)
                got = await _once(desk, way, not gone)
            out.append(got)
            mute |= {c.service} if got.outcome == "silent" else set()
            locked |= {login.account} if got.outcome == "locked" else set()
    return tuple(out)


async def _once(desk: Desk, way: Way, budgeted: bool) -> Tried:
    end, line = await desk.enter(way, budgeted=budgeted)
    if line is not None:
        await line.close()
    return Tried(way.service, way.account, way.secret, end.entry.value, end.gate, desk.scrub(end.text)[-600:])


def plane_of(desk: Desk, ports: tuple[Port, ...], tried: tuple[Tried, ...], base: Plane | None = None) -> Plane:
    """What the outside tells, on top of what was read inside."""
    plane = base or Plane()
    answering = {p.port for p in ports}
    for name, number in desk.ports().items():  # where we log in is where the service is
        if exists(plane, ("services", name)) and get(plane, ("services", name, "port")) is None and number in answering:
            plane = put(plane, ("services", name, "port"), number)
    for p in ports:
        path = ("answering", f"tcp-{p.port}")
        plane = make(plane, path)
        for name, value in (("port", p.port), ("speaks", p.speaks), ("banner", p.banner)):
            plane = put(plane, (*path, name), value)
        service = next((x.key for x in plane.services.items if x.port == p.port and p.speaks == "ssh"), "")
        for name, offered in p.details.items() if service else ():
            if get(plane, ("services", service, name)) is None:
                plane = put(plane, ("services", service, name), tuple(offered))
    plane = whole(plane, "answering")
    for t in tried:
        path = ("trials", f"{t.service} {t.account or '(no name)'} {t.ref.entry}")
        plane = make(plane, path)
        for name, found in (("service", t.service), ("account", t.account), ("secret", t.ref), ("outcome", t.outcome)):
            plane = put(plane, (*path, name), found)
    gates = {t.gate for t in tried if t.outcome == "prompted"}
    if tried:
        plane = put(plane, ("first_run", "terms"), "open" if "terms" in gates else "accepted" if any(t.outcome == "opened" for t in tried) else None)
        plane = put(plane, ("first_run", "forced"), tuple(sorted({t.account for t in tried if t.gate == "change"})))
    return whole(plane, "trials")


def with_credentials(desk: Desk, plane: Plane) -> Plane:
    """Note on each account the published login that opened it, and what is wrong with any password of it that is known to us."""
    for t in plane.trials.items:
        path = ("accounts", t.account or "")
        if t.account and t.outcome in ("opened", "prompted") and exists(plane, path) is None:  # a login proves that its account is there
            plane = put(make(plane, path), (*path, "enabled"), True)
        if t.outcome == "opened" and exists(plane, path) and get(plane, (*path, "secret")) is None:
            plane = put(plane, (*path, "secret"), t.secret)
    opened = {t.account: t.secret for t in plane.trials.items if t.outcome in ("opened", "prompted")}
    floor = floor_of(desk)
    for a in plane.accounts.items:
        ref = a.secret if isinstance(a.secret, Ref) else opened.get(a.key)
        value = desk.secret(ref) if ref is not None else None
        if value is not None:
            why = weaknesses(value.reveal(), floor, desk.words | {a.key}, desk.common)
            plane = put(plane, ("accounts", a.key, "weakness"), why)
    return plane


def floor_of(desk: Desk) -> Demands:
    """What the baseline wants of passwords, and what the family's units can take."""
    wanted: dict[str, Any] = {line.rule: line.params for line in desk.baseline.lines}
    runs = wanted.get("password-runs", {"repeat": 3, "run": 3})
    return Demands(
        wanted.get("password-length", {"at least": 12})["at least"],
        wanted.get("password-classes", {"at least": 3})["at least"],
        runs["repeat"],
        runs["run"],
        int(desk.family.password.get("longest", "64")),
        desk.family.password.get("barred", ""),
    )


def outside_document(ports: tuple[Port, ...], tried: tuple[Tried, ...], silent: int) -> dict[str, Any]:
    """The outside check for the record."""
    return {
        "ports": [{**asdict(p), "details": {k: list(v) if isinstance(v, tuple) else v for k, v in p.details.items()}} for p in ports],
        "tried": [
            {"service": t.service, "account": t.account, "secret": t.ref.entry, "outcome": t.outcome, "gate": t.gate, "said": t.said} for t in tried
        ],
        "silent_ports": silent,
    }
