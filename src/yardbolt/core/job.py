"""The job as values: what the owner wants and allows, and the view of it that one unit needs.

Built by the adapter that reads `yard.yaml`; no file, no parser here.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from .addresses import NOBODY, AddressSet
from .doors import Door
from .secret import Ref

GUARD_KEY = "guard key"  # what is called so in the safe is no account's: it seals what a unit stores
CONSOLE = "console "
RIGHTS = ("full", "change", "read")  # what every make has; besides them an account may have a role of the owner's


def console_word(line: str) -> str:
    """What the safe calls the word of a console, which is no account's either."""
    return f"{CONSOLE}{line}"


def opens_a_login(name: str) -> bool:
    """Is an entry of this name in the safe an account's?"""
    return name != GUARD_KEY and not name.startswith(CONSOLE)


@dataclass(frozen=True)
class OwnAccount:
    """An account the owner wants on each unit."""

    name: str
    role: str
    whose: str
    until: str = ""
    keys: tuple[str, ...] = ()  # fingerprints of the SSH keys that may open it, SHA256:...
    public: tuple[tuple[str, str], ...] = ()  # fingerprint -> the public key, where the job gives it
    by: str = ""  # "snmp": it asks by SNMP, and logs in nowhere
    codes: str = ""  # the mailbox codes are sent to that it is asked for with its password


@dataclass(frozen=True)
class OwnRole:
    """A role the owner wants on units that know roles: what it may do, area by area, as those units call them;
    nothing where nothing is said."""

    name: str
    areas: tuple[tuple[str, str], ...]

    def may(self, area: str) -> str:
        """What it may do there."""
        return dict(self.areas).get(area, "none")


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
    laptop_also: str = ""  # the laptop's address of the other family
    stranger_also: str = ""  # an address of the other family that must be refused
    stands_in: tuple[
        str, ...
    ] = ()  # addresses of administrators and monitors that this laptop holds today, besides its own


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
    foreign: frozenset[str] = (
        frozenset()
    )  # what nobody knows and may be ended: accounts, keys, jobs, or a file by its path
    drop_edits: bool = False  # what somebody staged and never put in force


@dataclass(frozen=True)
class GoesTo:
    """Where a unit is moved to: its address with prefix length, the segment it is in then, its gateway."""

    at: str
    segment: str
    through: str = ""

    @property
    def address(self) -> str:
        """The address alone."""
        return self.at.partition("/")[0]


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
    also: str = ""  # its address of the other family, which is looked at too
    goes_to: GoesTo | None = None
    outdated: bool = False  # it may be spoken to by outdated TLS or SSH, where it has nothing else
    code_noted: str = ""  # where the code of its maker's support was noted


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
    alerts: frozenset[str] = frozenset()  # who units write to
    roles: tuple[OwnRole, ...] = ()


@dataclass(frozen=True)
class Site:
    """The job as one unit sees it: all a rule may know besides the plane."""

    unit: str
    laptop: str
    administrators: AddressSet
    monitoring: AddressSet = NOBODY
    stranger: str = ""
    serial: str = ""
    hardware: str = ""
    accounts: tuple[OwnAccount, ...] = ()  # those that log in
    askers: tuple[OwnAccount, ...] = ()  # those that ask by SNMP
    needed: frozenset[str] = frozenset()
    banner: str = ""
    allows: Allows = Allows()
    factory: frozenset[str] = frozenset()  # names of the factory accounts of this family
    waivers: tuple[Waiver, ...] = ()
    doors: tuple[Door, ...] = ()  # where its services are met, as the job and its family say
    monitored_by: frozenset[str] = frozenset()  # the services monitoring stations look by
    today: str = ""  # YYYY-MM-DD; accounts that were to end before it have no business here any more
    log_servers: frozenset[str] = frozenset()  # where the job says that logs go
    time_servers: frozenset[str] = frozenset()  # where the job says that its time comes from
    manual: frozenset[tuple[str, ...]] = frozenset()  # rows of the plane known from the maker's manual, not read
    laptop_also: str = ""
    stranger_also: str = ""
    also: str = ""  # the unit's own address of the other family
    stands_in: tuple[str, ...] = ()
    alerts: frozenset[str] = frozenset()  # who it is to write to
    at: str = ""  # where it is met
    goes_to: GoesTo | None = None
    laptop_there: str = ""  # the laptop's address once the unit has moved
    code_noted: str = ""  # where the code of its maker's support was noted
    roles: tuple[OwnRole, ...] = ()
    unmade: tuple[str, ...] = ()  # accounts of the job that have a role, on a make that knows none

    @property
    def laptops(self) -> tuple[str, ...]:
        """The laptop's addresses: the one of now, and the one it will have."""
        return tuple(dict.fromkeys(one for one in (self.laptop, self.laptop_there) if one))

    def meant_for(self, service: str) -> AddressSet:
        """Who uses a service when the work is done: administrators, and those who monitor by it."""
        return self.administrators | self.monitoring if service in self.monitored_by else self.administrators

    def while_working(self, service: str) -> AddressSet:
        """The same and this laptop, which is a temporary opening where it is not an administrator's."""
        return self.meant_for(service) | AddressSet.of(*self.laptops)

    def ended(self, own: OwnAccount) -> bool:
        """Is the time of this account over?"""
        return bool(own.until and self.today and own.until < self.today)

    def door(self, service: str) -> Door | None:
        """Where a service is met."""
        return next((one for one in self.doors if one.service == service), None)

    def secret(self, account: str) -> Ref:
        """The one entry of the safe that holds the password this account is to get."""
        return Ref(f"safe:{self.unit}/{account}")

    def found(self, account: str) -> Ref:
        """The entry of the safe that keeps what opened this account as found."""
        return Ref(f"safe:{self.unit}/{account} (as found)")


def moved(unit: UnitEntry) -> UnitEntry:
    """The same where it goes to, once it is there."""
    goes = unit.goes_to
    return replace(unit, address=goes.address, segment=goes.segment, also="") if goes else unit


def site_of(
    job: Job,
    unit: UnitEntry,
    factory: frozenset[str],
    doors: tuple[Door, ...] = (),
    manual: frozenset[tuple[str, ...]] = frozenset(),
    today: str = "",
) -> Site:
    """The view of one unit. Until it has moved, anyone who has business with it here or there has it. Raises KeyError
    when its segment is not in the job."""
    seg = job.segments[unit.segment]
    goes = unit.goes_to if unit.goes_to and unit.goes_to.address != unit.address else None
    there = job.segments[goes.segment] if goes else seg
    knows_roles = ("roles",) not in manual
    waivers = tuple(w for w in job.waivers if w.unit in ("*", unit.name))
    return Site(
        unit.name,
        seg.laptop,
        seg.administrators | there.administrators,
        seg.monitoring | there.monitoring,
        seg.stranger,
        unit.serial,
        unit.hardware,
        tuple(own for own in job.accounts if not own.by and (own.role in RIGHTS or knows_roles)),
        tuple(own for own in job.accounts if own.by == "snmp"),
        unit.needed,
        job.banner,
        job.allows,
        factory,
        waivers,
        doors,
        job.monitored_by,
        today,
        frozenset(one.address for one in job.servers if one.kind == "logs"),
        frozenset(one.address for one in job.servers if one.kind == "time"),
        manual,
        seg.laptop_also,
        seg.stranger_also,
        unit.also,
        seg.stands_in,
        job.alerts,
        unit.address,
        unit.goes_to,
        there.laptop if goes else "",
        unit.code_noted,
        job.roles,
        () if knows_roles else tuple(own.name for own in job.accounts if not own.by and own.role not in RIGHTS),
    )
