"""Sets of IPv4 and IPv6 addresses, told as minimal CIDR blocks (RFC 4632, RFC 4291).

A set is a value: `ANYONE`, `NOBODY`, or anything between. What an *empty list* means on a unit is the business of its
family; here an empty set is nobody. Inside it is runs of numbers, sorted and apart, so that sets meet in one pass.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from ipaddress import (
    IPv4Address,
    IPv4Network,
    IPv6Address,
    IPv6Network,
    ip_address,
    ip_network,
    summarize_address_range,
)

Network = IPv4Network | IPv6Network
Run = tuple[int, int]  # first and last address, both inside
Runs = tuple[Run, ...]
ALL_FOUR: Runs = ((0, 2**32 - 1),)
ALL_SIX: Runs = ((0, 2**128 - 1),)


def by_family(address: str) -> str:
    """The family of an address, in words."""
    return "IPv6" if ":" in address else "IPv4"


def is_address(text: str) -> bool:
    """Is it one whole address, IPv4 or IPv6?"""
    try:
        ip_address(text)
    except ValueError:
        return False
    return True


def strict_networks(text: str) -> tuple[Network, ...]:
    """`192.0.2.1`, `192.0.2.0/24`, `192.0.2.0/255.255.255.0`, `192.0.2.5-192.0.2.9`, IPv6 alike; nothing is repaired
    silently.

    Raises ValueError with the reason: wrong number of parts, mask not contiguous, host bits set, range reversed.
    """
    text = text.strip()
    if "-" in text:
        first, last = (ip_address(end.strip()) for end in text.split("-", 1))
        if isinstance(first, IPv4Address) and isinstance(last, IPv4Address):
            return tuple(summarize_address_range(first, last))
        if isinstance(first, IPv6Address) and isinstance(last, IPv6Address):
            return tuple(summarize_address_range(first, last))
        raise ValueError(f"{text}: the ends are of different address families")
    return (ip_network(text, strict=True),)


def _merged(runs: Iterable[Run]) -> Runs:
    """Sorted, with runs that touch or overlap joined."""
    out: list[Run] = []
    for first, last in sorted(runs):
        if out and first <= out[-1][1] + 1:
            out[-1] = (out[-1][0], max(out[-1][1], last))
        else:
            out.append((first, last))
    return tuple(out)


def _common(one: Runs, other: Runs) -> Runs:
    out, here, there = [], 0, 0
    while here < len(one) and there < len(other):
        first, last = max(one[here][0], other[there][0]), min(one[here][1], other[there][1])
        if first <= last:
            out.append((first, last))
        if one[here][1] < other[there][1]:
            here += 1
        else:
            there += 1
    return tuple(out)


def _less(one: Runs, cut: Runs) -> Iterator[Run]:
    at = 0
    for first, last in one:
        while at < len(cut) and cut[at][1] < first:
            at += 1
        for place in range(at, len(cut)):
            low, high = cut[place]
            if low > last:
                break
            if low > first:
                yield first, low - 1
            first = high + 1
            if first > last:
                break
        if first <= last:
            yield first, last


@lru_cache(maxsize=4096)
def number_of(address: str) -> tuple[int, int]:
    """Version and number of an address. Raises ValueError."""
    got = ip_address(address)
    return got.version, int(got)


@lru_cache(maxsize=1024)
def _blocks(four: Runs, six: Runs) -> tuple[Network, ...]:
    blocks: list[Network] = []
    for first, last in four:
        blocks += summarize_address_range(IPv4Address(first), IPv4Address(last))
    for first, last in six:
        blocks += summarize_address_range(IPv6Address(first), IPv6Address(last))
    return tuple(blocks)


@dataclass(frozen=True)
class AddressSet:
    """A set of addresses, as sorted runs of each family; equal sets are equal values."""

    four: Runs = ()
    six: Runs = ()

    @classmethod
    def of(cls, *texts: str) -> AddressSet:
        """From single addresses, ranges and subnets. Raises ValueError as `strict_networks` does."""
        nets = [net for text in texts for net in strict_networks(text)]
        runs: dict[int, list[Run]] = {4: [], 6: []}
        for net in nets:
            runs[net.version].append((int(net.network_address), int(net.broadcast_address)))
        return cls(_merged(runs[4]), _merged(runs[6]))

    @property
    def nets(self) -> tuple[Network, ...]:
        """The set as the fewest CIDR blocks, IPv4 first."""
        return _blocks(self.four, self.six)

    def __contains__(self, address: str) -> bool:
        version, number = number_of(address)
        return any(first <= number <= last for first, last in (self.four if version == 4 else self.six))

    def __or__(self, other: AddressSet) -> AddressSet:
        return AddressSet(_merged((*self.four, *other.four)), _merged((*self.six, *other.six)))

    def __sub__(self, other: AddressSet) -> AddressSet:
        return AddressSet(tuple(_less(self.four, other.four)), tuple(_less(self.six, other.six)))

    def __and__(self, other: AddressSet) -> AddressSet:
        return AddressSet(_common(self.four, other.four), _common(self.six, other.six))

    def __le__(self, other: AddressSet) -> bool:
        return not (self - other)

    def __bool__(self) -> bool:
        return bool(self.four or self.six)

    def count(self) -> int:
        """How many addresses the set holds."""
        return sum(last - first + 1 for first, last in (*self.four, *self.six))

    def texts(self) -> tuple[str, ...]:
        """Each block as the trade writes it: a single host without its prefix length."""
        return tuple(str(net.network_address) if net.num_addresses == 1 else str(net) for net in self.nets)

    def __str__(self) -> str:
        return "anyone" if self == ANYONE else ", ".join(self.texts()) or "nobody"


NOBODY = AddressSet()
FOUR, SIX = AddressSet(four=ALL_FOUR), AddressSet(six=ALL_SIX)
ANYONE = AddressSet(ALL_FOUR, ALL_SIX)
