"""A set whose rows are added and taken away one at a time, on pages and behind objects."""

from __future__ import annotations

import copy
from dataclasses import replace
from typing import Any

import pytest

from tests.bare import run_on
from tests.test_objects import TREE as CABINET
from tests.test_pages import TREE as HUT
from tests.test_pages import Hut, page
from yardbolt.core.addresses import ANYONE, AddressSet
from yardbolt.core.errors import FamilyError
from yardbolt.core.family.bound import bind
from yardbolt.core.family.building import family_of
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.reading import merge
from yardbolt.core.family.spelling import spelled
from yardbolt.core.plane.change import Drop, Set
from yardbolt.core.plane.edit import get
from yardbolt.core.talk.conversation import Fetch, Replies
from yardbolt.core.talk.outcomes import Done, No
from yardbolt.core.talk.web.forms import fields_of
from yardbolt.core.talk.web.objectchannel import Answer, Call
from yardbolt.core.talk.web.pagechannel import AskHow
from yardbolt.core.talk.web.pages import Open, Page, Submit

PATH = ("services", "https", "permitted")
OBJECTS = {
    "asks": {"from": {"get": "/from", "leaves": {"/".join(PATH): {"each": "from/*", "at": "net", "empty": "anyone", "handles": {"id": "id"}}}}},
    "ops": {"from": {"on": "from", "set": ["/".join(PATH)], "adds": {"post": "/from", "fill": {"net": "{first}"}}, "takes": {"delete": "/from/{id}"}}},
}  # fmt: skip
PAGES = {
    "asks": {"from": {"page": "/from", "leaves": {"/".join(PATH): {"each": "tables/From/*", "at": ["Net", "Mask"], "codec": "address-mask", "empty": "anyone", "handles": {"off": "links/Off"}}}}},
    "ops": {"from": {"on": "from", "set": ["/".join(PATH)], "adds": {"form": "new", "fill": {"n": "{first}", "m": "{second}"}}, "takes": {"link": "off", "form": "sure"}}},
}  # fmt: skip
IN_ROW = copy.deepcopy(PAGES)
IN_ROW["ops"]["from"] |= {
    "adds": {"form": "new", "press": "Add", "fill": {"n": "{first}", "m": "{second}"}},
    "takes": {"cells": "yes", "press": "Off"},
}
FORM = "<form id=new name=new method=post></form>"
TO_FILL = "<tr><td><input name=n form=new><td><input name=m value=255.255.255.255 form=new><td><button form=new>Add</button></tr>"


def with_rows(tree: dict[str, Any], way: str) -> dict[str, Any]:
    """The family with an ask and an op for rows."""
    more = {"objects": OBJECTS, "pages": PAGES, "buttons": IN_ROW}[way]
    return copy.deepcopy({**tree, **{part: tree[part] | more[part] for part in ("asks", "ops")}})


class Box:
    """The unit and its wire: it numbers its rows again whenever one goes, and refuses what is there twice, or one too
    many."""

    def __init__(self, *rows: str, buttons: bool = False) -> None:
        self.rows, self.done, self.shown = list(rows), list[str](), ""
        self.buttons = buttons

    def add(self, net: str) -> bool:
        if net in self.rows or len(self.rows) > 4:
            return False
        self.rows.append(net)
        self.done.append(f"+{net}")
        return True

    def drop(self, number: int) -> bool:
        self.done.append(f"-{self.rows.pop(number)}")
        return True

    def objects(self, call: Call) -> Answer:
        match call.method:
            case "GET":
                return Answer(200, {"from": [{"id": str(n), "net": row} for n, row in enumerate(self.rows)]})
            case "POST":
                taken = self.add(call.body["net"][0])
            case _:
                taken = self.drop(int(call.target.rpartition("/")[2]))
        return Answer(200, {}) if taken else Answer(409, {"faults": [{"why": "no room"}]})

    def pages(self, event: Open | Submit) -> Page:
        if isinstance(event, Open):
            self.shown = event.target
            return page(self.page())
        fields = {name: text[0] for name, text in event.fields if isinstance(text, tuple)}
        if event.form == "new":
            taken = self.add(f"{fields['n']}/{fields['m']}".removesuffix("/255.255.255.255"))
        else:
            taken = self.drop(
                int(event.form.removeprefix("row")) if self.buttons else int(self.shown.partition("=")[2])
            )
        return page(self.page() if taken else "<title>Desk</title>No: no room</html>")

    def page(self) -> str:
        if self.shown.startswith("/off"):
            return "<title>Desk</title><form name=sure method=post><button>Really</button></form></html>"
        lines = [
            f"<tr><td>{row.partition('/')[0]}<td>{row.partition('/')[2] or '255.255.255.255'}<td>"
            + (
                f"<form name=row{n} method=post><button>Off</button></form>"
                if self.buttons
                else f"<a href=/off?n={n}>Off</a>"
            )
            for n, row in enumerate(self.rows)
        ] or ["<tr><td colspan=3>Nobody yet"]
        end = TO_FILL if self.buttons else ""
        new = (
            FORM
            if self.buttons
            else "<form name=new method=post><input name=n><input name=m><button>Add</button></form>"
        )
        head = "<tr><th colspan=3>Who may come<tr><th>Net<th>Mask<th>"
        return f"<title>Desk</title><table><caption>From</caption>{head}{''.join(lines)}{end}</table>{new}</html>"


@pytest.mark.parametrize("way", ["objects", "pages", "buttons"])
def test_rows_are_added_before_others_go_ours_first_and_last(way: str) -> None:
    """What is read is what was meant; of what is there nothing is sent twice; anyone who sends is let in at every
    moment; one row refused after others were taken is no plain no, and what takes only whole words is said before
    anything is sent."""
    tree = with_rows(CABINET if way == "objects" else HUT, way)
    family = family_of(tree)
    _, channel, talk = family.channel_of("https")
    ask = next(one for one in family.asks if one.name == "from")

    def told(box: Box, value: Any) -> Any:
        answer = box.objects if way == "objects" else box.pages
        order = replace(bind(family, Set(PATH, value), plane(box)).order, source="192.0.2.7")
        return run_on(answer, talk.tell(channel, order, None))

    def plane(box: Box) -> Any:
        got = run_on(box.objects if way == "objects" else box.pages, talk.ask_(channel, Fetch(ask.how), None))
        return merge(family, extract(family, ask, got.reply)).plane

    wide = "192.0.2.0/24" if way == "objects" else "192.0.2.0/255.255.255.0"
    box = Box(buttons=way == "buttons")
    assert get(plane(box), PATH) == ANYONE
    two = AddressSet.of("192.0.2.1", "192.0.2.7")
    assert (
        isinstance(told(box, two), Done) and box.done == ["+192.0.2.7", "+192.0.2.1"] and get(plane(box), PATH) == two
    )
    assert isinstance(told(box, two), Done) and len(box.done) == 2
    box = Box("198.51.100.4", wide, "198.51.100.5", buttons=way == "buttons")
    assert isinstance(told(box, two), Done)
    assert box.done == ["+192.0.2.7", "+192.0.2.1", "-198.51.100.4", "-198.51.100.5", f"-{wide}"]
    assert box.rows == ["192.0.2.7", "192.0.2.1"] and get(plane(box), PATH) == two
    box.done.clear()
    assert isinstance(told(box, ANYONE), Done) and box.done == ["-192.0.2.1", "-192.0.2.7"]
    box = Box("198.51.100.4", "198.51.100.5", "198.51.100.6", "198.51.100.7", buttons=way == "buttons")
    assert told(box, two) == No("no room" if way == "objects" else "No: no room", sent=True) and box.done == [
        "+192.0.2.7"
    ]
    for lack, said in (("adds", "adds is missing"), ("on", "on is missing")):
        less = copy.deepcopy(tree)
        del less["ops"]["from"][lack]
        with pytest.raises(FamilyError, match=said):
            family_of(less)
    less = copy.deepcopy(tree)
    less["ops"]["from"]["set"] = ["idle"]
    with pytest.raises(FamilyError, match="rows from reads by each"):
        family_of(less)


BOX, KNOB = "<input type=checkbox name={} value={}>", "<input type=radio name={} value={}>"
TICKS = {
    "called by its row": (BOX.format("'del[{k}]'", 1), "Pick", {"cells": "yes", "fill": {"Pick": "yes"}}, "del[other]", "1"),
    "in a column without a heading": (BOX.format("'del[{k}]'", 1), "", {"cells": "yes", "fill": {"0": "yes"}}, "del[other]", "1"),
    "called by the file": (BOX.format("'del[{k}]'", 1), "", {"form": "all", "fill": {"del[{key}]": "yes"}}, "del[other]", "1"),
    "all called alike": (BOX.format("sel", "{n}"), "Pick", {"cells": "yes", "fill": {"Pick": "yes"}}, "sel", "18"),
    "all called alike, with its name": (BOX.format("sel", "{k}"), "", {"form": "all", "fill": {"sel": "{key}"}}, "sel", "other"),
    "one of several": (KNOB.format("sel", "{n}"), "Pick", {"cells": "yes", "fill": {"Pick": "yes"}}, "sel", "18"),
    "one of several, with its name": (KNOB.format("sel", "{k}"), "", {"form": "all", "fill": {"sel": "{key}"}}, "sel", "other"),
}  # fmt: skip


@pytest.mark.parametrize("case", TICKS)
@pytest.mark.parametrize("names", [("keeper", "other"), ("other",)])
def test_a_row_is_ticked_and_one_button_does_it(case: str, names: tuple[str, ...]) -> None:
    """Only the box of the row goes along, however boxes are called; a word that no box knows is never taken for off."""
    cell, head, op, field, value = TICKS[case]
    lines = [f"<tr><td>{cell.format(k=k, n=17 + (k == 'other'))}<td>{k}<td>chief</tr>" for k in names]
    table = f"<table><caption>Folk</caption><tr><th>{head}<th>Name<th>Rank</tr>{''.join(lines)}</table>"
    shown = f"<title>Desk</title><form name=all method=post>{table}<button>Remove ticked</button><button>New</button></form></html>"
    tree = copy.deepcopy(HUT)
    rows = {"at": "tables/Folk/*", "into": "accounts", "key": "Name", "whole": "yes", "leaves": {"role": "Rank"}}
    tree["asks"] = {"folk": {"page": "/all", "rows": [rows]}}
    drop = {"on": "folk", "drop": ["accounts/*"], "press": "Remove ticked", **op}
    for fill, done in ((drop["fill"], True), (dict.fromkeys(drop["fill"], "perhaps"), False)):
        tree["ops"] = {"dismiss": drop | {"fill": fill}}
        family = family_of(tree)
        _, channel, talk = family.channel_of("https")
        hut = Hut(all=shown)
        order = bind(family, Drop(("accounts", "other")), merge(family, ()).plane).order
        told = run_on(hut, talk.tell(channel, order, None))
        assert isinstance(told, Done) is done and [one.fields for one in hut.sent] == [((field, (value,)),)] * done, (
            told
        )


def test_what_stands_in_lists_choices_and_marks_is_read_and_a_form_ends_a_session() -> None:
    """The pieces of an item, the words of its links only where nothing else stands; a choice is made by its words as
    well."""
    shown = page(
        "<ul id=folk><li><b>keeper</b> (chief) <a href=/one?n=1>Alter</a> since May<li><a href=/one?n=2>other</a></ul><ol><li>x</ol>"
        "<form name=pick method=post><select name=who><option value=3>keeper<option value=4>other</select><button>Go</button></form></html>"
    ).tree
    assert shown["lists"] == {
        "folk": [{"0": "keeper", "1": "(chief)", "2": "since May", "links": {"Alter": "/one?n=1"}}, {"0": "other", "links": {"other": "/one?n=2"}}],
        "list 2": [{"0": "x", "links": {}}],
    }  # fmt: skip
    parts = AskHow("/folk", next="More")
    first = "<title>Desk</title><ul id=folk><li>keeper</ul><a href=/on>More</a></html>"
    paged = Hut(folk=first, on="<title>Desk</title><ul id=folk><li>other</ul></html>")
    _, channel, talk = family_of(HUT).channel_of("https")
    got = run_on(paged, talk.ask_(channel, Fetch(parts), None))
    assert [item["0"] for item in got.reply.tree["lists"]["folk"]] == ["keeper", "other"], (
        "a list goes on, on the next page"
    )
    form = shown["forms"]["pick"]
    assert form["offers"] == {"who": {"keeper": "3", "other": "4"}}
    assert fields_of(form, {"who": ("other",)}) == fields_of(form, {"who": ("4",)}) == (("who", ("4",)),)
    among = page("<table><tr><th>Name<th>Rank</tr><tr><td>a<td>b</tr><tr><td colspan=2>hidden</tr></table></html>").tree
    assert [row["Name"] for row in among["tables"]["table 1"]] == ["a", "hidden"], "it may be an item"
    marks = page(
        "<table><tr><th>On<th>Up</tr><tr><td><img alt=yes src=a><td><i class=ok title=no></i></tr></table></html>"
    ).tree
    assert [marks["tables"]["table 1"][0][head] for head in ("On", "Up")] == ["yes", "no"]
    hut, out = (
        Hut(
            way="<title>Desk</title><form name=out method=post><input type=hidden name=g><button>Go</button></form></html>"
        ),
        copy.deepcopy(HUT),
    )
    out["channels"]["desk"]["log_out"] = "/way out"
    _, channel, talk = family_of(out).channel_of("https")
    run_on(hut, talk.log_out(channel))
    assert hut.asked == ["/way"] and [one.form for one in hut.sent] == ["out"]
    with pytest.raises(ValueError, match="offers 3, 4, and not nobody"):
        fields_of(form, {"who": ("nobody",)})


@pytest.mark.parametrize(
    ("codec", "number", "odd"), [("milliseconds", 10800000, 0.0001), ("hours", 3, 600.0), ("days", 1, 3600.0)]
)
def test_lengths_of_time_are_read_and_written_as_the_unit_counts_them(codec: str, number: int, odd: float) -> None:
    """As a bare number in a place, and in a message; what is no whole number of it is refused."""
    tree = copy.deepcopy(CABINET)
    tree["asks"]["rest"]["leaves"]["idle"]["codec"] = codec
    family = family_of(tree)
    ask = next(one for one in family.asks if one.name == "rest")
    plane = merge(family, extract(family, ask, Replies(tree={"quiet": {"min": number}}))).plane
    assert plane.idle == (86400.0 if codec == "days" else 10800.0) and isinstance(plane.idle, float)
    assert spelled(family, ("idle",), plane.idle, codec) == str(number)
    with pytest.raises(ValueError, match=f"no whole number of {codec}"):
        bind(family, Set(("idle",), odd), plane)
