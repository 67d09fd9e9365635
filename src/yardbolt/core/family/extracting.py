"""One reply taken apart: texts of rows, pairs and lines, and what a decoder told."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from datetime import datetime

from ..errors import Trouble, UnitError
from ..formats.decode import DECODERS
from ..plane.path import Path, filled, parse, show
from ..plane.table import coerce, is_item
from ..talk.conversation import Replies
from ..talk.patterns import row
from .extracttrees import tree_told
from .facts import Facts
from .model import Ask, Family, TextLine
from .parts import MOST_ITEMS, Fact, Narrowed, Part, Whole


def extract(family: Family, ask: Ask, replies: Replies, key: str = "", now: datetime | None = None) -> tuple[Part, ...]:
    """The facts of a reply. `key` is the item an `each` ask was about; `now` the laptop's time, for a clock.

    Any reply gives parts; nothing is raised but UnitError on more rows than the limit.
    """
    facts = Facts(family, ask, now)
    lines = [line for line in replies.text.splitlines() if line.strip()]
    if len(lines) > MOST_ITEMS:
        raise UnitError(Trouble.TOO_MUCH, f"{ask.name}: more than {MOST_ITEMS:,} lines")
    if ask.decode:
        _decoded(ask, replies, key, facts)
    elif ask.rows:
        _rows(ask, lines, facts)
    elif ask.pairs:
        _pairs(ask, lines, facts)
    elif ask.leaves or ask.tree_rows:
        tree_told(ask, replies.tree, key, facts)
    else:
        for line in lines:
            _line(ask.lines, line, facts)
        facts.parts = _joined(facts.parts)
    # one line not understood may be an account: then nothing unseen is taken for absent
    if not facts.doubt:
        facts.parts += [Whole(filled(path, ("", key)), ask.name, ask.store) for path in ask.whole]
    return tuple(facts.parts)


def _joined(parts: list[Part]) -> list[Part]:
    """Lines that each name one of a set make one set of them."""
    sets: dict[Path, Fact] = {}
    out: list[Part] = []
    for part in parts:
        if isinstance(part, Fact) and isinstance(part.value, tuple):
            before = sets[part.path].value if part.path in sets else ()
            sets[part.path] = replace(part, value=tuple(sorted({*before, *part.value})))
        else:
            out.append(part)
    return [*out, *sets.values()]


def _decoded(ask: Ask, replies: Replies, key: str, facts: Facts) -> None:
    decoded = DECODERS[ask.decode].decode(replies, key)
    for path, value in decoded.facts:
        try:
            facts.add(path, True if is_item(path) else coerce(path, value))
        except (ValueError, TypeError) as e:
            facts.left(f"{show(path)}: {e}")
    facts.parts += [Narrowed(*one, ask.store) for one in decoded.narrows]
    for line in decoded.leftovers:
        facts.left(line)


def _line(patterns: Iterable[TextLine], line: str, facts: Facts) -> None:
    for pattern in patterns:
        if match := row(pattern.row).regex.match(line):
            for column, written in pattern.take.items():
                facts.read(parse(written), match[column])
            return
    facts.left(line)


def _rows(ask: Ask, lines: list[str], facts: Facts) -> None:
    table = ask.rows
    assert table is not None
    regex = row(table.row).regex
    if table.heading:  # by position: an account may be called like a heading
        if not lines or lines[0].split() != table.heading.split():
            facts.left(lines[0] if lines else "(no heading)")
        lines = lines[1:]
    for line in lines:
        match = regex.match(line)
        if not match:
            _line(ask.lines, line, facts)
            continue
        # a key is typed into commands later on, so a hostile one is no key
        if not facts.family.is_key(table.into[0], match["key"]):
            facts.left(line)
            continue
        base = (*table.into, facts.family.our_key(table.into[0], match["key"]))
        facts.add(base, True)
        for name, raw in match.groupdict().items():
            if name not in ("key", "skip"):
                facts.read((*base, name), raw)


def _pairs(ask: Ask, lines: list[str], facts: Facts) -> None:
    assert ask.pairs is not None
    for line in lines:
        label, value = _cut(line, ask.pairs.between)
        written = ask.pairs.take.get(label)
        if written is None:
            facts.left(line)
        elif written != "-":
            facts.read(parse(written), value)


def _cut(line: str, leader: str) -> tuple[str, str]:
    """Label and value around the first run of `leader` that has a blank after it; where none has, around the first
    there is."""
    at = 0
    while (at := line.find(leader, at)) >= 0:
        end = at
        while line.startswith(leader, end):
            end += len(leader)
        if end == len(line) or line[end].isspace():
            return line[:at].strip(), line[end:].strip()
        at = end
    label, _, value = line.partition(leader)
    return label.strip(), value.strip()
