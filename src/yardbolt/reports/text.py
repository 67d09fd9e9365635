"""The sheet as plain text, 78 columns, for printing and for screen readers."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Mapping
from typing import Any

WIDTH = 78


def _wrap(text: str, first: str = "", rest: str = "  ") -> str:
    return textwrap.fill(text, WIDTH, initial_indent=first, subsequent_indent=rest, break_long_words=False)


def _part(title: str, lines: Iterable[str]) -> list[str]:
    got = list(lines)
    return ["", title.upper(), *got] if got else []


def render(r: Mapping[str, Any]) -> str:
    """The sheet of one unit."""
    i = r["identity"]
    out = [
        f"HAND-OVER SHEET: {r['unit']}",
        _wrap(f"{r['job']}, for {r['owner']}; technician {r['technician']}"),
        _wrap(
            f"{r['family']}; serial {i['serial'] or 'not read'}; hardware address {i['hardware'] or 'not read'}; software {i['software'] or 'not read'}"
        ),
        _wrap(f"Baseline {r['baseline']['name']} {r['baseline']['version']}: {r['baseline']['meaning']}"),
    ]
    for side, name in (("found", "As found"), ("left", "As left")):
        part = r[side]
        rows = [f for f in part["findings"] if f["state"] in ("fails", "unknown", "waived")]
        held = sum(f["state"] == "holds" for f in part["findings"])
        out += _part(f"{name}, {part['time'][:16].replace('T', ' ')} UTC", [
            f"{sum(f['state'] == 'fails' for f in rows)} fail, {held} hold, {sum(f['state'] == 'unknown' for f in rows)} not judged",
            *(_wrap(f"{f['state'].upper():<8} {f['severity']:<9} {f['title']}: {f['subject']}: {f['saw']}", "  ", " " * 21) for f in rows),
        ])  # fmt: skip
    out += _part("First entry", (_wrap(_entry(e), "  ", "      ") for e in r["entry"]))
    out += _part("Changed", (_wrap(f"{c['path']}: {c['before']} -> {c['after']}", "  ", "      ") for c in r["changes"]))
    out += _part("Changed and not planned", (f"  {p}" for p in r["unplanned"]))
    out += _part("Steps carried out", (_wrap(f"{e['time'][11:19]}  {e['what']}: {e['state']}", "  ", " " * 12) for e in r["steps"]))
    out += _part(
        "Proofs",
        (
            _wrap(f"{p['result'].upper():<18} {p['text']}: {p['saw']}" + (f" (control: {p['control']})" if p["control"] else ""), "  ", " " * 21)
            for p in r["proofs"]
        ),
    )
    out += _part(
        "How to get back in",
        (_wrap(f"{b['by']} to {b['at']}, as {b['as']}, from {b['from']}; host key {b['host key'] or 'none'}", "  ", "      ") for b in r["back in"]),
    )
    out += _part("Secrets, by reference only", (f"  {s}" for s in r["secrets"]))
    out += _part("Owed", (_wrap(o, "  - ", "    ") for o in r["owed"])) or _part("Owed", ["  nothing"])
    out += _part("Waived", (_wrap(f"{w['rule']}: {w['reason']} ({w['owner']}, until {w['until']})", "  ", "      ") for w in r["waivers"]))
    out += _part("Recovery", [_wrap(r["recovery"]["reset"] or "no reset is described for this make", "  ", "  ")])
    out += _part("To look at on site", (f"  [ ] {q}" for q in r["site"]))
    out += ["", "", "Handed over by ______________________   Received by ______________________", "", "Date ______________________"]
    return "\n".join(out) + "\n"


def _entry(e: Mapping[str, Any]) -> str:
    words = {"prompted": "asked", "accepted": "accepted", "sending": "answered"}[e["state"]]
    gates = {"terms": "licence terms", "change": "a new password", "confirm": "the password again"}
    who = f" by {e['by']}" if e.get("by") else f" of {e['account']}" if e.get("account") else ""
    return f"{e['time'][11:19]}  {words}{who}: {gates.get(e['gate'], e['gate'])}"
