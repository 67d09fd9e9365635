"""Drawing: one feature of each group, so that soon every two of them have met; and the table of what came of it."""

from __future__ import annotations

import os
import random
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import ProcessPoolExecutor, as_completed
from itertools import combinations
from multiprocessing import get_context
from pathlib import Path
from typing import Any

Drawn = dict[str, str]  # group -> the feature drawn from it
OUTCOMES = ("carried", "told", "stuck", "false", "locked out", "not begun")


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
    """The fewest features with which it is still bad: each is set back to the plain one, and kept back where it stays
    bad."""
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


def wrong_of(sheet: Any) -> str:
    """All that a sheet says is not as it should be."""
    left = sheet.get("left", {})
    findings = [" ".join(map(str, one.values())) for one in left.get("findings", ()) if one["state"] != "holds"]
    proofs = [f"{one['text']}: {one['saw']}" for one in sheet.get("proofs", ()) if one["result"] != "holds"]
    return "\n".join([*findings, *proofs, *sheet.get("owed", ()), *sheet.get("unplanned", ())])


Tried = tuple[str, str, float]


def in_a_folder(
    carried: Callable[[Drawn, int, Path], tuple[str, str]],
    kept: Iterable[str],
    case: Drawn,
    number: int,
    keep: str = "",
) -> Tried:
    """One case in a folder of its own: outcome, why, seconds; so much of the folder is kept."""
    began = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="variety-") as folder:
        try:
            outcome, why = carried(case, number, Path(folder))
        except Exception as e:
            outcome, why = "not begun", f"{type(e).__name__}: {str(e)[-300:]}"
        for name in kept if keep else ():
            if (Path(folder) / name).exists():
                Path(keep).mkdir(parents=True, exist_ok=True)
                (Path(keep) / name.replace("/", "-")).write_bytes((Path(folder) / name).read_bytes())
    return outcome, why, time.monotonic() - began


class Sweep:
    """A sweep over drawn cases, as the command line says it. `tried` is a function of a module, for it runs in other
    processes."""

    def __init__(
        self, name: str, draws: Draws, tried: Callable[[Drawn, int, str], Tried], many: int, at_once: int
    ) -> None:
        self.keep = Path(os.environ.get("VARIETY", Path(tempfile.gettempdir(), name)))
        self.draws, self.tried, self.many, self.at_once = draws, tried, many, at_once
        self.plain = {group: next(iter(of)) for group, of in draws.groups.items()}

    def main(self, arguments: list[str]) -> int:
        """`MANY FIRST AT_ONCE`, `seeds SEED...` or `shrink SEED`; 1 where one was neither carried nor told."""
        if arguments and arguments[0] == "shrink":
            return self.shrink(int(arguments[1]))
        if arguments and arguments[0] == "seeds":
            return self.run([int(one) for one in arguments[1:]], self.at_once)
        many, first, at_once = (*map(int, arguments), *(self.many, 0, self.at_once)[len(arguments) :])
        return self.run(self.draws.cover(many, first), at_once)

    def shrink(self, seed: int) -> int:
        case = self.draws.draw(seed)
        outcome = self.tried(case, seed, "")[0]
        case = shrunk(
            case, self.plain, lambda fewer: self.draws.fits(fewer) and self.tried(fewer, seed, "")[0] == outcome
        )
        print("fewest:", odd(case, self.plain), *self.tried(case, seed, str(self.keep / f"{seed}-shrunk"))[:2])
        return 0

    def run(self, seeds: list[int], at_once: int) -> int:
        rows = []
        with ProcessPoolExecutor(at_once, get_context("spawn"), max_tasks_per_child=1) as pool:
            begun = {
                pool.submit(self.tried, self.draws.draw(seed), seed, str(self.keep / str(seed))): seed for seed in seeds
            }
            for done in as_completed(begun):
                seed, (outcome, why, seconds) = begun[done], done.result()
                case = odd(self.draws.draw(seed), self.plain)
                print(f"{seed} {outcome} in {seconds:.0f} s: {case}\n    {why}", flush=True)
                rows.append((seed, outcome, case, why))
        print(table(rows))
        return int(any(outcome not in ("carried", "told") for _, outcome, _, _ in rows))
