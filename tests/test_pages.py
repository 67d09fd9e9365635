"""Talking in pages: what a browser would send, hostile pages, the wire on real sockets."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import replace
from functools import partial
from typing import Any
from urllib.parse import urlencode

import pytest

from tests.bare import run_on
from tests.conftest import NETWORK
from yardbolt.adapters.files import load_family, shipped
from yardbolt.core.addresses import ANYONE, AddressSet
from yardbolt.core.credentials import Password
from yardbolt.core.doors import Door
from yardbolt.core.family.bound import bind
from yardbolt.core.family.building import family_of
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.parts import Fact, Whole
from yardbolt.core.family.reading import merge
from yardbolt.core.plane.change import Drop, Make, Set
from yardbolt.core.plane.edit import get, make, put
from yardbolt.core.plane.evidence import Leftover
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.secret import Ref, Secret, Slot
from yardbolt.core.talk.conversation import Fetch, Order, Replies
from yardbolt.core.talk.outcomes import (
    Asked,
    Cut,
    Done,
    End,
    Ended,
    Locked,
    Lost,
    No,
    NotReady,
    Opened,
    Refused,
    Silent,
    Unclear,
)
from yardbolt.core.talk.tree import Items
from yardbolt.core.talk.web.forms import HIDDEN, fields_of
from yardbolt.core.talk.web.pagechannel import AskHow, OpHow
from yardbolt.core.talk.web.pages import Open, Page, Submit
from yardbolt.core.talk.web.shared import Signed
from yardbolt.wires.markup import read_page
from yardbolt.wires.pages import Pages, _charset, _encoded

TREE: dict[str, Any] = {
    "family": "hut", "title": "Signal hut",
    "channels": {"desk": {
        "talk": "pages", "services": {"https": "sealed"}, "forms": {"first": ["w1", "w2"]}, "log_out": "/out",
        "login": {"page": "/door", "forms": {"door": {"fill": {"who": "{account}", "word": "{secret}"}, "press": "In"},
                                             "first": {"gate": "change", "fill": {"w1": "{new}", "w2": "{new}"}}}},
        "replies": [{"text": "wait", "means": "not ready"}, {"text": "shut for you", "means": "locked"}, {"text": "not let in", "means": "refused"},
                    {"form": "door", "means": "ended"}, {"text": "No:", "means": "no"}, {"text": "sent twice", "means": "asked twice"},
                    {"title": "Desk", "means": "inside"}]}},
    "asks": {"rest": {"page": "/rest", "form": "rest", "leaves": {"idle": {"at": "m", "codec": "minutes", "words": {"0": "never"}}, "banner": {"at": "t", "empty": "not set"}}},
             "folk": {"page": "/folk", "next": "More", "rows": [{"at": "tables/Folk/*", "into": "accounts", "key": "Name", "whole": "yes",
                      "handles": {"alter": "links/Alter"}, "leaves": {"role": "Rank"}}]}},
    "values": {"accounts/*/role": {"words": {"chief": "full", "guest": "read"}}},
    "ops": {"rest": {"on": "rest", "press": "Note", "set": ["idle", "banner"]},
            "hire": {"page": "/folk", "form": "new", "make": ["accounts/*"], "fill": {"n": "{key}", "r": "{role}", "w": "{secret}"}},
            "rank": {"on": "folk", "link": "alter", "form": "one", "press": "Note", "set": ["accounts/*/role"], "fill": {"r": "{value}"}, "blank": ["w"]},
            "dismiss": {"on": "folk", "link": "alter", "form": "one", "press": "Go", "blank": ["w"], "drop": ["accounts/*"], "after": {"sure": {"press": "Yes"}}}},
}  # fmt: skip
FAMILY = family_of(TREE)
_, CHANNEL, TALK = FAMILY.channel_of("https")
DOOR = "<title>Hut</title><form name=door method=post action=/door><input type=hidden name=g value=77><input name=who><input type=password name=word><button>In</button></form></html>"
REST = (
    "<title>Desk</title><form name=rest method=post action=/rest><input type=hidden name=g value=5><input name=m value=0><textarea name=t></textarea>"
    "<input type=checkbox name=bell value=1 checked><input type=checkbox name=lamp><input name=old value=x disabled><select name=z><option value=a>A"
    "<option value=b selected>B</select><input type=radio name=q value=1><input type=radio name=q value=2 checked><input type=file name=f>"
    "<input type=submit name=p value=Note><button name=p value=Wipe>Wipe</button></form></html>"
)
FOLK = (
    "<title>Desk</title><table><caption>Folk</caption><tr><th>Name<th>Rank<th></tr><tr><td>keeper<td>chief<td><a href='/one?n=1'>Alter</a></tr></table>"
    "{more}<form name=new method=post><input name=n><select name=r><option>chief<option>guest</select><input type=password name=w><button>Take on</button></form></html>"
)
ONE = "<title>Desk</title><form name=one method=post><select name=r><option selected>chief<option>guest</select><input type=password name=w><button>Note</button><button>Go</button></form></html>"
SURE = "<title>Desk</title><form name=sure method=post><button>Yes</button></form></html>"
INSIDE = "<title>Desk</title><p>noted</p></html>"


def within(href: str) -> str | None:
    """A link of the hut as a place on it."""
    return None if "//" in href else href or "/here"


def page(text: str, status: int = 200) -> Page:
    """A page as the wire gives it."""
    tree, _, _, torn = read_page(text.encode(), "utf-8", within)
    return Page(status, tree, torn=torn)


class Hut:
    """The unit and the wire in one: it shows its pages and keeps what was submitted."""

    def __init__(self, after: Mapping[str, str] | None = None, **pages: str) -> None:
        self.pages = {
            "/door": DOOR,
            "/rest": REST,
            "/folk": FOLK.format(more="<a href=/folk2>More</a>"),
            "/one?n=1": ONE,
            "/one?n=2": ONE,
            **{f"/{k}": v for k, v in pages.items()},
        }
        self.pages["/folk2"] = FOLK.format(more="").replace("keeper", "other").replace("n=1", "n=2")
        self.after, self.sent, self.asked = dict(after or {}), list[Submit](), list[str]()

    def __call__(self, event: Open | Submit) -> Page | Lost:
        if isinstance(event, Open):
            self.asked.append(event.target)
            return page(self.pages[event.target])
        self.sent.append(event)
        return page(self.after.get(event.form, INSIDE))


def logged(hut: Any, consents: Any = None) -> Any:
    """A login at the hut."""
    return run_on(hut, TALK.login(CHANNEL, "keeper", Ref("safe:u/keeper"), False, consents or {}))


def test_logging_in_is_forms_in_a_row_each_once() -> None:
    """The door, then a question only with consent; a door that comes again is a refusal; what no row knows is
    silence."""
    hut = Hut()
    assert isinstance(logged(hut), Opened)
    (sent,) = hut.sent
    assert (
        sent.fields == (("g", HIDDEN), ("who", ("keeper",)), ("word", (Slot(Ref("safe:u/keeper")),)))
        and sent.button == "In"
    )
    first = "<title>Hut</title><p>Set a word.</p><form method=post><input type=password name=w1><input type=password name=w2><button>Set</button></form></html>"
    asked = logged(Hut({"door": first}))
    assert isinstance(asked, Asked) and asked.gate == "change" and "Set a word." in asked.said
    hut = Hut({"door": first})
    assert isinstance(logged(hut, {"change": (Slot(Ref("safe:u/keeper")),)}), Opened)
    assert hut.sent[1].fields == (("w1", (Slot(Ref("safe:u/keeper")),)), ("w2", (Slot(Ref("safe:u/keeper")),)))
    for after, outcome in (
        (DOOR, Refused), (DOOR.replace("<form", "not let in<form"), Refused), (DOOR.replace("<form", "shut for you<form"), Locked),
        ("<title>Hut</title>wait</html>", NotReady), ("<title>Other</title></html>", Silent), ("<title>Desk</title>", Silent),
    ):  # fmt: skip
        assert isinstance(logged(Hut({"door": after})), outcome), after
    assert isinstance(logged(lambda event: Lost(End.CLOSED)), Cut) and isinstance(
        logged(lambda event: Lost(End.SILENT)), Silent
    )
    odd = DOOR.replace("<form", "<![if !IE]><![what[x]]><form")
    assert isinstance(logged(Hut(door=odd)), Opened), "what is no HTML is passed over, as browsers do"
    open_to_all = Hut(door=INSIDE)
    outcome = logged(open_to_all)
    assert isinstance(outcome, Silent) and not outcome.secret_sent and not open_to_all.sent, (
        "inside without a login proves none"
    )
    got = DOOR.replace("method=post", "method=get")
    assert isinstance(logged(Hut(door=got)), Silent), "no password goes into the address of a page"


def test_pages_are_read_and_forms_submitted_as_a_browser_would() -> None:
    """Every field in its order, boxes only when on, disabled ones and files never, the button that was named; a
    choice must be offered; a secret field is filled, or left empty on purpose, or nothing is sent."""
    hut = Hut()
    parts = [
        part
        for ask in FAMILY.asks
        for part in extract(FAMILY, ask, run_on(hut, TALK.ask_(CHANNEL, Fetch(ask.how), None)).reply)
    ]
    plane = merge(FAMILY, parts).plane
    assert sorted(plane.accounts.by_key) == ["keeper", "other"] and plane.accounts.complete
    assert (plane.idle, plane.banner, get(plane, ("accounts", "keeper", "role"))) == (float("inf"), ABSENT, "full")

    router = load_family(shipped("families")["osterlin-wr1"])
    ways = next(ask for ask in router.asks if ask.name == "ways")
    fields = {"plain": True, "sealed": True, "from": "", "quiet": "0"}
    for left_out, whole in (("", True), ("plain", False)):
        seen = {name: value for name, value in fields.items() if name != left_out}
        kept = [
            replace(part, store="live")
            for part in extract(router, ways, Replies(tree=seen))
            if isinstance(part, Fact | Whole)
        ]
        assert merge(router, kept).plane.services.complete is whole, "a way whose field is not there may be open"

    def told(change: Any, hut: Hut, plane: Plane = plane) -> Any:
        return run_on(hut, TALK.tell(CHANNEL, bind(FAMILY, change, plane).order, None))

    hut = Hut()
    assert isinstance(told(Set(("idle",), 600.0), hut), Done)
    assert hut.sent[0] == Submit(
        "rest", (("g", HIDDEN), ("m", ("10",)), ("t", ("",)), ("bell", ("1",)), ("z", ("b",)), ("q", ("2",))), "Note"
    )
    hut = Hut()
    assert isinstance(told(Make(("accounts", "new"), (("role", "read"), ("secret", Ref("safe:u/new")))), hut), Done)
    assert hut.sent[0].fields == (("n", ("new",)), ("r", ("guest",)), ("w", (Slot(Ref("safe:u/new")),)))
    hut = Hut()
    assert isinstance(told(Set(("accounts", "other", "role"), "read"), hut), Done)
    assert hut.asked == ["/folk", "/folk2", "/one?n=2"] and hut.sent[0].fields == (("r", ("guest",)), ("w", ("",)))
    hut = Hut({"one": SURE})
    assert isinstance(told(Drop(("accounts", "keeper")), hut), Done) and [one.button for one in hut.sent] == [
        "Go",
        "Yes",
    ]
    # what does not fit is not sent
    for spoiled, said in (
        (ONE.replace("<option>guest", ""), "offers chief, and not guest"), (ONE.replace("name=r", "name=x"), "no field r"),
        (ONE.replace("<button>Note</button>", ""), "its buttons are Go"), (ONE.replace("name=one", "name=two"), "shows no form one"),
        (ONE.replace("name=w>", "name=w><input type=password name=v>"), "is for a secret, and nothing fills it"),
        (ONE.replace("method=post", "method=post action=//203.0.113.9/"), "into the address"),
    ):  # fmt: skip
        hut = Hut(None, **{"one?n=1": spoiled})
        answer = told(Set(("accounts", "keeper", "role"), "read"), hut)
        assert isinstance(answer, No) and said in answer.said and not answer.sent and not hut.sent, (spoiled, answer)
    assert told(Set(("accounts", "nobody", "role"), "read"), Hut(), make(plane, ("accounts", "nobody"))) == No(
        "there is no such row any more", sent=False
    )
    elsewhere = Hut(folk=FOLK.format(more="").replace("/one?n=1", "https://203.0.113.9/one"))
    assert isinstance(told(Set(("accounts", "keeper", "role"), "read"), elsewhere), No) and not elsewhere.sent
    # a form that is sent in the address of a page takes no secret there; a link whose opening does it is opened once
    open_form = ONE.replace("method=post", "method=get")
    hut = Hut(None, **{"one?n=1": open_form})
    answer = told(Set(("accounts", "keeper", "role"), "read"), hut)
    assert isinstance(answer, No) and "into the address" in answer.said and not hut.sent
    hut = Hut(None, **{"one?n=1": open_form.replace("<input type=password name=w>", "")})
    assert isinstance(told(Set(("accounts", "keeper", "role"), "read"), hut), Done) and hut.sent[0].fields == (
        ("r", ("guest",)),
    )
    sent = OpHow("/off?who={key}&why={value}", visit="yes")
    hut = Hut({}, **{"off?who=a.b&why=x%20%26%20y%2F": "<title>Desk</title></html>"})
    assert isinstance(run_on(hut, TALK.tell(CHANNEL, Order(sent, {"key": ("a.b",), "value": ("x & y/",)}), None)), Done)
    with pytest.raises(ValueError, match="a secret never stands"):
        TALK.message(sent, {"key": ("a",), "value": (Slot(Ref("safe:u/a")),)})
    # an answer that led to the door may have been taken all the same; the door alone says that it was not
    for led in (True, False):
        hut = Hut()
        late = replace(page(DOOR), led=led)

        def shut(event: Open | Submit, hut: Hut = hut, late: Page = late) -> Page | Lost:
            return late if isinstance(event, Submit) else hut(event)

        order = bind(FAMILY, Set(("idle",), 600.0), plane).order
        assert run_on(shut, TALK.tell(CHANNEL, order, None)) == Ended(sent=led, answered=led)
    # where the name in a row is the link, and from the page behind it one goes on
    by_name = (
        FOLK.format(more="")
        .replace("Alter</a>", "<img alt=yes></a>")
        .replace("<td>keeper", "<td><a href=/k{w}>keeper</a>")
    )
    ask = AskHow("/folk")
    word = OpHow(link="name", through=("Word",), form="one", press="Note", fill={"r": "guest", "w": "{secret}"}).on(
        ask, Items("tables/Folk/*", "Name", handles={"name": "links/{key}"})
    )
    hut = Hut(None, folk=by_name, **{"k{w}": "<title>Desk</title><a href=/word>Word</a></html>", "word": ONE})
    order = Order(word, {"key": ("keeper",), "secret": (Slot(Ref("safe:u/keeper")),)})
    assert isinstance(run_on(hut, TALK.tell(CHANNEL, order, None)), Done)
    assert hut.asked == ["/folk", "/k{w}", "/word"] and hut.sent[0].fields[1] == ("w", (Slot(Ref("safe:u/keeper")),))
    hut = Hut(None, folk=by_name, **{"k{w}": ONE})
    assert run_on(hut, TALK.tell(CHANNEL, order, None)) == No("it shows no link Word", sent=False)
    seen = page(by_name.replace("<td>chief<td><a", "<td><img alt=chief><td><a")).tree["tables"]["Folk"][0]
    assert seen["Rank"] == "chief", "a picture reads as what it is called"
    out = OpHow(link="open", visit="yes").on(
        AskHow("/folk", next="More"), Items("tables/Folk/*", "Name", handles={"open": "links/Alter"})
    )
    hut = Hut()
    assert isinstance(run_on(hut, TALK.tell(CHANNEL, Order(out, {"key": ("keeper",)}), None)), Done)
    # and what came of it is told by the table alone
    for after, outcome in (
        ("<title>Desk</title>No: too short</html>", No("No: too short")), ("<title>Desk</title>sent twice</html>", Unclear),
        (DOOR, Ended(sent=False)), ("<title>?</title></html>", Unclear), ("<title>Desk</title>", Unclear),
    ):  # fmt: skip
        answer = told(Set(("idle",), 600.0), Hut({"rest": after}))
        assert answer == outcome if isinstance(outcome, No | Ended) else isinstance(answer, Unclear), (after, answer)


SHED: dict[str, Any] = {
    "family": "shed", "title": "Shed",
    "channels": {"desk": {
        "talk": "pages", "services": {"https": "sealed", "http": "plain"}, "keep": {"mark": "meta/mark"}, "headers": {"X-Mark": "{mark}"},
        "login": {"page": "/door", "forms": {"tongue": {"fill": {"say": "en"}}, "terms": {"gate": "terms", "fill": {"agree": "yes"}},
                                             "name": {"fill": {"who": "{account}"}}, "two": {"fill": {"proof": "{secret:hmac salt}"}}}},
        "replies": [{"form": "name", "means": "ended"}, {"text": "No:", "means": "no"}, {"title": "Shed", "means": "inside"}, {"title": "Desk", "means": "inside"}]}},
    "joints": {"way": {"of": ["services/http/enabled", "services/https/enabled"], "words": {"plain": ["yes", "no"], "both": ["yes", "yes"], "sealed": ["no", "yes"]}}},
    "values": {"accounts/*/role": {"words": {"chief": "full", "guest": "read"}}},
    "asks": {"ways": {"page": "/ways", "form": "ways", "whole": ["services"], "leaves": {
                 "=way": "way", "idle": {"at": ["m", "s"], "codec": "minutes-seconds", "words": {"0 s": "never"}}, "interfaces/x/addresses": {"at": ["ip", "mask"], "codec": "address-mask"},
                 "services/http/permitted": {"at": [["a1", "m1"], ["a2", "m2"]], "codec": "address-mask", "unused": "0.0.0.0", "empty": "anyone"}}},
             "sockets": {"page": "/sockets", "rows": [{"at": "tables/Sockets/*", "into": "interfaces", "key": "Name", "leaves": {"enabled": "On", "entry_list": "Bundle"}}]},
             "folk": {"page": "/folk", "next": "More", "rows": [{"at": "tables/Folk/*", "into": "accounts", "key": "Name", "whole": "yes", "handles": {"alter": "links/Alter"}}]},
             "one": {"each": "accounts", "on": "folk", "link": "alter", "form": "one", "leaves": {"accounts/*/role": "r"}}},
    "ops": {"ways": {"on": "ways", "set": ["services/http/enabled", "services/https/enabled", "idle", "interfaces/*/addresses", "services/http/permitted"]},
            "socket": {"on": "sockets", "cells": "yes", "press": "Note", "set": ["interfaces/*/enabled", "interfaces/*/entry_list"]},
            "hire": {"page": "/folk", "form": "new", "make": ["accounts/*"], "fill": {"n": "{key}", "r": "{role}"}, "blank": ["w"], "after": {"word": {"fill": {"w": "{secret}"}}}},
            "person": {"on": "one", "press": "Note", "blank": ["w"], "set": ["accounts/*/role"]}},
}  # fmt: skip
WAYS = (
    "<meta name=mark content=m77><title>Shed</title><form name=ways method=post><select name=way><option>plain<option selected>both<option>sealed</select>"
    "<input name=m value=0><input name=s value=0><input name=ip value=192.0.2.1><input name=mask value=255.255.255.0>"
    "<input name=a1 value=0.0.0.0><input name=m1 value=0.0.0.0><input name=a2 value=0.0.0.0><input name=m2 value=0.0.0.0><button>Note</button></form></html>"
)
# each row is a form of its own, which begins in one cell and ends in another, and all are called alike
SOCKETS = "<title>Shed</title><table><caption>Sockets</caption><tr><th>Name<th>On<th>Bundle<th></tr>" + "".join(
    f"<tr><td><form name=socket method=post action=/s?n={n}><input type=hidden name=g value={n}>{name}</td><td><input type=checkbox name=on {on}></td>"
    f"<td><select name=b><option>all<option {chosen}>shut</select></td><td><button>Note</button></form></td></tr>"
    for n, name, on, chosen in ((0, "x", "checked", ""), (1, "y", "", "selected"))
) + "</table></html>"  # fmt: skip


# a form of what makers do, and what a common browser sends of it untouched
MIXED = (
    "<html><body><form name=f method=post action=/x><input type=hidden name=tok value=abc><input type=hidden name=comp value=0><input type=checkbox name=comp value=1 checked>"
    "<input type=checkbox name=way value=ssh checked><input type=checkbox name=way value=web><input type=checkbox name=way value=tel checked>"
    "<select name=many multiple><option value=a>A<option value=b selected>B<option value=c selected>C</select><select name=none multiple><option value=a>A</select>"
    "<input type=radio name=r value=1><input type=radio name=r value=2><textarea name=t>\nline one\nline two &amp; three</textarea><fieldset disabled><input name=off value=1></fieldset>"
    "<select name=empty></select><input name=arr value=1><input name=arr value=2><button>Save</button><input type=hidden name=dup value=1><input type=hidden name=dup value=2>"
    "<input name=tab value='a\tb'><select name=pick><option disabled>z<option value=q>Q</select></form></body></html>"
)
SENT = b"tok=abc&comp=0&comp=1&way=ssh&way=tel&many=b&many=c&t=line+one%0D%0Aline+two+%26+three&arr=1&arr=2&dup=1&dup=2&tab=a%09b&pick=q"


@pytest.mark.parametrize(
    ("changed", "sent"),
    [
        ({}, SENT),
        ({"comp": ("no",)}, SENT.replace(b"&comp=1", b"")),
        ({"way": ("web,tel",)}, SENT.replace(b"way=ssh", b"way=web")),
        ({"many": ()}, SENT.replace(b"&many=b&many=c", b"")),
        ({"r": ("2",)}, SENT.replace(b"&t=", b"&r=2&t=")),
        ({"way": ("gate",)}, "does not offer gate"),
        ({"arr": ("3",)}, "several fields arr"),
    ],
)
def test_what_is_sent_of_a_form_is_what_a_browser_sends(changed: dict[str, Any], sent: bytes | str) -> None:
    """Byte by byte; boxes of one name, and a choice of several, are a set of words."""
    tree, kept, _, torn = read_page(MIXED.encode(), "utf-8", within)
    form, left = tree["forms"]["f"], {name: iter(values) for name, values in kept["f"]["hidden"].items()}
    assert not torn and form["fields"]["way"] == ["ssh", "tel"] and form["fields"]["none"] == []
    if isinstance(sent, str):
        with pytest.raises(ValueError, match=sent):
            fields_of(form, changed)
    else:
        pairs = [
            (name, next(left[name]) if text == HIDDEN else "".join(map(str, text if isinstance(text, tuple) else ())))
            for name, text in fields_of(form, changed)
        ]
        assert urlencode(pairs).encode() == sent


def test_a_form_goes_in_the_writing_of_its_page() -> None:
    """As the header says, or the page, or as can be seen; what the writing cannot say is told by its number."""
    latin = "<meta charset=iso-8859-1>Gr\u00fc\u00dfe \u20ac".encode("cp1252")
    for told, body, wanted in (
        ("", latin, "windows-1252"), ("utf-8", latin, "utf-8"), ("", latin[25:], "windows-1252"), ("", b"plain", "utf-8"), ("no-such", b"plain", "utf-8"), ("rot13", b"plain", "utf-8"), ("undefined", latin[25:], "windows-1252"), ("utf-7", b"plain", "utf-8"),
        ("", b"<meta http-equiv=Content-Type content='text/html; charset=koi8-r'>", "koi8-r"),
    ):  # fmt: skip
        assert _charset(told, body) == wanted, body
    assert _encoded([("a", "\u00fc\u20ac\u0416")], "", "windows-1252")[1] == b"a=%FC%80%26%231046%3B"
    kind, content = _encoded([('q"q', "\u00fc\r\nx")], "multipart/form-data", "windows-1252")
    between = kind.partition("boundary=")[2].encode()
    assert content == b'--%b\r\nContent-Disposition: form-data; name="q%%22q"\r\n\r\n\xfc\r\nx\r\n--%b--\r\n' % (
        between,
        between,
    )


def test_values_over_several_fields_and_fields_in_rows_are_read_and_written() -> None:
    """Two fields for one value, one field for two; a row with its fields in a form of its own; a page behind each
    row; a mark of the page goes along; a value that has no word there is refused before anything is sent."""
    family = family_of(SHED)
    _, channel, talk = family.channel_of("https")
    hut = Hut(ways=WAYS, sockets=SOCKETS)
    parts: list[Any] = []
    for ask in family.asks:
        for key in ("keeper", "other") if ask.each else ("",):
            fill = {"key": (key,)} if ask.each else {}
            got = run_on(hut, talk.ask_(channel, Fetch(ask.how, fill), None))
            parts += extract(family, ask, got.reply, key)
    plane = merge(family, parts).plane
    assert not [part for part in parts if isinstance(part, Leftover)]
    assert (plane.idle, get(plane, ("interfaces", "x", "addresses"))) == (float("inf"), ("192.0.2.1/24",))
    assert [(one.key, one.enabled) for one in plane.services] == [("http", True), ("https", True)]
    assert [(one.key, one.enabled, one.entry_list) for one in plane.interfaces] == [
        ("x", True, "all"),
        ("y", False, "shut"),
    ]
    assert get(plane, ("accounts", "other", "role")) == "full" and hut.asked[-3:] == ["/folk", "/folk2", "/one?n=2"]

    def told(change: Any) -> Submit:
        hut.sent.clear()
        answer = run_on(hut, talk.tell(channel, bind(family, change, plane).order, None))
        assert isinstance(answer, Done), answer
        return hut.sent[0]

    sent = told(Set(("idle",), 630.0))
    assert dict(sent.fields) | {"m": ("10",), "s": ("30",), "way": ("both",)} == dict(sent.fields) and sent.marks == (
        ("X-Mark", "mark"),
    )
    assert dict(told(Set(("services", "http", "enabled"), False)).fields)["way"] == ("sealed",)
    assert dict(told(Set(("interfaces", "x", "addresses"), ("192.0.2.9/25",))).fields)["mask"] == ("255.255.255.128",)
    only = Set(("services", "http", "permitted"), AddressSet.of("192.0.2.0/25"))
    fields = {name: str(text[0]) for name, text in told(only).fields if isinstance(text, tuple) and text}
    assert [fields[name] for name in ("a1", "m1", "a2", "m2")] == [
        "192.0.2.0",
        "255.255.255.128",
        "0.0.0.0",
        "0.0.0.0",
    ]
    read = extract(family, family.asks[0], Replies(tree=fields))
    assert get(merge(family, read).plane, only.path) == only.value and get(plane, only.path) == ANYONE
    assert told(Set(("interfaces", "y", "entry_list"), "all")) == Submit(
        "socket 2", (("g", HIDDEN), ("b", ("all",))), "#0", sent.marks
    )
    assert told(Set(("accounts", "other", "role"), "read")).fields == (("r", ("guest",)), ("w", ("",)))
    hut.after = {
        "new": "<title>Shed</title><form name=word method=post><input type=password name=w><button>Go</button></form></html>"
    }
    told(Make(("accounts", "new"), (("role", "read"), ("secret", Ref("safe:u/new")))))
    assert [dict(one.fields).get("w") for one in hut.sent] == [("",), (Slot(Ref("safe:u/new")),)]
    tree = page(
        "<dl><dt>Works no<dd>77</dl><p>Level: 4.1</p><b id=up>9 s</b><table><tr><td>Card<td>02:00</table></html>"
    ).tree
    assert tree["said"] == {"Works no": "77", "Level": "4.1"} and tree["ids"] == {"up": "9 s"}
    assert tree["pairs"] == {"table 1": {"Card": "02:00"}}
    off = put(put(plane, ("services", "https", "enabled"), False), ("services", "http", "enabled"), True)
    for change, said in (
        (Set(("services", "http", "enabled"), False), "no word for both"),
        (Set(("idle",), 1.5), "minutes-seconds"),
        (Set(only.path, AddressSet.of("192.0.2.1", "192.0.2.4", "192.0.2.8")), "takes 2 of them, and there are 3"),
    ):
        with pytest.raises(ValueError, match=said):
            bind(family, change, off)


def test_a_first_visit_is_answered_only_by_consent_and_a_login_may_take_two_pages() -> None:
    """A question that comes before any login is not answered, though it asks for nothing; a name on one page, on the
    next a keyed digest of what that shows."""
    family = family_of(SHED)
    _, channel, talk = family.channel_of("https")
    forms = {
        "tongue": "<select name=say><option>de<option>en</select>", "terms": "<input type=checkbox name=agree>", "name": "<input name=who>",
        "two": "<input type=hidden name=salt value=s9><input name=proof>",
    }  # fmt: skip
    pages = {
        name: f"<title>?</title><form name={name} method=post>{inner}<button>Go</button></form></html>"
        for name, inner in forms.items()
    }
    follows = {
        "tongue": pages["terms"],
        "terms": pages["name"],
        "name": pages["two"],
        "two": "<title>Shed</title></html>",
    }
    hut = Hut(follows, door=pages["tongue"])
    asked = run_on(hut, talk.login(channel, "keeper", Ref("safe:a"), False, {}))
    assert isinstance(asked, Asked) and (asked.gate, asked.secret_sent) == ("terms", False) and not hut.sent
    assert channel.gate_answer("terms") is not None and channel.answers() == (("tongue: say = en", ""),)
    opened = run_on(hut, talk.login(channel, "keeper", Ref("safe:a"), False, {"terms": ("",)}))
    assert isinstance(opened, Opened) and [one.form for one in hut.sent] == list(forms)
    assert hut.sent[-1].fields == (("salt", HIDDEN), ("proof", Signed(Ref("safe:a"), "salt")))


@pytest.mark.parametrize(
    ("text", "torn"),
    [("", "empty"), ("<html>" + "<b>" * 240 + "x" + "</html>", "deeper"), ("<title>x</title><p>half", "whole"), ("\0\x1b[31m<title>\x1b]0;x\x07y</title></html>", "")],
)  # fmt: skip
def test_hostile_pages_are_told_and_never_taken_for_whole(text: str, torn: str) -> None:
    """Nothing is raised, no sign that steers a terminal is left, and what did not come whole says so."""
    tree, _, _, why = read_page(text.encode(), "no-such-charset", within)
    assert torn in why and bool(torn) == bool(why)
    assert not re.search(r"[\x00-\x08\x1b]", str(tree.get("text", "")) + str(tree.get("title", "")))


def test_hidden_fields_and_cookies_stay_in_the_wire_and_nothing_is_followed_elsewhere() -> None:
    """On real sockets: the cookie of a unit whose clock stands in 1970 and that names another domain is kept all the
    same; the hidden field goes back as it stood, and so does a cookie that no header should hold; a redirect
    elsewhere is told; a loop ends."""
    heard: list[str] = []
    came_from: list[tuple[str, ...]] = []

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            head = (await reader.readuntil(b"\r\n\r\n")).decode("latin-1")
        except asyncio.IncompleteReadError:
            writer.close()  # it only looked whether somebody is there
            return
        length = int(re.search(r"(?i)content-length: (\d+)", head)[1]) if "ontent-" in head and "POST" in head else 0  # type: ignore[index]
        body = (await reader.readexactly(length)).decode()
        heard.append(
            head.split("\r\n")[0] + " | " + (re.search(r"(?i)cookie: (.*)\r", head) or ["", ""])[1] + " | " + body
        )
        path = head.split()[1]
        came_from.append(tuple(re.findall(r"(?im)^(?:origin|referer): (.*)\r$", head)))
        leads = {
            "/away": "https://203.0.113.9/x",
            "/loop": "/loop",
            "/sit": "desk?a=1&sid=q%2F7",
            "/step": "/s-q/desk/",
        }
        more = f"Location: {leads[path]}\r\n" if path in leads else ""
        by_itself = {"/on": "0; url=/desk", "/same": "0;URL='/same'", "/later": "5;url=/desk"}.get(path, "")
        status = "302 Found" if more else "200 OK"
        cookie = "Set-Cookie: seat=4\xe92; expires=Thu, 01 Jan 1970 00:00:00 GMT; Domain=other.invalid; Secure\r\n"
        sent = DOOR.replace("<form", "<a href=//[::1>no address</a><a href='/a b'>a</a>{seat}<form").encode()
        seat = {"sid": "<a href='/rest?x=1&sid=q%2F7'>r</a>", "s-q": "<a href='/s-q/rest?x=1'>r</a>"}
        sent = sent.replace(
            b"{seat}", next((link for at, link in seat.items() if at in path or path in ("/sit", "/step")), "").encode()
        )
        sent = f'<meta http-equiv=Refresh content="{by_itself}">'.encode() + sent if by_itself else sent
        writer.write(
            f"HTTP/1.1 {status}\r\n{more}{cookie}Content-Type: text/html\r\nContent-Length: {len(sent)}\r\nConnection: close\r\n\r\n".encode(
                "latin-1"
            )
            + sent
        )
        await writer.drain()
        writer.close()

    async def run(work: Callable[[Pages], Awaitable[Any]]) -> Any:
        server = await asyncio.start_server(serve, f"{NETWORK}.78", 8080)
        wire = Pages({Ref("safe:a"): Secret("w&rd=1")}.get, "")
        async with server:
            assert isinstance(
                await wire.open(
                    Door("http", f"{NETWORK}.78", 8080, "http"), f"{NETWORK}.10", "k", Password(Ref("safe:a"))
                ),
                Opened,
            )
            try:
                return await work(wire)
            finally:
                await wire.close()
                await asyncio.sleep(0.1)  # anyone who only looked is gone too

    async def through(wire: Pages) -> Any:
        shown = await wire.exchange(Open("/door"))
        assert isinstance(shown, Page) and "77" not in str(shown.tree) and "4\xe92" not in str(shown.tree)
        assert shown.tree["links"] == {"a": "/a%20b"}
        return await wire.exchange(
            Submit("door", (("g", HIDDEN), ("who", ("k",)), ("word", (Slot(Ref("safe:a")),))), "In")
        )

    asyncio.run(run(through))
    site = f"http://{NETWORK}.78:8080"
    assert sorted(came_from[-1]) == [site, f"{site}/door"], "where a form is sent from, as browsers say it"
    assert heard[-1] == "POST /door HTTP/1.1 | seat=4\xe92 | g=77&who=k&word=w%26rd%3D1"
    away = asyncio.run(run(lambda wire: wire.exchange(Open("/away"))))
    assert away.moved == "https://203.0.113.9/x" and not any("203.0.113.9" in line.split(" | ")[0] for line in heard)
    assert "without end" in asyncio.run(run(lambda wire: wire.exchange(Open("/loop")))).torn

    for at, came in (("/on", ["/on", "/desk"]), ("/same", ["/same"]), ("/later", ["/later"])):
        heard.clear()
        asyncio.run(run(partial(Pages.exchange, event=Open(at))))
        assert [line.split()[1] for line in heard] == came, (
            "what leads on by itself at once is followed, as by a browser"
        )

    async def seated(wire: Pages, carry: str, at: str) -> None:
        for event in (Open(at, carry=carry), Open("/rest?x=1")):
            shown = await wire.exchange(event)
            assert isinstance(shown, Page) and shown.tree["links"]["r"] == "/rest?x=1"

    for carry, at, came in (
        ("sid", "/sit", ["/desk?a=1&sid=q%2F7", "/rest?x=1&sid=q%2F7"]),
        ("/s-", "/step", ["/s-q/desk/", "/s-q/rest?x=1"]),
    ):
        heard.clear()
        asyncio.run(run(partial(seated, carry=carry, at=at)))
        assert [line.split()[1] for line in heard] == [at, *came], "what stands in addresses for the session stays here"
    lost = asyncio.run(run(lambda wire: wire.exchange(Submit("nothing", ()))))
    assert isinstance(lost, Lost) and isinstance(
        run_on(lambda e: page(REST), TALK.ask_(CHANNEL, Fetch(AskHow("/rest", "none")), None)), No
    )
