"""Secrets as a type that cannot be shown, and as references that say *which* secret without holding it.

A plane, a sheet, a journal hold `Ref`s; a message to a unit holds `Slot`s; only a wire turns a slot into characters,
at the moment of sending, through a `Secret`, whose one door is `reveal()`.
"""

from __future__ import annotations

from dataclasses import dataclass


class Secret:
    """A value that prints, formats, compares and pickles as nothing. `reveal()` is the only way to its characters."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        self._value = value

    def reveal(self) -> str:
        """The characters. Call this only where they leave for a unit or for the safe."""
        return self._value

    def __repr__(self) -> str:
        return "Secret(•••)"

    __str__ = __repr__

    def __format__(self, spec: str) -> str:
        return repr(self)

    def __reduce__(self) -> str:
        raise TypeError("a secret is not stored this way")

    def __bool__(self) -> bool:
        return bool(self._value)


PUBLIC = "public:"  # what refers to a public key of the job, by its fingerprint: no secret, and filled in like one


@dataclass(frozen=True, order=True)
class Ref:
    """Which secret, never what it is: `factory:1`, `safe:ts-04/keeper`, `typed:0`."""

    entry: str

    @property
    def factory(self) -> bool:
        """Is it a value the maker published?"""
        return self.entry.startswith("factory:")

    @property
    def safe(self) -> bool:
        """Does it rest in the safe of the job?"""
        return self.entry.startswith("safe:")

    @property
    def typed(self) -> bool:
        """Was it typed at the keyboard in this run?"""
        return self.entry.startswith("typed:")


@dataclass(frozen=True)
class Slot:
    """A place in a message that a wire fills with a secret. `spelling` is how it is written there."""

    ref: Ref
    spelling: str = "plain"


Text = tuple["str | Slot", ...]


def masked(message: Text) -> str:
    """A message for people: its slots as dots."""
    return "".join(part if isinstance(part, str) else "•••" for part in message)
