"""A new way of talking is one file, one wire and a row: a whole one, objects over a session token, in this file."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from tests.bare import run_on
from yardbolt.core.family.check import family_of
from yardbolt.core.family.reading import extract, merge
from yardbolt.core.family.writing import render
from yardbolt.core.plane.change import Set
from yardbolt.core.plane.edit import get
from yardbolt.core.secret import Ref, Slot, Text
from yardbolt.core.talk.conversation import Asking, Fetch, Fill, Keys, Order, Replies, Talk, Unprompted
from yardbolt.core.talk.outcomes import Cut, Done, Ended, Login, Lost, No, Opened, Refused, Unclear
from yardbolt.core.talk.patterns import fill_in
from yardbolt.core.talk.replies import Heard, ReplyRow, reason, row_for
from yardbolt.core.talk.ways import WAYS


@dataclass(frozen=True)
class Sit:
    post: str
    who: str
    word: str


@dataclass(frozen=True)
class Channel(Unprompted):
    services: Mapping[str, str]
    login: Sit
    replies: tuple[ReplyRow, ...] = ()
    talk: str = "objects"


@dataclass(frozen=True)
class Asks(Unprompted):
    get: str

    def templates(self) -> Iterator[tuple[Keys, str]]:
        yield ("get",), self.get

    def asked_as(self) -> str:
        return self.get


@dataclass(frozen=True)
class Ops(Asks):
    get: str = ""
    patch: str = ""

    def templates(self) -> Iterator[tuple[Keys, str]]:
        yield ("patch",), self.patch


@dataclass(frozen=True)
class Call:
    method: str
    target: str
    body: Mapping[str, Text] = field(default_factory=dict)


@dataclass(frozen=True)
class Answer:
    status: int
    tree: Any


def login(
    channel: Channel, account: str, secret: Ref, authenticated: bool, consents: Fill
) -> Generator[Call, Answer | Lost, Login]:
    sit = channel.login
    answer = yield Call("POST", sit.post, {sit.who: (account,), sit.word: (Slot(secret),)})
    if isinstance(answer, Lost):
        return Cut(secret_sent=True)
    found = row_for(channel.replies, Heard(status=answer.status, tree=answer.tree))
    return Opened() if found and found.means == "inside" else Refused(str(answer.status))


def message(how: Asks | Ops, fill: Fill) -> Call:
    if isinstance(how, Ops):
        target = "".join(str(part) for part in fill_in(how.patch, fill))
        return Call("PATCH", target, {place: text for place, text in fill.items() if place != "key"})
    return Call("GET", how.get)


def exchange(channel: Channel, step: Fetch | Order, session: Any) -> Asking:
    answer = yield message(step.how, step.fill)
    if isinstance(answer, Lost):
        return Ended(sent=True)
    heard = Heard(status=answer.status, tree=answer.tree)
    found = row_for(channel.replies, heard)
    if found is None:
        return Unclear(f"no row of the family fits status {answer.status}")
    return Done(Replies(tree=answer.tree)) if found.means == "inside" else No(reason(found, heard))


def leave(channel: Channel) -> Generator[Call, Any, None]:
    yield Call("DELETE", channel.login.post)


TABLE = {**WAYS, "objects": Talk("objects", Channel, Asks, Ops, message, login, exchange, exchange, leave)}
TREE: dict[str, Any] = {
    "family": "wayside", "title": "Wayside cabinet",
    "channels": {"api": {"talk": "objects", "services": {"https": "sealed"}, "login": {"post": "/sit", "who": "name", "word": "word"},
                 "replies": [{"status": "403", "means": "refused"}, {"status": "409", "at": "faults", "means": "no", "said": "faults/*/why"},
                             {"status": "200", "means": "inside"}]}},
    "values": {"accounts/*/role": {"words": {"boss": "full", "guest": "read"}}},
    "asks": {"folk": {"get": "/folk", "rows": [{"at": "items/*", "into": "accounts", "key": "name", "whole": "yes",
             "leaves": {"role": "rank", "permitted": {"at": "from", "empty": "anyone"}, "enabled": {"at": "off", "words": {"yes": "no", "no": "yes"}}}}]}},
    "ops": {"folk": {"on": "folk", "set": ["accounts/*/role", "accounts/*/enabled", "accounts/*/permitted"], "patch": "/folk/{key}"}},
}  # fmt: skip


def wire(call: Call) -> Answer | Lost:
    """The unit and the wire in one: a cabinet that knows keeper, and refuses to make a guest of him."""
    if call.method == "POST":
        return Answer(200 if call.body["word"] == (Slot(Ref("safe:u/keeper")),) else 403, {})
    if call.method == "PATCH" and call.body.get("rank") == ("guest",):
        return Answer(409, {"faults": [{"why": "he is the last one"}]})
    people = [{"name": "keeper", "rank": "boss", "from": [], "off": False}, {"name": "a; b", "rank": "boss"}]
    return Answer(200, {"items": people[: 1 if call.target == "/folk" else 2]})


def test_a_way_of_talking_is_one_file_a_wire_and_a_row() -> None:
    """Logged in, read through a tree, written to the very place it is read from, refused with the unit's reason: by
    data and this file."""
    family = family_of(TREE, ways=TABLE)
    _, channel, talk = family.channel_of("https")
    assert isinstance(run_on(wire, talk.login(channel, "keeper", Ref("safe:u/keeper"), False, {})), Opened)
    assert isinstance(run_on(wire, talk.login(channel, "keeper", Ref("factory:1"), False, {})), Refused)
    (ask,) = family.asks
    read = run_on(wire, talk.ask_(channel, Fetch(ask.how), None))
    plane = merge(family, extract(family, ask, read.reply)).plane
    assert (
        get(plane, ("accounts", "keeper", "role")) == "full"
        and str(get(plane, ("accounts", "keeper", "permitted"))) == "anyone"
    )
    assert get(plane, ("accounts", "keeper", "enabled")) is True and plane.accounts.complete
    order = render(family, Set(("accounts", "keeper", "enabled"), False), plane)
    assert talk.message(order.how, order.fill) == Call("PATCH", "/folk/keeper", {"off": ("yes",)})
    assert isinstance(run_on(wire, talk.tell(channel, order, None)), Done)
    worse = render(family, Set(("accounts", "keeper", "role"), "read"), plane)
    assert run_on(wire, talk.tell(channel, worse, None)) == No("he is the last one")
    hostile = run_on(wire, talk.ask_(channel, Fetch(Asks("/all")), None))
    spoiled = merge(family, extract(family, ask, hostile.reply)).plane
    assert not spoiled.accounts.complete and "a; b" not in spoiled.accounts, "a name nobody may type is no key"
