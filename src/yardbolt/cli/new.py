"""`new`: a job folder with its file and an empty safe. Nothing that is there is overwritten."""

from __future__ import annotations

import csv
import json
import sys
from importlib.resources import files as resources
from pathlib import Path

from yardbolt.core.errors import FileError, OperatorError, in_words

from . import wiring
from .keyboard import master_password
from .yard import place_of

COLUMNS = ("name", "family", "at", "segment", "class", "serial", "hardware", "note")
NEEDED = COLUMNS[:4]
EXAMPLE = {"name": "unit-1", "family": "quenby-ql8", "at": "192.0.2.1", "segment": "workshop", "serial": ""}
DEMO_NETWORK = "127.83.4"


def new(folder: Path | None, units: Path | None, demo: bool, network: str, key_file: Path | None) -> int:
    """Make a job folder."""
    if folder is None:
        raise OperatorError("say where: yardbolt new FOLDER")
    target = folder / "yard.yaml"
    if target.exists():
        raise OperatorError(f"{target} is there already; nothing was changed")
    text = _demo_text(network) if demo else _text(units)
    if key_file and not key_file.is_file():
        raise OperatorError(f"{key_file}: no such key file")
    master = None if key_file else master_password(confirm=True)
    fresh = not folder.exists()
    folder.mkdir(parents=True, exist_ok=True)
    draft = folder / "yard.yaml.draft"
    wiring.write_whole(draft, text.encode())
    try:
        made = wiring.load_job(draft, edited=demo)
    except FileError as e:
        draft.unlink()
        if fresh:
            folder.rmdir()
        raise FileError(str(units or target), 0, e.key, e.problem) from None
    copy = place_of(target, made.copy) if made.copy else None
    wiring.make_safe(place_of(target, made.safe), master, key_file, copy)
    draft.rename(target)
    told = f" with its copy {folder / made.copy}" if made.copy else ""
    sys.stdout.write(f"made {target} and {folder / made.safe}{told}\n")
    sys.stdout.write(f"next: {'' if demo else 'fill in yard.yaml, then '}cd {folder} && yardbolt check\n")
    return 0


def add(units: Path, job: Path) -> int:
    """Add units to a job file, after those that are there. Nothing is written unless the whole file stays sound."""
    if not job.is_file():
        raise OperatorError(f"no job file {job}; begin one with 'yardbolt new FOLDER --from {units}'")
    rows = _units_from(units)
    text = job.read_text("utf-8").rstrip("\n") + "\n"
    there = wiring.load_job(job, edited=False).units
    if twice := next((row["name"] for row in rows if row["name"] in there), ""):
        raise FileError(str(units), 0, "name", f"{twice} is in {job} already")
    draft = job.with_name(f"{job.name}.draft")
    wiring.write_whole(draft, (text + "".join(map(_unit_yaml, rows))).encode())
    try:
        wiring.load_job(draft, edited=False)
    except FileError as e:
        raise FileError(str(units), 0, e.key, e.problem) from None
    else:
        draft.replace(job)
    finally:
        draft.unlink(missing_ok=True)
    sys.stdout.write(f"added {len(rows)} to {job}\nnext: yardbolt job check {job}\n")
    return 0


def _demo_text(network: str) -> str:
    """The demo's job, on the network the bench was put up on: the first three numbers of its addresses."""
    parts = network.split(".")
    if len(parts) != 3 or parts[0] != "127" or not all(p.isascii() and p.isdigit() and int(p) < 256 for p in parts):
        raise OperatorError(f"--network: found '{network}'; the first three numbers of a 127.x.y.z network are wanted")
    text = (resources("yardbolt") / "data" / "demo" / "yard.yaml").read_text("utf-8")
    return text.replace(f"{DEMO_NETWORK}.", f"{network}.")


def _text(units: Path | None) -> str:
    text = (resources("yardbolt") / "data" / "new.yaml").read_text("utf-8")
    rows = _units_from(units) if units else [EXAMPLE]
    return _with_segments(text, list(dict.fromkeys(row["segment"] for row in rows))) + "".join(map(_unit_yaml, rows))


def _with_segments(text: str, names: list[str]) -> str:
    """The template with a block for each segment the units go to."""
    head, _, tail = text.partition("  workshop:\n")
    lines, _, rest = tail.partition("\n\n")
    return head + "".join(f"  {json.dumps(name)}:\n{lines}\n" for name in names) + "\n" + rest


def _units_from(path: Path) -> list[dict[str, str]]:
    try:
        with path.open(newline="", encoding="utf-8-sig") as source:
            rows = _rows(path, csv.DictReader(source))
    except (OSError, UnicodeDecodeError, csv.Error) as e:
        raise FileError(str(path), 0, "", f"cannot be read as CSV ({in_words(e)})") from None
    names = [row["name"] for row in rows]
    if twice := next((name for name in names if names.count(name) > 1), ""):
        raise FileError(str(path), 0, "name", f"{twice} stands twice")
    if not rows:
        raise FileError(str(path), 0, "", "no units in it")
    return rows


def _rows(path: Path, reader: csv.DictReader[str]) -> list[dict[str, str]]:
    columns = reader.fieldnames or ()
    unknown = [column for column in columns if column not in COLUMNS]
    missing = [column for column in NEEDED if column not in columns]
    if unknown or missing:
        what = f"no column '{missing[0]}'" if missing else f"found column '{unknown[0]}'"
        raise FileError(str(path), 1, "", f"{what}; columns are {', '.join(COLUMNS)}")
    rows = []
    for row in reader:
        if any(row.get(column) is None for column in columns):
            raise FileError(str(path), reader.line_num, "", "too few columns in this line")
        if None in row:
            raise FileError(str(path), reader.line_num, "", "too many columns in this line")
        rows.append(row)
    return rows


def _unit_yaml(row: dict[str, str]) -> str:
    lines = [f"  {json.dumps(row['name'])}:\n"]
    lines += [f"    {c}: {json.dumps(row[c], ensure_ascii=False)}\n" for c in COLUMNS[1:] if row.get(c)]
    return "".join(lines)
