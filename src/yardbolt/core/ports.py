"""What the use cases need of the outside world, as protocols of at most five methods. Adapters and the bench's tests fulfil them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from .dialogue import Heard, Turn
from .secret import Ref, Secret


@dataclass(frozen=True)
class Place:
    """Where to connect, and from which address of the laptop."""

    address: str
    port: int
    source: str
    service: str


@dataclass(frozen=True)
class Credential:
    """Who logs in and with what; an SSH key file instead of a password where one is given."""

    account: str
    secret: Ref
    key_file: str = ""


@dataclass(frozen=True)
class Opening:
    """What a channel says of an attempt to open it: opened, refused, locked, closed, silent. `said` is what the unit said."""

    state: str
    said: str = ""
    fingerprint: str = ""
    greeting: str = ""


@dataclass(frozen=True)
class Answer:
    """The answer to one command: its text, its exit status, and what it said on standard error."""

    text: str
    status: int
    errors: str = ""


@dataclass(frozen=True)
class Port:
    """A TCP port that answers: its first words, and what can be told of it from outside."""

    port: int
    speaks: str
    banner: str = ""
    details: Mapping[str, Any] = field(default_factory=dict)


class Channel(Protocol):
    """One connection to a unit. Every await ends within its time; every failure is a UnitError."""

    typed: bool

    async def open(self, place: Place, credential: Credential) -> Opening: ...

    async def turn(self, turn: Turn) -> Heard: ...

    async def fetch(self, command: str, seconds: float) -> Answer: ...

    async def close(self) -> None: ...


class Knocker(Protocol):
    """Looks at a unit from outside, without logging in."""

    async def ports(self, address: str, source: str, rate: int) -> tuple[int, ...]: ...

    async def look(self, address: str, port: int, source: str) -> Port: ...

    async def knock(self, place: Place) -> str: ...


class Safe(Protocol):
    """The password database of the job: the only place where a secret rests."""

    def value(self, ref: Ref) -> Secret | None: ...

    def store(self, new: Mapping[Ref, Secret], note: str) -> None: ...

    def entries(self) -> tuple[Ref, ...]: ...


class Records(Protocol):
    """The record of the job: an append-only journal, and documents by kind and unit."""

    def append(self, unit: str, run: int, entry: Mapping[str, Any]) -> None: ...

    def journal(self, unit: str, run: int | None = None) -> tuple[Mapping[str, Any], ...]: ...

    def file(self, unit: str, kind: str, document: Mapping[str, Any]) -> int: ...

    def latest(self, unit: str, kind: str) -> Mapping[str, Any] | None: ...


class Clock(Protocol):
    """The laptop's time."""

    def now(self) -> str: ...

    async def sleep(self, seconds: float) -> None: ...
