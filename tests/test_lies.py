"""The plain unit, from the carton to proven without a first entry; and then the same unit lying about who gets in."""

from __future__ import annotations

import json
from collections.abc import Callable

from tests.conftest import Bench, Tool, one_unit_yard
from yardbolt.core.run.proofs import Sort

LIES = {
    "credulous": {Sort.ALTERED, Sort.BLANK, Sort.NAMED},
    "blank": {Sort.BLANK},
    "namesake": {Sort.NAMED},
    "ghost": {Sort.REMOVED},
}


def test_a_plain_unit_is_tightened_without_a_word_and_each_lie_of_it_is_caught(
    job: Tool, benches: Callable[[], Bench]
) -> None:
    """A published login that opens silently is way enough: check, steps, tighten; every next command goes on. Then it
    takes any password, a blank one, a name, or somebody who was removed: the proof of that very thing fails."""
    bench = benches()
    job.env["YARDBOLT_PORTS"] = "2100-2150"
    (job.folder / "yard.yaml").write_text(one_unit_yard(plain=True))
    command, seen = "yardbolt check sk-rb-01", list[str]()
    while command not in seen:  # each command is named by the one before, until the last names itself
        seen.append(command)
        args = command.split()[1:]
        more = {"tighten": ["--yes"], "enter": ["--yes", "--this-one"]}.get(args[0], [])
        out = job(*args, *more, code=None)
        named = [line for line in (out + job()).splitlines() if "yardbolt " in line]
        command = "yardbolt " + named[-1].partition("yardbolt ")[2].strip()
    assert [one.split()[1] for one in seen] == ["check", "steps", "tighten", "sheet", "prove"]
    assert sorted(bench.stands[1].unit.known()) == ["lt-watch", "lt-works"]
    for fault, sorts in LIES.items():
        bench.fault(fault)
        document = json.loads(job("prove", "--format", "json", code=3))["sk-rb-01"]
        failing = {row["sort"] for row in document["proofs"] if row["result"] == "fails"}
        assert failing >= {sort.value for sort in sorts}, fault
        assert fault == "credulous" or failing == {sort.value for sort in sorts}, (fault, failing)
    bench.fault("none")
    assert "SAFE TO UNPLUG" in job("prove", code=4)
