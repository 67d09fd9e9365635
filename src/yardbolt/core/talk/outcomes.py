"""What came of an attempt, as types from the wire to the verdict. No string says what happened.

Of a login only `Refused` and `NoListener`, beside their control, can ever show that something is shut. Of an order
only `Done` can show that something was done, and then only once it was read back.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import Enum
from typing import Any, Generic, TypeVar, assert_never

R = TypeVar("R", covariant=True)


# ---- a login --------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Opened:
    """The unit let us in. `session` is what the way of talking must remember while the session lives, `rights` those
    of the account there, where the way could tell."""

    said: str = ""
    rights: str = ""
    session: Any = field(default=None, compare=False)


@dataclass(frozen=True)
class Asked:
    """A question (terms, a forced change) stands before the inside. Where the secret was sent, the credential is good;
    else anyone who comes is asked, and no login was tried."""

    gate: str
    said: str = ""
    secret_sent: bool = True


@dataclass(frozen=True)
class Refused:
    """The unit said no to this credential."""

    said: str = ""


@dataclass(frozen=True)
class Locked:
    """The account is locked, which refuses everybody."""

    said: str = ""


@dataclass(frozen=True)
class NotReady:
    """The unit says that it is still starting."""

    said: str = ""


@dataclass(frozen=True)
class NoListener:
    """The port itself refused the connection."""

    said: str = ""


@dataclass(frozen=True)
class Cut:
    """The connection ended before there was an answer."""

    secret_sent: bool
    said: str = ""


@dataclass(frozen=True)
class Silent:
    """No answer within the time, or none that tells. `anybody`: it lets in anyone, so that no login says anything."""

    secret_sent: bool
    said: str = ""
    anybody: bool = False


@dataclass(frozen=True)
class Occupied:
    """Somebody left a session open there; nothing was typed into it."""

    said: str = ""


@dataclass(frozen=True)
class Untried:
    """It was not tried, and why."""

    why: str


Login = Opened | Asked | Refused | Locked | NotReady | NoListener | Cut | Silent | Occupied | Untried


def spends_a_try(outcome: Login) -> bool:
    """Did it use up one of the account's wrong tries? A credential that was sent and not accepted counts, whatever
    came back."""
    match outcome:
        case Refused() | Locked() | NotReady():
            return True
        case Cut(secret_sent) | Silent(secret_sent):
            return secret_sent
        case Opened() | Asked() | NoListener() | Occupied() | Untried():
            return False
    assert_never(outcome)


def accepted(outcome: Login) -> bool:
    """Was the credential good, whether or not a question followed?"""
    return isinstance(outcome, Opened) or (isinstance(outcome, Asked) and outcome.secret_sent)


def told(outcome: Login) -> str:
    """An outcome in the words of the record and the plane."""
    match outcome:
        case Opened():
            return "opened"
        case Asked(secret_sent=sent):
            return "asked" if sent else "untried"
        case Refused():
            return "refused"
        case Locked():
            return "locked"
        case NotReady():
            return "not ready"
        case NoListener():
            return "nothing listens"
        case Cut():
            return "cut"
        case Silent():
            return "silent"
        case Occupied():
            return "untried"
        case Untried():
            return "untried"
    assert_never(outcome)


def said_by(outcome: Login) -> str:
    """What the unit said at that, or why it was not tried."""
    if isinstance(outcome, Asked) and not outcome.secret_sent:
        return "it asks before any login"
    return outcome.why if isinstance(outcome, Untried) else outcome.said


# ---- a port ---------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Open:
    """It takes the connection of this source and speaks; `heard` is how it began."""

    heard: str = field(default="", compare=False)


@dataclass(frozen=True)
class Refusing:
    """It turns this source away: the connection is refused or, where `listening`, taken and ended without a word."""

    listening: bool = False


@dataclass(frozen=True)
class Quiet:
    """Nothing came back within the time."""


Port = Open | Refusing | Quiet | Untried


# ---- an ask or an order ---------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Done(Generic[R]):
    """The unit answered as it does when all is well."""

    reply: R


@dataclass(frozen=True)
class No:
    """The unit said no, with its own reason. `alive` is false where the session cannot be used any more."""

    said: str
    sent: bool = True
    alive: bool = True


@dataclass(frozen=True)
class Unclear:
    """Sent, and what came of it is not known. The session is finished."""

    why: str


@dataclass(frozen=True)
class Ended:
    """The session ended. `sent` tells whether the order had left before; `answered` that it was answered by leading
    on, to where the session had ended: only reading tells what came of it; `unheard` that the connection ended, and
    nobody said so."""

    sent: bool
    answered: bool = False
    unheard: bool = field(default=False, compare=False)


class End(Enum):
    """Why a wire stopped hearing."""

    CLOSED = "the connection ended"
    SILENT = "no answer in time"
    TOO_MUCH = "more than the limit"


@dataclass(frozen=True)
class Lost:
    """A wire's answer to any event when there is no answer to give; `text` is what had come until then."""

    end: End
    text: str = ""
    why: str = ""
