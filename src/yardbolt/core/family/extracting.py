"""One reply taken apart: texts of rows, pairs and lines, and what a decoder told."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime

from ..errors import Trouble, UnitError
from ..formats.decode import DECODERS
from ..plane.path import filled, parse, show
from ..plane.table import coerce, is_item
from ..talk.conversation import Replies
from ..talk.patterns import row, split
from .extracttrees import tree_told
from .facts import Facts
from .model import Ask, Family, TextLine, TextRows
from .parts import MOST_ITEMS, Narrowed, Part, Whole


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
        _rows(ask, lines, facts, key)
    elif ask.pairs:
        _pairs(ask, lines, facts, key)
    elif ask.leaves or ask.tree_rows:
        tree_told(ask, replies.tree, key, facts)
    else:
        for line in lines:
            _line(ask.lines, line, facts, key)
    _missing(ask.lines, lines, facts, key)
    facts.drop_partial_sets()
    # one line not understood may be an account: then nothing unseen is taken for absent
    if not facts.doubt:
        facts.parts += [Whole(filled(path, ("", key)), ask.name, ask.store) for path in ask.whole]
    return tuple(facts.parts)


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


def _line(patterns: Iterable[TextLine], line: str, facts: Facts, item: str) -> None:
    """A line of its own. It is about the item it names by {key}, else about the one that was asked for."""
    for pattern in patterns:
        if not (match := row(pattern.row).regex.match(line)):
            continue
        found = match.groupdict()
        if "key" in found:
            listed = parse(next(iter(pattern.take.values())))[0]
            if not facts.family.is_key(listed, found["key"]):
                break
            item = facts.family.our_key(listed, found["key"])
        for column, written in pattern.take.items():
            named = column if "{" in column else f"{{{column}}}"
            text = "".join(literal + (found[name] if name else "") for literal, name, _ in split(named))
            facts.read_one(filled(parse(written), ("", item)), text)
        return
    facts.left(line)


def _missing(patterns: Iterable[TextLine], lines: list[str], facts: Facts, item: str) -> None:
    """What it means that no line of a kind stands there. A line that was not understood may be one, and a unit that
    said nothing at all said nothing of this either."""
    if facts.doubt or not lines:
        return
    for pattern in patterns:
        if not any(row(pattern.row).regex.match(line) for line in lines):
            paths = {filled(parse(written), ("", item)): word for written, word in pattern.none.items()}
            for path, word in paths.items():
                if "*" not in path and "" not in path:
                    facts.word(path, word)


def _rows(ask: Ask, lines: list[str], facts: Facts, item: str) -> None:
    table = ask.rows
    assert table is not None
    starts: list[int] = []
    if table.heading:  # by position: an account may be called like a heading
        if not lines or lines[0].split() != table.heading.split():
            facts.left(lines[0] if lines else "(no heading)")
        elif table.aligned:
            # a tab moves to a column of the screen, so positions are counted without tabs
            lines = [line.expandtabs() for line in lines]
            starts = _starts(lines[0], table.heading)
        lines = lines[1:]
    for line in lines:
        found = _cells(table, line, starts)
        if found is None:
            _line(ask.lines, line, facts, item)
            continue
        # a key is typed into commands later on, so a hostile one is no key
        if not facts.family.is_key(table.into[0], found["key"]):
            facts.left(line)
            continue
        base = (*table.into, facts.family.our_key(table.into[0], found["key"]))
        facts.add(base, True)
        for name, raw in found.items():
            if name not in ("key", "skip"):
                facts.read((*base, name), raw)


def _starts(line: str, heading: str) -> list[int]:
    """Where each column of a heading begins in the line as it came; columns of the heading stand two blanks apart."""
    out, at = [], 0
    for label in re.split(r" {2,}", heading.strip()):
        words = r"\s+".join(map(re.escape, label.split()))
        found = re.compile(words).search(line, at)
        assert found is not None  # the line has the same words
        out.append(found.start())
        at = found.end()
    return out


def _cells(table: TextRows, line: str, starts: list[int]) -> dict[str, str] | None:
    """The columns of one line: by its pattern, or cut where the columns of the heading begin; None where it is no
    row of the table."""
    pattern = row(table.row)
    if not table.aligned:
        match = pattern.regex.match(line)
        return dict(match.groupdict()) if match else None
    if len(starts) != len(pattern.names):
        return None
    # what runs over the beginning of the next column belongs to no one for sure
    if any(0 < at < len(line) and not line[at - 1].isspace() for at in starts):
        return None
    cells = [line[at:end].strip() for at, end in zip(starts, [*starts[1:], len(line)], strict=True)]
    # words one blank before the next column's may go on in it, so that neither cell is sure
    if any(
        " " in cell and line[at - 2 : at - 1].strip() and line[at : at + 1].strip()
        for cell, at in zip(cells, starts[1:], strict=False)
    ):
        return None
    return dict(zip(pattern.names, cells, strict=True)) if cells[0] else None


def _pairs(ask: Ask, lines: list[str], facts: Facts, item: str) -> None:
    assert ask.pairs is not None
    for line in lines:
        label, value = _cut(line, ask.pairs.between)
        written = ask.pairs.take.get(label)
        if written is None:
            _line(ask.lines, line, facts, item)
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
