"""What stands beside the logins: second factors, roles, sockets that are not all read; and values over several
fields."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.bare import SITE
from tests.test_access import HERE, open_plane, way
from yardbolt.adapters.files import load_family, shipped
from yardbolt.core.family.bound import bind
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.model import Spelling
from yardbolt.core.family.reading import merge
from yardbolt.core.family.spelling import SPREADS, meant, parted, read_value, spelled_by
from yardbolt.core.job import OwnAccount, OwnRole, opens_a_login
from yardbolt.core.judge.access import admit
from yardbolt.core.judge.demands import OneOf, Want
from yardbolt.core.judge.filter import At, odd
from yardbolt.core.judge.rules import RULES
from yardbolt.core.judge.rules.rule import State
from yardbolt.core.judge.staying import stays
from yardbolt.core.plan.difference import changes
from yardbolt.core.plane.change import Make, Set
from yardbolt.core.plane.edit import Draft, get, put
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import parse
from yardbolt.core.plane.table import coerce
from yardbolt.core.talk.conversation import Replies

EXCHANGE, GATE = (load_family(shipped("families")[name]) for name in ("brackmere-ix5", "harrowfen-gd6"))
ROLE = OwnRole("door-hand", (("doors", "change"), ("lines", "read")))
AREAS = ("people", "lines", "doors", "logs")


@pytest.mark.parametrize(("listed", "lets_in"), [
    (("root",), False), (("adm*", "lt-works"), True), (("adm*",), None), (("!x", "lt-works"), None), (("lt-works@192.0.2.11",), False), (ABSENT, True),
])  # fmt: skip
def test_a_list_of_who_may_log_in_gets_the_owners_accounts(listed: Any, lets_in: bool | None) -> None:
    """Who it names comes in, and a pattern is nobody's surely; anyone who is not named is wanted on it, and nobody is
    taken off."""
    plane = put(open_plane(), ("services", "ssh", "accounts"), listed)
    found = [
        one
        for one in admit(plane, replace(way(HERE), account="lt-works")).conditions
        if ("services", "ssh", "accounts") in one.paths
    ]
    assert [one.holds for one in found] == [lets_in]
    site = replace(SITE, accounts=(OwnAccount("lt-works", "full", "x"),))
    demands = RULES["own-account"].demand(put(plane, ("services", "ssh", "encrypted"), True), site, {})
    wants = [one.values[0] for one in demands if isinstance(one, OneOf)]
    assert wants == ([] if listed is ABSENT or "lt-works" in listed else [tuple(sorted({*listed, "lt-works"}))]), wants


ADDRESSES = st.tuples(st.ip_addresses(v=4), st.integers(0, 32)).map(lambda a: f"{a[0]}/{a[1]}")
VALUES: dict[str, tuple[str, st.SearchStrategy[Any]]] = {
    "minutes-seconds": ("idle", st.integers(0, 86_400).map(float)),
    "address-mask": ("interfaces/x/addresses", ADDRESSES.map(lambda one: (one,))),
    "address-prefix": ("interfaces/x/addresses", ADDRESSES.map(lambda one: (one,))),
    "octets": ("interfaces/x/gateway", st.ip_addresses(v=4).map(str)),
    "udp-address-port": ("logs/destinations", st.tuples(st.ip_addresses(), st.integers(1, 65_535)).map(lambda p: (f"udp {p[0]} {p[1]}",))),
}  # fmt: skip


IN_SHORT = {
    ("minutes", "idle"): (("10", 600.0), ("2 h", 7200.0)), ("seconds", "lockout/release"): (("90", 90.0),),
    ("udp-address", "logs/destinations"): (("192.0.2.7,2001:db8::7", ("udp 192.0.2.7 514", "udp 2001:db8::7 514")),),
    ("udp-address:port", "logs/destinations"): (("192.0.2.7:515,[2001:db8::7]:514", ("udp 192.0.2.7 515", "udp 2001:db8::7 514")),),
}  # fmt: skip


def test_what_is_written_in_short_is_meant_in_full() -> None:
    """A bare number, a place for logs without its transport: read, and written back; what does not fit is refused. A
    time without a zone is read where the manual says which."""
    now = datetime(2026, 12, 1, 10, 0, 0, tzinfo=UTC)
    for (codec, written), cases in IN_SHORT.items():
        spelling, path = Spelling(codec=codec, join="," if codec.startswith("udp") else ""), parse(written)
        for raw, value in cases:
            assert read_value(spelling, path, raw, now) == value, raw
            assert read_value(spelling, path, spelled_by(spelling, path, coerce(path, value)), now) == value, raw
    for codec, written, value in (("minutes", "idle", 90.0), ("udp-address", "logs/destinations", ("udp 192.0.2.7 515",)), ("udp-address", "logs/destinations", ("tcp 192.0.2.7 514",))):  # fmt: skip
        with pytest.raises(ValueError, match=r"whole number|cannot be written"):
            spelled_by(Spelling(codec=codec), parse(written), value)
    clock = parse("clock/offset")
    assert read_value(Spelling(moment="UTC"), clock, "2026-12-01 09:59:30", now) == -30
    with pytest.raises(ValueError, match="without a zone"):
        read_value(Spelling(moment="yes"), clock, "2026-12-01 09:59:30", now)


@given(st.data())
def test_a_value_over_several_fields_comes_back_as_it_went(data: st.DataObject) -> None:
    """What is parted into fields, read together again, is the value; each notation there is has its values here."""
    assert set(VALUES) == set(SPREADS)
    codec = data.draw(st.sampled_from(sorted(VALUES)))
    written, values = VALUES[codec]
    path, value = parse(written), data.draw(values)
    told = SPREADS[codec].together(parted(path, codec, coerce(path, value)))
    assert coerce(path, [told] if isinstance(value, tuple) else told) == coerce(path, value)
    for half in (("192.0.2.1", ""), ("", "514"), ("192.0.2.1", "0")):
        assert SPREADS["udp-address-port"].together(half).startswith("half-filled"), half
    with pytest.raises(ValueError, match="cannot be written"):
        parted(parse("logs/destinations"), "udp-address-port", ("tcp 192.0.2.1 514",))


def fenced() -> Plane:
    """A rule goes by a group of sockets, and by which socket one comes was not read."""
    rule = {"position": 1, "verdict": "pass", "socket": "yard", "enabled": True, "named": ABSENT, "sources": ABSENT, "transport": ABSENT, "ports": ABSENT,
            "destinations": ABSENT, "opaque": False, "families": ABSENT, "state": ABSENT}  # fmt: skip
    plan = Draft(open_plane()).put(("packet_filter", "default"), "block")
    plan.put_all(((("filter_rules", "r1", leaf), value) for leaf, value in rule.items()))
    plan.put_all([(("socket_groups", "yard", "members"), ("inner",)), (("interfaces", "inner", "side"), "inside")])
    plan.put_all([(("interfaces", "outer", "services"), ("ssh",)), (("interfaces", "outer", "addresses"), ABSENT)])
    for listed in ("filter_rules", "socket_groups", "interfaces", "named_addresses"):
        plan.whole((listed,))
    return plan.freeze()


def test_a_way_that_was_used_stays_where_nothing_it_rests_on_is_touched() -> None:
    """What another socket lets in is nothing to a rule that goes by groups; who is in the group is. A socket in none
    is named."""
    plane = fenced()
    assert admit(plane, way(HERE)).admitted is None, "by which socket one comes was not read"
    shut = put(plane, ("interfaces", "outer", "services"), ())
    assert stays(plane, shut, [way(HERE)])
    assert not stays(plane, put(plane, ("socket_groups", "yard", "members"), ("outer",)), [way(HERE)])
    assert not stays(plane, put(plane, ("interfaces", "outer", "addresses"), ("192.0.2.1/24",)), [way(HERE)])
    assert "socket outer is in no group, and rules go by groups" in odd(plane, [At("tcp", 22)])


def test_nobody_is_counted_on_who_is_asked_for_a_code() -> None:
    """A code goes to somebody's mailbox: with one wanted a password is no way in; unread, it stands in nobody's way."""
    plane, path = open_plane(), ("accounts", "keeper", "factor")
    for told, admitted in {"mail": False, "none": True, ABSENT: True, None: True}.items():
        assert admit(put(plane, path, told), way()).admitted is admitted, told
    site = replace(SITE, accounts=(OwnAccount("keeper", "full", "works", codes="works@larkmoor.tram"),))
    known = Draft(plane).put_all([(path, "none"), (("accounts", "keeper", "mailbox"), ABSENT)]).freeze()
    rule = RULES["second-factor"]
    wanted = [(one.path, getattr(one, "values", ())) for one in rule.demand(known, site, {})]
    assert wanted == [(("accounts", "keeper", "mailbox"), ("works@larkmoor.tram",))], "and it is not switched on here"
    told = next(one for one in rule.judge(known, site, {}) if one.subject == path)
    assert told.state is State.UNKNOWN and "once a test mail" in told.saw
    assert not opens_a_login("console desk") and not opens_a_login("guard key") and opens_a_login("desk")


def roles_page(**more: dict[str, str]) -> dict[str, Any]:
    """The page of the roles, as it is understood."""
    rows = [{"Role": name, **{area.title(): may[area] for area in AREAS if area in may}} for name, may in more.items()]
    return {"tables": {"Roles": rows}}


def read_roles(**more: dict[str, str]) -> Plane:
    """What is read off it."""
    ask = next(one for one in EXCHANGE.asks if one.name == "roles")
    return merge(EXCHANGE, extract(EXCHANGE, ask, Replies(tree=roles_page(**more)))).plane


def test_a_role_is_made_and_its_areas_set_before_whoever_has_it() -> None:
    """The areas a new role has by itself are reckoned with; a cell is written in the row of its role; an area that is
    not shown leaves the role unread, and one too many is a finding."""
    site = replace(SITE, roles=(ROLE,))
    plane = read_roles(whole=dict.fromkeys(AREAS, "change"))
    rule = RULES["own-role"]
    want = next(iter(rule.demand(plane, site, {})))
    made, gaps = changes(plane, (Want(want.path, "own-role", "present", want.values),), EXCHANGE, site)  # type: ignore[union-attr]  # it is a Present
    assert (
        made
        == (
            Make(("roles", "door-hand"), (), "own-role"),
            Set(("roles", "door-hand", "areas", "doors", "access"), "change", "own-role"),
            Set(("roles", "door-hand", "areas", "lines", "access"), "read", "own-role"),
        )
        and not gaps
    )
    then = bind(EXCHANGE, made[0], plane).after
    assert get(then, ("roles", "door-hand", "areas", "people", "access")) == "none"
    order = bind(EXCHANGE, made[2], then).order
    assert order.fill["key"] == ("door-hand",) and ("look",) in order.fill.values()
    may = {"people": "none", "lines": "look", "doors": "change", "logs": "none"}
    states = {
        State.HOLDS: may, State.FAILS: {**may, "people": "change"}, State.UNKNOWN: {area: may[area] for area in AREAS[:3]},
    }  # fmt: skip
    for state, areas in states.items():
        found = read_roles(**{"door-hand": areas})
        assert [one.state for one in rule.judge(found, site, {})] == [state], (state, areas)
    # an area nobody here has is said, and nothing is planned for it; what is known to be wrong is said before what is
    # not known
    odd_one = replace(site, roles=(OwnRole("door-hand", (("doors", "change"), ("roof", "read"))),))
    assert next(iter(rule.demand(plane, odd_one, {}))).values == (("areas/doors/access", "change"),)  # type: ignore[union-attr]  # it is a Present
    assert "no area roof" in next(iter(rule.judge(read_roles(**{"door-hand": may}), odd_one, {}))).saw
    part = read_roles(**{"door-hand": {"people": "change", "lines": "look", "doors": "change"}})
    assert [one.state for one in rule.judge(part, site, {})] == [State.FAILS]
    other = replace(site, manual=frozenset({("roles",)}), unmade=("lt-doors",))
    told = list(rule.judge(Plane(), other, {}))
    assert [one.state for one in told] == [State.NOT_APPLICABLE] and "lt-doors is not made here" in told[0].saw
    assert not list(rule.demand(plane, other, {}))


def test_what_a_row_says_of_a_hand_is_read() -> None:
    """Rules of a hand's own that are empty are none at all; a warning of the unit's is no list of who is there."""
    folk = next(one for one in GATE.asks if one.name == "folk")
    plate = next(one for one in GATE.asks if one.name == "about")
    own = {"shortest": None, "kinds": 2}
    rows = [
        {"uid": "f1", "name": "a", "rank": "keeper", "active": True, "only_from": [], "also": "letter", "letters": "x@y.example", "own": own},
        {"uid": "f2", "name": "b", "rank": "reader", "active": True, "only_from": [], "also": "none", "letters": "", "own": None},
    ]  # fmt: skip
    parts = [
        *extract(GATE, folk, Replies(tree={"items": rows})),
        *extract(GATE, plate, Replies(tree={"warn": ["b"]})),
    ]
    plane = merge(GATE, parts).plane
    a, b = plane.accounts.get("a"), plane.accounts.get("b")
    assert a is not None and b is not None and plane.accounts.complete
    assert (a.factor, a.mailbox, a.own_rules, a.own_length, a.own_classes) == ("mail", "x@y.example", True, ABSENT, 2)
    assert (b.factor, b.mailbox, b.own_rules, a.storage, b.storage) == ("none", ABSENT, False, None, "factory")
    alone = merge(GATE, extract(GATE, plate, Replies(tree={"warn": ["b"]}))).plane
    assert not alone.accounts.complete and meant(("accounts", "a", "own_rules"), "no") is False


def test_an_answer_of_another_shape_is_no_empty_list() -> None:
    """What is not where the family says is unread, and told; never "nobody is inside", "no rule", "no foreign job"."""
    for ask in (one for one in GATE.asks if one.tree_rows and one.whole):
        for other in ({"items": None}, {"error": "no"}, {"items": {"why": "no rights"}}, {"groups": 5, "lists": {}}):
            read = merge(GATE, extract(GATE, replace(ask, store="live"), Replies(tree=other)))
            assert not any(get(read.plane, (*path, "*")) for path in ask.whole) and (read.blind or read.leftovers), (
                ask.name,
                other,
            )
            assert not any(getattr(read.plane, path[0]).complete for path in ask.whole), (ask.name, other)
    seats = next(one for one in GATE.asks if one.name == "seats")
    assert merge(GATE, extract(GATE, seats, Replies(tree={"items": []}))).plane.sessions.complete
    waiting = next(one for one in GATE.asks if one.name == "waiting")
    said = merge(GATE, extract(GATE, waiting, Replies(tree={"edits": [{"what": "a"}, {}]})))
    assert said.plane.stores.names is None and "edits/*/what" in said.blind[0].why, (
        "one of two names is not all of them"
    )
