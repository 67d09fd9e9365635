"""The GD-6 packet gate of `docs/bench/harrowfen-gd6.md`: its two copies, and what it answers at each place."""

from __future__ import annotations

import copy
import hashlib
import hmac
import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from .lineswitch import admits, kinds_in
from .plugged import Gate, No, Plugged

SHY_SECONDS, PART, PASS_SECONDS, CALL_SECONDS = 2.0, 3, 300.0, 60.0
RANKS = ("keeper", "hand", "reader")
MAY = ("rank", "active", "only_from", "also", "letters", "own", "word")


@dataclass
class Copy:
    """One of the two copies."""

    named: str = "gd6"
    words: dict[str, int] = field(default_factory=lambda: {"shortest": 6, "kinds": 1, "tries": 8, "rest": 90})
    notice: dict[str, Any] = field(default_factory=lambda: {"text": "", "idle": 0})
    folk: dict[str, dict[str, Any]] = field(default_factory=dict)
    gates: dict[str, Gate] = field(default_factory=lambda: {"sealed": Gate(8543, sealed=True), "hatch": Gate(8580)})
    sockets: dict[str, dict[str, Any]] = field(
        default_factory=lambda: {
            "inner": {"side": "inside", "ways": ["sealed", "hatch"]},
            "outer": {"side": "outside", "ways": ["sealed"]},
        }
    )
    rest: int = 0


LISTS: dict[str, list[str]] = {
    "yard": [],
    "nobody": [],
    "control": ["192.0.2.20"],
}  # the yard is where it was ordered for
GROUPS = {"yard-side": ["inner"]}
FENCE: tuple[dict[str, Any], ...] = (
    {"uid": "r2", "lets": "back", "who": "yard", "but": True, "at": None, "on": True, "said": "not the yard"},
    {
        "uid": "r9",
        "lets": "by",
        "who": "yard",
        "but": False,
        "at": "yard-side",
        "on": True,
        "said": "the yard",
    },
    {"uid": "r4", "lets": "by", "who": "nobody", "but": False, "at": "outer", "on": True, "said": ""},
    {"uid": "r7", "lets": "back", "who": None, "but": False, "at": None, "on": True, "said": "and nobody else"},
    {
        "uid": "r8",
        "lets": "by",
        "who": "control",
        "but": False,
        "at": None,
        "on": True,
        "said": "control room",
    },
)
ALSO = ("none", "letter")


def fenced(source: str, socket: str, lists: dict[str, list[str]]) -> bool:
    """Does the fence let this source in by a socket?"""
    for rule in FENCE:
        listed = rule["who"] is None or admits(lists[rule["who"]] or ["192.0.2.0/32"], source) is not rule["but"]
        if listed and (rule["at"] is None or rule["at"] == socket or socket in GROUPS.get(rule["at"], [])):
            return bool(rule["lets"] == "by")
    return False


class PacketGate(Plugged):
    """The gate. `live` is what is in force."""

    title = "Harrowfen GD-6 packet gate"
    certificate = 1

    def __init__(
        self, tick: Callable[[], float], works: str = "GD6-3318", shy: float = SHY_SECONDS, yard: str = "127.0.0.0/8"
    ) -> None:
        super().__init__(tick)
        self.lists = {**LISTS, "yard": [yard]}
        self.works, self.shy, self.clock_error = works, shy, 7200.0
        self.uids = iter(range(40, 100_000, 7))
        self.live = Copy()
        for name, word in (("steward", "steward-gd6"), ("relay", "gd6-relay")):
            uid = f"f{next(self.uids)}"
            self.live.folk[name] = {
                "uid": uid,
                "rank": "keeper",
                "active": True,
                "only_from": [],
                "also": "none",
                "letters": "",
                "own": None,
                "word": word,
                "works": True,
            }
        # somebody at the works wanted to be spared the demands, and his letters at home
        self.live.folk["relay"]["own"] = {"shortest": None, "kinds": None}
        self.live.folk["steward"]["letters"] = "j.steward@pobox.example"
        self.draft = copy.deepcopy(self.live)
        self.draft.notice["text"] = "line test, do not touch"
        self.left_by = "works"
        self.calls: dict[str, float] = {}
        self.passes: dict[str, tuple[str, float]] = {}
        self.wrong: dict[str, tuple[int, float]] = {}
        self.refuses = ""  # a reason for which it will enact nothing
        self.sessions = [("relay", "127.0.0.9")]

    def known(self) -> dict[str, str]:
        """Who is there, with the word that opens."""
        return {name: one["word"] for name, one in self.live.folk.items()}

    def takes(self, gate: str, source: str) -> bool:
        """Is this way open for this source now?"""
        one = self.live.gates[gate]
        here = gate in self.live.sockets["inner"]["ways"] and fenced(source, "inner", self.lists)
        return here and one.open and admits(one.sources, source)

    # -- coming in --

    def reply(self, method: str, target: str, headers: Any, body: Any, source: str) -> tuple[int, Any]:
        """What it answers."""
        place, _, query = target.partition("?")
        if (method, place) == ("GET", "/gate/call"):
            call = secrets.token_hex(16)
            self.calls[call] = self.tick()
            return 200, {"call": call}
        if (method, place) == ("POST", "/gate/answer"):
            return self.enter(body if isinstance(body, dict) else {}, source)
        who, since = self.passes.get(headers.get("gate-pass", ""), ("", 0.0))
        if not who or self.tick() - since > PASS_SECONDS or who not in self.live.folk:
            return 401, {"faults": [{"why": "no pass"}]}
        self.passes[headers["gate-pass"]] = (who, self.tick())
        if (method, place) == ("POST", "/gate/go"):
            del self.passes[headers["gate-pass"]]
            return 200, {}
        steps = place.strip("/").split("/")
        if steps[0] != "gate" or not 2 <= len(steps) <= 3:
            return 404, {"faults": [{"why": "no such place"}]}
        name, item = (*steps[1:], "")[:2]
        if method == "GET" and not item:
            asked = dict(part.partition("=")[::2] for part in query.split("&") if part)
            return self.fetch(name, self.draft if asked.get("of") == "draft" else self.live, asked)
        if self.live.folk[who]["rank"] == "reader":
            return 409, {"faults": [{"why": "readers change nothing"}]}
        try:
            return self.change(method, name, item, body)
        except No as no:
            return 409, {"faults": [{"why": str(no)}]}

    def enter(self, body: dict[str, Any], source: str) -> tuple[int, Any]:
        """A pass, or not."""
        who, call = str(body.get("by", "")), str(body.get("call", ""))
        count, until = self.wrong.get(who, (0, 0.0))
        if until > self.tick():
            return 423, {"faults": [{"why": "that hand rests"}]}
        fresh = self.tick() - self.calls.pop(call, -1e9) < CALL_SECONDS
        one = self.live.folk.get(who)
        right = hmac.new((one["word"] if one else "").encode(), call.encode(), hashlib.sha256).hexdigest()
        good = one is not None and one["active"] and admits(one["only_from"], source)
        if fresh and good and hmac.compare_digest(right, str(body.get("proof", ""))):
            self.wrong.pop(who, None)
            if one is not None and one["also"] == "letter":
                return 202, {"letter": "is on its way"}  # and never comes: nobody here carries letters
            token = secrets.token_hex(16)
            self.passes[token] = (who, self.tick())
            return 200, {
                "pass": token,
                "warn": [f"{name} has the factory password" for name, f in self.live.folk.items() if f["works"]],
            }
        if one is not None:
            rests = count + 1 >= self.live.words["tries"]
            self.wrong[who] = (0, self.tick() + self.live.words["rest"]) if rests else (count + 1, 0.0)
        return 403, {"faults": [{"why": "that is not right"}]}

    # -- places --

    def fetch(self, name: str, of: Copy, asked: dict[str, str]) -> tuple[int, Any]:
        """An object of one of the copies."""
        if name == "folk":
            first = int(asked["from"]) if asked.get("from", "").isdigit() else 0
            rows = [
                {"name": n, **{k: v for k, v in f.items() if k not in ("word", "works")}} for n, f in of.folk.items()
            ]
            further = (
                f"/gate/folk?of={asked.get('of', 'force')}&from={first + PART}" if len(rows) > first + PART else None
            )
            return 200, {"items": rows[first : first + PART], "next": further}
        clock = datetime.now(UTC) + timedelta(seconds=self.clock_error)
        found: dict[str, Any] = {
            "plate": {
                "warn": [n for n, f in of.folk.items() if f["works"]],
                "pattern": "GD-6",
                "works": self.works,
                "card": "02:4c:38:03:31:08",
                "level": "1.9",
                "named": of.named,
                "clock": clock.isoformat(timespec="seconds"),
                "up": int(self.tick() - self.started),
            },
            "words": of.words,
            "notice": of.notice,
            "ways": {n: {"open": g.open, "port": g.wire, "only_from": g.sources} for n, g in of.gates.items()},
            "sockets": {"items": [{"name": n, **one} for n, one in of.sockets.items()]},
            "fence": {
                "names": [{"name": n, "members": m} for n, m in self.lists.items()],
                "sides": [{"name": n, "members": m} for n, m in GROUPS.items()],
                "bars": list(FENCE),
                "rest": "by",
            },
            "draft": {"edits": self.edits()},
            "seats": {"items": [{"uid": f"s{n}", "name": w, "from": a} for n, (w, a) in enumerate(self.sessions)]},
        }
        return (200, found[name]) if name in found else (404, {"faults": [{"why": "no such place"}]})

    def edits(self) -> list[dict[str, str]]:
        """What is in the draft and not in force."""
        names = ("named", "words", "notice", "folk", "gates", "sockets")
        return [{"what": n, "by": self.left_by} for n in names if getattr(self.draft, n) != getattr(self.live, n)]

    def change(self, method: str, name: str, item: str, body: Any) -> tuple[int, Any]:
        """A change; raises No."""
        if (
            not isinstance(body, dict)
            and (method, name) not in (("POST", "enact"), ("POST", "drop"))
            and method != "DELETE"
        ):
            raise No("an object is wanted")
        match method, name:
            case "POST", "enact":
                self.enact()
            case "POST", "drop":
                self.draft = copy.deepcopy(self.live)
            case "PUT", "named" if str(body.get("named", "")).replace("-", "").isalnum():
                self.draft.named = body["named"]
            case "PUT", "clock":
                try:
                    self.clock_error = (
                        datetime.fromisoformat(str(body.get("clock"))) - datetime.now(UTC)
                    ).total_seconds()
                except (ValueError, TypeError):
                    raise No("no time with a zone") from None
            case "PUT", "words" if set(body) == set(self.draft.words) and all(
                type(v) is int and v >= 0 for v in body.values()
            ):
                self.draft.words = body
            case "PUT", "notice" if set(body) == {"text", "idle"} and type(body["idle"]) is int:
                self.draft.notice = body
            case "PUT", "ways" if item in self.draft.gates and set(body) == {"open", "port", "only_from"}:
                gate = self.draft.gates[item]
                gate.open, gate.sources = body["open"] is True, [str(one) for one in body["only_from"]]
            case "PUT", "sockets" if item in self.draft.sockets and set(body) == {"name", "side", "ways"}:
                if (
                    body["name"] != item
                    or body["side"] != self.draft.sockets[item]["side"]
                    or set(body["ways"]) - set(self.draft.gates)
                ):
                    raise No("of a socket only its ways are set here")
                self.draft.sockets[item]["ways"] = list(body["ways"])
            case "POST", "folk":
                return self.hire(body)
            case (("PATCH" | "DELETE"), "folk"):
                self.hand(method, item, body)
            case _:
                raise No("that cannot be done there")
        return 200, {}

    def hire(self, body: dict[str, Any]) -> tuple[int, Any]:
        """Somebody new."""
        name = str(body.get("name", ""))
        if not name or name in self.draft.folk or body.get("rank") not in RANKS:
            raise No("a name that is free and a rank are wanted")
        uid = f"f{next(self.uids)}"
        self.draft.folk[name] = {
            "uid": uid,
            "rank": body["rank"],
            "active": body.get("active") is True,
            "only_from": [],
            "also": "none",
            "letters": "",
            "own": None,
            "word": self.word(body, None),
            "works": False,
        }
        return 201, {"uid": uid}

    def word(self, body: dict[str, Any], own: dict[str, Any] | None) -> str:
        """A word the draft takes, of somebody with demands of his own or without."""
        word, wanted = body.get("word"), self.draft.words
        if own is not None:
            wanted = {name: own[name] or 0 for name in ("shortest", "kinds")}
        if not isinstance(word, str) or len(word) < wanted["shortest"] or kinds_in(word) < wanted["kinds"]:
            raise No(f"a word of at least {wanted['shortest']} characters of {wanted['kinds']} kinds is wanted")
        return word

    def hand(self, method: str, uid: str, body: Any) -> None:
        """Change somebody in the draft, or let him go."""
        name = next((n for n, f in self.draft.folk.items() if f["uid"] == uid), "")
        if not name:
            raise No("nobody has that uid")
        if method == "DELETE":
            del self.draft.folk[name]
            return
        if set(body) - set(MAY) or body.get("rank", "hand") not in RANKS or body.get("also", "none") not in ALSO:
            raise No(f"{', '.join(MAY)} may be changed")
        one = self.draft.folk[name]
        own = body.get("own", one["own"])
        if own is not None and (not isinstance(own, dict) or set(own) != {"shortest", "kinds"}):
            raise No("demands of his own are shortest and kinds, or none at all")
        if body.get("also", one["also"]) == "letter" and "@" not in str(body.get("letters", one["letters"])):
            raise No("where are the letters to go?")
        if "word" in body:
            body = {**body, "word": self.word(body, own), "works": False}
        one |= body

    def enact(self) -> None:
        """Put the draft in force; raises No."""
        if self.refuses:
            raise No(self.refuses)
        if not any(f["rank"] == "keeper" and f["active"] for f in self.draft.folk.values()):
            raise No("nobody of rank keeper would be left")
        if not any(
            gate.open and name in self.draft.sockets["inner"]["ways"] for name, gate in self.draft.gates.items()
        ):
            raise No("no way would be open on inner")
        before, self.live = self.live, copy.deepcopy(self.draft)
        for token, (who, _) in list(self.passes.items()):
            if self.live.folk.get(who, {}).get("word") != before.folk[who]["word"]:
                del self.passes[token]
        self.sessions = [(who, at) for who, at in self.sessions if who in self.live.folk]
        self.live.rest = 0
