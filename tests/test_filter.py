"""The packet filter as exact sets, against a walk of single packets that tries out everything that is not known."""

from __future__ import annotations

from itertools import product
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from yardbolt.core.addresses import ANYONE, AddressSet
from yardbolt.core.judge.filter import At, odd, through
from yardbolt.core.plane.edit import Draft
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import FilterRule, Plane

SOURCES = ("192.0.2.1", "192.0.2.9", "198.51.100.7", "203.0.113.1", "2001:db8::1", "2001:db8:1::9")
SETS = [
    AddressSet.of(*some)
    for some in (("192.0.2.0/28",), ("192.0.2.9",), ("198.51.100.0/24", "2001:db8::/48"), ("::/0",), ("0.0.0.0/0",), ())
]
CHAINS = ("first", "second", "side", "deep")
AT = At("tcp", 22, "192.0.2.200", "eth0", finds=False)


@st.composite
def rules(draw: st.DrawFn, place: int) -> dict[str, Any]:
    """A rule as a decoder leaves it: what it asks, perhaps not understood, and what it does."""
    chain = draw(st.sampled_from(CHAINS))
    deeper = CHAINS[CHAINS.index(chain) + 1 :] if chain in ("side", "deep") else CHAINS[2:]
    action = draw(st.sampled_from(["pass", "block", "pass", "block", "jump", "goto", "return", "continue", "other"]))
    if action in ("jump", "goto") and not deeper:
        action = "return"
    return {
        "position": place, "stage": chain, "verdict": action, "enabled": draw(st.sampled_from([True, True, True, False])),
        "leads_to": draw(st.sampled_from(deeper)) if action in ("jump", "goto") else ABSENT,
        "sources": draw(st.sampled_from([ABSENT, *SETS])), "destinations": draw(st.sampled_from([ABSENT, ABSENT, AddressSet.of("192.0.2.200"), AddressSet.of("192.0.2.201")])),
        "named": draw(st.sampled_from([ABSENT, ABSENT, "a", "b"])), "not_named": draw(st.booleans()),
        "ports": draw(st.sampled_from([ABSENT, ABSENT, ("22",), ("20-30",), ("80",)])), "transport": draw(st.sampled_from([ABSENT, "tcp", "udp"])),
        "socket": draw(st.sampled_from([ABSENT, ABSENT, "lo", "eth0"])), "opaque": draw(st.sampled_from([False, False, False, True])), "families": draw(st.sampled_from([ABSENT, ABSENT, ("4",), ("6",)])),
        "state": draw(st.sampled_from([ABSENT, ABSENT, "new", "established"])),
    }  # fmt: skip


@st.composite
def planes(draw: st.DrawFn) -> Plane:
    """Two base chains, two they may jump to, two named lists."""
    plan = Draft()
    for place in range(draw(st.integers(0, 7))):
        plan.put_all((("filter_rules", f"r{place}", leaf), value) for leaf, value in draw(rules(place)).items())
    for place, chain in enumerate(CHAINS[:2]):
        families = draw(st.sampled_from([ABSENT, ABSENT, ("4",), ("6",)]))
        facts = (("position", place), ("default", draw(st.sampled_from(["pass", "block"]))), ("families", families))
        plan.put_all((("filter_stages", chain, leaf), value) for leaf, value in facts)
    for name, members in (("a", draw(st.sampled_from(SETS))), ("b", draw(st.sampled_from(SETS)))):
        plan.put_all([(("named_addresses", name, "members"), members)])
    plan.put(("packet_filter", "unseen"), ABSENT).put(("packet_filter", "empty_names"), "nobody")
    for listed in ("filter_rules", "filter_stages", "named_addresses"):
        plan.whole((listed,))
    return plan.freeze()


def fits_but_sources(rule: FilterRule) -> bool:
    """Does what knocks at AT fit all that a rule asks, but from where it comes?"""
    ports, transport = rule.ports in (ABSENT, ("22",), ("20-30",)), rule.transport in (ABSENT, "tcp")
    here = rule.destinations is ABSENT or "192.0.2.200" in rule.destinations  # type: ignore[operator]
    return rule.enabled is not False and ports and transport and here and rule.socket in (ABSENT, "eth0")


def asks(plane: Plane, rule: FilterRule, source: str, state: str) -> bool:
    """Does one packet fit what is understood of a rule?"""
    members = plane.named_addresses.by_key[rule.named].members if isinstance(rule.named, str) else None
    return all((
        fits_but_sources(rule), rule.state in (ABSENT, state), rule.sources is ABSENT or source in rule.sources,  # type: ignore[operator]
        members is None or (source in members) != rule.not_named,  # type: ignore[operator]
        rule.families is ABSENT or ("6" if ":" in source else "4") in (rule.families or ()),  # type: ignore[operator]
    ))  # fmt: skip


def walk(plane: Plane, source: str, luck: dict[str, str], state: str) -> str:
    """One packet through all chains, as the kernel does it. `luck` says what an opaque rule, or an unknown action,
    does."""

    def chain(name: str) -> str:
        ordered = sorted((r for r in plane.filter_rules if r.stage == name), key=lambda r: r.position or 0)
        for rule in ordered:
            if not asks(plane, rule, source, state) or (rule.opaque and luck[rule.key][0] == "-"):
                continue
            action = str(rule.verdict)
            if action == "other":
                action = luck[rule.key][1:]
            if action in ("pass", "block"):
                return action
            if action == "return":
                return ""
            if action in ("jump", "goto"):
                said = chain(str(rule.leads_to))
                if said or action == "goto":
                    return said
        return ""

    for base in sorted(plane.filter_stages, key=lambda c: c.position or 0):  # type: ignore[arg-type,return-value]
        mine = base.families is ABSENT or ("6" if ":" in source else "4") in (base.families or ())  # type: ignore[operator]
        if mine and (chain(base.key) or str(base.default)) == "block":
            return "block"
    return "pass"


@settings(max_examples=400)
@given(planes())
def test_sets_say_what_single_packets_meet(plane: Plane) -> None:
    """Exact where all is understood; where something is not, sure only of what holds however it may be."""
    found = through(plane, AT)
    open_rules = [r.key for r in plane.filter_rules if r.opaque or r.verdict == "other"][:4]
    fates = [
        dict(zip(open_rules, fate, strict=True))
        for fate in product(("+accept", "+drop", "+continue", "-accept"), repeat=len(open_rules))
    ]
    if len(open_rules) < sum(bool(r.opaque) or r.verdict == "other" for r in plane.filter_rules):
        return
    for source in SOURCES:
        both = [{walk(plane, source, fate, state) for state in ("new", "established")} for fate in fates]
        ends = {"block" if "block" in one else "pass" for one in both}
        sure = "pass" if source in found.surely_in else "block" if source not in found.let_in else ""
        assert not sure or ends == {sure}, (source, sure, ends)
        assert sure or open_rules, "all of it is understood, so all of it is known"
        mine = "6" if ":" in source else "4"
        passed = any(
            c.families is ABSENT or mine in (c.families or ()) for c in plane.filter_stages if c.position is not None
        )  # type: ignore[operator]
        assert not passed or any(source in one.sources for one in found.decisions)


@settings(max_examples=60)
@given(planes())
def test_sets_say_what_a_solver_says(plane: Plane) -> None:
    """Over every address of both families, not only over some."""
    from tests.solver import disagrees

    assert not disagrees(plane, through(plane, AT))


def test_what_is_odd_about_rules_is_told() -> None:
    """A dead rule behind a refusal for everybody, an empty list, no refusal at the end; rules unseen make nothing
    sure."""
    plan = Draft()
    plain = dict.fromkeys(
        [
            "sources",
            "destinations",
            "named",
            "not_named",
            "ports",
            "transport",
            "socket",
            "leads_to",
            "families",
            "state",
        ],
        ABSENT,
    )
    rows: tuple[tuple[str, dict[str, Any]], ...] = (("block", {}), ("pass", {"sources": SETS[0]}))
    for place, (action, more) in enumerate(rows):
        more = {"ports": ("22",), "transport": "tcp", **more}
        facts = {**plain, "position": place, "stage": "in", "verdict": action, "opaque": False, "enabled": True, **more}
        plan.put_all((("filter_rules", f"r{place}", leaf), value) for leaf, value in facts.items())
    plan.put_all(
        [
            (("filter_stages", "in", "position"), 1),
            (("filter_stages", "in", "default"), "pass"),
            (("filter_stages", "in", "families"), ABSENT),
            (("named_addresses", "nobody", "members"), AddressSet()),
        ]
    )
    plan.put(("packet_filter", "unseen"), ABSENT)
    for listed in ("filter_rules", "filter_stages", "named_addresses"):
        plan.whole((listed,))
    told = odd(plan.freeze(), [AT])
    assert [line.split(":")[0] for line in told] == [
        "the name nobody has no addresses",
        "nothing is refused at the end",
        "rule r1 is dead",
    ]
    assert through(plan.freeze(), At("tcp", 80)).surely_in == ANYONE
    for unseen in (("filter",), None):
        plan.put(("packet_filter", "unseen"), unseen)
        assert not through(plan.freeze(), At("tcp", 80)).surely_in and through(plan.freeze(), AT).let_in != ANYONE
