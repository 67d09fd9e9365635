"""The keys of the way over objects, and its events: a call and its answer."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Literal, Self

from ...secret import Ref
from ..conversation import OURS, Keys, Unprompted
from ..patterns import slots
from ..replies import ReplyRow
from ..rowsets import OneByOne
from ..tree import Items, Tree
from .bodies import Member
from .shared import ACCOUNT, View, mixed_in

VERBS = ("get", "post", "put", "patch", "delete")


@dataclass(frozen=True)
class LoginHow:
    """How one logs in: by `auth`, seen at `page` (`header`: the channel's headers hold `{secret}`); or by what `post`
    takes (as an object, or with `encode: form` as a form), after what `get` gives. `account` is what `auth` gives as
    the name. `keep` names what the wire keeps of these answers, and where it stands there: a place of the object,
    `cookie NAME` or `header NAME`, which later answers renew."""

    auth: Literal["", "basic", "digest", "header"] = ""
    page: str = ""
    account: str = ACCOUNT
    get: str = ""
    post: str = ""
    body: Mapping[str, str] = field(default_factory=dict)
    keep: Mapping[str, str] = field(default_factory=dict)
    encode: Literal["", "form"] = ""


@dataclass(frozen=True)
class Channel(Unprompted):
    """How objects are asked for. `log_out` is what ends a session: the method and the place; `envelope` the place in
    every answer where what was asked for stands. `query` stands in every address after the login, `members` in every
    object that is sent after the login; with `encode: form` each is sent as a form
    (application/x-www-form-urlencoded)."""

    services: Mapping[str, Literal["sealed", "plain"]]
    login: LoginHow
    headers: Mapping[str, str] = field(default_factory=dict)
    members: Mapping[str, str] = field(default_factory=dict)
    query: Mapping[str, str] = field(default_factory=dict)
    log_out: str = ""
    envelope: str = ""
    encode: Literal["", "form"] = ""
    replies: tuple[ReplyRow, ...] = ()
    talk: Literal["objects"] = "objects"

    def amiss(self) -> tuple[Keys, str] | None:
        """A key in a header that no header holds, a secret in the place of an address, or more than a name around a
        name."""
        if named := next((name for name, text in self.query.items() if "{secret" in text or ACCOUNT in text), ""):
            return ("query", named), "neither a name nor a secret stands in an address"
        if mixed := mixed_in(self.login.account, *self.login.body.values()):
            return ("login",), mixed
        held = self.login.auth != "header" or any("{secret}" in text for text in self.headers.values())
        return None if held else (("login", "auth"), "none of the headers holds {secret}")


@dataclass(frozen=True)
class AskHow(Unprompted):
    """What is asked for: by `get`; or by `post`, whose `body` says what. `next` is the place of the further page in
    the answer, where there may be one."""

    get: str = ""
    next: str = ""
    post: str = ""
    body: Mapping[str, str] = field(default_factory=dict)
    view: View | None = field(default=None, metadata=OURS)

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The texts with slots, but for the handles, which are looked up."""
        handles = self.view.items.handles if self.view else {}
        yield ("post" if self.post else "get",), "".join(_without(self.post or self.get, handles))
        for name, template in self.body.items():
            yield ("body", name), "".join(_without(template, handles))

    def on(self, ask: AskHow, items: Items) -> AskHow:
        """The same of one item at a time, whose handles this ask gives."""
        return replace(self, view=View(ask, items))

    def amiss(self) -> tuple[Keys, str] | None:
        """Two methods."""
        both = self.get and self.post
        return (("post",), "get says already what is asked; leave one of the two out") if both else None

    def asked_as(self) -> str:
        """The method and the place, for the evidence."""
        return " ".join([f"POST {self.post}", *self.body.values()]) if self.post else self.get and f"GET {self.get}"


@dataclass(frozen=True)
class RowHow(Unprompted):
    """What is sent: one of the methods and its place. `put` starts from the object just read, `patch` holds the
    changed members alone, and so does `post` where it is `on` an ask; they stand `under` a place of what is sent.
    `new` are the members of a new object that nothing else gives, as written or one of (yes) (no) (null) (list)
    (number 3); `fill` are members made from slots, texts but for (number {value}) and (flag {value}). `list: yes`:
    the place takes its whole list, so what is sent is the list as it was just read, with the item changed, put at the
    end, or (where nothing is filled in) left out. `without` are members that are read and not sent back."""

    post: str = ""
    put: str = ""
    patch: str = ""
    delete: str = ""
    new: Mapping[str, str] = field(default_factory=dict)
    fill: Mapping[str, str] = field(default_factory=dict)
    under: str = ""
    list: Literal["", "yes", "no"] = ""
    without: tuple[str, ...] = ()
    view: View | None = field(default=None, metadata=OURS)

    def method(self) -> tuple[str, str]:
        """The method, and the place with its slots."""
        return next(((verb, at) for verb in VERBS if (at := getattr(self, verb, ""))), ("", ""))

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The texts with slots, but for the handles, which are looked up."""
        verb, at = self.method()
        handles = self.view.items.handles if self.view else {}
        yield (verb,), at if not handles else "".join(_without(at, handles))
        for name, template in self.fill.items():
            yield ("fill", name), "".join(_without(template, handles))

    def on(self, ask: AskHow, items: Items) -> Self:
        """The same, written to what this asks for; what stands for one item alone takes its handles from where that
        does."""
        above = ask.view.items.handles if ask.view and not items.at else {}
        return replace(self, view=View(ask, replace(items, handles=items.handles or above)))

    def writes_rows(self) -> bool:
        """A list is a member like any other."""
        return True

    def asked_as(self) -> str:
        """The method and the place."""
        verb, at = self.method()
        return f"{verb.upper()} {at}".strip()

    def as_data(self) -> bool:
        """Members of an object are data; what stands in its place is not."""
        _, at = self.method()
        return not any(name == "key" for name, _ in slots(at))


@dataclass(frozen=True)
class OpHow(OneByOne, RowHow):
    """The same; or, for a set whose rows are added and taken away one at a time, how one of them is."""

    adds: RowHow | None = None
    takes: RowHow | None = None


def _without(at: str, handles: Mapping[str, str]) -> Iterator[str]:
    for part in at.replace("{", "\0{").replace("}", "}\0").split("\0"):
        if part.strip("{}") not in handles or not part.startswith("{"):
            yield part


@dataclass(frozen=True)
class Call:
    """One request. `body` is an object whose texts may hold slots, sent as JSON or as a `form`; `auth` is the scheme
    and who, told once for the session; `keep` is what the wire takes out of the answer and keeps."""

    method: str
    target: str
    body: Member = None
    headers: tuple[tuple[str, Member], ...] = ()
    auth: tuple[str, str, Ref] | None = None
    keep: Mapping[str, str] = field(default_factory=dict)
    form: bool = False
    query: tuple[tuple[str, Member], ...] = ()


@dataclass(frozen=True)
class Answer:
    """What came back: the status, the object, the text where it was none, where the unit points to instead, the
    entity tag (RFC 9110, section 8.8.3) of what it is, and the names of what the wire keeps by then."""

    status: int
    tree: Tree = None
    text: str = ""
    moved: str = ""
    tag: str = ""
    kept: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Session:
    """Nothing: tokens and challenges stay in the wire."""
