"""From the tree of a family file to a `Family`: finds what a shape check cannot.

Paths that are not on the plane, columns that feed nothing, slots that nothing fills, words that could not be read
back, ops whose change no ask reads. The keys that belong to a way of talking are the fields of its dataclasses.
"""

from __future__ import annotations

import difflib
import types
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import MISSING, fields, is_dataclass, replace
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

from ..errors import FamilyError
from ..formats.decode import DECODERS
from ..formats.library import NOTHING_TO_RUN, Library
from ..plane.kinds import SETS, seconds
from ..plane.path import Path, parse, show
from ..plane.table import LISTS, TABLE, holds_secret, pattern_of, row_of
from ..secret import Ref
from ..talk.conversation import How, Keys, Talk
from ..talk.patterns import PatternError, row, sign, slots
from ..talk.rows import COLUMNS
from ..talk.tree import CALLED, Items
from ..talk.ways import WAYS
from .binding import Joint, Place, TreeRows
from .model import KEPT, LIVE, Ask, Factory, FactoryLogin, Family, Op, Pairs, Spelling, TextLine, TextRows
from .spelling import CODECS, NOTATIONS, ONE_EACH, SPREADS, meant
from .writing import KEYS

Tree = Mapping[str, Any]
ALWAYS = frozenset({"key", "value", "secret", "old", "now"})


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


class _Checker:
    """Walks the tree with the keys it came by, so that each complaint can name its line."""

    def __init__(
        self, file: str, line_of: Callable[[Keys], int], ways: Mapping[str, Talk], channels: Tree, library: Library
    ) -> None:
        self.file, self.line_of, self.ways, self.channels, self.library = file, line_of, ways, channels, library
        self.asks: dict[str, Ask] = {}
        self.joints: dict[str, Joint] = {}

    def fail(self, keys: Keys, problem: str) -> FamilyError:
        return FamilyError(self.file, self.line_of(keys), ".".join(str(k) for k in keys), problem)

    def one_of(self, keys: Keys, word: str, allowed: Iterable[str], what: str) -> None:
        known = tuple(allowed)
        if word not in known:
            raise self.fail(keys, f"{word} is not {what}; they are {', '.join(known)}")

    def lack(self, place: int, written: str) -> Path:
        found = self.path(("lacks", place), written)
        # what every unit has can only be unread, not missing
        if not TABLE[found].absent:
            raise self.fail(
                ("lacks", place), f"every make has {written}; where nothing tells it, leave it out: it is then unread"
            )
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
        name = tree.get("by", "")
        if not name and len(self.channels) > 1:
            raise self.fail(at, f"say by which channel: by: {' or '.join(self.channels)}")
        name = name or next(iter(self.channels))
        self.one_of((*at, "by"), name, self.channels, "a channel")
        return name, self.ways[self.channels[name]["talk"]]

    def how(self, at: Keys, cls: type, tree: Tree) -> How:
        mine = {key: tree[key] for key in keys_of(cls) if key in tree}
        if missing := [key for key in needed_keys(cls) if key not in mine]:
            raise self.fail(at, f"{missing[0]} is missing")
        how: How = made(cls, mine)
        for keys, written in how.signs():
            self.pattern((*at, *keys), sign, written)
        if odd := how.amiss():
            raise self.fail((*at, *odd[0]), odd[1])
        return how

    # -- asks --

    def ask(self, name: str, tree: Tree) -> Ask:
        at: Keys = ("asks", name)
        by, talk = self.by(at, tree)
        feeds: set[Path] = set()
        whole: list[Path] = []
        pairs, rows, lines = self.pairs(at, tree, feeds), None, self.lines(at, tree, feeds)
        leaves = self.leaves((*at, "leaves"), tree.get("leaves", {}), (), feeds)
        tree_rows: tuple[TreeRows, ...] = ()
        if isinstance(tree.get("rows"), Mapping):
            rows = self.text_rows(at, tree["rows"], feeds, whole)
        elif tree.get("rows"):
            tree_rows = tuple(self.tree_rows((*at, "rows", n), r, (), feeds, whole) for n, r in enumerate(tree["rows"]))
        for written in tree.get("whole", ()):
            listed = self.list_at((*at, "whole"), written, ())
            whole.append(listed)
            feeds.add(listed)
        how = self.how(at, talk.ask, tree)
        decode = tree.get("decode", "")
        if name_of := tree.get("section"):
            self.one_of((*at, "section"), name_of, self.library.sections, "a section of the library")
            known = self.library.sections[name_of]
            how, decode = replace(how, say=known.text, rights=known.rights), known.decode  # type: ignore[type-var]
        if tree.get("on"):
            how = self.on(at, how, tree["on"], ((*parse(tree.get("each", "")), "*"),))
        if not how.asked_as():
            raise self.fail(at, "nothing says what is asked: say, section, or what its way of talking takes")
        if decode:
            self.one_of((*at, "decode"), decode, DECODERS, "a decoder")
            feeds |= DECODERS[decode].feeds
            whole += DECODERS[decode].whole
        if not feeds:
            raise self.fail(at, "the reply feeds nothing; give pairs, rows, lines, leaves or decode")
        store = tree.get("store", LIVE)
        return Ask(
            name, by, how, frozenset(feeds), tuple(whole), store, tree.get("each", ""),
            pairs, rows, lines, decode, leaves, tree_rows,
        )  # fmt: skip

    def pairs(self, at: Keys, tree: Tree, feeds: set[Path]) -> Pairs | None:
        found = tree.get("pairs")
        if not found:
            return None
        feeds |= {self.path((*at, "pairs", "take", k), v) for k, v in found["take"].items() if v != "-"}
        return Pairs(found["between"], dict(found["take"]))

    def text_rows(self, at: Keys, table: Tree, feeds: set[Path], whole: list[Path]) -> TextRows:
        into = self.list_at((*at, "rows", "into"), table["into"], ())
        names = self.pattern((*at, "rows", "row"), row, table["row"]).names
        if "key" not in names:
            raise self.fail((*at, "rows", "row"), "no column is named key, so its rows cannot be told apart")
        feeds |= {self.path((*at, "rows", "row"), f"{table['into']}/*/{c}") for c in names if c not in ("key", "skip")}
        feeds.add((*into, "*"))
        if _yes(table.get("whole")):
            whole.append(into)
            feeds.add(into)
        return TextRows(table["row"], into, table.get("heading", ""), _yes(table.get("whole")))

    def list_at(self, keys: Keys, written: str, above: Path) -> Path:
        into = parse(written)
        if (*above, *into) not in LISTS:
            known = ", ".join(show(p) for p in sorted(LISTS) if len(p) == 1)
            raise self.fail(keys, f"{written} is not a list; lists are {known}")
        return into

    def lines(self, at: Keys, tree: Tree, feeds: set[Path]) -> tuple[TextLine, ...]:
        out = []
        for place, line in enumerate(tree.get("lines", ())):
            names = self.pattern((*at, "lines", place, "row"), row, line["row"]).names
            for column, written in line.get("take", {}).items():
                keys: Keys = (*at, "lines", place, "take", column)
                if column not in names:
                    raise self.fail(keys, f"the row has no column {column}; it has {', '.join(names) or 'none'}")
                feeds.add(self.path(keys, written))
            out.append(TextLine(line["row"], dict(line.get("take", {}))))
        return tuple(out)

    def leaves(self, keys: Keys, tree: Tree, above: Path, feeds: set[Path]) -> tuple[Place, ...]:
        out: list[Place] = []
        for written, place in tree.items():
            if written.startswith("=") and not above:
                out += self.joint((*keys, written), written[1:], place, feeds)
                continue
            path = self.path((*keys, written), show((*above, *parse(written))) if above else written)
            feeds.add(path)
            told: dict[str, Any] = {"at": place} if isinstance(place, str | list | tuple) else dict(place)
            codec = told.get("codec", "")
            each, slots = self.set_in((*keys, written), told, path)
            at, *parts = slots[0] if slots else [told["at"]] if isinstance(told["at"], str) else told["at"]
            for theirs, ours in told.get("words", {}).items():
                self.word((*keys, written, "words", theirs), path, ours)
            for meaning in ("empty", "missing", "otherwise"):
                if told.get(meaning) is not None:
                    self.word((*keys, written, meaning), path, told[meaning])
            if codec:
                self.one_of((*keys, written, "codec"), codec, (*CODECS, *SPREADS, ONE_EACH), "a codec")
            codec = "" if codec == ONE_EACH else codec
            if len(parts) + 1 != (SPREADS[codec].fields if codec in SPREADS else 1):
                wanted = (
                    f"{codec} stands in {SPREADS[codec].fields} fields"
                    if codec in SPREADS
                    else f"give a codec: {', '.join((*SPREADS, ONE_EACH))}"
                )
                raise self.fail((*keys, written), f"it names {len(parts) + 1} places; {wanted}")
            own = parse(written)
            out.append(
                Place(
                    own,
                    at,
                    told.get("words", {}),
                    told.get("join", ""),
                    told.get("empty"),
                    told.get("missing"),
                    codec,
                    tuple(parts),
                    otherwise=told.get("otherwise", ""),
                    unused=told.get("unused", ""),
                    each=each,
                    slots=slots,
                    handles=told.get("handles", {}),
                )
            )
        return tuple(out)

    def set_in(self, keys: Keys, told: Tree, path: Path) -> tuple[str, tuple[tuple[str, ...], ...]]:
        """Where the rows are that a set is made of, or the fields of a form that has room for so many things of it."""
        each, at = str(told.get("each", "")), told["at"]
        alone = isinstance(at, str) or (told.get("codec") != ONE_EACH and all(isinstance(one, str) for one in at))
        slots = () if alone else tuple((one,) if isinstance(one, str) else tuple(map(str, one)) for one in at)
        if (each or slots) and row_of(path).kind not in SETS:
            raise self.fail(keys, f"{show(path)} holds no set")
        if each and not each.endswith("*"):
            raise self.fail((*keys, "each"), f"'{each}' does not end with *, for every row")
        if len({len(slot) for slot in slots}) > 1:
            raise self.fail((*keys, "at"), "give each thing as many fields as the next")
        return each, slots

    def joint(self, keys: Keys, name: str, at: str, feeds: set[Path]) -> Iterator[Place]:
        """The leaves that share one field, each a place of its own."""
        self.one_of(keys, name, self.joints, "a joint")
        joint = self.joints[name]
        for number, path in enumerate(joint.of):
            feeds.add(pattern_of(path))
            words = {word: told[number] for word, told in joint.words.items()}
            yield Place(path, at, words, joint=joint)

    def joint_of(self, name: str, tree: Tree) -> Joint:
        at: Keys = ("joints", name)
        of = tuple(self.named((*at, "of"), written) for written in tree["of"])
        for word, told in tree["words"].items():
            if len(told) != len(of):
                raise self.fail((*at, "words", word), f"it says {len(told)} values of {len(of)} leaves")
            for path, one in zip(of, told, strict=True):
                self.word((*at, "words", word), path, one)
        return Joint(of, {word: tuple(told) for word, told in tree["words"].items()})

    def tree_rows(self, keys: Keys, tree: Tree, above: Path, feeds: set[Path], whole: list[Path]) -> TreeRows:
        into = self.list_at((*keys, "into"), tree["into"], above)
        base = (*above, *into, "*")
        feeds.add(base)
        leaves = self.leaves((*keys, "leaves"), tree.get("leaves", {}), base, feeds)
        inner = tuple(
            self.tree_rows((*keys, "rows", n), r, base, feeds, []) for n, r in enumerate(tree.get("rows", ()))
        )
        if _yes(tree.get("whole")):
            feeds.add((*above, *into))
            if not above:
                whole.append(into)
        for named in tree.get("within", ()):
            feeds.add((*base, *self.list_at((*keys, "within"), named, base)))
        if order := tree.get("order", ""):
            feeds.add(self.path((*keys, "order"), show((*base, order))))
        items = Items(tree["at"], tree["key"], tree.get("called", CALLED), dict(tree.get("handles", {})))
        if CALLED not in items.called:
            raise self.fail((*keys, "called"), f"nothing there is {CALLED}")
        return TreeRows(
            items, into, leaves, inner, _yes(tree.get("whole")), order,
            tuple(tree.get("within", ())), tree.get("missing") == "none",
        )  # fmt: skip

    # -- ops --

    def op(self, name: str, tree: Tree, keeps: bool, always: tuple[tuple[Path, str], ...] = ()) -> Op:
        at: Keys = ("ops", name)
        by, talk = self.by(at, tree)
        kinds = {k: tuple(self.path((*at, k), p) for p in tree.get(k, ())) for k in ("set", "make", "drop")}
        everything = kinds["set"] + kinds["make"] + kinds["drop"]
        # what names an item sets that one alone; where it stands on a page is for its ask to say
        alone = not tree.get("on") or bool(tree.get("adds"))
        sets = kinds["set"] if not alone else tuple(self.named((*at, "set"), p) for p in tree.get("set", ()))
        if not everything and not tree.get("does"):
            raise self.fail(at, "it changes nothing; give set, make, drop or does")
        how = self.program(at, self.how(at, talk.op, tree), tree)
        if tree.get("on"):
            how = self.on(at, how, tree["on"], everything)
        if tree.get("adds") or tree.get("takes"):
            how = self.row_by_row(at, how, tree, sets)
        elif tree.get("on"):
            self.bound(at, how, tree["on"], kinds["set"])
        self.slots(at, how, kinds["make"])
        writes = tuple(tree.get("writes", (LIVE,)))
        if not keeps and LIVE in writes and KEPT not in writes:
            writes = (*writes, KEPT)  # a make without an op that keeps: what is live survives by itself
        effects = tuple(self.effect((*at, "effects", k), k, v) for k, v in tree.get("effects", {}).items())
        effects = (*always, *(one for one in effects if one not in always))
        by_value = {
            value: tuple(self.effect((*at, "by_value", value, k), k, v) for k, v in more.items())
            for value, more in tree.get("by_value", {}).items()
        }
        for word, value in tree.get("then", {}).items():
            for base in everything:
                path = self.named((*at, "then", word), show((*base[:2], *parse(word))))
                self.word((*at, "then", word), path, value)
        return Op(
            name, by, how, sets, kinds["make"], kinds["drop"], tree.get("on", ""), tree.get("does", ""),
            tuple((self.named((*at, "needs", k), k), v) for k, v in tree.get("needs", {}).items()),
            tuple(tree.get("then", {}).items()), effects, by_value, tree.get("cuts", "none"), writes if everything else (),
            tuple((source, tuple(into)) for source, into in tree.get("copies", {}).items()),
            tuple(self.path((*at, "copies_of"), p) for p in tree.get("copies_of", ())),
            seconds(tree.get("returns", "0")),
            tuple(self.named((*at, "takes_back"), p) for p in tree.get("takes_back", ())), seconds(tree.get("wait", "0")), int(tree.get("longest", 0)),
            _yes(tree.get("guarded")), self.only((*at, "only"), tree.get("only", ()), kinds["set"]),
            seconds(tree.get("outage", "0")), tree.get("renews", ""),
        )  # fmt: skip

    def on(self, at: Keys, how: How, name: str, paths: tuple[Path, ...]) -> How:
        """An op that writes to the very place its ask reads, where its way can."""
        self.one_of((*at, "on"), name, self.asks, "an ask")
        ask = self.asks[name]
        lists = {path[: path.index("*")] for path in paths if "*" in path}
        rows = next((row for row in ask.tree_rows if row.into in lists), None)
        bound: How = how.on(ask.how, rows.items if rows else Items())
        return bound

    def row_by_row(self, at: Keys, how: How, tree: Tree, sets: tuple[Path, ...]) -> How:
        """A set whose rows, where its ask reads them, are added and taken away one at a time."""
        if missing := next((key for key in ("on", "adds", "takes") if not tree.get(key)), ""):
            raise self.fail(at, f"{missing} is missing: a set in rows needs on, adds and takes")
        place = next((one for one in self.asks[tree["on"]].leaves if one.each and (one.path,) == sets), None)
        if place is None:
            raise self.fail((*at, "set"), f"give the one path whose rows {tree['on']} reads by each")
        items = Items(place.each, place.at, CALLED, dict(place.handles), place.parts)
        found: How = how.by_row(self.asks[tree["on"]].how, items)
        return found

    def bound(self, at: Keys, how: How, name: str, sets: tuple[Path, ...]) -> None:
        """What is set stands where the ask reads it, or something fills it: else a message would change nothing, or more."""
        filled_in = any(
            slot in ("value", "secret", "now") for _, template in how.templates() for slot, _ in slots(template)
        )
        for path in sets:
            rows = next((place for place in self.asks[name].leaves if place.each and place.path == path), None)
            if rows is not None and not filled_in and not how.writes_rows():
                raise self.fail((*at, "set"), f"{show(path)} stands in rows, and this way writes one thing at a time")
            if not filled_in and path not in self.asks[name].feeds:
                raise self.fail((*at, "set"), f"{show(path)} does not stand in {name}, and nothing fills it")

    def only(self, keys: Keys, words: Iterable[str], sets: tuple[Path, ...]) -> tuple[str, ...]:
        for path in sets:
            for word in words:
                self.word(keys, path, word)
        return tuple(words)

    def program(self, at: Keys, how: How, tree: Tree) -> How:
        """An op that runs a program of the library, with its text; another one as it is."""
        name, given = tree.get("program", ""), tree.get("given", {})
        if not name and not how.asked_as() and "program" in keys_of(type(how)):
            raise self.fail(at, "say or program is missing")
        if not name:
            return how
        programs = self.library.programs
        self.one_of((*at, "program"), name, programs, "a program of the library")
        if tree.get("say"):
            raise self.fail((*at, "say"), "it runs a program; leave one of the two out")
        for argument in given:
            self.one_of((*at, "given", argument), argument, programs[name].takes, f"what {name} takes")
        if missing := [argument for argument in programs[name].takes if argument not in given]:
            raise self.fail((*at, "given"), f"{name} also takes {', '.join(missing)}")
        return replace(how, say=programs[name].text)  # type: ignore[type-var]  # a dataclass

    def effect(self, keys: Keys, written: str, word: str) -> tuple[Path, str]:
        path = self.path(keys, written)
        if path in LISTS and word != "unknown":
            raise self.fail(keys, f"{written} is a list; all that can be said of it is unknown")
        if word != "unknown":
            self.word(keys, path, word)
        return path, word

    def slots(self, at: Keys, how: How, makes: tuple[Path, ...]) -> None:
        known = ALWAYS | {path[-1] for base in makes for path in TABLE if path[:-1] == base}
        rows = how.rows()
        of_row = COLUMNS[: 1 + len(rows.beside)] if rows is not None else ()
        for keys, template in how.templates():
            columns = of_row if keys[0] in ("adds", "takes") else ()
            for name, notation in self.pattern((*at, *keys), slots, template):
                if name not in known and name not in columns:
                    near = difflib.get_close_matches(name, known, 1)
                    hint = f"; nearest is {{{near[0]}}}" if near else ""
                    raise self.fail((*at, *keys), f"{{{name}}} cannot be filled{hint}")
                if notation and notation not in (*NOTATIONS, KEYS):
                    allowed = ", ".join(NOTATIONS)
                    raise self.fail((*at, *keys), f"{notation} is not a notation; notations are {allowed}")

    # -- the rest --

    def facts(self, tree: Tree) -> Iterator[tuple[Path, Any]]:
        for written, word in tree.items():
            keys: Keys = ("facts", written)
            yield parse(written), self.word(keys, self.path(keys, written), word)

    def spelling(self, tree: Tree) -> Iterator[tuple[Path, Spelling]]:
        for written, told in tree.items():
            keys: Keys = ("values", written)
            path = self.path(keys, written)
            seen: dict[Any, str] = {}
            for theirs, ours in told.get("words", {}).items():
                value = self.word((*keys, "words", theirs), path, ours)
                # what is written must read back as what was meant
                if value in seen and not _yes(told.get("reading_only")):
                    problem = f"{theirs} and {seen[value]} both mean {ours}: writing could not be undone by reading"
                    raise self.fail((*keys, "words", theirs), problem)
                seen.setdefault(value, theirs)
            if "empty" in told:
                self.word((*keys, "empty"), path, told["empty"])
            for ours in told.get("write", {}):
                self.word((*keys, "write", ours), path, ours)
            words, write = dict(told.get("words", {})), dict(told.get("write", {}))
            yield (
                path,
                Spelling(
                    words,
                    write,
                    told.get("join", ""),
                    told.get("empty"),
                    _yes(told.get("moment")),
                    _yes(told.get("singly")),
                ),
            )


def _yes(raw: Any) -> bool:
    return raw is True or raw == "yes"


def _factory(tree: Tree) -> Factory:
    logins = tuple(
        FactoryLogin(one["account"], one["secret"], Ref(f"factory:{place}"))
        for place, one in enumerate(tree.get("logins", ()), 1)
    )
    lock = tree.get("lockout", {})
    ports = {service: int(port) for service, port in tree.get("ports", {}).items()}
    return Factory(
        tree.get("address", ""), tree.get("socket", ""), ports, logins, seconds(tree.get("ready_after", "0")),
        int(lock.get("tries", 0)), seconds(lock.get("release", "0")), tree.get("reset", ""),
    )  # fmt: skip


def family_of(
    tree: Tree,
    file: str = "",
    line_of: Callable[[Keys], int] = lambda keys: 0,
    ways: Mapping[str, Talk] = WAYS,
    library: Library = NOTHING_TO_RUN,
) -> Family:
    """A family from the tree of its file, whose shape has been checked. Raises FamilyError(file, line, key,
    problem)."""
    checker = _Checker(file, line_of, ways, tree["channels"], library)
    channels = {name: checker.channel(name, one) for name, one in tree["channels"].items()}
    keeps = any(KEPT in into for op in tree.get("ops", {}).values() for into in op.get("copies", {}).values())
    token, software = tree.get("token", {}), tree.get("software", {})
    always = tuple(checker.effect(("effects", k), k, v) for k, v in tree.get("effects", {}).items())
    checker.joints = {name: checker.joint_of(name, one) for name, one in tree.get("joints", {}).items()}
    for name, one in tree.get("asks", {}).items():
        checker.asks[name] = checker.ask(name, one)
    family = Family(
        tree["family"], tree["title"], channels, _factory(tree.get("factory", {})),
        tuple(checker.asks.values()),
        tuple(checker.op(name, one, keeps, always) for name, one in tree.get("ops", {}).items()),
        dict(checker.spelling(tree.get("values", {}))),
        tuple(checker.lack(place, written) for place, written in enumerate(tree.get("lacks", ()))),
        tuple((checker.path(("marks", k), k), v) for k, v in tree.get("marks", {}).items()),
        token.get("signs", "_-."), int(token.get("longest", 32)), dict(tree.get("password", {})),
        (software.get("from", ""), software.get("below", "")),
        {listed: dict(words) for listed, words in tree.get("keys", {}).items()}, tuple(checker.facts(tree.get("facts", {}))),
        {store: tuple(services) for store, services in tree.get("account_stores", {}).items()},
        {checker.path(("cannot", k), k): v for k, v in tree.get("cannot", {}).items()}, ways,
    )  # fmt: skip
    used = {service for channel in channels.values() for service in channel.services}
    for service in family.factory.ports:
        checker.one_of(("factory", "ports", service), service, used, "a service of a channel")
    covered = family.covers()
    for op in family.ops:
        for path in (*op.sets, *op.makes, *op.drops):
            # done means read back, so what cannot be read cannot be done
            if pattern_of(path) not in covered and not holds_secret(path):
                problem = f"it writes {show(path)}, which no ask reads: the change could never be proven"
                raise checker.fail(("ops", op.name), problem)
    return family
