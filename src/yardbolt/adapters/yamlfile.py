"""YAML files: every scalar is read as text, then by schema, and every complaint names file, line, key, found and allowed.

`004417` stays that and a key `on` stays a key, because nothing is guessed from how a scalar looks.
"""

from __future__ import annotations

import difflib
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import yaml
from pydantic import BaseModel, ValidationError

from yardbolt.core.errors import FileError

Keys = tuple[str | int, ...]
M = TypeVar("M", bound=BaseModel)
MOST = 1024 * 1024
DEEPEST = 40


class Document:
    """The tree of a YAML file, of texts only, and the line each key stands on."""

    def __init__(self, name: str, text: str) -> None:
        self.name = name
        self.lines: dict[Keys, int] = {}
        try:
            node = yaml.compose(text, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader))
        except yaml.MarkedYAMLError as e:
            line = e.problem_mark.line + 1 if e.problem_mark else 0
            raise FileError(name, line, "", f"not YAML: {e.problem or e.context}") from None
        except yaml.YAMLError as e:
            raise FileError(name, 0, "", f"not YAML: {str(e).splitlines()[0]}") from None
        if not isinstance(node, yaml.MappingNode):
            raise FileError(name, 1, "", "found no keys; a file begins with 'key: value' lines")
        self.tree: dict[str, Any] = self._walk(node, (), frozenset())

    def _walk(self, node: yaml.Node, at: Keys, above: frozenset[int]) -> Any:
        if id(node) in above or len(at) > DEEPEST:
            raise FileError(self.name, node.start_mark.line + 1, ".".join(map(str, at)), "nested too deeply")
        self.lines.setdefault(at, node.start_mark.line + 1)
        if isinstance(node, yaml.ScalarNode):
            return node.value
        above |= {id(node)}
        if isinstance(node, yaml.SequenceNode):
            return [self._walk(n, (*at, i), above) for i, n in enumerate(node.value)]
        out: dict[str, Any] = {}
        for key, value in node.value:
            if not isinstance(key, yaml.ScalarNode):
                raise FileError(
                    self.name, key.start_mark.line + 1, ".".join(map(str, at)), "a key must be a plain word"
                )
            self.lines[(*at, key.value)] = key.start_mark.line + 1
            if key.value in out:
                raise FileError(self.name, key.start_mark.line + 1, key.value, "stands twice in the same place")
            out[key.value] = self._walk(value, (*at, key.value), above)
        return out

    def line_of(self, keys: Keys) -> int:
        """The line of a key, or of the nearest one above it."""
        while keys and keys not in self.lines:
            keys = keys[:-1]
        return self.lines.get(keys, 0)


def document(path: Path) -> Document:
    """Read a file. Raises FileError on one that is missing, too large, no text or no YAML."""
    try:
        if path.stat().st_size > MOST:
            raise FileError(str(path), 0, "", f"larger than {MOST // 1024} KiB")
        return Document(str(path), path.read_text("utf-8"))
    except UnicodeDecodeError:
        raise FileError(str(path), 0, "", "not a text file in UTF-8") from None
    except OSError as e:
        raise FileError(str(path), 0, "", f"cannot be read: {e.strerror or e}") from None


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


def fail(doc: Document, keys: Keys, problem: str) -> FileError:
    """A complaint about one key of a document."""
    return FileError(doc.name, doc.line_of(keys), ".".join(map(str, keys)), problem)


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
    """The document (or the part of it at some keys) as a model. Raises FileError for the first thing that is wrong, in the order
    of the file."""
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
