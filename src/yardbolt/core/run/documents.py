"""What is filed on record, as typed values with a version. A plane stands in its JSON form, so that a document is
plain data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Generic, Literal, TypeVar

from ..judge.counting import Counted
from ..plane.evidence import Blind, Evidence, Leftover

if TYPE_CHECKING:
    from ..plane.leaves import Plane

PlaneTree = Mapping[str, Any]


@dataclass(frozen=True, kw_only=True)
class Box:
    """The box behind a unit's name, by the strongest mark that was read; a reset or an exchange makes another box of
    it."""

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
    cause: str = ""

    @property
    def name(self) -> str:
        """What it is about, in words."""
        from ..plane.path import parse  # the board reads documents, and has no use for words
        from ..plane.words import spoken

        return spoken(parse(self.subject)[:2])

    @property
    def counted(self) -> Counted:
        """As it counts."""
        about = "/".join(self.subject.split("/")[:2])
        return Counted(self.rule, self.number, self.title, self.severity, self.state, about)


@dataclass(frozen=True, kw_only=True)
class PortRow:
    """A port that answered: what it speaks, its first words, and what could be told of it from outside."""

    port: int
    speaks: str
    banner: str = ""
    details: Mapping[str, Any] = field(default_factory=dict)
    transport: str = "tcp"
    address: str = ""


@dataclass(frozen=True, kw_only=True)
class TrialRow:
    """A published login that was tried, by reference."""

    service: str
    account: str
    secret: str
    outcome: str
    gate: str = ""
    doubts: tuple[str, ...] = ()
    said: str = ""


@dataclass(frozen=True, kw_only=True)
class Outside:
    """What was seen from outside."""

    ports: tuple[PortRow, ...] = ()
    tried: tuple[TrialRow, ...] = ()
    silent_ports: int = 0


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
    blind: tuple[Blind, ...] = ()

    @property
    def as_plane(self) -> Plane:
        """The live plane as a value."""
        from ..plane.document import from_tree  # the board reads documents, and has no use for the table

        return from_tree(self.plane)


@dataclass(frozen=True, kw_only=True)
class CheckDocument(ReadingDocument):
    """A check: the newest, or the as-found record of a box, from outside or inside; or all that was read before what
    somebody had staged was dropped; or a look from outside alone, once the settings had been read."""

    kind: Literal["check", "as found outside", "as found", "found waiting", "from outside"]
    version: Literal[1] = 1
    box: Box = Box()
    outside: Outside = Outside()
    inside: str = ""
    complete: bool = False
    not_looked_at: tuple[str, ...] = ()
    notices: tuple[str, ...] = ()
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
    """The as-left record: read again and tried out. `started` is when the unit says it was started last (ISO 8601,
    UTC)."""

    kind: Literal["as left"] = "as left"
    version: Literal[1] = 1
    box: Box = Box()
    by: str = ""
    run: int = 0
    started: str = ""
    family: str = ""
    baseline: BaselineName | None = None
    findings: tuple[FindingRow, ...] = ()
    proofs: tuple[ProofRow, ...] = ()
    changed: tuple[str, ...] = ()
    unplanned: tuple[str, ...] = ()
    by_others: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    owed: tuple[str, ...] = ()


def sound(left: LeftDocument) -> bool:
    """Did nothing that was tried fail, and is all as it was planned? What could not be tried is owed, and said so."""
    return not (any(proof.result == "fails" for proof in left.proofs) or left.unplanned or left.missing)


@dataclass(frozen=True, kw_only=True)
class WantRow:
    """One thing wanted, as it was approved."""

    path: str
    rule: str
    kind: Literal["set", "gone", "present"]
    value: Any = None


@dataclass(frozen=True, kw_only=True)
class TargetDocument:
    """What was approved: the target, the set of changes, what of the target cannot be done here, the leaps that were
    consented to, the run, and digests of the files it was planned from."""

    kind: Literal["target"] = "target"
    version: Literal[1] = 1
    target: tuple[WantRow, ...]
    changes: tuple[str, ...]
    run: int
    gaps: tuple[str, ...] = ()
    leaps: tuple[str, ...] = ()
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
