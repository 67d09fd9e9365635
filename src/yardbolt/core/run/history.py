"""History: the journal folded once. It answers which tries are left, which logins to use, what a run had done, what is
ours."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from ..credentials import BY_KEY
from ..plane.path import fits, parse
from ..secret import Ref
from .events import (
    BackedOut,
    Entry,
    Event,
    GateAnswering,
    HandedOver,
    Kept,
    NotProven,
    OpeningEnded,
    PlanShown,
    Proven,
    ReadBack,
    Recognised,
    Renewed,
    RunBegun,
    RunFinished,
    Sending,
    Stamp,
    Tried,
    Trying,
    Unlike,
)

SPARE_TRIES = 2
UNKNOWN_LIMIT = 4  # with two spared: two tries in an hour
MOST_UNANSWERED = 6  # tries in a row
WINDOW = timedelta(hours=1)
Scope = tuple[str, str]  # ("unit" | "address" | "key", which)


ADDRESSES = ("interfaces", "*", "addresses")


@dataclass
class UnitHistory:
    """What is known of one unit. Built by `History` alone."""

    entries: list[Entry] = field(default_factory=list)
    recent: dict[tuple[str, Ref], None] = field(default_factory=dict)  # logins that opened or were sent, oldest first
    last_outcome: dict[tuple[str, str, str], bool] = field(default_factory=dict)  # account, secret, service: accepted?
    unanswered: dict[tuple[str, str, str], int] = field(default_factory=dict)  # how often in a row, of the same
    opened: dict[str, Ref] = field(default_factory=dict)  # account -> what opened it last and was not replaced since
    before: dict[str, Ref] = field(default_factory=dict)  # what opened an account before another was sent, none since
    staging: bool = False  # changes were sent that were not put in force, nor taken back, since
    answered: dict[str, Ref] = field(default_factory=dict)  # user of SNMP -> the passphrase that was answered last
    ours: set[str] = field(default_factory=set)  # accounts that a secret of the safe opened, and no published one since
    reset_at: str = ""  # when a published login opened again what a secret of ours had opened: it was reset before
    recognised: str = ""  # the host key it had when it was recognised last as the unit on the work order
    begun: set[int] = field(default_factory=set)
    finished: set[int] = field(default_factory=set)
    restarted: set[int] = field(default_factory=set)
    since_restart: dict[str, Stamp] = field(
        default_factory=dict
    )  # path -> its last change, since a restart was survived
    unsaved: set[str] = field(default_factory=set)  # what of ours was sent, and not taken back, since the last saving
    last_run: int = 0
    handed_over: int = 0  # the as-left document a sheet was last written of
    ended: str = ""  # the laptop address whose opening was ended, unless a login opened since
    shown: str = ""  # the plan that was shown last
    met_at: str = ""  # the address at which a login opened last
    moving: bool = False  # an order to move it elsewhere was sent
    left_out: dict[str, Unlike] = field(
        default_factory=dict
    )  # path -> how the last change of it came out, where it was left out
    gate: frozenset[str] = frozenset()  # what had to be refused before a save was not, and has not been since

    def open_run(self) -> tuple[int, bool]:
        """The number of the run to work on, and whether it was begun before and not finished."""
        if self.last_run in self.begun and self.last_run not in self.finished:
            return self.last_run, True
        return self.last_run + 1, False

    def logins(self) -> tuple[tuple[str, Ref], ...]:
        """Logins of ours that may open it, the likeliest first: a new secret counts only if its sending was
        journaled."""
        return tuple(reversed(self.recent))

    def opened_last(self, account: str, ref: Ref, service: str) -> bool:
        """Did this very credential open the account by this service the last time an answer came? Then trying it again
        needs no budget."""
        return self.last_outcome.get((account, ref.entry, service), False)

    def refused_last(self, account: str, ref: Ref, service: str) -> bool:
        """Was this very credential refused by this service the last time it was tried?"""
        return self.last_outcome.get((account, ref.entry, service)) is False

    def uses_safe(self) -> bool:
        """Was a secret of the safe ever sent to it?"""
        return any(ref.safe for _, ref in self.recent)


class History:
    """The journal of a job, folded entry by entry."""

    def __init__(self, entries: Iterable[Entry] = ()) -> None:
        self._units: dict[str, UnitHistory] = {}
        self._spent: dict[tuple[Scope, str], list[datetime]] = {}
        self._open: dict[tuple[str, str, str, str], tuple[datetime, tuple[Scope, ...]]] = {}
        for entry in entries:
            self.add(entry)

    def of(self, unit: str) -> UnitHistory:
        """What is known of a unit."""
        return self._units.setdefault(unit, UnitHistory())

    def add(self, entry: Entry) -> None:
        """Fold one more entry in."""
        stamp, event = entry.stamp, entry.event
        unit = self.of(stamp.unit)
        unit.entries.append(entry)
        unit.last_run = max(unit.last_run, stamp.run)
        match event:
            case Trying():
                key = (stamp.unit, event.account, event.secret, event.service)
                where = scopes(stamp.unit, event.address, event.key)
                # one that never ended counts for good
                if key in self._open:
                    self._spend(counted(event), *self._open.pop(key))
                self._open[key] = (datetime.fromisoformat(stamp.time), where)
            case Tried():
                self._tried(unit, stamp, event)
            case Kept():
                self._recent(unit, event.account, Ref(event.secret))
            case HandedOver(document=number):
                unit.handed_over = number
            case Recognised(key=key) if key:
                unit.recognised = key
            case OpeningEnded(laptop=laptop):
                unit.ended = laptop
            case PlanShown(plan=plan):
                unit.shown = plan
            case Renewed(address=address):
                for known in [one for one in self._spent if one[0] == ("address", address)]:
                    del self._spent[known]
                self._open = {key: value for key, value in self._open.items() if ("address", address) not in value[1]}
            case Sending() | GateAnswering():
                self._was_sent(unit, stamp, event)
            case Unlike(left_out=True, path=path):
                unit.left_out[path] = event
            case ReadBack(kind="activate"):
                unit.staging = False
            case ReadBack(kind="save"):
                unit.unsaved.clear()
            case BackedOut(path=path):
                unit.staging = False
                unit.unsaved.discard(path)
            case RunBegun():
                unit.begun.add(stamp.run)
                unit.staging = False
            case RunFinished():
                unit.finished.add(stamp.run)
            case Proven(kind="restart"):
                unit.restarted.add(stamp.run)
                unit.since_restart.clear()
            case NotProven(kind="try"):
                unit.gate = frozenset(event.claims)
            case Proven(kind="try"):
                unit.gate = frozenset()
            case _:
                pass

    def _was_sent(self, unit: UnitHistory, stamp: Stamp, event: Sending | GateAnswering) -> None:
        unit.staging = unit.staging or getattr(event, "kind", "") == "change"
        path = getattr(event, "path", "")
        unit.left_out.pop(path, None)
        if path or event.secret:
            unit.unsaved.add(path or f"accounts/{event.account}/secret")
        if path:
            unit.since_restart[path] = stamp
        unit.moving = unit.moving or bool(path) and fits(ADDRESSES, parse(path))
        if event.secret:
            self._sent(unit, event.account, Ref(event.secret))

    def _tried(self, unit: UnitHistory, stamp: Stamp, event: Tried) -> None:
        self._open.pop((stamp.unit, event.account, event.secret, event.service), None)
        # a good password clears the unit's own count, so it clears ours; where the accounts may be others, or a key was
        # good, it says nothing
        by_key = event.secret == BY_KEY.entry and not event.again
        if event.accepted and not event.apart and not by_key:
            for scope in scopes(stamp.unit, event.address, event.key):
                for name in counted(event):
                    self._spent.pop((scope, name), None)
        elif event.spent:
            where = scopes(stamp.unit, event.address, event.key)
            self._spend(counted(event), datetime.fromisoformat(stamp.time), where)
        ref = Ref(event.secret)
        # no answer says nothing of a credential that opened it last, and nothing was sent in its place; but not for
        # ever, for there are units that end the connection at a wrong one
        if event.accepted or event.spent:
            key = (event.account, event.secret, event.service)
            unanswered = event.outcome in ("silent", "cut") and unit.opened.get(event.account) == ref
            unit.unanswered[key] = unit.unanswered.get(key, 0) + 1 if unanswered else 0
            if not 0 < unit.unanswered[key] <= MOST_UNANSWERED:
                unit.last_outcome[key] = event.accepted
        if event.service == "snmp" and event.accepted and event.account:
            unit.answered[event.account] = ref
        if event.apart or event.again:
            return
        if event.accepted and ref.factory and event.account in unit.ours:
            unit.ours.discard(event.account)
            unit.reset_at, unit.shown = stamp.time, ""
            unit.unsaved.clear()
        if event.outcome == "opened":
            unit.met_at = event.address
            unit.ended = ""
            unit.ours |= {event.account} if ref.safe else set()
            unit.opened[event.account] = ref
            unit.before.pop(event.account, None)
            self._recent(unit, event.account, ref)

    def _spend(self, accounts: Iterable[str], at: datetime, where: tuple[Scope, ...]) -> None:
        for scope in where:
            for account in accounts:
                self._spent.setdefault((scope, account), []).append(at)

    def _sent(self, unit: UnitHistory, account: str, ref: Ref) -> None:
        # from the sending on it is not known which of the two opens
        if (was := unit.opened.pop(account, None)) is not None:
            unit.before[account] = was
        self._recent(unit, account, ref)

    def _recent(self, unit: UnitHistory, account: str, ref: Ref) -> None:
        # published logins are tried by other rules; here only what is ours counts
        # what an account was found with is no use once we gave it another
        if ref.safe:
            unit.recent.pop((account, ref), None)
            unit.recent[(account, ref)] = None

    def used(self, account: str, since: datetime, where: Iterable[Scope]) -> int:
        """Tries spent on an account since then: the largest count of these scopes, attempts without an end included."""
        wanted = tuple(where)
        counts = []
        for scope in wanted:
            times = self._spent.get((scope, account), [])
            counts.append(len(times) - bisect_right(times, since))
        endless = sum(
            a == account and at > since and bool({*hit} & {*wanted}) for (_, a, _, _), (at, hit) in self._open.items()
        )
        return max(counts, default=0) + endless

    def tries_left(self, account: str, limit: int, now: str, where: Iterable[Scope], window: timedelta = WINDOW) -> int:
        """How many wrong tries may still be made: the limit less two spared, less what was used within the window. An
        unknown limit (0) is two an hour."""
        # timedelta.max is a lock that somebody has to release
        since = datetime.min.replace(tzinfo=UTC) if window == timedelta.max else datetime.fromisoformat(now) - window
        return (limit or UNKNOWN_LIMIT) - SPARE_TRIES - self.used(account, since, where)


def counted(event: Trying | Tried) -> tuple[str, ...]:
    """Under which names a try is counted: what becomes root by a password may ask another one than the login did, so
    that a good login says nothing of it."""
    return (event.account, again_as(event.service, event.account)) if event.again else (event.account,)


def again_as(service: str, account: str) -> str:
    """The name under which a password given once more is counted."""
    return f"{service}:{account}"


def scopes(unit: str, address: str, key: str = "") -> tuple[Scope, ...]:
    """Everything a try is counted under: the unit of the job, the address it was sent to, and the host key met
    there."""
    found: tuple[Scope, ...] = (("unit", unit), ("address", address), ("key", key))
    return tuple(scope for scope in found if scope[1])


def events_of(history: UnitHistory, run: int | None = None) -> tuple[Event, ...]:
    """The events of a unit (of one run), oldest first."""
    return tuple(entry.event for entry in history.entries if run is None or entry.stamp.run == run)
