"""What the commands show: check, step sheet, proofs, job board. Doors first, then findings, then what was not judged, then the next command."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from yardbolt.application.check import Checked
from yardbolt.application.desk import Desk
from yardbolt.application.plan import Plan
from yardbolt.application.prove import Proven
from yardbolt.core.access import who
from yardbolt.core.addresses import ANYONE
from yardbolt.core.baseline import Baseline, Finding, count
from yardbolt.core.paths import show
from yardbolt.core.plane import ABSENT, Plane, human
from yardbolt.core.proofs import Proof, Result
from yardbolt.core.rehearse import Hold, Kind, Step
from yardbolt.core.rules.rule import State
from yardbolt.core.steps import Refused, worded

from .screen import Screen


def baseline_line(b: Baseline) -> str:
    """A baseline with its plain meaning, always together."""
    return f"{b.name} {b.version}: {b.meaning}"


def doors(s: Screen, plane: Plane, family_ports: dict[str, int] | None = None) -> None:
    """What is set, what answers, whom it lets in, what opened it."""
    s.head("Doors", "what is set, what answers, whom it lets in, which published login opened it")
    rows: list[list[str | tuple[str, str]]] = []
    explained = set()
    for v in plane.services.items:
        answering = next((a for a in plane.answering.items if a.port == v.port), None)
        explained.add(v.port)
        got = who(plane, v.key)
        reach = (
            "nobody"
            if not got.possible
            else "anyone"
            if got.possible == ANYONE and v.permitted is not None
            else "not read"
            if v.permitted is None
            else str(got.possible)
        )
        opened = [t.account or "(no name)" for t in plane.trials.items if t.service == v.key and t.outcome in ("opened", "prompted")]
        rows.append([
            v.key, str(v.port or "?"), ("PLAIN TEXT", "bad") if v.encrypted is False else "encrypted" if v.encrypted else "?",
            human(("services", v.key, "enabled"), v.enabled).replace("yes", "on").replace("no", "off", 1) if v.enabled is not None else "not read",
            _answers(answering is not None, plane.answering.complete), (reach, "bad" if reach == "anyone" else ""), (", ".join(opened), "bad"),
        ])  # fmt: skip
    for a in plane.answering.items:
        if a.port not in explained:
            opened = [
                t.account or "(no name)"
                for t in plane.trials.items
                if family_ports and family_ports.get(t.service or "") == a.port and t.outcome in ("opened", "prompted")
            ]
            plain = ("PLAIN TEXT", "bad") if a.speaks in ("telnet", "http") else "encrypted" if a.speaks in ("ssh", "tls") else "?"
            rows.append(
                [
                    f"{a.speaks}?" if a.speaks == "unknown" else str(a.speaks),
                    str(a.port),
                    plain,
                    "not read",
                    "yes",
                    "not read",
                    (", ".join(opened), "bad"),
                ]
            )
    if rows:
        s.rows(rows, heads=["door", "port", "", "set", "answers", "lets in", "opened by"])
    else:
        s.line("none was seen", indent=2)


def _answers(answers: bool, looked: bool) -> str:
    return "yes" if answers else "no" if looked else "not looked"


def findings(s: Screen, found: tuple[Finding, ...], full: bool = False) -> None:
    """Ranked findings with their reason once; then what was not judged; then how many hold."""
    fails = [f for f in found if f.state is State.FAILS]
    counts = count(found)
    told = ", ".join(f"{counts[st]} {st.value}" for st in State if counts[st])
    s.head("Findings", told)
    last = ""
    for f in fails:
        if f.rule != last:
            s.line((f"{f.severity.value:<9}", f.severity.value), (f"{f.title}", "head"), (f"  [{f.number} {f.rule}]", "faint"), indent=2)
            s.line((f.why, "faint"), indent=11)
        last = f.rule
        s.line(("FAILS  ", "fails"), f"{show(f.subject)}: {f.saw}", (f"  ({f.basis})" if f.basis else "", "faint"), indent=11)
    if not fails:
        s.line("nothing fails", indent=2)
    for f in (f for f in found if f.state is State.WAIVED):
        s.line(("waived   ", "waived"), f"{f.title}: {f.saw}", indent=2)
    unknown = [f for f in found if f.state is State.UNKNOWN]
    if unknown:
        s.head("Not judged", "unknown is not good")
        unread = dict.fromkeys(f.title for f in unknown if not f.basis)
        seen = [f for f in unknown if f.basis]
        if seen:
            s.rows([[("unknown", "unknown"), f.title, f"{show(f.subject)}: {f.saw}"] for f in seen])
        if unread:
            s.line(("unknown  ", "unknown"), "because the settings behind it were not read: " + "; ".join(unread), indent=2)
    if full:
        s.head("Holds")
        s.rows(
            [
                [("holds", "holds"), f.title, f"{show(f.subject)}: {f.saw}" + (f" ({f.basis})" if f.basis else "")]
                for f in found
                if f.state is State.HOLDS
            ]
        )


def checked(s: Screen, c: Checked, desk: Desk, full: bool) -> None:
    """The outcome of a check."""
    s.line((c.unit, "head"), f"  {desk.family.title}  {desk.unit.address}  seen from {desk.site.laptop}  {c.time[:16].replace('T', ' ')} UTC")
    s.line((baseline_line(desk.baseline), "faint"))
    doors(s, c.plane, desk.ports())
    own = getattr(desk.knocker, "own", ())
    if own:
        s.line((f"left out: port {', '.join(map(str, own))}, where this laptop itself answers on every loopback address", "faint"), indent=2)
    for ch in desk.family.channels:
        if desk.pin(ch.service):
            s.line((f"{ch.service} host key noted at the first login: {desk.pin(ch.service)}", "faint"), indent=2)
    s.line(f"inside: {c.inside}", indent=2)
    findings(s, c.findings, full)
    if c.reading and (c.reading.blind or c.reading.leftovers or c.reading.conflicts):
        s.head("Blind areas")
        why: dict[tuple[str, str], list[str]] = {}
        for b in c.reading.blind:
            area, _, key = b.area.partition(" ")
            why.setdefault((area, b.why), []).append(key)
        rows: list[list[str | tuple[str, str]]] = [
            [area + (f" of {len(keys)} accounts" if len(keys) > 1 else ""), reason] for (area, reason), keys in why.items()
        ]
        rows += [[x.ask, f"a line was not understood: {x.line[:60]}"] for x in c.reading.leftovers[:10]]
        rows += [[show(p), "two answers disagree, so it counts as unknown"] for p in c.reading.conflicts]
        s.rows(rows)


def hold_word(step: Step) -> tuple[str, str]:
    """How one is still in after a step."""
    names = list(dict.fromkeys(f"{w.account} by {w.service}" for w in step.still))
    match step.hold:
        case Hold.PROVEN:
            return ", ".join(names[:2]) + (f" and {len(names) - 2} more" if len(names) > 2 else ""), "good"
        case Hold.HELD:
            return "only by the session that is open", "medium"
        case Hold.LEAP:
            return "LEAP: not until the next login", "bad"
    return "NO WAY IN", "bad"


def step_words(step: Step, plane: Plane) -> str:
    """What a step does."""
    match step.kind:
        case Kind.WRITE:
            assert step.change is not None
            return worded(step.change, plane)
        case Kind.PROVE:
            assert step.way is not None
            return f"log in anew as {step.way.account} by {step.way.service}"
        case Kind.SAVE:
            return "save: keep what is live for the next start"
        case Kind.RESTART:
            return "restart the unit, wait, log in again"
        case Kind.TRY:
            return "try out: strangers turned away, closed services closed"


def plan(s: Screen, p: Plan, desk: Desk) -> None:
    """The step sheet: each change with its reason, who is still in, the back-out."""
    if isinstance(p.sheet, Refused):
        s.line((desk.unit.name, "head"), ("  refused: there is no order that keeps a way in", "bad"))
        for why in p.sheet.why:
            s.line(why, indent=2)
        return
    writes = [x for x in p.sheet.steps if x.kind is Kind.WRITE]
    s.line((desk.unit.name, "head"), f"  {len(p.sheet.steps)} steps, {len(writes)} of them changes; rehearsed, nothing was sent")
    s.line((baseline_line(desk.baseline), "faint"))
    s.line("")
    rows: list[list[str | tuple[str, str]]] = []
    for n, step in enumerate(p.sheet.steps, 1):
        mark = {Kind.WRITE: "change", Kind.PROVE: "prove", Kind.SAVE: "save", Kind.RESTART: "restart", Kind.TRY: "prove"}[step.kind]
        back = step.back if step.kind is Kind.WRITE else ""
        why = f"wanted by {step.change.because}; {step.reason}" if step.change else ""
        rows.append(
            [
                str(n),
                (mark, "head" if step.kind is Kind.WRITE else "faint"),
                step_words(step, p.plane) + (f"\n{why}" if why else ""),
                hold_word(step),
                (back, "bad" if back == "no way back" else ""),
            ]
        )
    s.rows(rows, heads=["", "", "step", "still in by", "back-out"])
    if rows:
        s.head("Forecast")
        cuts = [n for n, x in enumerate(p.sheet.steps, 1) if x.kind is Kind.RESTART]
        if cuts:
            s.line(
                f"step {cuts[0]} restarts the unit: away for up to {human(('identity', 'uptime'), op.wait) if (op := desk.family.op_doing('restart')) else '?'}",
                indent=2,
            )
        for way in sorted(p.sheet.forecast.proven):
            if way.source == desk.site.laptop:
                s.line(
                    f"way in at the end: {way.account} by {way.service}, {desk.unit.address} port {desk.ports()[way.service]}, from {way.source}",
                    indent=2,
                )
    else:
        s.line("nothing to change", indent=2)
    if p.gaps:
        s.head("Cannot be planned")
        s.rows([[("gap", "unknown"), show(g.path), f"{g.why} ({g.rule})"] for g in p.gaps])


def proofs(s: Screen, found: Iterable[Proof]) -> None:
    """Each proof with what was seen and its control."""
    rows: list[list[str | tuple[str, str]]] = []
    for p in found:
        style = {Result.HOLDS: "holds", Result.FAILS: "fails", Result.NOT_TRIED: "unknown"}[p.result]
        rows.append([(p.result.value.upper() if p.result is Result.FAILS else p.result.value, style), p.claim.text, p.saw, (p.control, "faint")])
    s.rows(rows, heads=["", "proof", "seen", "control"])


def proven(s: Screen, p: Proven, desk: Desk) -> None:
    """The as-left state."""
    s.line((p.unit, "head"), f"  as left  {p.time[:16].replace('T', ' ')} UTC, {p.document['by']}")
    s.line((baseline_line(desk.baseline), "faint"))
    s.head("Proofs", "tried out now; nothing was written")
    proofs(s, p.proofs)
    if p.changed:
        s.head("As found and as left")
        rows: list[list[str | tuple[str, str]]] = [
            [show(path), _side(path, a), "->", _side(path, b), ("NOT PLANNED", "bad") if path in p.unplanned else ""] for path, a, b in p.changed
        ]
        s.rows(rows)
    if p.missing:
        s.head("Wanted and not so")
        for path in p.missing:
            s.line(show(path), indent=2)
    findings(s, p.findings)


def _side(path: tuple[str, ...], value: Any) -> str:
    return value if isinstance(value, str) and len(path) == 2 else "not set" if value is ABSENT else human(path, value)


def board(s: Screen, rows: list[dict[str, Any]], title: str) -> None:
    """The job board."""
    s.line((title, "head"))
    table: list[list[str | tuple[str, str]]] = []
    for r in rows:
        state = f"{r['fails']} failing" + (f", {r['unknown']} unknown" if r["unknown"] else "") if r["time"] else ""
        table.append([r["unit"], r["stage"], (state, "bad" if r["fails"] else "good"), r["worst"], (r["next"], "next")])
    s.rows(table, indent=0, heads=["unit", "stage", "findings", "worst", "next"])
