"""A family file as a value: what Yard Bolt must know of one make, read from data and never from program (D12).

`check` turns a tree of texts into a `Family` and finds what a shape check cannot: paths that are not on the plane, columns that
feed nothing, ops that are not the inverse of what is read. `render` words a change for the unit, `after` foretells it.
"""

from __future__ import annotations

import difflib
import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from . import plane as planes
from .addresses import ANYONE, NOBODY, AddressSet
from .errors import FamilyError
from .formats import DECODERS
from .paths import Path, fits, parse, show
from .plane import ABSENT, LISTS, TABLE, Plane, drop, get, make, pattern_of, put
from .secret import Ref, Slot, Text
from .signs import PatternError, row, sign, split

Tree = Mapping[str, Any]
Keys = tuple[str | int, ...]

WORDS: Mapping[str, Any] = {"anyone": ANYONE, "nobody": NOBODY, "never": math.inf, "yes": True, "no": False, "not set": ABSENT}
FORMS: Mapping[str, Callable[[float], str]] = {
    "minutes": lambda v: str(max(1, round(v / 60))),
    "seconds": lambda v: str(round(v)),
}


# ---- changes: the only things a plan consists of ----------------------------------------------------------------------------


@dataclass(frozen=True)
class Set:
    """One leaf gets a value."""

    path: Path
    value: Any
    because: str = ""


@dataclass(frozen=True)
class Make:
    """An item comes to be, with these leaves."""

    path: Path
    values: tuple[tuple[str, Any], ...]
    because: str = ""


@dataclass(frozen=True)
class Drop:
    """An item goes."""

    path: Path
    because: str = ""


Change = Set | Make | Drop


# ---- the file as values -----------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class FactoryLogin:
    """A login the maker published. Its secret is public, and still only referred to as `factory:N`."""

    account: str
    secret: str
    ref: Ref


@dataclass(frozen=True)
class Factory:
    """The state a unit leaves the works in, and comes back to after a reset."""

    address: str = ""
    socket: str = ""
    logins: tuple[FactoryLogin, ...] = ()
    ready_after: float = 0.0
    tries: int = 0  # 0 = not known
    release: float = 0.0
    reset: str = ""


@dataclass(frozen=True)
class Gate:
    """A question that stands between a login and the console. It is never passed by itself."""

    name: str  # terms | change | confirm
    sign: str
    send: str


@dataclass(frozen=True)
class Console:
    """How one talks with the unit line by line."""

    prompt: str
    account: str = ""
    secret: str = ""
    refused: str = ""
    locked: str = ""
    more: str = ""
    turn: str = " "
    trouble: str = ""
    leave: str = ""
    gates: tuple[Gate, ...] = ()


@dataclass(frozen=True)
class Channel:
    """A way to talk, the service it uses, its port, and whether one talks line by line or sends single commands."""

    service: str
    speaks: str
    port: int
    mode: str  # console | commands


@dataclass(frozen=True)
class Spelling:
    """How this unit writes the values of one path, in both directions."""

    words: Mapping[str, str] = field(default_factory=dict)
    write: Mapping[str, str] = field(default_factory=dict)  # where a value is written otherwise than it is shown
    join: str = ""
    empty: str = ""
    moment: bool = False


@dataclass(frozen=True)
class AskSpec:
    """One thing to ask, and what its reply feeds."""

    name: str
    say: str
    tree: Tree
    feeds: frozenset[Path]
    each: str = ""
    rights: str = ""
    whole: tuple[str, ...] = ()


@dataclass(frozen=True)
class Op:
    """One thing to write: which paths it sets, what to send, and what that brings with it."""

    name: str
    say: str
    prompts: tuple[tuple[str, str], ...]
    sets: tuple[Path, ...] = ()
    makes: tuple[Path, ...] = ()
    drops: tuple[Path, ...] = ()
    does: str = ""  # save | restart
    needs: tuple[tuple[Path, str], ...] = ()
    then: tuple[tuple[str, str], ...] = ()
    effects: tuple[tuple[Path, str], ...] = ()
    cuts: str = "none"  # none | account | service | all
    persists: str = "on save"  # on save | at once
    wait: float = 0.0
    longest: int = 0


@dataclass(frozen=True)
class Family:
    """Everything known of one make."""

    name: str
    title: str
    factory: Factory
    channels: tuple[Channel, ...]
    console: Console | None
    asks: tuple[AskSpec, ...]
    ops: tuple[Op, ...]
    spelling: Mapping[Path, Spelling]
    lacks: tuple[Path, ...]
    marks: tuple[tuple[Path, str], ...]
    token_signs: str
    token_longest: int
    elevate: str = ""
    password: Mapping[str, str] = field(default_factory=dict)
    software: tuple[str, str] = ("", "")
    keys: Mapping[str, Mapping[str, str]] = field(default_factory=dict)  # list -> the unit's word -> ours
    facts: tuple[tuple[Path, Any], ...] = ()

    def our_key(self, name: str, theirs: str) -> str:
        """Our word for an item the unit calls `theirs`."""
        return self.keys.get(name, {}).get(theirs, theirs)

    def their_key(self, name: str, ours: str) -> str:
        """The unit's word for an item of ours."""
        return next((t for t, o in self.keys.get(name, {}).items() if o == ours), ours)

    def channel(self, service: str) -> Channel | None:
        """The channel that uses a service."""
        return next((c for c in self.channels if c.service == service), None)

    def fits(self, level: str | None) -> bool:
        """Is this software within the range the file was written for? Parts are compared as numbers; an unread level fits."""
        low, below = (tuple(int(p) for p in end.split(".") if p.isdigit()) for end in self.software)
        here = tuple(int(p) for p in level.split(".") if p.isdigit()) if level else ()
        return not here or (here >= low and (not below or here < below))

    def op_doing(self, what: str) -> Op | None:
        """The op that saves or restarts."""
        return next((o for o in self.ops if o.does == what), None)

    def login(self, ref: Ref) -> FactoryLogin | None:
        """The published login behind a reference."""
        return next((x for x in self.factory.logins if x.ref == ref), None)


def factory_names(f: Family) -> frozenset[str]:
    """The names of the accounts the maker put there."""
    return frozenset(x.account for x in f.factory.logins)


def covers(f: Family) -> frozenset[Path]:
    """Every row of the plane this family can read (or knows to be absent)."""
    return frozenset(p for a in f.asks for p in a.feeds) | frozenset(f.lacks) | frozenset(pattern_of(p) for p, _ in f.facts)


# ---- checking ---------------------------------------------------------------------------------------------------------------


class _Checker:
    """Walks the tree with the keys it came by, so that each complaint can name its line."""

    def __init__(self, file: str, line_of: Callable[[Keys], int]) -> None:
        self.file, self.line_of = file, line_of

    def fail(self, keys: Keys, problem: str) -> FamilyError:
        return FamilyError(self.file, self.line_of(keys), ".".join(str(k) for k in keys), problem)

    def path(self, keys: Keys, written: str) -> Path:
        try:
            path = parse(written)
            return pattern_of(path)
        except ValueError as e:
            raise self.fail(keys, str(e)) from e
        except KeyError:
            near = difflib.get_close_matches(written, [show(p) for p in TABLE], 1)
            hint = f"; nearest is {near[0]}" if near else ""
            raise self.fail(keys, f"{written} is not on the plane{hint} (see docs/plane.md)") from None

    def pattern(self, keys: Keys, make_pattern: Callable[[str], Any], written: str) -> Any:
        try:
            return make_pattern(written)
        except PatternError as e:
            raise self.fail(keys, str(e)) from e

    def value(self, keys: Keys, path: Path, word: str) -> Any:
        got = WORDS.get(word, word)
        try:
            return planes.coerce(path, got)
        except (ValueError, TypeError) as e:
            raise self.fail(keys, f"{word!r} does not suit {show(path)}: {e}") from e

    def ask(self, name: str, tree: Tree) -> AskSpec:
        at: Keys = ("asks", name)
        feeds: set[Path] = set()
        lists: list[str] = []
        if pairs := tree.get("pairs"):
            feeds |= {self.path((*at, "pairs", "take", k), v) for k, v in pairs["take"].items() if v != "-"}
        if table := tree.get("rows"):
            if table["into"] not in LISTS:
                raise self.fail((*at, "rows", "into"), f"{table['into']} is not a list; lists are {', '.join(LISTS)}")
            names = self.pattern((*at, "rows", "row"), row, table["row"]).names
            if "key" not in names:
                raise self.fail((*at, "rows", "row"), "no column is named key, so its rows cannot be told apart")
            feeds |= {self.path((*at, "rows", "row"), f"{table['into']}/*/{c}") for c in names if c not in ("key", "skip")}
            feeds.add((table["into"], "*"))
            if table.get("whole"):
                lists.append(table["into"])
                feeds.add((table["into"],))
        for n, line in enumerate(tree.get("lines", ())):
            names = self.pattern((*at, "lines", n, "row"), row, line["row"]).names
            for column, written in line.get("take", {}).items():
                if column not in names:
                    raise self.fail((*at, "lines", n, "take", column), f"the row has no column {column}; it has {', '.join(names) or 'none'}")
                feeds.add(self.path((*at, "lines", n, "take", column), written))
        if decode := tree.get("decode"):
            if decode not in DECODERS:
                raise self.fail((*at, "decode"), f"{decode} is not a decoder; decoders are {', '.join(DECODERS)}")
            feeds |= DECODERS[decode].feeds
            lists += DECODERS[decode].whole
        if not feeds:
            raise self.fail(at, "the reply feeds nothing; give pairs, rows, lines or decode")
        return AskSpec(name, tree["say"], tree, frozenset(feeds), tree.get("each", ""), tree.get("rights", ""), tuple(lists))

    def op(self, name: str, tree: Tree) -> Op:
        at: Keys = ("ops", name)
        kinds = {k: tuple(self.path((*at, k), p) for p in tree.get(k, ())) for k in ("set", "make", "drop")}
        if not any(kinds.values()) and not tree.get("does"):
            raise self.fail(at, "it changes nothing; give set, make, drop or does")
        everything = kinds["set"] + kinds["make"] + kinds["drop"]
        known = {"key", "value", "secret", "old", "now"} | {p[-1] for base in kinds["make"] for p in TABLE if len(p) == 3 and p[0] == base[0]}
        for keys, written in [
            ((*at, "say"), tree["say"]),
            *[((*at, "prompts", n, "send"), p["send"]) for n, p in enumerate(tree.get("prompts", ()))],
        ]:
            for _, slot, form in self.pattern(keys, split, written):
                if slot and slot not in known:
                    near = difflib.get_close_matches(slot, known, 1)
                    raise self.fail(keys, f"{{{slot}}} cannot be filled" + (f"; nearest is {{{near[0]}}}" if near else ""))
                if form and form not in (*FORMS, "iso"):
                    raise self.fail(keys, f"{form} is not a form; forms are {', '.join((*FORMS, 'iso'))}")
        prompts = []
        for n, p in enumerate(tree.get("prompts", ())):
            self.pattern((*at, "prompts", n, "sign"), sign, p["sign"])
            prompts.append((p["sign"], p["send"]))
        needs = tuple((self.path((*at, "needs", k), k), v) for k, v in tree.get("needs", {}).items())
        effects = []
        for k, v in tree.get("effects", {}).items():
            path = self.path((*at, "effects", k), k)
            if v != "unknown":
                self.value((*at, "effects", k), path, v)
            effects.append((path, v))
        for k, v in tree.get("then", {}).items():
            for base in everything:
                self.value((*at, "then", k), self.path((*at, "then", k), show((*base[:2], k))), v)
        return Op(
            name, tree["say"], tuple(prompts), kinds["set"], kinds["make"], kinds["drop"], tree.get("does", ""), needs,
            tuple(tree.get("then", {}).items()), tuple(effects), tree.get("cuts", "none"), tree.get("persists", "on save"),
            planes.seconds(tree.get("wait", "0")), int(tree.get("longest", 0)),
        )  # fmt: skip

    def facts(self, tree: Tree) -> tuple[tuple[Path, Any], ...]:
        out = []
        for written, word in tree.items():
            at: Keys = ("facts", written)
            out.append((parse(written), self.value(at, self.path(at, written), word)))
        return tuple(out)

    def spelling(self, tree: Tree) -> dict[Path, Spelling]:
        out = {}
        for written, s in tree.items():
            at: Keys = ("values", written)
            path = self.path(at, written)
            seen: dict[Any, str] = {}
            for theirs, ours in s.get("words", {}).items():
                value = self.value((*at, "words", theirs), path, ours)
                if value in seen and not s.get("reading_only"):
                    raise self.fail((*at, "words", theirs), f"{theirs} and {seen[value]} both mean {ours}: writing could not be undone by reading")
                seen.setdefault(value, theirs)
            if "empty" in s:
                self.value((*at, "empty"), path, s["empty"])
            for ours in s.get("write", {}):
                self.value((*at, "write", ours), path, ours)
            out[path] = Spelling(dict(s.get("words", {})), dict(s.get("write", {})), s.get("join", ""), s.get("empty", ""), bool(s.get("moment")))
        return out


def check(tree: Tree, file: str = "", line_of: Callable[[Keys], int] = lambda keys: 0) -> Family:
    """A family from the tree of its file, whose shape has been checked. Raises FamilyError(file, line, key, problem)."""
    c = _Checker(file, line_of)
    fac = tree.get("factory", {})
    logins = tuple(FactoryLogin(x["account"], x["secret"], Ref(f"factory:{n}")) for n, x in enumerate(fac.get("logins", ()), 1))
    lock = fac.get("lockout", {})
    factory = Factory(
        fac.get("address", ""), fac.get("socket", ""), logins, planes.seconds(fac.get("ready_after", "0")),
        int(lock.get("tries", 0)), planes.seconds(lock.get("release", "0")), fac.get("reset", ""),
    )  # fmt: skip
    console = None
    if con := tree.get("console"):
        for key in ("prompt", "account", "secret", "more"):
            if con.get(key):
                c.pattern(("console", key), sign, con[key])
        for n, g in enumerate(con.get("gates", ())):
            c.pattern(("console", "gates", n, "sign"), sign, g["sign"])
        gates = tuple(Gate(g["gate"], g["sign"], g["send"]) for g in con.get("gates", ()))
        console = Console(**{k: v for k, v in con.items() if k != "gates"}, gates=gates)
    channels = tuple(Channel(k, v["speaks"], int(v["port"]), v["mode"]) for k, v in tree["channels"].items())
    if any(ch.mode == "console" for ch in channels) and console is None:
        raise c.fail(("channels",), "a channel of mode console needs a part called console")
    asks = tuple(c.ask(k, v) for k, v in tree.get("asks", {}).items())
    family = Family(
        tree["family"], tree["title"], factory, channels, console, asks,
        tuple(c.op(k, v) for k, v in tree.get("ops", {}).items()), c.spelling(tree.get("values", {})),
        tuple(c.path(("lacks", n), p) for n, p in enumerate(tree.get("lacks", ()))),
        tuple((c.path(("marks", k), k), v) for k, v in tree.get("marks", {}).items()),
        tree.get("token", {}).get("signs", "_-."), int(tree.get("token", {}).get("longest", 32)),
        tree.get("elevate", ""), dict(tree.get("password", {})),
        (tree.get("software", {}).get("from", ""), tree.get("software", {}).get("below", "")),
        {k: dict(v) for k, v in tree.get("keys", {}).items()}, c.facts(tree.get("facts", {})),
    )  # fmt: skip
    readable = covers(family)
    for op in family.ops:
        for path in (*op.sets, *op.makes, *op.drops):
            if path not in readable and path[-1] != "secret":
                raise c.fail(("ops", op.name), f"it writes {show(path)}, which no ask reads: the change could never be proven")
    return family


# ---- writing ----------------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Order:
    """One message to a unit and the answers to the questions it may ask in return."""

    say: Text
    prompts: tuple[tuple[str, Text], ...] = ()


def op_for(f: Family, change: Change) -> Op | None:
    """The op that carries out a change, the most specific first."""
    kind = {Set: "sets", Make: "makes", Drop: "drops"}[type(change)]
    found = [(sum(s == "*" for s in p), o) for o in f.ops for p in getattr(o, kind) if fits(p, change.path)]
    return min(found, key=lambda x: x[0])[1] if found else None


def is_token(f: Family, text: str) -> bool:
    """May this word, which may come from a hostile unit, be put into a command?"""
    return 0 < len(text) <= f.token_longest and all(c.isascii() and (c.isalnum() or c in f.token_signs) for c in text) and text[0] != "-"


def unmet(f: Family, op: Op, plane: Plane, key: str = "") -> tuple[str, ...]:
    """Preconditions of an op that do not hold on this plane; what is not known does not hold."""
    bad = []
    for path, word in op.needs:
        here = tuple(key if s == "*" else s for s in path)
        value = get(plane, here)
        if value is None or (word != "known" and value != planes.coerce(path, WORDS.get(word, word))):
            bad.append(f"{show(here)} must be {word}")
    return tuple(bad)


def after(f: Family, plane: Plane, change: Change) -> Plane:
    """The plane the change leads to, with everything the family says it brings along. Raises KeyError on an item that is not there."""
    op = op_for(f, change)
    match change:
        case Set(path, value):
            plane = put(plane, path, value)
            base = path[:2]
        case Make(path, values):
            plane, base = make(plane, path), path
            for lacked in f.lacks:
                if len(lacked) == 3 and lacked[0] == path[0]:
                    plane = put(plane, (*path, lacked[2]), ABSENT)
            for name, value in values:
                plane = put(plane, (*path, name), value)
        case Drop(path):
            plane, base = drop(plane, path), path
    for name, word in op.then if op and not isinstance(change, Drop) else ():
        path = (*base, name)
        if isinstance(change, Make) and name in dict(change.values):
            continue
        plane = put(plane, path, planes.coerce(path, WORDS.get(word, word)))
    for path, word in op.effects if op else ():
        here = tuple(base[1] if s == "*" else s for s in path)
        plane = put(plane, here, None if word == "unknown" else planes.coerce(here, WORDS.get(word, word)))
    return plane


def spelled(f: Family, path: Path, value: Any, form: str = "") -> str:
    """A value as this unit writes it. Raises ValueError where it cannot be written."""
    s = f.spelling.get(pattern_of(path), Spelling())
    for ours, theirs in s.write.items():
        if planes.coerce(path, WORDS.get(ours, ours)) == value:
            return theirs
    for theirs, ours in s.words.items():
        if planes.coerce(path, WORDS.get(ours, ours)) == value:
            return theirs
    if s.empty and planes.coerce(path, WORDS.get(s.empty, s.empty)) == value:
        return ""
    if isinstance(value, AddressSet):
        texts = value.texts()
        if not texts:
            raise ValueError(f"{show(path)}: this unit has no way to write 'nobody'")
        return (s.join or ",").join(texts)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float) and form in FORMS:
        if math.isinf(value):
            raise ValueError(f"{show(path)}: this unit has no way to write 'never'")
        return FORMS[form](value)
    return str(value)


def render(f: Family, change: Change, before: Plane, now: str = "") -> Order:
    """The message for a change, rendered for the plane before it. `now` is the laptop's time (ISO 8601), for ops that set a clock.

    Raises ValueError where the unit cannot be told so: no op, a key that may not be put into a command, a value out of its reach.
    """
    op = op_for(f, change)
    if op is None:
        raise ValueError(f"{f.title} has no way to change {show(change.path)}")
    key = change.path[1] if change.path[0] in LISTS else ""
    if change.path[0] in LISTS and not is_token(f, key):
        raise ValueError(f"{show(change.path)}: {key!r} may not be put into a command")
    fill: dict[str, Any] = {"key": f.their_key(change.path[0], key), "now": now}
    if isinstance(change, Set):
        fill["value"] = change.value
        fill["secret"] = change.value
        if change.path[-1] == "secret":
            fill["old"] = get(before, change.path)
    if isinstance(change, Make):
        fill |= dict(change.values)

    def words(text: str) -> Text:
        out: list[str | Slot] = []
        for literal, name, form in split(text):
            out.append(literal)
            if not name:
                continue
            value = fill.get(name)
            if name == "old" and value is None:
                raise ValueError(f"{show(change.path)}: the unit asks for the present password, which is not known")
            if isinstance(value, Ref):
                out.append(Slot(value))
            elif name in ("key", "now"):
                out.append(str(value))
            else:
                path = change.path if name == "value" else (*change.path, name)
                got = spelled(f, path, value, form)
                if not got.isprintable() or len(got) > (op.longest or 400):
                    raise ValueError(f"{show(path)}: {len(got)} characters, the unit takes {op.longest or 400} printable ones on one line")
                out.append(got)
        return tuple(p for p in out if p != "")

    return Order(words(op.say), tuple((sign_text, words(send)) for sign_text, send in op.prompts if not _unfillable(send, fill)))


def _unfillable(send: str, fill: Mapping[str, Any]) -> bool:
    return "{old}" in send and fill.get("old") is None


def plain_order(op: Op) -> Order:
    """The message of an op that stands alone: saving, restarting."""
    return Order((op.say,), tuple((s, (text,)) for s, text in op.prompts))


def asks_for(f: Family, paths: Iterable[Path]) -> tuple[AskSpec, ...]:
    """The asks that read these paths back."""
    rows = {pattern_of(p) for p in paths} | {p[:1] for p in paths if p[0] in LISTS}
    return tuple(a for a in f.asks if a.feeds & rows)


def complete_lacks(f: Family, plane: Plane) -> Plane:
    """The plane with what the manual says: known facts of items that are there, and ABSENT for what this make does not have."""
    for path, value in f.facts:
        if (len(path) < 3 or planes.item(plane, path[:2]) is not None) and get(plane, path) is None:
            plane = put(plane, path, value)
    for path in f.lacks:
        if len(path) == 3:
            for i in planes.listing(plane, path[0]).items:
                plane = put(plane, (path[0], i.key, path[2]), ABSENT) if get(plane, (path[0], i.key, path[2])) is None else plane
        elif len(path) < 3 and path[0] not in LISTS and get(plane, path) is None:
            plane = put(plane, path, ABSENT)
    return plane
