"""Makes drawn by lot, from as found to as left on their wires, judged by a client of their own: python sweeps/makevariety.py MANY [FIRST [AT_ONCE]]

Some again: python sweeps/makevariety.py seeds SEED...; one with its fewest features: python sweeps/makevariety.py shrink SEED."""

from __future__ import annotations

import base64
import json
import os
import re
import socket
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor, as_completed
from multiprocessing import get_context
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

sys.path.insert(0, str(Path(__file__).parent.parent))
from pykeepass import PyKeePass

from sweeps.variety.drawing import Drawn, Draws, odd, shrunk, table
from sweeps.variety.manual import family
from sweeps.variety.things import GROUPS, Running, fits, running
from tests.conftest import MASTER, Tool
from yardbolt.adapters.safe import KdbxSafe, create
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


def light_safe(path: Path) -> bytes:
    """An empty safe that opens at once."""
    create(path, Secret(MASTER), None, None)
    opened = PyKeePass(str(path), password=MASTER)
    cost = opened.kdbx.header.value.dynamic_header.kdf_parameters.data.dict
    cost["I"].value, cost["M"].value = 1, 65536
    opened.save()
    return path.read_bytes()


def reached(source: str, at: str, face: str) -> str:
    """What somebody meets who comes from there: words of the unit's door, or how it was turned away."""
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
    made = light_safe(folder / "safe.kdbx")
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
    runs = [do("tighten", "--yes", "--this-one", "d-1")]
    while "AS LEFT" not in runs[-1][1] and len(runs) < 3:
        runs.append(do("tighten", "--yes", "--this-one", "d-1"))
    code, text = runs[-1]
    end = next(
        (line for line in reversed(text.splitlines()) if line.startswith("yardbolt:") or "AS LEFT" in line), text[-300:]
    )
    if any("defect in" in one for one in said):
        return "false", "a defect: " + next(line for one in said for line in one.splitlines() if "defect in" in line)[
            :300
        ]
    unit.thing.restart()
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
        return "shut out", end
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
            and not re.search(r"turned away|from|address|anyone|open to", wrong_of(sheet))
        ):
            problems.append("a stranger is let in, and nothing says so")
        kept = thing.kept
        for name, good, word in (
            ("shortest", kept["shortest"] >= 12, "password"), ("notice", kept["notice"].startswith("Larkmoor Tramway. Auth") and len(kept["notice"]) > 30, "notice|banner"),
            ("idle", 0 < kept["idle"] <= 600, "idle"), ("wrong", 0 < kept["wrong"] <= 10, "wrong|lock"), ("time", f"{net}.20" in kept["time"], "time|clock"), ("name", kept["name"] == "d-1", "name"),
        ):  # fmt: skip
            if not good and not re.search(word, told.partition("AS LEFT")[2] + wrong_of(sheet), re.IGNORECASE):
                problems.append(f"{name} is {kept[name]!r}, and nothing says so")
    if problems:
        return "false", "; ".join(problems)
    if not finished:
        return "stuck", f"{code} ({len(runs)} runs): {end}"
    planned = do("steps", "d-1")
    if "0 changes" not in planned[1]:
        return "stuck", f"not at rest: {planned[1][-300:]}"
    gaps = re.search(
        r"CANNOT|NOT SO|NOT PLANNED|left out|FAILS|could not be tried|not tried|unsafe", text.partition("AS LEFT")[2]
    )
    return ("told", f"{code}: {end}") if gaps else ("carried", f"{code}: {end}")


def wrong_of(sheet: Any) -> str:
    """All that a sheet says is not as it should be."""
    left = sheet.get("left", {})
    findings = [" ".join(map(str, one.values())) for one in left.get("findings", ()) if one["state"] != "holds"]
    proofs = [f"{one['text']} {one['saw']}" for one in sheet.get("proofs", ()) if one["result"] != "holds"]
    return "\n".join([*findings, *proofs, *sheet.get("owed", ()), *sheet.get("unplanned", ())])


def tried(case: Drawn, seed: int, keep: str = "") -> tuple[str, str, float]:
    """One make in a folder of its own."""
    began = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="makes-") as folder:
        try:
            outcome, why = carried(case, seed, Path(folder))
        except Exception as e:
            outcome, why = "not begun", f"{type(e).__name__}: {str(e)[-300:]}"
        if keep and outcome != "carried":
            Path(keep).mkdir(parents=True, exist_ok=True)
            for name in ("said", "families/drawn.yaml"):
                if (Path(folder) / name).exists():
                    (Path(keep) / Path(name).name).write_bytes((Path(folder) / name).read_bytes())
    return outcome, why, time.monotonic() - began


def main(arguments: list[str]) -> int:
    keep = Path(os.environ.get("VARIETY", Path(tempfile.gettempdir(), "makevariety")))
    if arguments and arguments[0] == "shrink":
        seed = int(arguments[1])
        case = DRAWS.draw(seed)
        print(odd(case, PLAIN))
        outcome = tried(case, seed)[0]
        case = shrunk(case, PLAIN, lambda fewer: fits(fewer) and tried(fewer, seed)[0] == outcome)
        print("fewest:", odd(case, PLAIN), *tried(case, seed, str(keep / f"{seed}-shrunk"))[:2])
        return 0
    if arguments and arguments[0] == "seeds":
        seeds, at_once = [int(one) for one in arguments[1:]], 2
    else:
        many, first, at_once = (*map(int, arguments), *(40, 0, 2)[len(arguments) :])
        seeds = DRAWS.cover(many, first)
    rows = []
    with ProcessPoolExecutor(at_once, get_context("spawn"), max_tasks_per_child=40) as pool:
        under_way = {pool.submit(tried, DRAWS.draw(seed), seed, str(keep / str(seed))): seed for seed in seeds}
        for done in as_completed(under_way):
            seed, (outcome, why, seconds) = under_way[done], done.result()
            case = odd(DRAWS.draw(seed), PLAIN)
            if outcome not in ("carried", "told"):
                print(f"{seed} {outcome} in {seconds:.0f} s: {case}\n    {why}", flush=True)
            rows.append((seed, outcome, case, why))
    print(table(rows))
    return int(any(outcome in ("shut out", "false") for _, outcome, _, _ in rows))


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
