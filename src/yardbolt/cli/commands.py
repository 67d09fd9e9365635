"""The bodies of the commands: wire, call a use case, show what came of it, give the exit code."""

from __future__ import annotations

import asyncio
import csv
import json
import sys
from importlib.resources import files as resources
from pathlib import Path
from typing import Any

from yardbolt import __version__
from yardbolt.core.errors import FileError, OperatorError, YardboltError
from yardbolt.core.rules.rule import State
from yardbolt.core.secret import Ref, Secret
from yardbolt.core.steps import Refused

from . import views, wiring
from .options import worst
from .screen import Screen

FORMS = ("text", "json")


def _form(form: str, allowed: tuple[str, ...] = FORMS) -> str:
    if form not in allowed:
        raise OperatorError(f"--format: found '{form}'; allowed: {', '.join(allowed)}")
    return form


def version() -> int:
    """The version."""
    sys.stdout.write(f"yardbolt {__version__}\n")
    return 0


def board(job: Path, no_color: bool) -> int:
    """The job board, or where to begin."""
    if not job.is_file():
        sys.stdout.write(
            "No job here. Begin with one of:\n"
            "  yardbolt demo                     the whole job on a simulated unit\n"
            "  yardbolt new FOLDER               a job of your own\n"
            "  yardbolt check --at ADDRESS       look at any host from outside\n"
        )
        return 0 if job == Path("yard.yaml") else 2
    from yardbolt.application.handover import stage

    yard = wiring.Yard(job)
    s = Screen(no_color)
    views.board(s, [stage(yard.desk(name)) for name in yard.job.units], f"{yard.job.title}, for {yard.job.owner}")
    return 0


# ---- new --------------------------------------------------------------------------------------------------------------------

COLUMNS = ("name", "family", "at", "segment", "class", "serial", "hardware", "note")


def new(folder: Path | None, units: Path | None, demo: bool, key_file: Path | None) -> int:
    """Make a job folder. Nothing that is there is overwritten."""
    if folder is None:
        raise OperatorError("say where: yardbolt new FOLDER")
    target = folder / "yard.yaml"
    if target.exists():
        raise OperatorError(f"{target} is there already; nothing was changed")
    text = (resources("yardbolt") / "data" / "demo" / "yard.yaml").read_text("utf-8")
    if not demo:
        text = (resources("yardbolt") / "data" / "new.yaml").read_text("utf-8")
        rows = _units_from(units) if units else [{"name": "unit-1", "family": "quenby-ql8", "at": "192.0.2.1", "segment": "workshop", "serial": ""}]
        text += "".join(_unit_yaml(r) for r in rows)
    from yardbolt.adapters import safe as safes
    from yardbolt.adapters.files import load_job
    from yardbolt.adapters.safe import write_atomically

    if key_file and not key_file.is_file():
        raise OperatorError(f"{key_file}: no such key file")
    master = None if key_file else wiring.master_password(confirm=True)
    folder.mkdir(parents=True, exist_ok=True)
    draft = folder / "yard.yaml.draft"
    write_atomically(draft, text.encode())
    try:
        made = load_job(draft)
    except FileError as e:
        draft.unlink()
        raise FileError(str(units or target), 0, e.key, e.problem) from None
    safes.create(wiring.place_of(target, made.safe), master, key_file, wiring.place_of(target, made.copy) if made.copy else None)
    draft.rename(target)
    sys.stdout.write(f"made {target} and {folder / made.safe}" + (f" with its copy {folder / made.copy}" if made.copy else "") + "\n")
    sys.stdout.write(f"next: {'' if demo else 'fill in yard.yaml, then '}cd {folder} && yardbolt check\n")
    return 0


def _units_from(path: Path) -> list[dict[str, str]]:
    try:
        with path.open(newline="", encoding="utf-8-sig") as f:
            reader = csv.DictReader(f)
            unknown = [c for c in reader.fieldnames or () if c not in COLUMNS]
            missing = [c for c in COLUMNS[:4] if c not in (reader.fieldnames or ())]
            if unknown or missing:
                what = f"no column '{missing[0]}'" if missing else f"found column '{unknown[0]}'"
                raise FileError(str(path), 1, "", f"{what}; columns are {', '.join(COLUMNS)}")
            rows = []
            for row in reader:
                if any(row.get(c) is None for c in reader.fieldnames or ()):
                    raise FileError(str(path), reader.line_num, "", "too few columns in this line")
                if None in row:
                    raise FileError(str(path), reader.line_num, "", "too many columns in this line")
                rows.append(row)
    except (OSError, UnicodeDecodeError, csv.Error) as e:
        raise FileError(str(path), 0, "", f"cannot be read as CSV ({type(e).__name__})") from None
    names = [r["name"] for r in rows]
    if twice := next((n for n in names if names.count(n) > 1), ""):
        raise FileError(str(path), 0, "name", f"{twice} stands twice")
    if not rows:
        raise FileError(str(path), 0, "", "no units in it")
    return rows


def _unit_yaml(row: dict[str, str]) -> str:
    lines = [f"  {json.dumps(row['name'])}:\n"]
    lines += [f"    {c}: {json.dumps(row[c], ensure_ascii=False)}\n" for c in COLUMNS[1:] if row.get(c)]
    return "".join(lines)


# ---- check, enter, steps, tighten, prove -------------------------------------------------------------------------------------


def _findings_code(states: list[State], complete: bool) -> int:
    if State.FAILS in states:
        return 3
    return 4 if State.UNKNOWN in states or not complete else 0


def check(
    units: list[str] | None, job: Path, account: str, ssh_key: Path | None, outside: bool, full: bool, key_file: Path | None, form: str,
    output: Path | None, jobs: int, quiet: bool, no_color: bool,
) -> int:  # fmt: skip
    """Check units and show what was found."""
    from yardbolt.application.check import check as run

    _form(form)
    yard = wiring.Yard(job, quiet)
    names = yard.units(units)
    if not outside and yard.needs_safe(names):
        yard.open_safe(key_file)
    typed = wiring.ask_secret(f"Password of {account}: ") if account and not ssh_key else None
    s = Screen(no_color, output)
    documents: dict[str, Any] = {}
    shown = 0

    async def work(name: str) -> int:
        nonlocal shown
        desk = yard.desk(name)
        as_whom = account or (desk.unit.account if ssh_key else "")
        if as_whom:
            from dataclasses import replace

            desk.unit = replace(desk.unit, account=as_whom)
            if ssh_key:
                desk.key_file = str(ssh_key)
                desk.typed[Ref("typed:key")] = Secret("")
            elif typed:
                desk.typed[Ref("typed:0")] = typed
        got = await run(desk, not outside)
        yard.progress.clear()
        if form == "json":
            documents[name] = yard.records.latest(name, "check")
        else:
            if shown:
                s.line("")
            views.checked(s, got, desk, full)
            from yardbolt.application.handover import stage

            s.line("")
            s.line(("Next: ", "next"), stage(desk)["next"])
        shown += 1
        return _findings_code([f.state for f in got.findings], got.reading is not None)

    code = wiring.each(yard, names, jobs, work)
    if form == "json":
        s.raw(json.dumps(documents, indent=2, sort_keys=True))
    s.close()
    return code


def _agree(question: str, yes: bool) -> bool:
    if yes:
        return True
    if not sys.stdin.isatty():
        raise OperatorError("this needs approval and nobody is at the keyboard; look at it first, then say --yes")
    sys.stdout.flush()
    return input(f"{question} (yes/no) ").strip().lower() == "yes"


def enter(units: list[str] | None, job: Path, yes: bool, key_file: Path | None, quiet: bool, no_color: bool) -> int:
    """The approved first entry of units, one after the other."""
    from yardbolt.application.enter import enter as run
    from yardbolt.application.enter import questions

    yard = wiring.Yard(job, quiet)
    names = yard.units(units)
    yard.open_safe(key_file)
    s = Screen(no_color)

    async def work(name: str) -> int:
        desk = yard.desk(name)
        with wiring.alone(job, name):
            asked = await questions(desk)
            yard.progress.clear()
            s.line((name, "head"), f"  {desk.family.title}  {desk.unit.address}")
            if asked:
                s.head("It asks", "found by logging in and answering nothing")
                for q in asked:
                    what = {"terms": "licence terms", "change": f"a new password for {q.account}"}.get(q.gate, q.gate)
                    s.line((f"{what} ", "head"), (f"(at the login of {q.account})", "faint"), indent=2)
                said = next((q.said for q in asked if q.gate == "terms"), "")
                for line in said.split("\n") if said else ():
                    s.line((f"| {line}", "faint"), indent=4)
                s.line("")
                if said:
                    s.line(f"Accepting binds the owner; the job file names: {desk.job.allows.terms or 'nobody'}", indent=2)
                later = {g.name for g in desk.family.console.gates} - {q.gate for q in asked} - {"confirm"} if desk.family.console else set()
                if "change" in later:
                    s.line("Behind that it may ask for a new password; approving approves that too.", indent=2)
                s.line(f"Each new password rests in {desk.job.safe} and its copy before it is sent.", indent=2)
            else:
                s.line("It asks nothing more.", indent=2)
            if asked and not _agree(f"Enter {name}?", yes):
                raise OperatorError(f"{name}: not approved; nothing was changed")
            got = await run(desk, asked)
            yard.progress.clear()
            s.head("Done")
            for line in got.done:
                s.line(line, indent=2)
            s.line("")
            views.checked(s, got.checked, desk, False)
            s.line("")
            s.line(("Next: ", "next"), f"yardbolt steps {name}")
            return 0

    return wiring.each(yard, names, 1, work)


def steps(units: list[str] | None, job: Path, leaps: frozenset[str], found: str, form: str, output: Path | None, no_color: bool) -> int:
    """The rehearsed step sheets."""
    from yardbolt.application.plan import change_key
    from yardbolt.application.plan import steps as run

    _form(form)
    yard = wiring.Yard(job)
    s = Screen(no_color, output)
    documents: dict[str, Any] = {}
    codes = []
    for name in yard.units(units):
        desk = yard.desk(name)
        try:
            got = run(desk, leaps, found)
        except YardboltError as e:
            sys.stderr.write(f"yardbolt: {e}\n")
            codes.append(e.exit_code)
            continue
        if form == "json":
            sheet = got.sheet
            documents[name] = {"refused": list(sheet.why)} if isinstance(sheet, Refused) else {
                "steps": [{"kind": x.kind.value, "does": views.step_words(x, got.plane), "change": change_key(x.change) if x.change else None, "phase": x.phase,
                           "reason": x.reason, "hold": x.hold.value, "still in by": [f"{w.account} by {w.service}" for w in x.still], "back-out": x.back}
                          for x in sheet.steps],
                "gaps": [{"path": "/".join(g.path), "why": g.why, "rule": g.rule} for g in got.gaps],
            }  # fmt: skip
        else:
            views.plan(s, got, desk)
            if not isinstance(got.sheet, Refused) and got.sheet.steps:
                s.line("")
                s.line(("Next: ", "next"), f"yardbolt tighten {name}")
        codes.append(5 if isinstance(got.sheet, Refused) else 4 if got.gaps else 0)
    if form == "json":
        s.raw(json.dumps(documents, indent=2))
    s.close()
    return worst(codes)


def tighten(
    units: list[str] | None,
    job: Path,
    yes: bool,
    leaps: frozenset[str],
    found: str,
    anew: bool,
    key_file: Path | None,
    jobs: int,
    quiet: bool,
    no_color: bool,
) -> int:
    """Carry out the sheets."""
    from yardbolt.application.plan import Plan
    from yardbolt.application.tighten import tighten as run

    yard = wiring.Yard(job, quiet)
    names = yard.units(units)
    yard.open_safe(key_file)
    s = Screen(no_color)
    desk_turn = asyncio.Lock()

    async def work(name: str) -> int:
        desk = yard.desk(name)

        async def approve(made: Plan, resumed: bool) -> bool:
            async with desk_turn:
                yard.progress.clear()
                if resumed:
                    s.line((name, "head"), "  an earlier run was cut off; what is left of the approved changes:")
                views.plan(s, made, desk)
                s.line("")
                assert not isinstance(made.sheet, Refused)
                return _agree(f"Carry out these {len(made.sheet.steps)} steps on {name}?", yes)

        with wiring.alone(job, name):
            got = await run(desk, approve, leaps, found, anew)
        yard.progress.clear()
        if got.ended is None:
            s.line((name, "head"), "  nothing to change: it is as it should be")
        else:
            s.line(
                (name, "head"),
                f"  all {got.ended.at} steps done, each read back",
                (" (taken up where it was cut off)" if got.resumed else "", "faint"),
            )
        assert got.proven is not None
        s.line("")
        views.proven(s, got.proven, desk)
        s.line("")
        s.line(("Next: ", "next"), f"yardbolt sheet {name}")
        return _proven_code(got.proven)

    return wiring.each(yard, names, jobs, work)


def _proven_code(p: Any) -> int:
    from yardbolt.core.proofs import Result

    if any(x.result is Result.FAILS for x in p.proofs) or p.unplanned or p.missing:
        return 3
    states = [f.state for f in p.findings]
    return _findings_code(states, not any(x.result is Result.NOT_TRIED for x in p.proofs))


def prove(units: list[str] | None, job: Path, key_file: Path | None, form: str, output: Path | None, jobs: int, quiet: bool, no_color: bool) -> int:
    """Try everything out."""
    from yardbolt.application.prove import prove as run

    _form(form)
    yard = wiring.Yard(job, quiet)
    names = yard.units(units)
    yard.open_safe(key_file)
    s = Screen(no_color, output)
    documents: dict[str, Any] = {}

    async def work(name: str) -> int:
        desk = yard.desk(name)
        got = await run(desk)
        yard.progress.clear()
        if form == "json":
            documents[name] = got.document
        else:
            views.proven(s, got, desk)
            s.line("")
            s.line(("Next: ", "next"), f"yardbolt sheet {name}")
        return _proven_code(got)

    code = wiring.each(yard, names, jobs, work)
    if form == "json":
        s.raw(json.dumps(documents, indent=2, sort_keys=True))
    s.close()
    return code


def sheet(units: list[str] | None, job: Path, form: str, output: Path | None) -> int:
    """Write the hand-over sheets."""
    from yardbolt.adapters.safe import write_atomically
    from yardbolt.application.handover import record
    from yardbolt.reports import FORMATS

    forms = list(FORMATS) if form == "all" else [_form(form, (*FORMATS, "all"))]
    yard = wiring.Yard(job)
    folder = output or job.parent / "sheets"
    endings = {"text": "txt", "json": "json", "html": "html"}
    codes = []
    for name in yard.units(units):
        desk = yard.desk(name)
        try:
            made = record(desk)
        except YardboltError as e:
            sys.stderr.write(f"yardbolt: {e}\n")
            codes.append(e.exit_code)
            continue
        day = made["left"]["time"][:10]
        for f in forms:
            path = folder / f"{name}-{day}-{'as-left' if made['left']['proven'] else 'as-found'}.{endings[f]}"
            try:
                folder.mkdir(parents=True, exist_ok=True)
                write_atomically(path, FORMATS[f](made).encode())
            except OSError as e:
                raise OperatorError(f"{path}: cannot be written: {e.strerror}") from None
            sys.stdout.write(f"{path}\n")
        codes.append(3 if any(x["state"] == "fails" for x in made["left"]["findings"]) else 0)
    return worst(codes)


# ---- records, families, baselines ---------------------------------------------------------------------------------------------


def records(job: Path, no_color: bool) -> int:
    """What is filed."""
    yard = wiring.Yard(job)
    rows: list[list[str | tuple[str, str]]] = [
        [str(d["number"]), d["time"][:19].replace("T", " "), d["unit"], d["kind"], f"{d['bytes']:,} bytes"] for d in yard.records.listing()
    ]
    s = Screen(no_color)
    if rows:
        s.rows(rows, indent=0, heads=["number", "time (UTC)", "unit", "kind", "size"])
        s.line("")
        s.line("One of them: yardbolt records show NUMBER. What was done to a unit: yardbolt records journal UNIT.")
    else:
        s.line("nothing is on record yet; next: yardbolt check")
    return 0


def record_show(number: int, job: Path) -> int:
    """One document."""
    got = wiring.Yard(job).records.document(number)
    if got is None:
        raise OperatorError(f"no document {number} on record; 'yardbolt records' lists them")
    sys.stdout.write(json.dumps(got, indent=2, sort_keys=True) + "\n")
    return 0


def record_journal(unit: str, job: Path, no_color: bool) -> int:
    """The journal of a unit."""
    yard = wiring.Yard(job)
    yard.units([unit])
    rows: list[list[str | tuple[str, str]]] = []
    for e in yard.records.journal(unit):
        if e.get("kind") == "login":
            what = f"login {e['account'] or '(no name)'} by {e['service']} from {e['source']} with {e['secret']}"
            rows.append([e["time"][:19].replace("T", " "), "", what, e["outcome"]])
        else:
            what = str(e.get("what") or e.get("error") or f"{e.get('kind')} {e.get('gate', '')}").strip()
            rows.append([e["time"][:19].replace("T", " "), f"run {e['run']}" if e["run"] else "", what, str(e.get("state", ""))])
    s = Screen(no_color)
    if rows:
        s.rows(rows, indent=0, heads=["time (UTC)", "", "what", "outcome"])
    else:
        s.line(f"nothing was done to {unit} yet")
    return 0


def record_forget(unit: str, job: Path) -> int:
    """Forget host keys: filed as an empty note, so that the record still tells what was noted before."""
    yard = wiring.Yard(job)
    yard.units([unit])
    services = [c.service for c in yard.families[yard.job.units[unit].family].channels]
    for service in services:
        if yard.records.latest(unit, f"host key {service}"):
            yard.records.file(unit, f"host key {service}", {"fingerprint": ""})
    sys.stdout.write(f"{unit}: the next login notes the host key anew\n")
    return 0


def schema(which: str) -> int:
    """The JSON Schema of one of our files."""
    from yardbolt.adapters.files import schema as made

    sys.stdout.write(json.dumps(made(which), indent=2) + "\n")
    return 0


def family_list(no_color: bool) -> int:
    """The shipped families."""
    from yardbolt.adapters.files import load_family, shipped

    rows: list[list[str | tuple[str, str]]] = []
    for name, path in shipped("families").items():
        f = load_family(path)
        rows.append([name, f.title, ", ".join(c.service for c in f.channels), f"{len(f.asks)} asks", f"{len(f.ops)} ops" if f.ops else "reads only"])
    Screen(no_color).rows(rows, indent=0)
    return 0


def family_check(file: Path, no_color: bool) -> int:
    """Check a family file."""
    from yardbolt.adapters.files import load_family
    from yardbolt.core.family import covers
    from yardbolt.core.paths import show
    from yardbolt.core.plane import TABLE

    f = load_family(file)
    s = Screen(no_color)
    unread = [
        show(p)
        for p, leaf in TABLE.items()
        if leaf.unit not in ("list", "item") and p not in covers(f) and p[0] not in ("trials", "answering", "first_run")
    ]
    s.line((f.title, "head"), f"  {len(f.asks)} asks, {len(f.ops)} ops: the file is sound")
    s.head("Not read by this family", "these stay unknown")
    for path in unread:
        s.line(path, indent=2)
    return 0


def baseline_show(name: str, job: Path, no_color: bool) -> int:
    """A baseline, line by line."""
    from yardbolt.adapters.files import find, load_baseline
    from yardbolt.core.plane import duration
    from yardbolt.core.rules import RULES

    b = load_baseline(find("baselines", name, job.parent))
    s = Screen(no_color)
    s.line(views.baseline_line(b))
    s.line("")
    rows: list[list[str | tuple[str, str]]] = []
    for line in b.lines:
        numbers = ", ".join(f"{k} {duration(v) if isinstance(v, float) else v}" for k, v in line.params.items())
        rows.append([str(line.number), (line.severity.value, line.severity.value), line.rule, RULES[line.rule].title, numbers])
    s.rows(rows, indent=0, heads=["", "severity", "rule", "requirement", "numbers"])
    return 0
