"""What makes a password weak, what a unit really demands of one, and a suggestion that can be typed with cold hands.

Pure: lists of common passwords and the source of chance come in as arguments. Reasons never repeat the value they
speak of. Lengths count Unicode code points, as NIST SP 800-63B, section 3.1.1.2 does.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass
from itertools import pairwise

from ..plane.kinds import ABSENT, Absent
from ..plane.leaves import Plane

SIGNS = "-+.=_"
_LOWER, _DIGITS, _UPPER = (
    "abcdefghkmnprstuvwxyz",
    "23456789",
    "ABCDEFGHKMNPRSTUVWXYZ",
)  # none that look alike: i j l o q, 0 1
_SWAPS = str.maketrans("0134578@$!|+", "oieastbasiit")


@dataclass(frozen=True)
class Demands:
    """What a password must satisfy. A limit of None is no limit; every limit is inclusive: the value itself is still
    allowed."""

    min_length: int = 0
    classes: int = 1
    max_repeat: int | None = None
    max_run: int | None = None
    max_length: int = 64
    barred: str = ""


def longest_repeat(value: str) -> int:
    """Length of the longest run of one character: 4 for `aaaab`."""
    best = run = 0
    last = ""
    for c in value:
        run = run + 1 if c == last else 1
        best, last = max(best, run), c
    return best


def longest_run(value: str) -> int:
    """Length of the longest rising or falling run by code point, within letters of one case or digits: 3 for `abc`, 4
    for `9876`."""
    best = min(len(value), 1)
    for step in (1, -1):
        run = 1
        for a, b in pairwise(value):
            together = (a.isdigit() and b.isdigit()) or (a.islower() and b.islower()) or (a.isupper() and b.isupper())
            run = run + 1 if together and ord(b) - ord(a) == step else 1
            best = max(best, run)
    return best


def classes(value: str) -> frozenset[str]:
    """Which of the four classes are present: lower case, upper case, digit, sign."""
    kinds = (
        ("lower case", str.islower),
        ("upper case", str.isupper),
        ("digit", str.isdigit),
        ("sign", lambda c: not c.isalnum()),
    )
    return frozenset(name for name, test in kinds if any(test(c) for c in value))


def plain_form(value: str) -> str:
    """The value as a guessing program folds it: lower case, usual swaps undone, only letters kept."""
    return "".join(c for c in value.lower().translate(_SWAPS) if c.isalpha())


def _forms(raw: str) -> set[str]:
    """A name as people write it: whole, with swaps undone, without its signs, and its parts; of three signs or more."""
    small = raw.lower()
    parts = re.split(r"[\W_]+", small)
    return {one for one in (small, plain_form(raw), "".join(parts), *parts) if len(one) >= 3}


def _made_from(word: str, value: str) -> bool:
    """Does it hold the name? One of three signs says something at an end alone, or where it is no plain word."""
    if len(word) > 3 or any(sign.isdigit() for sign in word):
        return word in value
    return value.startswith(word) or value.endswith(word)


def weaknesses(
    value: str, demands: Demands, own_words: Iterable[str] = (), common: Collection[str] = ()
) -> tuple[str, ...]:
    """Everything wrong with a value, as reasons that do not repeat it; empty when nothing is.

    `own_words` are the words of the place: maker, model, unit, site, account. `common` holds known passwords in lower
    case.
    """
    if not value:
        return ("blank",)
    found = list(breaches(value, demands))
    words = {form for raw in own_words for form in _forms(raw)}
    told = {value.lower(), plain_form(value)}
    if value.lower() in words:
        found.append("equals a name in use here")
    elif any(_made_from(word, one) for word in words for one in told):
        found.append("made from a name in use here")
    if value.lower() in common:
        found.append("in the list of common passwords")
    elif len(plain_form(value)) >= 5 and plain_form(value) in common:
        found.append("a common password with simple swaps")
    return tuple(found)


def breaches(value: str, demands: Demands) -> tuple[str, ...]:
    """Which of the demands a value breaks, each with the boundary it used."""
    checks = (
        (len(value) < demands.min_length, f"{len(value)} characters, {demands.min_length} wanted"),
        (len(value) > demands.max_length, f"longer than {demands.max_length} characters"),
        (len(classes(value)) < demands.classes, f"{len(classes(value))} of the four classes, {demands.classes} wanted"),
        (
            demands.max_repeat is not None and longest_repeat(value) > demands.max_repeat,
            f"a character repeated {longest_repeat(value)} times, at most {demands.max_repeat} allowed",
        ),
        (
            demands.max_run is not None and longest_run(value) > demands.max_run,
            f"a run of {longest_run(value)}, at most {demands.max_run} allowed",
        ),
        (any(c in demands.barred for c in value), "a character this unit does not take"),
    )
    return tuple(why for broken, why in checks if broken)


def effective(plane: Plane, floor: Demands) -> Demands:
    """The stricter of what the unit demands and what the baseline demands, leaf by leaf; what was not read adds
    nothing."""
    policy = plane.policy

    def least(mine: int, theirs: int | Absent | None) -> int:
        return max(mine, theirs) if isinstance(theirs, int) else mine

    def most(mine: int | None, theirs: int | Absent | None) -> int | None:
        known = [x for x in (mine, theirs) if x is not None and x is not ABSENT]
        return min(known) if known else None

    return Demands(
        least(floor.min_length, policy.min_length),
        min(4, least(floor.classes, policy.classes)),
        most(floor.max_repeat, policy.max_repeat),
        most(floor.max_run, policy.max_run),
        floor.max_length,
        floor.barred,
    )


WEAKEST = 40  # bits


def suggest(demands: Demands, pick: Callable[[int], int], bits: int = 64) -> str:
    """A random value: groups of four easy keys, joined by a sign, no shift unless four classes are wanted, no
    look-alikes.

    `pick(n)` gives an even chance of 0..n-1 (`secrets.randbelow`). Strength is at least `bits`, or what the longest
    value the unit takes allows. Raises ValueError when that is below 40 bits, or the demands leave no room.
    """
    sign = next((s for s in SIGNS if s not in demands.barred), "")
    if not sign and demands.classes >= 3:
        raise ValueError("the unit takes no sign that is easy to type")
    keys = [k for k in _LOWER + _DIGITS if k not in demands.barred]
    groups = max(3, math.ceil(bits / (4 * math.log2(len(keys)))), math.ceil((demands.min_length + 1) / 5))
    upper = [k for k in _UPPER if k not in demands.barred] if demands.classes >= 4 else []
    grouped = groups * 4 + (groups - 1) * len(sign) <= demands.max_length
    # where groups do not fit, every character the unit takes is used, with one sign among them
    if not grouped and (demands.max_length - 1) * math.log2(len(keys)) < WEAKEST:
        raise ValueError(f"{demands.max_length} characters are too few for a value of {WEAKEST} bits")
    for _ in range(200):
        many = [4] * groups if grouped else [demands.max_length // 2, (demands.max_length - 1) // 2]
        made = ["".join(keys[pick(len(keys))] for _ in range(length)) for length in many]
        if upper:
            made[0] = upper[pick(len(upper))] + made[0][1:]
        value = sign.join(made)
        calm = longest_run(value) <= 2 and longest_repeat(value) <= 2 and {"lower case", "digit"} <= classes(value)
        if calm and not breaches(value, demands):
            return value
    raise ValueError("no value satisfies what the unit demands")
