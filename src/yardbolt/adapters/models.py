"""The shape of our three files, as pydantic models: job, baseline, family. Their JSON Schemas are printed from here.

Scalars arrive as text; each field reads its own. Meanings beyond the shape are checked in core.
"""

from __future__ import annotations

from datetime import date
from ipaddress import ip_address
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema

from yardbolt.core import plane
from yardbolt.core.addresses import AddressSet

from .yamlfile import checked

Text = Annotated[str, BeforeValidator(checked(str))]


def _flag(raw: str) -> bool:
    if raw not in ("yes", "no"):
        raise ValueError("write yes or no")
    return raw == "yes"


def _address(raw: str) -> str:
    try:
        return str(ip_address(raw))
    except ValueError:
        raise ValueError("an IPv4 or IPv6 address is wanted, such as 192.0.2.1") from None


def _day(raw: str) -> str:
    return date.fromisoformat(raw).isoformat()


def _port(raw: str) -> int:
    got = plane.number(raw)
    if not 1 <= got <= 65535:
        raise ValueError("a port is 1 to 65535")
    return got


def _name(raw: str) -> str:
    if not raw or len(raw) > 40 or not all(c.isascii() and (c.isalnum() or c in "-_.") for c in raw) or raw[0] in "-.":
        raise ValueError("a name is 1 to 40 letters, digits, - _ . and begins with a letter or digit")
    return raw


def _network(raw: str) -> str:
    AddressSet.of(raw)
    return raw


def _sources(raw: Any) -> Any:
    for entry in [raw] if isinstance(raw, str) else raw:
        AddressSet.of(str(entry))
    return [raw] if isinstance(raw, str) else raw


Name = Annotated[str, BeforeValidator(checked(_name))]
Flag = Annotated[bool, BeforeValidator(checked(_flag)), WithJsonSchema({"enum": ["yes", "no"]})]
Address = Annotated[str, BeforeValidator(checked(_address))]
Network = Annotated[str, BeforeValidator(checked(_network))]
Day = Annotated[str, BeforeValidator(checked(_day)), WithJsonSchema({"type": "string", "format": "date"})]
PortNumber = Annotated[int, BeforeValidator(checked(_port)), WithJsonSchema({"type": ["string", "integer"]})]
Length = Annotated[str, BeforeValidator(checked(lambda t: (plane.seconds(t), t)[1]))]
SourceList = Annotated[list[str], BeforeValidator(_sources)]
Token = Annotated[int, BeforeValidator(checked(plane.number)), WithJsonSchema({"type": ["string", "integer"]})]


class Shape(BaseModel):
    """Every part: nothing besides the named keys, nothing changed afterwards."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


# ---- yard.yaml --------------------------------------------------------------------------------------------------------------


class SegmentShape(Shape):
    network: Network
    gateway: Address | None = None
    administrators: SourceList
    monitoring: SourceList = []
    laptop: Address
    stranger: Address | None = None


class AccountShape(Shape):
    rights: Literal["full", "change", "read"]
    whose: Text
    until: Day | None = None


class UnitShape(Shape):
    family: Name
    segment: Name
    at: Address
    class_: Name | None = Field(None, alias="class")
    serial: Text = ""
    hardware: Text = ""
    ports: dict[Name, PortNumber] = {}
    login: Name | None = None
    note: Text = ""


class AllowsShape(Shape):
    restart: Flag = False
    remove_factory_accounts: Flag = Field(False, alias="remove factory accounts")
    terms: Text = Field("", description="who accepts licence terms for the owner; empty = nobody")


class ServerShape(Shape):
    kind: Literal["time", "logs", "login"]
    at: Address
    here: Flag = True


class WaiverShape(Shape):
    rule: Name
    unit: Text = "*"
    reason: Text
    owner: Text
    until: Day


class SafeShape(Shape):
    file: Text = "safe.kdbx"
    copy_: Text = Field("", alias="copy", description="where the second copy lies")
    without_copy: Text = Field("", alias="without copy", description="the reason why there is no second copy")


class JobShape(Shape):
    """yard.yaml: one piece of work."""

    job: Text
    owner: Text
    technician: Text
    baseline: Name = "hand-tight"
    segments: dict[Name, SegmentShape] = Field(min_length=1)
    accounts: dict[Name, AccountShape] = {}
    needs: dict[Name, list[Name]] = Field({}, description="services needed, by class of unit; `*` is every class")
    banner: Text = ""
    servers: list[ServerShape] = []
    allows: AllowsShape = AllowsShape()
    waivers: list[WaiverShape] = []
    safe: SafeShape = SafeShape()
    units: dict[Name, UnitShape] = Field(min_length=1)


# ---- a baseline -------------------------------------------------------------------------------------------------------------


class LineShape(Shape):
    rule: Name
    severity: Literal["critical", "high", "medium", "low"] | None = None
    set: dict[Text, Text] = Field({}, description="the numbers of the rule")


class BaselineShape(Shape):
    """A baseline: numbered requirements, in the owner's order."""

    baseline: Name
    version: Text
    meaning: Text
    lines: list[LineShape] = Field(min_length=1)


# ---- a family ---------------------------------------------------------------------------------------------------------------


class LoginShape(Shape):
    account: Text
    secret: Text


class LockoutShape(Shape):
    tries: Token
    release: Length


class FactoryShape(Shape):
    address: Text = ""
    socket: Text = ""
    logins: list[LoginShape] = []
    ready_after: Length = "0"
    lockout: LockoutShape | None = None
    reset: Text = ""


class ChannelShape(Shape):
    speaks: Literal["ssh", "telnet"]
    port: PortNumber
    mode: Literal["console", "commands"]


class GateShape(Shape):
    gate: Literal["terms", "change", "confirm"]
    sign: Text
    send: Text


class ConsoleShape(Shape):
    prompt: Text
    account: Text = ""
    secret: Text = ""
    refused: Text = ""
    locked: Text = ""
    more: Text = ""
    turn: Text = " "
    trouble: Text = ""
    leave: Text = ""
    gates: list[GateShape] = []


class PairsShape(Shape):
    between: Text
    take: dict[Text, Text]


class RowsShape(Shape):
    heading: Text = ""
    row: Text
    into: Text
    whole: Flag = False


class PatternShape(Shape):
    row: Text
    take: dict[Text, Text] = {}


class AskShape(Shape):
    say: Text
    each: Text = ""
    rights: Literal["", "root"] = ""
    pairs: PairsShape | None = None
    rows: RowsShape | None = None
    lines: list[PatternShape] = []
    decode: Text = ""


class PromptShape(Shape):
    sign: Text
    send: Text


class OpShape(Shape):
    set: list[Text] = []
    make: list[Text] = []
    drop: list[Text] = []
    does: Literal["", "save", "restart"] = ""
    say: Text
    prompts: list[PromptShape] = []
    needs: dict[Text, Text] = {}
    then: dict[Text, Text] = {}
    effects: dict[Text, Text] = {}
    cuts: Literal["none", "account", "service", "all"] = "none"
    persists: Literal["on save", "at once"] = "on save"
    wait: Length = "0"
    longest: Token = 0


class SpellingShape(Shape):
    words: dict[Text, Text] = {}
    write: dict[Text, Text] = {}
    join: Text = ""
    empty: Text | None = None
    moment: Flag = False
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


class FamilyShape(Shape):
    """A family file: what must be known of one make."""

    family: Name
    title: Text
    software: RangeShape = RangeShape()
    marks: dict[Text, Text] = {}
    token: TokenShape = TokenShape()
    factory: FactoryShape = FactoryShape()
    channels: dict[Name, ChannelShape] = Field(min_length=1)
    keys: dict[Text, dict[Text, Text]] = {}
    console: ConsoleShape | None = None
    elevate: Text = ""
    password: PasswordShape = PasswordShape()
    values: dict[Text, SpellingShape] = {}
    asks: dict[Name, AskShape] = {}
    facts: dict[Text, Text] = {}
    ops: dict[Name, OpShape] = {}
    lacks: list[Text] = []
