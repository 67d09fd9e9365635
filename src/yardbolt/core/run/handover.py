"""What the owner is handed about one unit, as typed values: the record behind every sheet."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from ..plane.evidence import Blind, Evidence
from .documents import BaselineName, FindingRow, Outside, ProofRow
from .proofs import Result, Sort


@dataclass(frozen=True, kw_only=True)
class IdentityRow:
    """Which unit it is, as far as it was read."""

    make: str | None = None
    model: str | None = None
    serial: str | None = None
    hardware: str | None = None
    software: str | None = None


@dataclass(frozen=True, kw_only=True)
class Found:
    """The state a unit was found in."""

    time: str
    inside: str
    findings: tuple[FindingRow, ...]
    outside: Outside


@dataclass(frozen=True, kw_only=True)
class Left:
    """The state a unit is left in; `proven` only where it was tried out."""

    time: str
    proven: bool
    ending: str
    findings: tuple[FindingRow, ...]
    blind: tuple[Blind, ...]


@dataclass(frozen=True, kw_only=True)
class ChangeRow:
    """A setting before and after, in words."""

    path: str
    before: str
    after: str


@dataclass(frozen=True, kw_only=True)
class StepRow:
    """A step that was carried out."""

    time: str
    run: int
    what: str
    state: str


@dataclass(frozen=True, kw_only=True)
class EntryRow:
    """Something that was asked or answered at the first entry."""

    time: str
    state: Literal["asked", "answering", "answered"]
    gate: str
    account: str = ""
    by: str = ""
    said: str = ""


@dataclass(frozen=True, kw_only=True)
class BackIn:
    """One line of the re-entry card."""

    by: str
    at: str
    source: str
    accounts: str
    host_key: str


@dataclass(frozen=True, kw_only=True)
class WaiverRow:
    """A rule the owner lives without."""

    rule: str
    reason: str
    owner: str
    until: str


@dataclass(frozen=True, kw_only=True)
class HandOver:
    """Everything the owner is handed about one unit."""

    version: Literal[1] = 1
    job: str
    owner: str
    technician: str
    unit: str
    note: str
    goes_to: str
    family: str
    identity: IdentityRow
    baseline: BaselineName
    found: Found
    left: Left
    changes: tuple[ChangeRow, ...]
    unplanned: tuple[str, ...]
    by_others: tuple[str, ...]
    steps: tuple[StepRow, ...]
    entry: tuple[EntryRow, ...]
    proofs: tuple[ProofRow, ...]
    back_in: tuple[BackIn, ...]
    secrets: tuple[str, ...]
    owed: tuple[str, ...]
    waivers: tuple[WaiverRow, ...]
    reset: str
    socket: str
    evidence: tuple[Evidence, ...]
    site: tuple[str, ...]
    not_looked_at: tuple[str, ...] = ()


# What stays unseen although every proof holds: name, the proof that bears on it, what is unseen once that was tried
# (where it is empty, nothing), and where it was not.
UNSEEN: tuple[tuple[str, Sort | None, str, str], ...] = (
    ("later", None, "", "a port that opens, or an account that comes back, after this visit"),
    ("accounts it does not list", None, "", "only what it lists was read"),
    ("strangers", Sort.STRANGER, "one address was tried, and no other", "no address was tried"),
    ("password policy", Sort.POLICY, "", "read back as it shows it; no weak password was tried"),
    ("lock-out", Sort.LOCKOUT, "", "read back as it shows it; no account was locked"),
    ("who may only see", Sort.LIMITED, "one change was tried, and no other", "no change was tried"),
    ("log lines", Sort.MARK, "", "where they go was read back; none was seen to arrive"),
)
PAGES = "pages without a login: only those that were read were asked for without one"


def unseen(proofs: Iterable[ProofRow], pages: bool) -> tuple[str, ...]:
    """What one visit cannot show, or did not try. `pages`: it is talked to over the web."""
    tried = {proof.sort for proof in proofs if proof.result != Result.NOT_TRIED.value}
    whys = ((name, after if by and by.value in tried else before) for name, by, after, before in UNSEEN)
    return (*(f"{name}: {why}" for name, why in whys if why), *([PAGES] if pages else []))
