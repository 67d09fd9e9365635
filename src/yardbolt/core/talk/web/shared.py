"""What ways of talking over the web have in common: what an answer means, by the table of the channel alone, and
which places are the unit's own."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from ...secret import Ref, Text
from ..conversation import Fill
from ..outcomes import Asked, Cut, End, Ended, Locked, Login, Lost, No, NotReady, Opened, Refused, Silent, Unclear
from ..patterns import slots
from ..replies import Heard, ReplyRow, reason, row_for
from ..tree import CALLED, MISSING, Items, Tree, as_text, one

MOST_PAGES = 200
ACCOUNT = "{account}"  # the slot of the name, at a login


@dataclass(frozen=True)
class View:
    """What an op writes to, as its ask reads it: how it is asked for, and where the items stand."""

    ask: Any
    items: Items = Items()

    def item(self, tree: Tree, fill: Fill) -> Tree:
        """The item that `fill` names, MISSING where it is not there; the whole where there are no items."""
        return self.items.item(tree, key_of(fill)) if self.items.at else tree


SIGNED = "{secret:hmac "


@dataclass(frozen=True)
class Signed:
    """What the wire fills with the keyed digest (RFC 2104, SHA-256, hexadecimal) of something it holds, under a
    secret."""

    ref: Ref
    of: str


def signed_by(text: str, secret: Ref) -> Signed | None:
    """The keyed digest a text of the family asks for, `{secret:hmac NAME}`; None where it asks for none."""
    return Signed(secret, text[len(SIGNED) : -1]) if text.startswith(SIGNED) and text.endswith("}") else None


def own(target: str) -> bool:
    """Is it a place on this very unit?"""
    return target.startswith("/") and not target.startswith("//") and target.isprintable() and " " not in target


def mixed_in(*templates: str) -> str:
    """What of these holds the name and another slot, which nothing would fill; empty where none does."""
    mixed = (text for text in templates if ACCOUNT in text and len(slots(text)) > 1)
    return next((f"'{text}' holds more than {ACCOUNT} and words" for text in mixed), "")


def key_of(fill: Fill) -> str:
    """The key of the item a message is about."""
    return "".join(part for part in fill.get("key", ()) if isinstance(part, str))


def allotted(item: Tree, where: str, fill: Fill) -> str | None:
    """The name, or the link, that the unit allots to an item; `{key}` in its place is the key."""
    for step in where.split("/"):
        item = one(item, step) if CALLED not in step else _member(item, step.replace(CALLED, key_of(fill)))
    return as_text(item)


def _member(node: Tree, name: str) -> Tree:
    return node.get(name, MISSING) if isinstance(node, Mapping) else MISSING


def place(text: Text) -> str:
    """A place filled. Raises ValueError where a secret would stand in it."""
    if any(not isinstance(part, str) for part in text):
        raise ValueError("a secret never stands in the place of a page or an object")
    return "".join(part for part in text if isinstance(part, str))


def lost(got: Lost, sent: bool) -> Login:
    """What a login came to that was not answered."""
    return Cut(sent, got.why) if got.end is End.CLOSED else Silent(sent, got.why or got.end.value)


def asks_for_login(rows: Iterable[ReplyRow], heard: Heard) -> bool:
    """Is it a no to somebody who has not said who he is? Else letting somebody in who has says nothing of him."""
    found = row_for(rows, heard)
    return found is not None and found.means in ("refused", "ended")


def entered(rows: Iterable[ReplyRow], heard: Heard, sent: bool, session: Any) -> Login:
    """What came of a login. Inside counts only where a credential was given."""
    found = row_for(rows, heard)
    if found is None:
        return Silent(sent, f"it answers {heard.status}, which the family does not know")
    if found.means == "inside":
        nobody = "it lets in anyone, so no login can be tried"
        return Opened(session=session) if sent else Silent(False, nobody, anybody=True)
    said = reason(found, heard)
    match found.means:
        case "refused":
            return Refused(said) if sent else Silent(False, said)
        # anyone who comes from here: no login was tried
        case "blocked":
            return Silent(False, said)
        case "locked":
            return Locked(said)
        case "not ready":
            return NotReady(said)
        # right, and not enough: what was sent to somebody's mailbox is wanted too
        case "code" if sent:
            return Asked("code", said, sent)
        # the door once more, after name and word were given
        case "ended" if sent:
            return Refused(said)
    return Silent(sent, said)


def objection(rows: Iterable[ReplyRow], heard: Heard, moved: str) -> No | Unclear | Ended | None:
    """What stands against taking this for an answer; None where nothing does. `moved`: where it points
    to instead."""
    found = row_for(rows, heard)
    if found is None:
        elsewhere = f", and points to {moved}" if moved else ""
        return Unclear(f"it answers {heard.status}, which the family does not know{elsewhere}")
    match found.means:
        case "inside":
            return None
        case "asked twice":
            return Unclear("it says that this was sent twice")
        case "again":
            return Unclear("it wants it sent once more, and so every time")
        case "not ready":
            return Unclear("it is starting")
        # the door in the place of what was wanted: nobody is inside any more, and what was sent was not taken
        case "ended" | "refused":
            return Ended(sent=False)
    return No(reason(found, heard) or f"it answers {heard.status}")


def unanswered(got: Lost, sent: bool) -> Unclear | Ended:
    """The same of what was not answered."""
    return Ended(sent, unheard=True) if got.end is End.CLOSED else Unclear(got.why or got.end.value)
