"""The shape of a family file. What belongs to a way of talking is shaped by that way's own dataclasses, so a new way
adds nothing here."""

from __future__ import annotations

import types
from collections.abc import Mapping
from dataclasses import MISSING, fields, is_dataclass
from functools import cache
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

from pydantic import Field, create_model

from yardbolt.core.family.model import Deed
from yardbolt.core.talk.ways import WAYS

from ..yamlfile import Document, Keys, fail
from .base import Flag, Length, Name, PortNumber, Shape, Text, Token
from .reading import read

Store = Literal["live", "kept", "staged"]


class LoginShape(Shape):
    account: Text
    secret: Text


class LockoutShape(Shape):
    tries: Token
    release: Length
    locks: Literal["", "account"] = Field("", description="what wrong passwords lock, and nothing else")


class FactoryShape(Shape):
    address: Text = ""
    socket: Text = ""
    ports: dict[Name, PortNumber] = Field({}, description="where each service answers at factory default")
    logins: list[LoginShape] = []
    ready_after: Length = "0"
    lockout: LockoutShape | None = None
    reset: Text = ""


class PairsShape(Shape):
    between: Text
    take: dict[Text, Text]


class TextRowsShape(Shape):
    heading: Text = ""
    row: Text
    into: Text
    whole: Flag = False
    aligned: Flag = Field(False, description="columns begin where the words of the heading do")


class LineShape(Shape):
    row: Text
    take: dict[Text, Text] = Field({}, description="column -> path; several columns in one text: {a}/{b}")
    none: dict[Text, Text] = Field({}, description="path -> what it means where no such line stands there")


class PlaceShape(Shape):
    at: Any = Field(description="a place, or a list of them where a value is spread over several")
    each: Text = Field("", description="of a set: where the rows are that it is made of; at is then a place in each")
    handles: dict[Text, Text] = Field({}, description="of rows: handle -> place in a row of what the unit allots to it")
    words: dict[Text, Text] = {}
    join: Text = ""
    empty: Text | None = None
    missing: Text | None = None
    codec: Text = ""
    unused: Text = Field("", description="codec one-each: what stands in a field that holds none")
    otherwise: Text = Field("", description="what any other word than those of `words` means; only read")


class JointShape(Shape):
    of: list[Text]
    words: dict[Text, list[Text]]


class TreeRowsShape(Shape):
    at: Text
    into: Text
    key: Text
    leaves: dict[Text, Any] = {}
    rows: list[TreeRowsShape] = []
    called: Text = Field("{key}", description="how the unit calls an item, where that is more than its key")
    handles: dict[Text, Text] = {}
    order: Text = Field("", description="the leaf that says at which place of the list an item stands")
    whole: Flag = False
    missing: Literal["", "none"] = Field("", description="none: where the list is not there at all, there is no item")
    within: list[Name] = Field([], description="lists of each item of which the leaves name every item there is")


class AskShape(Shape):
    by: Name | None = Field(None, description="the channel, where there are several")
    store: Store = "live"
    stores: dict[Store, Text] = Field({}, description="it is asked once for each store; the words are put in {store}")
    each: Text = ""
    on: Name | None = Field(None, description="with each: the ask whose rows lead to it")
    pairs: PairsShape | None = None
    rows: Any = Field(None, description="text: one table; tree: a list of them")
    lines: list[LineShape] = []
    leaves: dict[Text, Any] = Field({}, description="tree: path -> place, or {at, words, join, empty, missing}")
    decode: Text = ""
    whole: list[Text] = Field([], description="lists of which the leaves name every item there is")


class OpShape(Shape):
    by: Name | None = Field(None, description="the channel, where there are several")
    on: Name | None = Field(None, description="the ask whose places it writes")
    like: Name | None = Field(None, description="the op of which it takes everything but what it changes")
    set: list[Text] | dict[Text, Text] = Field([], description="paths; or path -> the words that are put in {word}")
    make: list[Text] = []
    drop: list[Text] = []
    does: Deed | None = None
    needs: dict[Text, Text] = {}
    then: dict[Text, Text] = {}
    effects: dict[Text, Text] = {}
    by_value: dict[Text, dict[Text, Text]] = {}
    cuts: Literal["none", "account", "service", "all"] = "none"
    writes: list[Store] = ["live"]
    copies: dict[Store, list[Store]] = {}
    copies_of: list[Text] = []
    returns: Length = "0"
    takes_back: list[Text] = Field([], description="of arm: what the return takes back besides what is guarded")
    wait: Length = "0"
    longest: Token = 0
    guarded: Flag = False
    outage: Length = "0"
    renews: Literal["", "certificate", "host key"] = ""
    only: list[Text] = Field([], description="the values it can write, where it cannot write all")


class SpellingShape(Shape):
    words: dict[Text, Text] = {}
    write: dict[Text, Text] = {}
    join: Text = ""
    empty: Text | None = None
    moment: Literal["yes", "no", "UTC"] = Field("no", description="a time; UTC where it is shown without a zone")
    singly: Flag = Field(False, description="addresses are written one by one: the unit knows no blocks")
    codec: Literal[
        "",
        "milliseconds",
        "seconds",
        "minutes",
        "hours",
        "days",
        "minutes:seconds",
        "hours:minutes",
        "hours:minutes:seconds",
        "udp-address",
        "udp-address:port",
    ] = Field("", description="what a bare number, or a bare place for logs, stands for")
    reading_only: Flag = False


class TokenShape(Shape):
    signs: Text = "_-."
    longest: Token = 32


class RangeShape(Shape):
    from_: Text = Field("", alias="from")
    below: Text = ""


class PasswordShape(Shape):
    longest: Token = 64
    barred: Text = ""


class EveryShape(Shape):
    asks: dict[Text, Any] = {}
    ops: dict[Text, Any] = {}


class FamilyShape(Shape):
    """A family file: what must be known of one make."""

    family: Name
    title: Text
    software: RangeShape = RangeShape()
    marks: dict[Text, Text] = {}
    token: TokenShape = TokenShape()
    factory: FactoryShape = FactoryShape()
    channels: dict[Name, Any] = Field(min_length=1)
    keys: dict[Text, dict[Text, Text]] = {}
    account_stores: dict[Name, list[Name]] = {}
    password: PasswordShape = PasswordShape()
    values: dict[Text, SpellingShape] = {}
    joints: dict[Name, JointShape] = Field({}, description="fields that say something of several leaves")
    asks: dict[Name, Any] = {}
    facts: dict[Text, Text] = {}
    every: EveryShape = Field(EveryShape(), description="what all asks, or all ops, say, unless they say otherwise")
    effects: dict[Text, Text] = Field({}, description="what every op brings with it")
    ops: dict[Name, Any] = {}
    without: list[Text] = Field(
        [], description="what a make has nothing of, by groups that ship; what it reads, it has"
    )
    lacks: list[Text] = Field([], description="single leaves it does not have either")
    cannot: dict[Text, Text] = Field({}, description="path -> why this make cannot be set there")
    based_on: Name | None = Field(None, description="the family this one is like, but for what it says itself")
    leaves_out: list[Text] = Field([], description="of that family: asks/NAME, ops/NAME")


# ---- the keys of a way of talking -----------------------------------------------------------------------------------


def _field(hint: Any) -> Any:
    """The type of a key, for scalars that arrive as text."""
    origin, inner = get_origin(hint), get_args(hint)
    if is_dataclass(hint):
        return shape_of(hint, Shape)  # type: ignore[arg-type]  # a class
    if origin is tuple:
        return list[_field(inner[0])]  # type: ignore[misc]  # built at run time
    if origin in (Union, types.UnionType):
        return _field(inner[0]) | None
    if isinstance(origin, type) and issubclass(origin, Mapping):
        return dict[Text, _field(inner[1])]  # type: ignore[misc]  # built at run time
    return {str: Text, int: Token, bool: Flag}.get(hint, hint)


@cache
def shape_of(cls: type, base: type[Shape]) -> type[Shape]:
    """The shape of the keys a dataclass takes, added to those of `base`."""
    hints = get_type_hints(cls)
    keys: dict[str, Any] = {}
    for each in fields(cls):
        if "ours" in each.metadata:
            continue
        needed = each.default is MISSING and each.default_factory is MISSING
        keys[each.name] = (_field(hints[each.name]), ...) if needed else (_field(hints[each.name]) | None, None)
    made: type[Shape] = create_model(f"{cls.__module__.rsplit('.', 1)[-1]}{cls.__name__}", __base__=base, **keys)
    return made


def check_ways(doc: Document) -> None:
    """Check the parts that belong to a way of talking. Raises FileError for the first thing that is wrong in each."""
    talks: dict[str, str] = {}
    for name, channel in doc.tree["channels"].items():
        at: Keys = ("channels", name)
        talk = str(channel.get("talk")) if isinstance(channel, Mapping) else ""
        if talk not in WAYS:
            raise fail(doc, (*at, "talk"), f"found {talk!r}: a way of talking is wanted: {', '.join(WAYS)}")
        read(doc, shape_of(WAYS[talk].channel, Shape), at)
        talks[name] = talk
    for part, base in (("asks", AskShape), ("ops", OpShape)):
        for name, one in doc.tree.get(part, {}).items():
            at = (part, name)
            by = one.get("by", next(iter(talks))) if isinstance(one, Mapping) else next(iter(talks))
            if by not in talks:
                raise fail(doc, (*at, "by"), f"found {by!r}: a channel is wanted: {', '.join(talks)}")
            way = WAYS[talks[by]]
            read(doc, shape_of(way.ask if part == "asks" else way.op, base), at)
            _check_trees(doc, at, one)


def _check_trees(doc: Document, at: Keys, one: Any) -> None:
    rows = one.get("rows")
    if isinstance(rows, Mapping):
        read(doc, TextRowsShape, (*at, "rows"))
    elif isinstance(rows, list):
        for place in range(len(rows)):
            read(doc, TreeRowsShape, (*at, "rows", place))
    elif rows is not None:
        raise fail(doc, (*at, "rows"), "a table or a list of tables is wanted here")
    for path, place in one.get("leaves", {}).items():
        if not isinstance(place, str):
            read(doc, PlaceShape, (*at, "leaves", path))
            places = place["at"] if isinstance(place["at"], list) else [place["at"]]
            if not places or not all(isinstance(each, str) and each for each in places):
                raise fail(doc, (*at, "leaves", path, "at"), "a place is wanted, or a list of places")


def family_schema() -> dict[str, Any]:
    """The JSON Schema of family files, the keys of every way of talking included."""

    def any_of(attribute: str, base: type[Shape]) -> Any:
        return Union[tuple(shape_of(getattr(way, attribute), base) for way in WAYS.values())]

    parts: dict[str, Any] = {
        "channels": (dict[Name, any_of("channel", Shape)], Field(min_length=1)),  # type: ignore[misc]  # built at run time
        "asks": (dict[Name, any_of("ask", AskShape)], {}),  # type: ignore[misc]
        "ops": (dict[Name, any_of("op", OpShape)], {}),  # type: ignore[misc]
    }
    whole: type[Shape] = create_model("FamilyFile", __base__=FamilyShape, **parts)
    schema = whole.model_json_schema(by_alias=True)
    # one that is based on another takes its channels from there
    schema["required"] = [key for key in schema["required"] if key != "channels"]
    return {**schema, "anyOf": [{"required": ["channels"]}, {"required": ["based_on"]}]}
