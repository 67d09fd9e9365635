"""What a check shows: about twenty lines. Doors first, then what to fix, what was not judged, what was not looked at,
and the next command. Everything else is one option away."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from yardbolt.application.check import Checked
from yardbolt.application.unit import UnitInWork
from yardbolt.core.addresses import ANYONE, by_family
from yardbolt.core.judge.baseline import Baseline, Finding
from yardbolt.core.judge.causes import Cause, briefly, causes, unjudged
from yardbolt.core.judge.counting import count
from yardbolt.core.judge.coverage import INSIDE
from yardbolt.core.judge.rules.rule import State
from yardbolt.core.judge.rules.services import readable
from yardbolt.core.judge.who import who
from yardbolt.core.plane.leaves import Plane, Service
from yardbolt.core.plane.path import show
from yardbolt.core.plane.seen import Answering
from yardbolt.core.plane.words import FEW, addresses, brief, spoken

from .screen import Cell, Screen
from .values import PLAIN, Depth

if TYPE_CHECKING:
    from yardbolt.application.prove import Proved

MOST_CAUSES = 6
MOST_UNKNOWN = 3


def baseline_line(baseline: Baseline) -> str:
    """A baseline with its plain meaning, always together."""
    return f"{baseline.name} {baseline.version}: {baseline.meaning}"


def next_line(screen: Screen, command: str) -> None:
    """The next command."""
    screen.say(("NEXT  ", "next"), command)


# ---- doors ----------------------------------------------------------------------------------------------------------


def doors(screen: Screen, plane: Plane, address: str) -> None:
    """What is set, what answers, who it lets in, what opened it."""
    opened: dict[int, list[str]] = {}
    for trial in plane.trials:
        if trial.outcome in ("opened", "asked") and isinstance(trial.port, int):
            name = trial.account or "(no name)"
            opened.setdefault(trial.port, []).append(f"{name} (blank)" if trial.blank else name)
    rows = [_service_row(plane, service, opened.get(_port(service), []), address) for service in plane.services]
    explained = {port for service in plane.services for _, port in service.places}
    unexplained = {(one.port, one.transport, one.speaks): one for one in plane.answering if one.port not in explained}
    rows += [_answer_row(plane, one, opened.get(one.port or 0, [])) for one in unexplained.values()]
    if rows:
        screen.rows(
            rows, indent=0, heads=["DOORS", "PORT", "SET", "ANSWERS", "ENCRYPTED", "LETS IN", "PUBLISHED LOGIN"]
        )
    else:
        screen.say(("DOORS  ", "head"), "none was seen")


def _service_row(plane: Plane, service: Service, opened: list[str], address: str) -> list[Cell]:
    by_udp = service.transport == "udp"
    looked = plane.answering.complete and not by_udp
    reach = _reach(plane, service, address)
    sealed: Cell = ("NO", "bad") if readable(plane, service) else "yes" if service.encrypted else "?"
    state = "on" if service.enabled is True else "off" if service.enabled is False else "not read"
    return [
        service.key, str(service.port or "?"), state, _answers(plane, _port(service), by_udp, looked), sealed,
        (reach, "bad" if reach == "anyone" else ""), (", ".join(opened), "bad"),
    ]  # fmt: skip


def _port(service: Service) -> int:
    """Where it listens; 0 where that was not read."""
    return service.port if isinstance(service.port, int) else 0


def _reach(plane: Plane, service: Service, address: str) -> str:
    possible = who(plane, service.key).possible
    if not possible:
        return "nobody"
    if service.permitted is None:
        return "not read"
    if possible == ANYONE:
        return "anyone"
    blocks = len(addresses(possible))
    return f"{blocks} blocks" if blocks > FEW else brief(possible, address)


def _answer_row(plane: Plane, one: Answering, opened: list[str]) -> list[Cell]:
    sealed: Cell = "?"
    if one.speaks in ("telnet", "http", "ftp"):
        sealed = ("NO", "bad")
    elif one.speaks in ("ssh", "tls"):
        sealed = "yes"
    name = "unknown?" if one.speaks == "unknown" else str(one.speaks)
    answers = _answers(plane, one.port, one.transport == "udp", True)
    return [name, str(one.port), "not read", answers, sealed, "not read", (", ".join(opened), "bad")]


def _answers(plane: Plane, port: int | None, by_udp: bool, looked: bool) -> str:
    """Does a port answer? Where both families were met, and only one does: by which."""
    here = {one.address for one in plane.answering if one.port == port and (one.transport == "udp") == by_udp}
    everywhere = {one.address for one in plane.answering}
    if not here:
        return "no" if looked else "not looked"
    return "yes" if here == everywhere else f"{by_family(next(iter(here)) or '')} only"


# ---- findings -------------------------------------------------------------------------------------------------------


def verdict(found: Iterable[Finding], inside: bool = True) -> Cell:
    """The state in a word, and how many findings there are of each severity."""
    counted = count(one.counted for one in found)
    style = "bad" if counted.failing else "unknown" if counted.unknown or not inside else "good"
    return counted.in_words(inside), style


def document(seen: Checked | Proved) -> dict[str, Any]:
    """What is filed of it, with the count of its findings, for JSON."""
    return {**vars(seen.document), "count": count(one.counted for one in seen.findings).as_tree()}


def findings(screen: Screen, found: tuple[Finding, ...], depth: Depth = PLAIN, inside: bool = True) -> None:
    """What to fix, worst first; then what was not judged; on wish everything, and the reasons."""
    listed = causes(found)
    if listed:
        screen.say(("FIX FIRST", "head"))
        shown = listed if depth else listed[:MOST_CAUSES]
        for cause in shown:
            _cause(screen, cause, depth.why)
        if more := len(listed) - len(shown):
            screen.say((f"{more} more: --all", "faint"), indent=10)
    for one in (one for one in found if one.state is State.WAIVED):
        screen.item(("waived    ", "waived"), f"{one.title}: {one.saw}")
    unknown = [one for one in found if one.state is State.UNKNOWN]
    if not inside and not depth:
        rules = count(one.counted for one in unknown).unknown
        screen.say(("NOT JUDGED     ", "head"), f"{rules} rules: the settings were not read")
    else:
        _not_judged(screen, unknown, bool(depth))
    if depth.full:
        screen.head("HOLDS")
        rows: dict[tuple[str, str, str], list[str]] = {}
        for one in (one for one in found if one.state is State.HOLDS):
            key = (one.title, "" if one.saw == one.title else one.saw, one.basis)
            rows.setdefault(key, []).append(spoken(one.subject[:2]))
        # said of many alike it is said once, with their names
        screen.rows(
            [
                [f"{briefly(names)}: {title}" if len(names) > 1 else title, saw, basis]
                for (title, saw, basis), names in rows.items()
            ],
            indent=0,
        )


def _cause(screen: Screen, cause: Cause[Finding], why: bool) -> None:
    screen.item(
        (f"{cause.severity:<10}", cause.severity), cause.text, (f"  ({cause.basis})" if cause.basis else "", "faint")
    )
    if not why:
        return
    screen.say((cause.findings[0].why, "faint"), indent=10)
    for one in cause.findings:
        screen.say((f"[{one.number} {one.rule}] {show(one.subject)}: {one.saw}", "faint"), indent=10)


def _not_judged(screen: Screen, unknown: list[Finding], full: bool) -> None:
    sentences = unjudged(unknown)
    if not sentences:
        screen.say(("NOT JUDGED     ", "head"), "nothing")
        return
    screen.say(("NOT JUDGED", "head"), ("  unknown is not good", "faint"))
    shown = sentences[: None if full else MOST_UNKNOWN]
    for one in shown:
        screen.item(("unknown   ", "unknown"), one)
    if more := len(sentences) - len(shown):
        screen.say((f"{more} more: --all", "faint"), indent=10)


def checked(screen: Screen, found: Checked, unit: UnitInWork, depth: Depth = PLAIN) -> None:
    """The outcome of a check."""
    serial = found.plane.identity.serial
    mark = f"  S/N {serial}{' ok' if unit.facts.entry.serial == serial else ''}" if serial else "  serial not read"
    screen.say((found.unit, "head"), f"  {unit.family.title}{mark}  {unit.facts.entry.address}")
    screen.say(("FOUND  ", "head"), verdict(found.findings, found.reading is not None))
    if found.reading is None:
        screen.say(("the settings were not read: ", "unknown"), found.inside)
    for notice in found.document.notices:
        screen.say(("CHECK THIS  ", "bad"), notice)
    doors(screen, found.plane, unit.facts.entry.address)
    screen.say("")
    findings(screen, found.findings, depth, found.reading is not None)
    unseen = [one.partition(": ") for one in found.document.not_looked_at]
    words = [name for name, _, reason in unseen if found.reading is not None or reason != INSIDE]
    words += ["all that is read inside"] if found.reading is None else []
    screen.item(("NOT LOOKED AT  ", "head"), ", ".join(words) or "nothing")
    if depth:
        screen.rows([[name, (reason, "faint")] for name, _, reason in unseen])
        _more(screen, found, unit)
    _blind(screen, found, unit)


def found(screen: Screen, seen: Checked, unit: UnitInWork) -> None:
    """What a first reading brought, without the doors that a check shows."""
    serial = seen.plane.identity.serial
    mark = f"  S/N {serial}{' ok' if unit.facts.entry.serial == serial else ''}" if serial else ""
    screen.say(("FOUND  ", "head"), verdict(seen.findings, seen.reading is not None), mark)
    findings(screen, seen.findings)


def _more(screen: Screen, found: Checked, unit: UnitInWork) -> None:
    screen.head("HOW")
    when = found.time[:16].replace("T", " ")
    screen.say(f"{when} UTC, seen from {unit.site.laptop}; inside: {found.inside}")
    screen.say(baseline_line(unit.facts.baseline))
    if own := ", ".join(map(str, found.around.state.own)):
        screen.say((f"left out: port {own}, where this laptop itself answers on every loopback address", "faint"))
    for door in unit.site.doors:
        if pin := unit.record.pin(door.service):
            screen.say((f"{door.service} host key noted at the first login: {pin}", "faint"))


def _blind(screen: Screen, found: Checked, unit: UnitInWork) -> None:
    reading = found.reading
    if not reading or not (reading.blind or reading.leftovers or reading.conflicts):
        return
    screen.say(("NOT READ", "head"))
    why: dict[str, dict[str, int]] = {}
    for blind in reading.blind:
        areas = why.setdefault(blind.why, {})
        area = blind.area.partition(" ")[0]
        areas[area] = areas.get(area, 0) + 1
    rows: list[list[Cell]] = []
    for reason, areas in why.items():
        named = [area + (f" of {times} accounts" if times > 1 else "") for area, times in areas.items()]
        rows += (
            [[f"{len(named)} parts", f"{reason}: {', '.join(named)}"]]
            if len(named) > 2
            else [[x, reason] for x in named]
        )
    # a decoder says in words what it makes nothing of; elsewhere it is the line itself
    in_words = {ask.name for ask in unit.family.asks if ask.decode}
    for one in reading.leftovers[:10]:
        rows.append([one.ask, one.line if one.ask in in_words else f"a line was not understood: {one.line[:60]}"])
    rows += [[show(path), "two answers disagree, so it counts as unknown"] for path in reading.conflicts]
    screen.rows(rows, indent=0)
