"""The QL-8 line switch of `docs/bench/quenby-ql8.md`: its state and its board, without any wire.

A `Board` is one connection: text in, text out. Servers (or tests) carry the text. Time comes in as a function, so that
a lock or a start-up can be watched without waiting.
"""

from __future__ import annotations

import copy
import hmac
import ipaddress
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from .plugged import Connection, Plugged

RANKS = ("chief", "fitter", "watcher")
SHY_SECONDS = 2.0
PAGE = 12
TERMS = (
    "QUENBY SIGNALWORKS - TERMS OF USE\n"
    "This line switch is lent for the working life of the line it serves.\n"
    "Whoever takes these terms binds the owner of the line.\n"
)


@dataclass
class Hand:
    """An account of this unit."""

    rank: str
    phrase: str
    made: str  # worksmade | own | none
    must_change: bool = False
    wrong: int = 0
    locked_until: float = 0.0


@dataclass
class GateState:
    """A service of this unit. `sources` is as written; none written is anyone."""

    wire: int
    open: bool = True
    sources: list[str] = field(default_factory=list)


@dataclass
class Settings:
    """What `keep` keeps."""

    nameplate: str = "ql8-new"
    rest: int = 0
    shortest: int = 5
    kinds: int = 1
    tries: int = 5
    lock: int = 60
    greeting: str = ""
    gates: dict[str, GateState] = field(default_factory=lambda: {"shell": GateState(2022), "talk": GateState(2023)})


def admits(sources: list[str], address: str) -> bool:
    """Does a list as written take this address?"""
    if not sources:
        return True
    asked = int(ipaddress.ip_address(address))
    for entry in sources:
        first, _, last = entry.partition("-")
        if last:
            if int(ipaddress.ip_address(first)) <= asked <= int(ipaddress.ip_address(last)):
                return True
        else:
            block = ipaddress.ip_network(first, strict=False)
            if int(block.network_address) <= asked <= int(block.broadcast_address):
                return True
    return False


def kinds_in(phrase: str) -> int:
    """How many kinds of character: small, large, figures, anything else."""
    return len({"s" if c.islower() else "l" if c.isupper() else "f" if c.isdigit() else "x" for c in phrase})


class LineSwitch(Plugged):
    """The unit itself: live and saved settings, hands, the time since it was started."""

    def __init__(
        self,
        tick: Callable[[], float],
        works_number: str = "004417",
        clock_error: float = -86_400.0 * 212,
        shy: float = SHY_SECONDS,
    ) -> None:
        super().__init__(tick)
        self.works_number, self.shy = works_number, shy
        self.clock_error = clock_error
        self.live, self.kept = Settings(), Settings()
        self.hands = {
            "foreman": Hand("chief", "foreman", "worksmade", must_change=True),
            "spanner": Hand("chief", "", "none"),
        }
        self.terms_taken = False

    title, version, barred = "Quenby QL-8 line switch", "Quenby_board_4", "That hand is resting.\r\n"

    # -- questions servers ask --

    def board(self, gate: str, source: str, hand: str = "") -> Board:
        """A connection to the board."""
        return Board(self, gate, source, hand)

    def takes(self, gate: str, source: str) -> bool:
        """Is this gate open for this source now?"""
        state = self.live.gates[gate]
        return state.open and admits(state.sources, source)

    def try_phrase(self, name: str, phrase: str) -> str:
        """`in`, `resting` or `no`. Counts wrong tries, also those turned away while starting."""
        hand = self.hands.get(name)
        if hand is None:
            return "no"
        if hand.locked_until > self.tick():
            return "resting"
        right = hmac.compare_digest(hand.phrase.encode(), phrase.encode())
        if right and self.tick() - self.started >= self.shy:
            hand.wrong = 0
            return "in"
        hand.wrong += 1
        if hand.wrong >= self.live.tries:
            hand.wrong, hand.locked_until = 0, self.tick() + self.live.lock
        return "no"

    def known(self) -> dict[str, str]:
        """Who is there, with the phrase that opens."""
        return {name: hand.phrase for name, hand in self.hands.items()}

    def time(self) -> datetime:
        """What its clock shows."""
        return datetime.now(UTC) + timedelta(seconds=self.clock_error)

    def unlike(self) -> list[str]:
        """Parts that are live and not kept."""
        names = ("nameplate", "rest", "shortest", "kinds", "tries", "lock", "greeting")
        parts = [n for n in names if getattr(self.live, n) != getattr(self.kept, n)]
        return parts + [f"gate {g}" for g, s in self.live.gates.items() if s != self.kept.gates[g]]


class Board(Connection):
    """One connection to the board."""

    def __init__(self, unit: LineSwitch, gate: str, source: str, hand: str = "") -> None:
        super().__init__(unit, gate, source, hand)
        self.unit, self.attempts, self.first = unit, 0, ""
        self.pages: list[str] = []

    # -- getting in --

    def greet(self) -> str:
        """What is shown before anything is typed."""
        words = f"{self.unit.live.greeting}\n" if self.unit.live.greeting else ""
        if self.hand:
            return words + self.entered()
        self.asking = self.hear_name
        return f"Quenby QL-8\n{words}Hand: "

    @property
    def hides(self) -> bool:
        """Is what is typed now not to be shown?"""
        return self.asking in (self.hear_phrase, self.hear_new, self.hear_again) or getattr(
            self.asking, "__name__", ""
        ).startswith("secret")

    def hear_name(self, text: str) -> str:
        self.first, self.asking = text.strip(), self.hear_phrase
        return "Phrase: "

    def hear_phrase(self, text: str) -> str:
        got = self.unit.try_phrase(self.first, text)
        if got == "in":
            self.hand = self.first
            return self.entered()
        self.attempts += 1
        said = "That hand is resting.\n" if got == "resting" else "Not known here.\n"
        if self.attempts >= 3:
            self.end()
            return said
        self.asking = self.hear_name
        return said + "Hand: "

    def entered(self) -> str:
        if not self.unit.terms_taken:
            self.asking = self.hear_terms
            return TERMS + "Do you take these terms (take/refuse)? "
        if self.unit.hands[self.hand].must_change:
            self.asking = self.hear_new
            return "This phrase was made at the works and must be changed.\nNew phrase: "
        self.asking = None
        return self.prompt()

    def hear_terms(self, text: str) -> str:
        if text.strip() != "take":
            self.end()
            return "Then farewell.\n"
        self.unit.terms_taken = True
        return self.entered()

    def fault_of(self, phrase: str) -> str:
        live = self.unit.live
        if len(phrase) < live.shortest:
            return f"Too short by {live.shortest - len(phrase)}."
        if kinds_in(phrase) < live.kinds:
            return f"Only {kinds_in(phrase)} kinds of character, {live.kinds} wanted."
        return "Too long." if len(phrase) > 40 else ""

    def hear_new(self, text: str) -> str:
        if not text:
            self.end()
            return "Nothing changed.\n"
        if fault := self.fault_of(text):
            return f"{fault}\nNew phrase: "
        self.first, self.asking = text, self.hear_again
        return "Once more: "

    def hear_again(self, text: str) -> str:
        if text != self.first:
            self.asking = self.hear_new
            return "They differ.\nNew phrase: "
        hand = self.unit.hands[self.hand]
        hand.phrase, hand.made, hand.must_change = text, "own", False
        self.first, self.asking = "", None
        return "Changed.\n" + self.prompt()

    # -- at the board --

    def prompt(self) -> str:
        return f"{self.unit.live.nameplate} |> "

    def hear(self, text: str) -> str:
        """One line typed; what the board says to it."""
        if self.pages:
            return self.page()
        if self.asking:
            return self.asking(text)
        words = text.split()
        if not words:
            return self.prompt()
        if any(h.must_change for h in self.unit.hands.values()) and words[0] != "leave":
            return "No: locked until the phrase made at the works is changed.\n" + self.prompt()
        verb = getattr(self, f"do_{words[0]}", None)
        if verb is None:
            return f"No: {words[0]} is not a board word.\n" + self.prompt()
        if words[0] not in ("look", "leave") and self.unit.hands[self.hand].rank == "watcher":
            return "No: a watcher only looks.\n" + self.prompt()
        try:
            said: str = verb(words[1:], text)
        except (IndexError, ValueError):
            said = f"No: {words[0]} was not understood.\n"
        if self.asking or self.ended:
            return said
        lines = said.splitlines()
        if len(lines) > PAGE:
            self.pages = lines
            return self.page()
        return said + self.prompt()

    def page(self) -> str:
        now, self.pages = self.pages[:PAGE], self.pages[PAGE:]
        return "\n".join(now) + "\n" + ("-- turn over --" if self.pages else self.prompt())

    def do_leave(self, w: list[str], text: str) -> str:
        self.end()
        return "Good day.\n"

    def do_look(self, w: list[str], text: str) -> str:
        unit, live = self.unit, self.unit.live
        if w == ["plate"]:
            ran = int(unit.tick() - unit.started)
            rows = {
                "nameplate": live.nameplate,
                "works number": unit.works_number,
                "maker": "Quenby Signalworks",
                "pattern": "QL-8",
                "casting": "4.2.1",
                "plated": "02:4c:38:00:44:17",
                "run": f"{ran // 86400}d {ran // 3600 % 24:02}h {ran // 60 % 60:02}m {ran % 60:02}s",
                "clock": unit.time().strftime("%Y-%m-%d %H:%M:%S +00:00"),
                "rest after": f"{live.rest} min" if live.rest else "never",
                "shortest phrase": str(live.shortest),
                "kinds in phrase": str(live.kinds),
                "wrong tries": str(live.tries),
                "locked for": f"{live.lock} s",
                "greeting": live.greeting or "(none)",
            }
            return "".join(f"{k} {'.' * (18 - len(k))} {v}\n" for k, v in rows.items())
        if w == ["hands"]:
            table = [
                f"{n:<14}{h.rank:<9}{'resting' if h.locked_until > unit.tick() else 'working':<9}{h.made}"
                for n, h in unit.hands.items()
            ]
            return "\n".join([f"{'hand':<14}{'rank':<9}{'state':<9}phrase", *table]) + "\n"
        if w == ["gates"]:
            table = [
                f"{n:<8}{g.wire:<7}{'open' if g.open else 'shut':<7}{','.join(g.sources)}".rstrip()
                for n, g in live.gates.items()
            ]
            return "\n".join([f"{'gate':<8}{'wire':<7}{'state':<7}from", *table]) + "\n"
        if w == ["kept"]:
            return "".join(f"unlike: {p}\n" for p in unit.unlike()) + f"{len(unit.unlike())} unlike\n"
        if w == ["seats"]:
            table = [f"{b.seat:<6}{b.hand:<14}{b.gate:<8}{b.source}" for b in unit.connections if b.hand]
            return "\n".join([f"{'seat':<6}{'hand':<14}{'gate':<8}source", *table]) + "\n"
        raise ValueError

    def do_engrave(self, w: list[str], text: str) -> str:
        live, what = self.unit.live, w[0]
        limits = {"rest": (0, 240), "shortest": (5, 40), "kinds": (1, 4), "tries": (2, 20), "lock": (10, 86400)}
        if what in limits:
            low, high = limits[what]
            if not low <= int(w[1]) <= high:
                return f"No: {what} goes from {low} to {high}.\n"
            setattr(live, what, int(w[1]))
        elif what == "nameplate":
            if len(w[1]) > 20 or not w[1].replace("-", "").isalnum():
                return "No: a nameplate is up to 20 letters, digits, dashes.\n"
            live.nameplate = w[1]
        elif what == "greeting":
            words = text.split(None, 2)[2].strip()
            if len(words) > 72:
                return "No: the greeting plate holds 72 characters.\n"
            live.greeting = "" if words == "-" else words
        elif what == "clock":
            told = datetime.fromisoformat(w[1])
            if told.tzinfo is None:
                return "No: a time needs its zone.\n"
            self.unit.clock_error = (told - datetime.now(UTC)).total_seconds()
        else:
            raise ValueError
        return "Engraved.\n"

    def do_gate(self, w: list[str], text: str) -> str:
        state = self.unit.live.gates.get(w[0])
        if state is None:
            return f"No: there is no gate {w[0]}.\n"
        if w[1] in ("open", "shut"):
            state.open = w[1] == "open"
            if not state.open:
                for board in [b for b in self.unit.connections if b.gate == w[0]]:
                    board.end()
        elif w[1] == "from":
            wanted = [x for x in "".join(w[2:]).split(",") if x]
            for entry in wanted:
                admits([entry], "127.0.0.1")
            state.sources = wanted
        else:
            raise ValueError
        return "" if self.ended else "Set.\n"

    def ask_phrase(self, name: str, then: Callable[[str], str]) -> str:
        kept = ""

        def secret_again(text: str) -> str:
            self.asking = None
            return ("No: they differ.\n" if text != kept else then(kept)) + self.prompt()

        def secret_first(text: str) -> str:
            nonlocal kept
            if fault := self.fault_of(text):
                self.asking = None
                return f"No: {fault}\n" + self.prompt()
            kept, self.asking = text, secret_again
            return "Once more: "

        self.asking = secret_first
        return f"Phrase for {name}: "

    def do_hire(self, w: list[str], text: str) -> str:
        name, rank = w
        if name in self.unit.hands:
            return f"No: {name} already works here.\n"
        if rank not in RANKS or len(name) > 16 or not name.replace("-", "").isalnum():
            return "No: a name is up to 16 letters, digits, dashes; a rank is chief, fitter or watcher.\n"

        def hired(phrase: str) -> str:
            self.unit.hands[name] = Hand(rank, phrase, "own")
            return "Hired.\n"

        return self.ask_phrase(name, hired)

    def do_rank(self, w: list[str], text: str) -> str:
        name, rank = w
        if name not in self.unit.hands or rank not in RANKS:
            return "No: no such hand or rank.\n"
        self.unit.hands[name].rank = rank
        return "Ranked.\n"

    def do_rekey(self, w: list[str], text: str) -> str:
        (name,) = w
        hand = self.unit.hands.get(name)
        if hand is None:
            return f"No: {name} does not work here.\n"

        def changed(phrase: str) -> str:
            hand.phrase, hand.made, hand.wrong, hand.locked_until = phrase, "own", 0, 0.0
            return "Changed.\n"

        if name != self.hand:
            return self.ask_phrase(name, changed)

        def secret_present(text: str) -> str:
            if text != hand.phrase:
                self.asking = None
                return "No: that is not the present phrase.\n" + self.prompt()
            return self.ask_phrase(name, changed)

        self.asking = secret_present
        return "Present phrase: "

    def do_dismiss(self, w: list[str], text: str) -> str:
        (name,) = w
        if name not in self.unit.hands:
            return f"No: {name} does not work here.\n"
        chiefs = [n for n, h in self.unit.hands.items() if h.rank == "chief"]
        if name == self.hand or chiefs == [name]:
            return "No: neither yourself nor the last chief.\n"

        def answer(text: str) -> str:
            self.asking = None
            if text.strip() != "yes":
                return "No: nobody was dismissed.\n" + self.prompt()
            del self.unit.hands[name]
            for board in [b for b in self.unit.connections if b.hand == name]:
                board.end()
            return "Dismissed.\n" + self.prompt()

        self.asking = answer
        return f"Dismiss {name} for good (yes/no)? "

    def do_keep(self, w: list[str], text: str) -> str:
        self.unit.kept = copy.deepcopy(self.unit.live)
        return "Kept.\n"

    def do_wheel(self, w: list[str], text: str) -> str:
        def answer(text: str) -> str:
            self.asking = None
            if text.strip() != "yes":
                return "No: not wheeled round.\n" + self.prompt()
            self.unit.start_again()
            return ""

        self.asking = answer
        return "Wheel round now? What is not kept is lost (yes/no): "
