"""What is filed on record, as typed values with a version. A plane stands in its JSON form, so that a document is plain data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Generic, Literal, TypeVar

from ..family.reading import Evidence, Leftover, Reading
from ..judge.baseline import Baseline, Finding
from ..plane.document import from_tree, to_tree
from ..plane.path import show
from ..plane.table import Plane

PlaneTree = Mapping[str, Any]


@dataclass(frozen=True, kw_only=True)
class Box:
    """The box behind a unit's name, by the strongest mark that was read; a reset or an exchange makes another box of it."""

    serial: str = ""
    hardware: str = ""
    key: str = ""


@dataclass(frozen=True, kw_only=True)
class FindingRow:
    """A finding on record."""

    number: int
    rule: str
    title: str
    why: str
    severity: str
    subject: str
    state: str
    saw: str
    basis: str


@dataclass(frozen=True, kw_only=True)
class PortRow:
    """A port that answered: what it speaks, its first words, and what could be told of it from outside."""

    port: int
    speaks: str
    banner: str = ""
    details: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, kw_only=True)
class TrialRow:
    """A published login that was tried, by reference."""

    service: str
    account: str
    secret: str
    outcome: str
    gate: str = ""
    said: str = ""


@dataclass(frozen=True, kw_only=True)
class Outside:
    """What was seen from outside."""

    ports: tuple[PortRow, ...] = ()
    tried: tuple[TrialRow, ...] = ()
    silent_ports: int = 0


@dataclass(frozen=True, kw_only=True)
class BlindRow:
    """An area that could not be read, and why."""

    area: str
    why: str


@dataclass(frozen=True, kw_only=True)
class BaselineName:
    """Which baseline judged it."""

    name: str
    version: str
    meaning: str = ""


@dataclass(frozen=True, kw_only=True)
class ReadingDocument:
    """A reading on record: the live plane, other stores, and what they rest on."""

    plane: PlaneTree = field(default_factory=dict)
    stores: Mapping[str, PlaneTree] = field(default_factory=dict)
    evidence: tuple[Evidence, ...] = ()
    origin: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    conflicts: tuple[str, ...] = ()
    leftovers: tuple[Leftover, ...] = ()
    blind: tuple[BlindRow, ...] = ()

    @property
    def as_plane(self) -> Plane:
        """The live plane as a value."""
        return from_tree(self.plane)


@dataclass(frozen=True, kw_only=True)
class CheckDocument(ReadingDocument):
    """A check: the newest, or the as-found record of a box, from outside or inside."""

    kind: Literal["check", "as found outside", "as found"]
    version: Literal[1] = 1
    box: Box = Box()
    outside: Outside = Outside()
    inside: str = ""
    complete: bool = False
    family: str = ""
    baseline: BaselineName | None = None
    findings: tuple[FindingRow, ...] = ()


@dataclass(frozen=True, kw_only=True)
class ProofRow:
    """A proof on record."""

    sort: str
    text: str
    service: str
    source: str
    port: int
    account: str
    secret: str
    control: str
    result: str
    saw: str
    backs: tuple[str, ...] = ()


@dataclass(frozen=True, kw_only=True)
class LeftDocument(ReadingDocument):
    """The as-left record: read afresh and tried out."""

    kind: Literal["as left"] = "as left"
    version: Literal[1] = 1
    box: Box = Box()
    by: str = ""
    run: int = 0
    family: str = ""
    baseline: BaselineName | None = None
    findings: tuple[FindingRow, ...] = ()
    proofs: tuple[ProofRow, ...] = ()
    changed: tuple[str, ...] = ()
    unplanned: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()


@dataclass(frozen=True, kw_only=True)
class WantRow:
    """One thing wanted, as it was approved."""

    path: str
    rule: str
    kind: Literal["set", "gone", "present"]
    value: Any = None


@dataclass(frozen=True, kw_only=True)
class TargetDocument:
    """What was approved: the target, the set of changes, the run, and digests of the files it was planned from."""

    kind: Literal["target"] = "target"
    version: Literal[1] = 1
    target: tuple[WantRow, ...]
    changes: tuple[str, ...]
    run: int
    inputs: Mapping[str, str] = field(default_factory=dict)
    found: PlaneTree = field(default_factory=dict)


@dataclass(frozen=True, kw_only=True)
class KeyDocument:
    """The host key noted for a service; empty where it was forgotten on purpose."""

    kind: Literal["host key"] = "host key"
    version: Literal[1] = 1
    service: str
    fingerprint: str


Document = CheckDocument | LeftDocument | TargetDocument | KeyDocument


D = TypeVar("D", bound=Document, covariant=True)


@dataclass(frozen=True)
class Filed(Generic[D]):
    """A document as it lies on record: its number, when it was filed (ISO 8601, UTC), and itself."""

    number: int
    time: str
    document: D


def filed_as(document: Document) -> str:
    """Under which kind a document is filed and found again."""
    return f"host key {document.service}" if isinstance(document, KeyDocument) else document.kind


def reading_fields(reading: Reading, plane: Plane | None = None) -> dict[str, Any]:
    """The fields of a `ReadingDocument` from a reading; `plane` stands in for its live plane where more is known by now."""
    return {
        "plane": to_tree(plane if plane is not None else reading.plane),
        "stores": {store: to_tree(one) for store, one in reading.planes.items() if store != "live"},
        "evidence": reading.evidence,
        "origin": {show(path): asks for path, asks in sorted(reading.origin.items())},
        "conflicts": tuple(show(path) for path in reading.conflicts),
        "leftovers": reading.leftovers,
        "blind": tuple(BlindRow(area=one.area, why=one.why) for one in reading.blind),
    }


def finding_rows(findings: tuple[Finding, ...]) -> tuple[FindingRow, ...]:
    """Findings for the record."""
    return tuple(
        FindingRow(
            number=one.number, rule=one.rule, title=one.title, why=one.why, severity=one.severity.value,
            subject=show(one.subject), state=one.state.value, saw=one.saw, basis=one.basis,
        )
        for one in findings
    )  # fmt: skip


def baseline_name(baseline: Baseline) -> BaselineName:
    """Which baseline it was."""
    return BaselineName(name=baseline.name, version=baseline.version, meaning=baseline.meaning)


# ---- the hand-over --------------------------------------------------------------------------------------------------


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
    findings: tuple[FindingRow, ...]
    blind: tuple[BlindRow, ...]


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
