"""The whole job through the built program: demo, kills, hostile units, secrets."""

from __future__ import annotations

import asyncio
import json
import signal
import sqlite3
import time
from collections.abc import Callable
from pathlib import Path

import asyncssh
from pykeepass import PyKeePass

from tests.conftest import LAPTOP, MASTER, UNIT, Bench, Tool
from tests.drawn import THOROUGH
from yardbolt.adapters.files import shipped
from yardbolt.bench.lineswitch import SHY_SECONDS


def safe_values(job: Path, key: Path | None = None) -> dict[str, str]:
    kp = PyKeePass(str(job / "safe.kdbx"), password=None if key else MASTER, keyfile=str(key) if key else None)
    return {f"{e.group.name}/{e.title}": e.password or "" for e in kp.entries}


def swept(folder: Path, said: list[str], secrets: list[str]) -> None:
    """No secret in anything that was said or written, the safe apart."""
    written = [p.read_bytes() for p in folder.rglob("*") if p.is_file() and p.suffix not in (".kdbx", ".key")]
    for secret in secrets:
        assert len(secret) > 8
        assert not any(secret in text for text in said), "a secret was said"
        assert not any(secret.encode() in blob for blob in written), "a secret was written"


def journal(folder: Path) -> list[dict[str, object]]:
    with sqlite3.connect(f"file:{folder}/record.sqlite?mode=ro", uri=True) as db:
        return [json.loads(row[0]) for row in db.execute("select entry from journal order by id")]


def test_the_demo_tells_the_whole_job_and_leaves_nothing_running(tool: Tool) -> None:
    """One command: found, entered, planned, tightened, proven, handed over; no secret anywhere but in the safe."""
    tool.env["YARDBOLT_PORTS"] = "2000-2200"
    process = tool.start("demo", "--folder", "yard", "--no-color")
    out = process.communicate(timeout=300)[0]
    tool.said.append(out)
    assert process.returncode == 0, out
    assert "\x1b" not in out
    for told in (
        "foreman, spanner (blank)",
        "helper and owner: open with the published password",
        "1      spanner: new password",
        "all 25 steps done",
        "handed over  nothing fails",
    ):
        assert told in out, told
    assert out.count("18 of 18 proofs hold") == out.count("66 is blocked by ssh") == out.count("SAFE TO UNPLUG") == 2
    assert out.count("\n") <= 161, "a tired technician reads no more; part of the ports here, so a few lines more"
    work = tool.folder / "yard"
    sheet = json.loads(next((work / "sheets").glob("sk-sw-04*.json")).read_text())
    assert sheet["owed"] == [] and sheet["unplanned"] == [] and sheet["identity"]["serial"] == "004417"
    unseen = {one.partition(":")[0] for one in sheet["not_looked_at"]}
    assert unseen >= {"later", "strangers"} and not unseen & {"password policy", "lock-out", "pages without a login"}
    assert {p["result"] for p in sheet["proofs"]} == {"holds"} and len(sheet["proofs"]) == 18
    assert sum(f["state"] == "fails" for f in sheet["found"]["findings"]) >= 18
    page = next((work / "sheets").glob("*.html")).read_text()
    assert "<script" not in page and "http" not in page
    values = safe_values(work, work / "demo.key")
    assert values.keys() == {
        f"{unit}/{a}"
        for unit, first, second in (("sk-sw-04", "foreman", "spanner"), ("sk-rb-01", "owner", "helper"))
        for a in (first, f"{first} (as found)", second, f"{second} (as found)", "lt-works", "lt-watch")
    }
    swept(work, tool.said, [v for k, v in values.items() if "as found" not in k])
    assert (work / "stick" / "safe.kdbx").read_bytes() == (work / "safe.kdbx").read_bytes()
    assert {
        oct(p.stat().st_mode & 0o777) for p in (work / "safe.kdbx", work / "record.sqlite", work / "stick/safe.kdbx")
    } == {"0o600"}
    assert all(p.stat().st_mode & 0o077 == 0 for p in (work / "sheets").iterdir())
    tool.env["YARDBOLT_PORTS"] = "2000-2100"
    assert "refuses every port" in tool.error("check", "sk-sw-04", "--outside", "--job", "yard/yard.yaml", code=4)


def opens(password: str, account: str) -> bool:
    """Does this very password open the bench unit? Asked with a client of its own."""

    async def attempt() -> bool:
        try:
            async with asyncssh.connect(
                UNIT, 2022, username=account, password=password, known_hosts=None, config=None, client_keys=None, agent_path=None,
                local_addr=(LAPTOP, 0), preferred_auth="password", login_timeout=5,
            ):  # fmt: skip
                return True
        except (OSError, asyncssh.Error):
            return False

    return asyncio.run(attempt())


def somebody_gets_in(folder: Path) -> bool:
    """Does any password in the safe open its account? The unit may be restarting, and while it starts it counts right
    passwords as wrong tries: a rest longer than that lies between two rounds, or the question locks what it asks."""
    for rest in (SHY_SECONDS + 0.5,) * 4 + (0.0,):
        known = {name: value for name, value in safe_values(folder).items() if "as found" not in name}
        if any(opens(value, name.split("/")[1]) for name, value in known.items()):
            return True
        time.sleep(rest)
    return False


def steps_of(folder: Path) -> list[dict[str, object]]:
    """What the journal says besides logins."""
    return [e for e in journal(folder) if e["event"] not in ("trying", "tried")]


def test_killed_at_any_moment_tighten_goes_on_to_the_same_end(job: Tool, benches: Callable[[], Bench]) -> None:
    """SIGKILL again and again: at no moment is every credential in the safe useless, and the end is that of an
    undisturbed run."""
    job("check", code=3)
    job("enter", "--yes", "--this-one")
    done, kills = False, 0
    for wait_for in (2, 7, 9, 13, 12, 11, 15) if THOROUGH else (2, 16, 25, 26):
        before = len(steps_of(job.folder))
        process = job.start("tighten", "--yes", "--quiet")
        deadline = time.monotonic() + 60
        while process.poll() is None and time.monotonic() < deadline:
            if len(steps_of(job.folder)) >= before + wait_for:
                break
            time.sleep(0.005)
        process.send_signal(signal.SIGKILL)
        job.said.append(process.communicate()[0])
        done = process.returncode in (0, 4)  # 4: part of the ports was not looked at
        kills += not done
        assert somebody_gets_in(job.folder), "every credential in the safe is useless"
        if done:
            break
    assert kills >= 3
    out = job("tighten", "--yes", code=4)
    assert "taken up where it was cut off" in out or "nothing to change" in out
    left = json.loads(job("prove", "--format", "json", code=4))["sk-sw-04"]
    assert left["unplanned"] == [] and left["missing"] == [] and {p["result"] for p in left["proofs"]} == {"holds"}
    plane = left["plane"]
    assert sorted(plane["accounts"]["items"]) == ["lt-watch", "lt-works"] and plane["accounts"]["complete"]
    policy = {name: value for name, value in plane["policy"].items() if value is not None}
    assert (plane["name"], policy, plane["idle"]) == ("sk-sw-04", {"classes": 3, "min_length": 12}, 600.0)
    assert plane["services"]["items"]["telnet"]["enabled"] is False and plane["services"]["items"]["ssh"][
        "permitted"
    ] == [
        f"{LAPTOP}/31",
        LAPTOP[:-2] + "20",
    ]
    assert "0 changes" in job("steps")
    for _ in range(4):
        assert "could not be tried" not in job("prove", code=4), "removed accounts cost no tries"
    swept(job.folder, job.said, [v for k, v in safe_values(job.folder).items() if "as found" not in k] + [MASTER])


def test_hostile_units_get_one_clear_line_each(job: Tool, benches: Callable[[], Bench]) -> None:
    """Hanging, dropping, noise, garbage, endless output, another host key: one line, the right exit code, nothing lost
    or leaked."""
    bench = benches()
    job("check", code=3)
    bench.fault("blab")
    job("enter", "--yes", "--this-one")
    bench.fault("none")
    told = {
        "garbage": (4, "not understood"),
        "drop": (4, "the connection ended"),
        "endless": (4, "more than 1024 KiB"),
        "noise": (4, "it accepts no login right now"),
        "newkey": (5, "nothing was sent"),
        "refuse": (4, "it accepts no login right now"),
        "hang": (4, "says nothing"),
    }
    for fault, (code, words) in told.items():
        bench.fault(fault)
        assert words in job.error("tighten", "--yes", "--quiet", code=code), fault
        bench.fault("none")
    bench.fault("swallow")
    told_so = job("tighten", "--yes", code=3)
    assert "steps done, each read back, 7 changes left out" in told_so, told_so
    assert "NOT DONE  name: after the change it reads ql8-new, wanted sk-sw-04" in told_so, told_so
    bench.fault("blab")
    assert "--again has it tried once more" in job("steps", "--all", code=4)
    assert "steps done, each read back" in job("tighten", "--yes", "--again", code=4)
    wrong = {**job.env, "YARDBOLT_MASTER": "not it"}
    got = job.run("prove", env=wrong)
    assert got.returncode == 2 and "does not open it; nothing was changed" in got.stderr
    job("prove", code=4)
    job("sheet")
    job("records", "journal", "sk-sw-04")
    swept(job.folder, job.said, [v for k, v in safe_values(job.folder).items() if "as found" not in k] + [MASTER])


def test_checking_changes_nothing_and_spares_the_account(job: Tool, benches: Callable[[], Bench]) -> None:
    """Checks before the first entry pass no question; a locked account is told apart; the try budget holds across
    runs."""
    bench = benches()
    for _ in range(2):
        out = job("check", "--quiet", code=3)
        assert "licence terms must be accepted" in out and "foreman, spanner" in out
    asked = job.run("enter")
    assert asked.returncode == 2 and "nobody is at the keyboard" in asked.stderr and "TERMS OF USE" in asked.stdout
    job("enter", "--yes", "--this-one")
    for _ in range(5):
        opens("wrong-guess", "foreman")
    out = job("check", code=3)
    assert "ssh as foreman: locked" in out
    outcomes = [e["outcome"] for e in journal(job.folder) if e["event"] == "tried" and e["account"] == "foreman"]
    assert outcomes.count("locked") == 1 and outcomes[-1] == "locked", "a locked account is left alone"
    assert bench.switch.hands["foreman"].locked_until > 0
    with sqlite3.connect(job.folder / "record.sqlite") as db:
        kinds = {row[0] for row in db.execute("select distinct kind from documents")}
    assert {"check", "as found", "as found outside", "host key ssh"} <= kinds


def test_what_is_only_shown_is_shown(job: Tool) -> None:
    """Every command that lists, checks or shows, run once; each says what there is, and names no secret."""
    assert "yard.yaml: sound" in job("job", "check")
    told = job("family", "list")
    assert [line.split()[0] for line in told.splitlines() if line[:1].strip()] == sorted(shipped("families"))
    assert json.loads(job("records", "schema"))["$schema"]
    assert "stick/safe.kdbx: the same" in job("safe", "check")
    (job.folder / "stick" / "safe.kdbx").unlink()
    job("safe", "copy")
    assert "is never overwritten" in job.error("safe", "copy", code=2)
    job("enter", "--yes", "--this-one")
    assert "sk-sw-04  foreman" in " ".join(job("safe", "list").split()).replace("sk-sw-04 ", "sk-sw-04  ")
    secret = safe_values(job.folder)["sk-sw-04/foreman"]
    assert secret not in "".join(job.said)
    assert (
        "on a terminal only" in (refused := job.error("safe", "show", "sk-sw-04", "foreman", code=2))
        and secret not in refused
    )
