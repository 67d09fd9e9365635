"""The job as values: what the owner wants and allows, and the view of it that one unit needs.

Built by the adapter that reads `yard.yaml`; no file, no parser here.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from .addresses import NOBODY, AddressSet
from .doors import Door
from .secret import Ref


@dataclass(frozen=True)
class OwnAccount:
    """An account the owner wants on each unit."""

    name: str
    role: str
    whose: str
    until: str = ""
    keys: tuple[str, ...] = ()  # fingerprints of the SSH keys that may open it, SHA256:...


@dataclass(frozen=True)
class Segment:
    """Where units go: its network, who administers and monitors from where, and an address that must be refused."""

    name: str
    network: AddressSet
    administrators: AddressSet
    monitoring: AddressSet
    laptop: str
    stranger: str = ""
    gateway: str = ""


@dataclass(frozen=True)
class Waiver:
    """A rule the owner lives without, on one unit or on all (`*`), with a reason, a name and an end."""

    rule: str
    unit: str
    reason: str
    owner: str
    until: str


@dataclass(frozen=True)
class Allows:
    """What the owner allows. Nothing is allowed unless it is written down."""

    restart: bool = False
    remove_factory_accounts: bool = False
    terms: str = ""  # who accepts licence terms; empty = nobody may


@dataclass(frozen=True)
class UnitEntry:
    """One unit of the work order."""

    name: str
    family: str
    address: str
    segment: str
    serial: str = ""
    hardware: str = ""
    needed: frozenset[str] = frozenset()
    ports: Mapping[str, int] = field(default_factory=dict)
    account: str = ""
    note: str = ""


@dataclass(frozen=True)
class Server:
    """A server the units rely on. `here` says whether it can be reached today; if not, its proof is owed on site."""

    kind: str
    address: str
    here: bool


@dataclass(frozen=True)
class Job:
    """The whole job file."""

    title: str
    owner: str
    technician: str
    baseline: str
    segments: Mapping[str, Segment]
    accounts: tuple[OwnAccount, ...]
    units: Mapping[str, UnitEntry]
    banner: str = ""
    servers: tuple[Server, ...] = ()
    allows: Allows = Allows()
    waivers: tuple[Waiver, ...] = ()
    safe: str = "safe.kdbx"
    copy: str = ""
    copy_waiver: str = ""
    monitored_by: frozenset[str] = frozenset({"snmp"})


@dataclass(frozen=True)
class Site:
    """The job as one unit sees it: all a rule may know besides the plane."""

    unit: str
    laptop: str
    must: AddressSet  # sources that have to get in: administrators, monitoring, the laptop
    may: AddressSet  # sources that may get in
    stranger: str = ""
    serial: str = ""
    hardware: str = ""
    accounts: tuple[OwnAccount, ...] = ()
    needed: frozenset[str] = frozenset()
    banner: str = ""
    allows: Allows = Allows()
    factory: frozenset[str] = frozenset()  # names of the factory accounts of this family
    waivers: tuple[Waiver, ...] = ()
    doors: tuple[Door, ...] = ()  # where its services are met, as the job and its family say
    manual: frozenset[tuple[str, ...]] = frozenset()  # rows of the plane known from the maker's manual, not read

    def door(self, service: str) -> Door | None:
        """Where a service is met."""
        return next((one for one in self.doors if one.service == service), None)

    def secret(self, account: str) -> Ref:
        """The one entry of the safe that holds what this account shall have."""
        return Ref(f"safe:{self.unit}/{account}")

    def found(self, account: str) -> Ref:
        """The entry of the safe that keeps what opened this account as found."""
        return Ref(f"safe:{self.unit}/{account} (as found)")


def site_of(
    job: Job,
    unit: UnitEntry,
    factory: frozenset[str],
    doors: tuple[Door, ...] = (),
    manual: frozenset[tuple[str, ...]] = frozenset(),
) -> Site:
    """The view of one unit. Raises KeyError when its segment is not in the job."""
    seg = job.segments[unit.segment]
    laptop = AddressSet.of(seg.laptop) if seg.laptop else NOBODY
    sources = seg.administrators | seg.monitoring | laptop
    waivers = tuple(w for w in job.waivers if w.unit in ("*", unit.name))
    return Site(
        unit.name, seg.laptop, sources, sources, seg.stranger, unit.serial, unit.hardware,
        job.accounts, unit.needed, job.banner, job.allows, factory, waivers, doors, manual,
    )  # fmt: skip
