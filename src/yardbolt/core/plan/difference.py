"""Target minus plane: the changes to make, and the gaps that cannot be planned."""

from __future__ import annotations

from dataclasses import replace

from ..addresses import NOBODY
from ..family.bound import bind
from ..family.model import Family, Op
from ..family.spelling import meant
from ..family.writing import forecast, op_for, takes
from ..job import Site
from ..judge.demands import Gap, Target, Want
from ..plane.change import Change, Drop, Make, Set
from ..plane.edit import exists, get, listing, reachable
from ..plane.kinds import ABSENT
from ..plane.leaves import Plane
from ..plane.path import Path, filled, parse, show
from ..plane.table import holds_secret, item_of, pattern_of, reached
from ..plane.words import human, spoken
from ..secret import Ref

Found = tuple[list[Change], list[Gap]]


def changes(plane: Plane, target: Target, family: Family, site: Site) -> tuple[tuple[Change, ...], tuple[Gap, ...]]:
    """The changes that bring the plane to the target, and the gaps: what of it cannot be planned."""
    out: dict[Change, None] = {}
    gaps: list[Gap] = []
    coming = with_mode(plane, target, family)
    for want in target:
        more, missing = _of_want(plane if want.path == MODE else coming, want, family, site, target)
        out |= dict.fromkeys(more)
        gaps += missing
    owners = {own.name for own in site.accounts if own.role == "full"}
    if owners and owners <= {gap.path[1] for gap in gaps if gap.path[:1] == ("accounts",) and gap.path[2:] in RIGHTS}:
        # nobody else will have all rights
        for change in [one for one in out if isinstance(one, Set) and one.path[-1] == "root_login"]:
            del out[change]
            gaps.append(
                Gap(
                    change.path,
                    change.because,
                    "no account with all rights can be made here, so root's login must stay",
                )
            )
    _served_together(plane, out, gaps)
    return _shut(plane, target, family, tuple(out), tuple(gaps))


def _shut(
    plane: Plane, target: Target, family: Family, out: tuple[Change, ...], gaps: tuple[Gap, ...]
) -> tuple[tuple[Change, ...], tuple[Gap, ...]]:
    """A service that should be off and cannot be switched off is blocked for everybody, where the unit can do that."""
    unwanted = {want.path for want in target if want.path[-1] == "enabled" and want.value is False}
    left: list[Gap] = []
    # what stays on starts again too
    stays = {(*gap.path[:-1], "boot") for gap in gaps if gap.path in unwanted}
    out = tuple(one for one in out if not (isinstance(one, Set) and one.path in stays))
    for gap in gaps:
        change = Set((*gap.path[:-1], "permitted"), NOBODY, gap.rule)
        shuts = gap.path in unwanted and gap.path[:1] == ("services",) and get(plane, gap.path) is True
        if shuts and get(plane, change.path) != NOBODY:
            shuts = not _cannot(plane, change, family, target) and _worded(family, change, plane)
            out = (*out, change) if shuts else out
        left.append(replace(gap, why=f"{gap.why}; it is shut to everybody instead") if shuts else gap)
    return out, tuple(left)


def _worded(family: Family, change: Change, plane: Plane) -> bool:
    """Can this value be written on this unit?"""
    try:
        bind(family, change, plane)
    except ValueError:
        return False
    return True


def _served_together(plane: Plane, out: dict[Change, None], gaps: list[Gap]) -> None:
    """Services of one program go off in one step. If one of them is needed, none of them can."""
    off = {
        one.path[1]: one
        for one in out
        if isinstance(one, Set) and one.path[:1] == ("services",) and one.path[-1] == "enabled" and one.value is False
    }
    for name, change in off.items():
        with_it = get(plane, ("services", name, "together"))
        with_it = with_it if isinstance(with_it, tuple) else ()
        if needed := [one for one in with_it if one not in off and _kept(plane, one)]:
            for one in [c for c in out if isinstance(c, Set) and c.path in (change.path, (*change.path[:-1], "boot"))]:
                del out[one]
            why = (
                f"the program that serves it serves {', '.join(needed)} too, which stays: take it out of its own "
                "settings"
            )
            gaps.append(Gap(change.path, change.because, why))
        elif any(one in off and one < name for one in with_it):
            for one in [c for c in out if isinstance(c, Set) and c.path[:2] == change.path[:2]]:
                del out[one]


def _kept(plane: Plane, what: str) -> bool:
    """Does the program do something else that has to go on: another running service, or work that is no service of
    the plane?"""
    path: Path = ("services", what)
    return not exists(plane, path) or get(plane, (*path, "enabled")) is True


MODE = ("mode",)
# without one of them nobody gets in with all rights
RIGHTS: tuple[Path, ...] = ((), ("role",), ("secret",), ("enabled",))


def with_mode(plane: Plane, target: Target, family: Family) -> Plane:
    """The plane with everything the wanted mode brings, as the family says; unchanged where the mode is as wanted or
    cannot be set."""
    want = next((one for one in target if one.path == MODE and one.kind == "set"), None)
    if want is None or reached(MODE, plane.mode, want.value):
        return plane
    change = Set(MODE, want.value)
    op = op_for(family, change)
    return plane if op is None or _never(op, plane, MODE, target) else forecast(family, op, plane, change)


def _of_want(plane: Plane, want: Want, family: Family, site: Site, target: Target) -> Found:
    if want.kind == "gone":
        return _gone(plane, want, family, site)
    if want.kind == "present":
        return _present(plane, want, family, target)
    inside = item_of(want.path)
    there = exists(plane, inside) if inside else True
    if there is not True and inside:
        return [], [Gap(want.path, want.rule, f"{show(inside[:-1])} were not read whole")] if there is None else []
    if reached(want.path, get(plane, want.path), want.value):
        return [], []
    change = Set(want.path, want.value, want.rule)
    why = _cannot(plane, change, family, target)
    return ([], [Gap(want.path, want.rule, family.why_not(want.path, why))]) if why else ([change], [])


def _cannot(plane: Plane, change: Set, family: Family, target: Target) -> str:
    """Why a value cannot be set; empty where it can."""
    op = op_for(family, change)
    if op is None:
        return "has no way to set it"
    arm = family.op_doing("arm") if op.guarded else None
    missing = [why for one in (op, arm) if one is not None and (why := _never(one, plane, change.path, target))]
    return f"cannot set it: {missing[0]}" if missing else ""


def _never(op: Op, plane: Plane, path: Path, target: Target) -> str:
    """A need of the op that this unit does not have and that no wanted change brings; empty where there is none."""
    wanted = {want.path for want in target}
    needs = [(filled(pattern, path), word) for pattern, word in op.needs]
    # what was not read does not become known by being wanted
    lacking = [(here, word) for here, word in needs if word == "known" or here not in wanted]
    held = {
        here: get(plane, here) if reachable(plane, here) else None if word == "known" else ABSENT
        for here, word in lacking
    }
    # what was not read may be there; it is not said to be missing, but waited for
    bad = [
        f"{spoken(here)} is {human(here, held[here])}"
        for here, word in lacking
        if word != "known" and held[here] not in (None, meant(here, word))
    ]
    bad += [f"{spoken(here)} was not read" for here, word in lacking if word == "known" and held[here] is None]
    return ", ".join(bad)


def _gone(plane: Plane, want: Want, family: Family, site: Site) -> Found:
    # not seen on a list that was not read whole: it may be there all the same
    there = exists(plane, want.path)
    if there is False:
        return [], []
    if there is None:
        problem = f"{show(want.path[:-1])} were not read whole, so nothing unseen is removed"
        return [], [Gap(want.path, want.rule, problem)]
    if op_for(family, Drop(want.path)) is None:
        why = family.why_not(want.path, "has no way to remove it")
        # what must stay gets a password of the owner's
        own = Set((*want.path, "secret"), site.secret(want.path[1]), want.rule)
        known = want.path[0] == "accounts" and want.path[1] in site.factory
        mends = known and op_for(family, own) and get(plane, own.path) != own.value
        return [own] if mends else [], [Gap(want.path, want.rule, why)]
    out: list[Change] = []
    if want.path[0] == "accounts":
        secret, storage = get(plane, (*want.path, "secret")), get(plane, (*want.path, "storage"))
        shut = Set((*want.path, "secret"), site.secret(want.path[1]), want.rule)
        published = (isinstance(secret, Ref) and secret.factory) or storage in ("factory", "blank")
        if published and op_for(family, shut):
            out.append(shut)  # the door is shut at once; the account itself goes last
    return [*out, Drop(want.path, want.rule)], []


def _present(plane: Plane, want: Want, family: Family, target: Target) -> Found:
    there = exists(plane, want.path)
    # the owner's own that is not among those that were seen is made; where it is there after all, a unit refuses it
    # or gives it to him
    if there is None and not len(listing(plane, want.path[:-1])):
        return [], [Gap(want.path, want.rule, f"{show(want.path[:-1])} were not read")]
    out: list[Change] = []
    now = {name: get(plane, (*want.path, *parse(name))) for name, _ in want.value}
    before = plane
    if not there:
        op = op_for(family, Make(want.path, want.value))
        if op is None:
            return [], [Gap(want.path, want.rule, family.why_not(want.path, "has no way to make it"))]
        if missing := _never(op, plane, want.path, target):
            return [], [Gap(want.path, want.rule, family.why_not(want.path, f"cannot make it: {missing}"))]
        # an op that makes accounts of one role alone says it by being that op
        told = takes(op) | ({"role"} if len(op.only) == 1 else set())
        given = tuple((name, value) for name, value in want.value if name in told)
        out.append(Make(want.path, given, want.rule))
        plane = forecast(family, op, plane, out[0])
        now = {name: meant((*want.path, *parse(name)), word) for name, word in op.then} | dict(given)
    sets = [Set((*want.path, *parse(name)), value, want.rule) for name, value in want.value if now.get(name) != value]
    bars = {one: _cannot(plane, one, family, target) or _untold(before, one, family) for one in sets}
    gaps = [
        Gap(one.path, want.rule, family.why_not(one.path, why))
        for one, why in bars.items()
        # what a unit neither shows nor lets one set is no switch of its own: a login will tell
        if why and (op_for(family, one) or one.path[-1] != "enabled" or pattern_of(one.path) in family.covers())
    ]
    return [*out, *(one for one, why in bars.items() if not why)], gaps


def _untold(plane: Plane, change: Set, family: Family) -> str:
    """Why the change could not be read back: the unit did not show this setting for the item, or for a new item, for
    any other. Empty where a login shows it."""
    inside = item_of(change.path)
    if inside is None or holds_secret(change.path) or pattern_of(change.path) not in family.covers():
        return ""
    there = [inside] if exists(plane, inside) else [(*inside[:-1], item.key) for item in listing(plane, inside[:-1])]
    if not there or any(get(plane, (*one, *change.path[len(inside) :])) is not None for one in there):
        return ""
    which = inside[-1] if exists(plane, inside) else f"any of its {inside[0]}"
    return f"did not show it for {which}, so it could not be read back"
