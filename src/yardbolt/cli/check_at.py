"""`check --at`: look at any host from outside, with no job and no family; nothing is written down but on request."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from yardbolt.application.outerview import (
    Surroundings,
    answers,
    certificates,
    datagrams_meanwhile,
    look_at,
    looked_outside,
    published_communities,
)
from yardbolt.application.session import drive
from yardbolt.application.trials import others
from yardbolt.core.addresses import NOBODY, by_family, is_address
from yardbolt.core.credentials import Password
from yardbolt.core.doors import Door
from yardbolt.core.errors import OperatorError, Trouble, UnitError, clean
from yardbolt.core.job import Site
from yardbolt.core.judge.baseline import Baseline, Finding, judge
from yardbolt.core.judge.coverage import INSIDE, not_looked_at
from yardbolt.core.judge.passwords import Demands, weaknesses
from yardbolt.core.judge.rules.rule import State
from yardbolt.core.plane.edit import Draft
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.ports import Seen
from yardbolt.core.run.events import Tried, Trying
from yardbolt.core.run.filing import finding_rows
from yardbolt.core.run.history import scopes
from yardbolt.core.secret import Ref, Secret
from yardbolt.core.talk.outcomes import Login, Opened, Refused, Silent, Untried, accepted, said_by, spends_a_try, told
from yardbolt.core.talk.ways import UNDESCRIBED

from . import show, wiring
from .keyboard import Progress, ask_secret
from .screen import Cell, Screen
from .values import output_format

RULES = (
    "plain-service",
    "ssh-old",
    "factory-login",
    "weak-password",
    "nameless-files",
    "snmp-communities",
    "certificates",
)
MOST_TRIES = 2


@dataclass(frozen=True)
class Typed:
    """A login that was typed; `readable` says that it may go where it can be read on its way."""

    account: str
    secret: Secret
    readable: bool


@dataclass(frozen=True)
class TypedLogin:
    """A login that was typed, by the first door that takes it, and how it ended."""

    door: Door
    account: str
    outcome: Login
    fingerprint: str
    weakness: tuple[str, ...]

    def row(self) -> Mapping[str, Any]:
        """It as JSON."""
        return {
            "port": self.door.port, "service": self.door.scheme, "account": self.account, "outcome": told(self.outcome),
            "said": clean(said_by(self.outcome))[:200], "host key": self.fingerprint, "weakness": list(self.weakness),
        }  # fmt: skip


def check(
    at: str,
    source: str,
    logins: list[str],
    readable: bool,
    ports: tuple[int, int],
    report_format: str,
    output: Path | None,
    quiet: bool,
    no_color: bool,
) -> int:
    """Look, try what was typed, show. Raises OperatorError on a wrong address, UnitError when nothing answers."""
    met = _addresses(at, source)
    output_format(report_format)
    if len(logins) > MOST_TRIES:
        many = f"{len(logins)} logins to try; {MOST_TRIES} at most"
        raise OperatorError(f"{many}, because the lock-out of this host is not known")
    typed = [Typed(name, ask_secret(f"Password of {name} (may be blank): "), readable) for name in logins]
    progress = Progress(quiet)
    around, tried = asyncio.run(_look(met, typed, ports, progress))
    progress.clear()
    if not any(one.ports for one in around.both()):
        raise UnitError(
            Trouble.UNREACHABLE, f"{at}: no port answers; check the address, the cable and your own address"
        )
    found = _judged(around, tried, met[0][1])
    screen = Screen(no_color, output)
    if report_format == "json":
        screen.raw(json.dumps(_document(at, around, tried, found), indent=2, sort_keys=True))
    else:
        shown = " ".join(address for address, _ in met)
        _show(screen, shown if is_address(at.split(",")[0]) else f"{at} {shown}", met, around, tried, found)
    screen.close()
    return 3 if any(one.state is State.FAILS for one in found) else 4


def _judged(around: Surroundings, tried: list[TypedLogin], source: str) -> tuple[Finding, ...]:
    whole = wiring.named_baseline("hand-tight", Path())
    part = tuple(one for one in whole.requirements if one.rule in RULES)
    baseline = Baseline(whole.name, whole.version, whole.meaning, part)
    findings = judge(_plane(around, tried), baseline, Site("", source, NOBODY, NOBODY))
    return tuple(one for one in findings if one.state is not State.NOT_APPLICABLE)


def _addresses(at: str, source: str) -> list[tuple[str, str]]:
    """Where to look, and from where: an address, one of each family with a comma between, or a name that has them.
    Raises OperatorError."""
    sources = [one for one in source.split(",") if one]
    for one in sources:
        if not is_address(one):
            raise OperatorError(f"found '{one}'; an IPv4 or IPv6 address is wanted, such as 192.0.2.1")
    from_ = {by_family(one): one for one in sources}
    met: dict[str, str] = {}
    for one in at.split(","):
        for address in [one] if is_address(one) else wiring.addresses_of(one):
            if met.setdefault(by_family(address), address) != address and is_address(one):
                raise OperatorError(
                    f"found '{at}': two of {by_family(address)}; one address of each family can be looked at"
                )
    # by a family from which nothing was named, nothing is sent where one was
    out = [(address, from_.get(family, "")) for family, address in met.items() if family in from_ or not from_]
    if not out:
        raise OperatorError(f"'{at}' has no address of the family of {source}")
    return out


async def _look(
    met: list[tuple[str, str]], typed: list[Typed], ports: tuple[int, int], progress: Progress
) -> tuple[Surroundings, list[TypedLogin]]:
    (at, source), (also, also_source) = met[0], met[1] if len(met) > 1 else ("", "")
    look = wiring.TcpLook(lambda done: progress(f"{at}: {done:,} of 65,535 ports looked at"), ports)
    async with datagrams_meanwhile(look, at, source, also, also_source) as udp:
        around = (await look_at(look, at, source, also, also_source)).with_datagrams(await udp)
    doors = others((), at, around.ports)
    doors = (*doors, *(others(doors, also, around.also.ports) if around.also else ()))
    channel, _ = UNDESCRIBED
    words = {word for seen in around.ports for word in seen.banner.split("-")}
    tried = []
    for one in typed:
        for door in doors:
            progress(f"{at}: trying {one.account} by {door.scheme} on port {door.port}")
            sealed = next((d for d in doors if channel.services[d.scheme] == "sealed"), None)
            if sealed and channel.services[door.scheme] == "plain" and not one.readable:
                why = (
                    f"it would go readable, and {sealed.scheme} on port {sealed.port} is encrypted; --readable sends it"
                )
                tried.append(TypedLogin(door, one.account, Untried(why), "", ()))
            else:
                tried.append(await _try(door, source if door.address == at else also_source, one, words))
    return around, tried


async def _try(door: Door, source: str, one: Typed, words: set[str]) -> TypedLogin:
    """One typed login, counted in the laptop's own book before it is sent: two an hour, for its lock-out is not
    known."""
    channel, talk = UNDESCRIBED
    wire, book, now = (
        wiring.trial_wire(lambda ref: one.secret, door.scheme),
        wiring.book_of_tries(),
        wiring.LaptopClock().now(),
    )
    said: dict[str, Any] = {
        "account": one.account,
        "service": door.service,
        "source": source,
        "address": door.address,
        "secret": "typed:password",
    }
    outcome: Login = Untried("two wrong tries in an hour are used up; wait")
    if book.history().tries_left(one.account, 0, now, scopes("", door.address)) <= 0:
        return TypedLogin(door, one.account, outcome, "", ())
    try:
        book.append(door.address, 0, Trying(**said))
        outcome = Silent(True, "interrupted")
        ref = Ref("typed:password")
        outcome = await wire.open(door, source, one.account, Password(ref))
        if isinstance(outcome, Opened):
            outcome = await drive(wire, talk.login(channel, one.account, ref, wire.authenticates, {}))
    finally:
        await wire.close()
        spent, good = spends_a_try(outcome), accepted(outcome)
        # what one service lets in says nothing of the count of another
        book.append(
            door.address,
            0,
            Tried(**said, key=wire.fingerprint, outcome=told(outcome), spent=spent, accepted=good, apart=True),
        )
        book.close()
    weak: tuple[str, ...] = ()
    if isinstance(outcome, Opened):
        floor = Demands(12, 3, 3, 3)
        weak = weaknesses(one.secret.reveal(), floor, {one.account, *words}, wiring.common_passwords())
    return TypedLogin(door, one.account, outcome, wire.fingerprint, weak)


def _plane(around: Surroundings, tried: list[TypedLogin]) -> Plane:
    draft = Draft().put_all(answers(around)).put_all(certificates(around, wiring.LaptopClock().now()[:10]))
    if (known := published_communities(around)) is not None:
        draft.put(("snmp", "published"), known)
    if around.whole:
        draft.whole(("answering",))
    for seen in (one for one in around.ports if one.speaks == "ssh"):
        first = "ssh" not in draft.keys(("services",))
        path = ("services", "ssh" if first else f"ssh-{seen.port}")
        facts = (("port", seen.port), ("enabled", True), ("encrypted", True), *seen.details.items())
        draft.put_all(((*path, name), value) for name, value in facts)
    for login in tried:
        if isinstance(login.outcome, Opened):
            draft.put_all([(("accounts", login.account, "weakness"), login.weakness)])
    return draft.freeze()


def _document(at: str, around: Surroundings, tried: list[TypedLogin], found: tuple[Finding, ...]) -> dict[str, Any]:
    return {
        "at": at,
        "ports": [
            {"address": one.address, **asdict(seen)} for one in around.both() for seen in (*one.ports, *one.udp.seen)
        ],
        "logins": [login.row() for login in tried],
        "findings": [asdict(row) for row in finding_rows(found)],
        "not looked at": [
            f"{name}: {why}" for name, why in not_looked_at(looked_outside(around, (login.door for login in tried)))
        ],
    }


def _show(
    screen: Screen,
    called: str,
    met: list[tuple[str, str]],
    around: Surroundings,
    tried: list[TypedLogin],
    found: tuple[Finding, ...],
) -> None:
    sources = " and ".join(source for _, source in met if source)
    screen.say(
        (called, "head"),
        f"  from outside only{f', from {sources}' if sources else ''}; no family, so the settings inside stay unknown",
    )
    first: set[tuple[str, int, str]] = set()
    for one in around.both():
        at = f" at {one.address}" if around.also else ""
        looked = "65,535 ports" if one.state.whole else "the ports looked at"
        screen.head("Doors", f"{len(one.ports)} of {looked} answer{at}")
        here = {(seen.transport, seen.port, seen.speaks) for seen in (*one.ports, *one.udp.seen)}
        if first and first & here:
            screen.say((f"{len(first & here)} as at {around.address}", "faint"), indent=2)
        for seen in (*one.ports, *one.udp.seen):
            if (seen.transport, seen.port, seen.speaks) not in first:
                _door(screen, seen)
        for transport, port, speaks in sorted(first - here):
            screen.say((_number(port, transport), "head"), f"{speaks:<8} does not answer", indent=2)
        first = here
    if tried:
        screen.head("Logins that were typed")
        screen.rows([_row(login) for login in tried])
    show.findings(screen, found)
    unseen = not_looked_at(looked_outside(around, (login.door for login in tried)))
    screen.item(
        ("NOT LOOKED AT  ", "head"), ", ".join(name for name, why in unseen if why != INSIDE), ", all that is inside"
    )
    show.next_line(screen, "yardbolt new FOLDER, with this unit in yard.yaml, to read it inside")


def _number(port: int, transport: str) -> str:
    return f"{port}{'/udp' if transport == 'udp' else ''}".ljust(9)


def _door(screen: Screen, seen: Seen) -> None:
    plain = ("  PLAIN TEXT", "bad") if seen.speaks in ("telnet", "http", "ftp", "tftp") else ""
    screen.say((_number(seen.port, seen.transport), "head"), f"{seen.speaks:<8} {seen.banner}", plain, indent=2)
    for name, value in seen.details.items():
        shown = ", ".join(value) if isinstance(value, tuple | list) else str(value)
        screen.say((f"{name.replace('_', ' ')}: ", "faint"), shown, indent=20)


def _row(login: TypedLogin) -> list[Cell]:
    style = "bad" if accepted(login.outcome) else ""  # a refusal nobody can compare with is no good news
    said = "" if accepted(login.outcome) or isinstance(login.outcome, Refused) else clean(said_by(login.outcome))[:120]
    more = said or ", ".join(login.weakness) or login.fingerprint
    return [login.account, f"{login.door.scheme}, port {login.door.port}", (told(login.outcome), style), more]
