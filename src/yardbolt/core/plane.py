"""The management plane of one unit as a frozen value, and the one table everything else is derived from.

The dataclass fields below *are* the table: paths, coercion of replies, checking of family files and baselines, the JSON form,
differences and the reference in `docs/plane.md` come from them. A leaf has three states (D1): a value, `ABSENT` (read, and not
set) and `None` (not read). A list is a `Listing`; only a complete one can say that something is not there.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, fields, replace
from enum import Enum
from typing import Any, Generic, TypeVar

from .addresses import ANYONE, AddressSet
from .paths import Path, show
from .secret import Ref

T = TypeVar("T")
NEVER = math.inf


class Absent(Enum):
    """The type of `ABSENT`: the setting was read, and there is none."""

    ABSENT = "not set"

    def __repr__(self) -> str:
        return "ABSENT"


ABSENT = Absent.ABSENT


@dataclass(frozen=True)
class Listing(Generic[T]):
    """The items known, and whether that is all of them. Not read = no items, not complete."""

    items: tuple[T, ...] = ()
    complete: bool = False


# ---- kinds: how a raw value becomes a value of the plane. Each raises ValueError and never repairs -------------------------


def text(raw: Any) -> str:
    """Characters, at most 4,096 of them."""
    got = str(raw)
    if len(got) > 4096:
        raise ValueError("longer than 4096 characters")
    return got


def number(raw: Any) -> int:
    """A whole number."""
    got = str(raw).strip()
    if not got.lstrip("-").isascii() or not got.lstrip("-").isdigit() or len(got) > 18:
        raise ValueError(f"{got[:40]!r} is not a whole number")
    return int(got)


_UNIT_SECONDS = {"s": 1, "sec": 1, "m": 60, "min": 60, "h": 3600, "d": 86400}
_LENGTHS = re.compile(r"(\d{1,9}(?:\.\d{1,3})?) ?(s|sec|m|min|h|d)(?: |\Z)")


def seconds(raw: Any) -> float:
    """A length of time: `90`, `90 s`, `10 min`, `0d 2h 5m`; `never` is infinity and not 0 (D3)."""
    if isinstance(raw, (int, float)) and not isinstance(raw, bool):
        return float(raw)
    got = str(raw).strip()[:80]
    if got == "never":
        return NEVER
    pairs = _LENGTHS.findall(got)
    if pairs and not _LENGTHS.sub("", got):
        return float(sum(float(n) * _UNIT_SECONDS[u] for n, u in pairs))
    try:
        value = float(got)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise ValueError(f"{got[:40]!r} is not a length of time; write it as 90 s, 10 min, 2 h or never")
    return value


def flag(raw: Any) -> bool:
    """yes/no, true/false, on/off."""
    if isinstance(raw, bool):
        return raw
    try:
        return {"true": True, "yes": True, "on": True, "false": False, "no": False, "off": False}[str(raw).strip().lower()]
    except KeyError:
        raise ValueError(f"{str(raw)[:40]!r} is neither yes nor no") from None


def sources(raw: Any) -> AddressSet:
    """A set of addresses, from a list of texts or `anyone`."""
    if isinstance(raw, AddressSet):
        return raw
    if raw == "anyone":
        return ANYONE
    return AddressSet.of(*([raw] if isinstance(raw, str) else raw))


def wordset(raw: Any) -> tuple[str, ...]:
    """A set of words, sorted."""
    return tuple(sorted(set(raw.replace(",", " ").split() if isinstance(raw, str) else map(str, raw))))


def reference(raw: Any) -> Ref:
    """A reference to a secret."""
    return raw if isinstance(raw, Ref) else Ref(str(raw))


@dataclass(frozen=True)
class Leaf:
    """One row of the table. `steady` is false for what moves by itself (clock, sessions) and is never compared; `slack` is how far
    a value may be off and still count as reached."""

    kind: Callable[[Any], Any]
    meaning: str
    unit: str = ""
    steady: bool = True
    slack: float = 0.0


def leaf(kind: Callable[[Any], Any], meaning: str, unit: str = "", steady: bool = True, slack: float = 0.0) -> Any:
    return field(default=None, metadata={"leaf": Leaf(kind, meaning, unit, steady, slack)})


def many(item: type, meaning: str, steady: bool = True) -> Any:
    return field(default=Listing(), metadata={"item": item, "meaning": meaning, "steady": steady})


def part(cls: type, meaning: str) -> Any:
    return field(default_factory=cls, metadata={"part": cls, "meaning": meaning})


# ---- the table itself ------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Identity:
    make: str | None = leaf(text, "who made it")
    model: str | None = leaf(text, "what it is")
    serial: str | None = leaf(text, "its serial number; ties the record to the unit")
    hardware: str | None = leaf(text, "its hardware address, as printed on the case")
    software: str | None = leaf(text, "the level of its software")
    uptime: float | None = leaf(seconds, "since it was started", "seconds", steady=False)


@dataclass(frozen=True)
class Clock:
    offset: float | None = leaf(seconds, "its clock minus the laptop's", "seconds", steady=False, slack=5.0)
    zone: str | None = leaf(text, "its time zone")


@dataclass(frozen=True)
class Policy:
    min_length: int | Absent | None = leaf(number, "shortest password it accepts", "characters")
    classes: int | Absent | None = leaf(number, "how many of lower case, upper case, digit, sign a password must hold", "classes")
    max_repeat: int | Absent | None = leaf(number, "longest run of one repeated character it accepts", "characters")
    max_run: int | Absent | None = leaf(number, "longest rising or falling run (abc, 321) it accepts", "characters")
    history: int | Absent | None = leaf(number, "how many earlier passwords it refuses", "passwords")


@dataclass(frozen=True)
class Lockout:
    tries: int | Absent | None = leaf(number, "wrong tries before an account is locked", "tries")
    release: float | Absent | None = leaf(seconds, "how long it stays locked; never = until somebody unlocks it", "seconds")


@dataclass(frozen=True)
class Account:
    key: str
    role: str | Absent | None = leaf(text, "what it may do: full, change, read, none")
    enabled: bool | Absent | None = leaf(flag, "may it log in at all")
    origin: str | Absent | None = leaf(text, "who made it: factory, ours, system")
    storage: str | Absent | None = leaf(text, "how its secret is kept: one-way, reversible, clear, blank, locked, factory, own")
    permitted: AddressSet | Absent | None = leaf(sources, "from where it may log in")
    secret: Ref | Absent | None = leaf(reference, "the credential that opened it in this run")
    weakness: tuple[str, ...] | Absent | None = leaf(wordset, "what is wrong with the credential that opened it", steady=False)
    keys: tuple[str, ...] | Absent | None = leaf(wordset, "fingerprints of the SSH keys that open it (RFC 4255 form, SHA-256)")


@dataclass(frozen=True)
class Service:
    key: str
    enabled: bool | Absent | None = leaf(flag, "is it set to run")
    port: int | Absent | None = leaf(number, "where it listens")
    encrypted: bool | Absent | None = leaf(flag, "does it encrypt")
    permitted: AddressSet | Absent | None = leaf(sources, "who may connect")
    idle: float | Absent | None = leaf(seconds, "idle timeout of this service alone", "seconds")
    accounts: tuple[str, ...] | Absent | None = leaf(wordset, "the only accounts that may use it, name or name@address")
    root_login: str | Absent | None = leaf(text, "may root log in by it: yes, keys, no")
    password_login: bool | Absent | None = leaf(flag, "does it take passwords")
    blank_login: bool | Absent | None = leaf(flag, "does it take blank passwords")
    tries: int | Absent | None = leaf(number, "tries in one connection", "tries")
    grace: float | Absent | None = leaf(seconds, "time to log in", "seconds")
    key_types: tuple[str, ...] | Absent | None = leaf(wordset, "host key algorithms it offers (RFC 4253, section 7.1)")
    exchanges: tuple[str, ...] | Absent | None = leaf(wordset, "key exchanges it offers (RFC 4253, section 7.1)")
    ciphers: tuple[str, ...] | Absent | None = leaf(wordset, "ciphers it offers")
    macs: tuple[str, ...] | Absent | None = leaf(wordset, "message authentication it offers")
    config: str | Absent | None = leaf(text, "the file it takes its settings from")


@dataclass(frozen=True)
class Answering:
    key: str
    port: int | None = leaf(number, "the TCP port that answers", steady=False)
    speaks: str | None = leaf(text, "what it speaks, told from its first words: ssh, telnet, http, tls, unknown", steady=False)
    banner: str | None = leaf(text, "its first words", steady=False)


@dataclass(frozen=True)
class Listening:
    key: str
    port: int | None = leaf(number, "port")
    transport: str | None = leaf(text, "tcp or udp")
    address: str | None = leaf(text, "the address it is bound to; * is all of them")
    program: str | None = leaf(text, "the program behind it")


@dataclass(frozen=True)
class Trial:
    key: str
    service: str | None = leaf(text, "by which service", steady=False)
    account: str | None = leaf(text, "as which account", steady=False)
    secret: Ref | None = leaf(reference, "with which published credential", steady=False)
    outcome: str | None = leaf(text, "opened, refused, prompted, not ready, locked, closed, untried", steady=False)


@dataclass(frozen=True)
class Seat:
    key: str
    account: str | None = leaf(text, "who is logged in", steady=False)
    source: str | None = leaf(text, "from where", steady=False)
    service: str | None = leaf(text, "by which service", steady=False)


@dataclass(frozen=True)
class Stores:
    differences: int | Absent | None = leaf(number, "settings that are live but not kept for the next start", "settings")


@dataclass(frozen=True)
class FirstRun:
    terms: str | Absent | None = leaf(text, "licence terms: open or accepted", steady=False)
    forced: tuple[str, ...] | Absent | None = leaf(wordset, "accounts whose password it wants changed first", steady=False)


@dataclass(frozen=True)
class Plane:
    identity: Identity = part(Identity, "which unit it is")
    name: str | Absent | None = leaf(text, "what the unit calls itself")
    clock: Clock = part(Clock, "its time")
    banner: str | Absent | None = leaf(text, "the notice shown at login")
    idle: float | Absent | None = leaf(seconds, "idle timeout of every way in; never = infinity", "seconds")
    policy: Policy = part(Policy, "what it demands of passwords")
    lockout: Lockout = part(Lockout, "what it does after wrong tries")
    accounts: Listing[Account] = many(Account, "who can log in")
    services: Listing[Service] = many(Service, "ways to manage it")
    answering: Listing[Answering] = many(Answering, "ports that answer, seen from outside", steady=False)
    listening: Listing[Listening] = many(Listening, "sockets it listens on, seen from inside")
    trials: Listing[Trial] = many(Trial, "published logins that were tried", steady=False)
    sessions: Listing[Seat] = many(Seat, "who is inside", steady=False)
    stores: Stores = part(Stores, "live and kept settings")
    first_run: FirstRun = part(FirstRun, "what it asks at the first login")


def _table(cls: type, at: Path = ()) -> Iterator[tuple[Path, Leaf]]:
    for f in fields(cls):
        if "leaf" in f.metadata:
            yield (*at, f.name), f.metadata["leaf"]
        elif "part" in f.metadata:
            yield from _table(f.metadata["part"], (*at, f.name))
        elif "item" in f.metadata:
            yield (*at, f.name), Leaf(tuple, f.metadata["meaning"], "list", f.metadata["steady"])
            yield (*at, f.name, "*"), Leaf(bool, f"one of: {f.metadata['meaning']}", "item", f.metadata["steady"])
            yield from _table(f.metadata["item"], (*at, f.name, "*"))


TABLE: Mapping[Path, Leaf] = dict(_table(Plane))
LISTS: Mapping[str, type] = {f.name: f.metadata["item"] for f in fields(Plane) if "item" in f.metadata}


def pattern_of(path: Path) -> Path:
    """The row of TABLE a concrete path belongs to. Raises KeyError naming the path."""
    if path in TABLE:
        return path
    if len(path) > 1 and path[0] in LISTS and (found := (path[0], "*", *path[2:])) in TABLE:
        return found
    raise KeyError(show(path))


def coerce(path: Path, raw: Any) -> Any:
    """A raw value as the kind of its leaf. ABSENT and None pass. Raises ValueError."""
    return raw if raw is None or raw is ABSENT else TABLE[pattern_of(path)].kind(raw)


def steady(path: Path) -> bool:
    """Does the value stay unless somebody changes it?"""
    return TABLE[pattern_of(path)].steady


def reached(path: Path, now: Any, wanted: Any) -> bool:
    """Is the present value the wanted one, as closely as this leaf can be set?"""
    slack = TABLE[pattern_of(path)].slack
    return bool(abs(now - wanted) <= slack) if slack and isinstance(now, float) and isinstance(wanted, float) else bool(now == wanted)


# ---- reading and changing values -------------------------------------------------------------------------------------------


def listing(plane: Plane, name: str) -> Listing[Any]:
    """The list called `name`."""
    got = getattr(plane, name)
    assert isinstance(got, Listing)
    return got


def item(plane: Plane, path: Path) -> Any:
    """The item at `accounts/x`, or None where it was not seen."""
    return next((i for i in listing(plane, path[0]).items if i.key == path[1]), None)


def get(plane: Plane, path: Path) -> Any:
    """The value at a leaf; None where it, or its item, was not read."""
    node: Any = plane
    for step in path:
        node = next((i for i in node.items if i.key == step), None) if isinstance(node, Listing) else getattr(node, step)
        if node is None:
            return None
    return node


def exists(plane: Plane, path: Path) -> bool | None:
    """Is there such an item? None where the list was not read whole."""
    if item(plane, path) is not None:
        return True
    return False if listing(plane, path[0]).complete else None


def _with(node: Any, name: str, value: Any) -> Any:
    return replace(node, **{name: value})


def put(plane: Plane, path: Path, value: Any) -> Plane:
    """The plane with one leaf set. Creates nothing: raises KeyError where the item is not there; ValueError on a wrong kind."""
    value = coerce(path, value)
    if path[0] in LISTS:
        if item(plane, path) is None:
            raise KeyError(show(path))
        return _items(plane, path[0], (_with(i, path[2], value) if i.key == path[1] else i for i in listing(plane, path[0]).items))
    inner = value if len(path) == 1 else _with(getattr(plane, path[0]), path[1], value)
    changed: Plane = _with(plane, path[0], inner)
    return changed


def _items(plane: Plane, name: str, items: Iterable[Any]) -> Plane:
    changed: Plane = _with(plane, name, replace(listing(plane, name), items=tuple(items)))
    return changed


def make(plane: Plane, path: Path) -> Plane:
    """The plane with an item at `accounts/x`, nothing known of it; unchanged if it is there."""
    if item(plane, path) is not None:
        return plane
    return _items(plane, path[0], (*listing(plane, path[0]).items, LISTS[path[0]](key=path[1])))


def drop(plane: Plane, path: Path) -> Plane:
    """The plane without the item at `accounts/x`."""
    return _items(plane, path[0], (i for i in listing(plane, path[0]).items if i.key != path[1]))


def whole(plane: Plane, name: str) -> Plane:
    """The plane with the list `name` marked as read whole."""
    changed: Plane = _with(plane, name, replace(listing(plane, name), complete=True))
    return changed


def leaves(plane: Plane) -> Iterator[tuple[Path, Any]]:
    """Every leaf with its value, items included."""
    for f in fields(plane):
        value = getattr(plane, f.name)
        if "item" in f.metadata:
            for i in value.items:
                for g in fields(i):
                    if g.metadata:
                        yield (f.name, i.key, g.name), getattr(i, g.name)
        elif "part" in f.metadata:
            for g in fields(value):
                yield (f.name, g.name), getattr(value, g.name)
        else:
            yield (f.name,), value


def difference(a: Plane, b: Plane) -> frozenset[Path]:
    """Every path whose value differs; an item on one side only counts by its own path and its leaves."""
    one, two = dict(leaves(a)), dict(leaves(b))
    found: set[Path] = {p for p in one.keys() | two.keys() if one.get(p) != two.get(p)}
    for name in LISTS:
        keys = {i.key for i in listing(a, name).items} ^ {i.key for i in listing(b, name).items}
        found |= {(name, k) for k in keys}
    return frozenset(found)


# ---- the JSON form: a missing key was not read, null was read and is not set ------------------------------------------------


def spell(value: Any) -> Any:
    """A value as JSON writes it."""
    if value is ABSENT:
        return None
    if isinstance(value, AddressSet):
        return "anyone" if value == ANYONE else list(value.texts())
    if isinstance(value, Ref):
        return value.entry
    if isinstance(value, float):
        return "never" if math.isinf(value) else value
    return list(value) if isinstance(value, tuple) else value


def _node(node: Any) -> dict[str, Any]:
    return {f.name: spell(getattr(node, f.name)) for f in fields(node) if f.metadata and getattr(node, f.name) is not None}


def to_json(plane: Plane) -> dict[str, Any]:
    """The plane as a JSON object; `from_json` is its inverse."""
    out: dict[str, Any] = {}
    for f in fields(plane):
        value = getattr(plane, f.name)
        if isinstance(value, Listing):
            out[f.name] = {"complete": value.complete, "items": {i.key: _node(i) for i in value.items}}
        elif "part" in f.metadata:
            out[f.name] = _node(value)
        elif value is not None:
            out[f.name] = spell(value)
    return out


def from_json(tree: Mapping[str, Any]) -> Plane:
    """The plane a JSON object stands for. Raises KeyError or ValueError on what the table does not know."""
    plane = Plane()
    for name, value in tree.items():
        if name in LISTS:
            for key, row in value["items"].items():
                plane = make(plane, (name, key))
                for k, v in row.items():
                    plane = put(plane, (name, key, k), ABSENT if v is None else v)
            plane = whole(plane, name) if value["complete"] else plane
        elif (name,) in TABLE:
            plane = put(plane, (name,), ABSENT if value is None else value)
        else:
            for k, v in value.items():
                plane = put(plane, (name, k), ABSENT if v is None else v)
    return plane


def human(path: Path, value: Any) -> str:
    """A value for people, with its unit (N263)."""
    if value is None:
        return "not read"
    if value is ABSENT:
        return "not set"
    if isinstance(value, bool):
        return "yes" if value else "no"
    row = TABLE[pattern_of(path)]
    if isinstance(value, float):
        return "never" if math.isinf(value) else duration(value)
    if isinstance(value, Ref):
        return value.entry
    if isinstance(value, tuple):
        return ", ".join(map(str, value)) or "none"
    unit = row.unit.removesuffix("es" if row.unit.endswith("sses") else "s") if value == 1 else row.unit
    return f"{value} {unit}".strip() if isinstance(value, int) else str(value)


def duration(value: float) -> str:
    """Seconds as people say them: `90 s`, `10 min`, `2 h 5 min`."""
    whole_seconds = round(abs(value))
    sign = "-" if value < 0 and whole_seconds else ""
    if whole_seconds < 120 and whole_seconds % 60:
        return f"{sign}{whole_seconds} s"
    days, rest = divmod(whole_seconds, 86400)
    hours, rest = divmod(rest, 3600)
    minutes, secs = divmod(rest, 60)
    parts = [f"{n} {u}" for n, u in ((days, "d"), (hours, "h"), (minutes, "min"), (secs, "s")) if n]
    return sign + " ".join(parts[:2] or ["0 s"])
