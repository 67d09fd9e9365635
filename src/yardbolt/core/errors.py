"""Every error the program raises on purpose, the tree first.

    YardboltError            exit 1  the tool failed
    ├── OperatorError        exit 2  what was typed cannot be done
    ├── FileError            exit 2  a file is wrong: file, line, key, found, allowed
    │   └── FamilyError      exit 2  a family file is wrong
    ├── SafeError            exit 2  the safe cannot be opened or written
    ├── UnitError            exit 4  the unit: unreachable, silent, garbled, too much, closed
    │   └── IdentityError    exit 5  the unit is not the one it should be (host key, serial)
    └── Stopped              exit 5  stopped part-way, safely; what is known is in the record

Each message is one line, for a tired reader, and says what to do next. No message ever holds a secret.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from enum import Enum
from types import MappingProxyType

_ANSI = re.compile(r"\x1b(?:\[[0-?]*[ -/]*[@-~]|\][^\x07\x1b]{0,256}(?:\x07|\x1b\\)|[@-Z\\-_])")
# C0 and C1 (ECMA-48), and the signs that turn or break lines (Unicode, UAX 9): what is shown must read as it is
_BIDIRECTIONAL = (0x061C, 0x200E, 0x200F, *range(0x202A, 0x202F), *range(0x2066, 0x206A), 0x2028, 0x2029)
_CONTROL = {c: None for c in (*range(32), *range(127, 160), *_BIDIRECTIONAL) if c not in (9, 10)}


def clean(text: str) -> str:
    """Text that may be shown, whatever its origin: without terminal sequences, control characters and signs that turn
    the direction of writing; tabs and line ends stay."""
    return _ANSI.sub("", text).replace("\r\n", "\n").replace("\r", "\n").translate(_CONTROL)


# what an error of the language means, by its kind or what it is a kind of; the nearest counts
_MEANING = {
    "TimeoutError": "no answer in time",
    "ConnectionRefusedError": "connection refused",
    "ConnectionResetError": "the connection was reset",
    "ConnectionError": "the connection was cut",
    "EOFError": "it hung up",
    "UnicodeDecodeError": "not in UTF-8",
    "FileNotFoundError": "no such file",
    "PermissionError": "not permitted",
    "IsADirectoryError": "a folder",
}


def in_words(error: BaseException, more: Mapping[str, str] = MappingProxyType({})) -> str:
    """What an error of somebody else's code means, in words; nothing of its own text, which may hold anything. `more`:
    what those of a library mean, by their kind."""
    known = {**_MEANING, **more}
    for kind in type(error).__mro__:
        if kind.__name__ in known:
            return known[kind.__name__]
    if isinstance(error, OSError) and error.strerror:
        return error.strerror.lower()
    apart = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", type(error).__name__.strip("_"))
    return re.sub(r" (error|exception)$", "", apart.lower()) or "an error"


class YardboltError(Exception):
    """Root of all errors raised on purpose. `exit_code` is what the command line ends with."""

    exit_code = 1

    def __init__(self, message: str = "") -> None:
        super().__init__(clean(message))


class OperatorError(YardboltError):
    """What was typed cannot be done."""

    exit_code = 2


class FileError(YardboltError):
    """A file is wrong. `line` counts from 1; 0 means the line is not known."""

    exit_code = 2

    def __init__(self, file: str, line: int, key: str, problem: str) -> None:
        self.file, self.line, self.key, self.problem = file, line, key, problem
        where = f"{file}:{line}" if line else file
        super().__init__(f"{where}: {key}: {problem}" if key else f"{where}: {problem}")


class FamilyError(FileError):
    """A family file is wrong."""


class SafeError(YardboltError):
    """The safe cannot be opened, read or written."""

    exit_code = 2


class Trouble(Enum):
    """What can go wrong on the way to a unit, told apart because the remedy differs."""

    UNREACHABLE = "unreachable"  # no route, or silence
    REFUSED = "refused"  # actively blocked
    CLOSED = "closed"  # the connection ended although nobody asked for it
    SILENT = "silent"  # connected, but no answer in time
    GARBLED = "garbled"  # an answer that is not in the protocol
    TOO_MUCH = "too much"  # more than the limit
    NO_LOGIN = "no login"  # the login did not open
    NOT_UNDERSTOOD = "not understood"  # the unit said no to what was sent


class UnitError(YardboltError):
    """The unit, or the way to it, did not do what was asked."""

    exit_code = 4

    def __init__(self, trouble: Trouble, message: str) -> None:
        self.trouble = trouble
        super().__init__(message)


class IdentityError(UnitError):
    """The unit that answers is not the one it should be."""

    exit_code = 5

    def __init__(self, message: str) -> None:
        super().__init__(Trouble.REFUSED, message)


class Stopped(YardboltError):
    """Work on a unit stopped part-way with its state known; what was done is in the record."""

    exit_code = 5
