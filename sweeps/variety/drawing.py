"""Drawing: one feature of each group, so that soon every two of them have met; and the table of what came of it."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from itertools import combinations

Drawn = dict[str, str]  # group -> the feature drawn from it
OUTCOMES = ("carried", "told", "stuck", "false", "shut out", "not begun")


class Draws:
    """Cases by seed: each seed stands for itself, so one alone can be drawn again."""

    def __init__(self, groups: Mapping[str, Mapping[str, float]], fits: Callable[[Drawn], bool]) -> None:
        self.groups, self.fits = groups, fits

    def draw(self, seed: int) -> Drawn:
        """One case; only combinations that can be are drawn."""
        chance = random.Random(seed)
        for _ in range(10_000):
            case = {g: chance.choices(list(of), list(of.values()))[0] for g, of in self.groups.items()}
            if self.fits(case):
                return case
        raise ValueError("no case fits")

    def cover(self, many: int, first: int = 0) -> list[int]:
        """So many seeds, each the one of forty that brings most pairs that no other has brought."""
        met: set[frozenset[tuple[str, str]]] = set()
        chosen = []
        for at in range(many):
            block = range((first + at) * 40, (first + at) * 40 + 40)
            best = max(block, key=lambda seed: len(pairs(self.draw(seed)) - met))
            met |= pairs(self.draw(best))
            chosen.append(best)
        return chosen


def pairs(case: Drawn) -> set[frozenset[tuple[str, str]]]:
    """Every two features of a case."""
    return {frozenset(two) for two in combinations(sorted(case.items()), 2)}


def shrunk(case: Drawn, plain: Drawn, bad: Callable[[Drawn], bool]) -> Drawn:
    """The fewest features with which it is still bad: each is set back to the plain one, and kept back where it stays bad."""
    for group in sorted(case):
        if case[group] != plain[group]:
            fewer = case | {group: plain[group]}
            case = fewer if bad(fewer) else case
    return case


def odd(case: Drawn, plain: Drawn) -> str:
    """A case in one line: what is not plain about it."""
    return ", ".join(f"{group}: {what}" for group, what in case.items() if what != plain[group]) or "plain"


def table(outcomes: Iterable[tuple[int, str, str, str]]) -> str:
    """What came of each seed (seed, outcome, case, why), the worst last, and the counts."""
    rows = sorted(outcomes, key=lambda row: (OUTCOMES.index(row[1]), row[0]))
    counts = Counter(row[1] for row in rows)
    lines = [
        f"{seed:>6}  {outcome:<9} {case}\n        {why}" for seed, outcome, case, why in rows if outcome != "carried"
    ]
    return "\n".join([*lines, "", "  ".join(f"{name} {counts[name]}" for name in OUTCOMES)])
