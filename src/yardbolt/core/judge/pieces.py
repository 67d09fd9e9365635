"""Addresses cut into pieces wherever one of many sets begins or ends, so that each of those sets, and whatever they
meet in, is one number with a bit for each piece: ten thousand rules cost little more than one look at each."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator

from ..addresses import ALL_FOUR, ALL_SIX, AddressSet, Run, Runs, number_of


class Pieces:
    """The cuts of both address families; pieces are counted from the lowest IPv4 to the highest IPv6 address."""

    def __init__(self, sets: Iterable[AddressSet]) -> None:
        held = [*sets]
        self.four = _cuts([run for one in held for run in one.four], ALL_FOUR)
        self.six = _cuts([run for one in held if one.six for run in one.six], ALL_SIX)
        split = len(self.four)
        self.at_four = dict(zip(self.four, range(split), strict=True))
        self.at_six = dict(zip(self.six, range(split, split + len(self.six)), strict=True))
        self.everybody = (1 << (len(self.four) + len(self.six))) - 1

    def bits(self, one: AddressSet) -> int:
        """A set as a number; its ends must be among the cuts."""
        found = 0
        for low, high in self._spans(one):
            found |= ((1 << (high - low)) - 1) << low
        return found

    def _spans(self, one: AddressSet) -> Iterator[tuple[int, int]]:
        """The pieces of a set: from the first to before the last, for each run of it."""
        split, end = len(self.four), len(self.four) + len(self.six)
        for first, last in one.four:
            yield self.at_four[first], self.at_four.get(last + 1, split)
        for first, last in one.six:
            yield self.at_six[first], self.at_six.get(last + 1, end)

    def first_of(self, sets: Iterable[AddressSet], here: int) -> Iterator[list[int]]:
        """For each set in turn the places of the pieces of `here` that none before it holds. Each piece is met once: a
        table leads from any place to the next one that is still free."""
        end = len(self.four) + len(self.six)
        free = list(range(end + 1))
        if here != self.everybody:
            for place in range(end - 1, -1, -1):
                if not here >> place & 1:
                    free[place] = free[place + 1]
        at_four, split = self.at_four, len(self.four)
        for one in sets:
            got = []
            if len(one.four) == 1 and not one.six:  # what most are
                first, last = one.four[0]
                spans = [(at_four[first], at_four.get(last + 1, split))]
            else:
                spans = [*self._spans(one)]
            for place, high in spans:
                while True:
                    while free[place] != place:
                        free[place] = place = free[free[place]]
                    if place >= high:
                        break
                    got.append(place)
                    free[place] = place = place + 1
            yield got

    def bits_of(self, places: Iterable[int]) -> int:
        """Places of pieces as a number."""
        marks = bytearray(b"0") * (len(self.four) + len(self.six))
        for place in places:
            marks[place] = 49
        marks.reverse()
        return int(marks, 2)

    def piece(self, address: str) -> int:
        """The piece an address lies in, as a number with one bit."""
        version, number = number_of(address)
        cuts, base = (self.four, 0) if version == 4 else (self.six, len(self.four))
        return 1 << (base + bisect_right(cuts, number) - 1)

    def set_of(self, bits: int) -> AddressSet:
        """A number as the set it stands for."""
        split = len(self.four)
        four, six = bits & ((1 << split) - 1), bits >> split
        return AddressSet(_runs(four, self.four, ALL_FOUR[0][1]), _runs(six, self.six, ALL_SIX[0][1]))


def _cuts(runs: list[Run], whole: Runs) -> list[int]:
    """Where any run begins, or the first address behind it."""
    cuts = {0, *(first for first, _ in runs), *(last + 1 for _, last in runs)}
    cuts.discard(whole[0][1] + 1)
    return sorted(cuts)


def _runs(bits: int, cuts: list[int], highest: int) -> Runs:
    marks, out, at = f"{bits:b}"[::-1], [], 0
    while (at := marks.find("1", at)) >= 0:
        end = marks.find("0", at)
        end = len(marks) if end < 0 else end
        out.append((cuts[at], cuts[end] - 1 if end < len(cuts) else highest))
        at = end
    return tuple(out)
