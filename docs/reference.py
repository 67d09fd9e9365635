"""Writes docs/plane.md and docs/rules.md from the program's own tables: python docs/reference.py"""

from pathlib import Path

from yardbolt.adapters.files import load_baseline, shipped
from yardbolt.core.judge.rules import RULES
from yardbolt.core.plane.table import TABLE
from yardbolt.core.plane.words import duration

HERE = Path(__file__).parent


def plane() -> str:
    """Every leaf: path, meaning, unit."""
    rows = [
        "# The management plane, leaf by leaf",
        "",
        "Findings, changes, evidence and family files all speak in these paths. `*` stands for the name of an item. A leaf is a value,",
        "*not set* (read, and there is none) or *not read*. What moves by itself is never compared between two readings.",
        "",
        "| path | kind | meaning | unit | moves by itself |",
        "|---|---|---|---|---|",
    ]
    for path, leaf in TABLE.items():
        if leaf.unit != "item":
            kind = "list" if leaf.unit == "list" else leaf.kind.__name__
            unit = "" if leaf.unit == "list" else leaf.unit
            rows.append(f"| `{'/'.join(path)}` | {kind} | {leaf.meaning} | {unit} | {'' if leaf.steady else 'yes'} |")
    return "\n".join(rows) + "\n"


def rules() -> str:
    """Every rule, its reason, its numbers and where hand-tight uses it."""
    base = load_baseline(shipped("baselines")["hand-tight"])
    used = {one.rule: one for one in base.requirements}
    rows = [
        "# Rules",
        "",
        f"`hand-tight` {base.version}: {base.meaning}",
        "",
        "A rule says *fails*, *holds*, *unknown*, *not applicable* or *waived* of each subject.",
        "",
    ]
    for name, rule in RULES.items():
        line = used.get(name)
        where = f"line {line.number} of hand-tight" if line else "not in hand-tight"
        rows += [
            f"## `{name}`: {rule.right}",
            "",
            f"Fails as: {rule.wrong}. {rule.why} Severity {rule.severity.value}; {where}.",
            "",
        ]
        for key, p in rule.params.items():
            value = line.params[key] if line else p.default
            rows += [f"- `{key}`: {p.meaning}; {duration(value) if isinstance(value, float) else value}"]
        rows += [""] if rule.params else []
    return "\n".join(rows).rstrip() + "\n"


if __name__ == "__main__":
    (HERE / "plane.md").write_text(plane())
    (HERE / "rules.md").write_text(rules())
