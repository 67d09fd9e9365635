"""What several commands show: doors, findings, step sheet, proofs. Doors first, then findings, then what was not
judged."""

from __future__ import annotations

from collections.abc import Iterable

from yardbolt.application.check import Checked
from yardbolt.application.prove import Proved
from yardbolt.application.steps import Plan
from yardbolt.application.trials import Trial
from yardbolt.application.unit import UnitInWork
from yardbolt.core.addresses import ANYONE
from yardbolt.core.doors import Door
from yardbolt.core.judge.access import who
from yardbolt.core.judge.baseline import Baseline, Finding, count
from yardbolt.core.judge.rules.rule import State
from yardbolt.core.plan.arrange import Refused
from yardbolt.core.plan.belief import Standing
from yardbolt.core.plan.rehearse import Kind, Step
from yardbolt.core.plan.words import describe_step
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.path import Path, show
from yardbolt.core.plane.table import Answering, Plane, Service, is_item
from yardbolt.core.plane.words import duration, human
from yardbolt.core.run.proofs import Proof, Result
from yardbolt.core.talk.outcomes import accepted

from .screen import Cell, Screen


def baseline_line(baseline: Baseline) -> str:
    """A baseline with its plain meaning, always together."""
    return f"{baseline.name} {baseline.version}: {baseline.meaning}"


# ---- doors ----------------------------------------------------------------------------------------------------------


def doors(screen: Screen, plane: Plane, tried: tuple[Trial, ...], met: tuple[Door, ...]) -> None:
    """What is set, what answers, whom it lets in, what opened it."""
    screen.head("Doors", "what is set, what answers, whom it lets in, which published login opened it")
    opened: dict[str, list[str]] = {}
    for trial in tried:
        if accepted(trial.outcome):
            opened.setdefault(trial.way.service, []).append(trial.way.account or "(no name)")
    by_port = {door.port: opened.get(door.service, []) for door in met}
    rows = [_service_row(plane, service, opened.get(service.key, [])) for service in plane.services]
    explained = {service.port for service in plane.services}
    rows += [_answer_row(one, by_port.get(one.port or 0, [])) for one in plane.answering if one.port not in explained]
    if rows:
        screen.rows(rows, heads=["door", "port", "", "set", "answers", "lets in", "opened by"])
    else:
        screen.say("none was seen", indent=2)


def _service_row(plane: Plane, service: Service, opened: list[str]) -> list[Cell]:
    answers = any(one.port == service.port for one in plane.answering)
    reach = _reach(plane, service)
    plain: Cell = ("PLAIN TEXT", "bad") if service.encrypted is False else "encrypted" if service.encrypted else "?"
    state = "on" if service.enabled is True else "off" if service.enabled is False else "not read"
    return [
        service.key, str(service.port or "?"), plain, state, _answers(answers, plane.answering.complete),
        (reach, "bad" if reach == "anyone" else ""), (", ".join(opened), "bad"),
    ]  # fmt: skip


def _reach(plane: Plane, service: Service) -> str:
    possible = who(plane, service.key).possible
    if not possible:
        return "nobody"
    if service.permitted is None:
        return "not read"
    return "anyone" if possible == ANYONE else str(possible)


def _answer_row(one: Answering, opened: list[str]) -> list[Cell]:
    plain: Cell = "?"
    if one.speaks in ("telnet", "http"):
        plain = ("PLAIN TEXT", "bad")
    elif one.speaks in ("ssh", "tls"):
        plain = "encrypted"
    name = "unknown?" if one.speaks == "unknown" else str(one.speaks)
    return [name, str(one.port), plain, "not read", "yes", "not read", (", ".join(opened), "bad")]


def _answers(answers: bool, looked: bool) -> str:
    return "yes" if answers else "no" if looked else "not looked"


# ---- findings -------------------------------------------------------------------------------------------------------


def findings(screen: Screen, found: tuple[Finding, ...], full: bool = False) -> None:
    """Ranked findings with their reason once; then what was not judged; then how many hold."""
    counts = count(found)
    screen.head("Findings", ", ".join(f"{counts[state]} {state.value}" for state in State if counts[state]))
    fails = [one for one in found if one.state is State.FAILS]
    last = ""
    for one in fails:
        if one.rule != last:
            severity = one.severity.value
            number = (f"  [{one.number} {one.rule}]", "faint")
            screen.say((f"{severity:<9}", severity), (one.title, "head"), number, indent=2)
            screen.say((one.why, "faint"), indent=11)
        last = one.rule
        basis = (f"  ({one.basis})" if one.basis else "", "faint")
        screen.say(("FAILS  ", "fails"), f"{show(one.subject)}: {one.saw}", basis, indent=11)
    if not fails:
        screen.say("nothing fails", indent=2)
    for one in (one for one in found if one.state is State.WAIVED):
        screen.say(("waived   ", "waived"), f"{one.title}: {one.saw}", indent=2)
    _not_judged(screen, [one for one in found if one.state is State.UNKNOWN])
    if full:
        screen.head("Holds")
        screen.rows(
            [
                [
                    ("holds", "holds"),
                    one.title,
                    f"{show(one.subject)}: {one.saw}" + (f" ({one.basis})" if one.basis else ""),
                ]
                for one in found
                if one.state is State.HOLDS
            ]
        )


def _not_judged(screen: Screen, unknown: list[Finding]) -> None:
    if not unknown:
        return
    screen.head("Not judged", "unknown is not good")
    unread = dict.fromkeys(one.title for one in unknown if not one.basis)
    seen = [one for one in unknown if one.basis]
    if seen:
        screen.rows([[("unknown", "unknown"), one.title, f"{show(one.subject)}: {one.saw}"] for one in seen])
    if unread:
        because = "because the settings behind it were not read: " + "; ".join(unread)
        screen.say(("unknown  ", "unknown"), because, indent=2)


def checked(screen: Screen, found: Checked, unit: UnitInWork, full: bool) -> None:
    """The outcome of a check."""
    when = found.time[:16].replace("T", " ")
    where = f"  {unit.family.title}  {unit.entry.address}  seen from {unit.site.laptop}  {when} UTC"
    screen.say((found.unit, "head"), where)
    screen.say((baseline_line(unit.baseline), "faint"))
    doors(screen, found.plane, found.tried, unit.site.doors)
    if own := ", ".join(map(str, found.around.state.own)):
        left_out = f"left out: port {own}, where this laptop itself answers on every loopback address"
        screen.say((left_out, "faint"), indent=2)
    for door in unit.site.doors:
        if pin := unit.pin(door.service):
            screen.say((f"{door.service} host key noted at the first login: {pin}", "faint"), indent=2)
    screen.say(f"inside: {found.inside}", indent=2)
    findings(screen, found.findings, full)
    _blind(screen, found)


def _blind(screen: Screen, found: Checked) -> None:
    reading = found.reading
    if not reading or not (reading.blind or reading.leftovers or reading.conflicts):
        return
    screen.head("Blind areas")
    why: dict[tuple[str, str], list[str]] = {}
    for blind in reading.blind:
        area, _, key = blind.area.partition(" ")
        why.setdefault((area, blind.why), []).append(key)
    rows: list[list[Cell]] = [
        [area + (f" of {len(keys)} accounts" if len(keys) > 1 else ""), reason] for (area, reason), keys in why.items()
    ]
    rows += [[one.ask, f"a line was not understood: {one.line[:60]}"] for one in reading.leftovers[:10]]
    rows += [[show(path), "two answers disagree, so it counts as unknown"] for path in reading.conflicts]
    screen.rows(rows)


# ---- the sheet ------------------------------------------------------------------------------------------------------

MARKS = {
    Kind.WRITE: "change",
    Kind.PROVE: "prove",
    Kind.TRY: "prove",
    Kind.SAVE: "save",
    Kind.ACTIVATE: "activate",
    Kind.CONFIRM: "confirm",
    Kind.RESTART: "restart",
}


def still_in(step: Step) -> Cell:
    """How one is still in after a step."""
    names = list(dict.fromkeys(f"{way.account} by {way.service}" for way in step.still))
    match step.standing:
        case Standing.PROVEN:
            more = f" and {len(names) - 2} more" if len(names) > 2 else ""
            return ", ".join(names[:2]) + more, "good"
        case Standing.HELD:
            return "only by the session that is open", "medium"
        case Standing.LEAP:
            return "LEAP: not until the next login", "bad"
        case Standing.LOST:
            return "NO WAY IN", "bad"


def plan(screen: Screen, made: Plan, unit: UnitInWork) -> None:
    """The step sheet: each change with its reason, who is still in, the back-out."""
    sheet = made.sheet
    if isinstance(sheet, Refused):
        screen.say((unit.name, "head"), ("  refused: there is no order that keeps a way in", "bad"))
        for why in sheet.why:
            screen.say(why, indent=2)
        return
    writes = sum(step.kind is Kind.WRITE for step in sheet.steps)
    counted = f"  {len(sheet.steps)} steps, {writes} of them changes; rehearsed, nothing was sent"
    screen.say((unit.name, "head"), counted)
    screen.say((baseline_line(unit.baseline), "faint"))
    screen.say("")
    rows = [_step_row(place, step, made.plane) for place, step in enumerate(sheet.steps, 1)]
    screen.rows(rows, heads=["", "", "step", "still in by", "back-out"])
    if rows:
        _forecast(screen, made, unit)
    else:
        screen.say("nothing to change", indent=2)
    if made.gaps:
        screen.head("Cannot be planned")
        screen.rows([[("gap", "unknown"), show(gap.path), f"{gap.why} ({gap.rule})"] for gap in made.gaps])


def _step_row(place: int, step: Step, plane: Plane) -> list[Cell]:
    mark, back = MARKS[step.kind], step.back if step.kind is Kind.WRITE else ""
    why = f"\nwanted by {step.change.because}; {step.reason}" if step.change else ""
    return [
        str(place), (mark, "head" if step.kind is Kind.WRITE else "faint"), describe_step(step, plane) + why,
        still_in(step), (back, "bad" if back == "no way back" else ""),
    ]  # fmt: skip


def _forecast(screen: Screen, made: Plan, unit: UnitInWork) -> None:
    assert not isinstance(made.sheet, Refused)
    screen.head("Forecast")
    cut = next(((n, step) for n, step in enumerate(made.sheet.steps, 1) if step.kind is Kind.RESTART), None)
    if cut is not None:
        away = duration(cut[1].op.wait) if cut[1].op else "?"
        screen.say(f"step {cut[0]} restarts the unit: away for up to {away}", indent=2)
    for way in sorted(made.sheet.forecast.proven):
        if way.source == unit.site.laptop:
            where = f"{way.door.address} port {way.door.port}, from {way.source}"
            screen.say(f"way in at the end: {way.account} by {way.service}, {where}", indent=2)


# ---- proofs ---------------------------------------------------------------------------------------------------------

RESULTS = {Result.HOLDS: "holds", Result.FAILS: "fails", Result.NOT_TRIED: "unknown"}


def proofs(screen: Screen, found: Iterable[Proof]) -> None:
    """Each proof with what was seen and its control."""
    rows: list[list[Cell]] = []
    for proof in found:
        word = proof.result.value.upper() if proof.result is Result.FAILS else proof.result.value
        rows.append([(word, RESULTS[proof.result]), proof.claim.text, proof.saw, (proof.control, "faint")])
    screen.rows(rows, heads=["", "proof", "seen", "control"])


def proved(screen: Screen, found: Proved, unit: UnitInWork) -> None:
    """The as-left state."""
    when = found.time[:16].replace("T", " ")
    screen.say((found.unit, "head"), f"  as left  {when} UTC, {found.document.by}")
    screen.say((baseline_line(unit.baseline), "faint"))
    screen.head("Proofs", "tried out now; nothing was written")
    proofs(screen, found.proofs)
    if found.changed:
        screen.head("As found and as left")
        rows: list[list[Cell]] = [
            [
                show(path),
                _side(path, a),
                "->",
                _side(path, b),
                ("NOT PLANNED", "bad") if path in found.unplanned else "",
            ]
            for path, a, b in found.changed
        ]
        screen.rows(rows)
    if found.missing:
        screen.head("Wanted and not so")
        for path in found.missing:
            screen.say(show(path), indent=2)
    findings(screen, found.findings)


def _side(path: Path, value: object) -> str:
    return value if isinstance(value, str) and is_item(path) else "not set" if value is ABSENT else human(path, value)
