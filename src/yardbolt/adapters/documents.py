"""Events and documents to JSON and back, through pydantic; and their JSON Schemas, from the same types."""

from __future__ import annotations

import json
from dataclasses import is_dataclass
from functools import cache
from typing import Annotated, Any

from pydantic import Field, TypeAdapter, ValidationError

from yardbolt.core.errors import FileError
from yardbolt.core.run.documents import Document
from yardbolt.core.run.events import Event


@cache
def _events() -> TypeAdapter[Event]:
    return TypeAdapter(Annotated[Event, Field(discriminator="event")])


@cache
def _documents() -> TypeAdapter[Document]:
    return TypeAdapter(Annotated[Document, Field(discriminator="kind")])


def written(value: Event | Document) -> str:
    """The JSON text (RFC 8259) of an event or a document, keys sorted."""
    return json.dumps(value, default=_fields, sort_keys=True, ensure_ascii=False)


def _fields(part: object) -> dict[str, Any]:
    """A part of it as its fields, without the copies that dataclasses.asdict makes."""
    if not is_dataclass(part):
        raise TypeError(f"{type(part).__name__} has no place in a record")
    return vars(part)


def event(text: str, where: str) -> Event:
    """The event a text stands for. Raises FileError where it is none of ours."""
    try:
        return _events().validate_json(text)
    except ValidationError as e:
        raise FileError(
            where, 0, "", f"an entry of the journal is not one this version knows ({e.error_count()} faults)"
        ) from None


def filed(text: str, where: str) -> Document:
    """The document a text stands for. Raises FileError where it is none of ours."""
    try:
        return _documents().validate_json(text)
    except ValidationError as e:
        raise FileError(where, 0, "", f"a document is not one this version knows ({e.error_count()} faults)") from None


def record_schema(which: str) -> dict[str, Any]:
    """The JSON Schema of an entry of the `journal`, or of a document of the `record`."""
    from yardbolt.core.plane.document import schema as plane_schema

    if which == "journal":
        return _events().json_schema()
    made = _documents().json_schema()
    made["$defs"]["Plane"] = plane_schema()
    for part in made["$defs"].values():
        if "plane" in part.get("properties", {}):
            part["properties"]["plane"] = {"$ref": "#/$defs/Plane"}
    return made
