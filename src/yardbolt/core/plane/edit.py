"""Reading and changing planes. A plane is never changed in place; many edits go through one `Draft`, in linear time."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import Any

from .kinds import Absent, Leaf, Listing
from .leaves import Plane
from .path import Path, show
from .table import ROOT, Branch, Many, item_of


def listing(plane: Plane, path: Path) -> Listing[Any]:
    """The list at `path`; an empty incomplete one where its item was not seen."""
    node = _walk(plane, path)
    return node if isinstance(node, Listing) else Listing()


def _walk(plane: Plane, path: Path) -> Any:
    node: Any = plane
    for step in path:
        node = node.get(step) if isinstance(node, Listing) else getattr(node, step)
        if node is None:
            return None
    return node


def get(plane: Plane, path: Path) -> Any:
    """The value at a leaf; None where it, or its item, was not read."""
    return _walk(plane, path)


def item(plane: Plane, path: Path) -> Any:
    """The item at `accounts/x`, or None where it was not seen."""
    return _walk(plane, path)


def exists(plane: Plane, path: Path) -> bool | None:
    """Is there such an item? None where its list was not read whole."""
    if _walk(plane, path) is not None:
        return True
    return False if listing(plane, path[:-1]).complete else None


def reachable(plane: Plane, path: Path) -> bool:
    """Can a leaf be set at `path`, because it lies in no list or its item was seen?"""
    inside = item_of(path)
    return inside is None or _walk(plane, inside) is not None


def put(plane: Plane, path: Path, value: Any) -> Plane:
    """The plane with one leaf set. Creates nothing: raises KeyError where the item is not there; ValueError on a wrong
    kind."""
    return Draft(plane).put(path, value).freeze()


def make(plane: Plane, path: Path) -> Plane:
    """The plane with an item at `accounts/x`, nothing known of it; unchanged if it is there."""
    return plane if _walk(plane, path) is not None else Draft(plane).make(path).freeze()


def drop(plane: Plane, path: Path) -> Plane:
    """The plane without the item at `accounts/x`."""
    return plane if _walk(plane, path) is None else Draft(plane).drop(path).freeze()


def whole(plane: Plane, path: Path) -> Plane:
    """The plane with the list at `path` marked as read whole."""
    return Draft(plane).whole(path).freeze()


EMPTY = Plane()


class _OpenBranch:
    """A part or an item while it is being changed. Only what was touched is held open."""

    __slots__ = ("branch", "changed", "frozen", "key")

    def __init__(self, branch: Branch, frozen: Any, key: str = "") -> None:
        self.branch, self.frozen, self.key = branch, frozen, key
        self.changed: dict[str, Any] = {}

    def child(self, name: str) -> _OpenBranch | _OpenMany:
        got = self.changed.get(name)
        if got is None:
            node = self.branch.under[name]
            frozen = getattr(self.frozen, name) if self.frozen is not None else None
            if isinstance(node, Many):
                got = _OpenMany(node, frozen if frozen is not None else Listing())
            elif isinstance(node, Branch):
                got = _OpenBranch(node, frozen if frozen is not None else node.cls())
            else:
                raise KeyError(name)
            self.changed[name] = got
        return got

    def value(self, name: str) -> Any:
        if name in self.changed:
            return self.changed[name]
        return getattr(self.frozen, name) if self.frozen is not None else None

    def freeze(self) -> Any:
        # untouched parts stay the very same object: comparing planes skips what is identical
        if not self.changed and self.frozen is not None:
            return self.frozen
        values = {k: v.freeze() if isinstance(v, (_OpenBranch, _OpenMany)) else v for k, v in self.changed.items()}
        return self.branch.cls(self.key, **values) if self.frozen is None else replace(self.frozen, **values)


class _OpenMany:
    """A list while it is being changed."""

    __slots__ = ("complete", "frozen", "items", "node")

    def __init__(self, node: Many, frozen: Listing[Any]) -> None:
        self.node, self.frozen = node, frozen
        # one copy for a list, however many edits follow
        self.items: dict[str, Any] = dict(frozen.by_key)
        self.complete = frozen.complete

    def child(self, key: str) -> _OpenBranch:
        got = self.items[key]
        if not isinstance(got, _OpenBranch):
            got = self.items[key] = _OpenBranch(self.node.item, got)
        return got

    def freeze(self) -> Listing[Any]:
        return Listing(
            {k: v.freeze() if isinstance(v, _OpenBranch) else v for k, v in self.items.items()}, self.complete
        )


class Draft:
    """A plane while many edits are made. The one mutable thing in core; `freeze` gives the plane."""

    def __init__(self, plane: Plane | None = None) -> None:
        self._root = _OpenBranch(ROOT, plane if plane is not None else EMPTY)
        # replies come item by item: the leaf after this one mostly lies in the same item
        self._last: tuple[Path, Any] | None = None

    def _node(self, path: Path) -> Any:
        node: Any = self._root
        try:
            for step in path:
                node = node.child(step)
        except KeyError:
            raise KeyError(show(path)) from None
        return node

    def put(self, path: Path, value: Any) -> Draft:
        """Set one leaf. Raises KeyError where the path, or its item, is not there; ValueError on a wrong kind."""
        above, last = path[:-1], self._last
        node = last[1] if last is not None and last[0] == above else self._node(above)
        self._last = (above, node)
        row = node.branch.under.get(path[-1]) if isinstance(node, _OpenBranch) else None
        if not isinstance(row, Leaf):
            raise KeyError(show(path))
        node.changed[path[-1]] = value if value is None or isinstance(value, Absent) else row.kind(value)
        return self

    def put_all(self, values: Iterable[tuple[Path, Any]]) -> Draft:
        """Set leaves of items, making the items where they are not there."""
        for path, value in values:
            inside = item_of(path)
            if inside is not None:
                self.make(inside)
            self.put(path, value)
        return self

    def _places(self, pattern: Path) -> list[Any]:
        """What the pattern names among the items that are there; nothing where an item it names is not."""
        found: list[Any] = [self._root]
        for step in pattern:
            keyed = [(node, key) for node in found for key in (node.items if step == "*" else (step,))]
            found = [node.child(key) for node, key in keyed if not isinstance(node, _OpenMany) or key in node.items]
        return found

    def fill(self, pattern: Path, value: Any) -> Draft:
        """Set a leaf where nothing is known of it, for each item that is there where the pattern has `*`."""
        for node in self._places(pattern[:-1]):
            if node.value(pattern[-1]) is None:
                node.changed[pattern[-1]] = value
        return self

    def close(self, pattern: Path) -> Draft:
        """Mark the lists that the pattern names as read whole, where they have no items."""
        for node in self._places(pattern):
            node.complete = node.complete or not node.items
        return self

    def get(self, path: Path) -> Any:
        """The value at a leaf as it is now. Raises KeyError where the path, or its item, is not there."""
        return self._node(path[:-1]).value(path[-1])

    def make(self, path: Path) -> Draft:
        """An item of which nothing is known; nothing where it is there already. Raises KeyError where there is no such
        list."""
        node = self._node(path[:-1])
        if not isinstance(node, _OpenMany):
            raise KeyError(show(path))
        # nothing is built yet: an item that is only made and filled is made once, at the end
        if path[-1] not in node.items:
            node.items[path[-1]] = _OpenBranch(node.node.item, None, path[-1])
        return self

    def drop(self, path: Path) -> Draft:
        """Take an item away; nothing where it is not there."""
        self._node(path[:-1]).items.pop(path[-1], None)
        self._last = None
        return self

    def rename(self, path: Path, key: str) -> Draft:
        """Give an item another key, at its place in the order. Raises KeyError where it is not there or the key is
        taken."""
        node = self._node(path[:-1])
        if path[-1] not in node.items or key in node.items:
            raise KeyError(show(path))
        values = {k: v.freeze() if isinstance(v, _OpenBranch) else v for k, v in node.items.items()}
        node.items = {
            key if k == path[-1] else k: replace(v, key=key) if k == path[-1] else v for k, v in values.items()
        }
        self._last = None
        return self

    def keys(self, path: Path) -> tuple[str, ...]:
        """The keys of the list at `path` as they are now."""
        return tuple(self._node(path).items)

    def is_whole(self, path: Path) -> bool:
        """Was the list read whole? Raises KeyError where there is no such list."""
        return bool(self._node(path).complete)

    def whole(self, path: Path, complete: bool = True) -> Draft:
        """Mark the list at `path` as read whole (or not)."""
        self._node(path).complete = complete
        return self

    def freeze(self) -> Plane:
        """The plane. The draft may be used on."""
        made: Plane = self._root.freeze()
        return made


def leaves(plane: Plane) -> Iterator[tuple[Path, Any]]:
    """Every leaf with its value, those of items included."""
    yield from _leaves(plane, ROOT, ())


def _leaves(node: Any, branch: Branch, at: Path) -> Iterator[tuple[Path, Any]]:
    for name, below in branch.under.items():
        value = getattr(node, name)
        if isinstance(below, Leaf):
            yield (*at, name), value
        elif isinstance(below, Branch):
            yield from _leaves(value, below, (*at, name))
        else:
            for one in value:
                yield from _leaves(one, below.item, (*at, name, one.key))
