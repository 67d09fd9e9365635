"""What every part of a family file is checked with: each complaint names its line."""

from __future__ import annotations

import difflib
import types
from collections.abc import Callable, Iterable, Mapping
from dataclasses import MISSING, fields, is_dataclass
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

from ..errors import FamilyError
from ..formats.library import Library
from ..plane.path import Path, parse, show
from ..plane.table import TABLE, pattern_of
from ..talk.conversation import How, Keys, NotThere, Talk
from ..talk.patterns import PatternError, sign
from .binding import Joint
from .model import Ask
from .spelling import meant

Tree = Mapping[str, Any]


def made(cls: Any, tree: Any) -> Any:
    """A value of a type from a tree of texts whose shape was checked: dataclasses, tuples, mappings, single values."""
    origin, inner = get_origin(cls), get_args(cls)
    if is_dataclass(cls):
        hints = get_type_hints(cls)
        return cls(**{name: made(hints[name], value) for name, value in tree.items()})  # type: ignore[operator]  # a class
    if origin is tuple:
        return tuple(made(inner[0], each) for each in tree)
    if origin in (Union, types.UnionType):
        return made(inner[0], tree)
    if isinstance(origin, type) and issubclass(origin, Mapping):
        return {name: made(inner[1], value) for name, value in tree.items()}
    if cls is int:
        return int(tree)
    return tree if origin is Literal or cls is str else cls(tree)


def keys_of(cls: type) -> tuple[str, ...]:
    """The keys of the family file that a way's dataclass takes."""
    return tuple(each.name for each in fields(cls) if "ours" not in each.metadata)


def needed_keys(cls: type) -> tuple[str, ...]:
    """Those of them that cannot be left out."""
    return tuple(e.name for e in fields(cls) if e.default is MISSING and e.default_factory is MISSING)


class FileParts:
    """Walks the tree with the keys it came by, so that each complaint can name its line."""

    def __init__(
        self,
        file: str,
        line_of: Callable[[Keys], int],
        ways: Mapping[str, Talk],
        channels: Tree,
        library: Callable[[], Library],
    ) -> None:
        self.file, self.line_of, self.ways, self.channels, self.library = file, line_of, ways, channels, library
        self.made = {name: self.channel(name, one) for name, one in channels.items()}
        self.asks: dict[str, Ask] = {}
        self.joints: dict[str, Joint] = {}

    def fail(self, keys: Keys, problem: str) -> FamilyError:
        return FamilyError(self.file, self.line_of(keys), ".".join(str(k) for k in keys), problem)

    def one_of(self, keys: Keys, word: str, allowed: Iterable[str], what: str) -> None:
        known = tuple(allowed)
        if word not in known:
            raise self.fail(keys, f"{word} is not {what}; they are {', '.join(known)}")

    def lack(self, keys: Keys, written: str) -> Path:
        found = self.path(keys, written)
        # what every unit has can only be unread, not missing
        if not TABLE[found].absent:
            raise self.fail(keys, f"every make has {written}; where nothing tells it, leave it out: it is then unread")
        return found

    def path(self, keys: Keys, written: str) -> Path:
        try:
            return pattern_of(parse(written))
        except ValueError as e:
            raise self.fail(keys, str(e)) from e
        except KeyError:
            near = difflib.get_close_matches(written, [show(p) for p in TABLE], 1)
            hint = f"; nearest is {near[0]}" if near else ""
            raise self.fail(keys, f"{written} is not on the plane{hint} (see docs/plane.md)") from None

    def named(self, keys: Keys, written: str) -> Path:
        """A path of the plane that may name an item: `services/ssh/tries`."""
        self.path(keys, written)
        return parse(written)

    def pattern(self, keys: Keys, read: Callable[[str], Any], written: str) -> Any:
        try:
            return read(written)
        except PatternError as e:
            raise self.fail(keys, str(e)) from e

    def word(self, keys: Keys, path: Path, word: str) -> Any:
        try:
            return meant(path, word)
        except (ValueError, TypeError) as e:
            raise self.fail(keys, f"{word!r} does not suit {show(path)}: {e}") from e

    # -- channels, and how asks and ops go through them --

    def channel(self, name: str, tree: Tree) -> Any:
        at: Keys = ("channels", name)
        self.one_of((*at, "talk"), tree["talk"], self.ways, "a way of talking")
        channel = made(self.ways[tree["talk"]].channel, tree)
        for place, reply in enumerate(channel.replies):
            if reply.holds and not reply.at:
                raise self.fail((*at, "replies", place, "holds"), "it does not say where that stands: give at too")
        for keys, written in channel.signs():
            self.pattern((*at, *keys), sign, written)
        if odd := channel.amiss():
            raise self.fail((*at, *odd[0]), odd[1])
        return channel

    def by(self, at: Keys, tree: Tree) -> tuple[str, Talk]:
        name = tree.get("by") or next(iter(self.channels))
        self.one_of((*at, "by"), name, self.channels, "a channel")
        return name, self.ways[self.channels[name]["talk"]]

    def how(self, at: Keys, cls: type, tree: Tree, by: str, secret: bool = False) -> tuple[How, str]:
        """What the way makes of its own keys, with what its channel says for all and what it names of the library;
        and the decoder for it, or empty. `secret`: a password goes with it."""
        mine = {key: tree[key] for key in keys_of(cls) if key in tree}
        if missing := [key for key in needed_keys(cls) if key not in mine]:
            raise self.fail(at, f"{missing[0]} is missing")
        try:
            how: How = made(cls, mine).in_channel(self.made[by], secret)
        except NotThere as e:
            raise self.fail((*at, *e.keys), str(e)) from None
        for keys, written in how.signs():
            self.pattern((*at, *keys), sign, written)
        if odd := how.amiss():
            raise self.fail((*at, *odd[0]), odd[1])
        try:
            return how.from_library(self.library)
        except NotThere as e:
            raise self.fail((*at, *e.keys), str(e)) from None


def yes(raw: Any) -> bool:
    return raw is True or raw == "yes"
