"""Other owners, other moments: what is not allowed is not done, what is wrong stops, what is narrow still reads."""

from __future__ import annotations

import asyncio
import fcntl
import json
import os
import pty
import re
import struct
import subprocess
import sys
import termios
import time
from collections.abc import Callable
from pathlib import Path

import asyncssh

from tests.conftest import UNIT, Bench, Tool, one_unit_yard
from tests.test_job import journal, opens, safe_values, steps_of


def rewrite(tool: Tool, *pairs: tuple[str, str]) -> None:
    file = tool.folder / "yard.yaml"
    text = file.read_text()
    for old, new in pairs:
        assert old in text
        text = text.replace(old, new)
    file.write_text(text)


def at_the_board(account: str, password: str, *lines: str) -> str:
    """Somebody else at the unit, with a client of his own."""

    async def session() -> str:
        async with asyncssh.connect(
            UNIT,
            2022,
            username=account,
            password=password,
            known_hosts=None,
            config=None,
            client_keys=None,
            agent_path=None,
            preferred_auth="password",
        ) as conn:
            process = await conn.create_process(term_type="dumb")
            for line in lines:
                process.stdin.write(line + "\r")
                await asyncio.sleep(0.4)
            return str(await process.stdout.read(4000))

    return asyncio.run(session())


def test_what_the_owner_does_not_allow_is_not_done(job: Tool) -> None:
    """Terms nobody may accept stay open; without leave nothing is removed or restarted, and the sheet says what is
    still owed."""
    rewrite(
        job,
        ("terms: R. Tamblin, on behalf of Larkmoor Tramway", 'terms: ""'),
        ("restart: yes", "restart: no"),
        ("remove factory accounts: yes", "remove factory accounts: no"),
    )
    job("check", code=3)
    assert "names nobody who accepts them" in job.error("enter", "--yes", "--this-one", "--quiet", code=2)
    assert opens("foreman", "foreman")
    assert "its settings were not read" in job.error("steps", code=2)
    rewrite(job, ('terms: ""', "terms: works office"))
    job("enter", "--yes", "--this-one")
    plan = json.loads(job("steps", "--format", "json"))["sk-sw-04"]
    kinds = [s["kind"] for s in plan["steps"]]
    assert (
        "restart" not in kinds
        and not any("remove" in s["does"] for s in plan["steps"])
        and all(s["access kept by"] for s in plan["steps"])
    )
    out = job("tighten", "--yes", code=3)
    assert "names an attacker tries first" in out and "published logins refused by ssh: foreman and spanner" in out
    values = safe_values(job.folder)
    assert opens(values["sk-sw-04/spanner"], "spanner") and not opens("", "spanner") and not opens("foreman", "foreman")
    sheet = json.loads(next((job.folder / "sheets").glob("*.json")).read_text()) if job("sheet", code=3) else {}
    assert [o for o in sheet["owed"] if "names an attacker tries first" in o]
    assert "0 changes" in job("steps")
    job("sheet", code=3)
    (signed,) = (job.folder / "sheets").glob("*.json")
    signed.write_text("signed")
    job("sheet", code=3)
    assert signed.read_text() == "signed" and len(list((job.folder / "sheets").glob("*.json"))) == 2


def test_without_the_book_of_tries_no_login_is_tried(job: Tool) -> None:
    """Nobody would count wrong passwords over jobs: one line, and the unit hears nothing."""
    (job.folder / "state" / "yardbolt").mkdir(parents=True)
    (job.folder / "state" / "yardbolt" / "tries.sqlite").write_text("no book" * 40)
    for state in ("/proc/nowhere", str(job.folder / "state")):
        job.env["XDG_STATE_HOME"] = state
        assert "the book of login tries cannot be kept" in job.error("check", "--quiet", code=2)
    assert not [entry for entry in journal(job.folder) if entry["event"] == "trying"]


def test_what_is_said_and_would_not_be_heeded_is_refused(job: Tool) -> None:
    """A job file before the command is the command's; an option that means nothing there is one line, and nothing is
    done."""
    for args, told in (
        (("--job", "other.yaml", "check"), "no job file other.yaml"), (("records", "--job", "other.yaml", "show", "1"), "no job file other.yaml"),
        (("--job", "yard.yaml", "demo"), "works on no job"), (("check", "--at", ""), "takes an address"), (("check", "sk-sw-04", "--at", "127.0.0.1"), "name no unit"),
        (("steps", "--leap", "foo/bar"), "no such setting"), (("check", "--key-file", "nope"), "does not exist"),
    ):  # fmt: skip
        assert told in job.error(*args, code=2), args
    assert not (job.folder / "record.sqlite").exists()


def test_the_wrong_unit_and_a_second_hand_are_kept_out(job: Tool) -> None:
    """Another serial than the work order's stops before anything is planned, and so does a box on record under another
    name; two runs never write to one unit at the same time."""
    job("check", code=3)
    job("enter", "--yes", "--this-one")
    rewrite(job, ("serial: 004417", "serial: 4417"))
    assert "this is the wrong unit: serial 004417, the work order says 4417" in job.error(
        "tighten", "--yes", "--quiet", code=5
    )
    assert "wrong unit" in job.error("prove", "--quiet", code=5)
    assert not [e for e in journal(job.folder) if e["event"] == "sending"]
    rewrite(job, ("serial: 4417", "serial: 004417"))
    file = job.folder / "yard.yaml"
    alone = file.read_text()
    at = alone.partition("at: ")[2].split()[0]
    twin = f"  sk-sw-05: {{family: quenby-ql8, class: line-switch, segment: workshop, at: {at}}}\n"
    file.write_text(alone.rstrip("\n") + "\n" + twin)
    assert "sk-sw-05: this box is on record as sk-sw-04" in job.error("check", "sk-sw-05", "--quiet", code=5)
    file.write_text(alone)
    first = job.start("tighten", "--yes", "--quiet")
    while not [e for e in journal(job.folder) if e["event"] == "sending"] and first.poll() is None:
        time.sleep(0.02)
    assert "another yardbolt works on it" in job.error("tighten", "--yes", "--quiet", code=2)
    job.said.append(first.communicate()[0])
    assert first.returncode == 4, "done, and part of the ports not looked at"


def test_settings_somebody_left_unkept_block_until_the_owner_decides(job: Tool) -> None:
    """They would be saved with ours: refused, shown as a finding, and done only on his word."""
    job("check", code=3)
    job("enter", "--yes", "--this-one")
    foreman = safe_values(job.folder)["sk-sw-04/foreman"]
    assert "Engraved." in at_the_board("foreman", foreman, "engrave rest 200", "leave")
    out = job("check", code=3)
    assert "live and saved settings differ" in out
    assert "--found keep" in job("steps", code=5)
    refused = job.run("tighten", "--yes")
    assert refused.returncode == 5 and "say --found keep" in refused.stderr and len(refused.stderr.splitlines()) == 1
    assert "all 28 steps done" in job("tighten", "--yes", "--found", "keep", code=4)


def test_no_secret_is_sent_before_it_rests_in_both_safes(job: Tool) -> None:
    """A second copy that cannot be written, or none and no reason for it, stops before the unit hears of a new
    password (I2)."""
    job("check", code=3)
    rewrite(job, ("copy: stick/safe.kdbx", "copy: /proc/1/nowhere/safe.kdbx"))
    assert "the second copy of the safe is not there; put the stick back" in job.error(
        "enter", "--yes", "--this-one", "--quiet", code=2
    )
    assert opens("foreman", "foreman")
    rewrite(
        job,
        (
            "  copy: /proc/1/nowhere/safe.kdbx             # the second copy; on the job this lies on the owner's stick\n",
            "",
        ),
    )
    assert "has no second copy" in job.error("enter", "--yes", "--this-one", "--quiet", code=2)
    assert opens("foreman", "foreman")
    rewrite(job, ("file: safe.kdbx", "file: safe.kdbx\n  without copy: the stick is with the owner"))
    job("enter", "--yes", "--this-one")
    assert opens(safe_values(job.folder)["sk-sw-04/foreman"], "foreman")


def test_an_entry_cut_off_goes_on_where_it_was(job: Tool) -> None:
    """Killed after the new password was announced or sent, entering again finds out which one holds, and needs nobody
    to remember."""
    job("check", code=3)
    for wait in (0.0, 0.06, 0.12):
        process = job.start("enter", "--yes", "--this-one", "--quiet")
        while process.poll() is None and not [e for e in journal(job.folder) if e["event"] == "answering"]:
            time.sleep(0.005)
        time.sleep(wait)
        process.kill()
        job.said.append(process.communicate()[0])
        values = safe_values(job.folder)
        time.sleep(0.3)
        found, new = values["sk-sw-04/foreman (as found)"], values["sk-sw-04/foreman"]
        assert opens(found, "foreman") or opens(new, "foreman"), "a credential of the safe opens at every moment"
    assert "NEXT  yardbolt steps" in job("enter", "--yes", "--this-one")
    assert opens(safe_values(job.folder)["sk-sw-04/foreman"], "foreman") and not opens("foreman", "foreman")


def cut_off(tool: Tool, done: int, *args: str) -> None:
    """Kill a run once so much of it stands in the journal."""
    process = tool.start(*args)
    while process.poll() is None and len(steps_of(tool.folder)) < done:
        time.sleep(0.003)
    assert process.poll() is None, "it was over before"
    process.kill()
    tool.said.append(process.communicate()[0])


def test_what_was_live_and_not_yet_kept_is_taken_up_again(job: Tool) -> None:
    """A unit whose settings are live at once and kept by a save of their own, killed before the first save: it goes
    on."""
    (job.folder / "yard.yaml").write_text(one_unit_yard(plain=True))
    job.env |= {"YARDBOLT_PORTS": "2100-2150"}
    job("check", code=3)
    cut_off(job, 6, "tighten", "--yes", "--quiet", "--this-one")
    told = job("tighten", "--yes", "--quiet", "--this-one", code=4)
    assert "(taken up where it was cut off)" in told and "nothing fails" in told and "nothing is owed" in told, told


def test_a_unit_that_speaks_only_telnet_is_worked_over_telnet(job: Tool) -> None:
    """The same family data without its SSH channel: checked, entered and read by telnet, pages, echo and all."""
    import yardbolt

    text = (Path(yardbolt.__file__).parent / "data" / "families" / "quenby-ql8.yaml").read_text()
    (job.folder / "families").mkdir()
    (job.folder / "families" / "quenby-ql8.yaml").write_text(
        text.replace("services: {ssh: sealed, telnet: plain}", "services: {telnet: plain}").replace(
            "ports: {ssh: 2022, ", "ports: {"
        )
    )
    assert "foreman, spanner" in job("check", code=3)
    out = job("enter", "--yes", "--this-one")
    assert "S/N 004417 ok" in out and "the password of foreman was changed" in out
    plane = json.loads(job("check", "--format", "json", code=3))["sk-sw-04"]["plane"]
    assert plane["identity"]["serial"] == "004417" and plane["accounts"]["complete"] and plane["services"]["complete"]
    planned = job("steps", code=4)
    assert "telnet on: nobody with full rights could surely log in" in planned, "the only way in is not closed"
    assert "remove foreman and spanner" in planned and "as lt-watch and lt-works" in planned, (
        "all else is done, and told"
    )


def test_a_unit_whose_best_door_is_shut_is_entered_by_the_next(job: Tool, benches: Callable[[], Bench]) -> None:
    """As it is found its SSH is off: the first entry goes by telnet, and says who could read along."""
    unit = benches().stands[0].unit
    unit.live.gates["shell"].open = unit.kept.gates["shell"].open = False
    job("check", code=3)
    said = job("enter", "--yes", "--this-one")
    assert "a new password goes by telnet, readable" in said and "the password of foreman was changed" in said, said


def test_a_host_key_changed_on_purpose_is_noted_anew(job: Tool, benches: Callable[[], Bench]) -> None:
    """Forgetting is a command of its own, and the record keeps the old one."""
    bench = benches()
    job("check", code=3)
    bench.fault("newkey")
    assert "nothing was sent" in job.error("check", "--quiet", code=5)
    job("records", "forget-key", "sk-sw-04")
    job("check", code=3)
    listed = job("records")
    assert listed.count("host key ssh") == 3
    number = re.search(r"^(\d+) .*as found outside", listed, re.M)
    assert number and json.loads(job("records", "show", number[1]))["kind"] == "as found outside"
    assert "wrong host key" in job("records", "journal", "sk-sw-04")


def narrow(tool: Tool, columns: int, *args: str, **env: str) -> str:
    """What the program shows on a terminal of so many columns."""
    master, slave = pty.openpty()
    fcntl.ioctl(slave, termios.TIOCSWINSZ, struct.pack("HHHH", 40, columns, 0, 0))
    clean = {k: v for k, v in tool.env.items() if k not in ("COLUMNS", "LINES")}
    process = subprocess.Popen(
        [sys.executable, "-m", "yardbolt", *args],
        cwd=tool.folder,
        env={**clean, "TERM": "xterm", **env},
        stdin=slave,
        stdout=slave,
        stderr=slave,
    )
    os.close(slave)
    shown = b""
    try:
        while chunk := os.read(master, 65536):
            shown += chunk
    except OSError:
        pass
    process.wait(60)
    os.close(master)
    return shown.decode().replace("\r\n", "\n")


def test_narrow_terminals_and_no_color_are_served(job: Tool) -> None:
    """At 46 columns nothing runs over the edge and every state is a word; NO_COLOR sends no escape; a pipe gets no
    progress."""
    job("check", code=3)
    job("enter", "--yes", "--this-one")
    for args in (("steps",), (), ("records",), ("baseline", "show")):
        shown = narrow(job, 46, *args, NO_COLOR="1")
        assert "\x1b" not in shown and max(len(line) for line in shown.split("\n")) <= 46, args
    assert "access kept by: foreman" in narrow(job, 46, "steps", NO_COLOR="1")
    assert "\x1b[" in narrow(job, 120, "steps") and "change" in narrow(job, 120, "steps")
    piped = job.run("check", "--output", "report.txt")
    assert piped.stdout == "" and piped.stderr == "" and "FIX FIRST" in (job.folder / "report.txt").read_text()
