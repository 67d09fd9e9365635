"""The house itself: arrows between rooms, what must not come back, what starting costs, and documents that leave
nothing out."""

from __future__ import annotations

import ast
import importlib
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Tool
from yardbolt.adapters.files import load_family, schema, shipped
from yardbolt.cli import wiring
from yardbolt.core import errors
from yardbolt.core.judge.rules import RULES
from yardbolt.core.plan.foresight import bites
from yardbolt.core.plan.precedence import PRECEDENCE
from yardbolt.core.plane.table import TABLE
from yardbolt.core.talk.ways import UNDESCRIBED, WAYS

ROOT = Path(__file__).parent.parent
SRC = ROOT / "src" / "yardbolt"
# Who may import who. A room of core may import itself, the rooms before it and the ground floor.
GROUND = {"core.secret", "core.credentials", "core.addresses", "core.algorithms", "core.errors", "core.doors"}
CORE: dict[str, set[str]] = {
    "core.secret": set(), "core.addresses": set(), "core.algorithms": set(), "core.errors": set(), "core.doors": {"core.secret", "core.credentials"}, "core.credentials": {"core.secret"},
    "core.plane": GROUND, "core.talk": GROUND, "core.formats": GROUND | {"core.plane", "core.talk"},
    "core.job": GROUND | {"core.plane"},
}  # fmt: skip
CORE["core.judge"] = CORE["core.formats"] | {"core.formats", "core.job"}
CORE["core.family"] = CORE["core.judge"] | {"core.judge"}
CORE["core.plan"] = CORE["core.family"] | {"core.family"}
CORE["core.run"] = CORE["core.plan"] | {"core.plan"}
CORE["core.ports"] = CORE["core.run"] | {"core.run"}
ALL_CORE = set(CORE)
HOUSES: dict[str, set[str]] = {
    **CORE, "application": ALL_CORE, "wires": ALL_CORE, "adapters": ALL_CORE, "reports": ALL_CORE - {"core.ports"}, "bench": {"core.errors"},
    "cli": ALL_CORE | {"application", "reports"}, "cli/wiring": ALL_CORE | {"application", "wires", "adapters", "bench"},
}  # fmt: skip
NEEDS_NOTHING = {"yardbolt": set(), "__main__": {"cli", "core.errors"}}
FOREIGN = {
    "core": {"yaml", "pydantic", "asyncssh", "sqlite3", "logging", "os", "random", "secrets", "socket", "asyncio", "time", "pathlib", "json"},
    "reports": {"yaml", "pydantic", "asyncssh", "sqlite3", "asyncio"},
    "application": {"yaml", "pydantic", "asyncssh", "telnetlib3", "sqlite3", "pathlib", "os"},
}  # fmt: skip
# What the first version had, and what must not come back under any name.
GONE_FILES = (
    "core/dialogue.py", "core/plane.py", "core/family.py", "core/extract.py", "core/steps.py", "core/execute.py", "core/rules",
    "application/line.py", "application/desk.py", "application/outside.py", "application/plan.py", "cli/commands.py", "cli/views.py",
    "adapters/ssh.py", "adapters/telnet.py", "adapters/knock.py", "adapters/talk.py", "core/formats/programs", "core/formats/sections.py",
    "core/formats/sshsections.py", "core/plan/holders.py", "core/plane/tree.py", "core/talk/console.py", "core/talk/objects.py",
    "core/plan/turns.py",
)  # fmt: skip
GONE_WORDS = {
    r"\bOpening\b": "outcomes are types", r"\bSent\(": "outcomes are types", r"\b(CLOSED|SILENT), (CLOSED|SILENT)\b": "ends are an enum",
    r"\.persists\b|persists:": "an op names its stores", r"\bspec\.mode\b|self\.mode": "a way of talking is a row of the table",
    r"\.active\b": "stores have names", r"path\[-1\] [!=]= .secret": "the table says what holds a secret",
    r"\binverse\(": "a change is bound once, with its way back", r"\bRECEIVING\b": "what units share is a value of the site",
    r"\bWIRES: Mapping": "a way names its wires in its row", r"\b(bound_store|store_for|as_believed)\(": "a change is bound where its op writes",
    r"\.append\([^)\n\"]*\{": "journal entries are typed", r"\.get\(.kind.\)": "journal entries are typed",
}  # fmt: skip


def imports(file: Path) -> set[str]:
    """Absolute names of everything a file imports, as deep as it says."""
    package = ["yardbolt", *file.relative_to(SRC).parts[:-1]]
    out = set()
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.Import):
            out |= {name.name for name in node.names}
        elif isinstance(node, ast.ImportFrom):
            base = package[: len(package) - node.level + 1] if node.level else []
            whole = ".".join([*base, *([node.module] if node.module else [])])
            out |= {f"{whole}.{name.name}" for name in node.names} if whole.startswith("yardbolt") else {whole}
    return out


def house_of(parts: tuple[str, ...]) -> str:
    """The room of core, or the house, that a dotted name or a file lies in."""
    if not parts:
        return "yardbolt"
    if parts[0] == "core" and len(parts) > 1:
        return f"core.{parts[1]}"
    return parts[0]


def test_arrows_run_one_way() -> None:
    """Only the arrows of the design, between the rooms of core too, root modules and wires included; core imports no
    parser, clock, randomness, environment or network; nobody in core imports the ports; only the wiring knows wires,
    adapters and bench."""
    for file in SRC.rglob("*.py"):
        parts = file.relative_to(SRC).with_suffix("").parts
        house = house_of(parts if parts[-1] != "__init__" else parts[:-1])
        allowed = (
            HOUSES["cli/wiring"] if parts == ("cli", "wiring") else {**HOUSES, **NEEDS_NOTHING, "core": set()}[house]
        )
        for name in imports(file):
            top, *below = name.split(".")
            if top != "yardbolt":
                assert top not in FOREIGN.get(parts[0], set()), f"{file}: {name}"
                continue
            target = house_of(tuple(below))
            inside = target == house or (house == "cli" and target == "cli") or name == "yardbolt.__version__"
            assert inside or target in allowed, f"{file}: {name}"


def test_every_part_the_wiring_names_is_there() -> None:
    """A part is imported only where it is used, so a wrong row would be met late."""
    for room in wiring.ROOMS.values():
        assert all(getattr(wiring, name) for name in room)
    # what mypy is shown is the same
    tree = ast.parse(Path(wiring.__file__).read_text())
    (typed,) = (one for one in tree.body if isinstance(one, ast.If) and ast.unparse(one.test) == "TYPE_CHECKING")
    shown = {
        (name.name, one.module) for one in ast.walk(typed) if isinstance(one, ast.ImportFrom) for name in one.names
    }
    rows = {
        (name, f"yardbolt.{room}.{module}") for room, table in wiring.ROOMS.items() for name, module in table.items()
    }
    assert rows <= shown, rows - shown
    with pytest.raises(AttributeError):
        wiring.__getattr__("nothing")


def test_no_import_runs_in_a_circle() -> None:
    """Modules stand on one another, imports for types and inside functions counted too."""
    files = {file.relative_to(SRC).with_suffix("").parts: file for file in SRC.rglob("*.py")}
    names = {".".join(("yardbolt", *parts)).removesuffix(".__init__"): file for parts, file in files.items()}

    def module(name: str) -> str:
        while name and name not in names:
            name = name.rpartition(".")[0]
        return name

    below = {
        name: {module(one) for one in imports(file) if one.startswith("yardbolt")} - {name, "yardbolt"}
        for name, file in names.items()
    }
    while free := {name for name, needs in below.items() if not needs & below.keys()}:
        below = {name: needs for name, needs in below.items() if name not in free}
    assert not below, f"in a circle, or above one: {sorted(below)}"


def test_rooms_stay_small_enough_to_be_read() -> None:
    """No file of the core has over 450 lines, and no function there or of the use cases over 60."""
    for file in (*(SRC / "core").rglob("*.py"), *(SRC / "application").rglob("*.py")):
        text = file.read_text()
        assert "application" in file.parts or len(text.splitlines()) <= 450, file
        for node in ast.walk(ast.parse(text)):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                assert (node.end_lineno or 0) - node.lineno < 60, f"{file}: {node.name}"


def test_nothing_of_the_old_shape_comes_back() -> None:
    """The gone list: files, and words with the reason why they went."""
    assert not [path for path in GONE_FILES if (SRC / path).exists()]
    for file in (*SRC.rglob("*.py"), *SRC.rglob("*.yaml")):
        if "bench" in file.parts:
            continue
        for pattern, why in GONE_WORDS.items():
            assert not (found := re.search(pattern, file.read_text())), f"{file}: {found}: {why}"


def test_nobody_above_the_wires_asks_which_way_it_is() -> None:
    """Above `core/talk`, the family and the wiring, no module imports one way of talking, but for how text is
    cleaned."""
    for file in (
        *(SRC / "application").rglob("*.py"),
        *(SRC / "core" / "run").rglob("*.py"),
        *(SRC / "core" / "plan").rglob("*.py"),
    ):
        for room in ("text", "host", "web"):
            assert not [name for name in imports(file) if name.startswith(f"yardbolt.core.talk.{room}.")], file
        assert not (found := re.search(r"\.talk [!=]= ", file.read_text())), f"{file}: {found}"


def test_every_wire_a_way_names_is_there() -> None:
    """Rows name wires by text; each names a module of the room of wires, and a class in it that keeps to the port."""
    for talk in (*WAYS.values(), UNDESCRIBED[1]):
        for named in talk.wires.values():
            module, _, kind = named.partition(":")
            made = getattr(importlib.import_module(f"yardbolt.wires.{module}"), kind)
            assert all(hasattr(made, method) for method in ("open", "exchange", "close", "authenticates")), named


def test_help_loads_only_what_it_needs() -> None:
    """`--help` must not pay for SSH, SQL, YAML, pydantic or rich."""
    code = "import sys; sys.argv=['yardbolt','--help']\nfrom yardbolt.__main__ import main\ntry: main()\nexcept SystemExit: pass\nprint(' '.join(sys.modules))"
    got = (
        subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        .stdout.splitlines()[-1]
        .split()
    )
    for heavy in (
        "asyncssh",
        "sqlite3",
        "yaml",
        "pydantic",
        "rich.console",
        "asyncio",
        "telnetlib3",
        "jinja2",
        "pykeepass",
        "zxcvbn",
    ):
        assert heavy not in got, heavy
    assert len([m for m in got if m.startswith("yardbolt")]) <= 9


def test_every_next_command_the_program_names_is_one() -> None:
    """Wherever a message, a screen or the board says `yardbolt ...`, that command and its options exist."""
    import typer

    from yardbolt.cli.app import app

    commands = typer.main.get_command(app).commands  # type: ignore[attr-defined]
    named = set()
    for file in (ROOT / "src").rglob("*.py"):
        text = re.sub(r"\{[^{}]*\}", "X", file.read_text())
        named |= set(
            re.findall(r"yardbolt ([a-z]+)((?: [a-z]+)?)[^\n\"'`;,)]*?((?: --[a-z-]+)?)(?=[\s\"'`;,).]|$)", text)
        )
    known = [one for one in named if one[0] in commands]
    assert len({one[0] for one in known}) >= 8, named
    for first, second, option in known:
        found = commands[first]
        under = getattr(found, "commands", {})
        if under and second.strip() in under:
            found = under[second.strip()]
        assert not under or second.strip() in under or first == "records", (first, second)
        assert not option or option.strip() in {o for p in found.params for o in p.opts}, (first, second, option)


def keys_of(node: Any) -> set[str]:
    """Every key a schema knows."""
    if isinstance(node, list):
        return {key for one in node for key in keys_of(one)}
    if not isinstance(node, dict):
        return set()
    return set(node.get("properties", ())) | {key for one in node.values() for key in keys_of(one)}


def test_documents_name_every_command_rule_leaf_and_exit_code(tool: Tool, tmp_path: Path) -> None:
    """Nothing a user meets is left out of the documents."""
    text = {p.name: p.read_text() for p in (ROOT / "docs").glob("*.md")}
    for command in re.findall(r"^  ([a-z]+)  +[A-Z]", tool("--help"), re.M):
        assert f"`{command}" in text["guide.md"], command
    for rule in RULES:
        assert f"`{rule}`" in text["rules.md"], rule
    for pattern, leaf in TABLE.items():
        if leaf.unit != "item":
            assert f"`{'/'.join(pattern)}`" in text["plane.md"], pattern
    for kind in vars(errors).values():
        if isinstance(kind, type) and issubclass(kind, errors.YardboltError):
            assert f"| {kind.exit_code} |" in text["exit-codes.md"]
    for row in PRECEDENCE:
        assert f"`{row.name}`" in text["precedence.md"], row.name
    for way in WAYS:
        assert f"`{way}`" in text["families.md"] and f"`{way}`" in text["architecture.md"], way
    undescribed = {key for key in keys_of(schema("family")) if not re.search(rf"(?<![a-z_]){key}(?![a-z_])", text["families.md"])}  # fmt: skip
    assert not undescribed, undescribed
    smallest = re.search(r"```yaml\n(family: .*?)```", text["families.md"], re.S)
    assert smallest is not None
    (tmp_path / "smallest.yaml").write_text(smallest[1])
    assert [one for one in bites(load_family(tmp_path / "smallest.yaml")) if "never sure" in one] == []
    for name in shipped("families"):
        family = load_family(shipped("families")[name])
        assert f"`{name}`" in text["families.md"] and family.covers()


def test_words_nobody_uses_any_more_stand_on_no_screen_and_in_no_document() -> None:
    """The glossary names at most 60 words, and those to keep out; they are kept out."""
    text = (ROOT / "docs" / "words.md").read_text()
    ours, _, out = text.partition("## Words we do not use")
    assert ours.count("\n| ") - 1 + out.count("\n| ") - 1 <= 60
    rows = [line.split("|")[1].strip() for line in out.splitlines() if line.startswith("| ")][1:]
    wrong = re.compile(rf"\b({'|'.join(re.escape(word) for row in rows for word in row.split(', '))})\b", re.I)
    documents = {p: p.read_text() for p in [*(ROOT / "docs").glob("*.md"), ROOT / "README.md"] if p.name != "words.md"}
    documents |= {
        p: p.read_text() for room in ("families", "baselines", "demo") for p in (SRC / "data" / room).glob("*.yaml")
    }
    for path in SRC.rglob("*.py"):
        if "bench" in path.parts:
            continue
        tree = ast.parse(path.read_text())
        said = {n.body[0].value for n in ast.walk(tree) if isinstance(n, ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef) and isinstance(n.body[0], ast.Expr)}  # fmt: skip
        documents[path] = "\n".join(n.value for n in ast.walk(tree) if isinstance(n, ast.Constant) and isinstance(n.value, str) and n not in said)  # fmt: skip
    found = {f"{path.name}: {match[0]}" for path, text in documents.items() for match in wrong.finditer(text)}
    assert not found, sorted(found)
