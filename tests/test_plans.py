"""Random true units, half-blind beliefs, kills and lies: whatever happens, somebody with full rights can still get
in."""

from __future__ import annotations

import copy
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import currently_in_test_context, note
from hypothesis import strategies as st

from tests.bare import BASELINE, DOORS, FAMILY, GATE, SITE, Bare, Watch, way_by
from tests.drawn import THOROUGH, ends_of
from yardbolt.bench.lineswitch import Hand, LineSwitch, Settings, admits
from yardbolt.core.addresses import ANYONE
from yardbolt.core.doors import Way
from yardbolt.core.family.bound import NoWayBack, bind
from yardbolt.core.job import Allows, Site
from yardbolt.core.judge.baseline import judge, wanted
from yardbolt.core.judge.demands import Conflict, Target
from yardbolt.core.judge.rules.rule import State
from yardbolt.core.plan.arrange import arrange
from yardbolt.core.plan.belief import Belief, Standing, arrival
from yardbolt.core.plan.difference import changes
from yardbolt.core.plan.precedence import PHASES, PRECEDENCE, rank
from yardbolt.core.plan.rehearse import Kind
from yardbolt.core.plan.sheet import Refused, Sheet
from yardbolt.core.plan.words import way_back
from yardbolt.core.plane.change import Change, Drop, Make, Set
from yardbolt.core.plane.edit import Draft, exists, get, leaves, put
from yardbolt.core.plane.kinds import Listing
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import show
from yardbolt.core.plane.table import holds_secret, steady
from yardbolt.core.run.events import Noted, Proven, Sending, Stopped, Unlike
from yardbolt.core.run.execute import carry_out
from yardbolt.core.run.requests import Outcome
from yardbolt.core.secret import Ref
from yardbolt.core.talk.conversation import Order, Replies
from yardbolt.core.talk.outcomes import Done, Unclear

LAPTOP, OTHER, STRANGER = SITE.laptop, "127.83.4.20", SITE.stranger
PLACES: list[list[str]] = [[], [LAPTOP], [OTHER], [f"{LAPTOP}-{OTHER}"], ["127.83.4.0/24"], ["10.0.0.0/8"]]


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
    live.rest, live.shortest, live.kinds = (
        draw(st.sampled_from([0, 5, 30])),
        draw(st.sampled_from([5, 12, 16])),
        draw(st.integers(1, 3)),
    )
    live.nameplate, live.greeting = draw(st.sampled_from(["ql8-new", SITE.unit])), draw(st.sampled_from(["", "hello"]))
    for gate in live.gates.values():
        gate.open, gate.sources = draw(st.booleans()), list(draw(st.sampled_from(PLACES)))
    names = draw(st.sets(st.sampled_from(["foreman", "spanner", "lt-works", "stray"]), min_size=1, max_size=3))
    unit.hands = {
        n: Hand(draw(st.sampled_from(["chief", "fitter"])), f"k7mw-{n[:4]}-29tx", "own") for n in sorted(names)
    }
    if "spanner" in unit.hands and draw(st.booleans()):
        unit.hands["spanner"] = Hand("chief", "", "none")
    account = draw(st.sampled_from([n for n in sorted(names) if n != "stray"] or ["foreman"]))
    service = draw(st.sampled_from(["ssh", "telnet"]))
    gate = live.gates[GATE[service]]
    gate.open, gate.sources = True, list(draw(st.sampled_from([p for p in PLACES if admits(list(p), LAPTOP)])))
    unit.hands[account] = replace(
        unit.hands.get(account, Hand("chief", f"k7mw-{account[:4]}-29tx", "own")), rank="chief"
    )
    blank = unit.hands[account].phrase == ""
    unit.kept = copy.deepcopy(live)
    if draw(st.integers(0, 19)) == 19:
        unit.kept.rest = 77
    return unit, watch, way_by(service, account, "factory:2" if blank else f"safe:{SITE.unit}/{account}")


@st.composite
def sites(draw: Any) -> Site:
    needed = frozenset(["ssh"] if draw(st.integers(0, 19)) < 19 else ["ssh", "telnet"])
    allows = Allows(draw(st.booleans()), draw(st.booleans()), "")
    accounts = SITE.accounts if draw(st.integers(0, 19)) < 19 else ()
    return replace(SITE, needed=needed, allows=allows, accounts=accounts)


def hide(draw: Any, plane: Plane) -> Plane:
    """The plane with some facts not read. What a sheet cannot do without is hidden less often, so that most of them
    are carried out."""
    draft = Draft(plane)
    for path, value in list(leaves(plane)):
        often = {"accounts": 20, "services": 20, "stores": 60}.get(path[0], 4)
        if value is not None and steady(path) and not holds_secret(path) and draw(st.integers(0, often)) == often:
            draft.put(path, None)
    for name in ("accounts", "services"):
        if draw(st.integers(0, 19)) == 19:
            draft.whole((name,), False)
    return draft.freeze()


def opens(unit: LineSwitch, state: Settings, known: set[str]) -> bool:
    """The truth, asked of the unit alone: would a known credential with full rights open it from the laptop with these
    settings?"""
    gates = any(g.open and admits(g.sources, LAPTOP) for g in state.gates.values())
    return gates and any(h.rank == "chief" and h.phrase in known and not h.must_change for h in unit.hands.values())


def alive(bare: Bare) -> bool:
    return any(
        not b.ended and bare.unit.hands.get(b.hand, Hand("", "", "")).rank == "chief" for b in bare.boards.values()
    )


def watched(bare: Bare, way: Way, kept_too: bool) -> None:
    """Check the truth after everything the executor has done."""
    do, known = bare.do, set(bare.secrets.values())

    def checked(request: Any) -> Any:
        told = do(request)
        if currently_in_test_context():
            note(f"{request} -> {str(told)[:100]}")
        assert opens(bare.unit, bare.unit.live, known) or alive(bare), "locked out"
        if kept_too:
            assert opens(bare.unit, bare.unit.kept, known), "a power cut now would lock out"
        return told

    bare.do = checked  # type: ignore[method-assign]


def belief_of(plane: Plane, way: Way) -> Belief:
    return arrival(FAMILY, {"live": plane}, {way}, (LAPTOP,))


def read_in(bare: Bare, way: Way) -> Plane:
    assert bare.opens(way)
    planes = bare.read(way)
    assert planes is not None
    return put(planes["live"], ("accounts", way.account, "secret"), way.secret)


def refusals(bare: Bare, belief: Belief) -> tuple[str, ...]:
    out = []
    for service in ("ssh", "telnet"):
        permitted = get(belief.live, ("services", service, "permitted")) or ANYONE
        if STRANGER not in permitted and bare.unit.takes(GATE[service], STRANGER):
            out.append(f"{service} admits")
    return tuple(out)


def attempt(data: Any) -> str:
    """One true unit, half of it hidden, planned and carried out; how it ended."""
    unit, watch, way = data.draw(truths())
    site = data.draw(sites())
    bare = Bare(unit, watch, secrets())
    plane = hide(data.draw, read_in(bare, way))
    try:
        target, _ = wanted(plane, BASELINE, site)
    except Conflict:
        return "conflict"
    belief = belief_of(plane, way)
    todo, _ = changes(plane, target, FAMILY, site)
    sheet = arrange(FAMILY, belief, todo, site, target)
    if isinstance(sheet, Refused):
        assert sheet.why
        return "refused"
    for step in sheet.steps:
        note(f"{step.kind} {step.change or step.way} {step.standing}")
    watched(bare, way, kept_too=unit.kept == unit.live and opens(unit, unit.kept, set(bare.secrets.values())))
    outcome = bare.drive(carry_out(FAMILY, sheet, belief, now))
    assert outcome is not None
    if not outcome.why:
        assert all(bare.opens(one) for one in outcome.belief.proven)
    return "stopped" if outcome.why else "done"


def test_every_moment_of_a_sheet_keeps_a_way_in_on_the_true_unit() -> None:
    """With facts hidden, a sheet carried out on the truth never shuts the technician out, live or after a power cut."""
    ends = ends_of(attempt)
    assert ends["done"] + ends["stopped"] > ends.total() / 2, ends
    assert ends["done"] > ends.total() / 4, ends


def arrive(bare: Bare, first: Way) -> tuple[Plane, frozenset[Way]]:
    """What a fresh start does: logins whose sending was journaled, then the first one; read; note what opened."""
    bare.boards.clear()
    for board in list(bare.unit.connections):
        board.end()
    sent = {(e.account, e.secret) for e in bare.journal if isinstance(e, Sending | Proven) and e.secret}
    service = "ssh" if bare.unit.takes("shell", LAPTOP) else "telnet"
    ways = [way_by(service, account, ref) for account, ref in sorted(sent)]
    opened = [way for way in ways if bare.opens(way)]
    # a published login is tried only where none of ours gives all rights
    if not first.secret.factory or not any(bare.unit.hands[way.account].rank == "chief" for way in opened):
        opened += [way for way in (first, replace(first, door=DOORS[service])) if bare.opens(way)]
    assert opened, "no credential of the safe opens the unit"
    best = next((way for way in opened if bare.unit.hands[way.account].rank == "chief"), opened[0])
    planes = bare.read(best)
    assert planes is not None
    plane = planes["live"]
    for way in opened:
        plane = put(plane, ("accounts", way.account, "secret"), way.secret)
    return plane, frozenset(opened)


def fresh(published: bool = False) -> tuple[Bare, Way]:
    """The demo's unit after its first entry, or one that asks nothing and opens to its published login."""
    watch = Watch()
    unit = LineSwitch(watch, shy=0.0)
    unit.terms_taken = True
    if published:
        unit.hands["foreman"] = Hand("chief", "foreman", "worksmade")
        return Bare(unit, watch, secrets()), way_by("ssh", "foreman", "factory:1")
    unit.hands["foreman"] = Hand("chief", secrets()[f"safe:{SITE.unit}/foreman"], "own")
    return Bare(unit, watch, secrets()), way_by("ssh", "foreman", f"safe:{SITE.unit}/foreman")


def go_on(bare: Bare, first: Way, target: Target | None, kill_at: int = -1) -> tuple[Outcome | None, Target, Sheet]:
    plane, ways = arrive(bare, first)
    blank = exists(plane, ("accounts", "spanner")) and get(plane, ("accounts", "spanner", "storage")) == "blank"
    plane = put(plane, ("accounts", "spanner", "secret"), Ref("factory:2")) if blank else plane
    still = exists(plane, ("accounts", "foreman")) and get(plane, ("accounts", "foreman", "storage")) == "factory"
    plane = put(plane, ("accounts", "foreman", "secret"), Ref("factory:1")) if still else plane
    resumed = target is not None
    target = target or wanted(plane, BASELINE, SITE)[0]
    belief = arrival(FAMILY, {"live": plane}, ways, (LAPTOP,), ours=resumed)
    todo, gaps = changes(plane, target, FAMILY, SITE)
    restarted = any(isinstance(e, Proven) and e.kind == "restart" for e in bare.journal)
    sheet = arrange(FAMILY, belief, todo, SITE, target, gaps, restarted=restarted)
    assert isinstance(sheet, Sheet), sheet
    bare.attempts = lambda: refusals(bare, belief)
    return bare.drive(carry_out(FAMILY, sheet, belief, now), kill_at), target, sheet


def state(bare: Bare) -> Any:
    unit = bare.unit
    hands = {name: (hand.rank, hand.phrase, hand.made) for name, hand in unit.hands.items()}
    return unit.live, unit.kept, hands, abs(unit.clock_error) < 60


@pytest.mark.parametrize("published", [False, True], ids=["entered", "by a published login"])
def test_killed_at_any_point_and_started_again_it_ends_the_same(published: bool) -> None:
    """Killed before, in and after every step, a fresh start reaches the very state of an undisturbed run, and finds
    nothing more to do; also where one logged in by a published login, which is still good when it is cut off."""
    bare, way = fresh(published)
    outcome, target, _ = go_on(bare, way, None)
    assert outcome is not None and not outcome.why, outcome
    # all points with the thorough ones, else every other one, and here the ones between
    good, kills = state(bare), int(published)
    plane, _ = arrive(bare, way_by("ssh", "lt-works", f"safe:{SITE.unit}/lt-works"))
    assert changes(plane, target, FAMILY, SITE) == ((), ())
    while True:
        bare, way = fresh(published)
        watched(bare, way, kept_too=True)
        outcome, target, _ = go_on(bare, way, None, kills)
        if outcome is not None:
            break
        second, _, _ = go_on(bare, way, target)
        assert second is not None and not second.why, (kills, second)
        assert state(bare) == good, f"killed at {kills}"
        kills += 1 if THOROUGH else 2
    assert kills > 60


def stay_up(unit: LineSwitch, line: str) -> str | None:
    """Says that it restarts, and has been up for an hour."""
    if line != "wheel":
        return None
    unit.started = unit.tick() - 3600
    return "Wheeling.\n"


def swallow_and_hide(unit: LineSwitch, line: str) -> str | None:
    """Takes no engraving, and from the first one on shows nothing of its plate: what is not read is not done."""
    if line.startswith("engrave"):
        vars(unit)["hides"] = True
        return "Set.\n"
    return "\n" if line == "look plate" and "hides" in vars(unit) else None


LIES: dict[str, Callable[[LineSwitch, str], str | None]] = {
    "swallows every change": lambda u, line: (
        "Set.\n" if line.split()[:1] in (["engrave"], ["gate"], ["keep"]) else None
    ),
    "says it restarts and stays up": stay_up,
    "swallows every engraving and hides the plate": swallow_and_hide,
    "says no to every change": lambda u, line: (
        "No: not today.\n" if line.split()[:1] in (["engrave"], ["gate"], ["hire"]) else None
    ),
    "changes something else too": lambda u, line: (
        setattr(u.live, "rest", 33) if line.startswith("engrave greeting") else None
    ),
    "forgets what it kept": lambda u, line: setattr(u.kept, "shortest", 5) if line == "wheel" else None,
    "opens telnet again": lambda u, line: (
        setattr(u.live.gates["talk"], "open", True) if line.startswith("dismiss") else None
    ),
}


HARMLESS = {"changes something else too": "idle reads 33 min", "forgets what it kept": "reads 5 characters"}


@pytest.mark.parametrize("lie", LIES)
def test_a_lie_is_caught_and_costs_nobody_the_way_in(lie: str) -> None:
    """A unit that does otherwise than it says is stopped at, with the reason, where a way in may hang on it; what
    harms nobody is told, and the rest goes on. Somebody can always still get in."""
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

    bare.talk = talk  # type: ignore[method-assign, assignment]
    watched(bare, way, kept_too=True)
    outcome, _, _ = go_on(bare, way, None)
    assert outcome is not None
    if lie in HARMLESS:
        told = [
            event
            for event in bare.journal
            if isinstance(event, Noted) or (isinstance(event, Unlike) and event.left_out)
        ]
        assert not outcome.why and [one for one in told if HARMLESS[lie] in one.reads], (outcome, told)
        return
    assert outcome.why, lie
    assert isinstance(bare.journal[-1], Stopped)


def test_a_session_that_answered_unclearly_is_used_no_more() -> None:
    """What it is at is not known: nothing more is typed into it and nothing read through it, until a new login."""
    bare, way = fresh()
    order_of, read_of, enter_of, finished = bare.order, bare.read, bare.enter, list[Way]()

    def order(via: Way, sent: Order) -> Any:
        assert via not in finished, "typed into a session that is finished"
        if sent.how.say.startswith("engrave rest") and not finished:
            finished.append(via)
            return Unclear("no answer within 30 s")
        return order_of(via, sent)

    def read(via: Way, paths: Any = None) -> Any:
        assert via not in finished, "read through a session that is finished"
        return read_of(via, paths)

    def enter(by: Way) -> Any:
        finished[:] = [one for one in finished if one != by]
        return enter_of(by)

    for name, watching in (("order", order), ("read", read), ("enter", enter)):
        setattr(bare, name, watching)
    outcome, _, _ = go_on(bare, way, None)
    assert outcome and "no clear answer" in outcome.why and bare.unit.live.rest == 0


def test_a_unit_that_was_never_away_has_not_restarted() -> None:
    """Without having been seen away, and without an uptime that fell, the restart could not be tried; nothing rests on
    it."""
    bare, way = fresh()
    bare.away = False
    bare.unit.start_again = lambda: None  # type: ignore[method-assign]
    outcome, _, _ = go_on(bare, way, None)
    assert outcome and ("could not be tried" in outcome.why or "did not restart" in outcome.why)
    assert "foreman" in bare.unit.hands


def test_what_reads_otherwise_and_harms_nobody_is_taken_back_alone() -> None:
    """The banner that came out otherwise goes back, and what stood before it stays; what somebody else changed
    meanwhile is noted, and let be."""
    bare, way = fresh()
    unit = bare.unit
    order_of = bare.order

    def order_and_meddle(way: Way, order: Order) -> Any:
        answer = order_of(way, order)
        if order.how.say.startswith("engrave greeting") and unit.live.greeting:
            unit.live.greeting, unit.live.rest = unit.live.greeting[:8], 44
        return answer

    bare.order = order_and_meddle  # type: ignore[method-assign]
    outcome, _, _ = go_on(bare, way, None)
    assert outcome and outcome.left_out and "banner reads Larkmoor, expected" in outcome.why
    assert (unit.live.greeting, unit.live.rest) == ("", 44), "what somebody else did is none of ours"
    assert outcome.backed_out == ("banner: Larkmoor -> not set",) and not outcome.stayed
    assert "lt-works" in unit.hands and unit.live.shortest == 12, "what came before it stays"
    assert [event for event in bare.journal if isinstance(event, Noted) and "idle reads 44 min" in event.reads]


def test_nothing_shows_whether_a_password_was_taken() -> None:
    """It takes a new one and goes on showing it as it was: that is not read as "nothing happened", and the old one is
    put back."""
    bare, way = fresh()
    unit, order_of = bare.unit, bare.order
    made, phrase = unit.hands["spanner"].made, unit.hands["spanner"].phrase

    def order_and_hide(way: Way, order: Order) -> Any:
        answer = order_of(way, order)
        unit.hands["spanner"].made = made
        return answer

    bare.order = order_and_hide  # type: ignore[method-assign]
    outcome, _, _ = go_on(bare, way, None)
    assert outcome and outcome.why and "storage" in outcome.why, outcome
    assert unit.hands["spanner"].phrase == phrase or outcome.stayed, "taken back, or said that it stays"


def test_a_way_back_the_unit_swallows_is_told_as_not_gone() -> None:
    """It says yes to taking it back and leaves it as it is: that is read, and what stays is named."""
    bare, way = fresh()
    unit, order_of, engraved = bare.unit, bare.order, list[str]()

    def order_and_meddle(way: Way, order: Order) -> Any:
        if not order.how.say.startswith("engrave greeting"):
            return order_of(way, order)
        engraved.append(order.how.say)
        if len(engraved) > 1:
            return Done(Replies())
        answer = order_of(way, order)
        unit.live.greeting = unit.live.greeting[:8]
        return answer

    bare.order = order_and_meddle  # type: ignore[method-assign]
    outcome, _, _ = go_on(bare, way, None)
    assert outcome and len(engraved) == 2 and unit.live.greeting
    assert [line for line in outcome.stayed if "it reads" in line] and not outcome.backed_out, outcome


def test_what_still_differs_after_saving_is_not_saved() -> None:
    """It says yes to keeping, keeps nothing, and tells so where it is asked what is unlike."""
    bare, way = fresh()
    order_of = bare.order
    bare.order = lambda way, order: Done(Replies()) if order.how.say == "keep" else order_of(way, order)  # type: ignore[method-assign]
    outcome, _, _ = go_on(bare, way, None)
    assert outcome and "still differ" in outcome.why, outcome


MAKE, DROP = Make(("accounts", "lt-works"), ()), Drop(("accounts", "foreman"))
REKEY, NO_TELNET = Set(("accounts", "foreman", "secret"), Ref("safe:x")), Set(("services", "telnet", "enabled"), False)
CASES: dict[str, tuple[Change, Change]] = {
    "encrypted-first": (
        Set(("services", "ssh", "enabled"), True),
        Set(("accounts", "spanner", "secret"), Ref("safe:y")),
    ),
    "published-first": (Set(("accounts", "spanner", "secret"), Ref("safe:y")), Set(("clock", "offset"), 0.0)),
    "comes-back": (Set(("services", "ssh", "boot"), True), MAKE),
    "mode": (Set(("mode",), "strict"), Set(("clock", "offset"), 0.0)),
    "clock": (Set(("clock", "offset"), 0.0), Set(("name",), "x")),
    "name": (Set(("name",), "x"), Set(("policy", "min_length"), 12)),
    "policy": (Set(("policy", "min_length"), 12), MAKE),
    "own-key": (Set(("services", "ssh", "keyed"), True), MAKE),
    "entry_list": (Make(("entry_lists", "works"), ()), Set(("interfaces", "lan", "entry_list"), "works")),
    "role": (Make(("roles", "door-hand"), ()), MAKE),
    "let-in": (Set(("services", "ssh", "accounts"), ("lt-works",)), MAKE),
    "own-account": (MAKE, DROP),
    "own-rights": (Set(("accounts", "lt-works", "role"), "full"), REKEY),
    "services-on": (Set(("services", "telnet", "enabled"), True), NO_TELNET),
    "wider-sources": (Set(("services", "ssh", "permitted"), ANYONE), NO_TELNET),
    "notice": (Set(("banner",), "x"), NO_TELNET),
    "communities": (Set(("snmp", "communities"), 0), NO_TELNET),
    "factory-secrets": (REKEY, NO_TELNET),
    "spare-ways": (NO_TELNET, DROP),
    "root-login": (Set(("services", "ssh", "root_login"), "no"), DROP),
    "needless-services": (Set(("services", "tftp", "enabled"), False), Set(("services", "http", "boot"), False)),
    "spare-next-start": (Set(("services", "telnet", "boot"), False), DROP),
    "next-start": (
        Set(("services", "http", "boot"), False),
        Set(("services", "ssh", "permitted"), SITE.while_working("ssh")),
    ),
    "source-limits": (Set(("services", "ssh", "permitted"), SITE.while_working("ssh")), DROP),
    "attach": (Set(("interfaces", "lan", "entry_list"), "works"), DROP),
    "removals": (DROP, Set(("interfaces", "lan", "addresses"), ("192.0.2.9/24",))),
    "pool": (Set(("interfaces", "lan", "lends"), False), Set(("interfaces", "lan", "mode"), "fixed")),
    "addressing": (
        Set(("interfaces", "lan", "mode"), "fixed"),
        Set(("interfaces", "lan", "addresses"), ("192.0.2.9/24",)),
    ),
    "address": (Set(("idle",), 600.0), Set(("interfaces", "lan", "addresses"), ("192.0.2.9/24",))),
    "rest": (Set(("idle",), 600.0), NO_TELNET),
}


def test_precedence_row_by_row() -> None:
    """Each row of the one table of order puts what it is about before what it must come before, by phase and by
    place."""
    bare, way = fresh()
    plane = read_in(bare, way)
    belief = arrival(FAMILY, {"live": plane}, {way}, (LAPTOP,))
    assert list(CASES) == [row.name for row in PRECEDENCE]
    for name, (first, second) in CASES.items():
        one, two = (rank(each, "not bound", belief, SITE) for each in (first, second))
        assert (PHASES.index(one.phase), one.place) < (PHASES.index(two.phase), two.place), name


def test_the_factory_account_goes_only_after_save_restart_and_a_proven_owner() -> None:
    """The demo's own sheet: spare factory login, own account proven, saved, closed, saved, restart, only then
    removals."""
    bare, way = fresh()
    plane, ways = arrive(bare, way)
    target, gaps = wanted(plane, BASELINE, SITE)
    todo, _ = changes(plane, target, FAMILY, SITE)
    sheet = arrange(FAMILY, arrival(FAMILY, {"live": plane}, ways, (LAPTOP,)), todo, SITE, target, gaps)
    assert isinstance(sheet, Sheet)
    kinds = [(s.kind, show(s.change.path) if s.change else s.way.account if s.way else "") for s in sheet.steps]
    proved, drop = kinds.index((Kind.PROVE, "lt-works")), kinds.index((Kind.WRITE, "accounts/foreman"))
    saves, restart = [n for n, k in enumerate(kinds) if k[0] is Kind.SAVE], kinds.index((Kind.RESTART, ""))
    assert kinds[0] == (Kind.WRITE, "accounts/spanner/secret"), (
        "what stands open and nobody needs is closed first of all"
    )
    assert proved < saves[0] < saves[1] < restart < drop
    assert all(s.still for s in sheet.steps)
    without = replace(SITE, accounts=())
    bare2, way2 = fresh()
    plane2 = read_in(bare2, way2)
    target2, _ = wanted(plane2, BASELINE, without)
    todo2, _ = changes(plane2, target2, FAMILY, without)
    partly = arrange(FAMILY, belief_of(plane2, way2), todo2, without, target2)
    assert isinstance(partly, Sheet) and not [s for s in partly.steps if s.change == Drop(("accounts", "foreman"))]
    assert [show(gap.path) for gap in partly.gaps if "no account of the owner" in gap.why] == [
        "accounts/foreman",
        "accounts/spanner",
    ], partly.gaps


def test_unkept_settings_found_on_arrival_block() -> None:
    """What a stranger left unsaved would be saved with ours, so nothing is planned until the owner says so."""
    bare, way = fresh()
    bare.unit.live.rest = 9
    plane = read_in(bare, way)
    target, _ = wanted(plane, BASELINE, SITE)
    todo, _ = changes(plane, target, FAMILY, SITE)
    assert isinstance(arrange(FAMILY, belief_of(plane, way), todo, SITE, target), Refused)
    found = [f for f in judge(plane, BASELINE, SITE) if f.rule == "stores"]
    assert [f.state for f in found] == [State.FAILS]


def test_what_was_not_read_whole_is_not_removed_and_what_it_does_not_show_is_made() -> None:
    """Nothing unseen is removed. The owner's accounts are made where the list does not show them (the unit refuses
    one that is there), but never taken back: they may have been there. Where no list was read, nothing is made."""
    bare, way = fresh()
    plane = read_in(bare, way)
    foreman = plane.accounts.get("foreman")
    assert foreman is not None
    blind = replace(plane, accounts=Listing({"foreman": foreman}))
    target, _ = wanted(blind, BASELINE, SITE)
    todo, _ = changes(blind, target, FAMILY, SITE)
    made = [change for change in todo if isinstance(change, Make)]
    assert {show(change.path) for change in made} == {"accounts/lt-works", "accounts/lt-watch"}
    assert all(isinstance(bind(FAMILY, change, blind).back, NoWayBack) for change in made)
    assert not any(isinstance(change, Drop) and change.path != ("accounts", "foreman") for change in todo)
    todo, gaps = changes(replace(plane, accounts=Listing()), target, FAMILY, SITE)
    assert {show(g.path) for g in gaps} >= {"accounts/lt-works", "accounts/lt-watch"}
    assert not any(isinstance(c, Make) for c in todo)


def test_what_an_item_is_not_told_of_is_not_written_to_it() -> None:
    """It could not be read back, and a way in may hang on it. Of one that is yet to be made the others tell whether
    it will be."""
    bare, way = fresh()
    plane = read_in(bare, way)
    mine = replace(next(iter(plane.accounts)), key="lt-works", secret=None, role=None)
    there = replace(plane, accounts=Listing({**plane.accounts.by_key, "lt-works": mine}, complete=True))
    target, _ = wanted(plane, BASELINE, SITE)
    role = ("accounts", "lt-works", "role")
    todo, gaps = changes(there, target, FAMILY, SITE)
    assert role not in {change.path for change in todo}
    assert next(gap.why for gap in gaps if gap.path == role).endswith("could not be read back")
    told = put(there, role, "read")
    assert role in {change.path for change in changes(told, target, FAMILY, SITE)[0]}


def alone(factory: str) -> tuple[Bare, Way, Plane]:
    """A unit with one account that has its factory password, and an owner who wants that account kept."""
    watch = Watch()
    unit = LineSwitch(watch, shy=0.0, clock_error=0.0)
    unit.terms_taken = True
    unit.hands = {"foreman": Hand("chief", "foreman", "worksmade")}
    bare, me = Bare(unit, watch, secrets()), way_by("ssh", "foreman", factory)
    return bare, me, read_in(bare, me)


def test_the_only_account_changes_its_password_through_the_live_session() -> None:
    """Held, not proven, for one step: the session lives, the successor is surely admitted, the old password is the way
    back."""
    bare, me, plane = alone("factory:1")
    keep = replace(SITE, accounts=(), allows=Allows(True, False, ""))
    target = tuple(w for w in wanted(plane, BASELINE, keep)[0] if w.path[0] == "accounts")
    todo, _ = changes(plane, target, FAMILY, keep)
    sheet = arrange(FAMILY, belief_of(plane, me), todo, keep, target)
    assert isinstance(sheet, Sheet)
    at = next(n for n, s in enumerate(sheet.steps) if s.kind is Kind.WRITE)
    assert (sheet.steps[at].standing, way_back(sheet.steps[at])) == (Standing.HELD, "back to the published password")
    assert sheet.steps[at + 1].kind is Kind.PROVE, "nothing else comes before the new password has opened"
    watched(bare, me, kept_too=True)
    outcome = bare.drive(carry_out(FAMILY, sheet, belief_of(plane, me), now))
    assert (
        outcome and not outcome.why and bare.unit.hands["foreman"].phrase == bare.secrets[f"safe:{SITE.unit}/foreman"]
    )


def test_without_a_session_the_same_change_is_a_leap_and_needs_consent_by_name() -> None:
    """Where no session would survive it, it is refused with the option to say, and planned once that is said."""
    bare, me, plane = alone("factory:1")
    keep = replace(SITE, accounts=())
    cutting = replace(FAMILY, ops=tuple(replace(o, cuts="all") if o.name == "password" else o for o in FAMILY.ops))
    keep = replace(keep, allows=Allows(False, False, ""))
    target = tuple(w for w in wanted(plane, BASELINE, keep)[0] if w.path[0] == "accounts")
    todo, _ = changes(plane, target, cutting, keep)
    b = belief_of(plane, me)
    left = arrange(cutting, b, todo, keep, target)
    assert isinstance(left, Sheet) and not left.steps and "--leap accounts/foreman/secret" in left.gaps[0].why
    sheet = arrange(cutting, b, todo, keep, target, leaps=frozenset({"accounts/foreman/secret"}))
    assert isinstance(sheet, Sheet) and Standing.LEAP in {s.standing for s in sheet.steps if s.kind is Kind.WRITE}
    assert bare.unit.hands["foreman"].phrase == "foreman"


def test_a_no_to_a_password_is_a_no() -> None:
    """Where nothing readable would change, a refused password is still refused, with the unit's own reason, and
    nothing is taken back."""
    bare, me, plane = alone("factory:1")
    bare.unit.live.shortest = bare.unit.kept.shortest = 30
    bare.unit.hands["foreman"].made = "own"
    keep, plane = replace(SITE, accounts=(), allows=Allows(False, False, "")), read_in(bare, me)
    target = tuple(w for w in wanted(plane, BASELINE, keep)[0] if w.path == ("accounts", "foreman", "secret"))
    todo, _ = changes(plane, target, FAMILY, keep)
    sheet = arrange(FAMILY, belief_of(plane, me), todo, keep, target)
    assert isinstance(sheet, Sheet)
    outcome = bare.drive(carry_out(FAMILY, sheet, belief_of(plane, me), now))
    assert (
        outcome
        and "No: Too short by 16." in outcome.why
        and outcome.backed_out == ()
        and bare.unit.hands["foreman"].phrase == "foreman"
    )
