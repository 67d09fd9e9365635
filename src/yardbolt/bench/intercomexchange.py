"""The IX-5 intercom exchange of `docs/bench/brackmere-ix5.md`: what it holds, and its pages."""

from __future__ import annotations

import copy
import hmac
import secrets
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from html import escape
from typing import Any

from .lineswitch import admits
from .paged import Answer, Seated, box, hidden_word, select, table, text
from .plugged import Gate, No

SHY_SECONDS, PART, QUIET_LONGEST = 2.0, 3, 900.0
AREAS, LEVELS = ("people", "lines", "doors", "logs"), ("none", "look", "change")
WAYS = {"readable": (True, False), "both": (True, True), "closed letter": (False, True)}
MASK = "*.*.*.*"  # what somebody sees of an address who may not know who comes
QUESTIONS = ("claim", "store", "alert", "backup", "sum")


@dataclass
class State:
    """What is in force, and kept."""

    claimed: bool = False
    lines: int = 24
    called: str = "ix5"
    notice: str = ""
    demands: dict[str, int] = field(default_factory=lambda: {"signs": 4, "wrong": 8, "rest": 90, "quiet": 0})
    mail: str = "nobody@exchange.invalid"
    weekly: bool = False
    guard: str = ""
    desk: str = ""  # the word of the desk set; none: the one of the works
    people: dict[str, dict[str, Any]] = field(default_factory=dict)
    roles: dict[str, dict[str, str]] = field(
        default_factory=lambda: {"porter": {"people": "look", "lines": "look", "doors": "change", "logs": "none"}}
    )
    gates: dict[str, Gate] = field(default_factory=lambda: {"plain": Gate(8280), "sealed": Gate(8243, sealed=True)})
    rest: int = 0


class IntercomExchange(Seated):
    """The exchange. What is taken is in force, and kept, at once."""

    title = "Brackmere IX-5 intercom exchange"
    names, quiet_longest = ("/in", "/out"), QUIET_LONGEST

    def __init__(self, tick: Callable[[], float], works: str = "IX5-70612", shy: float = SHY_SECONDS) -> None:
        super().__init__(tick)
        self.works, self.shy, self.clock_error, self.certificate = works, shy, 7200.0, 1
        self.live = State()
        self.live.people = {"support": {"role": "whole", "comes": True, "word": "ix5help", "from": []}}
        self.begun: dict[str, dict[str, str]] = {}  # the questions answered so far, by seat
        self.wrong: dict[str, tuple[int, float]] = {}

    def start_again(self) -> None:
        """Off and on."""
        self.inside.clear()
        self.begun.clear()
        self.has_started()

    def waking(self) -> Answer:
        """The page of the first moments."""
        return self.page("Starting", "<p>The exchange is starting.</p>")

    def reply(
        self, method: str, path: str, query: Mapping[str, str], sent: Mapping[str, str], cookie: str, source: str
    ) -> Answer:
        """What a browser gets: the questions of the first visit, until they are answered."""
        if not self.live.claimed and self.tick() - self.started >= self.shy:
            return self.begin(sent if method == "POST" else {}, cookie)
        return super().reply(method, path, query, sent, cookie, source)

    # -- the first visitor --

    def begin(self, sent: Mapping[str, str], cookie: str) -> Answer:
        """The questions, one after the other."""
        seat = cookie if cookie in self.begun else f"b{secrets.token_hex(8)}"
        given = self.begun.setdefault(seat, {})
        said = ""
        if sent:
            try:
                if not self.once(seat, sent):
                    raise No("this was sent twice, or from an old page")
                self.answered(given, sent)
            except No as no:
                said = f"<p>Not taken: {escape(str(no))}</p>"
            if "sum" in given:
                self.claim(given)
                return self.page("Starting", "<p>The exchange is starting again.</p>")
        return self.question(given, seat, said)

    def answered(self, given: dict[str, str], sent: Mapping[str, str]) -> None:
        """Take the answer to the question in hand; raises No."""
        step = next(one for one in QUESTIONS if one not in given)
        if step == "claim":
            if sent["word"] != sent["again"]:
                raise No("the two words differ")
            if len(sent["word"]) < 4:
                raise No("a word of at least 4 signs")
            given["word"] = sent["word"]
        given |= {"begin": sent.get("begin", given.get("begin", "")), "mail": sent.get("mail", given.get("mail", ""))}
        if step == "backup":
            given |= {"weekly": sent.get("weekly", ""), "key": sent.get("key", "")}
        given[step] = "yes"

    def question(self, given: Mapping[str, str], seat: str, said: str) -> Answer:
        """The page of the question in hand."""
        step = next(one for one in QUESTIONS if one not in given)
        radio = "".join(
            f'<label><input type="radio" name="begin" value="{v}"{c}>{v}</label>'
            for v, c in (("as delivered", ""), ("blank, lines erased", " checked"))
        )
        fields = {
            "claim": f"<p>You are the first. Give the keeper a word.</p>{hidden_word('word')}{hidden_word('again')}",
            "store": f"<p>How shall the line plan begin?</p>{radio}",
            "alert": f"<p>Who is written to?</p>{text('mail', self.live.mail)}",
            "backup": f"<p>A sealed copy every week?</p>{box('weekly', True)}{hidden_word('key')}",
            "sum": table(
                "Summary",
                ["Question", "Answer"],
                [
                    ["Line plan", given.get("begin")],
                    ["Alerts", escape(given.get("mail", ""))],
                    ["Weekly copy", given.get("weekly") or "no"],
                ],
            ),
        }
        buttons = {"claim": ("Claim",), "sum": ("Finish", "From the beginning")}.get(step, ("Next",))
        answer = self.page("Begin", said + self.form(step, seat, fields[step], *buttons))
        answer.cookie = seat
        return answer

    def claim(self, given: Mapping[str, str]) -> None:
        """Claimed by the first visitor who finished."""
        n = self.live
        if "erased" in given["begin"]:
            n.lines = 0
        n.mail, n.weekly, n.guard = given["mail"], bool(given["weekly"]), given["key"]
        n.people["keeper"] = {"role": "whole", "comes": True, "word": given["word"], "from": []}
        n.claimed = True
        self.start_again()

    # -- the door --

    def door(self, said: str = "") -> Answer:
        """The door."""
        new = f"d{secrets.token_hex(8)}"
        answer = self.page(
            "Entrance",
            f"<p>{said}</p>" + self.form("in", new, text("who", "") + hidden_word("word"), "Enter", action="/in"),
        )
        answer.cookie = new
        return answer

    def enter(self, sent: Mapping[str, str], cookie: str, source: str) -> Answer:
        """In, or the door again."""
        name = sent.get("who", "")
        one, (count, until) = self.live.people.get(name), self.wrong.get(name, (0, 0.0))
        if until > self.tick():
            return self.door("Resting.")
        fresh = self.once(cookie, sent)
        right = one is not None and one["comes"] and admits(one["from"], source)
        if fresh and right and one and hmac.compare_digest(one["word"].encode(), sent.get("word", "").encode()):
            self.wrong.pop(name, None)
            token = secrets.token_hex(12)
            self.inside[token] = (name, self.tick())
            return Answer(status=303, to="/hall", cookie=token)
        rests = count + 1 >= self.live.demands["wrong"]
        self.wrong[name] = (0, self.tick() + self.live.demands["rest"]) if rests else (count + 1, 0.0)
        return self.door("That was not right.")

    # -- the hall --

    def show(self, path: str, query: Mapping[str, str], s: str) -> Answer:
        """A page of the hall."""
        n = self.live
        match path.strip("/").split("/")[1:]:
            case []:
                clock = (datetime.now(UTC) + timedelta(seconds=self.clock_error)).isoformat(timespec="seconds")
                plate = {
                    "Pattern": "IX-5",
                    "Works number": self.works,
                    "Card": "02:9d:11:70:61:20",
                    "Level": "2.3.1",
                    "Clock": clock,
                    "Up": f"{int(self.tick() - self.started)} s",
                    "Lines": n.lines,
                    "Support code": "4471-0082",
                }
                return self.page("Hall", table("Plate", ["What", "Is"], plate.items()))
            case ["clock"]:
                return self.page("Hall", self.form("clock", s, text("moment", ""), "Set"))
            case ["board"]:
                fields = text("called", n.called) + text("notice", n.notice)
                return self.page("Hall", self.form("board", s, fields, "Note"))
            case ["demands"]:
                d = n.demands
                spread = "".join(text(f"{k}_m", d[k] // 60) + text(f"{k}_s", d[k] % 60) for k in ("rest", "quiet"))
                fields = text("signs", d["signs"]) + text("wrong", d["wrong"]) + spread
                return self.page("Hall", self.form("demands", s, fields, "Note"))
            case ["ways"]:
                now = tuple(g.open for g in n.gates.values())
                way = select("way", WAYS, next(k for k, v in WAYS.items() if v == now))
                hosts = text("hosts", self.seen_by(s, n.gates["sealed"].sources))
                return self.page("Hall", self.form("ways", s, way + hosts, "Note"))
            case ["desk"]:
                said = "a password of its own" if n.desk else "the factory password"
                fields = table("Desk set", ["What", "Is"], [["Asks for", said]]) + hidden_word("word")
                return self.page("Hall", self.form("desk", s, fields, "Note"))
            case ["alerts"]:
                return self.page("Hall", self.form("alerts", s, text("mail", n.mail), "Note"))
            case ["copies"]:
                said = "set" if n.guard else "none: stored words can be read"
                fields = (
                    table("Copies", ["What", "Is"], [["Guard key", said]])
                    + box("weekly", n.weekly)
                    + hidden_word("key")
                )
                return self.page("Hall", self.form("copies", s, fields, "Note"))
            case ["people"]:
                return self.people_page(query, s)
            case ["person"]:
                return self.person_page(query, s)
            case ["roles"]:
                rows = [["whole", *("change" for _ in AREAS)], ["looker", *("look" for _ in AREAS)]]
                rows += [
                    [name, *(select(f"{name}_{a}", LEVELS, may[a]) for a in AREAS)] for name, may in n.roles.items()
                ]
                return self.page(
                    "Hall",
                    self.form("roles", s, table("Roles", ["Role", *(a.title() for a in AREAS)], rows), "Note")
                    + self.form("role", s, text("name", ""), "Make"),
                )
            case ["restart"]:
                return self.page("Hall", self.form("restart", s, "", "Start again"))
        return Answer("<html><title>Nothing</title>Nothing here.</html>", 404)

    def people_page(self, query: Mapping[str, str], s: str) -> Answer:
        """The list of people, a part of it."""
        n = self.live
        first = int(query.get("from", "0")) if query.get("from", "0").isdigit() else 0
        rows = [[escape(k), f'<a href="/hall/person?n={i}">Open</a>'] for i, k in enumerate(n.people)]
        further = f'<a href="/hall/people?from={first + PART}">Further</a>' if len(rows) > first + PART else ""
        new = self.form(
            "more", s, text("name", "") + select("role", self.all_roles(), "looker") + hidden_word("word"), "Add"
        )
        return self.page("Hall", table("People", ["Name", ""], rows[first : first + PART]) + further + new)

    def person_page(self, query: Mapping[str, str], s: str) -> Answer:
        """One of them."""
        n = self.live
        name = self.at(query)
        one = n.people.get(name)
        if one is None:
            return self.page("Hall", "<p>Not taken: nobody stands there</p>")
        fields = f"<b>{escape(name)}</b>" + select("role", self.all_roles(), one["role"]) + box("comes", one["comes"])
        fields += text("from", self.seen_by(s, one["from"])) + hidden_word("word")
        return self.page(
            "Hall", self.form("person", s, fields, "Note", "Dismiss", action=f"/hall/person?n={query['n']}")
        )

    def seen_by(self, seat: str, addresses: list[str]) -> str:
        """Addresses, as an account may see them."""
        who = self.inside.get(seat, ("", 0.0))[0]
        whole = who in self.live.people and self.may(who, "people")
        return " ".join(addresses if whole else (MASK for _ in addresses))

    def all_roles(self) -> list[str]:
        """What somebody can be."""
        return ["whole", "looker", *self.live.roles]

    def at(self, query: Mapping[str, str]) -> str:
        """Who stands at that place."""
        names, place = list(self.live.people), query.get("n", "")
        return names[int(place)] if place.isdigit() and int(place) < len(names) else ""

    def may(self, who: str, area: str) -> bool:
        """May he change things there?"""
        role = str(self.live.people[who]["role"])
        return role == "whole" or self.live.roles.get(role, {}).get(area) == "change"

    def note(self, who: str, path: str, query: Mapping[str, str], sent: Mapping[str, str], s: str) -> Answer:
        """Something was submitted."""
        if not self.once(s, sent):
            return self.page("Hall", "<p>This was sent twice, or from an old page.</p>")
        before = copy.deepcopy(self.live)
        try:
            if not self.may(who, "people"):
                raise No("that is not yours to change")
            more = self.take(path.strip("/").split("/")[1:], query, sent, s)
            if not any(p["role"] == "whole" and p["comes"] for p in self.live.people.values()):
                raise No("nobody would be left who may do everything")
        except (No, ValueError, KeyError) as no:
            self.live = before
            return self.page("Hall", f"<p>Not taken: {escape(str(no))}</p>")
        return more or self.page("Hall", "<p>Taken.</p>")

    def take(self, steps: list[str], query: Mapping[str, str], sent: Mapping[str, str], s: str) -> Answer | None:
        """Take it; raises No."""
        n = self.live
        match steps:
            case ["clock"]:
                self.clock_error = (datetime.fromisoformat(sent["moment"]) - datetime.now(UTC)).total_seconds()
            case ["board"]:
                if not sent["called"].replace("-", "").isalnum() or len(sent["called"]) > 20:
                    raise No("letters, digits, dashes")
                n.called, n.notice = sent["called"], sent["notice"].strip()
            case ["demands"]:
                for key in ("rest", "quiet"):
                    if not 0 <= int(sent[f"{key}_s"]) < 60:
                        raise No("seconds are less than 60")
                    n.demands[key] = int(sent[f"{key}_m"]) * 60 + int(sent[f"{key}_s"])
                n.demands |= {"signs": int(sent["signs"]), "wrong": int(sent["wrong"])}
            case ["ways"]:
                sources = sent["hosts"].split()
                admits(sources, "127.0.0.1")
                for gate, on in zip(n.gates.values(), WAYS[sent["way"]], strict=True):
                    gate.open, gate.sources = on, sources
            case ["desk"]:
                n.desk = self.word(sent["word"]) if sent["word"] else n.desk
            case ["alerts"]:
                n.mail = sent["mail"].strip()
            case ["copies"]:
                n.weekly, n.guard = "weekly" in sent, sent["key"] or n.guard
            case ["people"]:
                if not sent["name"] or sent["name"] in n.people or sent["role"] not in self.all_roles():
                    raise No("a name that is free and a role are wanted")
                n.people[sent["name"]] = {
                    "role": sent["role"],
                    "comes": True,
                    "word": self.word(sent["word"]),
                    "from": [],
                }
            case ["person"] if sent.get("press") == "Dismiss":
                return self.page(
                    "Hall",
                    self.form(
                        "sure",
                        s,
                        f"<p>{escape(self.at(query))} goes for good.</p>",
                        "Dismiss",
                        "Keep",
                        action=f"/hall/sure?n={query['n']}",
                    ),
                )
            case ["person"]:
                sources = sent["from"].split()
                admits(sources, "127.0.0.1")
                new = {"role": sent["role"], "comes": "comes" in sent, "from": sources}
                n.people[self.at(query)] |= new | ({"word": self.word(sent["word"])} if sent["word"] else {})
            case ["sure"]:
                if sent.get("press") == "Dismiss":
                    del n.people[self.at(query)]
            case ["roles"] if sent.get("press") == "Make":
                if not sent["name"].replace("-", "").isalnum() or sent["name"] in self.all_roles():
                    raise No("a name that is free")
                n.roles[sent["name"]] = dict.fromkeys(AREAS, "none")
            case ["roles"]:
                for name, may in n.roles.items():
                    may |= {a: sent[f"{name}_{a}"] for a in AREAS}
            case ["restart"]:
                self.start_again()
                return self.page("Starting", "<p>The exchange is starting again.</p>")
            case _:
                raise No("there is nothing to change there")
        return None

    def word(self, word: str) -> str:
        """A word it takes."""
        if len(word) < self.live.demands["signs"]:
            raise No(f"a word of at least {self.live.demands['signs']} signs")
        return word
