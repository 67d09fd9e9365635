"""What the shapes of our files share: scalars arrive as text, and each field reads its own. Meanings beyond the shape
are checked in core."""

from __future__ import annotations

from datetime import date
from ipaddress import ip_address
from typing import Annotated, Any

from pydantic import BaseModel, BeforeValidator, ConfigDict, WithJsonSchema

from yardbolt.core.addresses import AddressSet
from yardbolt.core.formats.sshkeys import public_key
from yardbolt.core.plane.kinds import number, seconds

from .reading import checked

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
    got = number(raw)
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


def _class(raw: str) -> str:
    return "all" if raw == "*" else _name(raw)


def _key_print(raw: str) -> str:
    if not (raw.startswith("SHA256:") and len(raw) == 50) and not public_key(raw.split()[:2]):
        raise ValueError(
            "a public key is wanted (ssh-ed25519 AAAA...), or the fingerprint ssh-keygen -l shows of one: SHA256: "
            "and 43 characters"
        )
    return raw


def _foreign(raw: str) -> str:
    if raw not in ("accounts", "keys", "jobs") and not raw.startswith("/"):
        raise ValueError("accounts, keys, jobs, or the path of a file is wanted")
    return raw


Foreign = Annotated[str, BeforeValidator(checked(_foreign))]
UnitClass = Annotated[str, BeforeValidator(checked(_class))]
KeyPrint = Annotated[str, BeforeValidator(checked(_key_print))]
Name = Annotated[str, BeforeValidator(checked(_name))]
Flag = Annotated[bool, BeforeValidator(checked(_flag)), WithJsonSchema({"enum": ["yes", "no"]})]
Address = Annotated[str, BeforeValidator(checked(_address))]
Network = Annotated[str, BeforeValidator(checked(_network))]
Day = Annotated[str, BeforeValidator(checked(_day)), WithJsonSchema({"type": "string", "format": "date"})]
PortNumber = Annotated[int, BeforeValidator(checked(_port)), WithJsonSchema({"type": ["string", "integer"]})]
Length = Annotated[str, BeforeValidator(checked(lambda t: (seconds(t), t)[1]))]
SourceList = Annotated[list[str], BeforeValidator(_sources)]
Token = Annotated[int, BeforeValidator(checked(number)), WithJsonSchema({"type": ["string", "integer"]})]


class Shape(BaseModel):
    """Every part: nothing besides the named keys, nothing changed afterwards."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)
