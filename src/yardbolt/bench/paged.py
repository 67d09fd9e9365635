"""What bench units with pages have in common: a frame, forms with a hidden field that is good once, tables."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from html import escape
from typing import Any

from .lineswitch import admits
from .plugged import Plugged


@dataclass
class Answer:
    """A page, or where to go. `asks` is what the unit wants to hear in the header, where it asks by HTTP itself."""

    body: str = ""
    status: int = 200
    to: str = ""
    cookie: str = ""
    asks: str = ""


class Paged(Plugged):
    """A unit with pages."""

    def __init__(self, tick: Callable[[], float]) -> None:
        super().__init__(tick)
        self.guards: dict[str, str] = {}

    def takes(self, gate: str, source: str) -> bool:
        """Is this way open for this source now?"""
        return self.live.gates[gate].open and admits(self.live.gates[gate].sources, source)

    def page(self, title: str, body: str) -> Answer:
        """A page with its frame."""
        words = f"<p class=n>{escape(self.live.notice)}</p>" if self.live.notice else ""
        return Answer(
            f"<!doctype html><html><head><title>{title}</title><style>p{{}}</style></head><body><h1>{title}</h1>{words}{body}</body></html>"
        )

    def form(self, name: str, session: str, fields: str, *buttons: str, action: str = "") -> str:
        """A form with the hidden field of the moment, the same for all forms until one is sent."""
        guard = self.guards.setdefault(session, secrets.token_hex(8))
        pressed = "".join(f'<button type="submit" name="press" value="{b}">{b}</button>' for b in buttons)
        return (
            f'<form name="{name}" method="post" action="{action}"><input type="hidden" name="g" '
            f'value="{guard}">{fields}{pressed}</form>'
        )

    def once(self, session: str, sent: Mapping[str, str]) -> bool:
        """Is it from the page in hand, and for the first time?"""
        guard = self.guards.pop(session, "")
        return bool(guard) and sent.get("g") == guard

    def reply(
        self, method: str, path: str, query: Mapping[str, str], sent: Mapping[str, str], cookie: str, source: str
    ) -> Answer:
        """What a browser gets."""
        raise NotImplementedError


class Seated(Paged):
    """One where somebody who came in by the door sits for a while."""

    names = ("/door", "/out")  # the pages by which one comes in and leaves
    quiet_longest, shy = 600.0, 2.0

    def __init__(self, tick: Callable[[], float]) -> None:
        super().__init__(tick)
        self.inside: dict[str, tuple[str, float]] = {}

    def waking(self) -> Answer:
        """The page of the first moments."""
        raise NotImplementedError

    def door(self, said: str = "") -> Answer:
        """The door."""
        raise NotImplementedError

    def enter(self, sent: Mapping[str, str], cookie: str, source: str) -> Answer:
        """In, or the door again."""
        raise NotImplementedError

    def note(self, who: str, path: str, query: Mapping[str, str], sent: Mapping[str, str], s: str) -> Answer:
        """Something was submitted."""
        raise NotImplementedError

    def show(self, path: str, query: Mapping[str, str], s: str) -> Answer:
        """A page of the inside."""
        raise NotImplementedError

    def known(self) -> dict[str, str]:
        """Who is there, with the word that opens."""
        return {name: one["word"] for name, one in self.live.people.items()}

    def reply(
        self, method: str, path: str, query: Mapping[str, str], sent: Mapping[str, str], cookie: str, source: str
    ) -> Answer:
        """What a browser gets."""
        if self.tick() - self.started < self.shy:
            return self.waking()
        way_in, out = self.names
        who, since = self.inside.get(cookie, ("", 0.0))
        if path == way_in and method == "POST":
            return self.enter(sent, cookie, source)
        if not who or self.tick() - since > self.quiet_longest or who not in self.live.people:
            return self.door()
        self.inside[cookie] = (who, self.tick())
        if path == out:
            del self.inside[cookie]
            return self.door()
        if method == "POST":
            return self.note(who, path, query, sent, cookie)
        return self.show(path, query, cookie)


def text(name: str, value: object) -> str:
    """A field."""
    return f'<input name="{name}" value="{escape(str(value))}">'


def box(name: str, on: bool) -> str:
    """A box."""
    return f'<input type="checkbox" name="{name}" value="1"{" checked" if on else ""}>'


def hidden_word(name: str) -> str:
    """A field whose words nobody sees."""
    return f'<input type="password" name="{name}">'


def select(name: str, offered: Iterable[str], chosen: str) -> str:
    """A choice."""
    return (
        f"<select name={name}>"
        + "".join(f"<option{' selected' if o == chosen else ''}>{o}</option>" for o in offered)
        + "</select>"
    )


def table(caption: str, heads: list[str], rows: Iterable[Iterable[Any]]) -> str:
    """A table under its caption."""
    head = "".join(f"<th>{h}</th>" for h in heads)
    body = "".join("<tr>" + "".join(f"<td>{c}</td>" for c in r) + "</tr>" for r in rows)
    return f"<table><caption>{caption}</caption><tr>{head}</tr>{body}</table>"
