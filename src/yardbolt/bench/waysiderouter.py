"""The WR-1 wayside router of `docs/bench/osterlin-wr1.md`: its state, and its pages."""

from __future__ import annotations

import copy
import hmac
import secrets
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from html import escape
from ipaddress import ip_address, ip_interface, ip_network
from typing import Any

from .lineswitch import admits
from .paged import Answer, Seated, box, hidden_word, select, table, text
from .plugged import Gate, No

SHY_SECONDS, PART, QUIET_LONGEST = 2.0, 4, 600.0
RANKS = ("chief", "hand", "looker")


@dataclass
class State:
    """What is noted, or in force."""

    called: str = "wr1"
    words: dict[str, int] = field(default_factory=lambda: {"shortest": 4, "tries": 6, "shut": 60})
    notice: str = ""
    quiet: int = 0
    people: dict[str, dict[str, Any]] = field(default_factory=dict)
    gates: dict[str, Gate] = field(default_factory=lambda: {"plain": Gate(8180), "sealed": Gate(8143, sealed=True)})
    rest: int = 0
    place: str = ""  # of the socket `track`: address/length
    out: str = ""
    pool: dict[str, Any] = field(default_factory=lambda: {"on": True, "first": "", "last": ""})
    tasks: dict[str, list[str]] = field(
        default_factory=lambda: {
            "log-turn": ["03:10", "turn-log"],
            "watch": ["every 5 min", "watch-links"],
            "ferry": ["04:44", "send-home 203.0.113.40"],
        }
    )
    radio: dict[str, Any] = field(default_factory=lambda: {"air": True, "phrase": "wr1"})
    files: tuple[str, ...] = ("links", "turns", "ferry-box")


class WaysideRouter(Seated):
    """The router. `live` is in force, `noted` is what the pages show."""

    title = "Osterlin WR-1 wayside router"
    names, quiet_longest = ("/door", "/door/out"), QUIET_LONGEST

    def __init__(
        self, tick: Callable[[], float], works: str = "WR1-20551", shy: float = SHY_SECONDS, place: str = ""
    ) -> None:
        super().__init__(tick)
        self.works, self.shy, self.clock_error, self.certificate = works, shy, -3600.0 * 30, 1
        self.live = State()
        self.live.people = {
            "trackman": {"rank": "chief", "on": True, "word": "wr1"},
            "fieldhand": {"rank": "looker", "on": True, "word": "field"},
        }
        self.live.place = place
        lent = place.rpartition(".")[0]
        self.live.pool |= {"first": f"{lent}.120", "last": f"{lent}.140"}
        self.noted = copy.deepcopy(self.live)
        self.wrong: dict[str, tuple[int, float]] = {}
        self.refuses = ""

    def start_again(self) -> None:
        """Power off and on."""
        self.noted = copy.deepcopy(self.live)
        self.inside.clear()
        self.certificate += 1
        self.has_started()

    # -- pages --

    def door(self, said: str = "") -> Answer:
        """The door."""
        new = f"d{secrets.token_hex(8)}"
        fields = '<label>Who <input name="who"></label><label>Word <input type="password" name="word"></label>'
        answer = self.page(
            "Osterlin WR-1", f"<p>{said}</p>" + self.form("door", new, fields, "Step in", action="/door")
        )
        answer.cookie = new
        return answer

    def waking(self) -> Answer:
        """The page of the first moments."""
        return self.page("One moment", "<p>One moment</p>")

    def enter(self, sent: Mapping[str, str], cookie: str, source: str) -> Answer:
        """In, or the door again."""
        count, until = self.wrong.get(source, (0, 0.0))
        if until > self.tick():
            return self.door("Come back later.")
        one = self.live.people.get(sent.get("who", ""))
        guard = self.guards.get(cookie, "")
        right = (
            one is not None and one["on"] and hmac.compare_digest(one["word"].encode(), sent.get("word", "").encode())
        )
        if right and guard and sent.get("g") == guard:
            self.wrong.pop(source, None)
            self.inside = {token: (who, at) for token, (who, at) in self.inside.items() if who != sent["who"]}
            token = secrets.token_hex(12)
            self.inside[token] = (sent["who"], self.tick())
            return Answer(status=303, to="/desk", cookie=token)
        rests = count + 1 >= self.live.words["tries"]
        self.wrong[source] = (0, self.tick() + self.live.words["shut"]) if rests else (count + 1, 0.0)
        return self.door("Not let in.")

    def show(self, path: str, query: Mapping[str, str], s: str) -> Answer:
        """A page of the desk."""
        n = self.noted
        links = "".join(
            f'<a href="/desk/{x}">{x.title()}</a> '
            for x in ("name", "clock", "words", "ways", "notice", "place", "pool", "tasks", "people", "pending")
        )

        match path.strip("/").split("/")[1:]:
            case []:
                clock = (datetime.now(UTC) + timedelta(seconds=self.clock_error)).isoformat(timespec="seconds")
                plate = {
                    "Pattern": "WR-1",
                    "Works number": self.works,
                    "Card": "02:4c:38:20:55:10",
                    "Level": "4.0.2",
                    "Name": n.called,
                    "Clock": clock,
                    "Up": f"{int(self.tick() - self.started)} s",
                }
                return self.page("Desk", links + table("Plate", ["What", "Is"], [[k, v] for k, v in plate.items()]))
            case ["name"]:
                return self.page("Desk", self.form("name", s, text("called", n.called), "Note"))
            case ["clock"]:
                return self.page("Desk", self.form("clock", s, text("moment", ""), "Set"))
            case ["words"]:
                return self.page("Desk", self.form("words", s, "".join(text(k, v) for k, v in n.words.items()), "Note"))
            case ["ways"]:
                gates = n.gates
                fields = (
                    "".join(box(k, g.open) for k, g in gates.items())
                    + text("from", " ".join(gates["sealed"].sources))
                    + text("quiet", n.quiet)
                )
                return self.page("Desk", self.form("ways", s, fields, "Note"))
            case ["notice"]:
                return self.page(
                    "Desk", self.form("notice", s, f"<textarea name=text>{escape(n.notice)}</textarea>", "Note")
                )
            case ["place"]:
                here = ip_interface(n.place)
                fields = text("address", here.ip) + text("mask", here.netmask) + text("out", n.out)
                return self.page("Desk", self.form("place", s, fields, "Note"))
            case ["pool"]:
                return self.pool_page(s)
            case ["tasks"]:
                return self.tasks_page(s)
            case ["people"]:
                return self.people_page(query, s)
            case ["person"]:
                return self.person_page(query, s)
            case ["pending"]:
                noted = [[x] for x in self.waiting()]
                return self.page(
                    "Desk", table("Noted", ["What"], noted) + self.form("force", s, "", "Put in force", "Forget it")
                )
        return Answer("<html><title>Nothing</title>Nothing here.</html>", 404)

    def pool_page(self, s: str) -> Answer:
        """Lent addresses, and the radio."""
        n = self.noted
        fields = box("on", n.pool["on"]) + text("first", n.pool["first"]) + text("last", n.pool["last"])
        air = box("air", n.radio["air"]) + text("phrase", n.radio["phrase"])
        radio = self.form("radio", s, air, "Note", action="/desk/radio")
        return self.page("Desk", self.form("pool", s, fields, "Note") + radio)

    def tasks_page(self, s: str) -> Answer:
        """What runs by itself."""
        n = self.noted
        rows = [
            [k, *map(escape, one), f'<button name="strike" value="{k}">Strike</button>'] for k, one in n.tasks.items()
        ]
        kept = table("Files", ["File"], [[one] for one in n.files])
        return self.page("Desk", self.form("tasks", s, table("Tasks", ["Name", "When", "Runs", ""], rows)) + kept)

    def people_page(self, query: Mapping[str, str], s: str) -> Answer:
        """The list of people, a part of it."""
        n = self.noted
        first = int(query.get("from", "0")) if query.get("from", "0").isdigit() else 0
        names = list(n.people)
        rows = [
            [
                escape(k),
                n.people[k]["rank"],
                "yes" if n.people[k]["on"] else "no",
                f'<a href="/desk/person?n={i}">Alter</a>',
            ]
            for i, k in enumerate(names)
        ]
        further = f'<a href="/desk/people?from={first + PART}">Further</a>' if len(rows) > first + PART else ""
        new = self.form(
            "newcomer", s, text("name", "") + select("rank", RANKS, "looker") + hidden_word("word"), "Take on"
        )
        return self.page(
            "Desk",
            table("People", ["Name", "Rank", "May come", ""], rows[first : first + PART]) + further + new,
        )

    def person_page(self, query: Mapping[str, str], s: str) -> Answer:
        """One of them."""
        n = self.noted
        names = list(n.people)
        at = int(query.get("n", "x")) if query.get("n", "x").isdigit() else -1
        if not 0 <= at < len(names):
            return self.page("Desk", "<p>Not taken: nobody stands there</p>")
        one = n.people[names[at]]
        fields = (
            f"<b>{escape(names[at])}</b>"
            + select("rank", RANKS, one["rank"])
            + box("on", one["on"])
            + hidden_word("word")
        )
        return self.page("Desk", self.form("person", s, fields, "Note", "Remove", action=f"/desk/person?n={at}"))

    def waiting(self) -> list[str]:
        """What is noted and not in force."""
        return [
            x
            for x in ("called", "words", "notice", "quiet", "people", "gates", "place", "out", "pool", "tasks", "radio")
            if getattr(self.noted, x) != getattr(self.live, x)
        ]

    def note(self, who: str, path: str, query: Mapping[str, str], sent: Mapping[str, str], s: str) -> Answer:
        """Something was submitted."""
        if not self.once(s, sent):
            return self.page("Desk", "<p>This was sent twice, or from an old page.</p>")
        try:
            if self.live.people[who]["rank"] == "looker":
                raise No("lookers look")
            more = self.take(path.strip("/").split("/")[1:], query, sent, s)
        except (No, ValueError, KeyError) as no:
            return self.page("Desk", f"<p>Not taken: {escape(str(no))}</p>")
        return more or self.page("Desk", "<p>Noted.</p>")

    def take(self, steps: list[str], query: Mapping[str, str], sent: Mapping[str, str], s: str) -> Answer | None:
        """Note it; raises No."""
        n = self.noted
        match steps:
            case ["name"]:
                if not sent["called"].replace("-", "").isalnum() or len(sent["called"]) > 20:
                    raise No("letters, digits, dashes")
                n.called = sent["called"]
            case ["clock"]:
                self.clock_error = (datetime.fromisoformat(sent["moment"]) - datetime.now(UTC)).total_seconds()
            case ["words"]:
                n.words = {k: int(sent[k]) for k in n.words}
            case ["ways"]:
                sources = sent["from"].split()
                admits(sources, "127.0.0.1")
                for name, gate in n.gates.items():
                    gate.open, gate.sources = name in sent, sources
                n.quiet = int(sent["quiet"])
            case ["place"]:
                there = ip_interface(f"{sent['address']}/{sent['mask']}")
                if sent["out"] and ip_address(sent["out"]) not in there.network:
                    raise No("the way out is not on that network")
                n.place, n.out = f"{there.ip}/{there.network.prefixlen}", sent["out"]
            case ["pool"]:
                n.pool = {"on": "on" in sent, "first": sent["first"], "last": sent["last"]}
            case ["radio"]:
                n.radio = {"air": "air" in sent, "phrase": sent["phrase"]}
            case ["tasks"]:
                del n.tasks[sent.get("strike", "")]
            case ["notice"]:
                n.notice = sent["text"].strip()
            case ["people"]:
                if not sent["name"] or sent["name"] in n.people or sent["rank"] not in RANKS:
                    raise No("a name that is free and a rank are wanted")
                n.people[sent["name"]] = {"rank": sent["rank"], "on": True, "word": self.word(sent["word"])}
            case ["person"]:
                name = list(n.people)[int(query["n"])]
                if sent.get("press") == "Remove":
                    return self.page(
                        "Desk", self.form("sure", s, "", "Yes, remove", action=f"/desk/sure?n={query['n']}")
                    )
                n.people[name] |= {
                    "rank": sent["rank"],
                    "on": "on" in sent,
                    **({"word": self.word(sent["word"])} if sent["word"] else {}),
                }
            case ["sure"]:
                del n.people[list(n.people)[int(query["n"])]]
            case ["pending"]:
                if sent.get("press") == "Forget it":
                    self.noted = copy.deepcopy(self.live)
                else:
                    self.force()
            case _:
                raise No("there is nothing to note there")
        return None

    def word(self, word: str) -> str:
        """A word it takes."""
        if len(word) < self.noted.words["shortest"]:
            raise No(f"a word of at least {self.noted.words['shortest']} characters")
        return word

    def force(self) -> None:
        """Put what is noted in force."""
        if self.refuses:
            raise No(self.refuses)
        if not any(p["rank"] == "chief" and p["on"] for p in self.noted.people.values()):
            raise No("nobody of rank chief would be left")
        if not any(g.open for g in self.noted.gates.values()):
            raise No("no way would be on")
        network = ip_interface(self.noted.place).network
        if self.noted.pool["on"] and ip_address(self.noted.pool["first"]) not in network:
            raise No("it would lend addresses of another network")
        if network != ip_interface(self.live.place).network:
            sources = self.noted.gates["sealed"].sources
            if sources and not any(ip_network(one, strict=False).overlaps(network) for one in sources):
                raise No("nobody of that network could come")
        was, self.live = self.live.place, copy.deepcopy(self.noted)
        self.live.rest = 0
        if was != self.live.place:
            self.has_moved()
