"""The asks of a family file, checked and put into the model."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from ..formats.decode import DECODERS
from ..plane.kinds import SETS
from ..plane.path import Path, parse, show
from ..plane.table import LISTS, pattern_of, row_of
from ..talk.conversation import How, Keys
from ..talk.patterns import row, slots
from ..talk.tree import CALLED, Items
from .binding import Joint, Place, TreeRows
from .fileparts import FileParts, Tree, yes
from .model import LIVE, Ask, Pairs, TextLine, TextRows
from .spelling import CLOCKS, CODECS, ONE_EACH, SPREADS


class AsksBuilt(FileParts):
    """What a family asks, and what each reply feeds."""

    def ask(self, name: str, tree: Tree) -> Ask:
        at: Keys = ("asks", name)
        if tree.get("stores"):
            problem = "{store} stands nowhere in the ask, or there is an ask of that name already"
            raise self.fail((*at, "stores"), problem)
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
        how, decode = self.how(at, talk.ask, tree, by)
        decode = decode or tree.get("decode", "")
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
        if yes(table.get("whole")):
            whole.append(into)
            feeds.add(into)
        aligned, heading = yes(table.get("aligned")), table.get("heading", "")
        if aligned and (names[0] != "key" or len(re.split(r" {2,}", heading.strip())) != len(names)):
            problem = "aligned rows need a heading with two blanks between columns, one for each of the row, key first"
            raise self.fail((*at, "rows", "aligned"), problem)
        return TextRows(table["row"], into, heading, yes(table.get("whole")), aligned)

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
                wanted = [name for name, _ in self.pattern(keys, slots, column)] if "{" in column else [column]
                if odd := next((name for name in wanted if name not in names), ""):
                    raise self.fail(keys, f"the row has no column {odd}; it has {', '.join(names) or 'none'}")
                feeds.add(self.path(keys, written))
            for written, word in line.get("none", {}).items():
                path = self.named((*at, "lines", place, "none", written), written)
                self.word((*at, "lines", place, "none", written), path, word)
                feeds.add(self.path((*at, "lines", place, "none", written), written))
            out.append(TextLine(line["row"], dict(line.get("take", {})), dict(line.get("none", {}))))
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
                self.one_of((*keys, written, "codec"), codec, (*CODECS, *CLOCKS, *SPREADS, ONE_EACH), "a codec")
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
        if yes(tree.get("whole")):
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
            items, into, leaves, inner, yes(tree.get("whole")), order,
            tuple(tree.get("within", ())), tree.get("missing") == "none",
        )  # fmt: skip

    def on(self, at: Keys, how: How, name: str, paths: tuple[Path, ...]) -> How:
        """An op that writes to the very place its ask reads, where its way can."""
        self.one_of((*at, "on"), name, self.asks, "an ask")
        ask = self.asks[name]
        lists = {path[: path.index("*")] for path in paths if "*" in path}
        rows = next((row for row in ask.tree_rows if row.into in lists), None)
        bound: How = how.on(ask.how, rows.items if rows else Items())
        return bound
