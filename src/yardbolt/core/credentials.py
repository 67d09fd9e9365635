"""Credentials: what somebody shows at a door. Each kind rests on conditions of its own, so each is a type.

None of them holds a secret: a password and a passphrase are named by a reference, a key by the fingerprint of its
public part (RFC 4255 form, SHA-256) and the file it lies in."""

from __future__ import annotations

from dataclasses import dataclass
from functools import total_ordering
from typing import Any

from .secret import Ref

BY_KEY = Ref("typed:key")  # what the record calls a login by a key file
NO_SECRET = Ref("")


@total_ordering
class _Ordered:
    """Kinds are put in order by their place, and within one kind by what they name."""

    place = 0

    def _as_key(self) -> tuple[Any, ...]:
        return (self.place, *(getattr(self, name) for name in self.__dataclass_fields__))  # type: ignore[attr-defined]

    def __lt__(self, other: Any) -> bool:
        return bool(self._as_key() < other._as_key())


@dataclass(frozen=True)
class Password(_Ordered):
    """A password."""

    ref: Ref


@dataclass(frozen=True)
class Key(_Ordered):
    """An SSH key. `file` is where its private part lies on this laptop, `inside` the password that a program may ask
    for once one is in."""

    place = 1
    fingerprint: str
    file: str = ""
    inside: Ref = BY_KEY

    @property
    def ref(self) -> Ref:
        """What the record calls it, and what is given where a password is asked for inside."""
        return self.inside


@dataclass(frozen=True)
class Passphrase(_Ordered):
    """The passphrase of a user of SNMP, from which keys are made (RFC 3414)."""

    place = 2
    ref: Ref


@dataclass(frozen=True)
class Nothing(_Ordered):
    """No credential: the door asks for none."""

    place = 3

    @property
    def ref(self) -> Ref:
        """It names no secret."""
        return NO_SECRET


Credential = Password | Key | Passphrase | Nothing
