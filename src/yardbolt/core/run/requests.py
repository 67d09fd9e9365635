"""What the executor asks for, the answers it gets, and how a run ends."""

from __future__ import annotations

from collections.abc import Generator, Mapping
from dataclasses import dataclass, field
from typing import Any

from ..doors import Way
from ..plan.belief import Belief
from ..plane.change import Change
from ..plane.leaves import Plane
from ..plane.path import Path
from ..talk.conversation import Order
from .events import Event, Unlike


@dataclass(frozen=True)
class Send:
    """Send this on the session of `via`; told `Done`, `No`, `Unclear` or `Ended`."""

    order: Order
    via: Way


@dataclass(frozen=True)
class Read:
    """Read these paths (None = everything) on the session of `via`; told a plane for each store, or None where that
    failed."""

    paths: frozenset[Path] | None
    via: Way


@dataclass(frozen=True)
class WhyUnread:
    """Told why the last reading did not tell everything, in one line; empty where that is not known."""


@dataclass(frozen=True)
class LogIn:
    """Open a new connection by this way; told the outcome. An opened one stays open."""

    way: Way


@dataclass(frozen=True)
class Return:
    """The unit restarts, or goes back by itself: wait until one of these ways opens; told `Returned`, or None when the
    time is over. For so many seconds (`quiet`) nothing is tried at all: a refused login would cost a try."""

    ways: tuple[Way, ...]
    seconds: float
    quiet: float = 0.0


@dataclass(frozen=True)
class Returned:
    """By which way it let us in again, and whether it was seen to be away meanwhile."""

    way: Way
    away: bool


@dataclass(frozen=True)
class Pause:
    """Wait so many seconds: the unit is still at work on what it said yes to; told nothing."""

    seconds: float


@dataclass(frozen=True)
class Attempt:
    """Try what must be refused now; told `Attempted`."""

    belief: Belief


@dataclass(frozen=True)
class Attempted:
    """What came of it: each claim that failed and each that could not be tried, with what was seen, and how many
    held."""

    failed: Mapping[str, str] = field(default_factory=dict)
    untried: Mapping[str, str] = field(default_factory=dict)
    held: int = 0


@dataclass(frozen=True)
class Note:
    """Write this into the journal, durably, before going on; told nothing."""

    event: Event


Request = Send | Read | WhyUnread | LogIn | Return | Pause | Attempt | Note
Planes = Mapping[str, Plane]
Doing = Generator[Request, Any, None]


@dataclass(frozen=True)
class TakenBack:
    """What was taken back, and what was not, each with the reason."""

    done: tuple[str, ...] = ()
    stayed: tuple[str, ...] = ()

    def __add__(self, other: TakenBack) -> TakenBack:
        return TakenBack((*self.done, *other.done), (*self.stayed, *other.stayed))


@dataclass(frozen=True)
class Outcome:
    """How the run ended. `why` is empty when all steps were done; `error` is what was thrown in, if that was the
    reason; `left_out` is the change it ended at, and how that came out, where the rest can go on without it."""

    belief: Belief
    why: str = ""
    at: int = 0
    backed_out: tuple[str, ...] = ()
    stayed: tuple[str, ...] = ()  # what was to be taken back and was not, each with the reason
    error: Exception | None = None
    left_out: tuple[Change, Unlike] | None = None
