"""A document by its shape: every complaint names file, line, key, what was found and what is allowed."""

from __future__ import annotations

import difflib
from collections.abc import Callable
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from yardbolt.core.errors import FileError

from ..yamlfile import Document, Keys, fail

M = TypeVar("M", bound=BaseModel)


def _fields(model: type[BaseModel], loc: Keys) -> list[str]:
    """The keys allowed at the place a complaint is about, as far as the model tells."""
    here: Any = model
    for step in loc:
        if isinstance(here, type) and issubclass(here, BaseModel):
            field = next((f for n, f in here.model_fields.items() if step in (n, f.alias)), None)
            here = field.annotation if field else None
        else:
            args = [a for a in getattr(here, "__args__", ()) if a not in (str, type(None))]
            here = args[-1] if args else None
        args = [a for a in getattr(here, "__args__", ()) if a is not type(None)]
        if here is not None and type(None) in getattr(here, "__args__", ()) and len(args) == 1:
            here = args[0]
    if isinstance(here, type) and issubclass(here, BaseModel):
        return [f.alias or n for n, f in here.model_fields.items()]
    return []


def _complaint(doc: Document, model: type[BaseModel], error: Any, at: Keys) -> FileError:
    here: Keys = tuple(error["loc"])
    keys = (*at, *here)
    found = error.get("input")
    if error["type"] == "extra_forbidden":
        allowed = _fields(model, here[:-1])
        near = difflib.get_close_matches(str(here[-1]), allowed, 1)
        known = ", ".join(allowed)
        return fail(
            doc,
            keys,
            f"is not a key here; nearest is '{near[0]}'; allowed: {known}"
            if near
            else f"is not a key here; allowed: {known or 'nothing'}",
        )
    if error["type"] == "missing":
        return FileError(doc.name, doc.line_of(keys[:-1]), ".".join(map(str, keys)), "is missing")
    message = error["msg"].removeprefix("Value error, ")
    shown = f"found {found!r}: " if isinstance(found, str) and len(found) < 80 else ""
    return fail(doc, keys, shown + message[:1].lower() + message[1:])


def read(doc: Document, model: type[M], at: Keys = ()) -> M:
    """The document (or the part of it at some keys) as a model. Raises FileError for the first thing that is wrong, in
    the order of the file."""
    part: Any = doc.tree
    for key in at:
        part = part[key]
    try:
        return model.model_validate(part)
    except ValidationError as e:
        # a key that is spelt wrongly is also one that is missing: the wrong one is named
        errors = sorted(e.errors(include_url=False), key=lambda error: error["type"] == "missing")
        first = [error for error in errors if (error["type"] == "missing") == (errors[0]["type"] == "missing")]
        found = [_complaint(doc, model, error, at) for error in first]
        raise min(found, key=lambda problem: problem.line) from None


def checked(convert: Callable[[str], Any]) -> Callable[[Any], Any]:
    """A pydantic validator from a function that raises ValueError with a good message."""

    def run(raw: Any) -> Any:
        if not isinstance(raw, str):
            raise ValueError("a single value is wanted here, not a list or keys")
        return convert(raw)

    return run
