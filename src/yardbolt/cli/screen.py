"""Printing for people: hanging indents that survive narrow terminals, states as words (colour only underlines them)."""

from __future__ import annotations

import io
import os
import shutil
import sys
from pathlib import Path
from typing import TextIO, cast

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from yardbolt.core.errors import OperatorError, clean

WIDEST = 150  # longer lines are hard to follow
STYLES = {
    "critical": "bold red",
    "high": "red",
    "medium": "yellow",
    "low": "cyan",
    "fails": "bold red",
    "holds": "green",
    "unknown": "magenta",
    "waived": "blue",
    "head": "bold",
    "faint": "dim",
    "good": "green",
    "bad": "bold red",
    "next": "bold",
}


Cell = str | tuple[str, str]


class _Trimmed:
    """A file that takes no blanks at the ends of lines: for pipes and files."""

    def __init__(self, file: TextIO) -> None:
        self._file, self._rest = file, ""

    def write(self, text: str) -> int:
        *lines, self._rest = (self._rest + text).split("\n")
        for line in lines:
            self._file.write(line.rstrip() + "\n")
        return len(text)

    def flush(self) -> None:
        self._file.flush()


class Screen:
    """Standard output, or a file. Cells are (text, style) pairs or plain texts."""

    def __init__(self, no_color: bool = False, output: Path | None = None) -> None:
        self.output = output
        plain = no_color or bool(os.environ.get("NO_COLOR")) or output is not None
        if output is not None and os.path.lexists(output):
            raise OperatorError(f"{output} is there already, and nothing is overwritten; name another file")
        if output is not None and not os.access(output.parent, os.W_OK):
            raise OperatorError(f"{output}: cannot be written: no such folder, or not for you")
        self._file: TextIO = io.StringIO() if output else sys.stdout
        here = not output and sys.stdout.isatty()
        width = min(shutil.get_terminal_size().columns, WIDEST) if here else 100
        trimmed = cast(TextIO, self._file if self._file.isatty() else _Trimmed(self._file))
        self.console = Console(
            file=trimmed,
            no_color=plain,
            highlight=False,
            markup=False,
            emoji=False,
            width=width,
            color_system=None if plain else "auto",
        )

    def close(self) -> None:
        """Write the file, whole and at once. Raises OperatorError; then nothing is there."""
        if self.output and isinstance(self._file, io.StringIO):
            try:
                with self.output.open("x", encoding="utf-8") as file:
                    file.write(self._file.getvalue())
            except OSError as e:
                raise OperatorError(f"{self.output}: cannot be written: {e.strerror}") from None

    def say(self, *cells: str | tuple[str, str], indent: int = 0) -> None:
        """One paragraph, wrapped under its own indent."""
        text = Text()
        for cell in cells:
            shown, style = cell if isinstance(cell, tuple) else (cell, "")
            text.append(clean(shown), STYLES.get(style, style))
        self.console.print(Padding(text, (0, 0, 0, indent), expand=False) if indent else text)

    def item(self, mark: str | tuple[str, str], *cells: str | tuple[str, str]) -> None:
        """One paragraph behind a mark, wrapped beside it."""
        first, style = mark if isinstance(mark, tuple) else (mark, "")
        text = Text()
        for cell in cells:
            shown, more = cell if isinstance(cell, tuple) else (cell, "")
            text.append(clean(shown), STYLES.get(more, more))
        for line in text.wrap(self.console, max(20, self.console.width - len(first))):
            self.console.print(Text.assemble((first, STYLES.get(style, style)), line))
            first = " " * len(first)

    def head(self, title: str, more: str = "") -> None:
        """A heading with a blank line before it."""
        self.console.print()
        self.say((title, "head"), (f"  {more}" if more else "", "faint"))

    def rows(self, rows: list[list[str | tuple[str, str]]], indent: int = 2, heads: list[str] | None = None) -> None:
        """A table without lines; where the terminal is narrow, one row becomes a small block. The second line of a
        cell is faint."""
        if self.console.width < 70 and rows and len(rows[0]) > 3:
            for row in rows:
                for name, cell in zip(heads or [""] * len(row), row, strict=False):
                    shown, style = cell if isinstance(cell, tuple) else (cell, "")
                    if shown:
                        self.say((f"{name}: " if name else "", "faint"), (shown, style), indent=indent)
                self.console.print()
            return
        table = Table(
            box=None, show_header=heads is not None, padding=(0, 2, 0, 0), pad_edge=False, header_style=STYLES["faint"]
        )
        for column in range(len(rows[0]) if rows else 0):
            table.add_column(heads[column] if heads else "", overflow="fold", no_wrap=False)
        for row in rows:
            table.add_row(*(self._cell(*(one if isinstance(one, tuple) else (one, ""))) for one in row))
        self.console.print(Padding(table, (0, 0, 0, indent), expand=False))

    def _cell(self, shown: str, style: str) -> Text:
        first, _, more = clean(shown).partition("\n")
        text = Text(first, STYLES.get(style, style))
        return text.append(f"\n{more}", STYLES["faint"]) if more else text

    def raw(self, text: str) -> None:
        """Text as it is, unwrapped: JSON, HTML."""
        self._file.write(text if text.endswith("\n") else text + "\n")
