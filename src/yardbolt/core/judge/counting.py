"""One count of findings for the screen, the board, the sheet and JSON: one thing to fix is one finding, however many
accounts or services show it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import NamedTuple

SEVERITIES = ("critical", "high", "medium", "low")
# what the second rule says of a subject follows from what the first one says of it
FOLLOWS = {"weak-password": "factory-login", "needed-services": "plain-service"}


class Counted(NamedTuple):
    """What counts of a finding. `about` is the account, service or group of settings."""

    rule: str
    number: int
    title: str
    severity: str
    state: str
    about: str


@dataclass(frozen=True)
class Count:
    """How many findings of each severity fail, how many rules hold of everything they are about, and how many could
    not be judged of something."""

    fails: Mapping[str, int]
    holds: int
    unknown: int

    @property
    def failing(self) -> int:
        """How many fail in all."""
        return sum(self.fails.values())

    def in_words(self, inside: bool = True) -> str:
        """`unsafe: 2 critical, 1 high`; `nothing fails, 3 not judged`; `nothing fails`. Not `inside`: the settings
        were not read."""
        if self.failing:
            return f"unsafe: {', '.join(f'{count} {severity}' for severity, count in self.fails.items())}"
        return f"nothing fails, {self.unknown} not judged" if self.unknown or not inside else "nothing fails"

    def as_tree(self) -> Mapping[str, int]:
        """For JSON: severities that fail, then `holds` and `not judged`."""
        return {**self.fails, "holds": self.holds, "not judged": self.unknown}


def leading(fails: Iterable[Counted]) -> frozenset[Counted]:
    """Those that do not follow from another one about the same."""
    every = frozenset(fails)
    found = {(one.rule, one.about) for one in every}
    return frozenset(one for one in every if (FOLLOWS.get(one.rule), one.about) not in found)


def count(rows: Iterable[Counted]) -> Count:
    """Count findings."""
    every = tuple(rows)
    fails = {(one.severity, one.number) for one in leading(one for one in every if one.state == "fails")}
    found = {severity: sum(one == severity for one, _ in fails) for severity in SEVERITIES}
    by_state: dict[str, set[str]] = {}
    for one in every:
        by_state.setdefault(one.state, set()).add(one.rule)
    unknown = by_state.get("unknown", set())
    holds = by_state.get("holds", set()) - unknown - by_state.get("fails", set())
    return Count({severity: many for severity, many in found.items() if many}, len(holds), len(unknown))
