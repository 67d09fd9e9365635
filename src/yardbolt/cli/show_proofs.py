"""Proofs on screen: those of one sort that held on one line, each that did not on its own; then whether the unit may be
unplugged, and what is owed."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from yardbolt.application.prove import Proved
from yardbolt.application.unit import UnitInWork
from yardbolt.core.addresses import AddressSet
from yardbolt.core.judge.access import comes_back
from yardbolt.core.judge.counting import count
from yardbolt.core.judge.who import passing
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.path import Path
from yardbolt.core.plane.path import show as show_written
from yardbolt.core.plane.table import is_item
from yardbolt.core.plane.words import brief, human, in_few_words, listed, spoken
from yardbolt.core.run.documents import sound
from yardbolt.core.run.ending import Ending, ending
from yardbolt.core.run.proofs import WRONG, Proof, Result, Sort, shown_by

from . import show
from .screen import Screen
from .values import PLAIN, Depth

# told on the line of what was tried at the same moment, or with the same account
BESIDE = {Sort.ANSWERED: (Sort.UNSEALED, Sort.COMMUNITY), Sort.POLICY: (Sort.LOCKOUT,)}
MADE = " passwords lock an account made for it"
WORDS = {Result.HOLDS: ("ok", "good"), Result.FAILS: ("FAILS", "bad"), Result.NOT_TRIED: ("not tried", "unknown")}


def held(sort: Sort, proofs: list[Proof]) -> str:
    """Proofs of one sort that held, in one line."""
    accounts, services = listed(p.claim.account for p in proofs), listed(p.claim.service for p in proofs)
    match sort:
        case Sort.OPENS:
            return f"{accounts} {'log' if len(proofs) > 1 else 'logs'} in by {services}"
        case Sort.KEY:
            shown = listed(shown_by(proof.claim.service) for proof in proofs)
            one = len({proof.claim.service for proof in proofs}) == 1
            return f"{services} {'shows' if one else 'show'} the {shown} that {'was' if one else 'were'} noted"
        case Sort.FACTORY:
            return f"published logins refused by {services}: {accounts}"
        case Sort.CLOSED:
            shut = list(dict.fromkeys(proof.claim.text.partition(" no longer")[0] for proof in proofs))
            return f"{listed(shut)} closed: {'their ports refuse' if len(proofs) > 1 else 'its port refuses'}"
        case Sort.STRANGER:
            near = proofs[0].claim.door.address
            sources = AddressSet.of(*(proof.claim.source for proof in proofs))
            return f"{brief(sources, near)} is blocked by {services}"
        case Sort.ALTERED | Sort.BLANK | Sort.NAMED:
            return f"{accounts}: {sort.value}"
        case Sort.ADMITTED:
            sources = AddressSet.of(*(proof.claim.source for proof in proofs))
            return f"{services} lets in {brief(sources, proofs[0].claim.door.address)}, which the job allows"
        case Sort.ANSWERED:
            return f"SNMP answers {accounts}, encrypted"
        case Sort.UNSEALED | Sort.COMMUNITY:
            return f"and {'not unencrypted' if sort is Sort.UNSEALED else 'no published community'}"
        case Sort.POLICY | Sort.LOCKOUT | Sort.MARK | Sort.LIMITED:
            return "; ".join(proof.claim.text for proof in proofs)
        case Sort.ENDED:
            return f"{accounts}: its login by {services} was ended, and is refused"
        case Sort.REMOVED:
            return f"{accounts}: removed; the old password is refused"
        case _:
            return f"{sort.value}: {accounts}"


def lines(proofs: Iterable[Proof], full: bool) -> Iterator[tuple[tuple[str, str], str, str]]:
    """The proofs in few lines."""
    groups: dict[Sort, list[Proof]] = {}
    for proof in proofs:
        if proof.result is Result.HOLDS and not full:
            groups.setdefault(proof.claim.sort, []).append(proof)
    wrong = {tuple(p.claim.account for p in groups.get(sort, ())) for sort in WRONG}
    beside = {
        at: [part for sort in more if (part := groups.pop(sort, []))] for at, more in BESIDE.items() if at in groups
    }
    for sort, some in groups.items():
        if sort in beside:
            more = (held(part[0].claim.sort, part).replace(MADE, " ones lock it") for part in beside[sort])
            yield WORDS[Result.HOLDS], ", ".join([held(sort, some), *more]), ""
        elif sort not in WRONG or len(wrong) > 1:
            yield WORDS[Result.HOLDS], held(sort, some), ""
        elif sort is Sort.ALTERED:
            # every one of them refused for the same accounts: one line
            accounts = listed(p.claim.account for p in some)
            yield WORDS[Result.HOLDS], f"{accounts}: altered, blank and account-name passwords are refused", ""
    for proof in proofs:
        if full or proof.result is not Result.HOLDS:
            control = f" (control: {proof.control})" if full and proof.control else ""
            yield WORDS[proof.result], proof.claim.text, f"{proof.saw}{control}"


def proved(screen: Screen, found: Proved, unit: UnitInWork, depth: Depth = PLAIN, done: str = "") -> None:
    """The as-left state; `done` says what was done before it."""
    good = sum(proof.result is Result.HOLDS for proof in found.proofs)
    screen.say(
        (found.unit, "head"),
        f"  AS LEFT  {done}{good} of {len(found.proofs)} proofs hold; ",
        show.verdict(found.findings),
    )
    for (word, style), text, saw in lines(found.proofs, bool(depth)):
        screen.item((f"{word:<10}", style), text, (f": {saw}" if saw else "", "faint"))
    if found.changed and depth:
        screen.head("AS FOUND AND AS LEFT")
        screen.rows([[spoken(path), _side(path, a), "->", _side(path, b)] for path, a, b in found.changed], indent=0)
    for path in found.unplanned:
        screen.say(("NOT PLANNED  ", "bad"), f"{spoken(path)} changed, and no step did that")
    if found.by_others:
        several = listed(in_few_words(found.by_others))
        screen.say(("MEANWHILE  ", "faint"), f"somebody else changed {several}")
    for path in found.missing:
        left_out = unit.record.history().left_out.get(show_written(path))
        why = f": {left_out.why}" if left_out else " does not read as wanted, or could not be read"
        screen.item(("NOT DONE  ", "bad"), f"{spoken(path)}{why}")
    if any(show_written(path) in unit.record.history().left_out for path in found.missing):
        screen.say(
            (f"What was left out is tried once more by: yardbolt tighten {found.unit} --again", "faint"), indent=2
        )
    show.findings(screen, found.findings, depth)
    _ending(screen, found, unit)


ENDINGS = {Ending.NOT_DONE: "bad", Ending.FINDINGS: "bad", Ending.OWED: "medium", Ending.DONE: "good"}


def _ending(screen: Screen, found: Proved, unit: UnitInWork) -> None:
    """How it is left, what is owed, and whether it may be unplugged."""
    owed, counted = "; ".join(found.document.owed), count(one.counted for one in found.findings)
    amiss = sum(proof.result is Result.FAILS for proof in found.proofs) + len(found.unplanned) + len(found.missing)
    left = ending(sound(found.document), counted, bool(owed))
    unknown = f"; {counted.unknown} not judged" if counted.unknown else ""
    told = {
        Ending.NOT_DONE: f"{amiss} of the above failed, or {'is' if amiss == 1 else 'are'} not as planned",
        Ending.FINDINGS: f"still {counted.in_words()}",
        Ending.DONE: f"as planned and tried; nothing is owed{unknown}",
    }
    if left in told:
        screen.say((f"{left.value.upper()}  ", ENDINGS[left]), told[left])
    if owed:
        screen.item(("OWED  ", ENDINGS[Ending.OWED]), owed)
    if lost := _lost_with_the_power(found, unit):
        screen.item(("DO NOT UNPLUG  ", "bad"), lost)
    else:
        screen.item(("SAFE TO UNPLUG  ", "good"), "nothing waits to be saved")


def _lost_with_the_power(found: Proved, unit: UnitInWork) -> str:
    """What goes wrong where it is unplugged now; empty where nothing does."""
    unkept = found.plane.stores.differences
    # the services people log in by must be there again after it
    by = [one.key for one in found.plane.services if one.key in unit.family.services() and one.enabled is not False]
    if by and not any(comes_back(found.plane, key) for key in by):
        known = any(comes_back(found.plane, key) is False for key in by)
        return (
            f"{by[0]} {'does not start' if known else 'may not start (that was not read)'} when it is switched on again"
        )
    # where nothing has to be saved, what is live is kept
    if unkept in (0, ABSENT) or unit.family.op_keeping() is None:
        return ""
    return (
        "whether everything is saved was not read"
        if unkept is None
        else f"{unkept} settings are not saved and would be lost"
    )


def after(found: Proved, unit: UnitInWork) -> str:
    """The next command: anyone who had business with a unit that has moved where it was goes now; a laptop that is
    let in only for the work leaves last of all."""
    goes, open_to_more = (
        unit.facts.entry.goes_to,
        any(row.rule == "open-sources" and row.state == "fails" for row in found.document.findings),
    )
    if goes and goes.address == unit.facts.entry.address and open_to_more and sound(found.document):
        return f"yardbolt steps {unit.name}"
    return f"yardbolt {'leave' if sound(found.document) and passing(found.plane, unit.site) else 'sheet'} {unit.name}"


def _side(path: Path, value: object) -> str:
    return value if isinstance(value, str) and is_item(path) else "not set" if value is ABSENT else human(path, value)
