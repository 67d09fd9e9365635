"""A way of talking nobody wrote a program for: two files, one row of the table of ways, and a family that names it.
With them a unit is found, planned, tightened and proven; nothing else of the program knows that the way is there."""

from __future__ import annotations

import json
import os
import socketserver
import threading
from pathlib import Path
from typing import Any, cast

import pytest

import yardbolt.wires
from tests.conftest import Tool
from tests.slips.talk import TALK
from tests.test_job import safe_values
from yardbolt.core.talk.ways import WAYS

NET = f"127.88.{10 + os.getpid() % 240}"
AT, PORT = f"{NET}.9", 2047
FAMILY = f"""
family: ashgill-ct3
title: Ashgill CT-3 cable tester
marks: {{identity/model: CT-3}}
factory: {{ports: {{slips: {PORT}}}, logins: [{{account: reel, secret: reel}}]}}
channels: {{line: {{talk: slips, services: {{slips: plain}}, hello: who}}}}
values:
  accounts/*/role: {{words: {{all: full, some: read}}}}
  banner: {{empty: not set}}
asks:
  plate: {{sheet: plate, leaves: {{identity/model: model, identity/serial: serial, name: name, banner: banner, policy/min_length: least}}}}
  people: {{sheet: people, rows: [{{at: "*", into: accounts, key: "#", whole: yes, leaves: {{role: may, enabled: "on"}}}}]}}
facts: {{services/slips/encrypted: no, services/slips/enabled: yes, services/slips/port: "{PORT}"}}
ops:
  plate-name: {{set: [name], line: name, says: "{{value}}"}}
  plate-banner: {{set: [banner], line: banner, says: "{{value}}"}}
  plate-least: {{set: [policy/min_length], line: least, says: "{{value}}"}}
  come: {{make: [accounts/*], line: "come {{key}} {{role}}", says: "{{secret}}", then: {{enabled: yes}}}}
  word: {{set: [accounts/*/secret], line: "word {{key}}", says: "{{value}}"}}
  go: {{drop: [accounts/*], line: "go {{key}}", cuts: account}}
"""
YARD = f"""
job: reels
owner: Larkmoor Tramway
technician: Ros Tamblin
baseline: hand-tight
segments: {{line: {{network: {NET}.0/24, administrators: [{NET}.10], laptop: {NET}.10, stranger: {NET}.66}}}}
accounts: {{lt-works: {{rights: full, whose: works office}}}}
needs: {{tester: [slips]}}
banner: Larkmoor Tramway. Staff only.
allows: {{remove factory accounts: yes}}
safe: {{copy: copy/safe.kdbx}}
waivers: [{{rule: plain-service, unit: ct-1, reason: it speaks nothing else, owner: Larkmoor Tramway, until: 2099-06-01}}]
units: {{ct-1: {{class: tester, family: ashgill-ct3, segment: line, at: {AT}}}}}
"""


class CableTester(socketserver.StreamRequestHandler):
    """The unit; `held` is all it keeps."""

    held: dict[str, Any]

    def handle(self) -> None:
        inside = False
        for line in self.rfile:
            try:
                slip = dict(json.loads(line))
            except ValueError:
                return  # somebody tries out what is spoken here
            people = self.held["people"]
            if "who" in slip:
                inside = people.get(slip["who"], {}).get("word") == slip["word"]
                self.say({"in": inside})
            elif not inside:
                self.say({"why": "say who you are"})
            elif "read" in slip:
                shown = {name: {"may": one["may"], "on": "yes"} for name, one in people.items()}
                self.say(self.held["plate"] if slip["read"] == "plate" else shown)
            else:
                self.write_line(slip["line"].split(), slip["says"])

    def write_line(self, line: list[str], says: str) -> None:
        people = self.held["people"]
        match line:
            case ["come" | "word", *_] if len(says) < int(self.held["plate"]["least"]):
                return self.say({"why": "too short"})
            case ["come", name, may]:
                people[name] = {"may": may, "word": says}
            case ["word", name]:
                people[name]["word"] = says
            case ["go", name]:
                del people[name]
            case [name] if name in self.held["plate"]:
                self.held["plate"][name] = says
            case _:
                return self.say({"why": "no such line"})
        return self.say({"ok": True})

    def say(self, what: Any) -> None:
        self.wfile.write(json.dumps(what).encode() + b"\n")


class Line(socketserver.ThreadingTCPServer):
    allow_reuse_address = daemon_threads = True


def test_a_new_way_of_talking_is_two_files_and_a_row(
    tool: Tool, light_safe: bytes, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setitem(cast(dict[str, Any], WAYS), TALK.name, TALK)
    room = Path(__file__).parent / "slips"
    monkeypatch.setattr(yardbolt.wires, "__path__", [*yardbolt.wires.__path__, str(room)])
    CableTester.held = {
        "people": {"reel": {"may": "all", "word": "reel"}},
        "plate": {"model": "CT-3", "serial": "5501", "name": "tester", "banner": "", "least": "4"},
    }
    (tool.folder / "families").mkdir()
    (tool.folder / "families" / "ashgill-ct3.yaml").write_text(FAMILY)
    (tool.folder / "yard.yaml").write_text(YARD)
    for place in (Path("safe.kdbx"), Path("copy/safe.kdbx")):
        (tool.folder / place).parent.mkdir(exist_ok=True)
        (tool.folder / place).write_bytes(light_safe)
    tool.env |= {"YARDBOLT_PORTS": f"{PORT}-{PORT}"}
    # its own keys are checked, and stand in the schema, as those of every way do
    tool("family", "check", "families/ashgill-ct3.yaml")
    wrong = tool.folder / "wrong.yaml"
    wrong.write_text(FAMILY.replace("sheet: people", "sheets: people"))
    assert "wrong.yaml:12" in (said := tool.error("family", "check", "wrong.yaml", code=2)) and "sheets" in said, said
    assert '"hello"' in tool("family", "schema")
    with Line((AT, PORT), CableTester) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        assert "reel: open with the published password" in (found := tool("check", code=None)), found
        told = tool("tighten", "--yes", "--this-one", "ct-1", code=None)
        assert "FAILS" not in told, told
        assert "0 changes" in tool("steps", code=None)
        server.shutdown()
    assert {name: one["may"] for name, one in CableTester.held["people"].items()} == {"lt-works": "all"}
    assert CableTester.held["people"]["lt-works"]["word"] in safe_values(tool.folder).values()
    assert CableTester.held["plate"] == {
        "model": "CT-3", "serial": "5501", "name": "ct-1", "banner": "Larkmoor Tramway. Staff only.", "least": "12",
    }  # fmt: skip
