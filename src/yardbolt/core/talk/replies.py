"""What an answer of a unit means: one table of rows per channel, the first row that fits decides.

Every key of a row that is given must fit: `status` (one of these numbers), `form` (a form the page shows), `title`,
`text` (somewhere in it), `starts` (a line begins so), `at` (a place in the tree that is there), `holds` (just this
stands there). With `at`, `text` and `starts` look at what stands there. `said` is the place of the unit's own reason.
The same table serves login, ask and tell. Where the way of talking heard its own sign of success and no row fits,
that is success; elsewhere no row is unclear."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from .outcomes import Cut, Locked, Login, NotReady, Refused, Silent
from .tree import MISSING, Tree, as_text, one, pick

Meaning = Literal["inside", "refused", "locked", "not ready", "ended", "no", "asked twice", "again", "code", "blocked"]
LONGEST_REASON = 200


@dataclass(frozen=True)
class ReplyRow:
    """One row; its fields are the keys of the family file."""

    means: Meaning
    status: str = ""
    form: str = ""
    title: str = ""
    text: str = ""
    starts: str = ""
    at: str = ""
    holds: str = ""
    said: str = ""


@dataclass(frozen=True)
class Heard:
    """An answer as far as a row may look at it."""

    text: str = ""
    status: int = 0
    tree: Tree = None
    forms: tuple[str, ...] = ()
    title: str = ""


def _fits(row: ReplyRow, heard: Heard) -> bool:
    there = one(heard.tree, row.at) if row.at else MISSING
    where = (as_text(there) or "") if row.at else heard.text
    return (
        (not row.status or str(heard.status) in row.status.split())
        and (not row.form or row.form in heard.forms)
        and (not row.title or row.title in heard.title)
        and (not row.text or row.text in where)
        and (not row.starts or any(line.startswith(row.starts) for line in where.split("\n")))
        and (not row.at or there is not MISSING)
        and (not row.holds or as_text(there) == row.holds)
    )


def row_for(rows: Iterable[ReplyRow], heard: Heard, *means: Meaning) -> ReplyRow | None:
    """The first row that fits, among those of these meanings where any are given: a reply to an ask cannot lock an
    account."""
    return next((row for row in rows if (not means or row.means in means) and _fits(row, heard)), None)


def reason(row: ReplyRow, heard: Heard) -> str:
    """The unit's own words for a no: the place the row names, else the line that decided it."""
    if row.said:
        told = next((t for _, node in pick(heard.tree, row.said) if (t := as_text(node))), "")
        return told[:LONGEST_REASON]
    sign = row.starts or row.text
    lines = [line.strip() for line in heard.text.split("\n") if sign and sign in line]
    return (lines[0] if lines else heard.text.strip().split("\n")[0])[:LONGEST_REASON]


def reread(rows: Iterable[ReplyRow], outcome: Login) -> Login:
    """A refusal or a cut that the wire met while logging in, read again by what the unit said at it."""
    match outcome:
        case Refused(said) | Cut(_, said) | Silent(_, said):
            # the wire knows that it was blocked; only the family knows what the words mean
            found = row_for(rows, Heard(said), "refused", "locked", "not ready")
            if found is None:
                return outcome
            if found.means == "locked":
                return Locked(said)
            return NotReady(said) if found.means == "not ready" else Refused(said)
    return outcome
