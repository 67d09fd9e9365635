"""The plain unit, from the carton to proven without a first entry; and then the same unit lying about who gets in."""

from __future__ import annotations

import json
import time
from collections.abc import Callable

from tests.conftest import LAPTOP, Bench, Tool, one_unit_yard, typed
from tests.test_job import journal, swept
from yardbolt.bench.relaybox import Box, RelayBox
from yardbolt.core.run.proofs import Sort


def test_a_refusal_nobody_can_compare_with_is_unknown(job: Tool, benches: Callable[[], Bench]) -> None:
    """Both published logins are refused and nothing else opens: nobody knows why, so nothing holds. Nothing is written
    either, until somebody says which box it is."""
    hands = benches().switch.hands
    assert "--this-one" in job.error("enter", "--yes", "--quiet", code=5)
    for hand in hands.values():
        hand.phrase = "somebody-set-another"
    found = json.loads(job("check", "--format", "json", code=3))["sk-sw-04"]
    rows = [row for row in found["findings"] if row["rule"] in ("factory-login", "first-run")]
    assert {row["state"] for row in rows} == {"unknown"}, rows
    assert any("no login opened by it to compare with" in row["saw"] for row in rows)
    events = [entry["event"] for entry in journal(job.folder)]
    assert events.count("trying") == events.count("tried") and events.index("trying") < events.index("tried")
    assert hands["foreman"].locked_until == 0 and "enter sk-sw-04 --as NAME" in job.error("enter", "--quiet", code=4)


def test_a_login_on_the_label_is_given_once_and_is_way_enough(job: Tool, benches: Callable[[], Bench]) -> None:
    """The published password is another one, the label has it: typed hidden at the check, kept in the safe, and the
    next commands go on with it; telnet is judged by what ssh showed, and never hears it."""
    box = benches().stands[1].unit
    assert isinstance(box, RelayBox)
    for settings in (box.live, box.kept):
        settings.people["owner"].password = "MARKER-label-17"
        del settings.people["helper"]
    job.env["YARDBOLT_PORTS"] = "2100-2150"
    (job.folder / "yard.yaml").write_text(one_unit_yard(plain=True))
    shown, code = typed(job, [b"MARKER-label-17"], "check", "--as", "owner", "--keep", "--format", "json")
    rows = [row for row in json.loads(shown)["sk-rb-01"]["findings"] if row["rule"] == "factory-login"]
    assert code == 3 and {row["state"] for row in rows if row["subject"] == "accounts/owner"} == {"holds", "fails"}
    assert {row["saw"] for row in rows if row["state"] == "fails"} == {
        "the unit says it still has its factory password"
    }
    again = json.loads(job("check", "--format", "json", code=3))["sk-rb-01"]
    assert again["inside"].startswith("read as owner by") and "password of owner: typed, now in the safe" in job(
        "records", "journal", "sk-rb-01"
    )
    box.binds = False
    said = job("tighten", "--yes", code=None)
    assert "one of 11 characters was taken" in said and "it still opens after 6 wrong ones" in said, said
    assert sorted(box.known()) == ["lt-watch", "lt-works"]
    swept(job.folder, job.said, ["MARKER-label-17"])


LIES = {
    "credulous": {Sort.ALTERED, Sort.BLANK, Sort.NAMED},
    "blank": {Sort.BLANK},
    "namesake": {Sort.NAMED},
    "short": {Sort.ALTERED},
    "overlong": {Sort.ALTERED},
    "edges": {Sort.ALTERED},
    "caseless": {Sort.ALTERED},
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
    assert "SAFE TO UNPLUG" in job("prove", code=4) and "nothing fails" in job()
    # a look from outside does not take the place of what was proven, unless it sees worse
    job("check", "--outside", code=4)
    assert "nothing fails" in job()
    talk = bench.stands[1].unit.live.gates["talk"]
    talk.open = True
    time.sleep(0.2)
    assert "passwords unencrypted" in job("check", "--outside", code=3) and "nothing fails" not in job()
    talk.open = False
    time.sleep(0.2)
    job("prove", code=4)
    # the laptop is no administrator's: it is let in for the work, and leaves last of all
    yard = (job.folder / "yard.yaml").read_text()
    (job.folder / "yard.yaml").write_text(yard.replace(f"administrators: [{LAPTOP}, ", "administrators: ["))
    assert "NEXT  yardbolt leave sk-rb-01" in job("tighten", "--yes", code=3)
    assert "this laptop: refused" in job("leave", "--yes")
    box = bench.stands[1].unit
    assert isinstance(box, RelayBox) and LAPTOP not in str(box.kept.gates["shell"].sources)
    assert "opening" in job.error("prove", code=4)
    # anyone who resets it to factory default is noticed: the published password is tried before ours is tried again
    box.kept = Box()
    box.start_again()
    time.sleep(3)
    found = job("check", code=3)
    assert "it was reset after it was left on" in found and "sk-rb-01  reset" in job(), found
