"""From the tree of a family file to a `Family`: finds what a shape check cannot.

Paths that are not on the plane, columns that feed nothing, slots that nothing fills, words that could not be read
back, ops whose change no ask reads. The keys that belong to a way of talking are the fields of its dataclasses.
"""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any

from ..formats.library import NOTHING_TO_RUN, Library
from ..plane.kinds import SETS, seconds
from ..plane.path import Path, parse, show
from ..plane.table import LISTS, TABLE, holds_secret, pattern_of, row_of
from ..secret import Ref
from ..talk.conversation import How, Keys, Talk
from ..talk.patterns import slots
from ..talk.rowsets import COLUMNS
from ..talk.tree import CALLED, Items
from ..talk.ways import WAYS
from .buildasks import AsksBuilt
from .fileparts import Tree, yes
from .model import KEPT, LIVE, Factory, FactoryLogin, Family, Op, Spelling
from .spelling import NOTATIONS
from .writing import KEYS

ALWAYS = frozenset({"key", "value", "secret", "old", "now"})


INIT: Path = ("host", "init")
STARTS = {INIT, ("services", "*", "boot")}


class _Builder(AsksBuilt):
    """The whole of a family file."""

    # -- ops --

    def op(self, name: str, tree: Tree, keeps: bool, always: tuple[tuple[Path, str], ...] = ()) -> Op:
        at: Keys = ("ops", name)
        self.written_out(at, tree)
        by, talk = self.by(at, tree)
        kinds = {k: tuple(self.path((*at, k), p) for p in tree.get(k, ())) for k in ("set", "make", "drop")}
        everything = kinds["set"] + kinds["make"] + kinds["drop"]
        # what names an item sets that one alone; where it stands on a page is for its ask to say
        alone = not tree.get("on") or bool(tree.get("adds"))
        sets = kinds["set"] if not alone else tuple(self.named((*at, "set"), p) for p in tree.get("set", ()))
        if not everything and not tree.get("does"):
            raise self.fail(at, "it changes nothing; give set, make, drop or does")
        secret = any(holds_secret(path) for path in TABLE if path in kinds["set"] or path[:-1] in kinds["make"])
        how, _ = self.how(at, talk.op, tree, by, secret)
        if tree.get("on"):
            how = self.on(at, how, tree["on"], everything)
        how = self.placed(at, how, tree, sets, kinds["set"])
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
            name,
            by,
            how,
            sets,
            kinds["make"],
            kinds["drop"],
            tree.get("on", ""),
            tree.get("does", ""),
            tuple((self.named((*at, "needs", k), k), v) for k, v in tree.get("needs", {}).items()),
            tuple(tree.get("then", {}).items()),
            effects,
            by_value,
            tree.get("cuts", "none"),
            writes if everything else (),
            tuple((source, tuple(into)) for source, into in tree.get("copies", {}).items()),
            tuple(self.path((*at, "copies_of"), p) for p in tree.get("copies_of", ())),
            seconds(tree.get("returns", "0")),
            tuple(self.named((*at, "takes_back"), p) for p in tree.get("takes_back", ())),
            seconds(tree.get("wait", "0")),
            int(tree.get("longest", 0)),
            yes(tree.get("guarded")),
            self.only((*at, "only"), tree.get("only", ()), kinds["set"]),
            seconds(tree.get("outage", "0")),
            tree.get("renews", ""),
        )

    def written_out(self, at: Keys, tree: Tree) -> None:
        """Raises FamilyError where the op stands as the author wrote it, because it could not be written out."""
        if tree.get("like"):
            raise self.fail(
                (*at, "like"), f"{tree['like']} is no op, or is itself like another; one level is all there is"
            )
        if isinstance(tree.get("set"), Mapping):
            raise self.fail((*at, "set"), "a table of settings holds some, and stands without make, drop and does")

    def placed(self, at: Keys, how: How, tree: Tree, sets: tuple[Path, ...], written: tuple[Path, ...]) -> How:
        """The op with the rows, the lines or the places it writes, checked against what its ask reads."""
        if how.lines() is not None:
            self.by_lines(at, sets)
        elif tree.get("adds") or tree.get("takes"):
            return self.row_by_row(at, how, tree, sets)
        elif tree.get("on"):
            self.bound(at, how, tree["on"], written)
        return how

    def by_lines(self, at: Keys, sets: tuple[Path, ...]) -> None:
        """A set whose things a line each adds and takes away."""
        if len(sets) != 1 or row_of(sets[0]).kind not in SETS:
            raise self.fail((*at, "set"), "give the one path whose set the lines of adds and takes change")

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
        """What is set stands where the ask reads it, or something fills it: else a message would change nothing, or
        more."""
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
        """What the manual tells, and what the channels say of encryption, where no ask reads it."""
        if not any(("services", "*", "encrypted") in ask.feeds for ask in self.asks.values()):
            for service, how in {name: how for one in self.made.values() for name, how in one.services.items()}.items():
                yield ("services", service, "encrypted"), how == "sealed"
        for written, word in tree.items():
            keys: Keys = ("facts", written)
            yield parse(written), self.word(keys, self.path(keys, written), word)

    def cannot(self, tree: Tree) -> Iterator[tuple[Path, str]]:
        """Why something cannot be set: of a path, or of a whole area (`policy`)."""
        areas = {path[0] for path in TABLE}
        for written, why in tree.items():
            yield (written,) if written in areas else self.path(("cannot", written), written), why

    def lacks(self, tree: Tree, groups: Mapping[str, Iterable[str]]) -> Iterator[Path]:
        """What the make does not have: single leaves, and groups of them but for what it reads or the manual tells."""
        has = {path for ask in self.asks.values() for path in ask.feeds}
        has |= {pattern_of(parse(written)) for written in tree.get("facts", {})}
        for place, name in enumerate(tree.get("without", ())):
            self.one_of(("without", place), name, groups, "what a kind of unit can be without")
            found = (self.lack(("without", place), written) for written in groups[name])
            yield from (path for path in found if not any(one[: len(path)] == path for one in has))
        # what is talked to in a language of its own has no list of what its operating system starts
        if not has & STARTS and all(self.ways[one["talk"]].by_role for one in tree["channels"].values()):
            yield INIT
        for place, written in enumerate(tree.get("lacks", ())):
            yield self.lack(("lacks", place), written)

    def spelling(self, tree: Tree) -> Iterator[tuple[Path, Spelling]]:
        for written, told in tree.items():
            keys: Keys = ("values", written)
            path = self.path(keys, written)
            seen: dict[Any, str] = {}
            for theirs, ours in told.get("words", {}).items():
                value = self.word((*keys, "words", theirs), path, ours)
                # what is written must read back as what was meant
                if value in seen and not yes(told.get("reading_only")):
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
                    "" if told.get("moment") in (None, "no") else told["moment"],
                    yes(told.get("singly")),
                    told.get("codec", ""),
                ),
            )


def _factory(tree: Tree) -> Factory:
    logins = tuple(
        FactoryLogin(one["account"], one["secret"], Ref(f"factory:{place}"))
        for place, one in enumerate(tree.get("logins", ()), 1)
    )
    lock = tree.get("lockout", {})
    ports = {service: int(port) for service, port in tree.get("ports", {}).items()}
    return Factory(
        tree.get("address", ""), tree.get("socket", ""), ports, logins, seconds(tree.get("ready_after", "0")),
        int(lock.get("tries", 0)), seconds(lock.get("release", "0")), lock.get("locks", ""), tree.get("reset", ""),
    )  # fmt: skip


def family_of(
    tree: Tree,
    file: str = "",
    line_of: Callable[[Keys], int] = lambda keys: 0,
    ways: Mapping[str, Talk] = WAYS,
    library: Callable[[], Library] = lambda: NOTHING_TO_RUN,
    groups: Mapping[str, Iterable[str]] = {},  # never written to
) -> Family:
    """A family from the tree of its file, whose shape has been checked; `groups` are what a kind of unit can be
    without. Raises FamilyError(file, line, key, problem)."""
    builder = _Builder(file, line_of, ways, tree["channels"], library)
    channels = builder.made
    keeps = any(KEPT in into for op in tree.get("ops", {}).values() for into in op.get("copies", {}).values())
    token, software = tree.get("token", {}), tree.get("software", {})
    always = tuple(builder.effect(("effects", k), k, v) for k, v in tree.get("effects", {}).items())
    builder.joints = {name: builder.joint_of(name, one) for name, one in tree.get("joints", {}).items()}
    for name, one in tree.get("asks", {}).items():
        builder.asks[name] = builder.ask(name, one)
    family = Family(
        tree["family"],
        tree["title"],
        channels,
        _factory(tree.get("factory", {})),
        tuple(builder.asks.values()),
        tuple(builder.op(name, one, keeps, always) for name, one in tree.get("ops", {}).items()),
        dict(builder.spelling(tree.get("values", {}))),
        tuple(builder.lacks(tree, groups)),
        tuple((builder.path(("marks", k), k), v) for k, v in tree.get("marks", {}).items()),
        token.get("signs", "_-."),
        int(token.get("longest", 32)),
        dict(tree.get("password", {})),
        (software.get("from", ""), software.get("below", "")),
        {listed: dict(words) for listed, words in tree.get("keys", {}).items()},
        tuple(builder.facts(tree.get("facts", {}))),
        {store: tuple(services) for store, services in tree.get("account_stores", {}).items()},
        dict(builder.cannot(tree.get("cannot", {}))),
        ways,
    )
    used = {service for channel in channels.values() for service in channel.services}
    for service in family.factory.ports:
        builder.one_of(("factory", "ports", service), service, used, "a service of a channel")
    covered = family.covers()
    for op in family.ops:
        for path in (*op.sets, *op.makes, *op.drops):
            # done means read back, so what cannot be read cannot be done
            if pattern_of(path) not in covered and not holds_secret(path):
                problem = f"it writes {show(path)}, which no ask reads: the change could never be proven"
                raise builder.fail(("ops", op.name), problem)
    return family
