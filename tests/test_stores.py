"""Stores, doors and belief, on units made for the purpose: staged edits, refused activation, timed return, address
move, lies."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from itertools import pairwise
from typing import Any

import pytest
from hypothesis import given, note
from hypothesis import strategies as st

from tests.desk import ARMED, DOORS, ELSEWHERE, LAPTOP, LEAVES, OURS, ROWS, SITE, TIMED, Unit, drive, family, way
from tests.drawn import ends_of, many
from yardbolt.core.addresses import AddressSet
from yardbolt.core.credentials import Password
from yardbolt.core.doors import Door, Way
from yardbolt.core.errors import IdentityError
from yardbolt.core.family.bound import bind
from yardbolt.core.family.model import Family
from yardbolt.core.judge.access import admit
from yardbolt.core.judge.demands import Target, Want
from yardbolt.core.plan.arrange import arrange
from yardbolt.core.plan.belief import Belief, Standing, arrival, learn, standing
from yardbolt.core.plan.difference import changes, with_mode
from yardbolt.core.plan.guard import Fallback, Idle
from yardbolt.core.plan.rehearse import Kind, rehearse
from yardbolt.core.plan.sheet import Refused, Sheet
from yardbolt.core.plane.change import Make, Set
from yardbolt.core.plane.compare import surprises, unlike
from yardbolt.core.plane.edit import Draft, get, put
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.table import holds_secret
from yardbolt.core.run.events import Stopped
from yardbolt.core.run.execute import carry_out
from yardbolt.core.run.proofs import side_door
from yardbolt.core.run.requests import Outcome, Return
from yardbolt.core.secret import Ref
from yardbolt.core.talk.outcomes import Ended

WORKS: Want = Want(("accounts", "works"), "own", "present", (("role", "full"), ("secret", OURS), ("enabled", True)))
LIMIT = Want(("services", "ssh", "permitted"), "limit", "set", AddressSet.of("192.0.2.0/28"))
TARGET: Target = (
    Want(("accounts", "maker"), "gone", "gone"), WORKS, LIMIT, Want(("banner",), "banner", "set", "Keep out."),
    Want(("policy", "min_length"), "length", "set", 12), Want(("services", "web", "enabled"), "plain", "set", False),
)  # fmt: skip
MOVE = Want(("interfaces", "lan", "addresses"), "address", "set", ("198.51.100.1/24",))
MANY = many(60)


def believed(
    made: Family, unit: Unit, planes: Mapping[str, Plane] | None = None, laptops: tuple[str, ...] = (LAPTOP,)
) -> Belief:
    """What is believed on arrival with the maker's login."""
    first = way()
    unit.sessions.add(first)
    read = dict(planes or unit.planes())
    read = {s: put(p, ("accounts", "maker", "secret"), first.secret) for s, p in read.items()}
    return arrival(made, read, {first}, laptops)


def sheet_of(made: Family, belief: Belief, target: Target, leaps: frozenset[str] = frozenset()) -> Sheet | Refused:
    todo, gaps = changes(belief.live, target, made, SITE)
    return arrange(made, belief, todo, SITE, target, gaps, leaps=leaps)


def carried_out(made: Family, unit: Unit, target: Target, **how: Any) -> tuple[Outcome | None, Sheet]:
    belief = believed(made, unit, laptops=unit.laptops)
    sheet = sheet_of(made, belief, target, how.pop("leaps", frozenset()))
    assert isinstance(sheet, Sheet), sheet
    return drive(unit, carry_out(made, sheet, belief, lambda: "2026-01-01T00:00:00+00:00"), **how), sheet


# ---- a unit that stages ---------------------------------------------------------------------------------------------


def test_staged_edits_are_put_in_force_phase_by_phase_and_proven() -> None:
    """Nothing is proven on edits that are not in force; own account first, then what closes, then removals; all three
    stores agree."""
    made, unit = family(), Unit(family())
    outcome, sheet = carried_out(made, unit, TARGET)
    assert outcome is not None and not outcome.why, outcome
    kinds = [step.kind for step in sheet.steps]
    assert kinds.count(Kind.ACTIVATE) == 3 and Kind.SAVE not in kinds and Kind.RESTART not in kinds
    assert all(
        kinds[n + 1] is Kind.PROVE for n, kind in enumerate(kinds) if kind is Kind.ACTIVATE and n < len(kinds) - 1
    )
    assert not unlike(unit.stores["live"], unit.stores["kept"]) and not unlike(
        unit.stores["live"], unit.stores["staged"]
    )
    assert "maker" not in unit.stores["live"].accounts and get(unit.stores["live"], ("banner",)) == "Keep out."
    assert all(unit.opens(one) for one in outcome.belief.proven)
    belief = arrival(made, unit.planes(), outcome.belief.proven, (LAPTOP,))
    again = [c for c in changes(belief.live, TARGET, made, SITE)[0] if not holds_secret(c.path)]
    assert not again, "planning on the result gives nothing but what no unit shows"


def test_what_somebody_left_staged_blocks_by_name() -> None:
    """It would go in force with ours: the sheet is refused and names the paths; unread counts as waiting."""
    made, unit = family(), Unit(family())
    unit.stores["staged"] = Draft(unit.stores["staged"]).put(("banner",), "theirs").freeze()
    unit.stores = {s: put(p, ("stores", "waiting"), 1) for s, p in unit.stores.items()}
    refused = sheet_of(made, believed(made, unit), TARGET)
    assert isinstance(refused, Refused) and "banner" in refused.why[0] and "would go in force" in refused.why[0]
    unit.stores = {s: put(p, ("stores", "waiting"), None) for s, p in unit.stores.items()}
    unread = sheet_of(made, believed(made, unit), TARGET)
    assert isinstance(unread, Refused) and "not read" in unread.why[0]


def test_a_refused_activation_is_told_with_its_reason_and_discarded() -> None:
    """Nothing is in force, the staged edits are dropped and read as gone, the session is still there."""
    made = family()
    unit = Unit(made, lie="refuses to activate")
    outcome, _ = carried_out(made, unit, TARGET)
    assert outcome is not None and "the edits contradict each other" in outcome.why
    assert outcome.backed_out == ("the staged edits",) and not outcome.belief.waiting and outcome.belief.sessions
    assert not unlike(unit.stores["staged"], unit.stores["live"]) and get(unit.stores["live"], ("banner",)) == "new"
    assert isinstance(unit.journal[-1], Stopped) and unit.journal[-1].standing == "proven"


def test_a_timed_return_is_confirmed_only_after_a_login_and_saves_who_is_shut_out() -> None:
    """Each commit is proven before it is confirmed; one that shuts us out is waited for, and the unit stands as
    before."""
    made = family(**TIMED)
    unit = Unit(made)
    outcome, sheet = carried_out(made, unit, TARGET)
    kinds = [step.kind for step in sheet.steps]
    assert outcome is not None and not outcome.why, outcome
    for place in (n for n, kind in enumerate(kinds) if kind is Kind.ACTIVATE):
        assert kinds[place + 1] is Kind.PROVE and kinds[kinds.index(Kind.CONFIRM, place) - 1] is Kind.PROVE
    assert unit.going_back is None and not unlike(unit.stores["live"], unit.stores["kept"])
    cutting = family(**{**TIMED, "force": {**TIMED["force"], "cuts": "all"}})
    unit = Unit(cutting)
    # the unit puts another limit in force than it shows, and nobody gets in any more
    act = unit.act

    def wrong(op: Any, order: Any, path: Any) -> None:
        act(op, order, path)
        if op.returns:
            shut = AddressSet.of("203.0.113.0/24")
            unit.stores["live"] = put(
                put(unit.stores["live"], LIMIT.path, shut), ("services", "web", "permitted"), shut
            )

    unit.act = wrong  # type: ignore[method-assign]
    outcome, _ = carried_out(cutting, unit, (WORKS, LIMIT))
    assert outcome is not None and outcome.why and outcome.backed_out == ("it went back by itself",), outcome
    assert unit.opens(way()) and outcome.belief.sessions and outcome.belief.fallback is None


def test_what_could_shut_us_out_is_made_under_a_return_that_is_armed_before() -> None:
    """Armed before, read as armed, proven and cancelled after; in groups, with nothing else between."""
    made = family(**ARMED)
    unit = Unit(made)
    outcome, sheet = carried_out(made, unit, TARGET)
    assert outcome is not None and not outcome.why, outcome
    inside = False
    for before, step in pairwise((sheet.steps[0], *sheet.steps)):
        inside = step.kind is Kind.ARM or (inside and step.kind is not Kind.CONFIRM)
        change = step.change
        if change is not None:
            assert step.bound and inside == step.guarded == step.bound.op.guarded, step
        assert step.kind is not Kind.CONFIRM or before.kind is Kind.PROVE
    assert unit.going_back is None and get(unit.stores["live"], ("banner",)) == "Keep out."
    silent = Unit(made, lie="accepts and drops")
    stopped, _ = carried_out(made, silent, TARGET)
    assert stopped is not None and "does not read as armed" in stopped.why and silent.safe()


@MANY
@given(st.sampled_from(["", "shuts us out", "no, not today", "accepts and drops", "does it and says nothing", "hangs up instead",
                        "changes something else too"]), st.integers(0, 14), st.integers(0, 90))  # fmt: skip
def test_a_return_armed_before_keeps_a_way_in_whatever_happens(lie: str, lie_at: int, kill_at: int) -> None:
    """Lies, what no forecast sees, and a kill anywhere: somebody gets in, now or when it has gone back; run again, the
    end is the same."""
    made = family(**ARMED)
    unit = Unit(made, lie=lie, lie_at=lie_at)
    carried_out(made, unit, TARGET, kill_at=kill_at)
    assert unit.safe()
    unit.lie = ""
    for _ in range(3):
        # run again: what was never proven goes back first
        if unit.going_back is not None:
            unit.stores, unit.going_back = dict(unit.going_back), None
        unit.stores = {s: put(p, ("stores", "returning"), ABSENT) for s, p in unit.stores.items()}
        login = next(one for one in (way("works", OURS), way(), way("maker", Ref("safe:u/maker"))) if unit.opens(one))
        unit.sessions = {login}
        plane = put(unit.planes()["live"], ("accounts", login.account, "secret"), login.secret)
        belief = arrival(made, {**unit.planes(), "live": plane, "kept": plane}, {login}, (LAPTOP,))
        sheet = sheet_of(made, belief, TARGET)
        assert isinstance(sheet, Sheet), sheet
        drive(unit, carry_out(made, sheet, belief, lambda: "2026-01-01T00:00:00+00:00"))
    assert get(unit.stores["live"], ("banner",)) == "Keep out." and "maker" not in unit.stores["live"].accounts
    assert unit.opens(way("works", OURS)) and unit.going_back is None


def test_an_address_move_is_a_leap_by_consent_that_ends_on_the_new_door() -> None:
    """Refused without consent; with it, the new door from the laptop's second address is proven last, and the old one
    is gone."""
    made = family(
        **{"force": {"do": "force", "does": "activate", "copies": {"staged": ["live", "kept"]}, "cuts": "all"}}
    )
    unit = Unit(made, laptops=(LAPTOP, ELSEWHERE))
    refused = sheet_of(made, believed(made, unit, laptops=unit.laptops), (WORKS, MOVE))
    assert isinstance(refused, Refused) and "--leap interfaces/lan/addresses" in refused.why[0]
    unit = Unit(made, laptops=(LAPTOP, ELSEWHERE))
    outcome, sheet = carried_out(made, unit, (WORKS, MOVE), leaps=frozenset({"interfaces/lan/addresses"}))
    assert outcome is not None and not outcome.why, outcome
    there = Door("ssh", "198.51.100.1", 22, "ssh", "lan")
    assert sheet.steps[-1].still and all(one.door.address == there.address for one in sheet.steps[-1].still)
    assert Way(ELSEWHERE, there, "works", Password(OURS)) in outcome.belief.proven and not unit.opens(way())
    alone = sheet_of(made, believed(made, Unit(made)), (WORKS, MOVE), frozenset({"interfaces/lan/addresses"}))
    assert isinstance(alone, Refused), "without an address on the new network nobody could answer there"


def test_a_port_that_moves_is_followed() -> None:
    """The way at the old port ends, the one at the new port is proven before anything else closes."""
    made, unit = family(), Unit(family())
    port = Want(("services", "ssh", "port"), "port", "set", 2222)
    outcome, sheet = carried_out(made, unit, (WORKS, port, Want(("services", "web", "enabled"), "x", "set", False)))
    assert outcome is not None and not outcome.why, outcome
    assert all(one.door.port == 2222 for one in outcome.belief.proven) and unit.opens(
        way("works", OURS, replace(DOORS[0], port=2222))
    )
    assert any(step.way and step.way.door.port == 2222 for step in sheet.steps)


# ---- rehearsal and belief by themselves -----------------------------------------------------------------------------


def test_every_op_moves_the_stores_by_its_data_alone() -> None:
    """Writes, copies whole and in part, discard, commit and confirm: planes and proven ways follow; an edit proves
    nothing."""
    made, unit = family(**TIMED), Unit(family())
    belief = believed(made, unit)
    new = Make(("accounts", "works"), (("role", "full"), ("secret", OURS)))
    hire = bind(made, new, belief.stores["staged"])
    force, confirm, discard = (made.op_doing(d) for d in ("commit", "confirm", "discard"))  # type: ignore[arg-type]
    assert force and confirm and discard
    staged = rehearse(made, belief, hire.op, hire)
    assert staged.live is belief.live or not unlike(staged.live, belief.live)
    assert (
        ("accounts", "works") in staged.waiting
        and staged.proven == belief.proven
        and get(staged.live, ("stores", "waiting")) is None
    )
    assert not rehearse(made, staged, discard).waiting
    live = rehearse(made, staged, force)
    assert (
        "works" in live.live.accounts
        and not live.waiting
        and live.fallback
        and live.fallback.seconds == 60
        and live.unsaved
    )
    assert way("works", OURS) not in live.proven and admit(live.live, way("works", OURS)).admitted is True
    kept = rehearse(made, learn(live, way("works", OURS)), confirm)
    assert kept.fallback is None and not kept.unsaved and way("works", OURS) in kept.surviving
    partly = replace(force, copies=(("staged", ("live", "kept")),), copies_of=(("policy",),), returns=0.0)
    both = belief
    for change in (Set(("policy", "min_length"), 12), Set(("banner",), "x")):
        one = bind(made, change, both.stores["staged"])
        both = rehearse(made, both, one.op, one)
    both = rehearse(made, both, partly)
    assert get(both.live, ("policy", "min_length")) == 12 and get(both.live, ("banner",)) == "new"


def test_standing_is_judged_on_live_and_kept_and_what_it_goes_back_to() -> None:
    """Proven, held, leap, lost; a timed return that has a way makes a leap of what would be lost."""
    made = family()
    belief = believed(made, Unit(made))
    none: frozenset[Way] = frozenset()
    gone = put(belief.live, ("services", "ssh", "enabled"), False)
    shut = replace(belief, stores={**belief.stores, "live": gone}, ways={**belief.ways, "live": none})
    assert standing(belief, ()) is Standing.PROVEN
    web = way(door=DOORS[1])
    assert standing(replace(belief, ways={**belief.ways, "live": none}), (web,)) is Standing.HELD
    assert standing(replace(belief, ways={**belief.ways, "live": none}, sessions=none), (web,)) is Standing.LEAP
    assert standing(shut, ()) is Standing.LOST
    assert standing(replace(shut, guard=Idle().arm(Fallback(60.0, belief.stores, belief.ways))), ()) is Standing.LEAP
    assert standing(replace(shut, guard=Idle().arm(Fallback(60.0, shut.stores, shut.ways))), ()) is Standing.LOST
    unkept = replace(belief, stores={**belief.stores, "kept": gone}, ways={**belief.ways, "kept": none})
    assert standing(unkept, ()) is Standing.LOST, "a power cut now would shut us out"
    lesser = put(belief.live, ("accounts", "maker", "role"), "read")
    assert standing(replace(belief, stores={**belief.stores, "live": lesser}), ()) is Standing.LOST


def test_account_stores_tell_which_ways_back_each_other_up() -> None:
    """Ways of one account store share secret, lock-out and budget, and are no spare for each other; outside the first
    store a key names its store, and the login does not."""
    made = replace(family(), account_stores={"main": ("ssh",), "panel": ("web",)})
    assert [made.store_of_account(s) for s in ("ssh", "web", "other")] == ["main", "panel", "main"]
    assert made.account_key("ssh", "keeper") == "keeper" and made.account_key("web", "keeper") == "panel:keeper"
    assert made.login_name("panel:keeper") == "keeper" and made.login_name("odd:keeper") == "odd:keeper"
    assert not made.independent(way(), way("works", OURS)) and made.independent(way(), way(door=DOORS[1]))


# ---- lies -----------------------------------------------------------------------------------------------------------

LIES = ["", "accepts and drops", "activates half", "shows staged as live", "refuses to activate", "no, not today",
        "does it and says nothing", "hangs up instead", "changes something else too"]  # fmt: skip


def lied_to(data: Any) -> str:
    """One unit, perhaps a liar, with one leaf hidden, and part of the target; how it ended."""
    made = family(**data.draw(st.sampled_from([{}, TIMED])))
    unit = Unit(made, lie=data.draw(st.sampled_from(LIES)), lie_at=data.draw(st.integers(1, 14)))
    planes = unit.planes()
    paths = [
        ("banner",),
        ("policy", "min_length"),
        ("accounts", "maker", "enabled"),
        LIMIT.path,
        ("services", "web", "port"),
    ]
    hide = data.draw(st.sampled_from([(), *paths]))
    planes = {s: put(p, hide, None) for s, p in planes.items()} if hide else planes
    belief = believed(made, unit, planes)
    target = (WORKS, *data.draw(st.lists(st.sampled_from([w for w in TARGET if w is not WORKS]), unique=True)))
    sheet = sheet_of(made, belief, target)
    if isinstance(sheet, Refused):
        return "refused"
    note(f"{unit.lie} from {unit.lie_at}, hidden {hide}: {[(s.kind, s.change or s.way) for s in sheet.steps]}")
    outcome = drive(unit, carry_out(made, sheet, belief, lambda: "2026-01-01T00:00:00+00:00"))
    assert outcome is not None and (not outcome.why or isinstance(unit.journal[-1], Stopped))
    if not outcome.why:
        assert all(unit.opens(one) for one in outcome.belief.proven), "a way wrongly called proven"
        assert not surprises(outcome.belief.live, unit.stores["live"]), "what is believed of the live store is true"
    return "stopped" if outcome.why else "done"


def test_no_lie_over_staged_live_and_kept_shuts_anybody_out() -> None:
    """Whatever the unit pretends, with a leaf hidden: never locked out, live or after a power cut, and no way wrongly
    called proven."""
    ends = ends_of(lied_to, 60)
    assert ends["done"] > ends.total() / 4 and ends["stopped"] > ends.total() / 8, ends


@pytest.mark.parametrize("ops", [{}, TIMED], ids=["activate", "commit and confirm"])
def test_killed_anywhere_somebody_still_gets_in(ops: dict[str, Any]) -> None:
    """At every request of the executor, on a unit that stages and on one that goes back by itself."""
    made, kills = family(**ops), 0
    while True:
        unit = Unit(made)
        outcome, _ = carried_out(made, unit, TARGET, kill_at=kills)
        if outcome is not None:
            break
        unit.sessions.clear()
        assert unit.safe(), f"killed at {kills}"
        kills += 1
    assert kills > 40 and not outcome.why


def test_what_was_cut_off_on_a_unit_that_stages_goes_on_from_anywhere_to_the_same_end() -> None:
    """Cut off at every request: what is staged is dropped, everything is read afresh (no reading shows a secret), the
    logins that open are noted on the live store alone, and there is always a plan that ends as it would have."""
    made, kills = family(), 0
    while True:
        unit = Unit(made)
        outcome, _ = carried_out(made, unit, TARGET, kill_at=kills)
        if outcome is not None:
            break
        unit.sessions.clear()
        unit.stores = {s: put(p, ("stores", "waiting"), 0) for s, p in unit.stores.items()}
        unit.stores["staged"] = unit.stores["live"]
        open_now = {one for ref in unit.known for one in (way("maker", ref), way("works", ref)) if unit.opens(one)}
        unit.sessions |= open_now
        read = unit.planes()
        assert not [a for p in read.values() for a in p.accounts if a.secret is not None]
        for one in open_now:
            read["live"] = put(read["live"], ("accounts", one.account, "secret"), one.secret)
        belief = arrival(made, {"live": read["live"], "staged": read["staged"]}, open_now, (LAPTOP,), ours=True)
        sheet = sheet_of(made, belief, TARGET)
        assert isinstance(sheet, Sheet), (kills, sheet)
        again = drive(unit, carry_out(made, sheet, belief, lambda: "2026-01-01T00:00:00+00:00"))
        assert again is not None and not again.why, (kills, again)
        assert sorted(unit.stores["kept"].accounts.by_key) == ["works"] and unit.stores["kept"].banner == "Keep out."
        kills += 1
    assert kills > 40


class Guarding(Unit):
    """One whose strict mode brings a longer password."""

    def act(self, op: Any, order: Any, path: Any) -> None:
        super().act(op, order, path)
        self.stores = {
            s: put(p, ("policy", "min_length"), 12) if p.mode == "strict" else p for s, p in self.stores.items()
        }


def test_what_a_mode_brings_is_reckoned_with_and_the_unit_is_waited_for() -> None:
    """The strict mode brings a longer password: what it brings is not asked for again, what it does not is; the unit
    goes away for it, and the run goes on when it is back."""
    mode = {
        "do": "mode",
        "set": ["mode"],
        "writes": ["live", "kept", "staged"],
        "cuts": "all",
        "wait": "9 s",
        "by_value": {"strict": {"policy/min_length": "12"}},
    }
    leaves = {**LEAVES, "mode": "mode"}
    asks = {
        s: {"by": "desk", "do": "read", "store": s, "leaves": leaves, "rows": ROWS} for s in ("live", "kept", "staged")
    }
    made = family(asks=asks, mode=mode)
    unit = Guarding(made)
    unit.stores = {s: put(p, ("mode",), "easy") for s, p in unit.stores.items()}
    strict = Want(("mode",), "guard", "set", "strict")
    target = (
        strict,
        Want(("policy", "min_length"), "length", "set", 12),
        Want(("banner",), "banner", "set", "Keep out."),
    )
    belief = believed(made, unit)
    todo, _ = changes(belief.live, target, made, SITE)
    assert [change.path for change in todo] == [("mode",), ("banner",)]
    assert with_mode(belief.live, target, made).policy.min_length == 12 and belief.live.policy.min_length == 5
    assert with_mode(belief.live, target[1:], made) is belief.live
    barred = family(asks=asks, mode={**mode, "needs": {"banner": "Keep out."}})
    kept = (strict, target[1])
    assert with_mode(belief.live, kept, barred) is belief.live, "a mode that cannot be set brings nothing"
    assert [change.path for change in changes(belief.live, kept, barred, SITE)[0]] == [("policy", "min_length")]
    sheet = arrange(made, belief, todo, SITE, target)
    assert isinstance(sheet, Sheet), sheet
    requests: list[Any] = []
    outcome = drive(unit, noted(requests, carry_out(made, sheet, belief, lambda: "2026-01-01T00:00:00+00:00")))
    assert outcome is not None and not outcome.why and unit.stores["live"].mode == "strict"
    assert [one.seconds for one in requests if isinstance(one, Return)] == [9.0]


def noted(requests: list[Any], executor: Any) -> Any:
    """The executor, with what it asks for written down."""
    answer: Any = None
    while True:
        try:
            request = executor.send(answer)
        except StopIteration as stop:
            return stop.value
        requests.append(request)
        answer = yield request


@pytest.mark.parametrize("ops", [{}, TIMED], ids=["activate", "commit and confirm"])
def test_whatever_goes_wrong_outside_is_thrown_in_and_ends_with_the_state_known(ops: dict[str, Any]) -> None:
    """A changed host key, a safe that fails: at any request the run ends by itself, journaled as stopped, and nobody
    is locked out."""
    made, thrown = family(**ops), 0
    while True:
        unit, count = Unit(made), 0
        belief = believed(made, unit)
        sheet = sheet_of(made, belief, TARGET)
        assert isinstance(sheet, Sheet)
        answer = unit.answer

        def failing(request: Any, paths: Any, answer: Any = answer, last: int = thrown) -> Any:
            nonlocal count
            count += 1
            if count == last + 1:
                raise IdentityError("shows another host key")
            return answer(request, paths)

        unit.answer = failing  # type: ignore[method-assign]
        outcome = drive(unit, carry_out(made, sheet, belief, lambda: "2026-01-01T00:00:00+00:00"))
        assert outcome is not None and unit.safe()
        if not outcome.why:
            break
        assert isinstance(outcome.error, IdentityError) and isinstance(unit.journal[-1], Stopped), thrown
        thrown += 1
    assert thrown > 40


def test_an_op_waits_for_a_proven_way_by_its_channel_and_goes_through_it() -> None:
    """Two channels: what only the second can write is written once a login by it has succeeded, through that very
    session."""
    two = {
        "desk": {"talk": "desk", "services": {"ssh": "sealed"}},
        "panel": {"talk": "desk", "services": {"web": "sealed"}},
    }
    made = family(two, banner={"by": "panel", "do": "banner", "set": ["banner"], "writes": ["staged"]})
    unit, via = Unit(made), list[str]()
    do = unit.do

    def watched(order: Any, path: Any) -> Any:
        via.append(f"{order.how.do} by {unit.through.service}")
        return do(order, path)

    unit.do = watched  # type: ignore[method-assign]
    outcome, sheet = carried_out(made, unit, (WORKS, Want(("banner",), "b", "set", "Keep out.")))
    assert outcome is not None and not outcome.why, outcome
    steps = [(s.kind, s.way.service if s.way else s.change.path[0] if s.change else "") for s in sheet.steps]
    assert steps.index((Kind.PROVE, "web")) < steps.index((Kind.WRITE, "banner"))
    assert "banner by web" in via and "hire by ssh" in via
    shut = Unit(made)
    shut.stores = {s: put(p, ("services", "web", "enabled"), False) for s, p in shut.stores.items()}
    refused = sheet_of(made, believed(made, shut), (Want(("banner",), "b", "set", "x"),))
    assert (
        isinstance(refused, Sheet) and not refused.steps and "nobody has logged in by panel yet" in refused.gaps[0].why
    )
    unread = {s: put(p, ("accounts", "maker", "role"), None) for s, p in Unit(made).planes().items()}
    refused = sheet_of(made, believed(made, Unit(made), unread), (Want(("policy", "min_length"), "b", "set", 12),))
    assert isinstance(refused, Refused) and "in by desk: what maker may do was not read" in refused.why[0]


@pytest.mark.parametrize("took", [True, False])
def test_an_answer_that_leads_to_a_session_that_ended_is_settled_by_reading(took: bool) -> None:
    """Taken or not, only reading tells; what was not is sent once more, and what was is not."""
    made = family()
    unit = Unit(made)
    do, sent = unit.do, list[str]()

    def leading(order: Any, path: Any) -> Any:
        sent.append(order.how.do)
        if order.how.do in ("banner", "dismiss") and sent.count(order.how.do) == 1:
            if took:
                do(order, path)
            return Ended(sent=True, answered=True)
        return do(order, path)

    unit.do = leading  # type: ignore[method-assign]
    target = (WORKS, Want(("banner",), "b", "set", "Keep out."), Want(("accounts", "maker"), "gone", "gone"))
    outcome, _ = carried_out(made, unit, target)
    assert outcome is not None and not outcome.why, outcome
    assert sent.count("banner") == sent.count("dismiss") == (1 if took else 2)
    assert "maker" not in unit.planes()["live"].accounts and unit.planes()["live"].banner == "Keep out."


def test_a_side_door_proves_all_but_the_port_and_what_filters_it() -> None:
    """A login at a second daemon backs account, secret and limits; the port, the binding and the packet filter it does
    not."""
    plane = Unit(family()).stores["live"]
    backs = side_door(plane, way())
    assert {("accounts", "maker", "secret"), ("services", "ssh", "permitted"), ("services", "ssh", "accounts")} <= backs
    assert not backs & {("services", "ssh", "port"), ("services", "ssh", "interfaces"), ("packet_filter", "default")}
