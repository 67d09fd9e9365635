"""`records`: what is on record."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from yardbolt.core.errors import OperatorError
from yardbolt.core.run.documents import CheckDocument, KeyDocument, LeftDocument
from yardbolt.core.run.events import (
    Entry,
    GateAnswering,
    GateMet,
    GatePassed,
    Kept,
    Noted,
    NotProven,
    Tried,
    Troubled,
    Trying,
    Unlike,
)

from . import wiring
from .screen import Cell, Screen
from .yard import Yard


def records(job: Path, no_color: bool) -> int:
    """What is filed."""
    with Yard(job) as yard:
        rows: list[list[Cell]] = [
            [str(one.number), one.time[:19].replace("T", " "), one.unit, one.kind, f"{one.size:,} bytes"]
            for one in yard.records.listing()
        ]
        screen = Screen(no_color)
        if rows:
            screen.rows(rows, indent=0, heads=["number", "time (UTC)", "unit", "kind", "size"])
            screen.say("")
            screen.say(
                "One of them: yardbolt records show NUMBER. What was done to a unit: yardbolt records journal UNIT."
            )
        else:
            screen.say("nothing is on record yet; next: yardbolt check")
        return 0


def show(number: int, job: Path) -> int:
    """One document."""
    with Yard(job) as yard:
        found = yard.records.body(number)
    if found is None:
        raise OperatorError(f"no document {number} on record; 'yardbolt records' lists them")
    listed, body = found
    whole = {"unit": listed.unit, "time": listed.time, **json.loads(body), "kind": listed.kind}
    sys.stdout.write(json.dumps(whole, indent=2, sort_keys=True) + "\n")
    return 0


def journal(unit: str, job: Path, no_color: bool) -> int:
    """The journal of a unit."""
    with Yard(job) as yard:
        yard.units([unit])
        entries = yard.records.history().of(unit).entries
        rows = [_row(entry) for entry in entries if not isinstance(entry.event, Trying)]
        screen = Screen(no_color)
        if rows:
            screen.rows(rows, indent=0, heads=["time (UTC)", "", "what", "outcome"])
        else:
            screen.say(f"nothing was done to {unit} yet")
        return 0


def files(unit: str, job: Path, no_color: bool) -> int:
    """The files of ours on a host, as they were read last."""
    with Yard(job) as yard:
        yard.units([unit])
        kinds: tuple[tuple[str, type[CheckDocument] | type[LeftDocument]], ...] = (
            ("check", CheckDocument),
            ("as left", LeftDocument),
        )
        known = [one for kind, cls in kinds if (one := yard.records.latest(unit, kind, cls))]
        if not known:
            raise OperatorError(f"{unit} was not checked yet; next: yardbolt check {unit}")
        filed = max(known, key=lambda one: one.time).document.as_plane
        screen = Screen(no_color)
        rows: list[list[Cell]] = [
            [one.key, "as we wrote it" if one.written is True else ("changed since", "bad"), str(one.digest)[:16]]
            for one in filed.files
            if one.written is True or one.origin == "ours"
        ]
        if rows:
            screen.rows(rows, indent=0, heads=["file", "", "SHA-256"])
            screen.say("")
            screen.say("To take them away, on the host, as root: sh /var/lib/yardbolt/take-away")
        else:
            screen.say(f"no file of ours was read on {unit}")
        return 0


def _row(entry: Entry) -> list[Cell]:
    event, stamp = entry.event, entry.stamp
    time, run = stamp.time[:19].replace("T", " "), f"run {stamp.run}" if stamp.run else ""
    match event:
        case Tried():
            who = event.account or "(no name)"
            what = f"login {who} by {event.service} from {event.source} with {event.secret}"
            return [time, run, what, event.outcome]
        case Kept():
            return [time, run, f"password of {event.account}: typed, now in the safe", event.event]
        case GateMet() | GateAnswering() | GatePassed():
            return [time, run, f"first entry: {event.gate}", event.event]
        case Troubled():
            return [time, run, event.error, "told"]
        case Unlike(left_out=True):
            return [time, run, f"{event.what}: {event.why}", "left out"]
        case Noted():
            return [time, run, f"meanwhile {event.reads}", event.event]
        case NotProven():
            return [time, run, f"{event.what}: {event.said}", event.event]
    return [time, run, str(getattr(event, "what", "")), event.event]


def forget_key(unit: str, job: Path) -> int:
    """Forget host keys: filed as an empty note, so that the record still tells what was noted before."""
    with Yard(job) as yard:
        yard.units([unit])
        for service in yard.family_of(unit).services():
            if yard.records.latest(unit, f"host key {service}", KeyDocument):
                yard.records.file(unit, KeyDocument(service=service, fingerprint=""))
        sys.stdout.write(f"{unit}: the next login notes the host key again\n")
        return 0


def schema(which: str) -> int:
    """The JSON Schema of one of our files, or of what is on record."""
    sys.stdout.write(json.dumps(wiring.schema(which), indent=2) + "\n")
    return 0
