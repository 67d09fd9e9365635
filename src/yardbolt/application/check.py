"""Checking one unit, outside then inside. Checking never changes anything: no question is passed, no command writes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from yardbolt.core.access import Way
from yardbolt.core.baseline import Finding, judge
from yardbolt.core.dialogue import Entry
from yardbolt.core.errors import IdentityError, Trouble, UnitError
from yardbolt.core.extract import Reading
from yardbolt.core.paths import show
from yardbolt.core.plane import Plane, exists, get, put
from yardbolt.core.ports import Port
from yardbolt.core.secret import Ref

from .desk import Desk
from .line import Line, document
from .outside import Tried, look_at, outside_document, plane_of, try_logins, with_credentials


@dataclass(frozen=True)
class Checked:
    """The outcome of a check. `inside` says by whom the settings were read, or why they were not."""

    unit: str
    plane: Plane
    ports: tuple[Port, ...]
    tried: tuple[Tried, ...]
    findings: tuple[Finding, ...]
    reading: Reading | None
    inside: str
    time: str


def _day(desk: Desk) -> str:
    return desk.clock.now()[:10]


def candidates(desk: Desk) -> tuple[Way, ...]:
    """Logins of ours that may open the unit, the likeliest first: newest that opened, then what was sent, then what is typed.

    A new secret counts only if its sending was journaled (D18).
    """
    out: dict[tuple[str, Ref], None] = {}
    for ref in desk.typed:
        if desk.unit.account or ref.entry == "typed:key":
            out[(desk.unit.account, ref)] = None
    for e in reversed(desk.records.journal(desk.unit.name)):
        sent = e.get("kind") == "login" and e.get("outcome") == "opened" or e.get("state") == "sending" and e.get("secret")
        ref = Ref(str(e.get("secret", "")))
        if sent and ref.safe and desk.secret(ref) is not None:
            out.setdefault((str(e["account"]), ref), None)
    rights = {o.name: o.role for o in desk.site.accounts}
    out = dict.fromkeys(sorted(out, key=lambda x: not x[1].entry.startswith("typed:") and rights.get(x[0], "full") != "full"))
    best = sorted(desk.family.channels, key=lambda c: c.speaks != "ssh")
    return tuple(Way(desk.site.laptop, c.service, account, ref) for account, ref in out for c in best[:1])


async def way_in(desk: Desk, published: tuple[Tried, ...] = ()) -> tuple[Line | None, str]:
    """An open line by a login of ours or, failing that, by a published one that opened; else the reasons why there is none."""
    why = []
    mute = {t.service for t in published if t.outcome == "silent"}
    for way in candidates(desk):
        if any(t.account == way.account and t.outcome == "locked" for t in published):
            why.append(f"{way.account} is locked")
            continue
        if way.service in mute:
            why.append(f"{way.service} says nothing")
            break
        trusted = desk.opened_last(way.account, way.secret)
        end, line = await desk.enter(way)
        if end.entry is Entry.REFUSED and trusted and not desk.ready and desk.family.factory.ready_after:
            desk.tell(f"{desk.unit.name}: refused what opened it before; it may still be starting")
            await desk.clock.sleep(desk.family.factory.ready_after)
            end, line = await desk.enter(way)
        if line is not None:
            return line, ""
        if end.entry in (Entry.SILENT, Entry.CLOSED):  # not a matter of this account
            how = "says nothing" if end.entry is Entry.SILENT else "refuses or ends connections"
            why.append(f"{way.service} on port {desk.ports()[way.service]} {how}")
            break
        told = end.gate or (end.text if end.entry is Entry.UNTRIED else "")
        why.append(f"{way.account} by {way.service}: {end.entry.value}" + (f" ({told})" if told else ""))
    for t in sorted(published, key=lambda t: t.service != "ssh"):
        if t.outcome == "opened":
            _, line = await desk.enter(Way(desk.site.laptop, t.service, t.account, t.ref))
            if line is not None:
                return line, ""
    gates = sorted({t.gate for t in published if t.outcome == "prompted"})
    if gates:
        asks = {"terms": "licence terms must be accepted", "change": "a first password must be set"}
        why.append("the unit asks first: " + ", ".join(asks.get(g, g) for g in gates))
    return None, "; ".join(why) or "no login is known"


def same_unit(desk: Desk, plane: Plane) -> None:
    """Raises IdentityError when the unit read is not the one on the work order (N012)."""
    for field, wanted in (("serial", desk.unit.serial), ("hardware", desk.unit.hardware)):
        seen = get(plane, ("identity", field))
        if wanted and isinstance(seen, str) and seen.lower() != wanted.lower():
            raise IdentityError(f"{desk.unit.name}: this is the wrong unit: {field} {seen}, the work order says {wanted}; check the cable")
    for path, wanted in desk.family.marks:
        seen = get(plane, path)
        if isinstance(seen, str) and seen != wanted:
            raise IdentityError(
                f"{desk.unit.name}: {show(path)} is {seen}, the family {desk.family.name} is for {wanted}; correct 'family' in the job file"
            )


async def check(desk: Desk, inside: bool = True) -> Checked:
    """Look from outside, then read inside where that needs no writing; judge; file the record.

    Raises UnitError when nothing answers, IdentityError on the wrong unit or a changed host key.
    """
    desk.tell(f"{desk.unit.name}: looking at all ports of {desk.unit.address}")
    ports = await look_at(desk.knocker, desk.unit.address, desk.site.laptop)
    silent = int(getattr(desk.knocker, "silent", 0))
    if not ports:
        what = "refuses every port" if silent < 60_000 else "is silent"
        raise UnitError(
            Trouble.UNREACHABLE,
            f"{desk.unit.name}: {desk.unit.address} {what}; check the cable, the socket"
            + (f" ({desk.family.factory.socket})" if desk.family.factory.socket else "")
            + f" and that this laptop has {desk.site.laptop}",
        )
    desk.tell(f"{desk.unit.name}: trying the published logins")
    tried = await try_logins(desk, [p.port for p in ports])
    reading, told, way = None, "not asked for", None
    if inside:
        desk.tell(f"{desk.unit.name}: reading inside")
        line, told = await way_in(desk, tried)
        if line is not None:
            way = line.way
            try:
                reading = await line.read()
            finally:
                await line.close()
            if not reading.evidence:
                told = "logged in, but " + (reading.blind[0].why if reading.blind else "nothing could be read")
                reading = None
            else:
                told = f"read as {way.account} by {way.service}"
                same_unit(desk, reading.plane)
    return conclude(desk, ports, tried, reading, told, way, silent)


def conclude(
    desk: Desk, ports: tuple[Port, ...], tried: tuple[Tried, ...], reading: Reading | None, told: str, way: Way | None, silent: int = 0
) -> Checked:
    """Join outside and inside, judge, and file what was found."""
    base = reading.plane if reading else Plane()
    if way is not None and exists(base, ("accounts", way.account)):
        base = put(base, ("accounts", way.account, "secret"), way.secret)
    plane = with_credentials(desk, known_secrets(desk, plane_of(desk, ports, tried, base)))
    findings = judge(plane, desk.baseline, desk.site, _day(desk))
    doc: dict[str, Any] = document(reading or Reading(), outside=outside_document(ports, tried, silent), inside=told, complete=reading is not None)
    doc["plane"] = document(Reading(plane))["plane"]
    doc["findings"] = [finding_document(f) for f in findings]
    doc["baseline"] = {"name": desk.baseline.name, "version": desk.baseline.version}
    doc["family"] = desk.family.name
    desk.records.file(desk.unit.name, "check", doc)
    if desk.records.latest(desk.unit.name, "as found outside") is None:
        desk.records.file(desk.unit.name, "as found outside", doc)
    return Checked(desk.unit.name, plane, ports, tried, findings, reading, told, desk.clock.now())


def known_secrets(desk: Desk, plane: Plane) -> Plane:
    """Note on each account the credential of ours that opened it last, as the journal tells."""
    last: dict[str, Ref] = {}
    for e in desk.records.journal(desk.unit.name):
        if e.get("kind") == "login" and e.get("outcome") == "opened":
            last[str(e["account"])] = Ref(str(e["secret"]))
        elif e.get("state") == "sending" and e.get("secret"):
            last.pop(str(e["account"]), None)
    for account, ref in last.items():
        path = ("accounts", account)
        if ref.safe and exists(plane, path) and get(plane, (*path, "secret")) is None:
            plane = put(plane, (*path, "secret"), ref)
    return plane


def finding_document(f: Finding) -> dict[str, Any]:
    """A finding for the record."""
    return {
        "number": f.number, "rule": f.rule, "title": f.title, "why": f.why, "severity": f.severity.value, "subject": show(f.subject),
        "state": f.state.value, "saw": f.saw, "basis": f.basis,
    }  # fmt: skip
