"""Random true units, half-blind beliefs, kills and lies: whatever happens, somebody with full rights can still get in."""

from __future__ import annotations

import copy
import os
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import HealthCheck, assume, currently_in_test_context, event, given, note, settings
from hypothesis import strategies as st

from tests.bare import BASELINE, FAMILY, GATE, SITE, Bare, Watch
from yardbolt.bench.lineswitch import Hand, LineSwitch, Settings, admits
from yardbolt.core.access import Way
from yardbolt.core.addresses import ANYONE
from yardbolt.core.baseline import judge, wanted
from yardbolt.core.demands import Target
from yardbolt.core.dialogue import Entry, Reply
from yardbolt.core.execute import Ended, carry_out
from yardbolt.core.family import Change, Drop, Make, Order, Set
from yardbolt.core.job import Allows, Site
from yardbolt.core.paths import parse, show
from yardbolt.core.plane import Plane, difference, exists, from_json, get, leaves, put, steady, to_json
from yardbolt.core.rehearse import Belief, Kind
from yardbolt.core.rules.rule import State
from yardbolt.core.secret import Ref
from yardbolt.core.steps import PRECEDENCE, Refused, Sheet, changes, order, rank

LAPTOP, OTHER, STRANGER = SITE.laptop, "127.83.4.20", SITE.stranger
PLACES = [[], [LAPTOP], [OTHER], [f"{LAPTOP}-{OTHER}"], ["127.83.4.0/24"], ["10.0.0.0/8"]]
MANY = settings(max_examples=int(os.environ.get("N", "150")), deadline=None, suppress_health_check=list(HealthCheck))


def now() -> str:
    return datetime.now(UTC).isoformat()


def secrets() -> dict[str, str]:
    safe = {f"safe:{SITE.unit}/{a}": f"k7mw-{a[:4]}-29tx" for a in ("foreman", "spanner", "lt-works", "lt-watch")}
    return {"factory:1": "foreman", "factory:2": "", **safe}


@st.composite
def truths(draw: Any) -> tuple[LineSwitch, Watch, Way]:
    """A unit in some state, and one way with full rights that opens it from the laptop."""
    watch = Watch()
    unit = LineSwitch(watch, shy=0.0, clock_error=draw(st.sampled_from([0.0, -4000.0])))
    unit.terms_taken = True
    live = unit.live
    live.rest, live.shortest, live.kinds = draw(st.sampled_from([0, 5, 30])), draw(st.sampled_from([5, 12, 16])), draw(st.integers(1, 3))
    live.nameplate, live.greeting = draw(st.sampled_from(["ql8-new", SITE.unit])), draw(st.sampled_from(["", "hello"]))
    for gate in live.gates.values():
        gate.open, gate.sources = draw(st.booleans()), list(draw(st.sampled_from(PLACES)))
    names = draw(st.sets(st.sampled_from(["foreman", "spanner", "lt-works", "stray"]), min_size=1))
    unit.hands = {n: Hand(draw(st.sampled_from(["chief", "fitter"])), f"k7mw-{n[:4]}-29tx", "own") for n in sorted(names)}
    if "spanner" in unit.hands and draw(st.booleans()):
        unit.hands["spanner"] = Hand("chief", "", "none")
    account = draw(st.sampled_from([n for n in sorted(names) if n != "stray"] or ["foreman"]))
    service = draw(st.sampled_from(["ssh", "telnet"]))
    gate = live.gates[GATE[service]]
    gate.open, gate.sources = True, list(draw(st.sampled_from([p for p in PLACES if admits(list(p), LAPTOP)])))
    unit.hands[account] = replace(unit.hands.get(account, Hand("chief", f"k7mw-{account[:4]}-29tx", "own")), rank="chief")
    blank = unit.hands[account].phrase == ""
    unit.kept = copy.deepcopy(live)
    if draw(st.integers(0, 9)) == 0:
        unit.kept.rest = 77
    return unit, watch, Way(LAPTOP, service, account, Ref("factory:2") if blank else Ref(f"safe:{SITE.unit}/{account}"))


@st.composite
def sites(draw: Any) -> Site:
    needed = frozenset(["ssh"] if draw(st.integers(0, 7)) else ["ssh", "telnet"])
    allows = Allows(draw(st.booleans()), draw(st.booleans()), "")
    accounts = SITE.accounts if draw(st.integers(0, 4)) else ()
    return replace(SITE, needed=needed, allows=allows, accounts=accounts)


def hide(draw: Any, plane: Plane, keep: str) -> Plane:
    """The plane with some facts not read."""
    for path, value in list(leaves(plane)):
        if value is not None and steady(path) and path[-1] != "secret" and draw(st.integers(0, 5)) == 0:
            plane = put(plane, path, None)
    for name in ("accounts", "services"):
        if draw(st.integers(0, 5)) == 0:
            plane = from_json({**to_json(plane), name: {**to_json(plane)[name], "complete": False}})
    return plane


def opens(unit: LineSwitch, state: Settings, known: set[str]) -> bool:
    """The truth, asked of the unit alone: would a known credential with full rights open it from the laptop with these settings?"""
    gates = any(g.open and admits(g.sources, LAPTOP) for g in state.gates.values())
    return gates and any(h.rank == "chief" and h.phrase in known and not h.must_change for h in unit.hands.values())


def alive(bare: Bare) -> bool:
    return any(not b.ended and bare.unit.hands.get(b.hand, Hand("", "", "")).rank == "chief" for b in bare.boards.values())


def watched(bare: Bare, way: Way, kept_too: bool) -> None:
    """Check the truth after everything the executor has done."""
    do, known = bare.do, set(bare.secrets.values())

    def checked(request: Any) -> Any:
        told = do(request)
        if currently_in_test_context():
            note(f"{request} -> {str(told)[:100]}")
        assert opens(bare.unit, bare.unit.live, known) or alive(bare), "shut out"
        if kept_too:
            assert opens(bare.unit, bare.unit.kept, known), "a power cut now would shut out"
        return told

    bare.do = checked  # type: ignore[method-assign]


def belief_of(plane: Plane, way: Way) -> Belief:
    agree = plane.stores.differences == 0
    return Belief(plane, plane if agree else Plane(), frozenset({way}), frozenset({way}) if agree else frozenset(), frozenset({way}), LAPTOP)


def read_in(bare: Bare, way: Way) -> Plane:
    assert bare.enter(way) is Entry.OPENED
    plane = bare.read(way)
    assert plane is not None
    return put(plane, ("accounts", way.account, "secret"), way.secret)


def refusals(bare: Bare, b: Belief) -> tuple[str, ...]:
    return tuple(f"{s} admits" for s in ("ssh", "telnet") if get(b.active, ("services", s, "permitted")) != ANYONE and bare.unit.takes(GATE[s], STRANGER)
                 and STRANGER not in (get(b.active, ("services", s, "permitted")) or ANYONE))  # fmt: skip


@MANY
@given(st.data())
def test_every_moment_of_a_sheet_keeps_a_way_in_on_the_true_unit(data: Any) -> None:
    """With facts hidden, a sheet carried out on the truth never shuts the technician out, live or after a power cut."""
    unit, watch, way = data.draw(truths())
    site = data.draw(sites())
    bare = Bare(unit, watch, secrets())
    truth = read_in(bare, way)
    plane = hide(data.draw, truth, way.account)
    try:
        target, _ = wanted(plane, BASELINE, site)
    except Exception as e:
        assume(type(e).__name__ == "Conflict")
        event("conflict")
        return
    b = belief_of(plane, way)
    todo, _ = changes(plane, target, FAMILY, site)
    sheet = order(FAMILY, b, todo, site, target)
    if isinstance(sheet, Refused):
        assert sheet.why
        event("refused")
        return
    for step in sheet.steps:
        note(f"{step.kind} {step.change or step.way or step.claim} {step.hold}")
    watched(bare, way, kept_too=unit.kept == unit.live and opens(unit, unit.kept, set(bare.secrets.values())))
    ended = bare.drive(carry_out(FAMILY, sheet, b, now))
    assert ended is not None
    event("done" if not ended.why else "stopped")
    if not ended.why:
        assert set(ended.belief.proven) <= {w for w in ended.belief.proven if bare.enter(w) is Entry.OPENED}


def arrive(bare: Bare, first: Way) -> tuple[Plane, frozenset[Way]]:
    """What a fresh start does: logins whose sending was journaled, then the first one; read; note what opened."""
    bare.boards.clear()
    for board in list(bare.unit.boards):
        board.end()
    sent = {(e["account"], e["secret"]) for e in bare.journal if e.get("state") in ("sending", "proven") and e.get("secret")}
    service = "ssh" if bare.unit.takes("shell", LAPTOP) else "telnet"
    ways = [Way(LAPTOP, service, a, Ref(r)) for a, r in sorted(sent)] + [first, replace(first, service=service)]
    opened = [w for w in ways if bare.enter(w) is Entry.OPENED]
    assert opened, "no credential of the safe opens the unit"
    best = next((w for w in opened if bare.unit.hands[w.account].rank == "chief"), opened[0])
    plane = bare.read(best)
    assert plane is not None
    for w in opened:
        plane = put(plane, ("accounts", w.account, "secret"), w.secret)
    return plane, frozenset(opened)


def fresh() -> tuple[Bare, Way]:
    """The demo's unit after its first entry."""
    watch = Watch()
    unit = LineSwitch(watch, shy=0.0)
    unit.terms_taken = True
    unit.hands["foreman"] = Hand("chief", secrets()[f"safe:{SITE.unit}/foreman"], "own")
    return Bare(unit, watch, secrets()), Way(LAPTOP, "ssh", "foreman", Ref(f"safe:{SITE.unit}/foreman"))


def go_on(bare: Bare, first: Way, target: Target | None, kill_at: int = -1) -> tuple[Ended | None, Target, Sheet]:
    plane, ways = arrive(bare, first)
    blank = exists(plane, ("accounts", "spanner")) and get(plane, ("accounts", "spanner", "storage")) == "blank"
    plane = put(plane, ("accounts", "spanner", "secret"), Ref("factory:2")) if blank else plane
    resumed = target is not None
    target = target or wanted(plane, BASELINE, SITE)[0]
    dirty = resumed and bool(plane.stores.differences)
    b = Belief(plane, plane, ways, ways, ways, LAPTOP, dirty)
    todo, gaps = changes(plane, target, FAMILY, SITE)
    restarted = any(e.get("kind") == "restart" and e["state"] == "proven" for e in bare.journal)
    sheet = order(FAMILY, b, todo, SITE, target, gaps, restarted=restarted)
    assert isinstance(sheet, Sheet), sheet
    bare.attempts = lambda: refusals(bare, b)
    return bare.drive(carry_out(FAMILY, sheet, b, now), kill_at), target, sheet


def state(bare: Bare) -> Any:
    u = bare.unit
    return u.live, u.kept, {n: (h.rank, h.phrase, h.made) for n, h in u.hands.items()}, abs(u.clock_error) < 60


def test_killed_at_any_point_and_started_again_it_ends_the_same() -> None:
    """Killed before, in and after every step, a fresh start reaches the very state of an undisturbed run (I7 holds there too)."""
    bare, way = fresh()
    ended, target, _ = go_on(bare, way, None)
    assert ended is not None and not ended.why, ended
    good, kills = state(bare), 0
    plane, _ = arrive(bare, Way(LAPTOP, "ssh", "lt-works", Ref(f"safe:{SITE.unit}/lt-works")))
    assert changes(plane, target, FAMILY, SITE) == ((), ())
    while True:
        bare, way = fresh()
        watched(bare, way, kept_too=True)
        ended, target, _ = go_on(bare, way, None, kills)
        if ended is not None:
            break
        second, _, _ = go_on(bare, way, target)
        assert second is not None and not second.why, (kills, second)
        assert state(bare) == good, f"killed at {kills}"
        kills += 1
    assert kills > 60


LIES: dict[str, Callable[[LineSwitch, str], str | None]] = {
    "swallows every change": lambda u, line: "Set.\n" if line.split()[:1] in (["engrave"], ["gate"], ["keep"]) else None,
    "says no to every change": lambda u, line: "No: not today.\n" if line.split()[:1] in (["engrave"], ["gate"], ["hire"]) else None,
    "changes something else too": lambda u, line: setattr(u.live, "rest", 33) if line.startswith("engrave greeting") else None,
    "forgets what it kept": lambda u, line: setattr(u.kept, "shortest", 5) if line == "wheel" else None,
    "opens telnet again": lambda u, line: setattr(u.live.gates["talk"], "open", True) if line.startswith("gate shell from") else None,
}


@pytest.mark.parametrize("lie", LIES)
def test_a_lie_is_caught_and_costs_nobody_the_way_in(lie: str) -> None:
    """A unit that does otherwise than it says is stopped at, with the reason, and somebody can still get in."""
    bare, way = fresh()
    lying = LIES[lie]
    said = bare.talk

    def talk(board: Any, g: Any, shown: str = "") -> Any:
        hear = board.hear

        def heard(line: str) -> str:
            if board.asking is None and not board.pages and (answer := lying(bare.unit, line)) is not None:
                return answer + board.prompt()
            return str(hear(line))

        board.hear = heard
        try:
            return said(board, g, shown)
        finally:
            board.hear = hear

    bare.talk = talk  # type: ignore[method-assign]
    watched(bare, way, kept_too=True)
    ended, _, _ = go_on(bare, way, None)
    assert ended is not None and ended.why, lie
    assert any(e["state"] == "stopped" for e in bare.journal)


def test_a_step_that_reads_otherwise_is_backed_out_through_the_live_session() -> None:
    """The change before the surprise is taken back, and the journal says so."""
    bare, way = fresh()
    unit = bare.unit
    keep, order_of = unit.live.rest, bare.order

    def order_and_meddle(way: Way, order: Order) -> Reply:
        reply = order_of(way, order)
        if str(order.say[0]).startswith("engrave greeting"):
            unit.live.rest = 44
        return reply

    bare.order = order_and_meddle  # type: ignore[method-assign]
    ended, _, _ = go_on(bare, way, None)
    assert ended and "idle reads 44 min, expected never" in ended.why
    assert unit.live.greeting == "" and ended.backed_out == ("banner: Larkmoor Tramway. Authorised staff only. Use is recorded. -> not set",)
    assert keep == 0


CASES: dict[str, tuple[Change, Change]] = {
    "N200": (Set(("clock", "offset"), 0.0), Set(("name",), "x")),
    "N167": (Set(("name",), "x"), Set(("policy", "min_length"), 12)),
    "C06": (Set(("policy", "min_length"), 12), Make(("accounts", "lt-works"), ())),
    "N140": (Make(("accounts", "lt-works"), ()), Drop(("accounts", "foreman"))),
    "N178": (Set(("accounts", "lt-works", "role"), "full"), Set(("accounts", "foreman", "secret"), Ref("safe:x"))),
    "N157": (Set(("services", "ssh", "enabled"), True), Set(("services", "telnet", "enabled"), False)),
    "N183": (Set(("services", "ssh", "permitted"), ANYONE), Set(("services", "telnet", "enabled"), False)),
    "N188": (Set(("banner",), "x"), Set(("services", "telnet", "enabled"), False)),
    "N173": (Set(("accounts", "foreman", "secret"), Ref("safe:x")), Set(("services", "telnet", "enabled"), False)),
    "N180": (Set(("services", "telnet", "enabled"), False), Drop(("accounts", "foreman"))),
    "N139": (Set(("idle",), 600.0), Drop(("accounts", "foreman"))),
    "N186": (Set(("idle",), 600.0), Set(("services", "telnet", "enabled"), False)),
}


def test_precedence_row_by_row() -> None:
    """Each row of the one table of order puts what it is about before what it must come before, by place and by phase."""
    bare, way = fresh()
    plane = read_in(bare, way)
    phases = ["open", "close", "remove"]
    assert set(CASES) == {row[0] for row in PRECEDENCE}
    for need, (first, second) in CASES.items():
        a, b = rank(first, plane, SITE), rank(second, plane, SITE)
        assert (phases.index(a[1]), a[0]) < (phases.index(b[1]), b[0]), need


def test_the_factory_account_goes_only_after_save_restart_and_a_proven_owner() -> None:
    """I4 and I5 in the demo's own sheet: own account proven, saved, factory secrets, saved, restart, and only then removals."""
    bare, way = fresh()
    plane, ways = arrive(bare, way)
    target, gaps = wanted(plane, BASELINE, SITE)
    todo, _ = changes(plane, target, FAMILY, SITE)
    sheet = order(FAMILY, Belief(plane, plane, ways, ways, ways, LAPTOP), todo, SITE, target, gaps)
    assert isinstance(sheet, Sheet)
    kinds = [(s.kind, show(s.change.path) if s.change else s.way.account if s.way else "") for s in sheet.steps]
    proved, drop = kinds.index((Kind.PROVE, "lt-works")), kinds.index((Kind.WRITE, "accounts/foreman"))
    saves, restart = [n for n, k in enumerate(kinds) if k[0] is Kind.SAVE], kinds.index((Kind.RESTART, ""))
    assert proved < saves[0] < kinds.index((Kind.WRITE, "accounts/spanner/secret")) < saves[1] < restart < drop
    assert all(s.still for s in sheet.steps)
    without = replace(SITE, accounts=())
    bare2, way2 = fresh()
    plane2 = read_in(bare2, way2)
    target2, _ = wanted(plane2, BASELINE, without)
    todo2, _ = changes(plane2, target2, FAMILY, without)
    refused = order(FAMILY, belief_of(plane2, way2), todo2, without, target2)
    assert isinstance(refused, Refused) and "no account of the owner" in refused.why[0]


def test_unkept_settings_found_on_arrival_block() -> None:
    """Our saving would publish what a stranger left unkept, so nothing is planned until the owner says so."""
    bare, way = fresh()
    bare.unit.live.rest = 9
    plane = read_in(bare, way)
    target, _ = wanted(plane, BASELINE, SITE)
    todo, _ = changes(plane, target, FAMILY, SITE)
    assert isinstance(order(FAMILY, belief_of(plane, way), todo, SITE, target), Refused)
    found = [f for f in judge(plane, BASELINE, SITE) if f.rule == "stores"]
    assert [f.state for f in found] == [State.FAILS]


def test_what_was_not_read_whole_is_neither_removed_nor_made() -> None:
    """An incomplete list gives gaps, not guesses."""
    bare, way = fresh()
    plane = read_in(bare, way)
    blind = replace(plane, accounts=replace(plane.accounts, items=tuple(a for a in plane.accounts.items if a.key == "foreman"), complete=False))
    target, _ = wanted(blind, BASELINE, SITE)
    todo, gaps = changes(blind, target, FAMILY, SITE)
    assert {show(g.path) for g in gaps} >= {"accounts/lt-works", "accounts/lt-watch"}
    assert not any(isinstance(c, Make) for c in todo)
    assert difference(plane, plane) == frozenset() and parse("accounts/a~1b") == ("accounts", "a/b")


def alone(factory: str) -> tuple[Bare, Way, Plane]:
    """A unit with one account that has its factory password, and an owner who wants that account kept."""
    watch = Watch()
    unit = LineSwitch(watch, shy=0.0, clock_error=0.0)
    unit.terms_taken = True
    unit.hands = {"foreman": Hand("chief", "foreman", "worksmade")}
    bare, me = Bare(unit, watch, secrets()), Way(LAPTOP, "ssh", "foreman", Ref(factory))
    return bare, me, read_in(bare, me)


def test_the_only_account_changes_its_password_through_the_live_session() -> None:
    """Held, not proven, for one step: the session lives, the successor is surely admitted, the old password is the way back."""
    bare, me, plane = alone("factory:1")
    keep = replace(SITE, accounts=(), allows=Allows(True, False, ""))
    target = tuple(w for w in wanted(plane, BASELINE, keep)[0] if w.path[0] == "accounts")
    todo, _ = changes(plane, target, FAMILY, keep)
    sheet = order(FAMILY, belief_of(plane, me), todo, keep, target)
    assert isinstance(sheet, Sheet)
    at = next(n for n, s in enumerate(sheet.steps) if s.kind is Kind.WRITE)
    assert (sheet.steps[at].hold.name, sheet.steps[at].back) == ("HELD", "back to factory:1")
    assert sheet.steps[at + 1].kind is Kind.PROVE, "nothing else comes before the new password has opened"
    watched(bare, me, kept_too=True)
    ended = bare.drive(carry_out(FAMILY, sheet, belief_of(plane, me), now))
    assert ended and not ended.why and bare.unit.hands["foreman"].phrase == bare.secrets[f"safe:{SITE.unit}/foreman"]


def test_without_a_session_the_same_change_is_a_leap_and_needs_consent_by_name() -> None:
    """Where no session would survive it, it is refused with the option to say, and planned once that is said."""
    bare, me, plane = alone("factory:1")
    keep = replace(SITE, accounts=())
    cutting = replace(FAMILY, ops=tuple(replace(o, cuts="all") if o.name == "rekey" else o for o in FAMILY.ops))
    keep = replace(keep, allows=Allows(False, False, ""))
    target = tuple(w for w in wanted(plane, BASELINE, keep)[0] if w.path[0] == "accounts")
    todo, _ = changes(plane, target, cutting, keep)
    b = belief_of(plane, me)
    refused = order(cutting, b, todo, keep, target)
    assert isinstance(refused, Refused) and "--leap accounts/foreman/secret" in refused.why[0]
    sheet = order(cutting, b, todo, keep, target, leaps=frozenset({"accounts/foreman/secret"}))
    assert isinstance(sheet, Sheet) and "LEAP" in {s.hold.name for s in sheet.steps if s.kind is Kind.WRITE}
    assert bare.unit.hands["foreman"].phrase == "foreman"


def test_a_no_to_a_password_is_a_no() -> None:
    """Where nothing readable would change, a refused password is still refused, with the unit's own reason, and nothing is taken back."""
    bare, me, plane = alone("factory:1")
    bare.unit.live.shortest = bare.unit.kept.shortest = 30
    bare.unit.hands["foreman"].made = "own"
    keep, plane = replace(SITE, accounts=(), allows=Allows(False, False, "")), read_in(bare, me)
    target = tuple(w for w in wanted(plane, BASELINE, keep)[0] if w.path == ("accounts", "foreman", "secret"))
    todo, _ = changes(plane, target, FAMILY, keep)
    sheet = order(FAMILY, belief_of(plane, me), todo, keep, target)
    assert isinstance(sheet, Sheet)
    ended = bare.drive(carry_out(FAMILY, sheet, belief_of(plane, me), now))
    assert ended and "No: Too short by 16." in ended.why and ended.backed_out == () and bare.unit.hands["foreman"].phrase == "foreman"
