"""The library of what is run on a host: sections that read it and programs that change it, in POSIX shell.

Their texts are files, with a manifest that says what each takes, touches and leaves behind; this puts a text together
from them. `#@ lib/NAME` on a line of its own takes in another text, `#@ known/NAME` a table that decoders and
programs share, so that both know the same names and ports."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from ..talk.host.script import SURROUNDINGS
from .decode.listening import FOR_OTHERS, INETD, OF_THE_HOST, PORTS, PROGRAMS, WEB

TAKES_IN = "#@ "
BEGIN = f"{SURROUNDINGS}export DEBIAN_FRONTEND=noninteractive\n"


@dataclass(frozen=True)
class Section:
    """One section: what it reads, in words, its text, its decoder, with which rights it runs (as the account, as
    root, or as root where that is to be had: `best`), and whether JSON stands `below` its lines."""

    name: str
    meaning: str
    text: str
    decode: str
    rights: Literal["", "root", "best"] = "root"
    tree: Literal["", "below"] = ""


@dataclass(frozen=True)
class Program:
    """A program that writes: what it does, in words, the variables it takes, what it touches, by what it is undone,
    and its whole text. `ends`: it ends what is at work, and does not wait for it. `guarded`: it does nothing where no
    timed return is armed."""

    name: str
    meaning: str
    takes: tuple[str, ...]
    touches: tuple[str, ...]
    undone: str
    text: str
    ends: bool = False
    guarded: bool = False


@dataclass(frozen=True)
class Library:
    """Everything there is to run on a host, by name."""

    sections: Mapping[str, Section]
    programs: Mapping[str, Program]


NOTHING_TO_RUN = Library({}, {})
_RIGHTS: Mapping[str, Literal["", "root", "best"]] = {"account": "", "root": "root", "best": "best"}


def library_of(manifest: Mapping[str, Any], texts: Mapping[str, str]) -> Library:
    """The library of a manifest and its texts (name -> text). Raises KeyError where a text, or a key, is not there."""
    every = {**texts, **known()}
    sections = {
        name: Section(
            name,
            one["meaning"],
            expanded(every, f"read/{name}"),
            one["decode"],
            _RIGHTS[one.get("rights", "root")],
            "below" if one.get("json") == "below" else "",
        )
        for name, one in manifest["sections"].items()
    }
    programs = {}
    for name, one in manifest["programs"].items():
        ends, guarded = one.get("ends") == "yes", one.get("guarded") == "yes"
        parts = [
            "lib/common",
            "lib/at-work",
            *(() if ends else ("lib/alone",)),
            "lib/begun",
            *(("lib/armed",) if guarded else ()),
        ]
        before = [expanded(every, part) for part in parts]
        before.insert(2, "end_work\n" if ends else "")
        text = "".join((BEGIN, *before, expanded(every, f"write/{name}")))
        programs[name] = Program(
            name,
            one["meaning"],
            tuple(one.get("takes", ())),
            tuple(one.get("touches", ())),
            one["undone"],
            text,
            ends,
            guarded,
        )
    return Library(sections, programs)


def expanded(texts: Mapping[str, str], name: str) -> str:
    """A text with everything it takes in, without remarks. Raises KeyError."""
    return "".join(f"{line}\n" for line in _lines(texts, name))


def _lines(texts: Mapping[str, str], name: str) -> Iterator[str]:
    # what is written to the host keeps its remarks, for anyone who finds it there
    stays = name.startswith("host/")
    for line in texts[name].rstrip("\n").split("\n"):
        if line.startswith(TAKES_IN):
            yield from _lines(texts, line.removeprefix(TAKES_IN).strip())
        elif stays or not (line.lstrip().startswith("# ") or not line.strip()):
            yield line


def known() -> dict[str, str]:
    """Tables that the decoders go by too, as pieces of shell."""
    services = sorted({*PROGRAMS.values()} - {INETD})
    spared = sorted({*OF_THE_HOST, *FOR_OTHERS} | {name for name, service in PROGRAMS.items() if service == INETD})
    taken = r"\|".join(f"{kind}:{port}" for kind, port in sorted(PORTS))
    return {
        "known/programs": "\n".join(
            f"  {service}) echo '{' '.join(sorted(name for name, known in PROGRAMS.items() if known == service))}';;"
            for service in services
        ),
        "known/ports": "\n".join(
            f"  {service}) echo "
            f"'{' '.join(sorted(f'{by}:{port}' for (by, port), name in PORTS.items() if name == service))}';;"
            for service in sorted({*PORTS.values()})
        ),
        "known/taken": f"TAKEN='{taken}'",
        "known/web": f"WEB='{' '.join(sorted(WEB))}'",
        "known/spared": f"SPARED='{'|'.join(spared)}'",
    }
