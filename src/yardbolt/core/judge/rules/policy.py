"""Rules about what the unit demands of passwords, and what it does with wrong ones."""

from __future__ import annotations

from collections.abc import Iterator

from ...job import Site
from ...plane.edit import get
from ...plane.kinds import ABSENT, NEVER, number, seconds
from ...plane.leaves import Plane
from ...plane.words import human
from ..demands import Between, Demand, exactly
from .logins import goes
from .rule import Param, Params, Rule, Severity, State, Verdict, on_leaf

LENGTH, CLASSES = ("policy", "min_length"), ("policy", "classes")
TRIES, RELEASE = ("lockout", "tries"), ("lockout", "release")


def _length(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    yield on_leaf(plane, LENGTH, lambda v: bool(v >= params["at least"]), f"at least {params['at least']} characters")
    yield from _apart(plane, "own_length", params["at least"])


def _apart(plane: Plane, leaf: str, least: int) -> Iterator[Verdict]:
    """Accounts with rules of their own, which stand in the place of the policy, what they leave out included."""
    for a in plane.accounts:
        if a.own_rules is not True:
            continue
        path, value = ("accounts", a.key, leaf), get(plane, ("accounts", a.key, leaf))
        if value is None:
            yield Verdict(path, State.UNKNOWN, f"{a.key} has rules of its own, which were not read", "")
        elif value is ABSENT:
            yield Verdict(path, State.FAILS, f"{a.key} has rules of its own, and they do not ask for this")
        else:
            state = State.HOLDS if value >= least else State.FAILS
            yield Verdict(
                path, state, f"the rules of {a.key} alone ask for {human(path, value)}; at least {least} wanted"
            )
    if any(a.own_rules is None for a in plane.accounts):
        yield Verdict(("accounts",), State.UNKNOWN, "whether an account has rules of its own was not read", "")


def _want_together(plane: Plane, site: Site, leaf: str, least: int, rule: str) -> Iterator[Demand]:
    for a in plane.accounts:
        value = get(plane, ("accounts", a.key, leaf))
        asks = isinstance(value, int) and value >= least
        if a.own_rules is True and value is not None and not asks and not goes(a, site):
            yield exactly(("accounts", a.key, "own_rules"), rule, False)


def _want_length(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    yield Between(LENGTH, "password-length", low=params["at least"])
    yield from _want_together(plane, site, "own_length", params["at least"], "password-length")


def _classes(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    yield on_leaf(
        plane, CLASSES, lambda v: bool(v >= params["at least"]), f"at least {params['at least']} of the four classes"
    )
    yield from _apart(plane, "own_classes", params["at least"])


def _want_classes(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    yield Between(CLASSES, "password-classes", low=params["at least"])
    yield from _want_together(plane, site, "own_classes", params["at least"], "password-classes")


def _repeats(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    for path, limit in ((("policy", "max_repeat"), params["repeat"]), (("policy", "max_run"), params["run"])):
        if get(plane, path) is ABSENT:
            yield Verdict(path, State.FAILS, f"not limited; wanted at most {limit}")
        else:
            yield on_leaf(plane, path, limit.__ge__, f"at most {limit} (the value itself is still allowed)")


def _want_repeats(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    for path, limit in ((("policy", "max_repeat"), params["repeat"]), (("policy", "max_run"), params["run"])):
        yield Between(path, "password-runs", high=limit)


def _lockout(plane: Plane, site: Site, params: Params) -> Iterator[Verdict]:
    low, high, hold = params["tries at least"], params["tries at most"], params["release at least"]
    yield on_leaf(plane, TRIES, lambda v: bool(low <= v <= high), f"{low} to {high} tries")
    release = get(plane, RELEASE)
    if release == NEVER:
        yield Verdict(RELEASE, State.FAILS, "locked until somebody unlocks it: a stranger can lock you out")
    else:
        yield on_leaf(plane, RELEASE, lambda v: bool(v >= hold), f"at least {human(RELEASE, hold)}")


def _want_lockout(plane: Plane, site: Site, params: Params) -> Iterator[Demand]:
    # never locked is nearest to the most tries
    low = params["tries at most"] if get(plane, TRIES) is ABSENT else params["tries at least"]
    yield Between(TRIES, "lock-out", low, params["tries at most"])
    yield Between(RELEASE, "lock-out", params["release at least"], 86400.0)


RULES = (
    Rule(
        "password-length",
        "passwords have a minimum length",
        "short passwords are allowed",
        "Short passwords are guessed by trying them all.",
        Severity.HIGH,
        _length,
        _want_length,
        {"at least": Param(number, "characters", 12, low=8, high=128, source="NIST SP 800-63B, 5.1.1.2")},
    ),
    Rule(
        "password-classes",
        "passwords mix classes of characters",
        "passwords of few kinds of character are allowed",
        "A single class makes guessing cheaper. Counted: how many of lower case, upper case, digit, sign.",
        Severity.MEDIUM,
        _classes,
        _want_classes,
        {"at least": Param(number, "classes of four", 3, low=1, high=4)},
    ),
    Rule(
        "password-runs",
        "repeats and runs are limited",
        "repeats and runs are not limited",
        "aaaa, abcd and 4321 are tried first.",
        Severity.LOW,
        _repeats,
        _want_repeats,
        {
            "repeat": Param(number, "longest repeat still allowed", 3),
            "run": Param(number, "longest run still allowed, either way", 3),
        },
    ),
    Rule(
        "lock-out",
        "wrong tries lock an account for a while",
        "wrong tries do not lock an account as they should",
        "Without it a program may try passwords all night; locked for good, a stranger can lock you out.",
        Severity.MEDIUM,
        _lockout,
        _want_lockout,
        {
            "tries at least": Param(number, "fewest wrong tries before the lock", 3, low=1),
            "tries at most": Param(
                number, "most wrong tries before the lock", 10, low=1, high=100, source="NIST SP 800-63B, 5.2.2"
            ),
            "release at least": Param(seconds, "shortest lock", 60.0),
        },
    ),
)
