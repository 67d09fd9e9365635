"""Handing over: one record per unit, from what is filed; the same for the same record. Touches no unit."""

from __future__ import annotations

from collections.abc import Iterable

from yardbolt.core.errors import OperatorError
from yardbolt.core.job import GUARD_KEY, console_word
from yardbolt.core.judge.causes import causes
from yardbolt.core.judge.counting import SEVERITIES, count
from yardbolt.core.judge.whereabouts import has_entry_lists
from yardbolt.core.judge.who import who
from yardbolt.core.plane.document import recorded
from yardbolt.core.plane.edit import exists
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import Path
from yardbolt.core.plane.table import is_item
from yardbolt.core.plane.words import human, spoken
from yardbolt.core.run.documents import CheckDocument, Filed, FindingRow, LeftDocument, TargetDocument, sound
from yardbolt.core.run.ending import ending
from yardbolt.core.run.events import (
    BackedOut,
    Entry,
    GateAnswering,
    GateMet,
    GatePassed,
    NotProven,
    Proven,
    ReadBack,
    Stopped,
    Unlike,
)
from yardbolt.core.run.filing import baseline_name
from yardbolt.core.run.handover import (
    BackIn,
    ChangeRow,
    EntryRow,
    Found,
    HandOver,
    IdentityRow,
    Left,
    StepRow,
    WaiverRow,
    unseen,
)
from yardbolt.core.secret import Ref

from .owing import console_words, owed_later, set_here
from .prove import differences
from .unit import UnitInWork

TO_LOOK_AT = (
    "Who can reach the console socket and the reset?",
    "Is the management segment apart from users?",
    "Who keeps the safe and its copy?",
)
STATES = ("fails", "unknown", "waived", "holds", "not applicable")


def hand_over(unit: UnitInWork) -> HandOver:
    """Everything the owner is handed. Raises OperatorError before the first check."""
    name, job, site = unit.name, unit.facts.job, unit.site
    first = unit.record.latest("as found outside", CheckDocument)
    found = unit.record.latest("as found", CheckDocument)
    left = unit.record.latest("as left", LeftDocument)
    if first is None:
        raise OperatorError(f"{name} was not checked yet; next: yardbolt check {name}")
    last: Filed[LeftDocument] | Filed[CheckDocument] = left or unit.record.last_check() or first
    before, after = (found or first).document.as_plane, last.document.as_plane
    changed = differences(before, after) if found and left else ()
    journal = unit.record.history().entries
    return HandOver(
        job=job.title,
        owner=job.owner,
        technician=job.technician,
        unit=name,
        note=unit.facts.entry.note,
        goes_to=unit.facts.entry.segment,
        family=unit.family.title,
        identity=_identity(after),
        baseline=baseline_name(unit.facts.baseline),
        found=Found(
            time=first.time,
            inside=(found or first).document.inside,
            findings=ordered(_found(first.document, found.document if found else None)),
            outside=first.document.outside,
        ),
        left=Left(
            time=last.time,
            proven=left is not None,
            ending=_ending(left.document) if left else "not proven",
            findings=ordered(last.document.findings),
            blind=last.document.blind,
        ),
        changes=tuple(
            ChangeRow(path=spoken(path), before=_words(path, a), after=_words(path, b)) for path, a, b in changed
        ),
        unplanned=tuple(spoken(recorded(path)) for path in left.document.unplanned) if left else (),
        by_others=tuple(spoken(recorded(path)) for path in left.document.by_others) if left else (),
        steps=tuple(_steps(journal)),
        entry=tuple(_entries(journal)),
        proofs=left.document.proofs if left else (),
        back_in=tuple(_back_in(unit, after)),
        secrets=tuple(
            f"{key}: entry {site.secret(key).entry.removeprefix('safe:')} of {job.safe}" for key in _kept(unit, after)
        ),
        owed=tuple(owed(unit, left.document if left else None, last.document.findings)),
        waivers=tuple(WaiverRow(rule=w.rule, reason=w.reason, owner=w.owner, until=w.until) for w in site.waivers),
        not_looked_at=(
            *(checked.document.not_looked_at if (checked := unit.record.last_check()) else ()),
            *(unseen(left.document.proofs, unit.family.has_places()) if left else ()),
        ),
        reset=unit.family.factory.reset,
        socket=unit.family.factory.socket,
        evidence=last.document.evidence,
        site=TO_LOOK_AT,
    )


def _ending(left: LeftDocument) -> str:
    return ending(sound(left), count(row.counted for row in left.findings), bool(left.owed)).value


def _identity(plane: Plane) -> IdentityRow:
    its = plane.identity
    return IdentityRow(make=its.make, model=its.model, serial=its.serial, hardware=its.hardware, software=its.software)


def _found(first: CheckDocument, found: CheckDocument | None) -> Iterable[FindingRow]:
    """As-found findings: what failed from outside before anybody entered, and everything of the first full reading."""
    if found is None:
        return first.findings
    failing = (row for row in first.findings if row.state == "fails")
    return {(row.rule, row.subject, row.saw): row for row in (*found.findings, *failing)}.values()


def ordered(findings: Iterable[FindingRow]) -> tuple[FindingRow, ...]:
    """Findings, the worst first."""
    return tuple(
        sorted(findings, key=lambda f: (STATES.index(f.state), SEVERITIES.index(f.severity), f.number, f.subject))
    )


def _words(path: Path, value: object) -> str:
    return value if isinstance(value, str) and is_item(path) else human(path, value)


def _steps(journal: Iterable[Entry]) -> Iterable[StepRow]:
    for entry in journal:
        event = entry.event
        if isinstance(event, ReadBack | Proven | NotProven | Unlike | BackedOut | Stopped):
            left_out = isinstance(event, Unlike) and event.left_out
            state = "left out" if left_out else event.event
            yield StepRow(time=entry.stamp.time, run=entry.stamp.run, what=event.what, state=state)


def _entries(journal: Iterable[Entry]) -> Iterable[EntryRow]:
    for entry in journal:
        time = entry.stamp.time
        match entry.event:
            case GateMet(gate=gate, account=account, said=said):
                yield EntryRow(time=time, state="asked", gate=gate, account=account, said=said)
            case GateAnswering(gate=gate, account=account):
                yield EntryRow(time=time, state="answering", gate=gate, account=account)
            case GatePassed(gate=gate, by=by):
                yield EntryRow(time=time, state="answered", gate=gate, by=by)


def _logins(unit: UnitInWork, after: Plane) -> tuple[str, ...]:
    """Who logs in with what rests in the safe: the owner's accounts that are there, and others that have a password
    of the owner's."""
    ours = [own.name for own in unit.site.accounts if exists(after, ("accounts", own.name)) is not False]
    others = [a.key for a in after.accounts if isinstance(a.secret, Ref) and a.secret.safe and a.enabled is not False]
    return tuple(dict.fromkeys((*ours, *others)))


def _kept(unit: UnitInWork, after: Plane) -> tuple[str, ...]:
    """What of this unit rests in the safe and is of use: for logins, for SNMP, for what it stores."""
    asks = [own.name for own in unit.site.askers if exists(after, ("snmp", "users", own.name)) is not False]
    keys = [GUARD_KEY] if "stored/guard" in set_here(unit) else []
    return (*_logins(unit, after), *asks, *keys, *map(console_word, console_words(unit, after)))


def _back_in(unit: UnitInWork, plane: Plane) -> Iterable[BackIn]:
    """The re-entry card."""
    for door in unit.site.doors:
        service = plane.services.get(door.service)
        if service is None or service.enabled is False:
            continue
        sources = who(plane, service.key, door).possible if has_entry_lists(plane) else service.permitted
        permitted = "anyone" if sources is ABSENT else human(("services", service.key, "permitted"), sources)
        yield BackIn(
            by=door.service, at=f"{door.address} port {door.port}", source=permitted,
            accounts=", ".join(_logins(unit, plane)), host_key=unit.record.pin(door.service),
        )  # fmt: skip


def owed(unit: UnitInWork, left: LeftDocument | None, findings: tuple[FindingRow, ...]) -> Iterable[str]:
    """What is still open, with the next step."""
    name = unit.name
    run, unfinished = unit.record.history().open_run()
    if unfinished:
        yield f"run {run} was cut off: yardbolt tighten {name}"
    fails = [row for row in findings if row.state == "fails"]
    if fails and unit.record.latest("target", TargetDocument) is None:
        yield f"not tightened yet: yardbolt steps {name}, then yardbolt tighten {name}"
    if left is None:
        yield f"not proven yet: yardbolt prove {name}"
    else:
        yield from (f"FAILED proof: {one.text} ({one.saw})" for one in left.proofs if one.result == "fails")
        yield from (f"not planned, yet changed: {path}" for path in left.unplanned)
        left_out = unit.record.history().left_out
        yield from (
            f"wanted: {path}: {left_out[path].why}" if path in left_out else f"wanted, and does not read so: {path}"
            for path in left.missing
        )
        yield from owed_later(unit, left)
    yield from (f"{cause.severity}: {cause.text}" for cause in causes(findings))
