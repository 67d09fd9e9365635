"""`access`: who gets in, exactly, and which rule decides. Touches no unit."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from yardbolt.application.access import Access, WhoGetsIn
from yardbolt.application.access import access as run
from yardbolt.core.addresses import ANYONE, AddressSet
from yardbolt.core.judge.condition import Admission
from yardbolt.core.judge.filter import Decision
from yardbolt.core.judge.who import Sources
from yardbolt.core.plane.words import addresses, listed

from .screen import Cell, Screen
from .values import output_format
from .yard import Yard

VERDICT = {True: ("let in", "head"), False: ("blocked", "good"), None: ("not known", "unknown")}
ANSWER = {True: "yes", False: "NO", None: "not known"}
MOST_DECISIONS = 12
MOST_BLOCKS = 10


def access(
    unit: str, job: Path, source: str, service: str, account: str, full: bool, report_format: str, output: Path | None,
    no_color: bool,
) -> int:  # fmt: skip
    """Show who gets in."""
    output_format(report_format)
    with Yard(job) as yard:
        found = run(yard.unit(yard.units([unit])[0]), source, service, account)
    screen = Screen(no_color, output)
    if report_format == "json":
        screen.raw(json.dumps(_document(found, source), indent=2, sort_keys=True))
    else:
        _show(screen, found, source, full)
    screen.close()
    surely = all(one.who.sure == one.who.possible for one in found.services)
    return 0 if surely else 4


def _show(screen: Screen, found: WhoGetsIn, source: str, full: bool) -> None:
    when = found.read[:16].replace("T", " ")
    screen.say(
        (found.unit, "head"), f"  WHO GETS IN{f' from {source}' if source else ''}, by the settings read {when} UTC"
    )
    for one in found.services:
        head: tuple[Cell, ...] = ((f"{one.service}  ", "head"), f"{one.at.transport} {one.at.port}  ")
        if not source:
            screen.say(*head, *_sets(one.who))
        for accounts, answer in [([name], answer) for name, answer in one.asked] if full else _alike(one):
            why = "" if full else _because(answer)
            verdict = (f"as {listed(accounts)}: ", VERDICT[answer.admitted], f": {why}" if why else "")
            screen.say(*head, *verdict)
            for condition in answer.conditions if full else ():
                style = "unknown" if condition.holds is None else ""
                screen.say((f"{ANSWER[condition.holds]:<10}", style), condition.why, indent=4)
    screen.say(("WHAT DECIDES", "head"))
    for one in found.services:
        decisions = _decisions(one, source)
        shown = decisions if full else decisions[:MOST_DECISIONS]
        for decision in shown:
            screen.say(f"{one.service}: {_decision(decision, source)}")
        if more := len(decisions) - len(shown):
            screen.say((f"{more} more: --all", "faint"), indent=2)
        screen.say(f"{one.service}: {one.own_limit}")
    for line in found.odd:
        screen.say(("LOOK AT  ", "medium"), line)


def _alike(one: Access) -> list[tuple[list[str], Admission]]:
    """Accounts that meet the same, together."""
    found: dict[tuple[bool | None, str], tuple[list[str], Admission]] = {}
    for account, answer in one.asked:
        found.setdefault((answer.admitted, _because(answer)), ([], answer))[0].append(account)
    return list(found.values())


def _because(answer: Admission) -> str:
    """What decides, in one line; of what was not read only how it is called."""
    unread = [one.paths for one in answer.because if one.holds is None and len(one.paths) == 1]
    whys = [one.why for one in answer.because if one.paths not in unread]
    leaves = [path[-1] for paths in unread for path in paths]
    return "; ".join(dict.fromkeys([*whys, *([f"{listed(leaves)} not read"] if leaves else [])]))


def _decisions(one: Access, source: str) -> tuple[Decision, ...]:
    return one.who.passes.deciding(source) if source else one.who.passes.decisions


def _sets(one: Sources) -> list[str | tuple[str, str]]:
    if one.sure == one.possible:
        return [f"{_of(one.sure)} may log in"]
    return [("surely ", "faint"), _of(one.sure), ("; possibly ", "faint"), (_of(one.possible), "unknown")]


def _of(sources: AddressSet) -> str:
    """A set in the shorter of two ways: what is in it, or what is not; of many blocks the first."""
    rest = addresses(ANYONE - sources)
    but = sources != ANYONE and len(rest) < len(addresses(sources))
    blocks = rest if but else addresses(sources)
    more = f" and {len(blocks) - MOST_BLOCKS} blocks more" if len(blocks) > MOST_BLOCKS else ""
    return f"{'anyone but ' if but else ''}{', '.join(blocks[:MOST_BLOCKS])}{more}"


def _decision(one: Decision, source: str) -> str:
    verb = {"pass": "lets in", "block": "blocks"}.get(one.verdict, "does something not known here with")
    return f"{one.rule} {'' if one.surely else 'may be the one that '}{verb} {source or _of(one.sources)}"


def _document(found: WhoGetsIn, source: str) -> dict[str, Any]:
    return {
        "unit": found.unit, "read": found.read, "look at": list(found.odd),
        "services": {one.service: _service(one, source) for one in found.services},
    }  # fmt: skip


def _service(one: Access, source: str) -> dict[str, Any]:
    decisions = [
        {"rule": d.rule, "verdict": d.verdict, "sources": list(d.sources.texts()), "surely": d.surely}
        for d in _decisions(one, source)
    ]
    asked = {
        account: {"admitted": answer.admitted, "because": [[c.why, c.holds] for c in answer.conditions]}
        for account, answer in one.asked
    }
    return {
        "port": one.at.port,
        "transport": one.at.transport,
        "sure": list(one.who.sure.texts()),
        "possible": list(one.who.possible.texts()),
        "own limit": one.own_limit,
        "decisions": decisions,
        "asked": asked,
    }
