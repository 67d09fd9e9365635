"""What a decoder is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ...addresses import AddressSet
from ...plane.path import Path
from ...talk.conversation import Replies

Pairs = list[tuple[Path, Any]]
# a service, its transport, ports, and the only sources that come to it by those
Narrow = tuple[str, str, tuple[str, ...], AddressSet]


@dataclass(frozen=True)
class Decoded:
    """(path, value) pairs; the path of an item alone says that the item is there. Leftovers are lines not
    understood."""

    facts: tuple[tuple[Path, Any], ...]
    leftovers: tuple[str, ...] = ()
    narrows: tuple[Narrow, ...] = ()


@dataclass(frozen=True)
class Decoder:
    """A named decoder: `decode(replies, key)`, where key is the item asked about or empty. Any reply gives a value;
    nothing is raised.

    `private` replies hold secrets and are never quoted as evidence.
    """

    name: str
    standard: str
    decode: Callable[[Replies, str], Decoded]
    feeds: frozenset[Path]
    whole: tuple[Path, ...] = ()
    private: bool = False


def of_text(decode: Callable[[str, str], Decoded]) -> Callable[[Replies, str], Decoded]:
    """A decoder of text."""
    return lambda replies, key: decode(replies.text, key)


def of_tree(decode: Callable[[Any], Decoded]) -> Callable[[Replies, str], Decoded]:
    """A decoder of trees."""
    return lambda replies, key: decode(replies.tree)
