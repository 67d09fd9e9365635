"""Hosts drawn by lot, from as found to as left, judged by ordinary clients: python sweeps/hostvariety.py MANY [FIRST
[AT_ONCE]]

Some again: python sweeps/hostvariety.py seeds SEED...; one with its fewest features: python sweeps/hostvariety.py
shrink SEED. Needs root."""

from __future__ import annotations

import json
import os
import re
import socket
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))
import asyncssh

from sweeps.variety.drawing import Drawn, Draws, Sweep, Tried, in_a_folder, odd, wrong_of
from sweeps.variety.hostfeatures import BASES, GROUPS, PLAIN, boot, facts, fits, setup
from tests.conftest import MASTER, Tool, empty_safe, typed
from tests.test_tightened import YARD
from tests.test_yard import connects
from yardbolt.adapters.files import shipped
from yardbolt.adapters.safe import KdbxSafe
from yardbolt.bench.realhost import OFFICE, STATION, STRANGER, TECHNICIAN, Host, run
from yardbolt.core.secret import Ref, Secret

DRAWS = Draws({g: {name: one.weight for name, one in of.items()} for g, of in GROUPS.items()}, fits)
FOUND = {"root": "Works-4417-r", "tech": "Tech-881-q"}
ENDED = (0, 3, 4)


@dataclass
class Trial:
    """One host, its job, and the keys of its owner."""

    case: Drawn
    host: Host
    tool: Tool
    known: dict[str, Any]
    owner: Any

    def opens(self, account: str, password: str = "", key: Path | None = None, port: int = 0) -> bool:
        """Does an ordinary client log in, by the key with OpenSSH's own?"""
        at = str(port or self.known["port"])
        if key is not None:
            argv = ["ssh", "-F", "none", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "ConnectTimeout=15",
                    "-o", "IdentitiesOnly=yes", "-i", str(key), "-b", self.host.at(TECHNICIAN), "-p", at, f"{account}@{self.host.address}", "true"]  # fmt: skip
            return (
                subprocess.run(
                    ["timeout", "50", *argv], capture_output=True, check=False, timeout=60, stdin=subprocess.DEVNULL
                ).returncode
                == 0
            )
        return self.ran(account, password) is not None

    def ran(self, account: str, password: str, command: str = "", given: str = "") -> str | None:
        """What a command wrote, run by an ordinary client that logs in by its password; None where it does not get
        in."""
        import asyncio

        async def attempt() -> str | None:
            try:
                async with asyncssh.connect(self.host.address, int(self.known["port"]), username=account, password=password, known_hosts=None, client_keys=None,
                                            agent_path=None, config=None, local_addr=(self.host.at(TECHNICIAN), 0), login_timeout=30) as there:  # fmt: skip
                    return str((await there.run(command, input=given)).stdout) if command else ""
            except (asyncssh.Error, OSError, TimeoutError):
                return None

        return asyncio.run(attempt())

    def do(self, *args: str, wait: float = 900) -> tuple[int, str]:
        """Run a command of ours in a process of its own."""
        process = self.tool.start(*args)
        try:
            said = process.communicate(timeout=wait)[0]
        except subprocess.TimeoutExpired:
            process.kill()
            return -1, f"{process.communicate()[0]}\nno end within {wait:.0f} s"
        return process.returncode, said

    def secret(self, account: str) -> str:
        """What the safe holds for an account, if anything."""
        found = KdbxSafe(self.tool.folder / "safe.kdbx", Secret(MASTER), None, None).value(Ref(f"safe:box/{account}"))
        return found.reveal() if found else ""

    def again(self) -> list[str]:
        """How somebody logs in at the next run, where not as the job would have it."""
        word = self.secret("lt-works")
        by_key = self.known.get("key") and not (word and self.opens("lt-works", word))
        return ["--as", "root", "--ssh-key", "first"] if by_key else []

    def back(self) -> None:
        """Wait until it answers after a start."""
        for _ in range(240):
            if connects(self.host.at(TECHNICIAN), self.host.address, int(self.known["port"]), 5):
                return
            time.sleep(0.25)


def laid_out(case: Drawn, number: int, folder: Path) -> Trial:
    """The host as its maker sets it up, not started, and the job beside it."""
    known = facts(case)
    (folder / "host").mkdir()
    run("mount", "-t", "tmpfs", "-o", f"size={known.get('disk', '120m')}", "tmpfs", str(folder / "host"))
    owner = asyncssh.generate_private_key("ssh-ed25519", comment="works office")
    first = asyncssh.generate_private_key("ssh-ed25519", comment="first")
    host = BASES[case["base"]]("box", number, "", "", folder / "host", boot(case))
    filled = {"NET": host.network, "ADDRESS": host.address, "FIRSTKEY": first.export_public_key().decode().strip()}
    each = str(known.get("each", ""))
    host.setup = re.sub(r"\b(NET|ADDRESS|FIRSTKEY)\b", lambda m: filled[m[0]], setup(case)) + (
        "\n" + each if case["base"].startswith("units") else ""
    )
    host.start = (
        "touch /yard/made; exec /bin/busybox init"
        if case["base"] == "busybox"
        else ""
        if case["base"].startswith("units")
        else boot(case)
    )
    host.start += f"\n{known.get('start by hand', '')}" if case["base"].startswith("scripts") else ""
    tool = Tool(
        folder / "job",
        {**os.environ, "COLUMNS": "200", "HOME": str(folder), "YARDBOLT_PORTS": "1-10000", "YARDBOLT_MASTER": MASTER},
    )
    tool.folder.mkdir()
    owner.write_private_key(tool.folder / "owner")
    first.write_private_key(tool.folder / "first")
    for name in ("owner", "first"):
        (tool.folder / name).chmod(0o600)
    job = YARD.format(net=host.network, net6=host.network6, name="box", key=owner.export_public_key().decode().strip())
    needs = ["ssh", *(["snmp"] if known.get("snmp") else []), *known["needs"]]
    job = re.sub(r"needs: .*", f"needs: {{box: [{', '.join(needs)}]}}", job)
    job = job if known.get("snmp") else re.sub(r", lt-graph: \{[^}]*\}", "", job)
    job += (
        "waivers: [{rule: plain-service, unit: box, reason: it speaks nothing else, owner: Larkmoor Tramway, until: 2099-06-01}]\n"
        if known["needs"]
        else ""
    )
    if known.get("no6"):
        job = re.sub(
            r', "[0-9a-f:]*::?[0-9a-f]*"|, laptop also: "[^"]*"|, stranger also: "[^"]*"|, also at: "[^"]*"', "", job
        )
    if known["port"] != 22:
        job = job.replace("segment: depot,", f'segment: depot, ports: {{ssh: "{known["port"]}"}},')
    (tool.folder / "yard.yaml").write_text(job)
    family = "linux-small" if known["small"] else "linux-server"
    base = shipped("families")[family].read_text().replace(f"family: {family}", "family: box", 1)
    factory = "factory:\n  ports: {ssh: 22}\n  logins: [{account: guest, secret: guest}, {account: admin, secret: admin}]\n  lockout: {tries: 20, release: 60 s}\n"
    base = base.replace("factory:\n  ports: {ssh: 22}\n", factory) if "factory:" in base else base + factory
    (tool.folder / "families").mkdir()
    (tool.folder / "families" / "box.yaml").write_text(base)
    quick = shipped("baselines")["hand-tight"].read_text().replace("baseline: hand-tight", "baseline: quick")
    (tool.folder / "baselines").mkdir()
    lock = "{rule: lock-out, set: {tries at least: 3, tries at most: 3, release at least: 5 s}}"
    (tool.folder / "baselines" / "quick.yaml").write_text(re.sub(r"\{rule: lock-out.*\}", lock, quick))
    (tool.folder / "copy").mkdir()
    (tool.folder / "copy" / "safe.kdbx").write_bytes(empty_safe(tool.folder / "safe.kdbx"))
    for name in ("safe.kdbx", "copy/safe.kdbx"):
        (tool.folder / name).chmod(0o600)
    return Trial(case, host, tool, known, owner)


def carried(case: Drawn, number: int, folder: Path) -> tuple[str, str]:
    """What came of one host, and why."""
    trial = laid_out(case, number, folder)
    host, known = trial.host, trial.known
    try:
        host.up()
        if case["base"].startswith("units") and known.get("start by hand"):
            host.shell("systemctl start ssh || /usr/sbin/sshd", check=False)
        trial.back()
        account = str(known["as"])
        if not (
            trial.opens(account, key=trial.tool.folder / "first")
            if known.get("key")
            else trial.opens(account, FOUND[account])
        ):
            return "not begun", f"as found, {account} does not get in by any client"
        by = ["--as", account, "--ssh-key", "first"] if known.get("key") else ["--as", account]
        if known.get("key"):
            checked = trial.do("check", *by)
        else:
            checked = typed(trial.tool, [FOUND[account].encode()], "check", *by, "--keep")
        more = by if known.get("key") else []
        runs = [trial.do("tighten", "--yes", "--this-one", *more, "box")]
        while ("AS LEFT" not in runs[-1][1] or "POSSIBLE NOW" in runs[-1][1]) and len(runs) < 3:
            runs.append(trial.do("tighten", "--yes", "--this-one", *trial.again(), "box"))
        (folder / "said").write_text(
            f"{odd(case, PLAIN)}\n{checked}\n" + "\n".join(f"== {code}\n{said}" for code, said in runs)
        )
        if len(runs) > 1 or "a defect in" in runs[-1][1]:
            (folder / "journal").write_text(trial.do("records", "journal", "box")[1])
        return judged(trial, runs, folder)
    finally:
        host.down()
        run("umount", "-l", str(folder / "host"), check=False)


UNBEGUN = r"not begun: only .* logged in|leave no value|none of our logins"


def judged(trial: Trial, runs: list[tuple[int, str]], folder: Path) -> tuple[str, str]:
    """By plain sockets, the OpenSSH client, and files read as root, once it has been off and on again."""
    host, tool, known = trial.host, trial.tool, trial.known
    if any("a defect in" in said or "Traceback" in said for _, said in runs):
        return "false", "a defect: " + next(
            line for _, said in runs for line in said.splitlines() if "defect in" in line or "Error" in line
        )[:200]
    host.power_cycle()
    trial.back()
    time.sleep(2)
    code, said = runs[-1]
    finished = code in ENDED and "AS LEFT" in said
    end = next(
        (line for line in reversed(said.splitlines()) if line.startswith("yardbolt:") or "AS LEFT" in line), said[-300:]
    )
    owner = {
        "key": trial.opens("lt-works", key=tool.folder / "owner"),
        "password": bool(trial.secret("lt-works")) and trial.opens("lt-works", trial.secret("lt-works")),
    }
    logins = {
        **FOUND,
        "guest": "guest",
        "admin": "admin",
        "blank": "",
        **known.get("more", {}),
        **known.get("published", {}),
    }
    open_now = [name for name, word in logins.items() if trial.opens(name, word)]
    again = [name for name in ("root", "tech") if trial.secret(name) and trial.opens(name, trial.secret(name))]
    if trial.opens(str(known["as"]), key=tool.folder / "first"):
        again.append("by the first key")
    begun = not re.search(UNBEGUN, end)
    if not begun and not any(owner.values()) and not open_now and "start by hand" in known:
        # it was found so, and nothing was sent to it
        return "told", f"{code}: {end}; found with its server off at the next start"
    if not any(owner.values()) and not again and not open_now:
        # a slow start, or a lock of its own for a while, is not for good
        reached = connects(host.at(TECHNICIAN), host.address, int(known["port"]), 5)
        time.sleep(200)
        if not trial.opens("lt-works", key=tool.folder / "owner"):
            return "locked out", f"{code}: {end}"
        return "false", f"nobody got in for minutes after the start ({'a lock' if reached else 'its port was closed'})"
    tool_said = trial.do("sheet")
    sheets = sorted((tool.folder / "sheets").glob("*.json"))
    sheet = json.loads(sheets[-1].read_text()) if sheets else {}
    (folder / "sheet").write_text(json.dumps(sheet, indent=1))
    told = wrong_of(sheet)
    # a host as it was given back is as open as it was found, and nobody says otherwise
    still = [name for name in open_now if finished and name not in again and name not in told]
    problems = [f"{name} still gets in, and nothing says so" for name in still]
    for port in listens(host) if finished else ():
        reached = connects(host.at(STRANGER), host.address, port, 3)
        if reached and not re.search(rf"\b{port}\b|blocks|open to anyone|more than the job allows", told):
            problems.append(f"a stranger reaches {port}, and nothing says so")
        if port == known["port"] and not connects(host.at(OFFICE), host.address, port, 5):
            problems.append("the office does not reach it")
    full = finished and sheet.get("left", {}).get("proven")
    if full and not any(owner.values()) and "lt-works" not in told:
        problems.append("the owner does not get in, and nothing says so")
    if full and known["sudo"] and owner["password"] and not re.search(r"lt-works|sudo", told):
        word = trial.secret("lt-works")
        got = trial.ran("lt-works", word, "sudo -k -S -p '' id -u", f"{word}\n")
        for _ in range(6):
            if got is not None:
                break
            time.sleep(20)  # its server fines an address for the wrong logins that were just tried
            got = trial.ran("lt-works", word, "sudo -k -S -p '' id -u", f"{word}\n")
        if (got or "").strip() != "0":
            problems.append(f"the owner does not become root ({got!r})")
    if full and "log" not in told and not arrives(host):
        problems.append("its log does not arrive, and nothing says so")
    if problems:
        return "false", "; ".join(problems)
    planned = trial.do("steps", "box")
    with (folder / "said").open("a") as kept:
        kept.write(f"== steps {planned[0]}\n{planned[1]}")
    # a run that did not begin, and said what it lacks, has changed nothing
    if not finished and code in (2, 4, 5) and not begun:
        return "told", f"{code}: {end}"
    if not finished:
        return "stuck", f"{code} ({len(runs)} runs): {end}"
    if "POSSIBLE NOW" in said:
        return "stuck", f"{code} ({len(runs)} runs): it says that more is possible, and does not do it"
    if "0 changes" not in planned[1] and "nobody with full rights is in" not in " ".join(planned[1].split()):
        lines = planned[1].splitlines()
        changes = "; ".join(line.strip() for line in lines[:8] if not line.startswith("  #"))[:300]
        return "stuck", f"{code}: not at rest: {changes}"
    if tool_said[0] not in ENDED:
        return "stuck", f"no sheet: {tool_said[1][-200:]}"
    gaps = re.search(r"CANNOT|NOT DONE|NOT PLANNED|left out|FAILS|could not be tried", said)
    return ("told", f"{code}: {end}") if gaps or code == 4 else ("carried", f"{code}: {end}")


def listens(host: Host) -> set[int]:
    """The TCP ports something of the host listens on for others than itself, by its own tables."""
    found = set()
    for name in ("tcp", "tcp6"):
        for line in host.shell(f"cat /proc/net/{name} 2>/dev/null", check=False).splitlines()[1:]:
            at, state = line.split()[1], line.split()[3]
            address, _, port = at.partition(":")
            if state == "0A" and not address.endswith(("7F", "0100007F")) and address != "0" * 24 + "01000000":
                found.add(int(port, 16))
    return found


def arrives(host: Host) -> bool:
    """Does what is logged there reach the server of the job?"""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as ear:
        ear.bind((host.at(STATION), 514))
        ear.settimeout(8)
        host.shell("logger variety-here || busybox logger variety-here", check=False)
        end = time.monotonic() + 8
        while time.monotonic() < end:
            try:
                if b"variety-here" in ear.recv(4000):
                    return True
            except TimeoutError:
                return False
    return False


def tried(case: Drawn, seed: int, keep: str = "") -> Tried:
    """One of them in a folder of its own."""
    return in_a_folder(carried, ("said", "sheet", "journal", "host/log"), case, seed % 200 + 1, keep)


if __name__ == "__main__":
    sys.exit(Sweep("hostvariety", DRAWS, tried, 20, 3).main(sys.argv[1:]))
