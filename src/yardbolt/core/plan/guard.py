"""The guard: a unit that takes a change back by itself unless somebody says in time that he still gets in.

One machine for hosts with a timed return, for staged stores whose activation goes back, and for a confirmed commit
(RFC 6241, section 8.4). Rehearsal and executor move the same one. Each state is a type with its own moves, so that
what may not be cannot be written down: only a guard that a login has proven since the last write can be confirmed.

    Idle -> Armed -> Proven -> Idle (confirmed)
              ^        |
              +-- write +        Armed, Proven -> Idle (gone back, once that was read)
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from ..doors import Way
from ..plane.leaves import Plane


@dataclass(frozen=True)
class Fallback:
    """What the unit goes back to, and how many seconds after arming."""

    seconds: float
    stores: Mapping[str, Plane]
    ways: Mapping[str, frozenset[Way]]


@dataclass(frozen=True)
class Idle:
    """No return is armed."""

    def arm(self, fallback: Fallback, left: float | None = None) -> Armed:
        """Armed, with the seconds the unit itself says are left."""
        return Armed(fallback, fallback.seconds if left is None else left)

    def wrote(self) -> Idle:
        """Written for good."""
        return self

    def proven(self, by: Way) -> Idle:
        """Nothing waits for it."""
        return self


@dataclass(frozen=True)
class Armed:
    """The unit goes back when the time is over. `left` are the seconds the unit named last, at `asked` (laptop time,
    seconds)."""

    fallback: Fallback
    left: float
    asked: float = field(default=0.0, compare=False)

    def wrote(self) -> Armed:
        """One more change that goes back; whatever login came before proves nothing of it."""
        return self

    def proven(self, by: Way) -> Proven:
        """Somebody logged in again since the last write."""
        return Proven(self.fallback, self.left, self.asked, by)

    def told(self, left: float, now: float) -> Armed:
        """The same, with the time the unit says is left."""
        return replace(self, left=left, asked=now)

    def left_at(self, now: float) -> float:
        """The seconds still left, as far as the laptop can tell: its own clock goes on while it sleeps."""
        return self.left - max(0.0, now - self.asked) if self.asked else self.left

    def gone_back(self) -> Idle:
        """It was read as gone back."""
        return Idle()


@dataclass(frozen=True)
class Proven(Armed):
    """The unit goes back when the time is over, and somebody has logged in since the last write."""

    by: Way = field(default=None)  # type: ignore[assignment]  # dataclass order: a proven guard always has its login

    def wrote(self) -> Armed:
        """Another write: the login came before it."""
        return Armed(self.fallback, self.left, self.asked)

    def confirmed(self) -> Idle:
        """It does not go back any more."""
        return Idle()


Guard = Idle | Armed
