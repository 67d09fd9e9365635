"""Reaching a unit: which ports answer and what they say, which published logins open, and a session to read through.

Nothing here passes a question or writes.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from yardbolt.core.credentials import BY_KEY, Password
from yardbolt.core.doors import Way
from yardbolt.core.errors import Trouble, UnitError
from yardbolt.core.job import opens_a_login
from yardbolt.core.judge.passwords import Demands, weaknesses
from yardbolt.core.plane.edit import Draft, exists, get
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.run.documents import Outside, PortRow, TrialRow
from yardbolt.core.secret import Ref
from yardbolt.core.talk.outcomes import (
    Asked,
    Cut,
    Locked,
    Login,
    NoListener,
    NotReady,
    Occupied,
    Opened,
    Refused,
    Silent,
    Untried,
    accepted,
    said_by,
    told,
)

from .held import TYPED
from .outerview import Surroundings, answers, certificates, published_communities
from .session import Session
from .trials import ELSEWHERE, LOCKED, Trial, settled
from .unit import UnitInWork

LONGEST_SAID = 600


# ---- a session to work through --------------------------------------------------------------------------------------


def candidates(unit: UnitInWork) -> tuple[Way, ...]:
    """Logins of ours that may open the unit, the likeliest first: typed ones, then the newest that opened or was
    sent."""
    out: dict[tuple[str, Ref], None] = {}
    for ref in unit.held.typed:
        if ref in (TYPED, BY_KEY):
            out[(unit.facts.entry.account, ref)] = None
    for account, ref in unit.record.history().logins():
        if unit.held.secret(ref) is not None:
            out.setdefault((account, ref), None)
    # a record may be lost while the safe is not: what rests there for this unit may open it too. Where a run is on
    # record, what it never sent opens nothing, and would only go over the line
    for ref in unit.held.safe.entries() if unit.held.safe and not unit.record.history().begun else ():
        name, _, title = ref.entry.removeprefix("safe:").partition("/")
        account, value = title.removesuffix(FOUND), unit.held.secret(ref)
        public = any(
            one.account == account and value is not None and one.secret == value.reveal()
            for one in unit.family.factory.logins
        )
        if name == unit.name and not public:
            out.setdefault((account, ref), None)
    asks = {own.name for own in unit.site.askers}
    for account, ref in list(out):
        if not opens_a_login(account) or (account in asks and ref == unit.site.secret(account)):
            del out[(account, ref)]
    rights = {own.name: own.role for own in unit.site.accounts}
    # an account with full rights reads everything, so those come first; one that the job does not name may have them
    place = {"full": 0, "": 1}
    ranked = sorted(out, key=lambda login: -1 if login[1].typed else place.get(rights.get(login[0], ""), 2))
    return tuple(
        Way(unit.site.laptop, door, account, unit.held.credential(ref))
        for door in unit.access.doors_in()
        for account, ref in ranked
        if door.scheme == "ssh" or ref != BY_KEY  # a key is for SSH alone
    )


def published_ways(unit: UnitInWork) -> tuple[Way, ...]:
    """Published logins that opened without a question at their last try, those with a password first. One stays in
    the list if another password was sent since and nobody knows which of the two opens."""
    opened = unit.record.history().before | unit.record.history().opened
    logins = [one for one in unit.family.factory.logins if opened.get(one.account) == one.ref]
    return tuple(
        Way(unit.site.laptop, door, one.account, Password(one.ref))
        for door in unit.access.doors_in()
        for one in sorted(logins, key=lambda one: not one.secret)
    )


FOUND = " (as found)"
COMES_FIRST = "anyone who connects"
GATES = {
    "terms": "licence terms must be accepted",
    "change": "a first password must be set",
    "code": "a code that went to a mailbox",
}


def shut_out(unit: UnitInWork, why: str, command: str) -> UnitError:
    """The error where none of our logins opens; `command` is what to run next."""
    laptop = unit.site.laptop
    if unit.record.history().ended == laptop:
        why = (
            f"this laptop's opening, {laptop}, was ended: work from an administrator's address, laptop: in the job file"
        )
        return UnitError(Trouble.NO_LOGIN, f"{unit.name}: {why}")
    if unit.access.anybody:
        told = f"{why}; nothing of it could be tried, so nothing is changed"
        return UnitError(Trouble.NO_LOGIN, f"{unit.name}: {told}")
    if unit.access.heard is False:
        told = f"it accepts no login right now: {why}; once it is up, run the same command again"
        return UnitError(Trouble.UNREACHABLE, f"{unit.name}: {told}")
    return UnitError(
        Trouble.NO_LOGIN, f"{unit.name}: none of our logins opens it ({why}); next: yardbolt {command} {unit.name}"
    )


async def way_in(
    unit: UnitInWork, published: tuple[Trial, ...] = (), failed: dict[Way, str] | None = None
) -> tuple[Session | None, str]:
    """An open session by a login of ours, or by a published one that opened before, with the reason why no account
    with all rights logged in earlier; or the reason why none opened. Logins that failed go into `failed`."""
    why: list[str] = []
    failed = {} if failed is None else failed
    # where it is silent or cut off, nothing readable is tried instead
    gone: set[str] = set()  # services that nobody answers
    for way in candidates(unit):
        if way.service in gone:
            continue
        if any(t.way.account == way.account and isinstance(t.outcome, Locked) for t in published):
            why.append(f"{way.account} is locked")
            continue
        if any(t.way.service == way.service and isinstance(t.outcome, Silent) for t in published):
            why.append(f"{way.service} says nothing")
            break
        outcome, session, _ = await unit.access.enter_trusted(way)
        if session is not None:
            return session, missed(unit, failed)
        if isinstance(outcome, Silent | Cut | NoListener):  # not a matter of this account
            how = "says nothing" if isinstance(outcome, Silent) else "refuses or ends connections"
            why.append(f"{way.service} on port {way.door.port} {how}")
            if not isinstance(outcome, NoListener):
                break
            gone.add(way.service)
            continue
        failed[way] = f"{way.account} by {way.service}: {told_fully(outcome)}"
        why.append(failed[way])
    services = unit.family.services()
    opened = [one.way for one in published if isinstance(one.outcome, Opened) and not unit.facts.apart(one.way.service)]
    opened.sort(key=lambda way: (services.index(way.service), not unit.held.secret(way.secret)))
    for way in opened or published_ways(unit):
        if way.service in gone:
            continue
        outcome, session = await unit.access.enter(way)
        if session is not None:
            return session, missed(unit, failed)
        why.append(f"{way.account} by {way.service}: {told_fully(outcome)}")
        if isinstance(outcome, NoListener):
            gone.add(way.service)
        elif isinstance(outcome, Silent | Cut):  # not a matter of this account
            break
    if gates := sorted({trial.gate for trial in published if trial.gate}):
        why.append("the unit asks first: " + ", ".join(GATES.get(gate, gate) for gate in gates))
    if not why:
        untold = [one for one in published if isinstance(one.outcome, Untried | Silent | Locked | NotReady)]
        why = [f"{one.way.account or '(no name)'} by {one.way.service}: {told_fully(one.outcome)}" for one in untold]
    return None, "; ".join(why) or "no login is known"


def missed(unit: UnitInWork, failed: Mapping[Way, str]) -> str:
    """Why the accounts of the owner with all rights did not log in."""
    may = {own.name for own in unit.site.accounts if own.role == "full"}
    return "; ".join({way.account: why for way, why in failed.items() if way.account in may}.values())


def told_fully(outcome: Login) -> str:
    """How a login ended, with the question of the unit; or why it was not tried."""
    more = said_by(outcome) if isinstance(outcome, Untried | Silent) else ""
    more = outcome.gate if isinstance(outcome, Asked) else more
    return told(outcome) + (f" ({more})" if more else "")


# ---- what that makes of the plane -----------------------------------------------------------------------------------


def seen_from_outside(
    unit: UnitInWork, around: Surroundings, tried: tuple[Trial, ...], base: Plane | None = None
) -> Plane:
    """What the look from outside adds to the reading."""
    plane = _met(unit, around, base or Plane())
    # where its settings say that a service is off, that nothing listens there is explained
    tried = tuple(
        replace(trial, doubts=trial.doubts & {ELSEWHERE})
        if isinstance(trial.outcome, NoListener) and get(plane, ("services", trial.way.service, "enabled")) is False
        else trial
        for trial in tried
    )
    draft = Draft(plane)
    _note_trials(draft, unit, plane, tried)
    inside = base is not None and base.accounts.complete
    mine = [trial for trial in tried if not unit.facts.apart(trial.way.service)]
    gates = {trial.gate for trial in mine}
    entered = inside or any(isinstance(trial.outcome, Opened) for trial in mine)
    draft.put(("first_run", "terms"), "open" if "terms" in gates else "accepted" if entered else None)
    forced = {trial.way.account if accepted(trial.outcome) else COMES_FIRST for trial in mine if trial.gate == "change"}
    known = all(settled(trial) or exists(plane, ("accounts", trial.way.account)) is False for trial in mine)
    draft.put(("first_run", "forced"), forced if forced or (mine and known) else None)
    return draft.freeze()


def _met(unit: UnitInWork, around: Surroundings, plane: Plane) -> Plane:
    """The services: where they are met, what answers, and what it offers."""
    draft = Draft(plane)
    spoken = {seen.port: seen.speaks for seen in around.ports}
    for door in unit.site.doors:  # where we log in is where the service is
        service = plane.services.get(door.service)
        # what its settings call the port is not where it is met, where only the latter answers
        if service is not None and door.port in spoken and service.port not in spoken:
            draft.put(("services", door.service, "port"), door.port)
        # what speaks SSH is a service that runs and encrypts, whether or not its settings were read
        if service is None and spoken.get(door.port) == "ssh" and door.service == "ssh":
            facts = (("port", door.port), ("enabled", True), ("encrypted", True))
            draft.make(("services", "ssh")).put_all((("services", "ssh", leaf), value) for leaf, value in facts)
    draft.put_all(answers(around)).put_all(certificates(around, unit.record.clock.now()[:10]))
    if (known := published_communities(around)) is not None and plane.snmp.published is None:
        draft.put(("snmp", "published"), known)
    if around.whole:
        draft.whole(("answering",))
    services = draft.freeze().services
    for seen in around.ports:
        owner = next((s.key for s in services if s.port == seen.port and seen.speaks == "ssh"), "")
        for name, offered in seen.details.items() if owner else ():
            if draft.get(("services", owner, name)) is None:
                draft.put(("services", owner, name), tuple(offered))
    return draft.freeze()


def _note_trials(draft: Draft, unit: UnitInWork, plane: Plane, tried: tuple[Trial, ...]) -> None:
    """Each published login that was tried, how it ended, and what else could explain that."""
    for trial in tried:
        path = ("trials", f"{trial.way.service} {trial.way.account or '(no name)'} {trial.way.secret.entry}")
        draft.make(path).put((*path, "service"), trial.way.service).put((*path, "account"), trial.way.account)
        draft.put((*path, "port"), trial.way.door.port)
        draft.put((*path, "secret"), trial.way.secret).put((*path, "outcome"), told(trial.outcome))
        if told(trial.outcome) == "untried" and not isinstance(trial.outcome, Occupied):
            draft.put((*path, "why"), said_by(trial.outcome))
        if isinstance(trial.outcome, Silent) and trial.outcome.anybody:
            here = ("services", trial.way.service)
            draft.make(here).put((*here, "shows"), ("every page",))
        value = unit.held.secret(trial.way.secret)
        draft.put((*path, "blank"), value is not None and not value)
        if isinstance(trial.outcome, Refused | NoListener):
            surely_open = not unit.facts.apart(trial.way.service) and never_locks(plane, trial.way.account)
            draft.put((*path, "doubts"), trial.doubts - ({LOCKED} if surely_open else set()))
    draft.whole(("trials",))


def never_locks(plane: Plane, account: str) -> bool:
    """Does the reading say that wrong tries lock nothing, and that this account is not locked otherwise?"""
    storage = get(plane, ("accounts", account, "storage"))
    return plane.lockout.tries is ABSENT and storage not in (None, ABSENT, "locked")


def with_credentials(unit: UnitInWork, plane: Plane, tried: tuple[Trial, ...]) -> Plane:
    """Note on each account the published login that opened it, and the weakness of any password of it that we know."""
    draft = Draft(plane)
    # where the accounts may be others, a login says nothing of these
    mine = [trial for trial in tried if not unit.facts.apart(trial.way.service)]
    good = {trial.way.account: trial for trial in mine if accepted(trial.outcome)}
    for account, trial in good.items():
        path = ("accounts", account)
        if account and exists(plane, path) is None:  # a login proves that its account is there
            draft.make(path).put((*path, "enabled"), True)
        known = account in draft.keys(("accounts",))
        if isinstance(trial.outcome, Opened) and known and draft.get((*path, "secret")) is None:
            draft.put((*path, "secret"), trial.way.secret)
    floor = floor_of(unit)
    for account in draft.keys(("accounts",)):
        held = draft.get(("accounts", account, "secret"))
        ref = held if isinstance(held, Ref) else good[account].way.secret if account in good else None
        value = unit.held.secret(ref) if ref is not None else None
        if value is not None:
            why = weaknesses(value.reveal(), floor, unit.facts.local_names | {account}, unit.facts.common)
            draft.put(("accounts", account, "weakness"), why)
    return draft.freeze()


def with_known_secrets(unit: UnitInWork, plane: Plane) -> Plane:
    """Note on each account the credential of ours that opened it last, as the journal tells."""
    draft = Draft(plane)
    for account, ref in unit.record.history().opened.items():
        path = ("accounts", account)
        if ref.safe and exists(plane, path) and get(plane, (*path, "secret")) is None:
            draft.put((*path, "secret"), ref)
    return with_answered(unit, draft.freeze())


def with_answered(unit: UnitInWork, plane: Plane) -> Plane:
    """Note on each user of SNMP the passphrase that was answered last, as the journal tells."""
    draft = Draft(plane)
    for name, ref in unit.record.history().answered.items():
        if exists(plane, ("snmp", "users", name)):
            draft.put(("snmp", "users", name, "secret"), ref)
    return draft.freeze()


def floor_of(unit: UnitInWork) -> Demands:
    """The demands of the baseline on passwords, within what the units of the family accept."""
    wanted = {one.rule: one.params for one in unit.facts.baseline.requirements}
    runs = wanted.get("password-runs", {"repeat": 3, "run": 3})
    return Demands(
        wanted.get("password-length", {"at least": 12})["at least"],
        wanted.get("password-classes", {"at least": 3})["at least"],
        runs["repeat"],
        runs["run"],
        int(unit.family.password.get("longest", "64")),
        unit.family.password.get("barred", ""),
    )


def outside_rows(unit: UnitInWork, around: Surroundings, tried: tuple[Trial, ...]) -> Outside:
    """The outside look for the record."""
    return Outside(
        ports=tuple(
            PortRow(
                port=seen.port,
                speaks=seen.speaks,
                banner=seen.banner,
                details=dict(seen.details),
                transport=seen.transport,
                address=one.address,
            )
            for one in around.both()
            for seen in (*one.ports, *one.udp.seen)
        ),
        tried=tuple(
            TrialRow(
                service=trial.way.service,
                account=trial.way.account,
                secret=trial.way.secret.entry,
                outcome=told(trial.outcome),
                gate=trial.gate,
                doubts=tuple(sorted(trial.doubts)),
                said=unit.held.scrub(said_by(trial.outcome))[-LONGEST_SAID:],
            )
            for trial in tried
        ),
        silent_ports=sum(len(one.state.silent) for one in around.both()),
    )
