"""The library of what is run on a host, from the files it ships in."""

from __future__ import annotations

from functools import cache
from importlib.resources import files as resources
from pathlib import Path

from yardbolt.core.formats.library import Library, library_of

from .yamlfile import document


@cache
def library() -> Library:
    """The library that ships with the program."""
    folder = Path(str(resources("yardbolt") / "data" / "hosts"))
    return library_of(document(folder / "hosts.yaml").tree, texts(folder))


def texts(folder: Path) -> dict[str, str]:
    """Every text of a folder, by its name: of shell without the ending."""
    found = (path for path in sorted(folder.glob("*/*")) if path.is_file())
    return {f"{path.parent.name}/{path.name.removesuffix('.sh')}": path.read_text() for path in found}
