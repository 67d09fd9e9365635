"""The web units of the bench against their own manuals, without a wire: python sweeps/manuals.py"""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
from collections.abc import Mapping
from typing import Any

import pytest

from yardbolt.bench.accesspoint import AccessPoint
from yardbolt.bench.intercomexchange import IntercomExchange
from yardbolt.bench.linecamera import EPOCH, LineCamera
from yardbolt.bench.packetgate import PacketGate
from yardbolt.bench.plugged import No as NotTaken
from yardbolt.bench.waysiderouter import WaysideRouter


class Tick:
    """A time that goes by hand."""

    now = 100.0

    def __call__(self) -> float:
        return self.now


def proof(
    camera: LineCamera, who: str, word: str, method: str = "GET", target: str = "/cab", algorithm: str = "SHA-256"
) -> str:
    """What a client answers to the camera's challenge (RFC 7616)."""
    name = {"SHA-256": "sha256", "MD5": "md5"}[algorithm]
    offered = next(one for one in camera.challenge() if algorithm in one)
    nonce = re.search(r'nonce="(\w+)"', offered)[1]  # type: ignore[index]

    def h(text: str) -> str:
        return hashlib.new(name, text.encode()).hexdigest()

    response = h(f"{h(f'{who}:cab:{word}')}:{nonce}:00000001:ab:auth:{h(f'{method}:{target}')}")
    return f'Digest username="{who}", realm="cab", nonce="{nonce}", uri="{target}", algorithm={algorithm}, qop=auth, nc=00000001, cnonce="ab", response="{response}"'


def the_line_camera_is_as_its_manual_says() -> None:
    """Proof by either digest, a nonce that is used up, wrong words that rest a hand once they count, the strict guard
    and its name, the last of rank all, the clock."""
    tick = Tick()
    camera = LineCamera(tick)
    for algorithm in ("SHA-256", "MD5"):
        assert camera.proven("GET", "/cab", proof(camera, "warden", "warden", algorithm=algorithm), "192.0.2.1") == (
            200,
            "warden",
        )
    old = proof(camera, "warden", "warden")
    for _ in range(80):
        assert camera.proven("GET", "/cab", old, "192.0.2.1")[0] == 200
    assert camera.proven("GET", "/cab", old, "192.0.2.1")[0] == 0, "stale"
    assert camera.proven("GET", "/other", proof(camera, "warden", "warden"), "192.0.2.1")[0] == 401
    for _ in range(9):
        assert camera.proven("GET", "/cab", proof(camera, "warden", "x"), "192.0.2.1")[0] == 401
    assert camera.answer("warden", "PUT", "/cab/called", {"called": "lc"}) == (
        409,
        {"no": "names are given under the strict guard"},
    )
    assert camera.answer("warden", "PUT", "/cab/guard", {"guard": "strict"})[0] == 204 and camera.certificate == 2
    assert camera.rules == {"least": 10, "kinds": 3, "tries": 5, "lock": 300, "rest": 0}
    assert camera.answer("warden", "PUT", "/cab/notice", {"notice": "x"}) == (409, {"no": "give it a name first"})
    assert camera.answer("warden", "PUT", "/cab/called", {"called": "lc2-04"})[0] == 204
    assert "less than" in camera.answer("warden", "PUT", "/cab/rules", {**camera.rules, "least": 6})[1]["no"]
    for _ in range(5):
        assert camera.proven("GET", "/cab", proof(camera, "warden", "x"), "192.0.2.1")[0] == 401
    assert camera.proven("GET", "/cab", proof(camera, "warden", "warden"), "192.0.2.1")[0] == 423
    tick.now += 301
    assert camera.proven("GET", "/cab", proof(camera, "warden", "warden"), "192.0.2.1")[0] == 200
    assert (
        "rank all must stay" in camera.answer("warden", "DELETE", f"/cab/folk/{camera.slots['warden']}", None)[1]["no"]
    )
    before = dict(camera.slots)
    assert (
        camera.answer(
            "warden", "POST", "/cab/folk", {"who": "lt-works", "rank": "all", "on": True, "word": "Abcdefgh-12"}
        )[0]
        == 201
    )
    assert camera.slots != before, "slots are dealt again"
    assert camera.answer("fitter", "GET", "/cab/folk", None)[1]["folk"][0]["word"] == "works"
    camera.answer("warden", "PUT", "/cab/clock", {"clock": "2026-05-04T06:00:00+00:00"})
    assert camera.fetch("", "")[1]["clock"].startswith("2026-05-04")
    camera.start_again()
    assert camera.fetch("", "")[1]["clock"].startswith(EPOCH.isoformat()[:10]), "the clock is not kept"


def the_packet_gate_is_as_its_manual_says() -> None:
    """A call is answered once, within a minute; what is sent changes the draft alone; enacting is refused where
    nobody would be left, and ends the passes of anyone who has another word now."""
    tick = Tick()
    gate = PacketGate(tick)

    def enter(who: str, word: str, late: float = 0.0) -> tuple[int, Any]:
        call = gate.reply("GET", "/gate/call", {}, None, "192.0.2.1")[1]["call"]
        tick.now += late
        body = {"by": who, "call": call, "proof": hmac.new(word.encode(), call.encode(), hashlib.sha256).hexdigest()}
        answer = gate.reply("POST", "/gate/answer", {}, body, "192.0.2.1")
        assert gate.reply("POST", "/gate/answer", {}, body, "192.0.2.1")[0] in (403, 423), (
            "a call is good for one answer"
        )
        return answer

    status, told = enter("steward", "steward-gd6")
    assert status == 200 and len(told["warn"]) == 2 and enter("steward", "steward-gd6", late=61)[0] == 403
    mine = {"gate-pass": told["pass"]}

    def asked(method: str, target: str, body: Any = None) -> tuple[int, Any]:
        return gate.reply(method, target, mine, body, "192.0.2.1")

    assert asked("GET", "/gate/draft")[1]["edits"] == [{"what": "notice", "by": "works"}]
    assert asked("POST", "/gate/drop")[0] == 200 and not asked("GET", "/gate/draft")[1]["edits"]
    uids = {one["name"]: one["uid"] for one in asked("GET", "/gate/folk?of=force")[1]["items"]}
    for uid in uids.values():
        assert asked("DELETE", f"/gate/folk/{uid}")[0] == 200
    assert (
        asked("POST", "/gate/enact") == (409, {"faults": [{"why": "nobody of rank keeper would be left"}]})
        and len(gate.live.folk) == 2
    )
    asked("POST", "/gate/drop")
    assert (
        asked("PATCH", f"/gate/folk/{uids['steward']}", {"word": "another-word"})[0] == 200
        and gate.known()["steward"] == "steward-gd6"
    )
    assert asked("POST", "/gate/enact")[0] == 200 and gate.known()["steward"] == "another-word"
    assert asked("GET", "/gate/plate")[0] == 401, "another word, another pass"
    for _ in range(4):
        assert enter("steward", "steward-gd6")[0] in (403, 423)
    assert enter("steward", "another-word")[0] == 423
    tick.now += 91
    assert enter("steward", "another-word")[0] == 200


def the_wayside_router_is_as_its_manual_says() -> None:
    """One session for each; the hidden field changes with every page and is good once; what is noted waits; a place
    that tried too often is blocked, right word or not."""
    tick = Tick()
    router = WaysideRouter(tick, place="192.0.2.5/24")
    assert "One moment" in router.reply("GET", "/door", {}, {}, "", "192.0.2.1").body
    tick.now += 3

    def door(word: str, source: str = "192.0.2.1") -> Any:
        shown = router.reply("GET", "/door", {}, {}, "", source)
        guard = re.search(r'name="g" value="(\w+)"', shown.body)[1]  # type: ignore[index]
        return router.reply("POST", "/door", {}, {"g": guard, "who": "trackman", "word": word}, shown.cookie, source)

    first, second = door("wr1"), door("wr1")
    assert (
        first.to == second.to == "/desk"
        and 'name="door"' in router.reply("GET", "/desk", {}, {}, first.cookie, "192.0.2.1").body
    )
    seat = second.cookie

    def noted(path: str, query: Mapping[str, str], **fields: str) -> str:
        shown = router.reply("GET", path, query, {}, seat, "192.0.2.1").body
        guard = re.search(r'name="g" value="(\w+)"', shown)[1]  # type: ignore[index]
        sent = {"g": guard, **fields}
        body = router.reply("POST", path, query, sent, seat, "192.0.2.1").body
        assert "sent twice" in router.reply("POST", path, query, sent, seat, "192.0.2.1").body
        return str(body)

    assert (
        "Noted." in noted("/desk/name", {}, called="wr1-02")
        and router.live.called == "wr1"
        and router.waiting() == ["called"]
    )
    assert "Not taken: a word of at least 4" in noted("/desk/people", {}, name="x", rank="hand", word="abc")
    assert "Noted." in noted("/desk/ways", {}, **{"sealed": "1", "from": "192.0.2.0/24", "quiet": "10"})
    assert "Put in force" in router.reply("GET", "/desk/pending", {}, {}, seat, "192.0.2.1").body
    assert "Noted." in noted("/desk/pending", {}, press="Put in force")
    assert (router.live.called, router.live.quiet, router.live.gates["plain"].open) == ("wr1-02", 10, False)
    assert not router.takes("sealed", "198.51.100.1") and router.takes("sealed", "192.0.2.9")
    assert (
        "Yes, remove" in noted("/desk/person", {"n": "1"}, rank="looker", word="", press="Remove")
        and "fieldhand" in router.noted.people
    )
    for _ in range(6):
        assert "Not let in." in door("x", "192.0.2.66").body
    assert "Come back later." in door("wr1", "192.0.2.66").body and door("wr1").to == "/desk"
    router.start_again()
    assert router.certificate == 2 and not router.inside
    router.noted.place = "198.51.100.5/24"
    with pytest.raises(NotTaken, match="lend addresses of another network"):
        router.force()
    router.noted.pool["on"] = False
    with pytest.raises(NotTaken, match="nobody of that network"):
        router.force()
    with pytest.raises(KeyError):
        router.take(["tasks"], {}, {"strike": "nobody"}, "")


def asked(unit: Any, seat: str, path: str, query: Any = None, **fields: str) -> str:
    """Look at a page of a unit of the bench and submit its last form, twice; what it said to the first."""
    shown = unit.reply("GET", path, query or {}, {}, seat, "192.0.2.1")
    seat = shown.cookie or seat
    guard = re.findall(r'name="g" value="(\w+)"', shown.body)[-1]
    said = str(unit.reply("POST", path, query or {}, {"g": guard, **fields}, seat, "192.0.2.1").body)
    again = unit.reply("POST", path, query or {}, {"g": guard, **fields}, seat, "192.0.2.1").body
    assert "sent twice" in again or "Starting" in said or "Entrance" in again or "Word" in again, again
    return said


def the_intercom_exchange_is_as_its_manual_says() -> None:
    """Five questions to anyone who comes first; the one that is marked erases; then one door, a rest for each person,
    roles in the cells of a table, and nobody without who may do everything."""
    tick = Tick()
    exchange = IntercomExchange(tick)
    tick.now += 3
    begun = exchange.reply("GET", "/hall/people", {}, {}, "", "192.0.2.1")
    assert "You are the first" in begun.body and "support" not in begun.body
    for fields in (
        {"word": "first-word", "again": "first-word"},
        {"begin": "blank, lines erased"},
        {"mail": "a@b.invalid"},
        {"key": ""},
        {},
    ):
        guard = re.findall(
            r'name="g" value="(\w+)"', exchange.reply("GET", "/", {}, {}, begun.cookie, "192.0.2.1").body
        )[-1]
        said = exchange.reply("POST", "/", {}, {"g": guard, **fields}, begun.cookie, "192.0.2.1").body
    assert "starting again" in said and (exchange.live.claimed, exchange.live.lines) == (True, 0)
    tick.now += 3

    def door(who: str, word: str) -> Any:
        shown = exchange.reply("GET", "/in", {}, {}, "", "192.0.2.1")
        guard = re.search(r'name="g" value="(\w+)"', shown.body)[1]  # type: ignore[index]
        return exchange.reply("POST", "/in", {}, {"g": guard, "who": who, "word": word}, shown.cookie, "192.0.2.1")

    seat = door("keeper", "first-word").cookie
    assert "Taken." in asked(
        exchange,
        seat,
        "/hall/roles",
        porter_people="none",
        porter_lines="look",
        porter_doors="look",
        porter_logs="look",
    )
    assert exchange.live.roles["porter"]["doors"] == "look"
    assert "seconds are less than 60" in asked(
        exchange, seat, "/hall/demands", signs="8", wrong="5", rest_m="1", rest_s="60", quiet_m="0", quiet_s="0"
    )
    assert "goes for good" in asked(
        exchange, seat, "/hall/person", {"n": "0"}, role="whole", **{"from": ""}, word="", press="Dismiss"
    )
    del exchange.live.people["support"]
    assert "nobody would be left" in asked(
        exchange, seat, "/hall/person", {"n": "0"}, role="looker", comes="1", **{"from": ""}, word=""
    )
    for _ in range(8):
        assert "not right" in door("keeper", "x").body
    assert "Resting." in door("keeper", "first-word").body
    tick.now += 91
    assert door("keeper", "first-word").to == "/hall"


def the_access_point_is_as_its_manual_says() -> None:
    """One word without a name, cut off at a sign; one visit at a time; what is kept is written later; a place it
    would shut itself out of is not taken."""
    tick = Tick()
    point = AccessPoint(tick, place="192.0.2.7/24")
    tick.now += 3

    def basic(word: str) -> str:
        return "Basic " + base64.b64encode(f":{word}".encode()).decode()

    assert (
        point.reply("GET", "/plate", {}, {}, "", "192.0.2.1").asks
        and "Plate" in point.reply("GET", "/plate", {}, {}, basic(""), "192.0.2.1").body
    )
    assert "In use from 192.0.2.1" in point.reply("GET", "/plate", {}, {}, basic(""), "192.0.2.2").body
    point.reply("GET", "/go", {}, {}, basic(""), "192.0.2.1")
    assert "Taken." in asked(point, basic(""), "/word", now="", new="Works#17x", again="Works#17x")
    assert point.reply("GET", "/plate", {}, {}, basic("Works#17x"), "192.0.2.1").status == 401, (
        "nobody comes in by it any more"
    )
    point.live.word = "word1"
    for fields, said in (
        ({"address": "198.51.100.7", "mask": "255.255.255.0", "out": "", "lend": "1"}, "lends addresses of the old"),
        ({"address": "198.51.100.7", "mask": "255.255.255.0", "out": "192.0.2.1"}, "way out"),
    ):
        assert said in asked(point, basic("word1"), "/place", **fields)
    asked(point, basic("word1"), "/place", address="192.0.2.7", mask="255.255.255.0", out="")
    asked(point, basic("word1"), "/bundles", {"new": "1"}, name="works", web="1", **{"from": "192.0.2.0/24"})
    on = {f"on_{n}": "1" for n in range(3)}
    asked(point, basic("word1"), "/sockets", **on, bundle_0="works", bundle_1="all", bundle_2="all")
    assert "nobody of that network" in asked(
        point, basic("word1"), "/place", address="198.51.100.7", mask="255.255.255.0", out=""
    )
    assert "it is attached" in asked(point, basic("word1"), "/bundles", {"n": "1"}, press="Scrap", **{"from": ""})
    assert not point.takes("open", "203.0.113.1") and point.takes("open", "192.0.2.9")
    assert "Kept." in asked(point, basic("word1"), "/keep") and point.unkept(), "the page says so before it is written"
    tick.now += 3
    point.settle()
    assert not point.unkept() and point.kept.word == "word1"


for name, found in list(globals().items()):
    if name.endswith("_is_as_its_manual_says"):
        found()
        print(name.replace("_", " "))
