"""Pages and objects spoiled by lot, under every conversation with them: python sweeps/hostile.py [HOW MANY] [SEED]

Whatever a unit answers, an outcome comes of it, and never an error of ours."""

import random
import sys
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests import test_objects, test_pages, test_rows
from tests.bare import run_on
from yardbolt.core.addresses import AddressSet
from yardbolt.core.family.building import family_of
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.model import Family
from yardbolt.core.family.reading import merge
from yardbolt.core.family.writing import op_for, render
from yardbolt.core.plane.change import Change, Drop, Make, Set
from yardbolt.core.secret import Ref, Slot
from yardbolt.core.talk.conversation import Fetch
from yardbolt.core.talk.outcomes import Done, End, Lost
from yardbolt.core.talk.web.objectchannel import Answer
from yardbolt.core.talk.web.pages import Page, Submit
from yardbolt.wires.markup import read_page
from yardbolt.wires.pages import Pages, _charset, _encoded

MOST = 400  # answers to one conversation
TAGS = [
    "form",
    "input",
    "select",
    "option",
    "textarea",
    "button",
    "table",
    "tr",
    "td",
    "th",
    "caption",
    "a",
    "img",
    "p",
    "dl",
    "dt",
    "dd",
    "title",
    "meta",
    "fieldset",
    "noscript",
    "iframe",
    "br",
]
NAMES = [
    "name",
    "id",
    "value",
    "type",
    "href",
    "action",
    "method",
    "enctype",
    "checked",
    "selected",
    "disabled",
    "alt",
    "content",
    "http-equiv",
    "charset",
    "form",
]
TEXTS = [
    "", "0", "one", "door", "//[::1", "/a?b=c", "\x00", "\x7f", "'\"<>", "é€Ж", "A" * 500, "hidden", "password", "checkbox", "radio", "submit",
    "file", "post", "get", "multipart/form-data", "refresh", "0;url=/x", "&#x110000;", "{who}", "{secret}", "*", "a/b", "#", "..", "-1",
]  # fmt: skip
VALUES: list[Any] = [
    "",
    None,
    True,
    0,
    -1,
    5.5,
    10**25,
    "keeper",
    "boss",
    "guest",
    "****",
    "192.0.2.0/24",
    "a/b",
    "//x",
    "/f?x",
    [],
    {},
    [None],
    {"a": 1},
]
KEYS = [
    "items",
    "name",
    "rank",
    "from",
    "off",
    "id",
    "next",
    "quiet",
    "min",
    "faults",
    "why",
    "x",
    "0",
    "seat",
    "ticket",
]
CHANGES: tuple[Change, ...] = (
    Set(("idle",), 600.0), Set(("accounts", "keeper", "role"), "read"), Drop(("accounts", "keeper")),
    Make(("accounts", "new"), (("role", "read"), ("secret", Ref("safe:u/new")))), Set(test_rows.PATH, AddressSet.of("192.0.2.1", "192.0.2.7")),
)  # fmt: skip


def tag(lot: random.Random) -> str:
    """A piece of a page, whole or not."""
    name = lot.choice(TAGS)
    told = "".join(
        f" {lot.choice(NAMES)}={lot.choice(['', chr(34)])}{lot.choice(TEXTS)}" for _ in range(lot.randrange(4))
    )
    whole = f"<{name}{told}>{lot.choice(TEXTS)}</{name}>"
    return lot.choice([f"<{name}{told}>", f"</{name}>", whole, "<!-- x", "]]>", "<![what[x", "<![if x]>", "&amp"])


def spoiled(text: str, lot: random.Random) -> str:
    """A page with some of it cut out, doubled, or put in."""
    for _ in range(lot.randrange(1, 12)):
        at, to = sorted((lot.randrange(len(text) + 1), lot.randrange(len(text) + 1)))
        put = (tag(lot), lot.choice(TEXTS), text[at:to][:200])[lot.randrange(3)]
        text = (
            text[:at]
            + (put if lot.random() < 0.7 else "")
            + text[at + (lot.randrange(20) if lot.random() < 0.4 else 0) :]
        )
    return text


def page_of(lot: random.Random, wire: Pages) -> Callable[[Any], Page | Lost]:
    """A unit behind pages, and the wire before it."""
    pages = (test_pages.DOOR, test_pages.REST, test_pages.FOLK, test_pages.ONE, test_pages.SURE, test_pages.INSIDE)
    pages = (*pages, *(test_rows.Box("192.0.2.9", "192.0.2.0/24", buttons=each).page() for each in (True, False)))
    left = iter(range(MOST))

    def unit(event: Any) -> Page | Lost:
        next(left)
        if isinstance(event, Submit) and (form := wire._forms.get(event.form)):
            _encoded([(name, "x") for name, _ in event.fields], form["enctype"], wire._charset)
        body = spoiled(lot.choice(pages), lot).replace("{more}", "").encode(errors="replace")
        wire._charset = _charset(lot.choice(["", "utf-8", "latin-1", "rot13"]), body)
        tree, wire._forms, wire._meta, torn = read_page(body, wire._charset, wire._within)
        return Page(lot.choice([200, 200, 200, 404]), tree, torn=torn, led=lot.random() < 0.2)

    return unit


def object_of(lot: random.Random) -> Callable[[Any], Answer | Lost]:
    """A unit behind objects."""
    left = iter(range(MOST))

    def tree(depth: int = 0) -> Any:
        kind = lot.random()
        if depth > 4 or kind < 0.3:
            return lot.choice(VALUES)
        if kind < 0.5:
            return [tree(depth + 1) for _ in range(lot.randrange(4))]
        return {name: tree(depth + 1) for name in lot.sample(KEYS, lot.randrange(6))}

    def unit(event: Any) -> Answer | Lost:
        next(left)
        if lot.random() < 0.05:
            return Lost(End.CLOSED)
        folk = {
            "items": [
                {
                    "name": lot.choice(["keeper", None, 3]),
                    "id": lot.choice(VALUES),
                    "rank": lot.choice(VALUES),
                    "from": tree(2),
                }
            ]
        }
        tag = lot.choice(["", '"1"', '"2"'])
        status, kept = (
            lot.choice([200, 200, 200, 401, 403, 409, 412, 500]),
            lot.choice([frozenset(), frozenset({"salt"})]),
        )
        return Answer(status, lot.choice([folk, folk, tree()]), "", "", tag, kept)

    return unit


def talked(family: Family, unit: Callable[[Any], Any], lot: random.Random) -> None:
    """One conversation, whatever it comes to."""
    _, channel, talk = family.channel_of("https")
    match lot.randrange(4):
        case 0:
            consents = lot.choice([{}, {"change": (Slot(Ref("safe:u/keeper")),)}])
            run_on(unit, talk.login(channel, "keeper", Ref("safe:u/keeper"), False, consents))
        case 1:
            ask = lot.choice(family.asks)
            if isinstance(got := run_on(unit, talk.ask_(channel, Fetch(ask.how), None)), Done):
                merge(family, extract(family, ask, got.reply))
        case _:
            change = lot.choice(CHANGES)
            if (op := op_for(family, change)) is not None:
                order = render(family, op, change, merge(family, []).plane, "2026-12-01T00:00:00+00:00")
                run_on(unit, talk.tell(channel, order, None))


def sweep(many: int, seed: int) -> str:
    """So many conversations; the first error of ours, or nothing."""
    lot, wire = random.Random(seed), Pages({}.get, "")
    wire._base, wire._at = "http://127.0.0.1:80", "/a/b"
    dismiss = {"dismiss": {"drop": ["accounts/*"], "delete": "/folk/{key}"}}
    objects = family_of(test_rows.with_rows(test_objects.TREE | {"ops": test_objects.TREE["ops"] | dismiss}, "objects"))
    pages = family_of(test_rows.with_rows(test_pages.TREE, lot.choice(["pages", "buttons"])))
    for number in range(many):
        try:
            if lot.random() < 0.6:
                talked(pages, page_of(lot, wire), lot)
            else:
                talked(objects, object_of(lot), lot)
        except Exception:
            return f"conversation {number} of seed {seed}:\n{traceback.format_exc()}"
    return ""


if __name__ == "__main__":
    many, seed = (int(sys.argv[1]) if sys.argv[1:] else 10_000), (int(sys.argv[2]) if sys.argv[2:] else 1)
    sys.exit(sweep(many, seed) or (print(f"{many:,} conversations, an outcome every time") or 0))
