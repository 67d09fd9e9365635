"""Talking in objects: JSON (RFC 8259) over HTTP (RFC 9110), with a session token, Basic (RFC 7617), Digest (RFC 7616), or a
challenge answered by a keyed digest (RFC 2104). One event: `Call` -> `Answer`.

Session secrets stay in the wire: what a login `keep`s is taken out of the answer before it comes here, and what a header
or a body needs of it is a `Kept`. Names the unit allots are looked up afresh by our key in the very message.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from ..secret import Ref, Slot, Text
from .conversation import BOUND, Asking, Fetch, Fill, Keys, Order, Replies, Talk, Telling, Unprompted
from .outcomes import Cut, Done, End, Ended, Locked, Login, Lost, No, NotReady, Opened, Refused, Silent, Unclear
from .patterns import fill_in, slots
from .replies import Heard, ReplyRow, reason, row_for
from .tree import MISSING, Tree, as_text, one, pick

OURS = {"ours": True}  # no key of a family file: filled in when one is read
MOST_PAGES = 200
VERBS = ("get", "post", "put", "patch", "delete")
LITERALS: Mapping[str, Any] = {"(yes)": True, "(no)": False, "(null)": None, "(list)": [], "(zero)": 0}


@dataclass(frozen=True)
class LoginHow:
    """How one logs in: by `auth`, seen at `page`; or by what `post` takes, after what `get` gives. `keep` names what the wire
    keeps of these answers, and where it stands there."""

    auth: Literal["", "basic", "digest"] = ""
    page: str = ""
    get: str = ""
    post: str = ""
    body: Mapping[str, str] = field(default_factory=dict)
    keep: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Channel(Unprompted):
    """How objects are asked for. `leave` is what ends a session: the method and the place."""

    services: Mapping[str, Literal["sealed", "plain"]]
    login: LoginHow
    headers: Mapping[str, str] = field(default_factory=dict)
    leave: str = ""
    replies: tuple[ReplyRow, ...] = ()
    talk: Literal["objects"] = "objects"


@dataclass(frozen=True)
class AskHow(Unprompted):
    """What is asked for; `next` is the place of the further page in the answer, where there may be one."""

    get: str
    next: str = ""

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The one text with slots."""
        yield ("get",), self.get

    def asked_as(self) -> str:
        """The method and the place, for the evidence."""
        return f"GET {self.get}"


@dataclass(frozen=True)
class View:
    """What an op writes to, as its ask reads it: how it is asked for, where the items stand, by which name they are known,
    and the names the unit allots to them (handle -> place in the item)."""

    ask: AskHow
    at: str = ""
    key: str = ""
    handles: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class OpHow(Unprompted):
    """What is sent: one of the methods and its place. `put` starts from the object just read, `patch` holds the changed
    members alone. `new` are the members of a new object that nothing else gives, as written or one of (yes) (no) (null)
    (list) (zero); `fill` are members made from slots."""

    post: str = ""
    put: str = ""
    patch: str = ""
    delete: str = ""
    new: Mapping[str, str] = field(default_factory=dict)
    fill: Mapping[str, str] = field(default_factory=dict)
    view: View | None = field(default=None, metadata=OURS)

    def method(self) -> tuple[str, str]:
        """The method, and the place with its slots."""
        return next(((verb, at) for verb in VERBS if (at := getattr(self, verb, ""))), ("", ""))

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The texts with slots, but for the handles, which are looked up."""
        verb, at = self.method()
        handles = self.view.handles if self.view else {}
        yield (verb,), at if not handles else "".join(_without(at, handles))
        for name, template in self.fill.items():
            yield ("fill", name), template

    def on(self, ask: AskHow, at: str, key: str, handles: Mapping[str, str]) -> OpHow:
        """The same, written to what this asks for."""
        return replace(self, view=View(ask, at, key, handles))

    def asked_as(self) -> str:
        """The method and the place."""
        verb, at = self.method()
        return f"{verb.upper()} {at}".strip()

    def as_data(self) -> bool:
        """Members of an object are data; what stands in its place is not."""
        _, at = self.method()
        return not any(name == "key" for name, _ in slots(at))


def _without(at: str, handles: Mapping[str, str]) -> Iterator[str]:
    for part in at.replace("{", "\0{").replace("}", "}\0").split("\0"):
        if part.strip("{}") not in handles or not part.startswith("{"):
            yield part


@dataclass(frozen=True)
class Kept:
    """A place that the wire fills with something it kept of this session."""

    name: str


@dataclass(frozen=True)
class Signed:
    """A place that the wire fills with the keyed digest (RFC 2104) of something it kept, under a secret, as hexadecimal."""

    ref: Ref
    kept: str
    digest: str = "sha256"


Member = Any  # a JSON value whose texts may be a Text (of strings and slots), a Kept or a Signed


@dataclass(frozen=True)
class Call:
    """One request. `body` is an object whose texts may hold slots; `auth` is the scheme and who, told once for the session;
    `keep` is what the wire takes out of the answer and keeps."""

    method: str
    target: str
    body: Member = None
    headers: tuple[tuple[str, Member], ...] = ()
    auth: tuple[str, str, Ref] | None = None
    keep: Mapping[str, str] = field(default_factory=dict)
    writes: bool = False


@dataclass(frozen=True)
class Answer:
    """What came back: the status, the object, the text where it was none, and where the unit points to instead."""

    status: int
    tree: Tree = None
    text: str = ""
    moved: str = ""


@dataclass(frozen=True)
class Session:
    """Nothing: tokens and challenges stay in the wire."""


def _headers(channel: Channel) -> tuple[tuple[str, Member], ...]:
    return tuple((name, _kept(text)) for name, text in channel.headers.items())


def _kept(text: str) -> Member:
    """A text of a login or a header: `{token}` alone is what the wire kept under that name."""
    inside = text[1:-1] if text.startswith("{") and text.endswith("}") else ""
    return Kept(inside) if inside and slots(text) == ((inside, ""),) else (text,)


# ---- logging in -----------------------------------------------------------------------------------------------------


def login(
    channel: Channel, account: str, secret: Ref, authenticated: bool, consents: Fill
) -> Generator[Call, Answer | Lost, Login]:
    """Log in as the channel says. Only a row of the table of replies tells what came of it."""
    how = channel.login
    if how.auth:
        got = yield Call("GET", how.page, auth=(how.auth, account, secret))
        return _entered(channel, got, True)
    if how.get:
        got = yield Call("GET", how.get, keep=how.keep)
        if isinstance(got, Lost) or got.status >= 400:
            return _entered(channel, got, False)
    body = _nested({name: _credential(text, account, secret) for name, text in how.body.items()})
    got = yield Call("POST", how.post, body, keep=how.keep)
    return _entered(channel, got, True)


def _credential(text: str, account: str, secret: Ref) -> Member:
    """A member of the login: {account}, {secret}, {secret:hmac NAME} or as written."""
    if text == "{account}":
        return (account,)
    if text == "{secret}":
        return (Slot(secret),)
    if text.startswith("{secret:hmac "):
        return Signed(secret, text[len("{secret:hmac ") : -1])
    return _kept(text)


def _entered(channel: Channel, got: Answer | Lost, sent: bool) -> Login:
    if isinstance(got, Lost):
        return Cut(sent, got.why) if got.end is End.CLOSED else Silent(sent, got.why or got.end.value)
    heard = _heard(got)
    found = row_for(channel.replies, heard)
    if found is None:
        return Silent(sent, f"it answers {got.status}, which the family does not know")
    said = reason(found, heard) if found.means != "inside" else ""
    match found.means:
        case "inside":
            return Opened(session=Session())
        case "refused":
            return Refused(said)
        case "locked":
            return Locked(said)
        case "not ready":
            return NotReady(said)
        case _:
            return Silent(sent, said)


def _heard(got: Answer) -> Heard:
    return Heard(got.text, got.status, got.tree)


# ---- asking ---------------------------------------------------------------------------------------------------------


def message(how: AskHow | OpHow, fill: Fill) -> Text:
    """The place that is asked or written, its handles left out. Raises ValueError where a slot stays open."""
    if isinstance(how, AskHow):
        return fill_in(how.get, fill)
    for name, template in how.fill.items():
        if not fill_in(template, fill):
            raise ValueError(f"nothing fills {name}")
    return fill_in(next(how.templates())[1], fill)


def ask(channel: Channel, fetch: Fetch, session: Session) -> Asking:
    """Ask for one object, with all its pages."""
    return (yield from _asked(channel, fetch.how, fetch.fill))


def _asked(channel: Channel, how: AskHow, fill: Fill, until: Any = None) -> Asking:
    target, pages = _place(fill_in(how.get, fill)), list[Tree]()
    while True:
        got = yield Call("GET", target, headers=_headers(channel))
        bad = _wrong(channel, got, sent=False)
        if bad is not None:
            return bad
        assert isinstance(got, Answer)
        pages.append(got.tree)
        further = one(got.tree, how.next) if how.next else MISSING
        if further is MISSING or not further or (until is not None and until(got.tree)):
            return Done(Replies(tree=pages[0] if len(pages) == 1 else _joined(pages)))
        if len(pages) >= MOST_PAGES or not isinstance(further, str) or not _own(further):
            return Unclear("its list has no end, or goes on elsewhere")
        target = further


def _own(target: str) -> bool:
    """Is it a place on this very unit?"""
    return target.startswith("/") and not target.startswith("//") and target.isprintable() and " " not in target


def _joined(pages: list[Tree]) -> Tree:
    """The pages of a list as one object: lists under the same name follow one another."""
    if all(isinstance(page, list) for page in pages):
        return [each for page in pages for each in page]
    out: dict[str, Any] = {}
    for page in pages:
        for name, value in page.items() if isinstance(page, Mapping) else ():
            out[name] = [*out[name], *value] if isinstance(value, list) and isinstance(out.get(name), list) else value
    return out


def _wrong(channel: Channel, got: Answer | Lost, sent: bool = True) -> No | Unclear | Ended | None:
    """What stands against taking this for an answer; None where nothing does."""
    if isinstance(got, Lost):
        return Ended(sent) if got.end is End.CLOSED else Unclear(got.why or got.end.value)
    heard = _heard(got)
    found = row_for(channel.replies, heard)
    if found is None:
        moved = f", and points to {got.moved}" if got.moved else ""
        return Unclear(f"it answers {got.status}, which the family does not know{moved}")
    if found.means == "inside":
        return None
    if found.means == "ended":
        return Ended(sent=False)
    said = reason(found, heard)
    return No(said or f"it answers {got.status}")


def _place(text: Text) -> str:
    """A place filled; no secret ever stands in one."""
    if any(not isinstance(part, str) for part in text):
        raise ValueError("a secret never stands in the place of an object")
    return "".join(part for part in text if isinstance(part, str))


# ---- telling --------------------------------------------------------------------------------------------------------


def tell(channel: Channel, order: Order, session: Session) -> Telling:
    """Write one thing: look first, so that its names and types are those of now; then send it once."""
    how: OpHow = order.how
    verb, at = how.method()
    found: Tree = None
    fill = dict(order.fill)
    handles = {name: place for name, place in how.view.handles.items() if f"{{{name}}}" in at} if how.view else {}
    if how.view is not None and (verb in ("put", "patch") or handles):
        looked = yield from _look(channel, how.view, fill)
        if not isinstance(looked, Done):
            return looked
        found = looked.reply.tree
        for handle, place in handles.items():
            name = as_text(one(found, place))
            if name is None or not _token(name):
                return No(f"it gives no usable {handle} for that", sent=False)
            fill[handle] = (name,)
    try:
        body = _body(how, verb, order.fill, found)
        target = _place(fill_in(at, fill))
    except ValueError as e:
        return No(str(e), sent=False)
    got = yield Call(verb.upper(), target, body, _headers(channel), writes=True)
    bad = _wrong(channel, got)
    if isinstance(bad, Unclear | Ended | No):
        return bad
    return Done(Replies(tree=got.tree if isinstance(got, Answer) else None))


def _look(channel: Channel, view: View, fill: Fill) -> Telling:
    """The object that is written to, as it is now: the one item of our key, or the whole."""
    key = fill.get("key", ("",))
    wanted = key[0] if key and isinstance(key[0], str) else ""

    def item(tree: Tree) -> Tree:
        if not view.at:
            return tree
        for keys, node in pick(tree, view.at):
            named = (keys[-1] if keys else None) if view.key == "#" else as_text(one(node, view.key))
            if named == wanted:
                return node
        return MISSING

    # names hold until the next look, so it ends on the page that shows the item
    read = yield from _asked(channel, view.ask, fill, lambda tree: item(tree) is not MISSING)
    if not isinstance(read, Done):
        return read
    node = item(read.reply.tree)
    return No("there is no such item any more", sent=False) if node is MISSING else Done(Replies(tree=node))


def _token(name: str) -> bool:
    return (
        0 < len(name) <= 64
        and all(c.isascii() and (c.isalnum() or c in "_-.:") for c in name)
        and name.strip(".") != ""
    )


def _body(how: OpHow, verb: str, fill: Fill, found: Tree) -> Member:
    """What is sent. Raises ValueError where a value does not suit what stands there."""
    if verb == "delete":
        return None
    changed = {place[len(BOUND) :]: text for place, text in fill.items() if place.startswith(BOUND)}
    members: dict[str, Member] = {name: _literal(text) for name, text in how.new.items()}
    members |= {name: fill_in(template, fill) for name, template in how.fill.items()}
    for place, text in changed.items():
        members[place] = _typed(place, text, one(found, place))
    if verb == "put" and isinstance(found, Mapping):
        whole = _copied(found)
        for place, member in members.items():
            _put(whole, place, member)
        return whole
    return _nested(members) if members else None


def _literal(text: str) -> Member:
    return LITERALS.get(text, (text,))


def _typed(place: str, text: Text, there: Tree) -> Member:
    """A value as what stood there is: a number stays one, and so do a flag, a list and a null."""
    if not text:
        return [] if isinstance(there, list) else None if there is None else ("",)
    if any(not isinstance(part, str) for part in text):
        return text
    plain = "".join(part for part in text if isinstance(part, str))
    if isinstance(there, bool):
        if plain not in ("yes", "no"):
            raise ValueError(f"{place} is a flag there, and '{plain}' is none")
        return plain == "yes"
    if isinstance(there, int | float):
        try:
            return int(plain)
        except ValueError:
            raise ValueError(f"{place} is a number there, and '{plain}' is none") from None
    if isinstance(there, list):
        return [(each.strip(),) for each in plain.split(",")]
    return (plain,)


def _copied(node: Tree) -> Any:
    if isinstance(node, Mapping):
        return {name: _copied(child) for name, child in node.items()}
    return [_copied(child) for child in node] if isinstance(node, list) else (node,) if isinstance(node, str) else node


def _nested(flat: Mapping[str, Member]) -> dict[str, Member]:
    out: dict[str, Any] = {}
    for place, member in flat.items():
        _put(out, place, member)
    return out


def _put(into: dict[str, Any], place: str, member: Member) -> None:
    *path, last = place.split("/")
    for step in path:
        below = into.get(step)
        if not isinstance(below, dict):
            below = into[step] = {}
        into = below
    into[last] = member


def leave(channel: Channel) -> Generator[Call, Any, None]:
    """End the session, where the unit knows an end of it."""
    verb, _, target = channel.leave.partition(" ")
    if target:
        yield Call(verb.upper(), target, headers=_headers(channel))


TALK = Talk("objects", Channel, AskHow, OpHow, message, login, ask, tell, leave)
__all__ = ["TALK", "Answer", "Call", "Channel", "Kept", "Signed"]
