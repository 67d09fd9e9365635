"""What the use cases need of the outside world, as protocols of at most five methods. Wires and adapters fulfil
them."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeVar

from .credentials import Credential
from .doors import Door
from .run.documents import Document, Filed
from .run.events import Event
from .run.history import History
from .secret import Ref, Secret
from .talk.outcomes import Login, Open, Port, Quiet, Refusing, Untried


@dataclass(frozen=True)
class Seen:
    """A port that answers: its first words, and what can be told of it from outside."""

    port: int
    speaks: str
    banner: str = ""
    details: Mapping[str, Any] = field(default_factory=dict)
    transport: str = "tcp"


@dataclass(frozen=True)
class Datagrams:
    """What a few UDP ports did: those that answered, those the host refused, and those that said nothing, which may be
    open, or not."""

    seen: tuple[Seen, ...] = ()
    refused: tuple[int, ...] = ()
    silent: tuple[int, ...] = ()

    @property
    def asked(self) -> bool:
        """Was any asked?"""
        return bool(self.seen or self.refused or self.silent)


class Wire(Protocol):
    """One connection to a unit. Every await ends within its time; what goes wrong is an outcome, and a changed host
    key an IdentityError, raised before any credential leaves.

    `authenticates`: does opening it log in, or is that a conversation afterwards? `fingerprint`: the host key met,
    empty where the service has none.
    """

    authenticates: bool
    fingerprint: str

    async def open(self, door: Door, source: str, account: str, credential: Credential) -> Login: ...

    async def exchange(self, event: Any) -> Any: ...

    async def close(self) -> None: ...


@dataclass(frozen=True)
class Ports:
    """What the TCP ports of an address did: those that took a connection, those that said nothing, and which of the
    65,535 were looked at. The rest refused. `own` are ports of this laptop that answered in the unit's place."""

    open: tuple[int, ...]
    silent: frozenset[int] = frozenset()
    span: tuple[int, int] = (1, 65535)
    own: tuple[int, ...] = ()

    @property
    def whole(self) -> bool:
        """Did every port of the 65,535 answer one way or the other?"""
        return self.span == (1, 65535) and not self.silent

    def at(self, port: int) -> Port:
        """What one port did; silence is not a refusal, and what was not looked at is untried."""
        if port in self.open:
            return Open()
        if port in self.silent:
            return Quiet()
        looked = self.span[0] <= port <= self.span[1] and port not in self.own
        return Refusing() if looked else Untried("its port was not looked at")


class Sockets(Protocol):
    """How many sockets may be open for looking at ports at one time, for all units together; `taken` waits until so
    many are free."""

    most: int

    def taken(self, wanted: int) -> AbstractAsyncContextManager[None]: ...


class Look(Protocol):
    """Looks at a unit from outside, without logging in: all TCP ports, a few UDP ports, what one of them says, and
    whether a door lets a source in as far as its first words."""

    async def ports(self, address: str, source: str) -> Ports: ...

    async def look(self, address: str, port: int, source: str) -> Seen: ...

    async def datagrams(self, address: str, source: str) -> Datagrams: ...

    async def knock(self, door: Door, source: str) -> Port: ...


class Safe(Protocol):
    """The password database of the job: the only place where a secret rests. Storing is done when it was read back
    from the safe and its copy; `assure` is asked before a secret is sent. Both raise SafeError."""

    def value(self, ref: Ref) -> Secret | None: ...

    def entries(self) -> tuple[Ref, ...]: ...

    async def store(self, new: Mapping[Ref, Secret], note: str) -> None: ...

    async def assure(self, refs: tuple[Ref, ...]) -> None: ...


D = TypeVar("D", bound=Document)


class Records(Protocol):
    """The record of the job: an append-only journal of events, and documents by kind and unit."""

    def append(self, unit: str, run: int, event: Event) -> None: ...

    def history(self) -> History: ...

    def file(self, unit: str, document: Document) -> int: ...

    def latest(self, unit: str, kind: str, of: type[D]) -> Filed[D] | None: ...


class Receiver(Protocol):
    """Receives log messages at one address while it is entered. `wait` says whether one with this text came from this
    sender. Entering raises OperatorError where the address is not the laptop's."""

    async def __aenter__(self) -> Receiver: ...

    async def __aexit__(self, *exc: object) -> None: ...

    async def wait(self, sender: str, text: str, seconds: float) -> bool: ...


class Clock(Protocol):
    """The laptop's time (ISO 8601, UTC)."""

    def now(self) -> str: ...

    async def sleep(self, seconds: float) -> None: ...
