"""A set that stands in rows, which the unit takes, and lets go, one at a time: what is wanted is added first, and
what is not wanted is taken away then, so that nobody who is let in by it is cut off. Pure."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import fields, replace
from typing import Any

from ..addresses import AddressSet
from ..secret import Text
from .conversation import BOUND, Answer, Asking, Fill, Keys, Order, Replies, Telling, Unprompted
from .outcomes import Done, No
from .tree import Items, Tree, pick, to_fill

COLUMNS = ("first", "second", "third", "fourth")  # the slots of what stands in a row, one for each of its places
Row = tuple[str, ...]


def _filled_by(row: Row) -> dict[str, Text]:
    """What fills the slots of one row."""
    return {name: (text,) if text else () for name, text in zip(COLUMNS, row, strict=False)}


def _wanted(fill: Fill, items: Items) -> tuple[Row, ...]:
    """The rows that are wanted."""
    base = f"{BOUND}{items.at.removesuffix('*').removesuffix('/')}"
    found: dict[str, list[str]] = {}
    for name, text in fill.items():
        if name.startswith(f"{base}/"):
            number = name[len(base) + 1 :].partition("/")[0]
            found.setdefault(number, []).append("".join(part for part in text if isinstance(part, str)))
    return tuple(tuple(row) for row in found.values())


class OneByOne(Unprompted):
    """Beside what an op is else: for a set whose rows are added and taken away one at a time, how one of them is."""

    adds: Any
    takes: Any
    view: Any

    def templates(self) -> Iterator[tuple[Keys, str]]:
        """The texts with slots, those of its rows too."""
        yield from super().templates()  # type: ignore[misc]  # of the op it stands before
        for name, part in (("adds", self.adds), ("takes", self.takes)):
            for keys, template in part.templates() if part is not None else ():
                yield (name, *keys), template

    def amiss(self) -> tuple[Keys, str] | None:
        """What does not go together in what is done to a row, or beside it."""
        for name, part in (("adds", self.adds), ("takes", self.takes)):
            if part is None:
                continue
            if odd := part.amiss():
                return (name, *odd[0]), odd[1]
            if beside := next((one.name for one in fields(part) if getattr(self, one.name)), ""):
                return (beside,), f"{name} says already what is done; leave one of the two out"
        return super().amiss()

    def writes_rows(self) -> bool:
        """Where it is said how one is added, or the whole may be replaced."""
        return self.adds is not None or super().writes_rows()

    def rows(self) -> Items | None:
        """Where its rows are, and what says what one holds."""
        items: Items | None = self.takes.view.items if self.takes is not None else None
        return items

    def read_by(self) -> Any:
        """What its rows are read by."""
        return self.takes.view.ask

    def by_row(self, ask: Any, items: Items) -> Any:
        """The same, its rows found where this asks for them."""
        return replace(self, adds=self.adds.on(ask, Items()), takes=self.takes.on(ask, items))  # type: ignore[type-var]  # a dataclass

    def added(self, fill: Fill) -> Iterator[tuple[Any, Fill]]:
        """How a row is added, and what fills that, for each that may have to be."""
        items = self.rows()
        yield from ((self.adds, _filled_by(row)) for row in _wanted(fill, items)) if items is not None else ()


def row_by_row(order: Order, look: Callable[[], Asking], tell: Callable[[Order], Telling]) -> Telling:
    """Add the rows that lack, the laptop's own first; then take away those that are not wanted, the laptop's own
    last. Each is looked for again, because their names may change with every row that goes."""
    how: OneByOne = order.how
    items = how.rows()
    assert items is not None
    sent = False
    got: Answer = Done(Replies())
    for adding in (True, False):
        read = yield from look()
        if not isinstance(read, Done):
            return _told(read, sent)
        rows = _rows(read.reply.tree, items)
        if rows is None:
            return _told(No("one of its rows does not say what it holds", sent=False), sent)
        shall = _wanted(order.fill, items)
        there, want = {_meant(row) for row in rows}, {_meant(row) for row in shall}
        todo = (
            [row for row in shall if _meant(row) not in there] if adding else [r for r in rows if _meant(r) not in want]
        )
        for row in sorted(todo, key=lambda one: holds(one, order.source) is not adding):
            part = replace(
                order, how=how.adds if adding else how.takes, fill={**_filled_by(row), "key": ("/".join(row),)}
            )
            got = yield from tell(part)
            if not isinstance(got, Done):
                return _told(got, sent)
            sent = True
    return got


def _told(answer: Answer, sent: bool) -> Answer:
    """A no after others were taken is no longer a no to nothing."""
    return replace(answer, sent=True) if sent and isinstance(answer, No) else answer


def _rows(tree: Tree, items: Items) -> list[Row] | None:
    """The rows as they stand; None where one of them does not say what it holds."""
    found = [items.texts(item) for _, item in pick(tree, items.at) if not to_fill(item, items.key)]
    return None if None in found else [row for row in found if row is not None]


def _meant(row: Row) -> AddressSet | Row:
    """What a row means, however it is written: addresses with or without their mask, or words."""
    try:
        return AddressSet.of((".".join if len(row) == len(COLUMNS) else "/".join)(row))
    except ValueError:
        return tuple(text.strip() for text in row)


def holds(row: Row, source: str) -> bool:
    """Is this the row that lets the laptop in, at its address `source`? Words, or no address known, are none."""
    meant = _meant(row)
    return isinstance(meant, AddressSet) and bool(source) and source in meant
