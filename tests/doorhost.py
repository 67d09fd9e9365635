"""A host made for trying the guard: SSH and telnet, passwords and keys, a timed return that goes by the host's own
clock, a boot list, and perhaps an address translation on the way to it. Whether somebody gets in is decided here, and
not by the program's own analysis."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any

from tests.desk import DESK, LAPTOP
from yardbolt.core.addresses import AddressSet
from yardbolt.core.credentials import Credential, Key, Password
from yardbolt.core.doors import Door, Way
from yardbolt.core.family.building import family_of
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.model import Family
from yardbolt.core.family.reading import merge
from yardbolt.core.family.spelling import meant
from yardbolt.core.job import Allows, OwnAccount, Site
from yardbolt.core.plane.change import Drop, Make, Set, apply
from yardbolt.core.plane.document import to_tree
from yardbolt.core.plane.edit import Draft, get, put
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import Path, fits, parse
from yardbolt.core.run.events import Event
from yardbolt.core.run.requests import Attempt, Attempted, LogIn, Note, Outcome, Read, Return, Returned, Send
from yardbolt.core.secret import Ref, Slot
from yardbolt.core.talk.conversation import Order, Replies
from yardbolt.core.talk.outcomes import Done, Ended, No, Opened, Refused

INSIDE, OUTSIDE, SECONDS = "192.0.2.1", "203.0.113.5", 300.0
TEACHER, OWNER = "SHA256:technician", "SHA256:owner"
OURS, FACTORY = Ref("safe:u/works"), Ref("factory:1")
SETS = {
    "banner": "banner", "length": "policy/min_length", "permit": "services/*/permitted", "root": "services/*/root_login",
    "words": "services/*/password_login", "keys": "accounts/*/keys",
}  # fmt: skip
PLAIN = {
    "rekey": "accounts/*/secret",
    "serve": "services/*/enabled",
    "boot": "services/*/boot",
    "switch": "accounts/*/enabled",
}
TAKEN_BACK = tuple(parse(path) for path in SETS.values())
ACCOUNT = {"at": "accounts/items/*", "into": "accounts", "key": "#", "whole": "yes"}
SERVICE = {"at": "services/items/*", "into": "services", "key": "#", "whole": "yes"}
SOCKET = {
    "at": "interfaces/items/*",
    "into": "interfaces",
    "key": "#",
    "whole": "yes",
    "leaves": {"addresses": "addresses"},
}
EMPTY = {"permitted": "not set", "keys": ""}
TOLD = {
    "accounts": ("role", "enabled", "storage", "becomes_root", "keys", "keys_taken"),
    "services": ("enabled", "boot", "port", "permitted", "root_login", "password_login", "key_login", "blank_login", "encrypted"),
}  # fmt: skip


def family() -> Family:
    """A host whose settings are live and kept at once, with a return that is armed before what could shut somebody
    out."""
    rows = [
        {
            **base,
            "leaves": {leaf: {"at": leaf, "empty": EMPTY[leaf]} if leaf in EMPTY else leaf for leaf in TOLD[listed]},
        }
        for listed, base in (("accounts", ACCOUNT), ("services", SERVICE))
    ]
    leaves = {"banner": "banner", "policy/min_length": "policy/min_length", "host/init": "host/init",
              "stores/returning": {"at": "stores/returning", "empty": "not set"}}  # fmt: skip
    ops: dict[str, Any] = {do: {"do": do, "set": [path], "guarded": "yes"} for do, path in SETS.items() if do != "keys"}
    ops |= {do: {"do": do, "set": [path]} for do, path in {**PLAIN, "keys": SETS["keys"]}.items()}
    ops["serve"]["by_value"] = {"False": {"services/*/boot": "no"}, "True": {"services/*/boot": "yes"}}
    ops["serve"]["cuts"] = "service"
    ops["switch"]["cuts"] = "account"
    ops |= {
        "hire": {"do": "hire", "make": ["accounts/*"], "then": {"enabled": "yes", "storage": "one-way", "becomes_root": "no"}},
        "dismiss": {"do": "dismiss", "drop": ["accounts/*"], "cuts": "account"},
        "arm": {"do": "arm", "does": "arm", "returns": f"{SECONDS:.0f} s", "takes_back": ["accounts/*/keys"]},
        "back": {"do": "back", "does": "back"}, "confirm": {"do": "confirm", "does": "confirm"},
        "restart": {"do": "restart", "does": "restart", "copies": {"kept": ["live"]}, "cuts": "all", "wait": "30 s"},
    }  # fmt: skip
    tree = {
        "family": "doorhost", "title": "Door host",
        "channels": {"desk": {"talk": "desk", "services": {"ssh": "sealed", "telnet": "plain"}}},
        "factory": {"ports": {"ssh": 22, "telnet": 23}, "logins": [{"account": "maker", "secret": "maker"}]},
        "asks": {"all": {"by": "desk", "do": "read", "leaves": leaves, "rows": [*rows, SOCKET]}},
        "ops": {name: {"by": "desk", **op} for name, op in ops.items()},
        "values": {"accounts/*/keys": {"join": " "}},
        "lacks": ["services/*/interfaces", "services/*/accounts", "accounts/*/permitted", "packet_filter/default", "stores/differences",
                  "interfaces/*/gateway"],
    }  # fmt: skip
    return family_of(tree, ways={"desk": DESK})


@dataclass
class Host:
    """The truth. `asleep` is the request at which the laptop's lid is closed for longer than the return waits, `blow`
    the guarded write that shuts everybody out in a way nobody reads."""

    family: Family
    plane: Plane
    passwords: dict[str, Ref]
    forwarded: bool = False
    asleep: int = -1
    blow: int = -1
    lies: str = ""
    untold: tuple[Path, ...] = ()  # what it shows nobody
    turns: tuple[str, ...] = ()  # how each write turns out, one after another: as told, or else
    wrote: int = 0
    meddled: int = 0  # what somebody else did
    now: float = 1_790_000_000.0
    told: int = 0
    guarded: int = 0
    blown: bool = False
    dead: bool = False  # it started again, and nothing lets anybody in
    armed: tuple[float, Plane, bool] | None = None
    sessions: set[Way] = field(default_factory=set)
    journal: list[Event] = field(default_factory=list)
    unarmed: int = 0  # guarded writes it was told while nothing was armed
    unproven: int = 0  # guarded writes since somebody logged in again
    path: Path = ()

    @property
    def address(self) -> str:
        return OUTSIDE if self.forwarded else INSIDE

    def door(self, service: str) -> Door:
        ports = {"ssh": 47022, "telnet": 47023} if self.forwarded else {"ssh": 22, "telnet": 23}
        return Door(service, self.address, ports[service], service)

    def opens(self, way: Way, plane: Plane | None = None, blown: bool | None = None) -> bool:
        """Would this login be let in?"""
        plane, blown = plane or self.plane, self.blown if blown is None else blown
        service, account = plane.services.get(way.service), plane.accounts.get(way.account)
        if service is None or account is None or blown or self.dead:
            return False
        if way.door != self.door(way.service) or service.enabled is not True or account.enabled is False:
            return False
        if isinstance(service.permitted, AddressSet) and way.source not in service.permitted:
            return False
        by_key = isinstance(way.credential, Key)
        if account.becomes_root == "is root" and service.root_login in ("no", *([] if by_key else ["keys"])):
            return False
        match way.credential:
            case Key(fingerprint):
                held = isinstance(account.keys, tuple) and fingerprint in account.keys
                return service.key_login is True and held and account.keys_taken is not False
            case Password(ref):
                return (
                    service.password_login is True
                    and self.passwords.get(way.account) == ref
                    and account.storage != "locked"
                )
        return False

    def known(self) -> list[Way]:
        """Every login the technician could try."""
        accounts: list[tuple[str, Credential]] = [
            (name, Password(ref))
            for name in self.plane.accounts.by_key
            for ref in (OURS, FACTORY, Ref(f"safe:u/{name}"))
        ]
        accounts += [(name, Password(Ref("typed:password"))) for name in self.plane.accounts.by_key]
        keys = [(name, Key(TEACHER)) for name in self.plane.accounts.by_key]
        return [Way(LAPTOP, self.door(s), name, shown) for s in ("ssh", "telnet") for name, shown in (*accounts, *keys)]

    def somebody(self, plane: Plane, blown: bool) -> bool:
        full = [way for way in self.known() if (a := plane.accounts.get(way.account)) and a.role == "full"]
        return any(self.opens(way, plane, blown) for way in full)

    def after_a_cut(self) -> tuple[Plane, bool]:
        """What it would be like after a power cut: an armed return goes back at the start, and only what is on the
        boot list runs."""
        plane, blown = self.plane, self.blown
        if self.armed is not None:
            plane, blown = self.restored(self.armed[1]), self.armed[2]
        for one in plane.services:
            plane = put(plane, ("services", one.key, "enabled"), bool(one.enabled and one.boot is True))
        return plane, blown

    def safe(self) -> bool:
        """Can the technician get in with all rights: now, through a session, or once it has gone back?"""
        full = [one for one in self.sessions if (a := self.plane.accounts.get(one.account)) and a.role == "full"]
        back = self.armed is not None and self.somebody(self.restored(self.armed[1]), self.armed[2])
        return not self.dead and (self.somebody(self.plane, self.blown) or bool(full) or back)

    def survives(self) -> bool:
        """Would somebody get in after a power cut?"""
        return self.somebody(*self.after_a_cut())

    def restored(self, before: Plane) -> Plane:
        """As it is, with what the return holds as it was."""
        plane = self.plane
        for pattern in TAKEN_BACK:
            keys = [one.key for one in getattr(plane, pattern[0])] if "*" in pattern else [""]
            for key in keys:
                path = tuple(key if step == "*" else step for step in pattern)
                there = "*" not in pattern or key in getattr(before, pattern[0])
                if there and get(plane, path) != get(before, path):
                    plane = put(plane, path, get(before, path))
        return plane

    # -- what it does --

    def tick(self) -> None:
        self.told += 1
        self.now += 1.0
        if self.told == self.asleep:
            self.now += SECONDS * 2
        if self.armed is not None and self.now >= self.armed[0]:
            self.plane, self.blown, self.armed = self.restored(self.armed[1]), self.armed[2], None

    def do(self, order: Order) -> Done[Replies] | No:
        op = next(op for op in self.family.ops if op.how == order.how)
        covered = op.guarded or any(fits(pattern, self.path) for pattern in TAKEN_BACK if op.sets)
        fill: dict[str, Any] = {k: v[0] if v else "" for k, v in order.fill.items()}
        match op.does or op.name:
            case "arm":
                self.armed = (self.now + SECONDS, self.plane, self.blown)
            case "confirm":
                if self.armed is None:
                    return No("too late: it has gone back by itself")
                assert not self.unproven, "confirmed without a login since the last guarded write"
                self.armed = None
            case "back":
                if self.armed is not None:
                    self.plane, self.blown, self.armed = self.restored(self.armed[1]), self.armed[2], None
            case "restart":
                self.plane, self.blown = self.after_a_cut()
                self.armed, self.dead = None, not self.somebody(self.plane, self.blown)
                self.sessions.clear()
            case _:
                if op.guarded and self.armed is None:
                    self.unarmed += self.told != self.asleep  # that very moment nobody can foresee
                    return No("the timed return is not armed")
                if self.armed is not None and covered:
                    self.unproven += 1
                    self.guarded += 1
                if self.lies == "drops" and self.told % 3 == 0:
                    return Done(Replies())
                turn = self.turns[self.wrote] if self.wrote < len(self.turns) else ""
                self.wrote += 1
                if turn in ("refused", "ignored"):
                    return No("not today") if turn == "refused" else Done(Replies())
                self.change(op, fill)
                self.otherwise(op.name, turn)
                if self.guarded == self.blow and self.armed is not None and covered:
                    self.blown = True
                    self.sessions.clear()
        return Done(Replies())

    def otherwise(self, op: str, turn: str) -> None:
        """What comes of a write beside what was told: more than that, less, or something nobody here did."""
        leaf, value = {
            ("length", "more"): ("policy/min_length", 14), ("length", "less"): ("policy/min_length", 8), ("banner", "less"): ("banner", "Keep"),
            ("permit", "less"): ("services/ssh/permitted", ABSENT), ("keys", "less"): ("accounts/root/keys", (TEACHER, OWNER)),
        }.get((op, turn), ("", None))  # fmt: skip
        if turn.startswith("meanwhile "):
            leaf, self.meddled = turn.removeprefix("meanwhile "), self.meddled + 1
            value = {"banner": "Hands off.", "policy/min_length": 4, "services/telnet/enabled": True}.get(leaf, False)
        path = tuple(leaf.split("/"))
        if leaf and (len(path) < 3 or path[1] in getattr(self.plane, path[0])):
            self.plane = put(self.plane, path, value)

    def change(self, op: Any, fill: dict[str, Any]) -> None:
        path = self.path
        if op.makes:
            self.passwords[path[1]] = fill["secret"].ref
            leaves = {"role": fill["role"], "enabled": True, "storage": "one-way", "becomes_root": "no", "keys": ()}
            self.plane = apply(self.plane, Make(path, tuple(leaves.items())))
        elif op.drops:
            self.plane = apply(self.plane, Drop(path))
        else:
            value = fill["value"]
            if isinstance(value, Slot):
                self.passwords[path[1]] = value.ref
            else:
                self.plane = apply(self.plane, Set(path, meant(path, value) if value != "" else ()))
            if op.name == "serve":
                self.plane = put(self.plane, ("services", path[1], "boot"), meant(path, value))
        there = {a.key for a in self.plane.accounts if a.enabled is not False}
        on = {s.key for s in self.plane.services if s.enabled is True}
        self.sessions = {one for one in self.sessions if one.account in there and one.service in on}

    def read(self) -> dict[str, Plane]:
        left = self.armed[0] - self.now if self.armed is not None else ABSENT
        shown = put(self.plane, ("stores", "returning"), left)
        for path in self.untold:
            shown = put(shown, path, None)
        return dict(merge(self.family, extract(self.family, self.family.asks[0], Replies(tree=to_tree(shown)))).planes)

    def log_in(self, way: Way) -> Any:
        if not self.opens(way):
            return Refused()
        self.sessions.add(way)
        self.unproven = 0
        return Opened()

    def answer(self, request: Any) -> Any:
        self.tick()
        match request:
            case Note(event):
                self.journal.append(event)
                if path := getattr(event, "path", ""):
                    self.path = tuple(path.split("/"))
            case Send(order, via):
                return self.do(order) if via in self.sessions else Ended(sent=False)
            case Read(_, via):
                return self.read() if via in self.sessions else None
            case LogIn(way):
                return self.log_in(way)
            case Return(ways, seconds):
                self.now += seconds
                self.tick()
                return next((Returned(one, True) for one in ways if isinstance(self.log_in(one), Opened)), None)
            case Attempt():
                return Attempted(held=1)
        return ""

    def drive(self, executor: Generator[Any, Any, Outcome], watch: Any = lambda: None) -> Outcome:
        """Carry out what is asked for, checking the truth after each request."""
        answer: Any = None
        try:
            while True:
                answer = self.answer(executor.send(answer))
                watch()
        except StopIteration as stop:
            outcome: Outcome = stop.value
            return outcome

    def clock(self) -> str:
        """The laptop's clock, which goes on while it sleeps."""
        return datetime.fromtimestamp(self.now, UTC).isoformat()


def site(host: Host, restart: bool = True, keys: frozenset[str] = frozenset()) -> Site:
    """The job as this host sees it."""
    owner = OwnAccount("works", "full", "works office", public=tuple((one, "") for one in sorted(keys)))
    return Site("u", LAPTOP, AddressSet.of("192.0.2.0/28"), accounts=(owner,), allows=Allows(restart=restart),
                factory=frozenset({"maker"}), doors=(host.door("ssh"), host.door("telnet")))  # fmt: skip


def plane(**facts: Any) -> Plane:
    """The host as found: root by key and password, the maker by telnet, everything on and started at boot."""
    told: dict[Path, Any] = {
        ("banner",): "new", ("policy", "min_length"): 5, ("host", "init"): "sysv", ("packet_filter", "default"): ABSENT,
        ("stores", "returning"): ABSENT, ("stores", "differences"): ABSENT, ("interfaces", "lan", "addresses"): (f"{INSIDE}/24",),
        ("interfaces", "lan", "gateway"): ABSENT,
    }  # fmt: skip
    for name, root in (("root", "is root"), ("maker", "no")):
        told |= {("accounts", name, leaf): value for leaf, value in
                 {"role": "full", "enabled": True, "storage": "one-way", "becomes_root": root, "permitted": ABSENT, "keys": (), "keys_taken": True}.items()}  # fmt: skip
    for name, port in (("ssh", 22), ("telnet", 23)):
        told |= {("services", name, leaf): value for leaf, value in
                 {"enabled": True, "boot": True, "port": port, "permitted": ABSENT, "interfaces": ABSENT, "accounts": ABSENT,
                  "root_login": "yes", "password_login": True, "key_login": True, "blank_login": False, "encrypted": name == "ssh"}.items()}  # fmt: skip
    draft = Draft().put_all((told | {tuple(path.split("/")): value for path, value in facts.items()}).items())
    for listed in ("accounts", "services", "interfaces"):
        draft.whole((listed,))
    return draft.freeze()


def with_leaves(found: Plane, leaves: dict[str, Any]) -> Plane:
    """The same with some leaves otherwise."""
    draft = Draft(found)
    for path, value in leaves.items():
        draft.put(tuple(path.split("/")), value)
    return draft.freeze()


def replaced(way: Way, **how: Any) -> Way:
    """A way, otherwise."""
    return replace(way, **how)
