"""Doors and ways in: where one can log in, and one concrete way to do it."""

from __future__ import annotations

from dataclasses import dataclass

from .credentials import Credential, Password
from .secret import Ref


@dataclass(frozen=True, order=True)
class Door:
    """Where a service of a unit is met. `scheme` is what is spoken there, `interface` the unit's own name of the socket
    behind the address, empty where that was not read."""

    scheme: str
    address: str
    port: int
    service: str
    interface: str = ""

    def __str__(self) -> str:
        shown = f"[{self.address}]" if ":" in self.address else self.address
        return f"{self.service} at {shown} port {self.port}"


@dataclass(frozen=True, order=True)
class Way:
    """A way in: one concrete way an administrator can log in. `source` is an address of the laptop's side."""

    source: str
    door: Door
    account: str
    credential: Credential

    @property
    def service(self) -> str:
        """The service it goes through."""
        return self.door.service

    @property
    def secret(self) -> Ref:
        """What the record calls its credential, and what is given where a password is asked for inside."""
        return self.credential.ref

    @property
    def password(self) -> Ref | None:
        """The password that opens it; None where it is opened by something else."""
        return self.credential.ref if isinstance(self.credential, Password) else None
