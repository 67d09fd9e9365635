"""Handing over: one record per unit, from what is filed; the same bytes for the same record. Touches no unit."""

from __future__ import annotations

from typing import Any

from yardbolt.core.errors import OperatorError
from yardbolt.core.plane import from_json, human

from .desk import Desk
from .prove import differences
from .tighten import open_run


def record(desk: Desk) -> dict[str, Any]:
    """Everything the owner is handed, as a JSON object. Raises OperatorError before the first check."""
    name, job, site = desk.unit.name, desk.job, desk.site
    first, left = desk.records.latest(name, "as found outside"), desk.records.latest(name, "as left")
    found = desk.records.latest(name, "as found")
    if first is None:
        raise OperatorError(f"{name} was not checked yet; next: yardbolt check {name}")
    last = left or desk.records.latest(name, "check") or first
    before, after = from_json((found or first)["plane"]), from_json(last["plane"])
    journal = [e for e in desk.records.journal(name) if e.get("kind") != "login"]
    target = desk.records.latest(name, "target")
    changed = (
        [{"path": "/".join(p), "before": _words(p, a), "after": _words(p, b)} for p, a, b in differences(before, after)] if found and left else []
    )
    return {
        "yardbolt record": 1,
        "job": job.title, "owner": job.owner, "technician": job.technician,
        "unit": name, "note": desk.unit.note, "goes to": desk.unit.segment, "family": desk.family.title,
        "identity": from_json(last["plane"]).identity.__dict__ | {"uptime": None},
        "baseline": {"name": desk.baseline.name, "version": desk.baseline.version, "meaning": desk.baseline.meaning},
        "found": {"time": first["time"], "inside": (found or first)["inside"], "findings": _order(_found(first, found)), "outside": first["outside"]},
        "left": {"time": last["time"], "proven": left is not None, "findings": _order(last["findings"]), "blind": last["blind"]},
        "changes": changed,
        "unplanned": left["unplanned"] if left else [],
        "steps": [
            {"time": e["time"], "run": e["run"], "what": e["what"], "state": e["state"]}
            for e in journal if e["run"] and e.get("what") and e["state"] not in ("sending", "trying") and e.get("kind") != "proof"
        ],
        "entry": [{"time": e["time"], **{k: e[k] for k in ("state", "gate", "account", "by", "said") if k in e}} for e in journal if e.get("kind") == "entry"],
        "proofs": left["proofs"] if left else [],
        "back in": _back_in(desk, after),
        "secrets": [f"{a.name}: entry {site.secret(a.name).entry.removeprefix('safe:')} of {job.safe}" for a in job.accounts],
        "owed": owed(desk, left, last, target),
        "waivers": [{"rule": w.rule, "reason": w.reason, "owner": w.owner, "until": w.until} for w in site.waivers],
        "recovery": {"reset": desk.family.factory.reset, "socket": desk.family.factory.socket},
        "evidence": (left or last)["evidence"],
        "site": ["Who can reach the console socket and the reset?", "Is the management segment apart from users?", "Who keeps the safe and its copy?"],
    }  # fmt: skip


def _found(first: Any, found: Any) -> list[dict[str, Any]]:
    """As-found findings: what failed from outside before anybody entered, and everything of the first full reading."""
    if found is None:
        return list(first["findings"])
    rows = {(f["rule"], f["subject"], f["saw"]): f for f in (*found["findings"], *(f for f in first["findings"] if f["state"] == "fails"))}
    return list(rows.values())


def _order(findings: list[dict[str, Any]]) -> list[dict[str, Any]]:
    states = ("fails", "unknown", "waived", "holds", "not applicable")
    severities = ("critical", "high", "medium", "low")
    return sorted(findings, key=lambda f: (states.index(f["state"]), severities.index(f["severity"]), f["number"], f["subject"]))


def _words(path: tuple[str, ...], value: Any) -> str:
    return value if isinstance(value, str) and len(path) == 2 else human(path, value)


def _back_in(desk: Desk, plane: Any) -> list[dict[str, str]]:
    """The re-entry card (N249)."""
    out = []
    for c in desk.family.channels:
        service = next((s for s in plane.services.items if s.key == c.service), None)
        if service is None or service.enabled is False:
            continue
        out.append({"by": c.service, "at": f"{desk.unit.address} port {desk.ports()[c.service]}", "from": str(service.permitted) if service.permitted else "not read",
                    "as": ", ".join(a.name for a in desk.job.accounts), "host key": desk.pin(c.service)})  # fmt: skip
    return out


def owed(desk: Desk, left: Any, last: Any, target: Any) -> list[str]:
    """What is still open, with the next step (N250)."""
    out = []
    name = desk.unit.name
    run, unfinished = open_run(desk)
    if unfinished:
        out.append(f"run {run} was cut off: yardbolt tighten {name}")
    if target is None and any(f["state"] == "fails" for f in last["findings"]):
        out.append(f"not tightened yet: yardbolt steps {name}, then yardbolt tighten {name}")
    if left is None:
        out.append(f"not proven yet: yardbolt prove {name}")
    else:
        out += [f"could not be tried: {p['text']} ({p['saw']})" for p in left["proofs"] if p["result"] == "could not be tried"]
        out += [f"FAILED proof: {p['text']} ({p['saw']})" for p in left["proofs"] if p["result"] == "fails"]
        out += [f"not planned, yet changed: {p}" for p in left["unplanned"]]
    out += [f"{f['severity']}: {f['title']}: {f['saw']}" for f in last["findings"] if f["state"] == "fails"]
    out += [f"{s.kind} server {s.address} is not here: prove it on site" for s in desk.job.servers if not s.here]
    return out


def stage(desk: Desk) -> dict[str, Any]:
    """Where a unit stands, for the job board: stage, what is open, the next command."""
    name = desk.unit.name
    check, left, found = (desk.records.latest(name, kind) for kind in ("check", "as left", "as found"))
    _, unfinished = open_run(desk)
    last = left if left and check and left["number"] > check["number"] else check
    fails = [f for f in last["findings"] if f["state"] == "fails"] if last else []
    unknown = [f for f in last["findings"] if f["state"] == "unknown"] if last else []
    if check is None:
        at, then = "not begun", "check"
    elif unfinished:
        at, then = "tightening", "tighten"
    elif left and not [p for p in left["proofs"] if p["result"] == "fails"] and not fails:
        at, then = "proven", "sheet"
    elif desk.records.latest(name, "target"):
        at, then = "tightened", "check" if fails else "prove"
    elif found or check["complete"]:
        at, then = "entered" if found else "checked", "steps" if desk.family.ops else "sheet"
    else:
        at, then = "checked", "enter" if desk.family.factory.logins else "check --as NAME"
    return {
        "unit": name, "stage": at, "serial": desk.unit.serial, "at": desk.unit.address, "time": last["time"] if last else "",
        "fails": len(fails), "unknown": len(unknown), "worst": fails[0]["title"] if fails else "", "next": f"yardbolt {then} {name}",
    }  # fmt: skip
