"""Files: every complaint names file, line, key, what was found and what is allowed; schemas and documents cannot
drift."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import jsonschema
import pytest
import yaml

from tests.conftest import Tool
from yardbolt.adapters.files import load_baseline, load_family, load_job, shipped
from yardbolt.core.errors import FileError
from yardbolt.core.plan.foresight import bites

LOADERS: dict[str, Callable[[Path], object]] = {"demo": load_job, "baselines": load_baseline, "families": load_family}

BROKEN = [
    (
        "demo",
        "yard",
        "    serial: 004417",
        "    serail: 004417",
        ["LINE", "units.sk-sw-04.serail", "nearest is 'serial'"],
    ),
    ("demo", "yard", "restart: yes", "restart: on", ["LINE", "allows.restart", "found 'on'", "yes or no"]),
    ("demo", "yard", "at: 127.83.4.1\n", "at: 127.83.4\n", ["LINE", "units.sk-sw-04.at", "found '127.83.4'"]),
    ("demo", "yard", "segment: workshop", "segment: works", ["LINE", "found 'works'", "segments are workshop"]),
    ("demo", "yard", "network: 127.83.4.0/24", "network: 127.83.4.1/24", ["LINE", "has host bits set"]),
    (
        "demo",
        "yard",
        "stranger: 127.83.4.66",
        "stranger: 127.83.4.20",
        ["LINE", "is one of the administrators or monitoring"],
    ),
    (
        "demo",
        "yard",
        "rights: full",
        "rights: all",
        ["LINE", "accounts.lt-works.rights", "found 'all'", "allowed: full, change, read"],
    ),
    (
        "demo",
        "yard",
        "{rights: full, whose: Larkmoor Tramway works office}",
        "{rights: full, whose: x, by: snmp}",
        ["LINE", "lt-works.rights", "found 'full'", "'read' or 'change'"],
    ),
    (
        "demo",
        "yard",
        "    stranger: 127.83.4.66 ",
        "    stands in for: [127.83.4.99]\n    stranger: 127.83.4.66 ",
        ["LINE", "found '127.83.4.99'", "neither an administrator nor"],
    ),
    (
        "families",
        "osterlin-wr1",
        "codec: seconds",
        "codec: weeks",
        ["LINE", "codec", "weeks is not a codec", "seconds, minutes, hours, days, count"],
    ),
    ("families", "osterlin-wr1", "on: words, set", "on: wards, set", ["LINE", "wards is not an ask"]),
    ("families", "wendlock-lc2", "{auth: digest, page: /cab}", "{auth: kerberos, page: /cab}", ["LINE", "auth"]),
    ("demo", "yard", "technician:", "technician: [", ["not YAML"]),
    ("demo", "yard", "baseline: hand-tight", "baseline: hand-tight\nbaseline: snug", ["stands twice"]),
    ("demo", "yard", "owner: Larkmoor Tramway\n", "", ["owner", "is missing"]),
    ("baselines", "hand-tight", "rule: banner", "rule: baner", ["LINE", "found 'baner'", "nearest is 'banner'"]),
    (
        "baselines",
        "hand-tight",
        "{at most: 10 min}",
        "{at most: 10 weeks}",
        ["LINE", "at most", "'10 weeks' is not a length of time"],
    ),
    ("baselines", "hand-tight", "{at most: 10 min}", "{at most: 300 min}", ["LINE", "at most 3600"]),
    ("families", "corvane-rb3", "{works: factory,", "{works: glorious,", ["LINE", "'glorious' is not among: one-way"]),
    ("baselines", "hand-tight", "{at most: 10 min}", "{at least: 10 min}", ["LINE", "at least", "allowed: at most"]),
    (
        "families",
        "quenby-ql8",
        "rest after: idle",
        "rest after: idel",
        ["asks.plate.pairs.take.rest after", "idel is not on the plane; nearest is idle"],
    ),
    (
        "families",
        "quenby-ql8",
        "{key} {port:number}",
        "{key} {port:numbr}",
        ["asks.gates.rows.row", "numbr is not a kind of column"],
    ),
    (
        "families",
        "quenby-ql8",
        "idle: rest {value:minutes}",
        "idle: rest {valeu}",
        ["LINE", "ops.engrave idle.say", "{valeu} cannot be filled; nearest is {value}"],
    ),
    (
        "families",
        "quenby-ql8",
        "words: {open: yes, shut: no}",
        "words: {open: yes, ajar: yes}",
        ["values.services/*/enabled", "both mean yes"],
    ),
    ("families", "quenby-ql8", "        greeting: banner\n", "", ["ops.greeting", "which no ask reads"]),
    ("families", "quenby-ql8", "cuts: service", "cuts: services", ["ops.gate.cuts", "found 'services'", "'service'"]),
    (
        "families",
        "linux-server",
        "{section: keys}",
        "{section: key}",
        ["asks.keys.section", "key is not a section of the library"],
    ),
    (
        "families",
        "linux-server",
        "lacks: [idle, interfaces",
        "lacks: [identity/serial, interfaces",
        ["lacks", "every make has identity/serial"],
    ),
    (
        "families",
        "quenby-ql8",
        "log servers, staging",
        "log severs, staging",
        ["LINE", "without.1", "log severs is not what a kind of unit"],
    ),
    (
        "families",
        "quenby-ql8",
        "talk: console",
        "talk: consol",
        ["channels.board.talk", "found 'consol'", "console, commands"],
    ),
    ("families", "quenby-ql8", 'turn: " "', 'turm: " "', ["LINE", "channels.board.turm", "nearest is 'turn'"]),
    (
        "families",
        "quenby-ql8",
        "means: locked",
        "means: lockd",
        ["channels.board.replies.0.means", "found 'lockd'", "'locked'"],
    ),
    ("families", "quenby-ql8", "say: look plate", "sai: look plate", ["LINE", "asks.plate.sai", "nearest is 'say'"]),
    ("families", "quenby-ql8", "ssh: 2022", "shh: 2022", ["factory.ports.shh", "is not a service of a channel"]),
    ("families", "quenby-ql8", "copies: {live: [kept]}", "copies: {life: [kept]}", ["LINE", "ops.keep.copies.life"]),
]


BROKEN += [
    ("families", "linux-server", "{like: wrong-tries,", "{like: wrong-guesses,", ["LINE", "ops.release.like", "wrong-guesses is no op"]),
    ("families", "harrowfen-gd6", "/gate/ways?of={store}", "/gate/ways?of=force", ["asks.ways.stores", "{store} stands nowhere"]),
    ("families", "harrowfen-gd6", "  about:\n", "  ways.staged: {get: /x, leaves: {name: x}}\n  about:\n", ["asks.ways.stores", "an ask of that name already"]),
    ("families", "quenby-ql8", 'say: "engrave {word}"', 'say: "engrave {word}", does: save'.replace(", does", "\n    does"), ["ops.engrave.set", "stands without make, drop and does"]),
    ("families", "harrowfen-gd6", "stores: {live: force, staged: draft}, leaves", "stores: {live: force, drafty: draft}, leaves", ["LINE", "found 'drafty'"]),
    ("families", "harrowfen-gd6", "permitted: only_from", "permited: only_from", ["LINE", "accounts/*/permited is not on the plane"]),
    ("families", "linux-server", "policy/classes: minclass", "policy/clases: minclass", ["LINE", "policy/clases is not on the plane"]),
    ("families", "osterlin-wr1", "every:", "evry:", ["LINE", "nearest is 'every'"]),
    ("families", "quenby-ql8", "say: look seats", "say: look seats, block: seats", ["LINE", "seats is not a block"]),
    ("families", "quenby-ql8", 'turn: " "', 'ignore: ["{a"]', ["LINE", "braces do not match"]),
]  # fmt: skip

FORESEEN = [
    ("osterlin-wr1", "  services/http/port: \"8180\"\n", "", "http: who gets in is never sure: port of http was not read"),
    ("corvane-rb3", "without: [small appliance, log servers, staging, addresses per account]\nlacks: [accounts/*/enabled]\n", "", "nothing says what it cannot have"),
    ("quenby-ql8", "into: accounts, whole: yes", "into: accounts", "no ask reads accounts whole: nothing is ever missing there"),
    ("quenby-ql8", "{role} {enabled} {storage}", "{role} {skip} {storage}", "ssh: who gets in is never sure, for no ask reads accounts/*/enabled (or say"),
    ("quenby-ql8", 'secret: "Phrase: "', 'secret: "Hand: "', "channels.board: the sign 'Hand: ' stands for two things"),
    ("quenby-ql8", "gate: confirm", "gate: change", "channels.board: two gates are called change"),
    ("quenby-ql8", "        pattern: identity/model\n", "", "marks: no ask reads identity/model, so no unit is ever recognised"),
    ("quenby-ql8", "take: {count: stores/differences}", "take: {count: stores/waiting}", "no ask reads stores/differences"),
    ("quenby-ql8", "{set: [accounts/*/secret]", "{set: [accounts/*/role]", "no op sets accounts/*/secret"),
    ("quenby-ql8", "{make: [accounts/*], say: \"hire {key} {role}\"", "{set: [accounts/*/role], say: \"hire {key} {value}\"", "no op makes accounts/*"),
    ("quenby-ql8", "does: restart, ", "does: commit, ", "no op restarts it"),
    ("quenby-ql8", "{set: [services/*/permitted]", "{set: [services/*/enabled]", "no op sets services/*/permitted"),
    ("corvane-rb3", "{drop: [accounts/*]", "{set: [accounts/*/role]", "no op drops accounts/* or sets accounts/*/enabled"),
    ("harrowfen-gd6", "does: activate, post: /gate/enact, copies: {staged: [live, kept]}", "does: commit, post: /gate/enact", "and none puts it in force"),
    ("harrowfen-gd6", "stores/waiting: {at: edits, codec: count}, ", "", "no ask reads stores/waiting"),
    ("osterlin-wr1", "every:\n  asks: {store: staged}", "every:\n  asks: {store: kept}", "and no ask reads it (store: staged)"),
    ("osterlin-wr1", "      - {text: Not let in., means: refused}\n", "", "channels.desk: no reply means refused"),
    ("wendlock-lc2", "keys:\n", "keys:\n  snmp: {a: b}\n", "keys: no ask reads snmp"),
    ("brackmere-ix5", "values:\n", "values:\n  clock/servers: {join: \",\"}\n", "values: no ask reads clock/servers"),
    ("brackmere-ix5", "facts:\n", "facts:\n  services/ftp/enabled: yes\n", "services/ftp: no channel carries it"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "right", "wrong", "told"), FORESEEN)
def test_a_sound_file_that_would_bite_later_is_told_so(
    tmp_path: Path, name: str, right: str, wrong: str, told: str
) -> None:
    """What could not be done on any unit of the make, or never be sure, is said of the file; and of the shipped ones
    only what is so."""
    text = shipped("families")[name].read_text()
    assert right in text and not any(told in one for one in bites(load_family(shipped("families")[name])))
    file = tmp_path / "bites.yaml"
    file.write_text(text.replace(right, wrong, 1))
    assert [one for one in bites(load_family(file)) if told in one]


@pytest.mark.parametrize(
    ("kind", "name", "right", "wrong", "told"), BROKEN, ids=[f"{b[1]}-{n}" for n, b in enumerate(BROKEN)]
)
def test_wrong_files_are_named_to_the_line(
    tmp_path: Path, kind: str, name: str, right: str, wrong: str, told: list[str]
) -> None:
    """One thing wrong, one complaint: file, line, key, found, allowed or nearest."""
    text = shipped(kind)[name].read_text()
    assert right in text
    file = tmp_path / "wrong.yaml"
    file.write_text(text.replace(right, wrong, 1))
    with pytest.raises(FileError) as e:
        LOADERS[kind](file)
    message = str(e.value)
    assert message.startswith(f"{file}:") and "\n" not in message
    line = file.read_text()[: file.read_text().index(wrong.strip("\n").split("\n")[0])].count("\n") + 1
    assert all((f"{file}:{line}: " if t == "LINE" else t) in message for t in told), message


def test_scalars_are_read_as_text(tmp_path: Path) -> None:
    """A serial 004417 stays that, a key `on` stays a key, and neither no nor 1e3 turns into something else."""
    file = tmp_path / "yard.yaml"
    text = (
        shipped("demo")["yard"]
        .read_text()
        .replace("  sk-sw-04:", "  on:")
        .replace("technician: Ros Tamblin", "technician: no")
        .replace("class: line-switch", "class: 1e3")
    )
    file.write_text(text.replace("  line-switch: [ssh]", "  1e3: [ssh]"))
    job = load_job(file)
    unit = job.units["on"]
    assert (unit.serial, job.technician, unit.needed) == ("004417", "no", frozenset({"ssh"}))
    file.write_text("&a [*a]")
    with pytest.raises(FileError):
        load_job(file)
    file.write_bytes(b"\xff\xfe\x00")
    with pytest.raises(FileError, match="not a text file"):
        load_job(file)


SHOWN = {
    "job": ("demo", ("new", "--schema")),
    "baseline": ("baselines", ("baseline", "schema")),
    "family": ("families", ("family", "schema")),
}


@pytest.mark.parametrize("which", SHOWN)
def test_printed_schemas_take_the_shipped_files(which: str, tool: Tool) -> None:
    """The schema a user prints is valid JSON Schema, takes what ships and refuses an unknown key, of a way of talking
    too."""
    kind, args = SHOWN[which]
    printed = json.loads(tool(*args))
    jsonschema.Draft202012Validator.check_schema(printed)
    validator = jsonschema.Draft202012Validator(printed)
    for file in shipped(kind).values():
        tree = yaml.load(file.read_text(), Loader=yaml.BaseLoader)
        validator.validate(tree)
        spoiled = [{**tree, "unknown": "x"}]
        if which == "family" and "channels" in tree:
            name, channel = next(iter(tree["channels"].items()))
            spoiled.append({**tree, "channels": {name: {**channel, "unknown": "x"}}})
        for wrong in spoiled:
            with pytest.raises(jsonschema.ValidationError):
                validator.validate(wrong)


def test_usage_errors_are_one_line_and_leave_nothing_half_written(tool: Tool) -> None:
    """Wrong flags, files, units, CSV: one line, exit code 2, no folder, no safe."""
    for args, words in (
        (("check",), "no job file"),
        (("chekc",), "No such command"),
        (("new", "x", "--from", "none.csv"), "cannot be read as CSV"),
        (("records", "show", "x"), "Invalid value"),
        (("family", "check", "nothing.yaml"), "cannot be read"),
        (("sheet", "--format", "pdf"), "allowed"),
        (("check", "--ports", "9-1"), "a range is wanted"),
        (("steps", "--found", "all"), "allowed: keep"),
        (("new", "x", "--demo", "--network", "10.0.0"), "127.x.y.z"),
        (("bench", "fault", "fire", "--state", "."), "faults are"),
    ):
        assert words in tool.error(*args, code=2), args
    (tool.folder / "units.csv").write_text(
        "name,family,at,segment,serial\nsw-1,quenby-ql8,192.0.2.7,workshop,000123\nsw-2,quenby-ql8,192.0.2,workshop,9\n"
    )
    assert "units.sw-2.at: found '192.0.2'" in tool.error("new", "yard", "--from", "units.csv", code=2)
    assert not list(tool.folder.glob("yard/*"))
    (tool.folder / "units.csv").write_text("name,family,at,segment,serial\nsw-1,quenby-ql8,192.0.2.7,depot,000123\n")
    made = tool("new", "yard", "--from", "units.csv")
    file = tool.folder / "yard" / "yard.yaml"
    with pytest.raises(FileError, match=r"yard.yaml:2: job: still says 'what is done, and where'"):
        load_job(file)
    text = file.read_text()
    for words in ("what is done, and where", "whose units these are", "who does it"):
        text = text.replace(words, "Skerrow line")
    file.write_text(text)
    made_job = load_job(file)
    assert "fill in yard.yaml" in made and made_job.units["sw-1"].serial == "000123" and "depot" in made_job.segments
    assert made_job.units["sw-1"].needed == {"ssh"}
    assert "is there already" in tool.error("new", "yard", code=2)
    got = tool.run("steps", "sw-9", cwd=tool.folder / "yard")
    assert got.returncode == 2 and "units are sw-1" in got.stderr
    (tool.folder / "yard" / "record.sqlite").write_bytes(b"not a database, but long enough to be taken for one" * 40)
    got = tool.run("records", cwd=tool.folder / "yard")
    assert got.returncode == 2 and len(got.stderr.splitlines()) == 1 and "record.sqlite" in got.stderr


def test_nothing_of_the_owner_is_overwritten_or_left_open(job: Tool, tmp_path: Path) -> None:
    """Reports go to new files alone; links are not followed where a lock is made, and followed where the safe is
    written; a safe others can read is closed to them; what cannot be the safe is named in one line."""
    safe = job.folder / "safe.kdbx"
    was = safe.read_bytes()
    assert "nothing is overwritten" in job.error("check", "--output", "safe.kdbx", code=2) and safe.read_bytes() == was
    precious, stick = tmp_path / "precious", tmp_path / "elsewhere.kdbx"
    precious.write_text("kept")
    (job.folder / ".sk-sw-04.lock").symlink_to(precious)
    assert "cannot be written" in job.run("enter", "--yes", "--this-one").stderr
    assert precious.read_text() == "kept"
    (job.folder / ".sk-sw-04.lock").unlink()
    copy = job.folder / "stick" / "safe.kdbx"
    copy.rename(stick)
    copy.symlink_to(stick)
    safe.chmod(0o644)
    got = job.run("enter", "--yes", "--this-one")
    assert got.returncode == 0 and "open to others" in got.stderr, got
    assert copy.is_symlink() and stick.read_bytes() == safe.read_bytes() != was and not safe.stat().st_mode & 0o77
    text = (job.folder / "yard.yaml").read_text()
    (job.folder / "same.yaml").write_text(text.replace("copy: stick/safe.kdbx", "copy: safe.kdbx"))
    assert "the safe itself" in job.error("job", "check", "same.yaml", code=2)
    copy.unlink()
    copy.symlink_to(safe)
    assert "the safe itself" in job.error("safe", "check", code=2)
    safe.unlink()
    safe.mkdir()
    assert "is no file" in job.error("safe", "list", code=2)
    row = "[" + ", ".join(["*a"] * 9) + "]"
    bomb = "a: &a [x, x]\n" + "".join(f"{b}: &{b} {row.replace('*a', '*' + a)}\n" for a, b in pairwise("abcdefgh"))
    (job.folder / "bomb.yaml").write_text(bomb)
    assert "aliases counted" in job.error("job", "check", "bomb.yaml", code=2)
    job.env["YARDBOLT_MASTER"] = "short"
    assert "12 characters" in job.error("new", "more", code=2) and not (job.folder / "more").exists()
    shut = subprocess.run(f"exec {sys.executable} -m yardbolt family list >&-", shell=True, env=job.env, capture_output=True, text=True)  # fmt: skip
    assert shut.returncode == 2 and shut.stderr == "yardbolt: standard output is closed, so nothing can be shown\n"
