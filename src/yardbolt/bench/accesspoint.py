"""The YA-7 access point of `docs/bench/lindhallow-ya7.md`: what it holds, and its pages."""

from __future__ import annotations

import base64
import copy
import hmac
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from html import escape
from ipaddress import ip_address, ip_interface, ip_network
from typing import Any

from .lineswitch import admits
from .paged import Answer, Paged, box, hidden_word, select, table, text
from .plugged import Gate, No

SHY_SECONDS, WRITING, RESTING, WRONG_MOST = 2.0, 2.0, 30.0, 5
SIDES = {"track": "inside", "depot": "outside", "radio": "wireless"}


@dataclass
class State:
    """What is in force, or kept."""

    called: str = "ya7"
    notice: str = ""
    quiet: int = 0
    word: str = ""
    sockets: dict[str, dict[str, Any]] = field(
        default_factory=lambda: {name: {"on": True, "bundle": "all", "tells": True} for name in SIDES}
    )
    bundles: dict[str, dict[str, Any]] = field(default_factory=lambda: {"all": {"from": ["*"], "web": True}})
    place: str = ""  # address/length
    out: str = ""
    lends: bool = True
    gates: dict[str, Gate] = field(
        default_factory=lambda: {"open": Gate(8088), "sealed": Gate(8448, False, sealed=True)}
    )
    rest: int = 0


class AccessPoint(Paged):
    """The access point. `live` is in force; `kept` is what was written."""

    title = "Lindhallow YA-7 access point"

    def __init__(
        self, tick: Callable[[], float], works: str = "YA7-00914", shy: float = SHY_SECONDS, place: str = ""
    ) -> None:
        super().__init__(tick)
        self.works, self.shy, self.clock_error, self.certificate = works, shy, 86400.0 * 3, 1
        self.live = State(place=place)
        self.kept = copy.deepcopy(self.live)
        self.coming: tuple[float, State] | None = None  # what is being written, and until when
        self.visit: tuple[str, float] = ("", 0.0)
        self.wrong = (0, 0.0)

    def known(self) -> dict[str, str]:
        """Who is there, with the word that opens."""
        return {"": self.live.word}

    def takes(self, gate: str, source: str) -> bool:
        """Is this way open for this source now? Whoever can come here at all comes by the socket `track`."""
        return self.live.gates[gate].open and self.admitted("track", source)

    def admitted(self, socket: str, source: str) -> bool:
        """May this source come to the pages by that socket?"""
        bundle = self.live.bundles[self.live.sockets[socket]["bundle"]]
        if not self.live.sockets[socket]["on"] or not bundle["web"]:
            return False
        return "*" in bundle["from"] or (bool(bundle["from"]) and admits(bundle["from"], source))

    def start_again(self) -> None:
        """Off and on: what was written is in force."""
        self.settle()
        self.coming, self.visit = None, ("", 0.0)
        was, self.live = self.live.place, copy.deepcopy(self.kept)
        self.has_started()
        if was != self.live.place:
            self.has_moved()

    def settle(self) -> None:
        """What is written by now is kept."""
        if self.coming is not None and self.coming[0] <= self.tick():
            self.kept, self.coming = self.coming[1], None

    def reply(
        self, method: str, path: str, query: Mapping[str, str], sent: Mapping[str, str], cookie: str, source: str
    ) -> Answer:
        """What a browser gets; `cookie` is what it says for itself in the header."""
        self.settle()
        now = self.tick()
        if now - self.started < self.shy or self.wrong[1] > now:
            return self.page("Busy", "<p>Busy.</p>")
        if not self.proven(cookie):
            if cookie:
                count = self.wrong[0] + 1
                self.wrong = (0, now + RESTING) if count >= WRONG_MOST else (count, 0.0)
            answer = self.page("Word", "<p>The word is wanted.</p>")
            answer.status, answer.asks = 401, 'Basic realm="ya7"'
            return answer
        self.wrong = (0, 0.0)
        who, since = self.visit
        if who and who != source and now - since < (self.live.quiet or 120):
            return self.page("In use", f"<p>In use from {who}.</p>")
        self.visit = (source, now)
        if path == "/go":
            self.visit = ("", 0.0)
            return self.page("YA-7", "<p>Gone.</p>")
        return self.note(path, query, sent, source) if method == "POST" else self.show(path, source)

    def proven(self, header: str) -> bool:
        """Is the word right? As far as the door reads it."""
        scheme, _, told = header.partition(" ")
        try:
            name, _, word = base64.b64decode(told).decode().partition(":")
        except ValueError:
            return False
        return scheme == "Basic" and not name and hmac.compare_digest(word.partition("#")[0], self.live.word)

    def unkept(self) -> list[str]:
        """What is in force and not written yet."""
        kept, live = vars(self.kept), vars(self.live)
        return [name for name in live if name != "rest" and live[name] != kept[name]]

    # -- pages --

    def show(self, path: str, s: str) -> Answer:
        """A page."""
        n = self.live
        match path.strip("/"):
            case "" | "plate":
                clock = (datetime.now(UTC) + timedelta(seconds=self.clock_error)).isoformat(timespec="seconds")
                plate = {
                    "Pattern": "YA-7",
                    "Works number": self.works,
                    "Card": "02:77:0a:00:91:40",
                    "Level": "7.1",
                    "Clock": clock,
                    "Up": f"{int(self.tick() - self.started)} s",
                    "Radio": "open",
                }
                return self.page("YA-7", table("Plate", ["What", "Is"], plate.items()))
            case "basics":
                fields = (
                    text("called", n.called)
                    + text("greeting", n.notice)
                    + text("min", n.quiet // 60)
                    + text("sec", n.quiet % 60)
                )
                return self.page("YA-7", self.form("basics", s, fields, "Note"))
            case "clock":
                return self.page("YA-7", self.form("clock", s, text("moment", ""), "Set"))
            case "word":
                return self.page(
                    "YA-7", self.form("word", s, "".join(map(hidden_word, ("now", "new", "again"))), "Note")
                )
            case "ways":
                return self.page(
                    "YA-7", self.form("ways", s, "".join(box(k, g.open) for k, g in n.gates.items()), "Note")
                )
            case "sockets":
                rows = [
                    [
                        name,
                        SIDES[name],
                        box(f"on_{at}", one["on"]),
                        select(f"bundle_{at}", n.bundles, one["bundle"]),
                        box(f"tell_{at}", one["tells"]),
                    ]
                    for at, (name, one) in enumerate(n.sockets.items())
                ]
                heads = ["Socket", "Side", "On", "Bundle", "Announce"]
                return self.page("YA-7", self.form("sockets", s, table("Sockets", heads, rows), "Note"))
            case "bundles":
                return self.page("YA-7", self.bundles(s))
            case "place":
                at = ip_interface(n.place)
                fields = text("address", at.ip) + text("mask", at.netmask) + text("out", n.out) + box("lend", n.lends)
                return self.page("YA-7", self.form("place", s, fields, "Note"))
            case "keep":
                return self.page(
                    "YA-7", table("Not kept", ["What"], [[x] for x in self.unkept()]) + self.form("keep", s, "", "Keep")
                )
            case "again":
                return self.page("YA-7", self.form("again", s, "", "Start again"))
        return Answer("<html><title>Nothing</title>Nothing here.</html>", 404)

    def bundles(self, s: str) -> str:
        """Each bundle in a form of its own, all called alike, and one for a new one."""
        new = self.form(
            "new", s, text("name", "") + text("from", "") + box("web", False), "Make", action="/bundles?new=1"
        )
        guard = self.guards[s]
        rows = []
        for at, (name, one) in enumerate(self.live.bundles.items()):
            if name == "all":
                rows.append([name, "*", "yes", ""])
                continue
            first = (
                f'<form name="bundle" method="post" action="/bundles?n={at}"><input type="hidden" name="g" '
                f'value="{guard}">{escape(name)}'
            )
            pressed = "".join(f'<button name="press" value="{b}">{b}</button>' for b in ("Note", "Scrap"))
            rows.append([first, text("from", " ".join(one["from"])), box("web", one["web"]), f"{pressed}</form>"])
        # a form that begins in one cell and ends in another, as such pages have it
        return table("Bundles", ["Name", "From", "Web", ""], rows) + new

    def note(self, path: str, query: Mapping[str, str], sent: Mapping[str, str], s: str) -> Answer:
        """Something was submitted."""
        if not self.once(s, sent):
            return self.page("YA-7", "<p>This was sent twice, or from an old page.</p>")
        before = copy.deepcopy(self.live)
        try:
            more = self.take(path.strip("/"), query, sent)
        except (No, ValueError, KeyError, IndexError) as no:
            self.live = before
            return self.page("YA-7", f"<p>Not taken: {escape(str(no))}</p>")
        if before.place != self.live.place:
            self.has_moved()
        return more or self.page("YA-7", "<p>Taken.</p>")

    def take(self, page: str, query: Mapping[str, str], sent: Mapping[str, str]) -> Answer | None:
        """Take it; raises No."""
        n = self.live
        match page:
            case "basics":
                if not sent["called"].replace("-", "").isalnum() or len(sent["called"]) > 16:
                    raise No("letters, digits, dashes")
                quiet = int(sent["min"]) * 60 + int(sent["sec"])
                if 0 < quiet < 10 or not 0 <= int(sent["sec"]) < 60:
                    raise No("at least 10 seconds, seconds below 60")
                n.called, n.notice, n.quiet = sent["called"], sent["greeting"].strip(), quiet
            case "clock":
                self.clock_error = (datetime.fromisoformat(sent["moment"]) - datetime.now(UTC)).total_seconds()
            case "word":
                if sent["now"] != n.word:
                    raise No("that is not the word of now")
                if sent["new"] != sent["again"] or not 5 <= len(sent["new"]) <= 24:
                    raise No("the same word twice, 5 to 24 signs")
                n.word = sent["new"]
            case "ways":
                for name, gate in n.gates.items():
                    gate.open = name in sent
                if not any(g.open for g in n.gates.values()):
                    raise No("one way stays on")
            case "sockets":
                for at, one in enumerate(n.sockets.values()):
                    if sent[f"bundle_{at}"] not in n.bundles:
                        raise No("there is no such bundle")
                    one |= {"on": f"on_{at}" in sent, "bundle": sent[f"bundle_{at}"], "tells": f"tell_{at}" in sent}
            case "bundles" if "new" in query:
                if not sent["name"] or sent["name"] in n.bundles:
                    raise No("a name that is free is wanted")
                n.bundles[sent["name"]] = {"from": self.sources(sent["from"]), "web": "web" in sent}
            case "bundles":
                name = list(n.bundles)[int(query["n"])]
                if name == "all":
                    raise No("all stays as it is")
                if sent.get("press") == "Scrap":
                    if any(one["bundle"] == name for one in n.sockets.values()):
                        raise No("it is attached")
                    del n.bundles[name]
                else:
                    n.bundles[name] = {"from": self.sources(sent["from"]), "web": "web" in sent}
            case "place":
                self.put(sent)
            case "keep":
                self.coming = (self.tick() + WRITING, copy.deepcopy(n))
                return self.page("YA-7", "<p>Kept.</p>")
            case "again":
                self.start_again()
                return self.page("Busy", "<p>Busy.</p>")
            case _:
                raise No("there is nothing to change there")
        return None

    def sources(self, written: str) -> list[str]:
        """Who may come."""
        named = [one for one in written.split() if one != "*"]
        admits(named, "127.0.0.1")
        return written.split()

    def put(self, sent: Mapping[str, str]) -> None:
        """Another place; raises No."""
        n = self.live
        at, lends = ip_interface(f"{sent['address']}/{sent['mask']}"), "lend" in sent
        if sent["out"] and ip_address(sent["out"]) not in at.network:
            raise No("the way out is not on that network")
        if at.network != ip_interface(n.place).network:
            if n.lends:
                raise No("it lends addresses of the old network")
            bundle = n.bundles[n.sockets["track"]["bundle"]]["from"]
            if "*" not in bundle and not any(ip_network(one, strict=False).overlaps(at.network) for one in bundle):
                raise No("nobody of that network could come")
        if f"{at.ip}/{at.network.prefixlen}" != n.place:
            self.visit = ("", 0.0)
        n.place, n.out, n.lends = f"{at.ip}/{at.network.prefixlen}", sent["out"], lends
