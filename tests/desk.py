"""A unit made for trying the core: staged, live and saved settings held as true planes, with lies to be switched on.

It is talked to in a way of its own, `desk`, which exists nowhere but here.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from yardbolt.core.credentials import Password
from yardbolt.core.doors import Door, Way
from yardbolt.core.errors import YardboltError
from yardbolt.core.family.building import family_of
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.model import Family
from yardbolt.core.family.reading import merge
from yardbolt.core.family.spelling import meant
from yardbolt.core.job import Allows, OwnAccount, Site
from yardbolt.core.judge.access import admit
from yardbolt.core.plane.change import Change, Drop, Make, Set, apply
from yardbolt.core.plane.compare import difference
from yardbolt.core.plane.document import to_tree
from yardbolt.core.plane.edit import Draft, get, put, reachable
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import Path
from yardbolt.core.plane.table import holds_secret, is_item
from yardbolt.core.run.events import Event
from yardbolt.core.run.requests import Attempted, LogIn, Note, Outcome, Pause, Read, Return, Returned, Send
from yardbolt.core.secret import Ref, Slot
from yardbolt.core.talk.conversation import Keys, Order, Replies, Talk, Unprompted
from yardbolt.core.talk.outcomes import Done, Ended, Login, No, Opened, Refused, Unclear


@dataclass(frozen=True)
class Channel(Unprompted):
    services: Mapping[str, str]
    talk: str = "desk"
    replies: tuple[Any, ...] = ()


@dataclass(frozen=True)
class How(Unprompted):
    do: str

    def templates(self) -> Iterator[tuple[Keys, str]]:
        slots = {"hire": "{key} {role} {secret}", "dismiss": "{key}", "read": ""}
        alone = ("force", "confirm", "discard", "keep", "restart", "arm", "back")
        yield ("do",), slots.get(self.do, "" if self.do in alone else "{value}")

    def asked_as(self) -> str:
        return self.do


def _silent(*given: Any) -> Generator[Any, Any, Any]:
    """Nothing here is said over a wire."""
    yield from ()


silent: Any = _silent
DESK = Talk("desk", {}, Channel, How, How, lambda how, fill: fill, silent, silent, silent, silent)
LEAVES = {
    "banner": "banner",
    "idle": "idle",
    "policy/min_length": "policy/min_length",
    "stores/waiting": "stores/waiting",
    "stores/returning": {"at": "stores/returning", "empty": "not set"},
}
ROWS: list[dict[str, Any]] = [
    {"at": "accounts/items/*", "into": "accounts", "key": "#", "whole": "yes", "leaves": {"role": "role", "enabled": "enabled"}},
    {"at": "services/items/*", "into": "services", "key": "#", "whole": "yes",
     "leaves": {"enabled": "enabled", "port": "port", "permitted": {"at": "permitted", "empty": "not set"}}},
    {"at": "interfaces/items/*", "into": "interfaces", "key": "#", "whole": "yes",
     "leaves": {"addresses": "addresses", "gateway": {"at": "gateway", "empty": "not set"}}},
]  # fmt: skip
SETS = {
    "banner": "banner", "idle": "idle", "length": "policy/min_length", "port": "services/*/port", "serve": "services/*/enabled",
    "permit": "services/*/permitted", "rekey": "accounts/*/secret", "move": "interfaces/*/addresses",
}  # fmt: skip


def family(channels: Mapping[str, Any] | None = None, asks: Mapping[str, Any] | None = None, **ops: Any) -> Family:
    """A make whose edits are staged; `ops` adds or replaces rows, `channels` replaces the one that carries both
    services."""
    channels = channels or {"desk": {"talk": "desk", "services": {"ssh": "sealed", "web": "sealed"}}}
    first = next(iter(channels))
    asks = asks or {
        s: {"by": first, "do": "read", "store": s, "leaves": LEAVES, "rows": ROWS} for s in ("live", "kept", "staged")
    }
    made: dict[str, Any] = {do: {"do": do, "set": [path], "writes": ["staged"]} for do, path in SETS.items()}
    made |= {
        "hire": {"do": "hire", "make": ["accounts/*"], "then": {"enabled": "yes"}, "writes": ["staged"]},
        "dismiss": {"do": "dismiss", "drop": ["accounts/*"], "writes": ["staged"]},
        "force": {"do": "force", "does": "activate", "copies": {"staged": ["live", "kept"]}},
        "discard": {"do": "discard", "does": "discard", "copies": {"live": ["staged"]}},
    }
    tree = {
        "family": "desk", "title": "Desk", "channels": channels,
        "factory": {"ports": {"ssh": 22, "web": 443}, "logins": [{"account": "maker", "secret": "maker"}]},
        "asks": asks, "ops": {name: {"by": first, **op} for name, op in (made | ops).items()}, "values": {"idle": {"words": {"600.0": "600"}}},
        "lacks": ["services/*/boot", "services/*/interfaces", "services/*/accounts", "accounts/*/permitted", "packet_filter/default", "stores/differences"],
    }  # fmt: skip
    return family_of(tree, ways={"desk": DESK})


TIMED = {
    "force": {"do": "force", "does": "commit", "copies": {"staged": ["live"]}, "returns": "60 s"},
    "confirm": {"do": "confirm", "does": "confirm", "copies": {"live": ["kept"]}},
}
# one whose edits are live and kept at once, and that can be told beforehand to go back by itself
ARMED: dict[str, Any] = {
    **{do: {"do": do, "set": [path], "writes": ["live", "kept"], "guarded": "yes"} for do, path in SETS.items()},
    "hire": {"do": "hire", "make": ["accounts/*"], "then": {"enabled": "yes"}, "writes": ["live", "kept"]},
    "dismiss": {"do": "dismiss", "drop": ["accounts/*"], "writes": ["live", "kept"]},
    "force": {"do": "arm", "does": "arm", "returns": "60 s"}, "discard": {"do": "back", "does": "back"},
    "confirm": {"do": "confirm", "does": "confirm"},
}  # fmt: skip
LAPTOP, ELSEWHERE, ADDRESS = "192.0.2.10", "198.51.100.10", "192.0.2.1"
DOORS = (Door("ssh", ADDRESS, 22, "ssh", "lan"), Door("web", ADDRESS, 443, "web", "lan"))
SITE = Site(
    "u", LAPTOP, meant(("services", "x", "permitted"), "anyone"), meant(("services", "x", "permitted"), "anyone"),
    accounts=(OwnAccount("works", "full", "works office"),), allows=Allows(restart=False), factory=frozenset({"maker"}), doors=DOORS,
)  # fmt: skip
OURS, MAKERS = SITE.secret("works"), Ref("factory:1")


def way(account: str = "maker", secret: Ref = MAKERS, door: Door = DOORS[0], source: str = LAPTOP) -> Way:
    return Way(source, door, account, Password(secret))


def true_plane() -> Plane:
    """The unit at factory default, every fact known."""
    facts: dict[Path, Any] = {
        ("banner",): "new", ("idle",): 60.0, ("policy", "min_length"): 5, ("packet_filter", "default"): ABSENT,
        ("accounts", "maker", "role"): "full", ("accounts", "maker", "enabled"): True, ("accounts", "maker", "secret"): MAKERS,
        ("accounts", "maker", "permitted"): ABSENT, ("interfaces", "lan", "addresses"): ("192.0.2.1/24",),
        ("interfaces", "lan", "gateway"): ABSENT, ("stores", "waiting"): 0, ("stores", "differences"): ABSENT,
        ("stores", "returning"): ABSENT,
    }  # fmt: skip
    for name, port in (("ssh", 22), ("web", 443)):
        facts |= {("services", name, leaf): ABSENT for leaf in ("permitted", "interfaces", "accounts")}
        facts |= {("services", name, "enabled"): True, ("services", name, "port"): port}
    draft = Draft().put_all(facts.items())
    for listed in ("accounts", "services", "interfaces"):
        draft.whole((listed,))
    return draft.freeze()


@dataclass
class Unit:
    """The truth, and what the unit makes of what it is told. `lie` says how it misbehaves, `lie_at` from which order
    on."""

    family: Family
    stores: dict[str, Plane] = field(default_factory=lambda: dict.fromkeys(("staged", "live", "kept"), true_plane()))
    lie: str = ""
    lie_at: int = 0
    told: int = 0
    going_back: dict[str, Plane] | None = None
    sessions: set[Way] = field(default_factory=set)
    journal: list[Event] = field(default_factory=list)
    known: tuple[Ref, ...] = (MAKERS, OURS, Ref("safe:u/maker"))
    laptops: tuple[str, ...] = (LAPTOP,)
    through: Way = field(default_factory=lambda: way())

    # -- the truth --

    def opens(self, one: Way, store: str = "live") -> bool:
        return admit(self.stores[store], one).admitted is True

    def somebody(self, stores: Mapping[str, Plane], store: str) -> bool:
        """Would a known credential with full rights open this store from one of the laptop's addresses?"""
        plane = stores[store]
        for account in plane.accounts:
            for service in plane.services:
                for interface in plane.interfaces:
                    for address in interface.addresses if isinstance(interface.addresses, tuple) else ():
                        at = Door(service.key, address.split("/")[0], service.port or 0, service.key, interface.key)  # type: ignore[arg-type]
                        ways = (Way(s, at, account.key, Password(ref)) for s in self.laptops for ref in self.known)
                        if account.role == "full" and any(admit(plane, one).admitted is True for one in ways):
                            return True
        return False

    def safe(self) -> bool:
        """Can the technician get in now (or keep a session, or wait for the return), and would he after a power cut?"""
        now = self.somebody(self.stores, "live") or bool(self.sessions)
        back = self.going_back is not None and self.somebody(self.going_back, "live")
        return (now or back) and (self.somebody(self.stores, "kept") or back)

    # -- what it does --

    def change_of(self, op: Any, change: Order, path: Path) -> Change:
        fill: dict[str, Any] = {k: v[0] if v else "" for k, v in change.fill.items()}
        if op.makes:
            return Make(
                path, (("role", fill["role"]), ("secret", fill["secret"].ref), ("enabled", True), ("permitted", ABSENT))
            )
        if op.drops:
            return Drop(path)
        value = fill["value"]
        return Set(path, value.ref if isinstance(value, Slot) else meant(path, value))

    def do(self, order: Order, path: Path) -> Done[Replies] | No | Unclear | Ended:
        """Carry an order out, or lie."""
        self.told += 1
        lies = self.told >= self.lie_at
        op = next(op for op in self.family.ops if op.how == order.how)
        if lies and self.lie == "refuses to activate" and order.how.do == "force":
            return No("the edits contradict each other")
        if lies and self.lie == "no, not today":
            return No("not today")
        if lies and self.lie == "accepts and drops":
            return Done(Replies())
        if lies and self.lie == "does it and says nothing" and order.how.do != "discard":
            self.lie = ""
            self.act(op, order, path)
            return Unclear("no answer within 30 s")
        if lies and self.lie == "hangs up instead" and order.how.do != "discard":
            self.lie = ""
            self.sessions.clear()
            return Ended(sent=True)
        self.act(op, order, path)
        if lies and self.lie == "changes something else too":
            self.stores = {s: apply(p, Set(("banner",), "hacked")) for s, p in self.stores.items()}
        return Done(Replies())

    def act(self, op: Any, order: Order, path: Path) -> None:
        before = dict(self.stores)
        for store in op.writes:
            self.stores[store] = apply(self.stores[store], self.change_of(op, order, path))
            if store == "staged":
                self.stores = {s: apply(p, Set(("stores", "waiting"), 1)) for s, p in self.stores.items()}
        for source, targets in op.copies:
            for target in targets:
                self.stores[target] = self.half(before, source, target) if self.half_now(op) else self.stores[source]
        if op.copies:
            self.stores = {s: apply(p, Set(("stores", "waiting"), 0)) for s, p in self.stores.items()}
        if op.returns:
            self.going_back = before
        if op.does == "back" and self.going_back is not None:
            self.stores = dict(self.going_back)
        if op.does in ("confirm", "back"):
            self.going_back = None
        left = 60.0 if self.going_back is not None else ABSENT
        self.stores = {s: put(p, ("stores", "returning"), left) for s, p in self.stores.items()}
        if self.lie == "shuts us out" and self.told >= self.lie_at and op.guarded:
            self.shut_out()
        self.sessions = {
            one for one in self.sessions if op.cuts == "none" and one.account in self.stores["live"].accounts
        }

    def shut_out(self) -> None:
        """What no forecast saw: nobody gets in any more, and nothing shows it."""
        self.lie = ""
        self.sessions.clear()
        self.stores = {
            s: put(p, ("services", "ssh", "enabled"), False) for s, p in self.stores.items() if s != "staged"
        }
        self.stores = {s: put(p, ("services", "web", "enabled"), False) for s, p in self.stores.items()}
        self.stores["staged"] = self.stores["live"]

    def half_now(self, op: Any) -> bool:
        return self.lie == "activates half" and op.does in ("activate", "commit") and self.told >= self.lie_at

    def half(self, before: Mapping[str, Plane], source: str, target: str) -> Plane:
        """Only every other leaf is taken over."""
        plane, wanted = before[target], self.stores[source]
        changed = [
            p
            for p in sorted(difference(plane, wanted))
            if not is_item(p) and not holds_secret(p) and reachable(plane, p)
        ]
        for path in changed[::2]:
            plane = apply(plane, Set(path, get(wanted, path)))
        return plane

    # -- what the executor asks for --

    def planes(self) -> dict[str, Plane]:
        """What is read: no secrets, and staged shown as live where that is the lie."""
        shown = dict(self.stores)
        if self.lie == "shows staged as live":
            shown["live"] = shown["staged"]
        parts: list[Any] = []
        for ask in self.family.asks:
            parts += extract(self.family, ask, Replies(tree=to_tree(shown[ask.store])))
        return dict(merge(self.family, parts).planes)

    def answer(self, request: Any, paths: Mapping[int, Path]) -> Any:
        match request:
            case Note(event):
                return self.journal.append(event)
            case Send(order, via):
                self.through = via
                return self.do(order, paths.get(id(order), ())) if via in self.sessions else Ended(sent=False)
            case Read(_, via):
                return self.planes() if via in self.sessions else None
            case LogIn(one):
                return self.log_in(one)
            case Return(ways):
                if self.going_back is not None:
                    self.stores, self.going_back = dict(self.going_back), None
                return next((Returned(one, True) for one in ways if isinstance(self.log_in(one), Opened)), None)
            case Pause():
                return None
            case _:
                return Attempted(held=1)

    def log_in(self, one: Way) -> Login:
        if not self.opens(one):
            return Refused()
        self.sessions.add(one)
        return Opened()


def drive(unit: Unit, executor: Generator[Any, Any, Outcome], kill_at: int = -1) -> Outcome | None:
    """Carry out what the executor asks for, checking the truth after each request; stop dead before request number
    `kill_at`."""
    answer: Any = None
    paths: dict[int, Path] = {}
    last: Path = ()
    count = 0
    outcome: Outcome | None = None
    error: YardboltError | None = None
    while outcome is None:
        try:
            request = executor.throw(error) if error else executor.send(answer)
        except StopIteration as stop:
            outcome = stop.value
            continue
        error = None
        if count == kill_at:
            executor.close()
            return None
        count += 1
        if isinstance(request, Note) and (path := getattr(request.event, "path", "")):
            last = tuple(path.split("/"))
        if isinstance(request, Send):
            paths[id(request.order)] = last
        try:
            answer = unit.answer(request, paths)
        except YardboltError as e:
            error = e
        assert unit.safe(), f"locked out after {request}"
    return outcome
