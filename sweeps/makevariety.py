"""Makes drawn by lot, from as found to as left on their wires, judged by a client of their own: python
sweeps/makevariety.py MANY [FIRST [AT_ONCE]]

Some again: python sweeps/makevariety.py seeds SEED...; one with its fewest features: python sweeps/makevariety.py
shrink SEED."""

from __future__ import annotations

import base64
import json
import os
import random
import re
import socket
import sys
import threading
import time
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

sys.path.insert(0, str(Path(__file__).parent.parent))

from sweeps.variety.drawing import Drawn, Draws, Sweep, Tried, in_a_folder, wrong_of
from sweeps.variety.manual import family
from sweeps.variety.things import GROUPS, Running, fits, running
from tests.conftest import MASTER, Tool, empty_safe
from yardbolt.adapters.safe import KdbxSafe
from yardbolt.core.secret import Ref, Secret

DRAWS = Draws(GROUPS, fits)
PLAIN = {group: next(iter(of)) for group, of in GROUPS.items()}
PORT = 2049
JOB = """
job: drawn makes
owner: Larkmoor Tramway
technician: Ros Tamblin
baseline: hand-tight
segments: {{line: {{network: {net}.0/24, administrators: [{net}.10, {net}.11], laptop: {net}.10, stranger: {net}.66}}}}
accounts: {{lt-works: {{rights: full, whose: works office}}, lt-watch: {{rights: read, whose: control room}}}}
needs: {{drawn: [{service}]}}
servers: [{{kind: time, at: {net}.20, here: no}}]
banner: "Larkmoor Tramway. Authorised staff only."
allows: {{terms: works office, restart: yes, remove factory accounts: yes}}
safe: {{copy: copy/safe.kdbx}}
waivers: [{{rule: plain-service, unit: d-1, reason: it speaks nothing else, owner: Larkmoor Tramway, until: 2099-06-01}}]
units: {{d-1: {{class: drawn, family: drawn, segment: line, at: {net}.9}}}}
"""


def network() -> str:
    """One that no other process of this machine has."""
    return f"127.{160 + os.getpid() % 90}.{os.getpid() // 90 % 250}"


def reached(source: str, at: str, face: str) -> str:
    """What somebody meets who comes from there: words of the unit's door, or how it was blocked."""
    try:
        with socket.create_connection((at, PORT), 3, (source, 0)) as there:
            there.settimeout(2)
            if face != "console":
                there.sendall(b"GET /door HTTP/1.1\r\nHost: unit\r\nConnection: close\r\n\r\n")
            got = b""
            while b"Visitor:" not in got and (more := there.recv(4000)):
                got += more
            return got.decode(errors="replace")
    except (OSError, TimeoutError) as e:
        return f"no answer: {e}"


def inside(unit: Running, source: str, name: str, word: str) -> bool:
    """Does a client of their own get in, over the wire?"""
    thing, face = unit.thing, unit.thing.style["face"]
    try:
        with socket.create_connection((thing.at, PORT), 3, (source, 0)) as there:
            there.settimeout(3)
            if face == "console":
                for sign, text in (("Visitor: ", name), ("Word: ", word)):
                    heard = ""
                    while not heard.endswith(sign):
                        more = there.recv(400)
                        if not more:
                            return False
                        heard += more.decode(errors="replace")
                    there.sendall(f"{text}\r\n".encode())
                heard = ""
                while (
                    "Good day" not in heard
                    and "Stay out" not in heard
                    and "Locked up" not in heard
                    and (more := there.recv(400))
                ):
                    heard += more.decode(errors="replace")
                return "Good day" in heard
            if thing.style["login"] == "basic":
                pair = base64.b64encode(f"{name}:{word}".encode()).decode()
                head, body = f"GET /{thing.verb['plate']} HTTP/1.1\r\nAuthorization: Basic {pair}\r\n", ""
            elif face == "pages":
                head, body = (
                    "POST /door HTTP/1.1\r\nContent-Type: application/x-www-form-urlencoded\r\n",
                    urlencode({"who": name, "word": word}),
                )
            else:
                head, body = (
                    "POST /door HTTP/1.1\r\nContent-Type: application/json\r\n",
                    json.dumps({"who": name, "word": word}),
                )
            there.sendall(
                f"{head}Host: unit\r\nConnection: close\r\nContent-Length: {len(body)}\r\n\r\n{body}".encode()
            )
            got = b""
            while more := there.recv(4000):
                got += more
            text = got.decode(errors="replace")
            return (
                not re.search(r"stay out|nobody sits|locked up|you may not|Not from|not from", text, re.IGNORECASE)
                and re.search(r" (200|302) ", text.splitlines()[0]) is not None
            )
    except (OSError, TimeoutError, IndexError):
        return False


def carried(case: Drawn, seed: int, folder: Path) -> tuple[str, str]:
    """What came of one make, and why."""
    net = network()
    at = f"{net}.9"
    unit = running(case, seed, at, PORT)
    try:
        return judged(case, unit, net, folder)
    finally:
        unit.down()


def judged(case: Drawn, unit: Running, net: str, folder: Path) -> tuple[str, str]:
    tool = Tool(
        folder,
        {
            **os.environ,
            "COLUMNS": "160",
            "HOME": str(folder),
            "YARDBOLT_PORTS": f"{PORT}-{PORT}",
            "YARDBOLT_MASTER": MASTER,
        },
    )
    (folder / "families").mkdir()
    (folder / "families" / "drawn.yaml").write_text(family(unit.thing))
    (folder / "yard.yaml").write_text(JOB.format(net=net, service="telnet" if case["face"] == "console" else "http"))
    (folder / "copy").mkdir()
    made = empty_safe(folder / "safe.kdbx")
    (folder / "copy" / "safe.kdbx").write_bytes(made)
    for one in ("safe.kdbx", "copy/safe.kdbx"):
        (folder / one).chmod(0o600)
    said: list[str] = []

    def do(*args: str) -> tuple[int, str]:
        got = tool.run(*args)
        said.append(f"== {' '.join(args)}: {got.returncode}\n{got.stdout}{got.stderr}")
        (folder / "said").write_text("\n".join(said))
        return got.returncode, got.stdout + got.stderr

    sound = do("family", "check", "families/drawn.yaml")
    if sound[0]:
        return "not begun", f"the family file: {sound[1].strip()}"
    do("check")
    if case["first"] != "nothing" and case["face"] != "objects":
        do("enter", "--yes", "--this-one", "d-1")
    if case["power"] == "goes after the first entry":
        unit.thing.loses_power()
        time.sleep(2.0)
        do("check")
        if case["first"] != "nothing" and case["face"] != "objects":
            do("enter", "--yes", "--this-one", "d-1")
    elif case["power"] == "goes in mid-run":
        cut = threading.Timer(random.Random(unit.thing.serial).uniform(0.5, 8.0), unit.thing.loses_power)
        cut.start()
    runs = [do("tighten", "--yes", "--this-one", "d-1")]
    while "AS LEFT" not in runs[-1][1] and len(runs) < 3:
        time.sleep(2.0 if case["power"] == "goes in mid-run" else 0.0)
        runs.append(do("tighten", "--yes", "--this-one", "d-1"))
    if case["power"] == "goes in mid-run":
        cut.cancel()
    code, text = runs[-1]
    end = next(
        (line for line in reversed(text.splitlines()) if line.startswith("yardbolt:") or "AS LEFT" in line), text[-300:]
    )
    if any("defect in" in one for one in said):
        return "false", "a defect: " + next(line for one in said for line in one.splitlines() if "defect in" in line)[
            :300
        ]
    unit.thing.loses_power()
    time.sleep(2.1)
    laptop, stranger = f"{net}.10", f"{net}.66"
    safe = KdbxSafe(folder / "safe.kdbx", Secret(MASTER), None, None)

    def held(account: str) -> str:
        found = safe.value(Ref(f"safe:d-1/{account}"))
        return found.reveal() if found else ""

    owner = bool(held("lt-works")) and inside(unit, laptop, "lt-works", held("lt-works"))
    old = [name for name, word in (("boss", "boss"), ("eye", "")) if inside(unit, laptop, name, word)]
    ours = [name for name in ("boss", "eye") if held(name) and inside(unit, laptop, name, held(name))]
    if not owner and not old and not ours:
        return "locked out", end
    do("sheet")
    sheets = sorted((folder / "sheets").glob("*.json"))
    sheet: Any = json.loads(sheets[-1].read_text()) if sheets else {}
    told = wrong_of(sheet) + "\n" + text
    finished = "AS LEFT" in text
    thing, problems = unit.thing, []
    if finished:
        problems += [f"{name} still gets in, and nothing says so" for name in old if name not in wrong_of(sheet)]
        if not owner and "lt-works" not in wrong_of(sheet):
            problems.append("the owner does not get in, and nothing says so")
        if (
            case["stranger"]
            and not re.search(
                r"no answer|from where you are|^$", reached(stranger, thing.at, case["face"]), re.IGNORECASE
            )
            and not re.search(r"blocks|open to anyone|who may reach", wrong_of(sheet))
        ):
            problems.append("a stranger is let in, and nothing says so")
        kept = thing.kept
        for name, good, word in (
            ("shortest", kept["shortest"] >= 12, "password"), ("notice", kept["notice"].startswith("Larkmoor Tramway. Auth") and len(kept["notice"]) > 30, "notice|banner"),
            ("idle", 0 < kept["idle"] <= 600, "idle"), ("wrong", 0 < kept["wrong"] <= 10, "wrong|lock"), ("time", f"{net}.20" in kept["time"], "time|clock"), ("name", kept["name"] == "d-1", "name"),
        ):  # fmt: skip
            if not good and not re.search(word, told.partition("AS LEFT")[2] + wrong_of(sheet), re.IGNORECASE):
                problems.append(f"{name} is {kept[name]!r}, and nothing says so")
        lies = {"weak password refused", "wrong passwords lock"} if case["rules"] == "are only shown" else set()
        problems += [
            f"{one['text']} is said to hold, and its rules are only shown"
            for one in sheet.get("proofs", ())
            if one["sort"] in lies and one["result"] == "holds"
        ]
        said_of_doors = {one["state"] for one in sheet["left"]["findings"] if one["rule"] == "login-first"}
        if (
            "holds" if case["doors"] == "show what was seen" and case["face"] != "console" else "fails"
        ) in said_of_doors:
            problems.append(f"its doors {case['doors']}, and what is said of that differs")
    if problems:
        return "false", "; ".join(problems)
    if "lets in anyone" in end:
        return "told", f"{code}: {end}"
    if not finished:
        return "stuck", f"{code} ({len(runs)} runs): {end}"
    planned = do("steps", "d-1")
    if "0 changes" not in planned[1]:
        return "stuck", f"not at rest: {planned[1][-300:]}"
    gaps = re.search(
        r"CANNOT|NOT DONE|NOT PLANNED|left out|FAILS|could not be tried|not tried|unsafe",
        text.partition("AS LEFT")[2].partition("SAFE TO UNPLUG")[0],
    )
    return ("told", f"{code}: {end}") if gaps else ("carried", f"{code}: {end}")


def tried(case: Drawn, seed: int, keep: str = "") -> Tried:
    """One of them in a folder of its own."""
    return in_a_folder(carried, ("said", "families/drawn.yaml"), case, seed, keep)


if __name__ == "__main__":
    sys.exit(Sweep("makevariety", DRAWS, tried, 40, 2).main(sys.argv[1:]))
