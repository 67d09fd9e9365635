"""YAML files: every scalar is read as text, and every key knows its line.

`004417` stays that and a key `on` stays a key, because nothing is guessed from how a scalar looks.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import yaml

from yardbolt.core.errors import FileError

Keys = tuple[str | int, ...]
MOST = 1024 * 1024
DEEPEST = 40
MOST_VALUES = 200_000  # as often as they are named: an alias repeats all that it stands for


class Document:
    """The tree of a YAML file, of texts only, and the line each key stands on."""

    def __init__(self, name: str, text: str) -> None:
        self.name = name
        self.lines: dict[Keys, int] = {}
        self.values = 0
        self.wrote: Callable[[Keys], Keys] = lambda keys: keys  # where the author wrote what is looked at now
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
        self.values += 1
        if self.values > MOST_VALUES:
            raise FileError(
                self.name, node.start_mark.line + 1, "", f"more than {MOST_VALUES:,} values, aliases counted"
            )
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
        keys = self.wrote(keys)
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


def fail(doc: Document, keys: Keys, problem: str) -> FileError:
    """A complaint about one key of a document."""
    return FileError(doc.name, doc.line_of(keys), ".".join(map(str, keys)), problem)
