"""Talking in pages: HTML with forms over HTTP (RFC 9110), a cookie, hidden fields. Two events: `Open` and `Submit` ->
`Page`.

What a browser would send is sent: fields in the order of the page, hidden and untouched ones as they stand, boxes
only when on, one button; nothing of a form nobody named. A page is a tree: `title`, `text`, `forms` (name -> fields),
`tables` (caption -> rows of heading -> cell; those of two columns as `pairs` too) and `links` (words -> place). A
form without a name is recognised by its fields."""

from __future__ import annotations

import contextlib
from collections.abc import Generator, Iterable, Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import Any
from urllib.parse import quote

from ...secret import Ref, Slot, Text
from ..conversation import BOUND, Asking, Fetch, Fill, Order, Replies, Talk, Telling
from ..outcomes import Asked, Done, Ended, Login, Lost, No, Silent, Unclear
from ..patterns import fill_in
from ..replies import Heard
from ..rowsets import OneByOne, row_by_row
from ..tree import CALLED, MISSING, Sort, Tree, one
from .forms import Filling, fields_of, form_of, in_row, is_box, names_of
from .pagechannel import GATE_NEW, AskHow, Channel, OpHow, RowHow
from .shared import (  # fmt: skip
    ACCOUNT,
    MOST_PAGES,
    View,
    allotted,
    asks_for_login,
    entered,
    key_of,
    lost,
    objection,
    own,
    place,
    signed_by,
    unanswered,
)

MOST_FORMS = 8


@dataclass(frozen=True)
class Open:
    """Fetch a page; `auth` is the scheme and who, and `carry` what stands in addresses for the session, each told
    once for it; `once`: opening it does something."""

    target: str
    auth: tuple[str, str, Ref] | None = None
    once: bool = False
    carry: str = ""


@dataclass(frozen=True)
class Submit:
    """Submit a form of the page in hand: its fields in order; the wire knows where it goes."""

    form: str
    fields: tuple[tuple[str, Filling], ...]
    button: str = ""
    marks: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Page:
    """What came back: the status and the page as a tree; `moved` where it points elsewhere, `torn` where it did not
    come whole; `led` where the answer to what was submitted led on to it."""

    status: int
    tree: Tree = None
    moved: str = ""
    torn: str = ""
    led: bool = False


@dataclass(frozen=True)
class Session:
    """Nothing: the cookie stays in the wire."""


def _named(channel: Channel, tree: Tree) -> dict[str, Mapping[str, Any]]:
    """The forms of a page by the names of the family: their own, or by the fields they hold, where exactly one fits."""
    found = (
        {name: form for name, form in (tree.get("forms") or {}).items() if isinstance(form, Mapping)}
        if isinstance(tree, Mapping)
        else {}
    )
    out = dict(found)
    for name, wanted in channel.forms.items():
        fits = [form for form in found.values() if set(wanted) <= names_of(form)]
        if len(fits) == 1:
            out[name] = fits[0]
    return out


def _heard(channel: Channel, page: Page) -> Heard:
    tree = page.tree if isinstance(page.tree, Mapping) else {}
    return Heard(
        str(tree.get("text", "")), page.status, page.tree, tuple(_named(channel, page.tree)), str(tree.get("title", ""))
    )


# ---- logging in -----------------------------------------------------------------------------------------------------


def login(
    channel: Channel, account: str, secret: Ref, authenticated: bool, consents: Fill
) -> Generator[Open | Submit, Page | Lost, Login]:
    """Log in: while a page shows a form of the table, fill it, each once; a question only with consent."""
    how = channel.login
    got, sent, done = (yield Open(how.page, carry=channel.carry)), False, set[str]()
    if how.auth and isinstance(got, Page) and asks_for_login(channel.replies, _heard(channel, got)):
        got, sent = (
            (yield Open(how.page, (how.auth, how.account.replace(ACCOUNT, account), secret))),
            True,
        )
    for _ in range(MOST_FORMS):
        if isinstance(got, Lost):
            return lost(got, sent)
        if got.torn:
            return Silent(sent, got.torn)
        shown = _named(channel, got.tree)
        name = next((one for one in how.forms if one in shown and one not in done), "")
        # a form that was filled, shown again, is what a refusal looks like
        if not name:
            return entered(channel.replies, _heard(channel, got), sent, Session())
        form = how.forms[name]
        # a question of the unit's own that comes first is answered only where somebody agreed to what follows
        gate = form.gate or (next(iter(channel.gates_named()), name) if form.asks_nobody() and not sent else "")
        if gate and gate not in consents:
            return Asked(gate, str(got.tree.get("text", ""))[:200], sent)
        new = consents.get(form.gate, ()) if form.gate else ()
        try:
            fields = fields_of(
                shown[name],
                {field_name: _credential(text, account, secret, new) for field_name, text in form.fill.items()},
                press=form.press,
            )
        except ValueError as e:
            return Silent(sent, str(e))
        done.add(name)
        sent = True
        got = yield Submit(
            name if name in (got.tree.get("forms") or {}) else str(shown[name]["own"]), fields, form.press
        )
    return Silent(sent, "one form after another")


def _credential(text: str, account: str, secret: Ref, new: Text) -> Filling:
    if ACCOUNT in text:
        return (text.replace(ACCOUNT, account),)
    if text == "{secret}":
        return (Slot(secret),)
    if (signed := signed_by(text, secret)) is not None:
        return signed
    return new if text == GATE_NEW else (text,)


# ---- asking ---------------------------------------------------------------------------------------------------------


def message(how: AskHow | RowHow, fill: Fill) -> Text:
    """The page that is looked at or written on. Raises ValueError where a slot stays open."""
    if isinstance(how, OneByOne) and how.adds is not None:
        return tuple(part for added, row in how.added(fill) for part in message(added, row))
    if isinstance(how, RowHow):
        if (
            (how.link or how.through)
            and not how.bound
            and not how.fill
            and any(name.startswith(BOUND) for name in fill)
        ):
            raise ValueError("its form is behind a row, and 'fill' does not say which field takes it")
        later = [text for form in how.after.values() for text in form.fill.values()]
        for template in (*how.fill.values(), *later):
            fill_in(template, fill)  # which raises where a slot stays open; empty on purpose is no open slot
        place(fill_in(how.page, fill))
    return fill_in(how.page, fill)


def ask(channel: Channel, fetch: Fetch, session: Session) -> Asking:
    """Look at one page, with all parts of its list; or at the fields of one form."""
    how: AskHow = fetch.how
    behind = how.view is not None and bool(how.link)
    got = (
        (yield from _behind(channel, how.view, how, fetch.fill))
        if behind and how.view is not None
        else (yield from _looked(channel, how, fetch.fill))
    )
    if behind and isinstance(got, Done) and how.form and how.form not in _named(channel, got.reply.tree):
        return No(f"it shows no form {how.form}")
    return got if not isinstance(got, Done) else Done(Replies(tree=_view(channel, fetch.how, got.reply.tree)))


def _view(channel: Channel, how: AskHow, tree: Tree) -> Tree:
    if not how.form:
        return tree
    form = _named(channel, tree).get(how.form)
    return form["fields"] if form is not None else None


def part(channel: Channel, how: AskHow, whole: Replies) -> Done[Replies] | No:
    """What an ask wants of a page that was fetched whole."""
    if how.form not in _named(channel, whole.tree):
        return No(f"it shows no form {how.form}")
    return Done(Replies(tree=_view(channel, how, whole.tree)))


def _looked(channel: Channel, how: AskHow, fill: Fill, until: Any = None, led: str = "") -> Asking:
    """The page of an ask, or the one the unit `led` to, with all parts of its list."""
    begun = yield from _followed(channel, led or place(fill_in(how.page, fill)), how.through)
    if not isinstance(begun, str):
        return begun
    target, pages = begun, list[Tree]()
    while True:
        got = yield Open(target)
        bad = _wrong(channel, got, sent=False)
        if bad is not None:
            return bad
        assert isinstance(got, Page)
        if how.form and how.form not in _named(channel, got.tree):
            return No(f"it shows no form {how.form}")
        pages.append(got.tree)
        further = one(got.tree, f"links/{how.next}") if how.next else MISSING
        if further is MISSING or not further or (until is not None and until(got.tree)):
            # rows are picked from the page that shows the item, and its form is the one in hand
            return Done(Replies(tree=pages[-1] if until is not None or len(pages) == 1 else _joined(pages)))
        if len(pages) >= MOST_PAGES or not own(str(further)):
            return Unclear("its list has no end, or goes on elsewhere")
        target = str(further)


def _followed(
    channel: Channel, target: str, through: tuple[str, ...]
) -> Generator[Any, Any, str | No | Unclear | Ended]:
    """Where links lead to, one after the other, by their words."""
    for words in through:
        got = yield Open(target)
        bad = _wrong(channel, got, sent=False)
        if bad is not None:
            return bad
        assert isinstance(got, Page)
        links = got.tree.get("links") if isinstance(got.tree, Mapping) else None
        target = str((links or {}).get(words, ""))
        if not target or not own(target):
            return No(f"it shows no link {words}", sent=False)
    return target


def _joined(pages: list[Tree]) -> Tree:
    out = dict(pages[0])
    for kind in ("tables", "lists"):
        joined = out[kind] = dict[str, list[Any]]()
        for page in pages:
            for name, rows in page.get(kind, {}).items():
                joined.setdefault(name, []).extend(rows)
    return out


def _wrong(channel: Channel, got: Page | Lost, sent: bool) -> No | Unclear | Ended | None:
    if isinstance(got, Lost):
        return unanswered(got, sent)
    found = Unclear(got.torn) if got.torn else objection(channel.replies, _heard(channel, got), got.moved)
    return Ended(sent=True, answered=True) if sent and got.led and isinstance(found, Ended) else found


# ---- telling --------------------------------------------------------------------------------------------------------


def tell(channel: Channel, order: Order, session: Session) -> Telling:
    """Write one thing: fetch the page again, fill its form as a browser would, submitted once, and what comes after
    it."""
    how: RowHow = order.how
    if isinstance(how, OneByOne) and how.adds is not None:
        look = partial(_looked, channel, how.read_by(), order.fill)
        return (yield from row_by_row(order, look, partial(tell, channel, session=session)))
    if how.visit == "yes":
        target = yield from _to_visit(channel, how, order.fill)
        if not isinstance(target, str):
            return target
        got = yield Open(target, once=True)
        return (yield from _after(channel, how, order, got))
    page = yield from _form_page(channel, how, order.fill)
    if not isinstance(page, Done):
        return page
    shown = _named(channel, page.reply.tree)
    row = how.view.item(page.reply.tree, order.fill) if how.cells == "yes" and how.view is not None else MISSING
    if how.cells == "yes" and not isinstance(row, Mapping):
        return No("there is no such row any more", sent=False)
    if how.cells == "yes":
        form, press = shown.get(how.form or str(row.get("form"))), in_row(row, "buttons", how.press) or how.press
    else:
        press = how.press
        form = form_of(shown, how.form)
    if form is None:
        return No(f"it shows no form {how.form}".rstrip(), sent=False)
    filled, bound = _filled(how, order.fill), _bound(how, order.fill)
    if how.cells == "yes":
        filled, bound = _in_cells(form, row, filled, ""), _in_cells(form, row, bound, "in column ")
    try:
        fields = fields_of(form, filled | bound, how.blank, press)
    except ValueError as e:
        return No(str(e), sent=False)
    got = yield Submit(str(form["own"]), fields, press, channel.marks())
    return (yield from _after(channel, how, order, got))


def _filled(how: RowHow, fill: Fill) -> dict[str, Text]:
    """What the file says goes into which field."""
    return {name.replace(CALLED, key_of(fill)): fill_in(text, fill) for name, text in how.fill.items()}


def _bound(how: RowHow, fill: Fill) -> dict[str, Text]:
    """What goes where the ask reads it: what a table calls its columns says nothing of the fields behind a row."""
    here = how.bound or not (how.link or how.through)
    return {name[len(BOUND) :]: text for name, text in fill.items() if here and name.startswith(BOUND)}


def _in_cells(
    form: Mapping[str, Any], row: Mapping[str, Any], filled: Mapping[str, Text], otherwise: str
) -> dict[str, Text]:
    """The same by the fields of a row; of boxes that are called alike in all rows, and of choices, the one of this
    row is ticked. `otherwise` begins what is no column."""
    out: dict[str, Text] = {}
    for name, text in filled.items():
        field = in_row(row, "fields", name) or f"{otherwise}{name}"
        tick = in_row(row, "ticks", name) if text == ("yes",) and not is_box(form, field) else ""
        out[field] = (tick,) if tick else text
    return out


def _after(channel: Channel, how: RowHow, order: Order, got: Page | Lost) -> Telling:
    """What comes after it: forms that ask once more, each filled once."""
    done = set[str]()
    for _ in range(MOST_FORMS):
        bad = _wrong(channel, got, sent=True)
        if bad is not None:
            return bad
        assert isinstance(got, Page)
        shown = _named(channel, got.tree)
        name = next((one for one in how.after if one in shown and one not in done), "")
        if not name:
            return Done(Replies(tree=got.tree))
        done.add(name)
        further = how.after[name]
        try:
            fields = fields_of(
                shown[name], {key: fill_in(text, order.fill) for key, text in further.fill.items()}, press=further.press
            )
        except ValueError as e:
            return Unclear(str(e))
        got = yield Submit(str(shown[name]["own"]), fields, further.press, channel.marks())
    return Unclear("one form after another")


def _to_visit(channel: Channel, how: RowHow, fill: Fill) -> Generator[Any, Any, str | No | Unclear | Ended]:
    """The place whose opening does it: of the row, or the page, what fills it written as RFC 3986, section 2.1, has
    it."""
    if how.view is not None and how.link:
        led = yield from _led_to(channel, how.view, how.link, fill)
        return led if not isinstance(led, str) else (yield from _followed(channel, led, how.through))
    quoted = {name: tuple(quote(p, safe="") if isinstance(p, str) else p for p in text) for name, text in fill.items()}
    return (yield from _followed(channel, place(fill_in(how.page, quoted)), how.through))


def _form_page(channel: Channel, how: RowHow, fill: Fill) -> Telling:
    """The page with the form: that of the ask, or the one its row leads to, or one of its own."""
    view = how.view
    if view is not None and how.link:
        return (yield from _behind(channel, view, how, fill))
    until = (lambda tree: view.item(tree, fill) is not MISSING) if view is not None and how.cells == "yes" else None
    page = AskHow(how.page) if view is None or how.page else view.ask
    return (yield from _looked(channel, replace(page, through=(*page.through, *how.through)), fill, until))


def _behind(channel: Channel, view: View, how: AskHow | RowHow, fill: Fill) -> Telling:
    """The page that the row of an item leads to."""
    leads = yield from _led_to(channel, view, how.link, fill)
    if not isinstance(leads, str):
        return leads
    return (yield from _looked(channel, AskHow(through=how.through), {}, led=leads))


def _led_to(channel: Channel, view: View, link: str, fill: Fill) -> Generator[Any, Any, str | No | Unclear | Ended]:
    """Where the row of an item leads to."""
    read = yield from _looked(channel, view.ask, fill, lambda tree: view.item(tree, fill) is not MISSING)
    if not isinstance(read, Done):
        return read
    node = view.item(read.reply.tree, fill)
    if node is MISSING:
        return No("there is no such row any more", sent=False)
    leads = allotted(node, view.items.handles.get(link, ""), fill)
    if leads is None or not own(leads):
        return No(f"its row leads nowhere by {link}", sent=False)
    return leads


def log_out(channel: Channel) -> Generator[Open | Submit, Any, None]:
    """End the session, where the unit knows a page for it, or a form on one."""
    target, _, name = channel.log_out.partition(" ")
    if not target:
        return
    got = yield Open(target)
    form = _named(channel, got.tree).get(name) if isinstance(got, Page) else None
    if form is not None:
        with contextlib.suppress(ValueError):
            yield Submit(str(form["own"]), fields_of(form, {}), marks=channel.marks())


def shown(tree: Tree) -> Tree:
    """A page by its places, for anyone who writes a file: of each form its fields, what they are or offer, and its
    buttons."""
    if not isinstance(tree, Mapping):
        return tree
    forms = {
        name: {
            "fields": {field: _kind_of(form, field) for field in sorted(names_of(form))},
            "press": _one_of(form["buttons"]),
        }
        for name, form in (tree.get("forms") or {}).items()
    }
    return {name: held for name, held in tree.items() if name != "text"} | {"forms": forms}


def _kind_of(form: Mapping[str, Any], field_name: str) -> Tree:
    kind, offered = next((kind, offered) for name, kind, _, offered in form["order"] if name == field_name)
    if kind in ("hidden", "secret", "off"):
        return Sort(kind)
    held = form["fields"].get(field_name, "")
    return _one_of(offered, held) if kind == "choice" else held


def _one_of(offered: Iterable[str], held: str = "") -> Sort:
    return Sort(f"one of {', '.join(offered) or 'nothing'}", held)


TALK = Talk(
    "pages", dict.fromkeys(("https", "http"), "pages:Pages"), Channel, AskHow, OpHow, message, login, ask, tell,
    log_out, part=part, apart=True,
    at=lambda place: AskHow(page=place), shown=shown, says_refused=False,
)  # fmt: skip
