"""The LC-2 line camera of `docs/bench/wendlock-lc2.md`: its state, and what it answers at each place."""

from __future__ import annotations

import hashlib
import hmac
import json
import re
import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from ipaddress import ip_interface
from types import SimpleNamespace
from typing import Any

from .camerashell import CameraShell
from .lineswitch import admits, kinds_in
from .plugged import Gate, No, Plugged

RANKS = ("all", "turn", "look")
SHY_SECONDS = 2.0
EPOCH = datetime(2001, 1, 1, tzinfo=UTC)
PART, QUESTIONS = 4, 80
NEW = "lc2-new"
HELD = ("rules", "notice", "wire", "journal", "shell")  # places that are put whole, as they were fetched
_MEMBER = re.compile(r'(\w+)=(?:"([^"]*)"|([^\s,]+))')


@dataclass
class Hand:
    """Somebody who may ask."""

    rank: str
    word: str
    made: str = "own"
    on: bool = True
    where: list[str] = field(default_factory=list)
    wrong: int = 0
    rests_until: float = 0.0


class LineCamera(Plugged):
    """The camera. `certificate` counts the certificates it has made."""

    title = "Wendlock LC-2 line camera"
    version, barred = "lens", "Resting."

    def __init__(
        self,
        tick: Callable[[], float],
        works: str = "WL2-40718",
        shy: float = SHY_SECONDS,
        place: str = "127.0.0.1/24",
    ) -> None:
        super().__init__(tick)
        self.works, self.shy = works, shy
        self.called, self.guard, self.notice, self.certificate = NEW, "easy", "", 1
        self.clock_set: tuple[datetime, float] = (EPOCH, tick())
        self.rules = {"least": 4, "kinds": 1, "tries": 0, "lock": 0, "rest": 0}
        self.folk = {"warden": Hand("all", "warden", "works"), "fitter": Hand("turn", "lc2", "works")}
        self.slots = {"warden": 7, "fitter": 3}
        gates = {"plain": Gate(8080), "sealed": Gate(8443, sealed=True), "shell": Gate(8022, open=False)}
        self.live = SimpleNamespace(gates=gates, rest=0, place=place, way="leased", out="")
        self.journal: dict[str, Any] = {"to": "log.works.invalid", "port": 0}
        self.watchers, self.asks, self.keyed = {"screen": "works", "recorder": "works"}, "basic", False
        self.on_say: list[Callable[[str, int, str], None]] = []
        self.nonces: dict[str, int] = {}

    def known(self) -> dict[str, str]:
        """Who is there, with the word that opens."""
        return {who: hand.word for who, hand in self.folk.items()}

    def takes(self, gate: str, source: str) -> bool:
        """Is this door open for this source now?"""
        return self.live.gates[gate].open and admits(self.live.gates[gate].sources, source)

    def try_phrase(self, who: str, word: str) -> str:
        """At the shell: in, resting, or no."""
        hand = self.folk.get(who)
        if hand is None or not hand.on:
            return "no"
        if hand.rests_until > self.tick():
            return "resting"
        if hmac.compare_digest(hand.word.encode(), word.encode()):
            hand.wrong = 0
            return "in"
        self.was_wrong(hand)
        return "no"

    def was_wrong(self, hand: Hand) -> None:
        """A wrong word, counted where they are."""
        hand.wrong += 1 if self.rules["tries"] else 0
        if self.rules["tries"] and hand.wrong >= self.rules["tries"]:
            hand.wrong, hand.rests_until = 0, self.tick() + self.rules["lock"]

    def board(self, gate: str, source: str, hand: str = "") -> CameraShell:
        """A connection to the shell."""
        return CameraShell(self, lambda: {"pattern": "LC-2", "works": self.works, "called": self.called}, source, hand)

    # -- proof --

    def challenge(self, stale: bool = False) -> list[str]:
        """What is asked for, newest first."""
        nonce = secrets.token_hex(12)
        self.nonces[nonce] = 0
        more = ', stale="true"' if stale else ""
        return [
            f'Digest realm="cab", qop="auth", algorithm={name}, nonce="{nonce}"{more}' for name in ("SHA-256", "MD5")
        ]

    def proven(self, method: str, target: str, header: str, source: str) -> tuple[int, str]:
        """200 and who asks; 401, 423, or 0 where the nonce is used up."""
        told = {name: quoted or plain for name, quoted, plain in _MEMBER.findall(header)}
        who, nonce = told.get("username", ""), told.get("nonce", "")
        hand = self.folk.get(who)
        if hand is None or not header.startswith("Digest ") or told.get("uri") != target:
            return 401, ""
        if hand.rests_until > self.tick():
            return 423, who
        if nonce not in self.nonces or self.nonces[nonce] >= QUESTIONS:
            return 0, who
        self.nonces[nonce] += 1

        def h(text: str) -> str:
            return hashlib.new("md5" if told.get("algorithm", "MD5") == "MD5" else "sha256", text.encode()).hexdigest()

        proof = ":".join((nonce, told.get("nc", ""), told.get("cnonce", ""), "auth", h(f"{method}:{target}")))
        right = h(f"{h(f'{who}:cab:{hand.word}')}:{proof}")
        if hand.on and admits(hand.where, source) and hmac.compare_digest(right, told.get("response", "")):
            hand.wrong = 0
            return 200, who
        self.was_wrong(hand)
        return 401, who

    # -- places --

    def answer(self, who: str, method: str, target: str, body: Any) -> tuple[int, Any]:
        """What the camera answers somebody it knows."""
        place, _, query = target.partition("?")
        steps = place.strip("/").split("/")
        if steps[0] != "cab" or len(steps) > 3:
            return 404, None
        name, item = (*steps[1:], "", "")[:2]
        if method == "GET":
            return (404, None) if item else self.fetch(name, query)
        if self.folk[who].rank == "look":
            return 409, {"no": "your rank looks only"}
        try:
            if self.guard == "strict" and self.called == NEW and name not in ("clock", "called"):
                raise No("give it a name first")
            if not isinstance(body, dict) and method != "DELETE":
                raise No("an object is wanted")
            return self.change(method, name, item, body)
        except (No, ValueError) as no:
            return 409, {"no": str(no)}

    def grip(self, target: str) -> str:
        """How a place that is put whole stands now, as its entity tag says it; empty of a place that has none."""
        name = target.strip("/").removeprefix("cab/")
        if name not in HELD:
            return ""
        return f'"{hashlib.sha256(json.dumps(self.fetch(name, "")[1]).encode()).hexdigest()[:12]}"'

    def fetch(self, name: str, query: str) -> tuple[int, Any]:
        """An object."""
        if name == "folk":
            first = int(query.removeprefix("from=") or 0) if query.removeprefix("from=").isdigit() or not query else 0
            rows = [
                {
                    "slot": self.slots[who],
                    "who": who,
                    "rank": h.rank,
                    "on": h.on,
                    "where": h.where,
                    "word": h.made,
                    "meter": "very strong",
                }
                for who, h in self.folk.items()
            ]
            more = {"more": f"/cab/folk?from={first + PART}"} if len(rows) > first + PART else {}
            return 200, {"folk": rows[first : first + PART], **more}
        here = ip_interface(self.live.place)
        found: dict[str, Any] = {
            "": {
                "pattern": "LC-2",
                "works": self.works,
                "card": "02:4c:38:40:71:80",
                "level": "3.2",
                "called": self.called,
                "clock": (self.clock_set[0] + timedelta(seconds=self.tick() - self.clock_set[1])).isoformat(),
                "guard": self.guard,
            },
            "rules": self.rules,
            "notice": {"notice": self.notice},
            "wire": {"way": self.live.way, "at": str(here.ip), "mask": str(here.netmask), "out": self.live.out},
            "journal": self.journal,
            "shell": {"key": self.keyed},
            "picture": {
                "ask": self.asks,
                "watchers": [{"who": who, "word": made} for who, made in self.watchers.items()],
            },
            "doors": {n: {"on": g.open, "port": g.wire, "where": g.sources} for n, g in self.live.gates.items()},
        }
        return (200, found[name]) if name in found else (404, None)

    def change(self, method: str, name: str, item: str, body: Any) -> tuple[int, Any]:
        """A change; raises No."""
        match method, name:
            case "PUT", "called":
                if self.guard != "strict":
                    raise No("names are given under the strict guard")
                if not re.fullmatch(r"[A-Za-z0-9-]{2,24}", str(body.get("called"))):
                    raise No("2 to 24 letters, digits, dashes")
                self.called = body["called"]
            case "PUT", "clock":
                try:
                    self.clock_set = (datetime.fromisoformat(str(body.get("clock"))), self.tick())
                    self.clock_set[0].utctimetuple()
                except ValueError:
                    raise No("no time") from None
            case "PUT", "guard":
                if body.get("guard") not in ("easy", "strict"):
                    raise No("easy or strict")
                self.guarded(body["guard"])
            case "PUT", "rules":
                self.rule(body)
            case "PUT", "notice":
                if not isinstance(body.get("notice"), str) or len(body["notice"]) > 120:
                    raise No("one line of 120 characters")
                self.notice = body["notice"]
            case "PUT", "wire":
                self.wire(body)
            case "PUT", "journal" if set(body) == {"to", "port"} and type(body["port"]) is int:
                self.journal = {"to": str(body["to"]), "port": body["port"]}
            case "POST", "journal" if item == "say":
                # what is half filled in is taken, and nothing is sent
                if self.journal["to"] and self.journal["port"]:
                    for say in self.on_say:
                        say(self.journal["to"], self.journal["port"], str(body.get("say", "")))
            case "PUT", "shell" if body.get("key") is True:
                if self.called == NEW:
                    raise No("a key bears the name: give it one first")
                self.keyed = True
            case "PUT", "doors" if item in self.live.gates:
                self.door(item, body)
            case "POST", "folk":
                return self.hire(body)
            case (("PATCH" | "DELETE"), "folk") if item:
                self.hand(method, item, body)
            case _:
                return 404, None
        return 204, None

    def wire(self, body: dict[str, Any]) -> None:
        """Another way to an address, or another address."""
        if set(body) != {"way", "at", "mask", "out"} or body["way"] not in ("leased", "fixed"):
            raise No("way, at, mask and out are wanted; leased or fixed")
        there = ip_interface(f"{body['at']}/{body['mask']}")
        place = f"{there.ip}/{there.network.prefixlen}"
        if (place, body["out"]) != (self.live.place, self.live.out) and "leased" in (self.live.way, body["way"]):
            raise No("while it is lent its address it takes none: choose fixed first")
        moves = place != self.live.place
        self.live.way, self.live.place, self.live.out = body["way"], place, str(body["out"])
        if moves:
            self.has_moved()

    def guarded(self, guard: str) -> None:
        """Go over to another guard."""
        if guard != self.guard:
            self.guard = guard
            if guard == "strict":
                least = {"least": 10, "kinds": 3, "tries": 5, "lock": 300, "rest": 0}
                self.rules = {name: max(value, least[name]) for name, value in self.rules.items()}
            self.certificate += 1
            self.restart()

    def start_again(self) -> None:
        """Power off and on."""
        self.clock_set = (EPOCH, self.tick())
        self.restart()

    def restart(self) -> None:
        """Wheel round."""
        self.nonces.clear()
        self.has_started()

    def rule(self, body: dict[str, Any]) -> None:
        """Other numbers."""
        if set(body) != set(self.rules) or not all(
            type(value) is int and 0 <= value <= 9999 for value in body.values()
        ):
            raise No("all five numbers are wanted")
        if self.guard == "strict" and (body["least"] < 10 or body["kinds"] < 3 or not 0 < body["tries"] <= 5):
            raise No("less than the strict guard wants")
        self.rules = dict(body)

    def door(self, name: str, body: dict[str, Any]) -> None:
        """A door as it is to be."""
        gate = self.live.gates[name]
        where = body.get("where")
        if set(body) != {"on", "port", "where"} or type(body["on"]) is not bool or not isinstance(where, list):
            raise No("on, port and where are wanted")
        try:
            admits([str(one) for one in where], "127.0.0.1")
        except ValueError:
            raise No("an address or a block is wanted") from None
        if name == "shell" and body["on"] and not (self.keyed and self.called != NEW):
            raise No("it has no key yet")
        if not body["on"] and not any(g.open for n, g in self.live.gates.items() if n != name and n != "shell"):
            raise No("the last door stays on")
        gate.open, gate.sources = body["on"], [str(one) for one in where]

    def word(self, body: dict[str, Any]) -> str:
        """A word it takes."""
        word = body.get("word")
        if not isinstance(word, str) or len(word) < self.rules["least"] or kinds_in(word) < self.rules["kinds"]:
            raise No(f"a word of at least {self.rules['least']} characters of {self.rules['kinds']} kinds is wanted")
        return word

    def hire(self, body: dict[str, Any]) -> tuple[int, Any]:
        """Somebody new."""
        who = str(body.get("who", ""))
        if who in self.folk or not re.fullmatch(r"[a-z][a-z0-9-]{1,15}", who) or body.get("rank") not in RANKS:
            raise No("a name that is free and a rank are wanted")
        self.folk[who] = Hand(body["rank"], self.word(body), on=body.get("on") is True)
        self.deal()
        return 201, {"slot": self.slots[who]}

    def deal(self) -> None:
        """Deal the slots again."""
        self.slots = {who: 2 + 5 * place + len(self.folk) for place, who in enumerate(self.folk)}

    def hand(self, method: str, slot: str, body: Any) -> None:
        """Change somebody, or let him go."""
        who = next((one for one, given in self.slots.items() if str(given) == slot), "")
        if not who:
            raise No("nobody has that slot")
        hand = self.folk[who]
        ends = method == "DELETE" or body.get("on") is False or body.get("rank", hand.rank) != "all"
        if hand.rank == "all" and ends and sum(h.rank == "all" and h.on for h in self.folk.values()) < 2:
            raise No("somebody of rank all must stay")
        if method == "DELETE":
            del self.folk[who]
            self.deal()
            return
        if set(body) - {"rank", "on", "where", "word"} or body.get("rank", "all") not in RANKS:
            raise No("rank, on, where and word may be changed")
        if "word" in body:
            hand.word, hand.made = self.word(body), "own"
        if isinstance(body.get("where"), list):
            hand.where = [str(one) for one in body["where"]]
        hand.rank, hand.on = body.get("rank", hand.rank), body.get("on", hand.on) is True
