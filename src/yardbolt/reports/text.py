"""The sheet as plain text, 78 columns, for printing and for screen readers."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable

from yardbolt.core.errors import clean
from yardbolt.core.judge.causes import rows
from yardbolt.core.judge.counting import count
from yardbolt.core.run.documents import FindingRow, ProofRow
from yardbolt.core.run.handover import EntryRow, HandOver

WIDTH = 78
SIGNATURES = "Handed over by ______________________   Received by ______________________"
ASKED = {"asked": "asked", "answered": "accepted", "answering": "answered"}
GATES = {"terms": "licence terms", "change": "a new password", "confirm": "the password again"}


def _wrap(text: str, first: str = "", rest: str = "  ") -> str:
    return textwrap.fill(text, WIDTH, initial_indent=first, subsequent_indent=rest, break_long_words=False)


def _part(title: str, lines: Iterable[str]) -> list[str]:
    got = list(lines)
    return ["", title.upper(), *got] if got else []


def render(record: HandOver) -> str:
    """The sheet of one unit."""
    identity = record.identity
    marks = f"serial {identity.serial or 'not read'}; hardware address {identity.hardware or 'not read'}"
    baseline = record.baseline
    out = [
        f"HAND-OVER SHEET: {record.unit}",
        _wrap(f"{record.job}, for {record.owner}; technician {record.technician}"),
        _wrap(f"{record.family}; {marks}; software {identity.software or 'not read'}"),
        _wrap(f"Baseline {baseline.name} {baseline.version}: {baseline.meaning}"),
        *_state("As found", record.found.time, record.found.findings),
        *_state(
            f"As left ({record.left.ending})" if record.left.proven else "Not proven; as last checked",
            record.left.time,
            record.left.findings,
        ),
    ]
    changed = (f"{c.path}: {c.before} -> {c.after}" for c in record.changes)
    steps = ((f"{s.time[11:19]}  {s.what}: {s.state}") for s in record.steps)
    back_in = (
        f"{b.by} to {b.at}, as {b.accounts}, from {b.source}; host key {b.host_key or 'none'}" for b in record.back_in
    )
    waivers = (f"{w.rule}: {w.reason} ({w.owner}, until {w.until})" for w in record.waivers)
    out += _part("First entry", (_wrap(_entry(one), "  ", "      ") for one in record.entry))
    out += _part("Changed", (_wrap(one, "  ", "      ") for one in changed))
    out += _part("Changed and not planned", (f"  {path}" for path in record.unplanned))
    out += _part("Changed meanwhile by somebody else", (f"  {path}" for path in record.by_others))
    out += _part("Steps carried out", (_wrap(one, "  ", " " * 12) for one in steps))
    out += _part("Proofs", (_wrap(_proof(one), "  ", " " * 21) for one in record.proofs))
    out += _part("How to get back in", (_wrap(one, "  ", "      ") for one in back_in))
    out += _part("Secrets, by reference only", (f"  {one}" for one in record.secrets))
    out += _part("Owed", [_wrap(one, "  - ", "    ") for one in record.owed] or ["  nothing"])
    out += _part("Waived", (_wrap(one, "  ", "      ") for one in waivers))
    out += _part("Not looked at", (_wrap(one, "  ", "      ") for one in record.not_looked_at))
    out += _part("Recovery", [_wrap(record.reset or "no reset is described for this make", "  ", "  ")])
    out += _part("To look at on site", (f"  [ ] {one}" for one in record.site))
    out += ["", "", SIGNATURES, "", "Date ______________________"]
    return clean("\n".join(out)) + "\n"


def _state(name: str, time: str, findings: tuple[FindingRow, ...]) -> list[str]:
    counted = count(one.counted for one in findings)
    totals = f"{counted.in_words()}; {counted.holds} rules hold"
    lines = [f"{one.severity if one.state == 'fails' else one.state:<10}{one.text}" for one in rows(findings)]
    return _part(f"{name}, {time[:16].replace('T', ' ')} UTC", [totals, *(_wrap(one, "  ", " " * 12) for one in lines)])


def _proof(one: ProofRow) -> str:
    control = f" (control: {one.control})" if one.control else ""
    return f"{one.result.upper():<18} {one.text}: {one.saw}{control}"


def _entry(one: EntryRow) -> str:
    who = f" by {one.by}" if one.by else f" of {one.account}" if one.account else ""
    return f"{one.time[11:19]}  {ASKED[one.state]}{who}: {GATES.get(one.gate, one.gate)}"
