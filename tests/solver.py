"""The packet filter as a formula over one address, for an SMT solver: an oracle that shares nothing with the sets."""

from __future__ import annotations

from typing import Any

import z3

from tests.test_filter import AT, fits_but_sources
from yardbolt.core.addresses import AddressSet
from yardbolt.core.judge.filter import Passing
from yardbolt.core.plane.kinds import ABSENT
from yardbolt.core.plane.leaves import FilterRule, Plane

FELL, ACCEPT, DROP = (z3.BitVecVal(n, 2) for n in range(3))


def member(address: Any, among: object) -> Any:
    """Is the address in a set?"""
    assert isinstance(among, AddressSet)
    runs = among.six if address.size() == 128 else among.four
    return z3.Or([z3.And(z3.UGE(address, first), z3.ULE(address, last)) for first, last in runs])


def fits(plane: Plane, rule: FilterRule, address: Any, state: str) -> Any:
    """When a rule matches; one that was not understood may or may not."""
    if rule.state not in (ABSENT, state):
        return z3.BoolVal(False)
    if not fits_but_sources(rule) or (
        rule.families is not ABSENT and str(4 + 2 * (address.size() == 128)) not in (rule.families or ())
    ):  # type: ignore[operator]
        return z3.BoolVal(False)
    asked = [z3.BoolVal(True) if rule.sources is ABSENT else member(address, rule.sources)]
    if isinstance(rule.named, str):
        named = member(address, plane.named_addresses.by_key[rule.named].members)
        asked.append(z3.Not(named) if rule.not_named else named)
    return z3.And(*asked, *([z3.Bool(f"understood {rule.key} {state}")] if rule.opaque else []))


def verdict(plane: Plane, address: Any, state: str) -> Any:
    """What becomes of a packet from an address, as the kernel walks the chains; what is not known is a free
    variable."""

    def chain(name: str) -> Any:
        out: Any = FELL
        ordered = sorted((r for r in plane.filter_rules if r.stage == name), key=lambda r: r.position or 0)
        for rule in reversed(ordered):
            deeper = chain(str(rule.leads_to)) if rule.verdict in ("jump", "goto") else FELL
            luck = z3.BitVec(f"luck {rule.key} {state}", 2)
            does = {
                "pass": ACCEPT, "block": DROP, "return": FELL, "goto": deeper, "jump": z3.If(deeper == FELL, out, deeper),
                "continue": out, "other": z3.If(luck == ACCEPT, ACCEPT, z3.If(luck == DROP, DROP, out)),
            }[str(rule.verdict)]  # fmt: skip
            out = z3.If(fits(plane, rule, address, state), does, out)
        return out

    whole: Any = ACCEPT
    for base in sorted(plane.filter_stages, key=lambda c: c.position or 0, reverse=True):  # type: ignore[arg-type,return-value]
        if base.families is not ABSENT and str(4 + 2 * (address.size() == 128)) not in (base.families or ()):  # type: ignore[operator]
            continue
        ended = chain(base.key)
        whole = z3.If(z3.If(ended == FELL, ACCEPT if base.default == "pass" else DROP, ended) == DROP, DROP, whole)
    return whole


def disagrees(plane: Plane, found: Passing) -> str:
    """An address of which sets and formula say different things; empty where there is none."""
    for bits in (32, 128):
        address = z3.BitVec("address", bits)
        let_in, sure = member(address, found.let_in), member(address, found.surely_in)
        passes = z3.And(*(verdict(plane, address, state) == ACCEPT for state in ("new", "established")))
        wrong = [z3.And(sure, z3.Not(passes)), z3.And(z3.Not(let_in), passes)]
        if not any(r.opaque or r.verdict == "other" for r in plane.filter_rules):
            wrong += [z3.And(z3.Not(sure), passes), z3.And(let_in, z3.Not(passes))]
        solver = z3.Solver()
        solver.add(z3.Or(wrong))
        if solver.check() != z3.unsat:
            return f"{solver.model()} at {AT}"
    return ""
