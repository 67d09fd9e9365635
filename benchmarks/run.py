"""Runs every benchmark and writes their ratios, with date and commit, into measured.md: python benchmarks/run.py
[NAME...]

Each compares against something in the same run, so the ratios hold on any machine; those of a benchmark that was not
run stay."""

import re
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path

HERE = Path(__file__).parent
AGAINST = {
    "start": "`import typer`", "judge": "ten times the accounts", "merge": "filling a dict; half as many items", "plan": "one reading in memory",
    "access": "a bare sweep over 10,000 rules", "tries": "100 entries instead of 10,000", "objects": "bare httpx, 64 cameras at once",
    "hosts": "a loop over the OpenSSH client, 32 hosts", "waiting": "the seconds the unit itself takes",
}  # fmt: skip
RATIO = re.compile(r"(\d[\d.]*) (?:times|of it)|ratio (\d[\d.]*)")
TABLE = HERE / "measured.md"


def ratios(name: str) -> str:
    """The ratios a benchmark prints; before each, where it prints several lines, what that is about."""
    done = subprocess.run([sys.executable, HERE / f"{name}.py"], capture_output=True, text=True, check=True)
    lines = [line for line in done.stdout.splitlines() if RATIO.search(line)]
    found = [
        (line.split("  ")[0] if len(lines) > 1 else "", [one[1] or one[2] for one in RATIO.finditer(line)])
        for line in lines
    ]
    return ", ".join(f"{what} {'; '.join(each)}".strip() for what, each in found)


assert {path.stem for path in HERE.glob("*.py")} - {"run"} == AGAINST.keys(), "a benchmark is missing in the table"
commit = subprocess.run(
    ["git", "rev-parse", "--short", "HEAD"], cwd=HERE, capture_output=True, text=True, check=True
).stdout.strip()
today = datetime.now(UTC).date().isoformat()
rows = {line.split("`")[1]: line for line in TABLE.read_text().splitlines() if line.startswith("| `")}
for name in sys.argv[1:] or AGAINST:
    print(f"{name} ...", file=sys.stderr, flush=True)
    rows[f"{name}.py"] = f"| `{name}.py` | {AGAINST[name]} | {ratios(name)} | {today} | {commit} |"
    print(rows[f"{name}.py"])
head = "# Ratios of the benchmarks, as last run\n\nEach against something in the same run, on two shared processors; `benchmarks/run.py` writes this.\n\n"
columns = "| benchmark | against | ratio | on | at |\n|---|---|---|---|---|\n"
TABLE.write_text(head + columns + "".join(f"{rows[f'{name}.py']}\n" for name in AGAINST if f"{name}.py" in rows))
