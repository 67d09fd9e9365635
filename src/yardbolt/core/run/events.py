"""What is written into the journal, as typed values with a version. Append-only; a secret is only ever named.

An event says what happened, never what it means: `history.py` folds events into answers.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

VERSION = 1


# ---- logins ---------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, kw_only=True)
class OfLogin:
    """What every event of a login says. `address` and `key` (the host key or certificate, as far as known) tell which
    box it hits, whatever the unit is called."""

    account: str
    service: str
    source: str
    address: str
    key: str = ""
    secret: str
    again: bool = False  # no login: the password is given once more, to become root


@dataclass(frozen=True, kw_only=True)
class Trying(OfLogin):
    """A login is about to be tried. Without a `Tried` after it, it counts as a try all the same."""

    event: Literal["trying"] = "trying"


@dataclass(frozen=True, kw_only=True)
class Tried(OfLogin):
    """How a login ended. `spent` says whether it used up a try, `accepted` whether the credential was good; `apart`
    that the service is none we manage the unit by, whose accounts may be others."""

    event: Literal["tried"] = "tried"
    apart: bool = False
    outcome: str
    gate: str = ""
    spent: bool = False
    accepted: bool = False


@dataclass(frozen=True, kw_only=True)
class Kept:
    """A password that was typed, and opened it, rests in the safe now."""

    event: Literal["kept"] = "kept"
    account: str
    secret: str


@dataclass(frozen=True, kw_only=True)
class Renewed:
    """What stands at this address is new, or at factory default again: wrong tries of before are forgotten there."""

    event: Literal["renewed"] = "renewed"
    address: str


@dataclass(frozen=True, kw_only=True)
class OpeningEnded:
    """The laptop's own opening was ended, as the last change of all; from this address nobody logs in any more."""

    event: Literal["opening ended"] = "opening ended"
    laptop: str


@dataclass(frozen=True, kw_only=True)
class PlanShown:
    """A plan was shown, and which; it need not be printed again before it is approved."""

    event: Literal["plan shown"] = "plan shown"
    plan: str


@dataclass(frozen=True, kw_only=True)
class HandedOver:
    """A sheet was written of the as-left document of this number."""

    event: Literal["handed over"] = "handed over"
    document: int


@dataclass(frozen=True, kw_only=True)
class Recognised:
    """The unit was recognised before it was written to: by what, and with which host key."""

    event: Literal["recognised"] = "recognised"
    by: str
    key: str = ""


@dataclass(frozen=True, kw_only=True)
class GateMet:
    """The unit asked something at a login, and nothing was answered."""

    event: Literal["asked"] = "asked"
    gate: str
    account: str
    said: str


@dataclass(frozen=True, kw_only=True)
class GateAnswering:
    """A new secret is about to be sent as the answer to a gate."""

    event: Literal["answering"] = "answering"
    gate: str
    account: str
    secret: str


@dataclass(frozen=True, kw_only=True)
class GatePassed:
    """A gate was passed, on somebody's word."""

    event: Literal["answered"] = "answered"
    gate: str
    by: str


# ---- steps of a sheet -----------------------------------------------------------------------------------------------


@dataclass(frozen=True, kw_only=True)
class OfStep:
    """What every event of a step says: which one of how many (from 0), of what kind, and what it does in words."""

    step: int
    of: int
    kind: str
    what: str


@dataclass(frozen=True, kw_only=True)
class Sending(OfStep):
    """A step is about to be sent. `secret` names the new secret, if there is one."""

    event: Literal["sending"] = "sending"
    path: str = ""
    account: str = ""
    secret: str = ""


@dataclass(frozen=True, kw_only=True)
class ReadBack(OfStep):
    """A step was done: done means read back."""

    event: Literal["read back"] = "read back"
    path: str = ""


@dataclass(frozen=True, kw_only=True)
class Unlike(OfStep):
    """The unit said no, or reads otherwise than forecast. `left_out`: nobody loses a way in by it, so the rest goes
    on without the change of `path`, and that is not tried again by itself; `reads` is how it came out instead."""

    event: Literal["unlike"] = "unlike"
    path: str = ""
    said: str = ""
    paths: tuple[str, ...] = ()
    left_out: bool = False
    reads: str = ""
    asked: bool = True  # it was sent to the unit at all

    @property
    def why(self) -> str:
        """Why the change was left out."""
        if not self.asked:
            return f"it could not be sent: {self.said}"
        return f"the unit refused it: {self.said}" if self.said else f"after the change it {self.reads}"


@dataclass(frozen=True, kw_only=True)
class Noted(OfStep):
    """Something reads otherwise than was forecast and harms nothing: as good as what was wanted, or somebody else's
    doing."""

    event: Literal["noted"] = "noted"
    paths: tuple[str, ...] = ()
    reads: str = ""


@dataclass(frozen=True, kw_only=True)
class Proving(OfStep):
    """A step that proves is about to be tried."""

    event: Literal["proving"] = "proving"
    account: str = ""
    service: str = ""
    secret: str = ""


@dataclass(frozen=True, kw_only=True)
class Proven(OfStep):
    """It held."""

    event: Literal["proven"] = "proven"
    account: str = ""
    service: str = ""
    secret: str = ""


@dataclass(frozen=True, kw_only=True)
class NotProven(OfStep):
    """It did not hold; `claims` are those of a trial that did not."""

    event: Literal["not proven"] = "not proven"
    said: str
    claims: tuple[str, ...] = ()


@dataclass(frozen=True, kw_only=True)
class LeftUntried(OfStep):
    """Nothing of it could be tried, so it shows nothing."""

    event: Literal["could not be tried"] = "could not be tried"
    said: str


@dataclass(frozen=True, kw_only=True)
class BackingOut:
    """A change is about to be taken back."""

    event: Literal["backing out"] = "backing out"
    what: str
    path: str = ""


@dataclass(frozen=True, kw_only=True)
class BackedOut:
    """A change was taken back, and reads so."""

    event: Literal["backed out"] = "backed out"
    what: str
    path: str = ""


@dataclass(frozen=True, kw_only=True)
class Stopped:
    """The run stopped at a step, with its state known."""

    event: Literal["stopped"] = "stopped"
    step: int
    what: str
    backed_out: tuple[str, ...] = ()
    stayed: tuple[str, ...] = ()
    standing: str


# ---- the run --------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, kw_only=True)
class RunBegun:
    """A sheet was approved, and is being carried out from here on."""

    event: Literal["begun"] = "begun"
    steps: int
    by: str


@dataclass(frozen=True, kw_only=True)
class RunResumed:
    """A run that was cut off goes on."""

    event: Literal["resumed"] = "resumed"
    steps: int


@dataclass(frozen=True, kw_only=True)
class RunFinished:
    """Every step was done, or there was none to do."""

    event: Literal["finished"] = "finished"
    steps: int = 0


@dataclass(frozen=True, kw_only=True)
class InputsChanged:
    """A file the plan rests on is not what it was at the approval."""

    event: Literal["inputs changed"] = "inputs changed"
    what: str


@dataclass(frozen=True, kw_only=True)
class ProofTried:
    """A claim was tried out; `sort` where it wrote, and so is tried in no proof alone."""

    event: Literal["proof"] = "proof"
    result: str
    what: str
    saw: str
    sort: str = ""
    control: str = ""


@dataclass(frozen=True, kw_only=True)
class Troubled:
    """What the technician saw instead of a result."""

    event: Literal["trouble"] = "trouble"
    error: str


StepEvent = Sending | ReadBack | Unlike | Noted | Proving | Proven | NotProven | LeftUntried
Event = (
    Trying
    | Tried
    | Kept
    | Renewed
    | OpeningEnded
    | PlanShown
    | HandedOver
    | Recognised
    | GateMet
    | GateAnswering
    | GatePassed
    | StepEvent
    | BackingOut
    | BackedOut
    | Stopped
    | RunBegun
    | RunResumed
    | RunFinished
    | InputsChanged
    | ProofTried
    | Troubled
)


@dataclass(frozen=True)
class Stamp:
    """When (ISO 8601, UTC), on which unit, and in which run an event was written; run 0 is outside of any."""

    time: str
    unit: str
    run: int


@dataclass(frozen=True)
class Entry:
    """An event as it stands in the journal."""

    stamp: Stamp
    event: Event
