"""The values of the core: addresses, plane, access, demands, passwords, rules. Properties and tables of cases."""

from __future__ import annotations

import dataclasses
import random
from ipaddress import ip_address
from typing import Any

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.bare import BASELINE, FAMILY, SITE
from yardbolt.core.addresses import ANYONE, NOBODY, AddressSet, strict_networks
from yardbolt.core.job import Waiver
from yardbolt.core.judge import passwords as pw
from yardbolt.core.judge.baseline import judge, wanted
from yardbolt.core.judge.demands import Between, Conflict, Gap, Gone, OneOf, Present, choose, meet
from yardbolt.core.judge.rules import RULES
from yardbolt.core.judge.rules.rule import State
from yardbolt.core.plane.change import Drop, Make, Rename, Reorder, Set, apply
from yardbolt.core.plane.compare import difference, surprises
from yardbolt.core.plane.document import from_tree, meant_by, recorded, schema, to_tree
from yardbolt.core.plane.edit import Draft, get, make, put, whole
from yardbolt.core.plane.kinds import ABSENT, NEVER, Among, Leaf, seconds
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import parse, show
from yardbolt.core.plane.table import TABLE, holds_secret, item_of, pattern_of
from yardbolt.core.plane.words import human
from yardbolt.core.secret import Ref, Secret

four = st.builds(
    lambda a, p: str(ip_address(a >> (32 - p) << (32 - p))) + f"/{p}", st.integers(0, 2**32 - 1), st.integers(20, 32)
)
six = st.builds(
    lambda a, p: str(ip_address(2**125 + (a >> (16 - p) << (16 - p)))) + f"/{112 + p}",
    st.integers(0, 2**16 - 1),
    st.integers(8, 16),
)
sets = st.lists(st.one_of(four, six), max_size=4).map(lambda texts: AddressSet.of(*texts))


@given(sets, sets, st.data())
def test_address_sets_are_sets(a: AddressSet, b: AddressSet, data: Any) -> None:
    """Union, difference, intersection and inclusion agree with membership, address by address, in both families."""
    edges = [x for n in (*a.nets, *b.nets) for x in (n.network_address, n.broadcast_address)]
    points = [str(p) for e in edges for p in (e, *([e + 1] if int(e) % 2**32 != 2**32 - 1 else []))] or ["192.0.2.1"]
    point = data.draw(st.sampled_from(points))
    assert (point in (a | b)) == (point in a or point in b)
    assert (point in (a - b)) == (point in a and point not in b)
    assert (point in (a & b)) == (point in a and point in b)
    assert (a <= b) == ((a - b) == NOBODY) and (a & b) <= a <= (a | b) <= ANYONE
    assert AddressSet.of(*a.texts()) == a


@pytest.mark.parametrize(
    "text",
    [
        "192.0.2",
        "192.0.2.1.1",
        "192.0.2.256",
        "192.0.2.1/24",
        "192.0.2.0/255.0.255.0",
        "192.0.2.9-192.0.2.1",
        "192.0.2.1-::1",
        "",
        "2001:db8::1/64",
    ],
)
def test_nothing_is_repaired_silently(text: str) -> None:
    """Wrong parts, host bits, holes in a mask, reversed or mixed ranges are refused."""
    with pytest.raises(ValueError):
        strict_networks(text)


@given(st.lists(st.text(min_size=1), min_size=1))
def test_paths_survive_being_written(parts: list[str]) -> None:
    """Interface names and CIDR blocks hold slashes; RFC 6901 escapes keep them whole."""
    assert parse(show(tuple(parts))) == tuple(parts)


SAMPLES: dict[str, Any] = {
    "text": "t", "program": "p", "number": 3, "seconds": NEVER, "flag": True, "sources": ANYONE, "wordset": ("x", "y"), "nameset": ("a b", "c"), "doubt_set": ("locked", "starting"),
    "reference": Ref("safe:u/a"), "interface_addresses": ("192.0.2.1/24", "2001:db8::1/64"),
}  # fmt: skip


def sample(row: Leaf) -> Any:
    """A value that suits a leaf."""
    return row.kind.words[0] if isinstance(row.kind, Among) else SAMPLES[row.kind.__name__]


def full_plane() -> Plane:
    """Every leaf of the table has a value, every list an item, lists within items too."""
    draft = Draft()
    for pattern, row in TABLE.items():
        path = tuple("a/b" if part == "*" else part for part in pattern)
        if row.unit == "list":
            draft.whole(path)
        elif row.unit == "item":
            draft.make(path)
        else:
            draft.put(path, sample(row))
    return draft.freeze()


def test_three_states_survive_json() -> None:
    """A value, not set and not read stay three different things, for every leaf of the table; the form fits its own
    schema."""
    plane = full_plane()
    assert from_tree(to_tree(plane)) == plane and difference(plane, from_tree(to_tree(plane))) == frozenset()
    assert get(plane, ("roles", "a/b", "areas", "a/b", "access")) == "t"
    jsonschema.validate(to_tree(plane), schema())
    unset = put(put(plane, ("banner",), ABSENT), ("idle",), None)
    again = from_tree(to_tree(unset))
    assert get(again, ("banner",)) is ABSENT and get(again, ("idle",)) is None
    assert difference(plane, again) == {("banner",), ("idle",)}
    jsonschema.validate(to_tree(unset), schema())
    assert human(("idle",), None) == "not read" and human(("banner",), ABSENT) == "not set"
    assert human(("idle",), NEVER) == "never"
    for wrong in ("ten", "nan", "5 weeks", "1e999", ""):
        with pytest.raises(ValueError):
            seconds(wrong)
    assert seconds("0d 00h 01m 12s") == 72 and seconds("10 min") == 600 and seconds("0") == 0 != NEVER


def test_paths_know_their_rows_and_their_items() -> None:
    """At any depth: the row of the table, the innermost item, what no unit shows; what is not on the plane is named."""
    deep = ("roles", "r", "areas", "x/y", "access")
    assert pattern_of(deep) == ("roles", "*", "areas", "*", "access") and item_of(deep) == deep[:4]
    assert item_of(("idle",)) is None and item_of(("accounts", "a")) == ("accounts", "a")
    assert holds_secret(("accounts", "secret", "secret")) and not holds_secret(("accounts", "secret", "role"))
    for wrong in (("accounts", "x", "rolle"), ("nothing",), ("accounts", "x", "role", "y"), ("policy",)):
        with pytest.raises(KeyError):
            pattern_of(wrong)
        with pytest.raises((KeyError, ValueError)):
            put(make(Plane(), ("accounts", "x")), wrong, "1")


paths = st.sampled_from([p for p, row in TABLE.items() if row.unit != "list"])
keys = st.sampled_from(["a", "b", "c/d"])


def test_a_record_from_before_is_read_by_the_names_of_today() -> None:
    """Lists and leaves that were called otherwise, and what rules did with a packet."""
    old = {
        "input_filter": {"default": "drop", "empty_list": "nobody"},
        "input_rules": {"complete": True, "items": {"r": {"action": "accept", "chain": "in", "list": "yard", "list_negated": True, "group": "lan", "comment": "x", "target": None}}},
        "bundles": {"complete": True, "items": {"works": {"services": ["ssh"]}}},
        "interfaces": {"complete": False, "items": {"lan": {"bundle": "works"}}},
    }  # fmt: skip
    plane = from_tree(old)
    rule = plane.filter_rules.by_key["r"]
    assert (rule.verdict, rule.stage, rule.named, rule.not_named, rule.socket, rule.note) == (
        "pass", "in", "yard", True, "lan", "x",
    )  # fmt: skip
    assert plane.packet_filter.default == "block" and plane.packet_filter.empty_names == "nobody"
    assert plane.interfaces.by_key["lan"].entry_list == "works" and plane.entry_lists.complete
    assert from_tree(to_tree(plane)) == plane
    # what was wanted, sent and left out stands there by its path
    for before, now in (
        ("input_rules/chain/action", ("filter_rules", "chain", "verdict")),
        ("address_lists/list", ("named_addresses", "list")),
        ("interfaces/bundle/bundle", ("interfaces", "bundle", "entry_list")),
    ):
        assert recorded(before) == recorded("/".join(now)) == now
    assert meant_by(("packet_filter", "default"), "drop") == "block"


@given(st.lists(st.tuples(paths, keys, keys, st.booleans()), max_size=40))
def test_a_draft_is_the_same_edits_one_by_one(edits: list[tuple[Any, str, str, bool]]) -> None:
    """Many edits through one draft give the plane that single edits give; the plane it began from is untouched; what
    is untouched stays the very same object, so that comparing costs nothing."""
    start = full_plane()
    before, draft, plane = to_tree(start), Draft(start), start
    for pattern, one, two, drops in edits:
        names = iter((one, two))
        path = tuple(next(names) if part == "*" else part for part in pattern)
        for end in [n + 1 for n, part in enumerate(pattern) if part == "*"]:
            draft.make(path[:end])
            plane = make(plane, path[:end])
        if TABLE[pattern].unit == "item":
            if drops:
                draft.drop(path)
                plane = apply(plane, Drop(path))
            continue
        value = None if drops else sample(TABLE[pattern])
        draft.put(path, value)
        plane = put(plane, path, value)
    assert draft.freeze() == plane and to_tree(start) == before
    assert Draft(start).put(("name",), "z").freeze().accounts is start.accounts
    assert {path for path in difference(start, plane) if get(start, path) == get(plane, path)} == set()


def test_what_the_manual_says_fills_only_what_is_not_known() -> None:
    """A leaf nothing was read of, in each item that is there, at any depth; an empty list is whole, another is as it
    was; no item is made."""
    draft = Draft().make(("roles", "a")).make(("roles", "b")).make(("roles", "a", "areas", "x")).make(("accounts", "q"))
    draft.put(("accounts", "q", "role"), "full").fill(("accounts", "*", "role"), ABSENT)
    draft.fill(("roles", "*", "areas", "*", "access"), ABSENT).fill(("services", "ssh", "enabled"), True)
    plane = draft.close(("roles", "*", "areas")).close(("jobs",)).close(("roles",)).freeze()
    assert get(plane, ("accounts", "q", "role")) == "full" and not len(plane.services)
    assert get(plane, ("roles", "a", "areas", "x", "access")) is ABSENT
    assert plane.jobs.complete and not plane.roles.complete
    assert [role.areas.complete for role in plane.roles] == [False, True]


def test_changes_do_what_they_say() -> None:
    """Set, make, drop, rename and reorder, on one list; what is not there cannot be set, and a taken key is refused."""
    rules = Draft()
    for place, key in enumerate(("x", "y", "z"), 1):
        rules.make(("filter_rules", key)).put(("filter_rules", key, "position"), place)
    plane = apply(rules.freeze(), Reorder(("filter_rules",), ("z", "x")))
    assert [r.key for r in sorted(plane.filter_rules, key=lambda r: r.position or 0)] == ["z", "x", "y"]
    plane = apply(plane, Rename(("filter_rules", "x"), "w"))
    assert list(plane.filter_rules.by_key) == ["w", "y", "z"] and get(plane, ("filter_rules", "w", "position")) == 2
    plane = apply(plane, Make(("accounts", "a"), (("role", "full"),)))
    plane = apply(apply(plane, Set(("accounts", "a", "enabled"), False)), Drop(("filter_rules", "y")))
    assert get(plane, ("accounts", "a", "enabled")) is False and "y" not in plane.filter_rules
    for wrong in (
        Set(("accounts", "b", "role"), "x"),
        Rename(("filter_rules", "w"), "z"),
        Rename(("filter_rules", "q"), "v"),
    ):
        with pytest.raises(KeyError):
            apply(plane, wrong)


def test_surprises_are_what_was_read_and_differs() -> None:
    """What was not read, what moves by itself and what no unit shows are no surprise; an item that came or went is,
    where the list is whole."""
    base = whole(put(make(Plane(), ("accounts", "a")), ("accounts", "a", "role"), "full"), ("accounts",))
    seen = put(put(base, ("accounts", "a", "role"), "read"), ("clock", "offset"), 9.0)
    assert surprises(put(base, ("clock", "offset"), 0.0), seen) == (("accounts", "a", "role"),)
    assert surprises(base, put(base, ("accounts", "a", "role"), None)) == ()
    hidden = put(base, ("accounts", "a", "secret"), Ref("safe:x"))
    assert surprises(hidden, put(base, ("accounts", "a", "secret"), Ref("safe:y"))) == ()
    assert surprises(base, make(base, ("accounts", "b"))) == (("accounts", "b"),)
    assert surprises(base, apply(base, Drop(("accounts", "a")))) == (("accounts", "a"),)
    assert surprises(base, Plane()) == (), "nothing was read"


def test_no_rule_takes_the_unread_for_good() -> None:
    """On a plane of which nothing was read no rule holds; what it cannot tell it says."""
    found = judge(Plane(), BASELINE, SITE, "2026-01-01")
    assert {f.rule for f in found} == {line.rule for line in BASELINE.requirements} == set(RULES) - {"password-runs"}
    assert not [f for f in found if f.state is State.HOLDS] and not [f for f in found if f.state is State.FAILS]
    assert {f.rule for f in found if f.state is State.UNKNOWN} >= {
        "factory-login",
        "open-sources",
        "password-length",
        "stores",
        "sessions",
        "identity",
    }


def test_a_waiver_needs_a_day_and_ends() -> None:
    """Waived fails are shown as waived until the day, and want nothing meanwhile."""
    plane = put(Plane(), ("idle",), NEVER)
    site = dataclasses.replace(
        SITE, waivers=(Waiver("idle-timeout", "*", "relay room is locked", "works office", "2026-06-30"),)
    )
    states = {
        day: [f.state for f in judge(plane, BASELINE, site, day) if f.rule == "idle-timeout"]
        for day in ("2026-06-30", "2026-07-01", "")
    }
    assert states == {"2026-06-30": [State.WAIVED], "2026-07-01": [State.FAILS], "": [State.FAILS]}
    assert not [w for w in wanted(plane, BASELINE, site, "2026-06-30")[0] if w.path == ("idle",)]
    assert [w.value for w in wanted(plane, BASELINE, site, "2026-07-01")[0] if w.path == ("idle",)] == [600.0]


A, B = AddressSet.of("192.0.2.0/24"), AddressSet.of("192.0.2.0/28")


@pytest.mark.parametrize(
    ("demand", "now", "chosen"),
    [
        (Between(("idle",), "r", 60.0, 600.0), NEVER, 600.0),
        (Between(("idle",), "r", 60.0, 600.0), 0.0, 60.0),
        (Between(("idle",), "r", 60.0, 600.0), 300.0, 300.0),
        (Between(("policy", "min_length"), "r", 12), 16, 16),
        (Between(("policy", "min_length"), "r", 12), 5, 12),
        (Between(("policy", "min_length"), "r", 12), None, 12),
        (Between(("policy", "min_length"), "r", 12), ABSENT, 12),
        (OneOf(("banner",), "r", ("x", "y")), "y", "y"),
        (OneOf(("banner",), "r", ("x", "y")), "z", "x"),
        (Between(("services", "ssh", "permitted"), "r", B, A), ANYONE, B),
        (
            Between(("services", "ssh", "permitted"), "r", B, A),
            AddressSet.of("192.0.2.64/26", "198.51.100.0/24"),
            B | AddressSet.of("192.0.2.64/26"),
        ),
        (Between(("services", "ssh", "permitted"), "r", B, A), None, B),
        (Between(("services", "ssh", "permitted"), "r", B, A), A, A),
    ],
)
def test_the_value_chosen_is_the_admissible_one_nearest_to_the_present(demand: Any, now: Any, chosen: Any) -> None:
    """Both directions; `never` is not zero; a set keeps what it may keep."""
    assert choose(demand, now) == chosen


def test_demands_meet_or_name_both_rules() -> None:
    """Intervals intersect; no common value, and gone against kept, are conflicts naming both; an upper set alone is a
    question."""
    p = ("policy", "min_length")
    met = meet([Between(p, "a", 8), Between(p, "b", 12, 20), Between(p, "c", None, 16)])[p]
    assert isinstance(met, Between) and (met.low, met.high, met.rule) == (12, 16, "a and b and c")
    clashes: list[list[Any]] = [
        [Between(p, "long", 20), Between(p, "short", None, 16)],
        [OneOf(("name",), "one", ("a",)), OneOf(("name",), "two", ("b",))],
        [Gone(("accounts", "x"), "removal"), Present(("accounts", "x"), "own")],
        [Gone(("accounts", "x"), "removal"), OneOf(("accounts", "x", "role"), "rights", ("full",))],
        [
            Present(("accounts", "x"), "one", (("role", "full"),)),
            Present(("accounts", "x"), "two", (("role", "read"),)),
        ],
    ]
    for clash in clashes:
        with pytest.raises(Conflict) as e:
            meet(clash)
        assert all(d.rule in str(e.value) for d in clash)
    assert isinstance(choose(Between(("services", "ssh", "permitted"), "r", None, A), None), Gap)
    assert isinstance(choose(Between(("services", "ssh", "permitted"), "r", AddressSet(), A), ANYONE), Gap)


@pytest.mark.parametrize(
    ("value", "repeat", "run"),
    [
        ("", 0, 0),
        ("a", 1, 1),
        ("aaab", 3, 2),
        ("xabcx", 1, 3),
        ("9876a", 1, 4),
        ("aBcD", 1, 1),
        ("az", 1, 1),
        ("89:;", 1, 2),
        ("zyx123", 1, 3),
    ],
)
def test_runs_and_repeats_have_an_exact_boundary(value: str, repeat: int, run: int) -> None:
    """Rising and falling, within letters of one case or digits; the limit itself is still allowed."""
    assert (pw.longest_repeat(value), pw.longest_run(value)) == (repeat, run)
    assert not [
        b for b in pw.breaches(value, pw.Demands(max_repeat=max(repeat, 1), max_run=max(run, 1))) if "most" in b
    ]
    if repeat > 1:
        assert pw.breaches(value, pw.Demands(max_repeat=repeat - 1))


def test_weak_passwords_are_named_without_being_repeated() -> None:
    """Blank, the account's name, derived with swaps, common, short: each with its reason, none with its value."""
    common = frozenset({"password", "dragon"})
    cases = {
        "": "blank",
        "foreman": "equals a name",
        "F0rem4n-2031": "made from a name",
        "ql8keeper": "made from a name",
        "dragon": "list of common",
        "P@ssw0rd": "simple swaps",
        "Kv7-short": "9 characters, 12 wanted",
    }
    for value, why in cases.items():
        found = pw.weaknesses(value, pw.Demands(12, 3, 3, 3), {"foreman", "QL-8"}, common)
        assert any(why in f for f in found), (value, found)
        assert not value or not any(value in f for f in found)
    assert pw.weaknesses("k7mw-hfra-29tx-vbn4", pw.Demands(12, 3, 3, 3), {"foreman"}, common) == ()


@given(st.integers(8, 30), st.integers(1, 4), st.sampled_from(["", "-", "-.", "0Oo"]), st.integers(0, 2**32))
def test_suggestions_satisfy_what_they_were_made_for(length: int, classes: int, barred: str, seed: int) -> None:
    """Any policy of a unit is met; no look-alikes, no barred sign, no shift unless four classes are wanted, at least
    64 bits."""
    demands, chance = pw.Demands(length, classes, 2, 2, 64, barred), random.Random(seed)
    value = pw.suggest(demands, chance.randrange)
    assert pw.breaches(value, demands) == () and not set(value) & set("ilo01IO") and len(value) >= 14
    assert classes == 4 or value == value.lower()
    with pytest.raises(ValueError):
        pw.suggest(dataclasses.replace(demands, max_length=9), chance.randrange)


def test_the_effective_policy_is_the_stricter_of_unit_and_baseline() -> None:
    """Leaf by leaf; what was not read or is not set adds nothing; the unit's own limits on length and signs stay."""
    plane = put(
        put(put(Plane(), ("policy", "min_length"), 16), ("policy", "classes"), ABSENT), ("policy", "max_run"), 2
    )
    got = pw.effective(plane, pw.Demands(12, 3, 3, 3, 40, " "))
    assert got == pw.Demands(16, 3, 3, 2, 40, " ")
    assert len(pw.suggest(got, random.Random(1).randrange)) >= 16
    assert pw.effective(Plane(), pw.Demands(12)) == pw.Demands(12)


@pytest.mark.parametrize(
    ("level", "fits"), [("4.0", True), ("4.10.3", True), ("5.0", False), ("3.9.9", False), (None, True), ("odd", True)]
)
def test_a_family_knows_the_levels_it_was_written_for(level: str | None, fits: bool) -> None:
    """Parts are numbers, not text: 4.10 is above 4.9; what was not read is not held against it."""
    assert FAMILY.fits(level) is fits


def test_a_secret_cannot_be_shown() -> None:
    """Not by printing, formatting, pickling, comparing or in a container."""
    secret = Secret("MARKER-9")
    shown = [repr(secret), str(secret), f"{secret}", f"{secret!r:>20}", str([secret]), str({"a": secret})]
    assert not any("MARKER" in s for s in shown) and secret.reveal() == "MARKER-9" and secret != Secret("MARKER-9")
    with pytest.raises(TypeError):
        __import__("pickle").dumps(secret)
