"""A host that lets somebody in only to have his password changed: its dialogue is typed into a terminal, as PAM leads
it (passwd(1), pam_unix(8)). Each question is answered once; what is no such question gets no answer."""

from __future__ import annotations

from collections.abc import Generator

from ...secret import Ref, Slot, Text
from ..conversation import Fill
from ..logon import NEW, all_of, last_line, says, waits
from ..outcomes import Asked, Login, Lost, NotReady
from ..text.console import Heard, Turn

CHANGE = "change"
# which password a question is for, the first that fits
KINDS = {
    "again": ("retype", "re-type", "re-enter", "repeat", "again", "confirm"),
    "new": ("new",),
    "present": ("current", "old"),
}
NOT_TAKEN = (
    "unchanged",
    "not changed",
    "manipulation error",
    "authentication failure",
    "exhausted",
    "bad password",
    "do not match",
)
# what most show; whatever else stands last is read after a silence
USUAL = ("Current password: ", "New password: ", "Retype new password: ")
PATIENCE = 15.0  # seconds: a password is weighed before it is taken


def wanted(said: str) -> bool:
    """Does it say that the password must be changed first?"""
    return says(said, *NEW)


def changed(said: str, present: Ref, consents: Fill) -> Generator[Turn, Heard | Lost, Login]:
    """Have the password changed, where somebody agreed to that; afterwards it wants a new login, with the new one."""
    new = consents.get(CHANGE)
    if new is None:
        return Asked(CHANGE, said)
    heard = yield Turn(None, USUAL, seconds=PATIENCE)
    answered, last = set[str](), said
    while not isinstance(heard, Lost) or waits(heard):
        last = all_of(heard)
        kind = _kind(last_line(last))
        # some open a shell then; and asked once more, it was not taken
        if kind is None or kind in answered:
            break
        answered.add(kind)
        typed: Text = (Slot(present),) if kind == "present" else new
        heard = yield Turn(typed, USUAL, seconds=PATIENCE)
    last = all_of(heard) or (heard.why if isinstance(heard, Lost) else "") or last
    reason = next((line.strip() for line in last.split("\n") if says(line, *NOT_TAKEN)), "")
    # whether it was taken, a login by the new one tells
    taken = "again" in answered and _kind(last_line(last)) is None and not reason
    return NotReady(last) if taken else Asked(CHANGE, reason or last)


def _kind(line: str) -> str | None:
    """Which password a line asks for; None where it asks for none."""
    asks = line.endswith((":", "?")) and says(line, "password")
    return next((kind for kind, words in KINDS.items() if asks and says(line, *words)), None)
