"""Addresses cut into pieces wherever one of many sets begins or ends, so that each of those sets, and whatever they meet in,
is one number with a bit for each piece: ten thousand rules cost little more than one look at each."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable

from ..addresses import ALL_FOUR, ALL_SIX, AddressSet, Runs, number_of


class Pieces:
    """The cuts of both address families; pieces are counted from the lowest IPv4 to the highest IPv6 address."""

    def __init__(self, sets: Iterable[AddressSet]) -> None:
        four, six = {0}, {0}
        for one in sets:
            for first, last in one.four:
                four |= {first, last + 1}
            for first, last in one.six:
                six |= {first, last + 1}
        self.four = sorted(cut for cut in four if cut <= ALL_FOUR[0][1])
        self.six = sorted(cut for cut in six if cut <= ALL_SIX[0][1])
        self.everybody = (1 << (len(self.four) + len(self.six))) - 1

    def bits(self, one: AddressSet) -> int:
        """A set as a number; its ends must be among the cuts."""
        found = 0
        for runs, cuts, base in ((one.four, self.four, 0), (one.six, self.six, len(self.four))):
            for first, last in runs:
                low, high = bisect_left(cuts, first), bisect_left(cuts, last + 1)
                found |= ((1 << (high - low)) - 1) << (base + low)
        return found

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


def _runs(bits: int, cuts: list[int], highest: int) -> Runs:
    out = []
    at = 0
    while bits:
        skip = (bits & -bits).bit_length() - 1
        bits >>= skip
        length = (~bits & (bits + 1)).bit_length() - 1
        bits >>= length
        first, end = at + skip, at + skip + length
        out.append((cuts[first], cuts[end] - 1 if end < len(cuts) else highest))
        at = end
    return tuple(out)
