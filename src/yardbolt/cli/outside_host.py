"""`check --at`: look at any host from outside, with no job and no family; nothing is written down but on request."""

from __future__ import annotations

import asyncio
import json
from dataclasses import asdict
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from yardbolt.adapters.files import load_baseline, shipped
from yardbolt.adapters.knock import TcpKnocker
from yardbolt.adapters.wordlist import common_passwords
from yardbolt.application.outside import look_at
from yardbolt.core.addresses import NOBODY
from yardbolt.core.baseline import Baseline, Finding, judge
from yardbolt.core.dialogue import clean
from yardbolt.core.errors import OperatorError, Trouble, UnitError
from yardbolt.core.job import Site
from yardbolt.core.passwords import Demands, weaknesses
from yardbolt.core.plane import Plane, make, put, whole
from yardbolt.core.ports import Credential, Place, Port
from yardbolt.core.rules.rule import State
from yardbolt.core.secret import Ref, Secret

from . import views, wiring
from .screen import Screen

RULES = ("plain-service", "ssh-old", "unexplained-port", "factory-login", "weak-password")
MOST_TRIES = 2


def check(at: str, source: str, logins: list[str], form: str, output: Path | None, quiet: bool, no_color: bool) -> int:
    """Look, try what was typed, show. Raises OperatorError on a wrong address, UnitError when nothing answers."""
    for text in filter(None, (at, source)):
        try:
            ip_address(text)
        except ValueError:
            raise OperatorError(f"found '{text}'; an IPv4 or IPv6 address is wanted, such as 192.0.2.1") from None
    if form not in ("text", "json"):
        raise OperatorError(f"--format: found '{form}'; allowed: text, json")
    if len(logins) > MOST_TRIES:
        raise OperatorError(f"{len(logins)} logins to try; {MOST_TRIES} at most, because the lock-out of this host is not known")
    typed = [(name, wiring.ask_secret(f"Password of {name} (may be blank): ")) for name in logins]
    progress = wiring.Progress(quiet)
    ports, tried = asyncio.run(_look(at, source, typed, progress))
    progress.clear()
    if not ports:
        raise UnitError(Trouble.UNREACHABLE, f"{at}: no port answers; check the address, the cable and your own address")
    plane = _plane(ports, tried)
    baseline = load_baseline(shipped("baselines")["hand-tight"])
    part = Baseline(baseline.name, baseline.version, baseline.meaning, tuple(x for x in baseline.lines if x.rule in RULES))
    found = tuple(f for f in judge(plane, part, Site("", source, NOBODY, NOBODY)) if f.state is not State.NOT_APPLICABLE)
    s = Screen(no_color, output)
    if form == "json":
        s.raw(json.dumps(_document(at, ports, tried, found), indent=2, sort_keys=True))
    else:
        _show(s, at, source, ports, tried, found)
    s.close()
    return 3 if any(f.state is State.FAILS for f in found) else 4


async def _look(at: str, source: str, typed: list[tuple[str, Secret]], progress: wiring.Progress) -> tuple[tuple[Port, ...], list[dict[str, Any]]]:
    knocker = TcpKnocker(lambda done: progress(f"{at}: {done:,} of 65,535 ports looked at"))
    ports = await look_at(knocker, at, source)
    tried = []
    for name, secret in typed:
        for p in ports:
            if p.speaks != "ssh":
                continue
            progress(f"{at}: trying {name} on port {p.port}")
            channel = wiring.dial_with(lambda ref, s=secret: s, "ssh", "commands", "")  # type: ignore[misc]
            try:
                opening = await channel.open(Place(at, p.port, source, "ssh"), Credential(name, Ref("typed:0")))
            finally:
                await channel.close()
            weak = (
                weaknesses(secret.reveal(), Demands(12, 3, 3, 3), {name, *p.banner.split("-")}, common_passwords())
                if opening.state == "opened"
                else ()
            )
            tried.append(
                {
                    "port": p.port,
                    "account": name,
                    "outcome": opening.state,
                    "said": clean(opening.said)[:200],
                    "host key": opening.fingerprint,
                    "weakness": list(weak),
                }
            )
            break
    return ports, tried


def _plane(ports: tuple[Port, ...], tried: list[dict[str, Any]]) -> Plane:
    plane = whole(Plane(), "answering")
    for p in ports:
        path = ("answering", f"tcp-{p.port}")
        plane = make(plane, path)
        for name, value in (("port", p.port), ("speaks", p.speaks), ("banner", p.banner)):
            plane = put(plane, (*path, name), value)
        if p.speaks == "ssh":
            service = ("services", "ssh" if not any(s.key == "ssh" for s in plane.services.items) else f"ssh-{p.port}")
            plane = make(plane, service)
            for name, value in (("port", p.port), ("enabled", True), ("encrypted", True), *p.details.items()):
                plane = put(plane, (*service, name), value)
    for t in tried:
        if t["outcome"] == "opened":
            plane = put(make(plane, ("accounts", t["account"])), ("accounts", t["account"], "weakness"), t["weakness"])
    return plane


def _document(at: str, ports: tuple[Port, ...], tried: list[dict[str, Any]], found: tuple[Finding, ...]) -> dict[str, Any]:
    from yardbolt.application.check import finding_document

    return {"at": at, "ports": [asdict(p) for p in ports], "logins": tried, "findings": [finding_document(f) for f in found]}


def _show(s: Screen, at: str, source: str, ports: tuple[Port, ...], tried: list[dict[str, Any]], found: tuple[Finding, ...]) -> None:
    s.line((at, "head"), f"  from outside only{f', from {source}' if source else ''}; no family, so the settings inside stay unknown")
    s.head("Doors", f"{len(ports)} of 65,535 ports answer")
    for p in ports:
        plain = ("  PLAIN TEXT", "bad") if p.speaks in ("telnet", "http", "ftp") else ""
        s.line((f"{p.port:<6}", "head"), f"{p.speaks:<8} {p.banner}", plain, indent=2)
        for name, value in p.details.items():
            shown = ", ".join(value) if isinstance(value, tuple | list) else str(value)
            s.line((f"{name.replace('_', ' ')}: ", "faint"), shown, indent=17)
    if tried:
        s.head("Logins that were typed")
        s.rows(
            [
                [
                    t["account"],
                    f"port {t['port']}",
                    (t["outcome"], "bad" if t["outcome"] == "opened" else "good"),
                    ", ".join(t["weakness"]) or t["host key"],
                ]
                for t in tried
            ]
        )
    views.findings(s, found)
    s.line("")
    s.line(("Next: ", "next"), "yardbolt new FOLDER, with this unit in yard.yaml, to read it inside")
