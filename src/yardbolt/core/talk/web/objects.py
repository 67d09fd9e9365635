"""Talking in objects: JSON (RFC 8259) over HTTP (RFC 9110), with a session token, Basic (RFC 7617), Digest (RFC
7616), or a challenge answered by a keyed digest (RFC 2104). One event: `Call` -> `Answer`.

Session secrets stay in the wire: what a login `keep`s is taken out of the answer before it comes here, and what a
header or a body needs of it is a `Kept`. Names the unit allots are looked up again by our key for each message."""

from __future__ import annotations

from collections.abc import Generator, Mapping
from dataclasses import replace
from functools import partial
from typing import Any

from ...secret import Ref, Slot, Text
from ..conversation import BOUND, Asking, Fetch, Fill, Order, Replies, Talk, Telling
from ..outcomes import Done, Ended, Login, Lost, No, Silent, Unclear
from ..patterns import fill_in, slots
from ..replies import Heard, row_for
from ..rowsets import OneByOne, row_by_row
from ..tree import MISSING, Tree, one
from .bodies import Kept, Member, bound_in, copied, from_slots, leave_out, literal, nested, put_at
from .objectchannel import Answer, AskHow, Call, Channel, LoginHow, OpHow, RowHow, Session
from .shared import (  # fmt: skip
    ACCOUNT,
    MOST_PAGES,
    SIGNED,
    Signed,
    View,
    allotted,
    asks_for_login,
    entered,
    lost,
    objection,
    own,
    place,
    signed_by,
    unanswered,
)

BESIDE = ("cookie ", "header ")  # where a mark may stand that later answers renew


IF_MATCH, CHANGED_MEANWHILE = "If-Match", 412


def _call(
    channel: Channel, verb: str, at: str, body: Member = None, tag: str = ""
) -> Generator[Call, Answer | Lost, Answer | Lost]:
    """One request of a session; marks that stand beside its answer are renewed. With a `tag` it counts only if what
    stands there still has it (RFC 9110, section 13.1.1)."""
    keep = {name: at for name, at in channel.login.keep.items() if at.startswith(BESIDE)}
    query = tuple((name, _kept(text)) for name, text in channel.query.items())
    headers = (*_headers(channel), *(((IF_MATCH, (tag,)),) if tag else ()))
    sent = Call(verb.upper(), at, body, headers, keep=keep, form=channel.encode == "form", query=query)
    return (yield from _with_mark(channel, sent))


def _told(
    channel: Channel, verb: str, at: str, body: Member, read: tuple[str, str], spent: set[str]
) -> Generator[Call, Answer | Lost, Done[Replies] | No | Unclear | Ended]:
    """One request that writes, and what came of it. An entity tag that did not hold is `spent`; one of another place
    says nothing."""
    tag = read[1] if read[0] == at and read[1] not in spent else ""
    got = yield from _call(channel, verb, at, body, tag)
    if tag and isinstance(got, Answer) and got.status == CHANGED_MEANWHILE:
        spent.add(tag)
        return No("somebody changed it at this very moment")
    bad = _wrong(channel, got, sent=True)
    return bad or Done(Replies(tree=got.tree if isinstance(got, Answer) else None))


def _with_mark(channel: Channel, sent: Call) -> Generator[Call, Answer | Lost, Answer | Lost]:
    """One request; once more with the headers of the session, where the answer says that it was not taken, and gives
    the mark that lacked."""
    got = yield sent
    found = row_for(channel.replies, _heard(got)) if isinstance(got, Answer) else None
    if found is None or found.means != "again":
        return got
    tagged = tuple(one for one in sent.headers if one[0] == IF_MATCH)
    return (yield replace(sent, headers=(*_headers(channel), *tagged)))


def _headers(channel: Channel) -> tuple[tuple[str, Member], ...]:
    return tuple((name, _kept(text)) for name, text in channel.headers.items())


def _outside(channel: Channel) -> tuple[tuple[str, Member], ...]:
    """The headers that need nothing of a session: they are sent before there is one, too."""
    return tuple(
        (name, _kept(text)) for name, text in channel.headers.items() if {one for one, _ in slots(text)} <= {"origin"}
    )


def _kept(text: str) -> Member:
    """A text of a login or a header: `{token}` is what the wire kept under that name."""
    names = [name for name, notation in slots(text) if not notation]
    if not names:
        return (text,)
    if text == f"{{{names[0]}}}":
        return Kept(names[0])
    parts: list[str | Kept] = []
    for name in names:
        before, _, text = text.partition(f"{{{name}}}")
        parts += [before, Kept(name)]
    return tuple(part for part in (*parts, text) if part != "")


def login(
    channel: Channel, account: str, secret: Ref, authenticated: bool, consents: Fill
) -> Generator[Call, Answer | Lost, Login]:
    """Log in as the channel says. Only a row of the table of replies tells what came of it."""
    how = channel.login
    if how.auth:
        first = yield from _with_mark(channel, Call("GET", how.page, headers=_outside(channel), keep=how.keep))
        if isinstance(first, Lost) or not asks_for_login(channel.replies, _heard(first)):
            return _entered(channel, first, False)
        marked = _headers(channel) if how.auth == "header" else _outside(channel)
        sent = Call("GET", how.page, None, marked, (how.auth, how.account.replace(ACCOUNT, account), secret), how.keep)
        return _entered(channel, (yield from _with_mark(channel, sent)), True)
    if how.get:
        got = yield Call("GET", how.get, headers=_outside(channel), keep=how.keep)
        if isinstance(got, Lost) or got.status >= 400:
            return _entered(channel, got, False)
        # without it the answer could only be wrong, and would cost a try
        if lacks := sorted(_asked_of(how) - got.kept):
            return Silent(False, f"its answer holds no {lacks[0]}")
    body = nested({name: _credential(text, account, secret) for name, text in how.body.items()})
    sent = Call("POST", how.post, body, _outside(channel), keep=how.keep, form=how.encode == "form")
    return _entered(channel, (yield from _with_mark(channel, sent)), True)


def _asked_of(how: LoginHow) -> set[str]:
    """The names of what the unit gives first and the login needs."""
    return {name for text in how.body.values() for name, _ in slots(text.replace(SIGNED, "{"))} & how.keep.keys()


def _entered(channel: Channel, got: Answer | Lost, sent: bool) -> Login:
    return lost(got, sent) if isinstance(got, Lost) else entered(channel.replies, _heard(got), sent, Session())


def _credential(text: str, account: str, secret: Ref) -> Member:
    """A member of the login: {account} with what the unit wants beside it, {secret}, {secret:hmac NAME}, what was
    kept, or as written."""
    if ACCOUNT in text:
        return (text.replace(ACCOUNT, account),)
    if text == "{secret}":
        return (Slot(secret),)
    return signed_by(text, secret) or (_kept(text) if "{" in text else literal(text))


def _heard(got: Answer) -> Heard:
    return Heard(got.text, got.status, got.tree)


def message(how: AskHow | RowHow, fill: Fill) -> Text:
    """The place that is asked or written, its handles left out. Raises ValueError where a slot stays open."""
    if isinstance(how, OneByOne) and how.adds is not None:
        return tuple(part for added, row in how.added(fill) for part in message(added, row))
    if isinstance(how, AskHow):
        _members(how, fill)
        return fill_in(how.post or how.get, fill)
    # a handle is looked up when the message is sent
    later = dict.fromkeys(how.view.items.handles, ("",)) if how.view else {}
    for name, template in how.fill.items():
        if any(slot in later for slot, _ in slots(template)):
            fill_in(template, {**later, **fill})
            continue
        if not fill_in(template, fill):
            raise ValueError(f"nothing fills {name}")
        from_slots(template, fill)
    return fill_in(next(how.templates())[1], fill)


def ask(channel: Channel, fetch: Fetch, session: Session) -> Asking:
    """Ask for one object, with all its pages."""
    fill = yield from _with_handles(channel, fetch.how, fetch.fill)
    return fill if not isinstance(fill, dict) else (yield from _asked(channel, fetch.how, fill))


def _with_handles(
    channel: Channel, how: AskHow, fill: Fill
) -> Generator[Call, Any, dict[str, Text] | No | Unclear | Ended]:
    """What fills the place of one item, its handles looked up again where another ask gives them."""
    if how.view is None:
        return dict(fill)
    looked = yield from _look(channel, how.view, fill)
    return _named(how.view.items.handles, looked.reply.tree, fill) if isinstance(looked, Done) else looked


def _named(handles: Mapping[str, str], found: Tree, fill: Fill) -> dict[str, Text] | No:
    """The slots, with the names the unit allots to an item."""
    out = dict(fill)
    for handle, where in handles.items():
        name = allotted(found, where, fill)
        if name is None or not _token(name):
            return No(f"it gives no usable {handle} for that", sent=False)
        out[handle] = (name,)
    return out


def _asked(channel: Channel, how: AskHow, fill: Fill, until: Any = None) -> Asking:
    target, pages = place(fill_in(how.post or how.get, fill)), list[Tree]()
    body = nested(_always(channel) | _members(how, fill)) if how.post else None
    while True:
        got = yield from _call(channel, "post" if how.post else "get", target, body)
        bad = _wrong(channel, got, sent=False)
        if bad is not None:
            return bad
        assert isinstance(got, Answer)
        pages.append(one(got.tree, channel.envelope) if channel.envelope else got.tree)
        if pages[-1] is MISSING:
            return Unclear(f"its answer holds no {channel.envelope}")
        further = one(got.tree, how.next) if how.next else MISSING
        if further is MISSING or not further or (until is not None and until(pages[-1])):
            tag = (target, got.tag) if len(pages) == 1 and not how.post else ("", "")
            return Done(Replies(tree=pages[0] if len(pages) == 1 else _joined(pages), tag=tag))
        if len(pages) >= MOST_PAGES or not isinstance(further, str) or not own(further):
            return Unclear("its list has no end, or goes on elsewhere")
        target = further


def _members(how: AskHow, fill: Fill) -> dict[str, Member]:
    """What an ask by `post` says it wants. Raises ValueError where a slot stays open."""
    return {name: from_slots(text, fill) if "{" in text else literal(text) for name, text in how.body.items()}


def _joined(pages: list[Tree]) -> Tree:
    """The pages of a list as one object: lists under the same name follow one another."""
    if all(isinstance(page, list) for page in pages):
        return [each for page in pages for each in page]
    out: dict[str, Any] = {}
    for page in pages:
        for name, value in page.items() if isinstance(page, Mapping) else ():
            out[name] = [*out[name], *value] if isinstance(value, list) and isinstance(out.get(name), list) else value
    return out


def _wrong(channel: Channel, got: Answer | Lost, sent: bool) -> No | Unclear | Ended | None:
    return unanswered(got, sent) if isinstance(got, Lost) else objection(channel.replies, _heard(got), got.moved)


def tell(channel: Channel, order: Order, session: Session) -> Telling:
    """Write one thing: look first, so that its names and types are those of now; then send it once. Where it changed
    in between, look once more; a unit whose tag is still the same ignores tags, and gets the order without one."""
    how: RowHow = order.how
    if isinstance(how, OneByOne) and how.adds is not None:
        look = partial(_asked, channel, how.read_by(), order.fill)
        return (yield from row_by_row(order, look, partial(tell, channel, session=session)))
    spent = set[str]()
    got = yield from _tell(channel, order, spent)
    return got if not spent else (yield from _tell(channel, order, spent))


def _tell(channel: Channel, order: Order, spent: set[str]) -> Telling:
    how: RowHow = order.how
    verb, at = how.method()
    found: Tree = None
    tag = ("", "")
    fill = dict(order.fill)
    texts = (at, *how.fill.values())
    known = how.view.items.handles if how.view else {}
    handles = {name: place for name, place in known.items() if any(f"{{{name}}}" in text for text in texts)}
    if how.list == "yes" and how.view is not None:
        return (yield from _tell_whole(channel, how, verb, at, fill, spent))
    bound = any(name.startswith(BOUND) for name in fill)
    if how.view is not None and (verb in ("put", "patch") or handles or bound):
        above = how.view.ask.view if not how.view.items.at else None
        if above is not None:
            given = yield from _with_handles(channel, how.view.ask, fill)
            if not isinstance(given, dict):
                return given
            fill = given
        looked = yield from _look(channel, how.view, fill)
        if not isinstance(looked, Done):
            return looked
        found, tag = looked.reply.tree, looked.reply.tag
        if above is None:
            named = _named(handles, found, fill)
            if not isinstance(named, dict):
                return named
            fill = named
    try:
        body = _body(channel, how, verb, fill, found)
        target = place(fill_in(at, fill))
    except ValueError as e:
        return No(str(e), sent=False)
    return (yield from _told(channel, verb, target, body, tag, spent))


def _tell_whole(channel: Channel, how: RowHow, verb: str, at: str, fill: dict[str, Text], spent: set[str]) -> Telling:
    """Write a list as a whole: as it was just read, with one item changed, added or left out."""
    assert how.view is not None
    read = yield from _asked(channel, how.view.ask, fill)
    if not isinstance(read, Done):
        return read
    tree, where = read.reply.tree, how.view.items.at.removesuffix("/*").removesuffix("*")
    if how.view.ask.next and one(tree, how.view.ask.next) not in (MISSING, None, ""):
        return No("its list comes in parts, so it cannot be written whole", sent=False)
    there = one(tree, where) if where else tree
    if not isinstance(there, list):
        return No("it shows no list there", sent=False)
    at_place = next((n for n, item in enumerate(there) if item is how.view.item(tree, fill)), None)
    try:
        members = {name: from_slots(template, fill) for name, template in how.fill.items()}
        if at_place is not None:
            members |= bound_in(fill, there[at_place])
        elif how.fill and not any(name.startswith(BOUND) for name in fill):
            members = {name: literal(text) for name, text in how.new.items()} | members
        else:
            return No("there is no such item any more", sent=False)
        whole = copied(tree)
        items = one(whole, where) if where else whole
        for n, item in enumerate(items):
            leave_out(item, how.without, members if n == at_place else {})
    except ValueError as e:
        return No(str(e), sent=False)
    if at_place is not None and not members:
        del items[at_place]
    else:
        if at_place is None:
            items += [{}]
        for name, member in members.items():
            put_at(items[-1 if at_place is None else at_place], name, member)
    for name, member in _always(channel).items() if isinstance(whole, dict) else ():
        put_at(whole, name, member)
    return (yield from _told(channel, verb, place(fill_in(at, fill)), whole, read.reply.tag, spent))


def _look(channel: Channel, view: View, fill: Fill) -> Telling:
    """The object that is written to, as it is now: the one item of our key, or the whole."""
    # names hold until the next look, so it ends on the page that shows the item
    read = yield from _asked(channel, view.ask, fill, lambda tree: view.item(tree, fill) is not MISSING)
    if not isinstance(read, Done):
        return read
    node = view.item(read.reply.tree, fill)
    return No("there is no such item any more", sent=False) if node is MISSING else Done(replace(read.reply, tree=node))


def _token(name: str) -> bool:
    return (
        0 < len(name) <= 64
        and all(c.isascii() and (c.isalnum() or c in "_-.:") for c in name)
        and name.strip(".") != ""
    )


def _body(channel: Channel, how: RowHow, verb: str, fill: Fill, found: Tree) -> Member:
    """What is sent. Raises ValueError where a value does not suit what stands there."""
    if verb == "delete":
        return None
    members = _always(channel) | {name: literal(text) for name, text in how.new.items()}
    members |= {name: from_slots(template, fill) for name, template in how.fill.items()}
    for name, member in bound_in(fill, found).items():
        members[f"{how.under}/{name}" if how.under else name] = member
    if verb == "put" and isinstance(found, Mapping):
        whole = copied(found)
        leave_out(whole, how.without, members)
        for name, member in members.items():
            put_at(whole, name, member)
        return whole
    return nested(members) if members else None


def _always(channel: Channel) -> dict[str, Member]:
    """What stands in every object that is sent."""
    return {name: _kept(text) for name, text in channel.members.items()}


def log_out(channel: Channel) -> Generator[Call, Any, None]:
    """End the session, where the unit knows an end of it."""
    verb, _, target = channel.log_out.partition(" ")
    if target:
        yield from _call(channel, verb, target)


TALK = Talk(
    "objects",
    dict.fromkeys(("https", "http"), "objects:Objects"),
    Channel,
    AskHow,
    OpHow,
    message,
    login,
    ask,
    tell,
    log_out,
    apart=True,
    at=lambda place: AskHow(get=place),
)


__all__ = ["TALK", "Answer", "Call", "Channel", "Signed"]
