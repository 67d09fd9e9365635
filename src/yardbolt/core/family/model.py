"""A family as a value: what must be known of one make, read from data and never from program.

It is keyed by asks and ops, not by paths: one ask feeds many paths, one op covers several. How an ask or op is put on
its way belongs to the way of talking (`how`); what it means for the plane belongs here.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from ..doors import Way
from ..plane.path import Path
from ..plane.table import pattern_of
from ..secret import Ref
from ..talk.conversation import Channel, How, Talk
from ..talk.replies import Heard, row_for
from ..talk.ways import WAYS
from .binding import Place, TreeRows

LIVE, KEPT, STAGED = "live", "kept", "staged"
Deed = Literal[
    "save",
    "activate",
    "commit",
    "confirm",
    "discard",
    "restart",
    "arm",
    "back",
    "try policy",
    "lend",
    "take back",
    "mark",
]
Does = Deed | Literal[""]
Cuts = Literal["none", "account", "service", "all"]


@dataclass(frozen=True)
class FactoryLogin:
    """A login the maker published. Its secret is public, and still only referred to as `factory:N`."""

    account: str
    secret: str
    ref: Ref


@dataclass(frozen=True)
class Factory:
    """The state a unit comes from the factory in, and comes back to after a reset. Times are seconds; 0 tries = not
    known."""

    address: str = ""
    socket: str = ""
    ports: Mapping[str, int] = field(default_factory=dict)
    logins: tuple[FactoryLogin, ...] = ()
    ready_after: float = 0.0
    tries: int = 0
    release: float = 0.0
    locks: str = ""  # what wrong passwords lock, where the manual says so: the account
    reset: str = ""


@dataclass(frozen=True)
class Spelling:
    """How this unit writes the values of one path, in both directions. `write` is for values written otherwise than
    shown."""

    words: Mapping[str, str] = field(default_factory=dict)
    write: Mapping[str, str] = field(default_factory=dict)
    join: str = ""
    empty: str | None = None
    moment: str = ""  # a time: "yes" where it says its zone, "UTC" where it says none and is that
    singly: bool = False  # addresses one by one: it knows no blocks
    codec: str = ""  # what a bare text of it stands for


@dataclass(frozen=True)
class Pairs:
    """A text of labels and values: `label ..... value`."""

    between: str
    take: Mapping[str, str]


@dataclass(frozen=True)
class TextRows:
    """A text of rows with columns, under a heading that goes by position. `aligned`: a column begins where its word of
    the heading does, so a cell may be empty, or hold blanks."""

    row: str
    into: Path
    heading: str = ""
    whole: bool = False
    aligned: bool = False


@dataclass(frozen=True)
class TextLine:
    """A line that may occur, and what its columns feed: one of them, or several in one text (`{a}/{b}`). `none` is
    what it means where no such line stands there."""

    row: str
    take: Mapping[str, str] = field(default_factory=dict)
    none: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Ask:
    """One thing to ask, and what its reply feeds: exactly one of pairs, rows, lines, decode (text), or leaves and tree
    rows."""

    name: str
    by: str
    how: How
    feeds: frozenset[Path]
    whole: tuple[Path, ...] = ()
    store: str = LIVE
    each: str = ""
    pairs: Pairs | None = None
    rows: TextRows | None = None
    lines: tuple[TextLine, ...] = ()
    decode: str = ""
    leaves: tuple[Place, ...] = ()
    tree_rows: tuple[TreeRows, ...] = ()


@dataclass(frozen=True)
class Op:
    """One thing to write: which paths it sets, in which stores, and what that brings with it.

    `copies` says which store becomes a copy of which; `copies_of` limits that to some paths. `returns` is the time in
    seconds after which the unit takes the change back by itself unless it is confirmed. `guarded`: it could shut us
    out in ways no forecast sees, so where the family can arm a timed return it is made under one. `only`: the values
    it can write, where not all. `outage`: for how many seconds nothing listens meanwhile."""

    name: str
    by: str
    how: How
    sets: tuple[Path, ...] = ()
    makes: tuple[Path, ...] = ()
    drops: tuple[Path, ...] = ()
    on: str = ""
    does: Does = ""
    needs: tuple[tuple[Path, str], ...] = ()
    then: tuple[tuple[str, str], ...] = ()
    effects: tuple[tuple[Path, str], ...] = ()
    by_value: Mapping[str, tuple[tuple[Path, str], ...]] = field(default_factory=dict)
    cuts: Cuts = "none"
    writes: tuple[str, ...] = (LIVE,)
    copies: tuple[tuple[str, tuple[str, ...]], ...] = ()
    copies_of: tuple[Path, ...] = ()
    returns: float = 0.0
    takes_back: tuple[Path, ...] = ()  # of arming a timed return: what it would take back, besides what is guarded
    wait: float = 0.0
    longest: int = 0
    guarded: bool = False
    only: tuple[str, ...] = ()
    outage: float = 0.0
    renews: Literal["", "certificate", "host key"] = ""  # what it shows from then on is another one

    @property
    def store(self) -> str:
        """The store it writes to, and is read back from."""
        return self.writes[0] if self.writes else LIVE


@dataclass(frozen=True)
class Family:
    """Everything known of one make. `ways` is the table of ways of talking its channels name."""

    name: str
    title: str
    channels: Mapping[str, Channel]
    factory: Factory = Factory()
    asks: tuple[Ask, ...] = ()
    ops: tuple[Op, ...] = ()
    spelling: Mapping[Path, Spelling] = field(default_factory=dict)
    lacks: tuple[Path, ...] = ()
    marks: tuple[tuple[Path, str], ...] = ()
    token_signs: str = "_-."  # noqa: S105  # not a password
    token_longest: int = 32
    password: Mapping[str, str] = field(default_factory=dict)
    software: tuple[str, str] = ("", "")
    keys: Mapping[str, Mapping[str, str]] = field(default_factory=dict)  # list -> the unit's word -> ours
    facts: tuple[tuple[Path, Any], ...] = ()
    account_stores: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    cannot: Mapping[Path, str] = field(default_factory=dict)  # why something cannot be set on this make
    ways: Mapping[str, Talk] = field(default_factory=lambda: WAYS)

    def our_key(self, listed: str, theirs: str) -> str:
        """Our word for an item the unit calls `theirs`."""
        return self.keys.get(listed, {}).get(theirs, theirs)

    def their_key(self, listed: str, ours: str) -> str:
        """The unit's word for an item of ours."""
        return next((theirs for theirs, word in self.keys.get(listed, {}).items() if word == ours), ours)

    def services(self) -> tuple[str, ...]:
        """Every service a channel uses, the best way of talking first. This is the one place that says which way is
        best: what is encrypted before what is plain, then in the order of the file."""
        found = {s: how for channel in self.channels.values() for s, how in channel.services.items()}
        return tuple(sorted(found, key=lambda service: found[service] != "sealed"))

    def channel_of(self, service: str) -> tuple[str, Channel, Talk]:
        """The channel that uses a service: its name, itself, and its way of talking. Raises KeyError."""
        for name, channel in self.channels.items():
            if service in channel.services:
                return name, channel, self.ways[channel.talk]
        raise KeyError(service)

    def has_places(self) -> bool:
        """Is it asked for one place or another, which it might show to anybody?"""
        return any(self.ways[channel.talk].at for channel in self.channels.values())

    def sealed(self, service: str) -> bool:
        """Does the channel say that this service is encrypted?"""
        return any(channel.services.get(service) == "sealed" for channel in self.channels.values())

    def tells_lock(self, service: str) -> bool:
        """Does the unit say by this service that an account is locked, so that another refusal is none?"""
        return any(row.means == "locked" for row in self.channel_of(service)[1].replies)

    def turns_away(self, service: str, heard: str) -> bool:
        """Does the unit say so to somebody who comes from where nobody is let in?"""
        if service not in self.services():
            return False
        status = re.match(r"HTTP/\S+ (\d{3})\b", heard)
        told = Heard(heard.replace("\r\n", "\n"), int(status[1]) if status else 0)
        return row_for(self.channel_of(service)[1].replies, told, "blocked") is not None

    def asks_inside(self) -> bool:
        """May a password be wanted inside, however one logged in?"""
        return any(channel.asks_inside() for channel in self.channels.values())

    def fits(self, level: str | None) -> bool:
        """Is this software within the range the file was written for? Parts are compared as numbers; an unread level
        fits."""
        low, below = (tuple(int(p) for p in end.split(".") if p.isdigit()) for end in self.software)
        here = tuple(int(p) for p in level.split(".") if p.isdigit()) if level else ()
        return not here or (here >= low and (not below or here < below))

    def op_doing(self, *what: Does) -> Op | None:
        """The first op that does one of these."""
        return next((op for op in self.ops if op.does in what), None)

    def op_keeping(self) -> Op | None:
        """The op that makes live settings survive the next start; None where they do so by themselves."""
        return next((op for op in self.ops if KEPT in dict(op.copies).get(LIVE, ()) and op.does != "restart"), None)

    def op_activating(self) -> Op | None:
        """The op that puts staged edits in force; None where edits are live at once."""
        return next((op for op in self.ops if LIVE in dict(op.copies).get(STAGED, ())), None)

    def store_of_account(self, service: str) -> str:
        """The account store a service asks. Ways of one store share secret, lock-out and budget."""
        return next((store for store, services in self.account_stores.items() if service in services), "main")

    def account_key(self, service: str, name: str) -> str:
        """How an account of a service is called on the plane: outside the first account store its key names the
        store."""
        store = self.store_of_account(service)
        first = next(iter(self.account_stores), "main")
        return name if store == first else f"{store}:{name}"

    def login_name(self, key: str) -> str:
        """What is typed to log in as an account of the plane."""
        store, _, name = key.partition(":")
        return name if name and store in self.account_stores else key

    def independent(self, one: Way, other: Way) -> bool:
        """Does one way stay when the other is locked or its secret is lost? Only where they ask different account
        stores."""
        return self.store_of_account(one.service) != self.store_of_account(other.service)

    def carries(self, service: str, channel: str) -> bool:
        """Does this service carry that channel?"""
        return channel in self.channels and service in self.channels[channel].services

    def login(self, ref: Ref) -> FactoryLogin | None:
        """The published login behind a reference."""
        return next((one for one in self.factory.logins if one.ref == ref), None)

    def factory_names(self) -> frozenset[str]:
        """The names of the accounts the maker put there."""
        return frozenset(one.account for one in self.factory.logins)

    def why_not(self, path: Path, otherwise: str) -> str:
        """Why something cannot be set on this make."""
        pattern = pattern_of(path)
        return self.cannot.get(pattern) or self.cannot.get(pattern[:1]) or f"{self.title} {otherwise}"

    def covers(self) -> frozenset[Path]:
        """Every row of the plane this family can read, knows from the manual, or knows to be absent."""
        read = frozenset(path for ask in self.asks for path in ask.feeds)
        return read | frozenset(self.lacks) | frozenset(pattern_of(path) for path, _ in self.facts)

    def manual(self) -> frozenset[Path]:
        """Rows of the plane that are known from the maker's manual: what the make lacks, and facts no command
        shows."""
        return frozenset(self.lacks) | frozenset(pattern_of(path) for path, _ in self.facts)

    def is_key(self, listing: str, word: str) -> bool:
        """May this word be the key of an item of a list? Words that the file itself translates may."""
        return word in self.keys.get(listing, {}) or self.is_token(word)

    def is_token(self, word: str) -> bool:
        """May this word, which may come from a hostile unit, be put into a command?"""
        if not 0 < len(word) <= self.token_longest or word[0] == "-":
            return False
        return all(c.isascii() and (c.isalnum() or c in self.token_signs) for c in word)
