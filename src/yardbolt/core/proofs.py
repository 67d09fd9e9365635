"""Proofs: claims derived from what was found and what is wanted, each with its positive control (I10, D17).

A refusal counts only beside a positive control: a good login on that channel just before and after, or the same source admitted
as found. Silence is not a refusal. What could not be tried says why, and never counts as passed.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import Enum

from .access import Way, admit
from .family import Family
from .job import Site
from .paths import Path
from .plane import Plane, exists, get
from .secret import Ref


class Sort(Enum):
    """What is tried."""

    OPENS = "login opens"
    ALTERED = "altered password refused"
    FACTORY = "factory login refused"
    CLOSED = "port closed"
    STRANGER = "stranger refused"
    KEY = "host key as noted"


@dataclass(frozen=True)
class Claim:
    """One thing to try. `backs` are the paths it proves. `control` says what makes a refusal count."""

    sort: Sort
    text: str
    service: str
    source: str
    port: int
    account: str = ""
    secret: Ref = Ref("")
    control: str = ""
    backs: frozenset[Path] = frozenset()
    free: bool = False  # there is no such account any more, so trying costs nobody a try


class Result(Enum):
    """What came of a claim."""

    HOLDS = "holds"
    FAILS = "fails"
    NOT_TRIED = "could not be tried"


@dataclass(frozen=True)
class Proof:
    """A claim with its result, what was seen, and the control that was made."""

    claim: Claim
    result: Result
    saw: str
    control: str = ""


def claims(f: Family, now: Plane, site: Site, ways: Iterable[Way], ports: dict[str, int]) -> tuple[Claim, ...]:
    """Everything that can be tried without writing, most useful first. `ports` gives the port of each service."""
    good = sorted(ways, key=lambda w: (get(now, ("accounts", w.account, "role")) != "full", w))
    out: list[Claim] = []
    live = [c.service for c in f.channels if get(now, ("services", c.service, "enabled")) is not False]
    for w in good:
        admitted = admit(now, w)
        out.append(
            Claim(Sort.OPENS, f"{w.account} logs in by {w.service}", w.service, w.source, ports[w.service], w.account, w.secret,
                  "", frozenset(c.path for c in admitted.conditions))
        )  # fmt: skip
    for s in live:
        out.append(Claim(Sort.KEY, f"{s} shows the host key that was noted", s, site.laptop, ports[s], control="the key noted at the first login"))
    for w in good[:1]:
        out.append(
            Claim(Sort.ALTERED, f"{w.account} with the last character changed is refused", w.service, w.source, ports[w.service], w.account, w.secret,
                  "the right one opens just before and after", frozenset({("accounts", w.account, "secret")}))
        )  # fmt: skip
    for login in f.factory.logins:
        for s in live:
            out.append(
                Claim(Sort.FACTORY, f"factory login {login.account or '(no name)'} is refused by {s}", s, site.laptop, ports[s], login.account, login.ref,
                      "a good login by the same service just before and after", frozenset({("accounts", login.account)}),
                    exists(now, ("accounts", login.account)) is False)
            )  # fmt: skip
    for c in f.channels:
        if get(now, ("services", c.service, "enabled")) is False:
            out.append(
                Claim(Sort.CLOSED, f"{c.service} no longer answers on port {ports[c.service]}", c.service, site.laptop, ports[c.service],
                      control="the unit answers on another port at the same moment", backs=frozenset({("services", c.service, "enabled")}))
            )  # fmt: skip
    if site.stranger:
        for s in live:
            out.append(
                Claim(Sort.STRANGER, f"{s} turns away {site.stranger}, which has no business here", s, site.stranger, ports[s],
                      control="the laptop is let in by the same service just before and after", backs=frozenset({("services", s, "permitted")}))
            )  # fmt: skip
    return tuple(out)


def settle(claim: Claim, outcome: str, control: bool) -> Proof:
    """Judge what was seen. Outcomes: opened, prompted, admitted, refused, locked, closed, silent, same, changed, untried: why."""
    word, _, why = outcome.partition(": ")
    if word == "untried":
        return Proof(claim, Result.NOT_TRIED, why)
    if claim.sort is Sort.OPENS:
        return Proof(claim, Result.HOLDS if word == "opened" else Result.FAILS, word)
    if claim.sort is Sort.KEY:
        return Proof(claim, {"same": Result.HOLDS, "changed": Result.FAILS}.get(word, Result.NOT_TRIED), outcome, claim.control)
    if word in ("opened", "prompted", "admitted"):
        return Proof(claim, Result.FAILS, word, claim.control)
    if word in ("silent", "locked"):
        reason = "silence is not a refusal" if word == "silent" else "the account is locked, which refuses everybody"
        return Proof(claim, Result.NOT_TRIED, f"{word}: {reason}")
    if not control:
        return Proof(claim, Result.NOT_TRIED, f"{word}, but the control failed: {claim.control}")
    return Proof(claim, Result.HOLDS, word, claim.control)
