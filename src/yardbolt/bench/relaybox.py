"""The RB-3 relay box of `docs/bench/corvane-rb3.md`: a plain unit, its state and its counter, without any wire."""

from __future__ import annotations

import copy
import hmac
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from .lineswitch import GateState, admits
from .plugged import Connection, Plugged

NUMBERS = {"idle": (0, 600), "length": (4, 64), "kinds": (1, 4), "tries": (3, 50), "bar": (10, 86400)}


@dataclass
class Person:
    """Somebody who may come to the counter."""

    rights: str
    password: str
    made: str = "own"


@dataclass
class Box:
    """What `write` writes: everything."""

    name: str = "rb3"
    notice: str = ""
    rest: int = 0
    numbers: dict[str, int] = field(default_factory=lambda: {"length": 4, "kinds": 1, "tries": 6, "bar": 120})
    gates: dict[str, GateState] = field(default_factory=lambda: {"shell": GateState(2122), "talk": GateState(2123)})
    people: dict[str, Person] = field(
        default_factory=lambda: {"owner": Person("all", "owner", "works"), "helper": Person("all", "helper", "works")}
    )


class RelayBox(Plugged):
    """The unit itself."""

    title, version, barred = "Corvane RB-3 relay box", "Corvane_counter_2", "Barred for now.\r\n"

    def __init__(self, tick: Callable[[], float], serial: str = "RB3-00912", clock_error: float = -4000.0) -> None:
        super().__init__(tick)
        self.serial, self.clock_error = serial, clock_error
        count = f"{serial.removeprefix('RB3-'):0>6}"
        self.hardware = f"02:4c:38:{count[:2]}:{count[2:4]}:{count[4:]}"
        self.live, self.kept = Box(), Box()
        self.binds = True  # or its rules of passwords are shown, and bind nobody
        self.wrong: dict[str, int] = {}
        self.barred_until: dict[str, float] = {}

    def takes(self, gate: str, source: str) -> bool:
        """Is this way open for this source now?"""
        return self.live.gates[gate].open and admits(self.live.gates[gate].sources, source)

    def try_phrase(self, name: str, phrase: str) -> str:
        """`in`, `resting` or `no`."""
        person = self.live.people.get(name)
        if person is None:
            return "no"
        if self.barred_until.get(name, 0.0) > self.tick():
            return "resting"
        if hmac.compare_digest(person.password.encode(), phrase.encode()):
            self.wrong[name] = 0
            return "in"
        self.wrong[name] = self.wrong.get(name, 0) + 1
        if self.binds and self.wrong[name] >= self.live.numbers["tries"]:
            self.wrong[name], self.barred_until[name] = 0, self.tick() + self.live.numbers["bar"]
        return "no"

    def known(self) -> dict[str, str]:
        """Who is there, with the password that opens."""
        return {name: person.password for name, person in self.live.people.items()}

    def board(self, gate: str, source: str, hand: str = "") -> Counter:
        """A connection to the counter."""
        return Counter(self, gate, source, hand)

    def unwritten(self) -> int:
        """How many settings would be lost at a restart."""
        live, kept = vars(self.live), vars(self.kept)
        flat: int = sum(live[name] != kept[name] for name in ("name", "notice", "rest"))
        groups: int = sum(
            live[group].get(key) != kept[group].get(key)
            for group in ("numbers", "gates", "people")
            for key in {*live[group], *kept[group]}
        )
        return flat + groups


class Counter(Connection):
    """One connection to the counter."""

    pages: tuple[str, ...] = ()

    def __init__(self, box: RelayBox, gate: str, source: str, hand: str = "") -> None:
        super().__init__(box, gate, source, hand)
        self.box, self.hides = box, False

    def prompt(self) -> str:
        return f"[{self.box.live.name}] "

    def greet(self) -> str:
        """What is shown before anything is typed."""
        words = f"{self.box.live.notice}\n" if self.box.live.notice else ""
        return words + (self.prompt() if self.hand else self.ask("Person: ", self.person))

    def ask(self, words: str, then: Callable[[str], str], hides: bool = False) -> str:
        self.asking, self.hides = then, hides
        return words

    def person(self, name: str) -> str:
        def password(text: str) -> str:
            got = self.box.try_phrase(name.strip(), text)
            if got == "in":
                self.hand = name.strip()
                return self.prompt()
            return ("Barred for now.\n" if got == "resting" else "Wrong.\n") + self.ask("Person: ", self.person)

        return self.ask("Password: ", password, True)

    def hear(self, line: str) -> str:
        """One line typed; what the counter says to it."""
        if self.asking:
            then, self.asking, self.hides = self.asking, None, False
            return then(line)
        words = line.split()
        if not words:
            return self.prompt()
        try:
            said = self.do(words, line)
        except (KeyError, IndexError, ValueError):
            said = "cannot: not understood\n"
        return said if self.asking or self.ended else said + self.prompt()

    def page(self) -> str:
        return ""

    def do(self, words: list[str], line: str) -> str:
        box, verb = self.box, words[0]
        if verb == "bye":
            self.end()
            return "bye\n"
        if verb == "tell":
            return self.tell(words[1])
        if box.live.people[self.hand].rights != "all":
            return "cannot: you may only look\n"
        if verb == "fact":
            return self.fact(words[1], line.split(None, 2)[2].strip())
        if verb == "way":
            return self.way(box.live.gates[{"ssh": "shell", "telnet": "talk"}[words[1]]], words[2], words[3:])
        if verb == "person":
            if words[1] in box.live.people or words[2] not in ("all", "some", "view") or len(words[1]) > 24:
                return "cannot: that name is taken, or there are no such rights\n"
            return self.new_password(lambda text: box.live.people.update({words[1]: Person(words[2], text)}))
        if verb == "rights":
            box.live.people[words[1]].rights = words[2]
        elif verb == "password":
            person = box.live.people[words[1]]
            return self.new_password(lambda text: vars(person).update(password=text, made="own"))
        elif verb == "without":
            if words[1] == self.hand:
                return "cannot: that is yourself\n"
            del box.live.people[words[1]]
            for board in [b for b in box.connections if b.hand == words[1]]:
                board.end()
        elif verb == "write":
            box.kept = copy.deepcopy(box.live)
        elif verb == "again":
            box.start_again()
            return ""
        else:
            return f"cannot: nothing is called {verb}\n"
        return "done\n"

    def tell(self, what: str) -> str:
        box, live = self.box, self.box.live
        if what == "facts":
            now = datetime.now(UTC) + timedelta(seconds=box.clock_error)
            facts = {
                "name": live.name,
                "serial": box.serial,
                "maker": "Corvane Relayworks",
                "model": "RB-3",
                "software": "2.0",
                "hardware": box.hardware,
                "up": str(int(box.tick() - box.started)),
                "time": now.isoformat(timespec="seconds"),
                "idle": f"{live.rest} min" if live.rest else "none",
                **{k: str(v) for k, v in live.numbers.items()},
                "notice": live.notice or "none",
            }
            return "".join(f"{name}: {value}\n" for name, value in facts.items())
        if what == "people":
            return "person rights password\n" + "".join(f"{n} {p.rights} {p.made}\n" for n, p in live.people.items())
        if what == "ways":
            names = {"shell": "ssh", "talk": "telnet"}
            return "way port state for\n" + "".join(
                f"{names[n]} {g.wire} {'on' if g.open else 'off'} {','.join(g.sources) or 'anybody'}\n"
                for n, g in live.gates.items()
            )
        if what == "inside":
            names = {"shell": "ssh", "talk": "telnet"}
            rows = [f"{b.seat} {b.hand} {names[b.gate]} {b.source}\n" for b in box.connections if b.hand]
            return "number person way source\n" + "".join(rows)
        if what == "unwritten":
            return f"{box.unwritten()} unwritten\n"
        raise ValueError

    def fact(self, name: str, value: str) -> str:
        live = self.box.live
        if name in NUMBERS:
            low, high = NUMBERS[name]
            if not low <= int(value) <= high:
                return f"cannot: {name} is {low} to {high}\n"
            if name == "idle":
                live.rest = int(value)
            else:
                live.numbers[name] = int(value)
        elif name == "name":
            live.name = value
        elif name == "notice":
            live.notice = "" if value == "none" else value[:200]
        elif name == "time":
            self.box.clock_error = (datetime.fromisoformat(value) - datetime.now(UTC)).total_seconds()
        else:
            raise ValueError
        return "done\n"

    def way(self, gate: GateState, what: str, rest: list[str]) -> str:
        if what == "for":
            wanted = [entry for entry in "".join(rest).split(",") if entry not in ("", "anybody")]
            for entry in wanted:
                admits([entry], "127.0.0.1")
            gate.sources = wanted
            return "done\n"
        gate.open = {"on": True, "off": False}[what]
        if not gate.open:
            for board in [b for b in self.box.connections if self.box.live.gates[b.gate] is gate]:
                board.end()
        return "" if self.ended else "done\n"

    def new_password(self, then: Callable[[str], None]) -> str:
        live = self.box.live

        def again(first: str) -> str:
            kinds = len({"s" if c.islower() else "l" if c.isupper() else "f" if c.isdigit() else "x" for c in first})
            if self.box.binds and (len(first) < live.numbers["length"] or kinds < live.numbers["kinds"]):
                return "cannot: too short, or too few kinds of character\n" + self.prompt()

            def last(text: str) -> str:
                if text != first:
                    return "cannot: not the same\n" + self.prompt()
                then(first)
                return "done\n" + self.prompt()

            return self.ask("Again: ", last, True)

        return self.ask("Password: ", again, True)
