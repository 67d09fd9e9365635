"""Makes drawn by lot: a unit on a wire, and the family file that a stranger would write from its manual. Nothing here
is shared with the product; what a unit shows, takes and refuses falls out of one drawing."""

from __future__ import annotations

import base64
import contextlib
import html
import json
import random
import secrets
import socket
import socketserver
import struct
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qsl, urlsplit

Style = dict[str, str]
GROUPS: dict[str, dict[str, float]] = {
    "face": {"console": 1, "objects": 1, "pages": 1},
    "store": {"at once": 3, "saved": 2, "staged": 2},
    "stranger": {"reset": 3, "closed": 1, "silent": 1, "forbidden": 1, "a page": 1},
    "habit": {
        "none": 5, "even lengths": 1, "refuses the notice": 1, "ignores the notice": 1, "keeps the first": 1, "coarse idle": 1, "cuts the notice": 1, "slow": 1,
    },
    "switch": {"on off": 2, "yes no": 1, "1 0": 1, "up down": 1, "true false": 1},
    "ranks": {"words": 2, "digits": 1, "long words": 1},
    "time": {"seconds": 1, "minutes": 1, "with unit": 2, "bare seconds": 1, "bare minutes": 1},
    "never": {"never": 1, "0": 1, "-": 1},
    "blank": {"(none)": 1, "nothing": 1, "-": 1},
    "anyone": {"any": 1, "nothing": 1, "*": 1},
    "join": {"comma": 2, "blank": 1, "comma and blank": 1},
    "secret": {"once": 1, "twice": 2, "old first": 1},
    "sure": {"no": 2, "asks": 1},
    "wrong": {"said": 3, "locks, said": 1, "locks, not said": 1, "cuts": 1},
    "clock": {"zone": 2, "no zone": 1, "none": 1},
    "first": {"nothing": 4, "terms": 1, "a new word": 1},
    "parts": {"whole": 3, "two at a time": 1},
    "sources": {"has": 3, "none": 1},
    "rules": {"bind": 5, "bind anyone who looks": 1, "are only shown": 1},
    "power": {"stays": 6, "goes after the first entry": 1, "goes in mid-run": 1},
    "doors": {"want a login": 5, "show what was seen": 1},
    # of a console
    "leader": {":": 1, "=": 1, ".": 1, "|": 1},
    "table": {"heading": 2, "bare": 1, "ruled": 1, "numbered": 1},
    "page": {"none": 2, "turned": 1},
    "echo": {"yes": 1, "no": 1},
    "prompt": {"sign": 1, "name": 1, "bracket": 1},
    "refusal": {"starts": 1, "text": 1},
    "line": {"plain": 3, "negotiates": 1, "in pieces": 1, "colours": 1, "bare ends": 1},
    # of what speaks HTTP
    "wire": {"plain": 3, "in chunks": 1, "closes": 1, "no length": 1, "sends on": 1},
    "login": {"token": 2, "cookie": 1, "basic": 1},
    "shape": {"list": 2, "by name": 1, "columns": 1, "numbered": 1},
    "envelope": {"none": 2, "data": 1},
    "codes": {"proper": 2, "always 200": 1},
    "types": {"typed": 2, "texts": 1},
    "write": {"member": 2, "whole": 1, "call": 1},
    # of a console once more
    "where": {"anywhere": 3, "in a block": 1, "in a block with a prompt": 1},
    "dress": {"none": 3, "a frame": 1, "lines of a log": 1},
    "listing": {"at once": 2, "one by one": 1},
    "cells": {"by words": 3, "below the heading": 1},
}  # fmt: skip
WORDS = [
    "tarn",
    "beck",
    "holm",
    "garth",
    "fell",
    "rigg",
    "scar",
    "gill",
    "moss",
    "howe",
    "slack",
    "keld",
    "force",
    "raise",
    "thorn",
    "mire",
    "wath",
    "brow",
    "nab",
    "edge",
    "dub",
    "hause",
    "sike",
    "knot",
    "crag",
    "pike",
    "ghyll",
    "stang",
]
SWITCH = {
    "on off": ("on", "off"),
    "yes no": ("yes", "no"),
    "1 0": ("1", "0"),
    "up down": ("up", "down"),
    "true false": ("true", "false"),
}
RANKS = {
    "words": ("chief", "hand", "guest"),
    "digits": ("9", "5", "1"),
    "long words": ("may-change-all", "may-change", "may-look"),
}
JOIN = {"comma": ",", "blank": " ", "comma and blank": ", "}
SETTINGS = ("name", "notice", "idle", "shortest", "kinds", "wrong", "wait", "time")
PATHS = {"name": "name", "notice": "banner", "idle": "idle", "shortest": "policy/min_length", "kinds": "policy/classes", "wrong": "lockout/tries", "wait": "lockout/release", "time": "clock/servers"}  # fmt: skip


def fits(style: Style) -> bool:
    """Can a make be so?"""
    face = style["face"]
    if style["blank"] == style["anyone"] == "nothing" and face == "console" and style["join"] == "blank":
        return False
    if style["dress"] == "a frame" and style["leader"] == "|":
        return False
    if face != "console" and (style["stranger"] == "silent" and style["habit"] == "slow"):
        return False
    if style["first"] != "nothing" and style["face"] == "pages" and style["login"] == "basic":
        return False
    return not (style["join"] == "blank" and style["table"] == "ruled")


@dataclass
class User:
    rank: str
    word: str
    on: bool = True
    wrong: int = 0
    until: float = 0.0


def works() -> dict[str, Any]:
    """How it leaves its works."""
    return {
        "name": "unit", "notice": "", "idle": 0, "shortest": 4, "kinds": 1, "wrong": 0, "wait": 30, "time": [], "from": [],
        "users": {"boss": User("0", "boss"), "eye": User("2", "")},
    }  # fmt: skip


def copied(state: dict[str, Any]) -> dict[str, Any]:
    users = {name: User(one.rank, one.word, one.on) for name, one in state["users"].items()}
    return {**state, "users": users, "time": list(state["time"]), "from": list(state["from"])}


class Thing:
    """The unit behind its face: what is live, kept and staged, and its habits."""

    def __init__(self, style: Style, seed: int, at: str, port: int) -> None:
        self.style, self.at, self.port = style, at, port
        self.chance = random.Random(seed)
        self.live = works()
        self.kept, self.staged = copied(self.live), copied(self.live)
        self.serial = f"{seed:06}"
        self.lock = threading.RLock()
        self.words = iter(self.chance.sample(WORDS, len(WORDS)))
        self.label = {name: next(self.words) for name in (*SETTINGS, "serial", "clock", "waiting")}
        self.verb = {name: next(self.words) for name in ("look", "put", "add", "word", "drop", "source", "save", "forget", "plate", "people", "into", "out")}  # fmt: skip
        self.heard: list[str] = []
        self.taken = False
        self.numbers: dict[str, int] = {}
        self.dark_until = 0.0
        self.lines: set[socket.socket] = set()
        self.seen: dict[str, tuple[str, str]] = {}  # pages somebody was shown

    # ---- what it does -------------------------------------------------------------------------------------------

    @property
    def edited(self) -> dict[str, Any]:
        return self.staged if self.style["store"] == "staged" else self.live

    def _done(self) -> None:
        if self.style["store"] == "at once":
            self.kept = copied(self.live)
        if self.style["store"] != "staged":
            self.staged = copied(self.live)

    @property
    def asks_terms(self) -> bool:
        return self.style["first"] == "terms" and not self.taken

    def wants_word(self, name: str) -> bool:
        """The published word is good for one login only."""
        return self.style["first"] == "a new word" and name == "boss" and self.live["users"][name].word == "boss"

    def number(self, name: str) -> int:
        """The number it allots to somebody, for good."""
        return self.numbers.setdefault(name, 17 + 4 * len(self.numbers))

    def named(self, number: int) -> str:
        return next((name for name, one in self.numbers.items() if one == number), "")

    def admits(self, source: str) -> bool:
        return not self.live["from"] or source in self.live["from"]

    def enter(self, name: str, word: str) -> str:
        """`in`, `no`, `locked`: of the accounts that are live."""
        with self.lock:
            user = self.live["users"].get(name)
            if user is None or not user.on:
                return "no"
            if self.locks() and time.monotonic() < user.until:
                return "locked" if self.style["wrong"] == "locks, said" else "no"
            if user.word == word:
                user.wrong = 0
                return "in"
            user.wrong += 1
            if self.live["wrong"] and user.wrong >= self.live["wrong"]:
                user.until, user.wrong = time.monotonic() + min(self.live["wait"], 2), 0
            return "no"

    def put(self, name: str, value: Any) -> str:
        """Set one thing; why not, or nothing."""
        habit = self.style["habit"]
        with self.lock:
            if habit == "slow":
                time.sleep(0.3)
            if name == "notice" and habit == "refuses the notice":
                return "that is not taken here"
            if name == "notice" and habit == "cuts the notice":
                value = value[:16].strip()
            if name == "idle" and habit == "coarse idle":
                value = value // 300 * 300 or (300 if value else 0)
            if name == "shortest" and habit == "even lengths" and value % 2 == 0:
                value += 1
            if not (name == "notice" and habit == "ignores the notice"):
                self.edited[name] = value
            self._done()
            return ""

    def locks(self) -> bool:
        """Do wrong words lock anybody?"""
        return self.style["wrong"].startswith("locks") and self.style["rules"] != "are only shown"

    def weak(self, word: str) -> bool:
        """Does it fall short of the rules, where these bind?"""
        kinds = len({"a" if c.islower() else "A" if c.isupper() else "1" if c.isdigit() else "." for c in word})
        short = len(word) < self.edited["shortest"] or kinds < self.edited["kinds"]
        return short and self.style["rules"] != "are only shown"

    def add(self, name: str, rank: str, word: str) -> str:
        with self.lock:
            users = self.edited["users"]
            if name in users:
                return "there is one of that name"
            if self.weak(word):
                return "too short a word"
            users[name] = User(rank, word)
            self._done()
            return ""

    def reword(self, name: str, word: str) -> str:
        with self.lock:
            if name not in self.edited["users"]:
                return "nobody of that name"
            if self.weak(word):
                return "too short a word"
            self.edited["users"][name].word = word
            self._done()
            return ""

    def drop(self, name: str) -> str:
        with self.lock:
            if name not in self.edited["users"]:
                return "nobody of that name"
            if self.style["habit"] == "keeps the first" and name == "boss":
                return "the first one stays"
            del self.edited["users"][name]
            self._done()
            return ""

    def save(self) -> None:
        with self.lock:
            if self.style["store"] == "staged":
                self.live = copied(self.staged)
            self.kept = copied(self.live)

    def forget(self) -> None:
        with self.lock:
            self.staged = copied(self.live)

    def waiting(self) -> int:
        """How many things are edited and not in force, or live and not kept."""
        with self.lock:
            mine, other = (self.staged, self.live) if self.style["store"] == "staged" else (self.live, self.kept)
            plain = [{k: v for k, v in one.items() if k != "users"} for one in (mine, other)]
            folk = [{n: (u.rank, u.word) for n, u in one["users"].items()} for one in (mine, other)]
            return sum(plain[0][k] != plain[1][k] for k in plain[0]) + len(
                {n for n in {*folk[0], *folk[1]} if folk[0].get(n) != folk[1].get(n)}
            )

    def keeps_the_word(self) -> None:
        """A first word is kept by itself, but on makes whose power goes then."""
        if self.style["power"] != "goes after the first entry" or self.style["store"] == "staged":
            self.save()

    def loses_power(self) -> None:
        """Whatever was not kept is gone, everybody is cut off, and for a while nobody answers."""
        with self.lock:
            self.dark_until = time.monotonic() + 1.5
            self.restart()
            for one in list(self.lines):
                with contextlib.suppress(OSError):
                    one.shutdown(socket.SHUT_RDWR)

    def dark(self) -> bool:
        """Is it without power now?"""
        return time.monotonic() < self.dark_until

    def restart(self) -> None:
        self.live = copied(self.kept)
        self.staged = copied(self.live)

    # ---- how it spells ------------------------------------------------------------------------------------------

    def rank(self, number: str) -> str:
        return RANKS[self.style["ranks"]][int(number)]

    def rank_of(self, word: str) -> str | None:
        words = RANKS[self.style["ranks"]]
        return str(words.index(word)) if word in words else None

    def spell_time(self, name: str, value: int) -> str:
        if name == "idle" and value == 0:
            return self.style["never"]
        match self.style["time"]:
            case "with unit":
                return f"{value // 60} min" if value % 60 == 0 and value else f"{value} s"
            case "seconds":
                return f"{value} s"
            case "minutes" if value % 60 == 0:
                return f"{value // 60} min"
            case "bare minutes" if name == "idle":
                return str(value // 60)
            case "bare seconds" | "bare minutes":
                return str(value)
        return f"{value} s"

    def time_of(self, name: str, word: str) -> int | None:
        """What it takes: a bare number, in minutes where it shows minutes (idle), else seconds."""
        if name == "idle" and word == self.style["never"]:
            return 0
        if not word.isdigit():
            return None
        return int(word) * (60 if self.takes_minutes(name) else 1)

    def takes_minutes(self, name: str) -> bool:
        return name == "idle" and "minutes" in self.style["time"]

    def shown(self, name: str, state: dict[str, Any] | None = None) -> str:
        """A setting as text."""
        value = (state or self.edited)[name]
        if name in ("idle", "wait"):
            return self.spell_time(name, value)
        if isinstance(value, list):
            nothing = self.style["anyone"] if name == "from" else self.style["blank"]
            return JOIN[self.style["join"]].join(value) or ("" if nothing == "nothing" else nothing)
        if name == "notice" and not value:
            return "" if self.style["blank"] == "nothing" else self.style["blank"]
        return str(value)

    def said(self, name: str, text: str) -> str:
        """A setting told as text; why not, or nothing."""
        text = text.strip()
        value: Any = text
        if name in ("idle", "wait"):
            value = self.time_of(name, text)
        elif name in ("shortest", "kinds", "wrong"):
            value = int(text) if text.isdigit() else None
        elif name in ("from", "time"):
            nothing = self.style["anyone"] if name == "from" else self.style["blank"]
            value = [] if text in ("", nothing) else [one for one in text.replace(",", " ").split() if one]
        elif text == self.style["blank"]:
            value = ""
        if value is None:
            return "that is no value"
        return self.put(name, value)

    def listed(self, how: str, one: str) -> str:
        """A source added, or taken away; why not, or nothing."""
        there = list(self.edited["from"])
        if how not in ("plus", "minus") or (one in there) is (how == "plus"):
            return "that is there already" if how == "plus" else "there is no such thing"
        return self.put("from", [*there, one] if how == "plus" else [each for each in there if each != one])

    def clock(self) -> str:
        if self.style["clock"] == "none":
            return ""
        now = time.gmtime(time.time() - 4)
        return time.strftime("%Y-%m-%d %H:%M:%S", now) + ("+00:00" if self.style["clock"] == "zone" else "")


# ---- a console over telnet ------------------------------------------------------------------------------------------


def style_of_block(thing: Thing) -> str:
    """Where it takes changes."""
    return thing.style["where"]


class Ended(Exception):
    """The other side went away."""


class Console(socketserver.BaseRequestHandler):
    """One visitor at the console."""

    thing: Thing
    block = True

    def say(self, text: str) -> None:
        line = self.thing.style["line"]
        raw = text.encode() if line == "bare ends" else text.replace("\n", "\r\n").encode()
        if line != "in pieces":
            return self.request.sendall(raw)
        for at in range(0, len(raw), 7):
            self.request.sendall(raw[at : at + 7])
            time.sleep(0.002)
        return None

    def line(self, hidden: bool = False) -> str:
        got = b""
        while not got.endswith((b"\r", b"\n")) or got in (b"\n", b"\0"):
            one = self.request.recv(1)
            if not one:
                raise Ended
            if one[0] == 255:
                if self.request.recv(1) == b"\xfa":  # a longer answer, up to its end (RFC 855)
                    told = b""
                    while not told.endswith(b"\xff\xf0") and (more := self.request.recv(1)):
                        told += more
                else:
                    self.request.recv(1)
                continue
            got = one if got in (b"\n", b"\0") else got + one
        text = got.decode(errors="replace").strip("\r\n\0")
        if self.thing.style["echo"] == "yes":
            self.say("\n" if hidden else f"{text}\n")
        return text

    def handle(self) -> None:
        thing, style = self.thing, self.thing.style
        if thing.dark():
            return None
        thing.lines.add(self.request)
        if not thing.admits(self.client_address[0]):
            return turned_away(self.request, style["stranger"], "Not from where you are.\r\n")
        try:
            if style["line"] == "negotiates":
                self.request.sendall(b"\xff\xfb\x01\xff\xfb\x03\xff\xfd\x18\xff\xfd\x1f")
            self.say(f"Hollin works, {thing.live['name']}\n{thing.live['notice']}\n")
            for _ in range(3):
                self.say("Visitor: ")
                name = self.line()
                self.say("Word: ")
                got = thing.enter(name, self.line(hidden=True))
                if got == "in":
                    return self.inside(name)
                self.say("Locked up for now.\n" if got == "locked" else "Stay out.\n")
                if style["wrong"] == "cuts":
                    return None
        except (Ended, OSError):
            return None

    def inside(self, name: str) -> None:
        thing = self.thing
        if thing.asks_terms:
            self.say("By going on you keep the rules of the works.\nDo you, y or n? ")
            if self.line() != "y":
                return None
            thing.taken = True
        if thing.wants_word(name):
            self.say("Your own word: ")
            first = self.line(hidden=True)
            self.say("Your own word again: ")
            if self.line(hidden=True) != first or thing.reword(name, first):
                return self.say("Then not.\n")
            thing.keeps_the_word()
        self.say("Good day.\n")
        self.block = style_of_block(thing) == "anywhere"
        while name in thing.live["users"]:
            self.say(self.prompt())
            words = self.line().split(" ")
            thing.heard.append(" ".join(words))
            if words[0] == "away":
                return None
            if words[0] in (thing.verb["into"], thing.verb["out"]) and style_of_block(thing) != "anywhere":
                self.block = words[0] == thing.verb["into"]
                continue
            told = self.told(name, [word for word in words if word] if words[0] != thing.verb["put"] else words)
            self.paged(told)
        return None

    def prompt(self) -> str:
        name = self.thing.live["name"]
        sign = {"sign": "==> ", "name": f"{name} # ", "bracket": f"[{name}] "}[self.thing.style["prompt"]]
        if self.block and style_of_block(self.thing) == "in a block with a prompt":
            sign = f"inside {sign}"
        return f"\x1b[1;32m{sign}\x1b[0m" if self.thing.style["line"] == "colours" else sign

    def paged(self, text: str) -> None:
        lines = text.splitlines()
        if self.thing.style["dress"] == "a frame" and lines:
            wide = max(map(len, lines))
            lines = [f"+{'-' * (wide + 2)}+", *(f"| {line:<{wide}} |" for line in lines), f"+{'-' * (wide + 2)}+"]
        elif self.thing.style["dress"] == "lines of a log" and lines:
            lines.insert(len(lines) // 2, f"% {time.strftime('%H:%M:%S')} fan at 1200 turns")
        if self.thing.style["page"] == "none" or len(lines) < 6:
            return self.say("".join(f"{line}\n" for line in lines))
        for start in range(0, len(lines), 5):
            self.say("".join(f"{line}\n" for line in lines[start : start + 5]))
            if start + 5 < len(lines):
                self.say("-- on? --")
                self.request.recv(1)
                self.say("\r         \r")
        return None

    def no(self, why: str) -> str:
        return f"!! {why}" if self.thing.style["refusal"] == "starts" else f"it was not done, as {why}"

    def told(self, name: str, words: list[str]) -> str:
        thing, verb, style = self.thing, self.thing.verb, self.thing.style
        rank = thing.live["users"][name].rank
        if not words or words == [""]:
            return ""
        match words:
            case [look, noun] if look == verb["look"] and noun == verb["plate"]:
                return "\n".join(f"{label}{leader(style)} {value}" for label, value in self.plate())
            case [look, noun] if look == verb["look"] and noun == verb["people"]:
                return self.people()
            case [look, noun] if look == verb["look"] and noun == verb["source"] and style["sources"] != "none":
                if style["listing"] == "one by one":
                    rows = [f"way port state\ntelnet {thing.port} {SWITCH[style['switch']][0]}"]
                    return "\n".join([*rows, *(f"from {one}" for one in thing.edited["from"])])
                return f"way port state from\ntelnet {thing.port} {SWITCH[style['switch']][0]} {thing.shown('from')}".rstrip()
        if rank != "0":
            return self.no("you may not")
        if not self.block and words[0] in {verb[one] for one in ("put", "source", "add", "word", "drop")}:
            return self.no("it is not done here")
        match words:
            case [put, label, *rest] if put == verb["put"]:
                key = next((one for one in SETTINGS if thing.label[one] == label), None)
                why = "there is no such thing" if key is None else thing.said(key, " ".join(rest))
            case [put, how, one] if (
                put == verb["source"] and style["sources"] != "none" and style["listing"] == "one by one"
            ):
                why = thing.listed(how, one)
            case [put, *rest] if put == verb["source"] and style["sources"] != "none":
                why = thing.said("from", " ".join(rest))
            case [add, key, told] if add == verb["add"] and (number := thing.rank_of(told)) is not None:
                word = self.word(key, "")
                why = "they differ" if word is None else thing.add(key, number, word)
            case [change, key] if change == verb["word"]:
                word = self.word(key, thing.edited["users"][key].word if key in thing.edited["users"] else "")
                why = "they differ" if word is None else thing.reword(key, word)
            case [drop, key] if drop == verb["drop"]:
                if style["sure"] == "asks":
                    self.say(f"Part with {key}, y or n? ")
                    if self.line() != "y":
                        return self.no("you said no")
                why = thing.drop(key)
            case [one] if one == verb["save"] and style["store"] != "at once":
                why = thing.save() or ""
            case [one] if one == verb["forget"] and style["store"] == "staged":
                why = thing.forget() or ""
            case _:
                why = "that is no command"
        return self.no(why) if why else "Done." if style["echo"] == "yes" else ""

    def word(self, key: str, old: str) -> str | None:
        style = self.thing.style
        if style["secret"] == "old first" and old:
            self.say("The one until now: ")
            if self.line(hidden=True) != old:
                return None
        self.say(f"Word for {key}: ")
        first = self.line(hidden=True)
        if style["secret"] == "once":
            return first
        self.say("And again: ")
        return first if self.line(hidden=True) == first else None

    def plate(self) -> Iterator[tuple[str, str]]:
        thing = self.thing
        yield thing.label["serial"], thing.serial
        for name in SETTINGS:
            yield thing.label[name], thing.shown(name)
        if thing.clock():
            yield thing.label["clock"], thing.clock()
        if thing.style["store"] != "at once":
            yield thing.label["waiting"], str(thing.waiting())

    def people(self) -> str:
        thing, table = self.thing, self.thing.style["table"]
        rows = [
            f"{name:<12} {thing.rank(user.rank):<16} {SWITCH[thing.style['switch']][0 if user.on else 1]}"
            for name, user in thing.edited["users"].items()
        ]
        if table == "numbered":
            rows = [f"{at:>2}. {row}" for at, row in enumerate(rows, 1)]
        if table in ("heading", "ruled"):
            rows.insert(0, f"{'who':<12} {'rank':<16} comes")
        if thing.style["cells"] == "below the heading" and table in ("heading", "ruled"):
            # what is as usual stands nowhere
            usual = SWITCH[thing.style["switch"]][0]
            rows = [rows[0], *(row.removesuffix(usual).rstrip() for row in rows[1:])]
        if table == "ruled":
            rows.insert(1, "-" * 36)
        return "\n".join(rows)


def leader(style: Style) -> str:
    return {":": ":", "=": " =", ".": " ....", "|": " |"}[style["leader"]]


def turned_away(there: socket.socket, how: str, said: str) -> None:
    """How it treats those who have no business there."""
    if how == "reset":
        there.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    elif how == "silent":
        there.settimeout(20)
        try:
            while there.recv(400):
                pass
        except OSError:
            pass
    elif how in ("forbidden", "a page"):
        with contextlib.suppress(OSError):
            there.sendall(said.encode())
    there.close()


# ---- objects over HTTP ----------------------------------------------------------------------------------------------


class Http(BaseHTTPRequestHandler):
    """What both faces over HTTP share."""

    protocol_version = "HTTP/1.1"
    thing: Thing
    seats: dict[str, str]

    def log_message(self, *_: Any) -> None:
        """Quiet."""

    def handle_one_request(self) -> None:
        if self.thing.dark():
            self.close_connection = True
            return None
        self.thing.lines.add(self.request)
        if self.thing.admits(self.client_address[0]):
            return super().handle_one_request()
        how = self.thing.style["stranger"]
        self.close_connection = True
        if how in ("forbidden", "a page"):
            self.request.settimeout(5)
            try:
                self.rfile.readline()
            except OSError:
                return None
            body = (
                "<html><title>Elsewhere</title><p>Not from where you are.</p></html>"
                if self.thing.style["face"] == "pages"
                else '{"why": "not from where you are"}'
            )
            status = "403 Forbidden" if how == "forbidden" else "200 OK"
            return turned_away(
                self.request,
                how,
                f"HTTP/1.1 {status}\r\nContent-Type: text/html\r\nConnection: close\r\nContent-Length: {len(body)}\r\n\r\n{body}",
            )
        return turned_away(self.request, how, "")

    def finish(self) -> None:
        if self.connection.fileno() >= 0:
            super().finish()

    def cached(self) -> bool:
        """Anyone who comes is shown what somebody saw, where its doors are so."""
        seen = self.thing.seen.get(self.path) if self.thing.style["doors"] == "show what was seen" else None
        if seen is None or self.seated() is not None:
            return False
        self.send(200, *seen)
        return True

    def send(self, status: int, body: str, kind: str, **headers: str) -> None:
        if self.command == "GET" and status == 200 and self.seated() is not None:
            self.thing.seen[self.path] = (body, kind)
        raw, wire = body.encode(), self.thing.style["wire"]
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        self.send_header("Content-Type", kind)
        if wire == "in chunks":
            self.send_header("Transfer-Encoding", "chunked")
            raw = b"".join(b"%x\r\n%s\r\n" % (len(part), part) for part in (raw[:40], raw[40:]) if part) + b"0\r\n\r\n"
        elif wire != "no length":
            self.send_header("Content-Length", str(len(raw)))
        if wire in ("closes", "no length"):
            self.send_header("Connection", "close")
            self.close_connection = True
        self.end_headers()
        self.wfile.write(raw)

    def body(self) -> str:
        return self.rfile.read(int(self.headers.get("Content-Length") or 0)).decode()

    def seated(self) -> str | None:
        """Who it is, by the style of logging in."""
        style = self.thing.style
        told = self.headers.get("Authorization", "")
        if style["login"] == "basic":
            if not told.startswith("Basic "):
                return None
            name, _, word = base64.b64decode(told[6:]).decode().partition(":")
            return name if self.thing.enter(name, word) == "in" else None
        if style["login"] == "token" and style["face"] == "objects":
            return self.seats.get(told.removeprefix("Pass "))
        cookies = dict(one.strip().partition("=")[::2] for one in self.headers.get("Cookie", "").split(";"))
        return self.seats.get(cookies.get("seat", ""))


class Objects(Http):
    """A unit that speaks in JSON."""

    def tell(self, got: Any, status: int = 200, why: str = "", **headers: str) -> None:
        style = self.thing.style
        shown = 200 if style["codes"] == "always 200" else status
        told: Any = {"why": why} if why else got
        if style["envelope"] == "data":
            told = {"code": status, "data": got} if not why else {"code": status, "why": why}
        elif style["codes"] == "always 200":
            told = {"code": status, "why": why} if why else got
        self.send(shown, json.dumps(told), "application/json", **headers)

    def typed(self, value: Any) -> Any:
        return (
            str(value).lower() if self.thing.style["types"] == "texts" and not isinstance(value, list | dict) else value
        )

    def users(self) -> Any:
        thing, style = self.thing, self.thing.style
        rows = [
            {"who": n, "rank": self.number(thing.rank(u.rank)), "may": self.switch(u.on)}
            for n, u in thing.edited["users"].items()
        ]
        if style["shape"] == "by name":
            return {row.pop("who"): row for row in rows}
        if style["shape"] == "columns":
            return [[row["who"], row["rank"], row["may"]] for row in rows]
        if style["shape"] == "numbered":
            return [{**row, "at": self.thing.number(row["who"])} for row in rows]
        return rows

    def number(self, word: str) -> Any:
        return int(word) if word.isdigit() and self.thing.style["types"] == "typed" else word

    def switch(self, on: bool) -> Any:
        if self.thing.style["types"] == "typed" and self.thing.style["switch"] == "true false":
            return on
        return self.number(SWITCH[self.thing.style["switch"]][0 if on else 1])

    def plate(self) -> dict[str, Any]:
        thing = self.thing
        told: dict[str, Any] = {thing.label["serial"]: thing.serial}
        if thing.clock():
            told[thing.label["clock"]] = thing.clock()
        if thing.style["store"] != "at once":
            told[thing.label["waiting"]] = self.typed(thing.waiting())
        return told

    def part(self, rows: Any, start: int) -> Any:
        """Some of a list, and where the rest is."""
        if self.thing.style["parts"] == "whole" or not isinstance(rows, list):
            return rows
        more = f"/{self.thing.verb['people']}?from={start + 2}" if start + 2 < len(rows) else None
        return {"rows": rows[start : start + 2], "further": more}

    def settings(self) -> dict[str, Any]:
        thing, told = self.thing, {}
        for name in SETTINGS:
            value = thing.edited[name]
            if name in ("idle", "wait"):
                bare = thing.spell_time(name, value)
                value = (
                    bare
                    if thing.style["time"] in ("with unit", "seconds", "minutes") or not bare.isdigit()
                    else self.typed(int(bare))
                )
            elif isinstance(value, int):
                value = self.typed(value)
            elif name == "notice" and not value:
                value = "" if thing.style["blank"] == "nothing" else thing.style["blank"]
            told[thing.label[name]] = value
        return told

    def do_GET(self) -> None:
        if self.cached():
            return None
        who, thing, verb = self.seated(), self.thing, self.thing.verb
        if who is None:
            return self.tell(None, 401, "nobody sits there")
        match self.path.strip("/"):
            case one if one == verb["plate"]:
                return self.tell(self.plate())
            case one if one == verb["put"]:
                return self.tell(self.settings())
            case one if one.partition("?")[0] == verb["people"]:
                return self.tell(self.part(self.users(), int(one.partition("=")[2] or 0)))
            case one if one == verb["source"] and thing.style["sources"] != "none":
                return self.tell(
                    {"web": {"may": self.switch(True), "port": thing.port, "from": list(thing.edited["from"])}}
                )
        return self.tell(None, 404, "nothing there")

    def do_POST(self) -> None:
        thing, verb = self.thing, self.thing.verb
        text = self.body()
        try:
            sent = json.loads(text or "{}")
        except ValueError:
            return self.tell(None, 400, "that is no object")
        path = self.path.strip("/")
        if path == "door" and thing.style["login"] != "basic":
            got = thing.enter(str(sent.get("who")), str(sent.get("word")))
            if got != "in":
                return self.tell(
                    None, 423 if got == "locked" else 401, "locked up for now" if got == "locked" else "stay out"
                )
            seat = secrets.token_hex(8)
            self.seats[seat] = sent["who"]
            if thing.style["login"] == "cookie":
                return self.tell({}, Set_Cookie=f"seat={seat}; Path=/")
            return self.tell({"seat": seat})
        who = self.seated()
        if who is None:
            return self.tell(None, 401, "nobody sits there")
        user = thing.live["users"].get(who)
        if user is None or user.rank != "0":
            return self.tell(None, 409, "you may not")
        why: str | None = "nothing there"
        if path == verb["put"]:
            why = self.put(sent.get("with", {}) if thing.style["write"] == "call" else sent)
        elif path == verb["source"]:
            told = sent.get("web", sent).get("from")
            why = thing.put("from", list(told)) if isinstance(told, list) else "no list"
        elif path == verb["add"]:
            number = thing.rank_of(str(sent.get("rank")))
            why = "no such rank" if number is None else thing.add(sent["who"], number, sent["word"])
        elif path == verb["word"]:
            why = thing.reword(self.who(sent), sent["word"])
        elif path == verb["drop"]:
            why = thing.drop(self.who(sent))
        elif path == verb["save"] and thing.style["store"] != "at once":
            why = thing.save()
        elif path == verb["forget"] and thing.style["store"] == "staged":
            why = thing.forget()
        return self.tell(None, 409, why) if why else self.tell({})

    def who(self, sent: dict[str, Any]) -> str:
        return self.thing.named(int(sent["at"])) if self.thing.style["shape"] == "numbered" else str(sent["who"])

    do_PUT = do_PATCH = do_POST

    def put(self, sent: dict[str, Any]) -> str:
        thing = self.thing
        mine = self.settings()
        if thing.style["write"] == "whole" and sent.keys() != mine.keys():
            return "not the whole of it"
        names = {thing.label[name]: name for name in SETTINGS}
        for label, value in sent.items():
            if label not in names:
                return f"there is no {label}"
            if value == mine[label]:
                continue
            kept = mine[label]
            if type(kept) is not type(value) and not (
                isinstance(kept, int | str) and isinstance(value, int | str) and names[label] == "idle"
            ):
                return f"{label} is of another kind"
            why = thing.put(names[label], value) if isinstance(value, list) else thing.said(names[label], str(value))
            if why:
                return why
        return ""


# ---- pages ----------------------------------------------------------------------------------------------------------


class Pages(Http):
    """A unit with a desk of pages."""

    def show(self, title: str, inner: str, **headers: str) -> None:
        self.send(
            200,
            f"<html><head><title>{title}</title></head><body>{inner}</body></html>",
            "text/html; charset=utf-8",
            **headers,
        )

    def door(self, said: str = "") -> None:
        self.show(
            "Door",
            f"<p>{said}</p><form name=door method=post action=/door><input name=who><input type=password name=word><input type=submit value=Enter></form>",
        )

    def do_GET(self) -> None:
        if self.cached():
            return None
        who, thing, verb = self.seated(), self.thing, self.thing.verb
        url = urlsplit(self.path)
        path, query = url.path.strip("/"), dict(parse_qsl(url.query))
        if thing.style["login"] == "basic" and who is None:
            return self.send(
                401, "<html><title>Door</title>stay out</html>", "text/html", WWW_Authenticate='Basic realm="unit"'
            )
        if path == "door" or who is None:
            return self.door()
        if thing.asks_terms:
            return self.show(
                "First",
                '<p>By going on you keep the rules of the works.</p><form name=terms method=post action=/terms><input type=submit value="I do"></form>',
            )
        if who in thing.live["users"] and thing.wants_word(who):
            return self.show(
                "First",
                "<p>Choose a word of your own.</p><form name=own method=post action=/own><input type=password name=word><input type=password name=again><input type=submit value=Go></form>",
            )
        esc = html.escape
        if path == verb["plate"]:
            rows = {thing.label["serial"]: thing.serial}
            if thing.clock():
                rows[thing.label["clock"]] = thing.clock()
            if thing.style["store"] != "at once":
                rows[thing.label["waiting"]] = str(thing.waiting())
            save = (
                f"<form name=save method=post action=/{verb['save']}><input type=submit name=go value=Save><input type=submit name=go value=Forget></form>"
                if thing.style["store"] != "at once"
                else ""
            )
            return self.show(
                "Desk",
                "<table><caption>Plate</caption>"
                + "".join(f"<tr><th>{k}</th><td>{esc(v)}</td></tr>" for k, v in rows.items())
                + f"</table>{save}",
            )
        if path == verb["put"]:
            fields = "".join(
                f'{thing.label[name]} <input name={thing.label[name]} value="{esc(self.cell(name))}"><br>'
                for name in SETTINGS
            )
            return self.show(
                "Desk",
                f"<form name=settings method=post action=/{verb['put']}>{fields}<input type=submit value=Note></form>",
            )
        if path == verb["source"] and thing.style["sources"] != "none":
            return self.show(
                "Desk",
                f'<form name=source method=post action=/{verb["source"]}><input name=from value="{esc(thing.shown("from"))}"><input type=submit value=Note></form>',
            )
        if path == verb["people"]:
            ranks = "".join(f"<option value={esc(word)}>{esc(word)}</option>" for word in RANKS[thing.style["ranks"]])
            again = "" if thing.style["secret"] == "once" else "<input type=password name=again>"
            two = thing.style["parts"] != "whole"
            start = int(query.get("from", 0)) if two else 0
            shown = list(thing.edited["users"].items())[start : start + 2 if two else None]
            rest = two and start + 2 < len(thing.edited["users"])
            on = f'<a href="/{verb["people"]}?from={start + 2}">Further</a>' if rest else ""
            rows = "".join(
                f'<tr><td>{esc(n)}</td><td>{esc(thing.rank(u.rank))}</td><td>{SWITCH[thing.style["switch"]][0 if u.on else 1]}</td><td><a href="/{verb["word"]}?who={esc(n)}">Open</a></td></tr>'
                for n, u in shown
            )
            return self.show(
                "Desk",
                f"<table><caption>People</caption><tr><th>Who</th><th>Rank</th><th>Comes</th><th></th></tr>{rows}</table>{on}<form name=newcomer method=post action=/{verb['add']}><input name=who><select name=rank>{ranks}</select><input type=password name=word>{again}<input type=submit value=Add></form>",
            )
        if path == verb["word"] and query.get("who") in thing.edited["users"]:
            again = "" if thing.style["secret"] == "once" else "<input type=password name=again>"
            return self.show(
                "Desk",
                f'<form name=person method=post action=/{verb["word"]}><input type=hidden name=who value="{esc(query["who"])}"><input type=password name=word>{again}<input type=submit name=do value=Note><input type=submit name=do value=Part></form>',
            )
        return self.show("Desk", "<p>nothing there</p>")

    def cell(self, name: str) -> str:
        if name not in ("idle", "wait"):
            return self.thing.shown(name)
        value = int(self.thing.edited[name])
        if name == "idle" and value == 0:
            return self.thing.style["never"]
        return str(value // 60 if self.thing.takes_minutes(name) else value)

    def do_POST(self) -> None:
        thing, verb = self.thing, self.thing.verb
        sent, path = dict(parse_qsl(self.body(), keep_blank_values=True)), self.path.strip("/")
        if path == "door" and thing.style["login"] != "basic":
            got = thing.enter(sent.get("who", ""), sent.get("word", ""))
            if got != "in":
                return self.door("Locked up for now." if got == "locked" else "Stay out.")
            seat = secrets.token_hex(8)
            self.seats[seat] = sent["who"]
            if thing.style["wire"] == "sends on":
                return self.send(
                    302, "", "text/html", Set_Cookie=f"seat={seat}; Path=/; HttpOnly", Location=f"/{verb['plate']}"
                )
            if thing.asks_terms or thing.wants_word(sent["who"]):
                return self.send(302, "", "text/html", Set_Cookie=f"seat={seat}; Path=/", Location=f"/{verb['plate']}")
            return self.show("Desk", "<p>Good day.</p>", Set_Cookie=f"seat={seat}; Path=/")
        who = self.seated()
        if who is None:
            return self.do_GET()
        if path == "terms":
            thing.taken = True
            return self.do_GET()
        if path == "own" and sent.get("word") and sent.get("word") == sent.get("again"):
            thing.reword(who, sent["word"])
            thing.keeps_the_word()
            return self.show("Desk", "<p>Good day.</p>")
        if thing.asks_terms or (who in thing.live["users"] and thing.wants_word(who)):
            return self.do_GET()
        user = thing.live["users"].get(who)
        why: str | None = "you may not"
        if user is not None and user.rank == "0":
            why = self.done(path, sent)
        if not why and thing.style["wire"] == "sends on":
            return self.send(303, "", "text/html", Location=f"/{verb['plate']}")
        return self.show("Desk", f"<p>It was not done: {html.escape(why)}</p>" if why else "<p>Done.</p>")

    def done(self, path: str, sent: dict[str, str]) -> str | None:
        thing, verb = self.thing, self.thing.verb
        if sent.get("again", sent.get("word")) != sent.get("word"):
            return "the words differ"
        if path == verb["put"]:
            for name in SETTINGS:
                if thing.label[name] not in sent:
                    return "not the whole form"
                if sent[thing.label[name]] != self.cell(name) and (why := thing.said(name, sent[thing.label[name]])):
                    return why
            return ""
        if path == verb["source"]:
            return thing.said("from", sent.get("from", ""))
        if path == verb["add"]:
            number = thing.rank_of(sent.get("rank", ""))
            return "no such rank" if number is None else thing.add(sent.get("who", ""), number, sent.get("word", ""))
        if path == verb["word"] and sent.get("do") == "Part":
            if thing.style["sure"] == "asks" and not sent.get("sure"):
                return self.sure(sent["who"])
            return thing.drop(sent.get("who", ""))
        if path == verb["word"]:
            return thing.reword(sent.get("who", ""), sent.get("word", ""))
        if path == verb["save"] and sent.get("go") == "Forget":
            return thing.forget()
        return thing.save() if path == verb["save"] else "nothing there"

    def sure(self, who: str) -> str:
        raise Sure(who)


class Sure(Exception):
    """It asks whether that is meant."""


class AskingPages(Pages):
    """One that asks before it parts with anybody."""

    def do_POST(self) -> None:
        try:
            super().do_POST()
        except Sure as one:
            verb = self.thing.verb
            self.show(
                "Desk",
                f'<form name=sure method=post action=/{verb["word"]}><input type=hidden name=who value="{html.escape(str(one))}"><input type=hidden name=do value=Part><input type=hidden name=sure value=1><input type=submit value="Yes, part"></form>',
            )


@dataclass
class Running:
    """A unit on its wire."""

    thing: Thing
    server: Any
    thread: threading.Thread = field(repr=False, default_factory=threading.Thread)

    def down(self) -> None:
        self.server.shutdown()
        self.server.server_close()


def running(style: Style, seed: int, at: str, port: int) -> Running:
    """The unit of a drawing, on its wire."""
    thing = Thing(style, seed, at, port)
    faces: dict[str, Callable[[], type]] = {
        "console": lambda: type("Here", (Console,), {"thing": thing}),
        "objects": lambda: type("Here", (Objects,), {"thing": thing, "seats": {}}),
        "pages": lambda: type("Here", (AskingPages,), {"thing": thing, "seats": {}}),
    }
    # anyone who is cut off by its power says nothing on the screen of those who judge
    quiet = {"allow_reuse_address": True, "daemon_threads": True, "handle_error": lambda *_: None}
    base = socketserver.ThreadingTCPServer if style["face"] == "console" else ThreadingHTTPServer
    server: Any = type("Line", (base,), quiet)((at, port), faces[style["face"]]())
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True)
    thread.start()
    return Running(thing, server, thread)
