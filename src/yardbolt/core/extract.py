"""Replies to facts, and facts to a reading. Every line is matched or reported as left over; doubt never becomes a value (D12, D16)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from .errors import Trouble, UnitError
from .family import WORDS, AskSpec, Family, Spelling, complete_lacks, is_token
from .formats import DECODERS
from .paths import Path, parse, show
from .plane import LISTS, Plane, coerce, get, leaves, make, pattern_of, put, steady, whole
from .signs import row

MOST_ITEMS = 10_000


@dataclass(frozen=True)
class Fact:
    """One path has one value, says one ask."""

    path: Path
    value: Any
    ask: str


@dataclass(frozen=True)
class Whole:
    """This list was read in full."""

    name: str
    ask: str


@dataclass(frozen=True)
class Leftover:
    """A line that was not understood; the list it belongs to is then not whole."""

    ask: str
    line: str


Part = Fact | Whole | Leftover


@dataclass(frozen=True)
class Evidence:
    """What was asked, by whom, when, and what came back: a digest of all of it and the first lines."""

    id: str
    ask: str
    channel: str
    account: str
    rights: str
    time: str
    digest: str
    excerpt: str


@dataclass(frozen=True)
class Blind:
    """An area that could not be read, and why."""

    area: str
    why: str


@dataclass(frozen=True)
class Reading:
    """A plane that was read, with what it rests on."""

    plane: Plane = Plane()
    evidence: tuple[Evidence, ...] = ()
    origin: Mapping[Path, tuple[str, ...]] = field(default_factory=dict)
    conflicts: tuple[Path, ...] = ()
    leftovers: tuple[Leftover, ...] = ()
    blind: tuple[Blind, ...] = ()


def _value(f: Family, path: Path, raw: str, now: datetime | None) -> Any:
    s = f.spelling.get(pattern_of(path), Spelling())
    raw = raw.strip()
    if s.moment:
        if now is None:
            return None
        told = datetime.fromisoformat(raw.replace(" ", "T", 1).replace(" ", ""))
        return (told - now).total_seconds() if told.tzinfo else None
    if raw in s.words:
        word = s.words[raw]
        return coerce(path, WORDS.get(word, word))
    if s.empty and not raw:
        return coerce(path, WORDS.get(s.empty, s.empty))
    return coerce(path, [x.strip() for x in raw.split(s.join) if x.strip()] if s.join else raw)


class _Gatherer:
    """Facts of one reply; a value that does not suit its leaf is a leftover, never a guess."""

    def __init__(self, f: Family, ask: str, now: datetime | None) -> None:
        self.f, self.ask, self.now = f, ask, now
        self.parts: list[Part] = []
        self.doubt = False

    def left(self, line: str) -> None:
        self.doubt = True
        self.parts.append(Leftover(self.ask, line[:200]))

    def fact(self, path: Path, raw: str) -> None:
        try:
            self.parts.append(Fact(path, _value(self.f, path, raw, self.now), self.ask))
        except (ValueError, TypeError):
            self.left(f"{show(path)}: {raw}")


def extract(f: Family, ask: AskSpec, reply: str, key: str = "", now: datetime | None = None) -> tuple[Part, ...]:
    """The facts of a reply. `key` is the item an `each` ask was about; `now` the laptop's time, for a clock.

    Any text gives parts; nothing is raised but UnitError on more rows than the limit.
    """
    got = _Gatherer(f, ask.name, now)
    lines = [x for x in reply.splitlines() if x.strip()]
    if len(lines) > MOST_ITEMS:
        raise UnitError(Trouble.TOO_MUCH, f"{ask.name}: more than {MOST_ITEMS:,} lines")
    tree = ask.tree
    if "decode" in tree:
        decoded = DECODERS[tree["decode"]].decode(reply, key)
        for path, value in decoded.facts:
            got.parts.append(Fact(path, True if len(path) == 2 and path[0] in LISTS else coerce(path, value), ask.name))
        for line in decoded.leftovers:
            got.left(line)
    elif "rows" in tree:
        _rows(f, ask, lines, got)
    elif "pairs" in tree:
        _pairs(tree["pairs"], lines, got)
    else:
        for line in lines:
            _line(tree.get("lines", ()), line, got)
    if not got.doubt:
        got.parts += [Whole(name, ask.name) for name in ask.whole]
    return tuple(got.parts)


def _line(patterns: Iterable[Mapping[str, Any]], line: str, got: _Gatherer) -> None:
    for p in patterns:
        if m := row(p["row"]).form.match(line):
            for column, written in p.get("take", {}).items():
                got.fact(parse(written), m[column])
            return
    got.left(line)


def _rows(f: Family, ask: AskSpec, lines: list[str], got: _Gatherer) -> None:
    table = ask.tree["rows"]
    form = row(table["row"]).form
    heading = table.get("heading", "")
    if heading:  # by position: an account may be called like a heading
        if not lines or lines[0].split() != heading.split():
            got.left(lines[0] if lines else "(no heading)")
        lines = lines[1:]
    for line in lines:
        m = form.match(line)
        if not m:
            _line(ask.tree.get("lines", ()), line, got)
            continue
        columns = {k: v for k, v in m.groupdict().items() if k not in ("key", "skip")}
        if not is_token(f, m["key"]):
            got.left(line)
            continue
        base = (table["into"], f.our_key(table["into"], m["key"]))
        got.parts.append(Fact(base, True, ask.name))
        for name, raw in columns.items():
            got.fact((*base, name), raw)


def _pairs(spec: Mapping[str, Any], lines: list[str], got: _Gatherer) -> None:
    leader = spec["between"]
    for line in lines:
        label, value = _cut(line, leader)
        written = spec["take"].get(label)
        if written is None:
            got.left(line)
        elif written != "-":
            got.fact(parse(written), value)


def _cut(line: str, leader: str) -> tuple[str, str]:
    """Label and value around the first run of `leader` that has blanks (or nothing but the label) before and a blank after it."""
    at = 0
    while (at := line.find(leader, at)) >= 0:
        end = at
        while line.startswith(leader, end):
            end += len(leader)
        if end == len(line) or line[end].isspace():
            return line[:at].strip(), line[end:].strip()
        at = end
    return line.strip(), ""


def merge(f: Family, parts: Iterable[Part], evidence: tuple[Evidence, ...] = (), blind: tuple[Blind, ...] = ()) -> Reading:
    """Fold facts into a reading. Two asks that disagree make the path unknown and a conflict: never last-one-wins."""
    plane = Plane()
    seen: dict[Path, Any] = {}
    origin: dict[Path, tuple[str, ...]] = {}
    clash: set[Path] = set()
    leftovers: list[Leftover] = []
    wholes: list[str] = []
    for part in parts:
        match part:
            case Leftover():
                leftovers.append(part)
            case Whole(name, _):
                wholes.append(name)
            case Fact(path, value, ask):
                if len(path) > 1 and path[0] in LISTS:
                    plane = make(plane, path[:2])
                if (len(path) == 2 and path[0] in LISTS) or value is None:
                    continue
                if path in seen and seen[path] != value and steady(path):
                    clash.add(path)
                seen[path] = value
                origin[path] = tuple(dict.fromkeys((*origin.get(path, ()), ask)))
                plane = put(plane, path, value)
    for path in clash:
        plane = put(plane, path, None)
    for name in wholes:
        plane = whole(plane, name)
    return Reading(complete_lacks(f, plane), evidence, origin, tuple(sorted(clash)), tuple(leftovers), blind)


def surprises(forecast: Plane, seen: Plane) -> tuple[Path, ...]:
    """Paths that read otherwise than forecast. What moves by itself, what cannot be read, and what was not read are no surprise."""
    found: set[Path] = set()
    for name in LISTS:
        here, there = getattr(forecast, name), getattr(seen, name)
        if not steady((name,)) or not there.complete:
            continue
        mine, theirs = {i.key for i in here.items}, {i.key for i in there.items}
        found |= {(name, k) for k in (mine ^ theirs if here.complete else mine - theirs)}
    for path, value in leaves(seen):
        expected = get(forecast, path)
        if value is not None and expected is not None and path[-1] != "secret" and steady(path) and value != expected:
            found.add(path)
    return tuple(sorted(found))
