"""Sets of IPv4 and IPv6 addresses, kept minimal as CIDR blocks (RFC 4632, RFC 4291).

A set is a value: `ANYONE`, `NOBODY`, or anything between. What an *empty list* means on a unit is the business of its family;
here an empty set is nobody.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from ipaddress import (
    IPv4Address,
    IPv4Network,
    IPv6Address,
    IPv6Network,
    collapse_addresses,
    ip_address,
    ip_network,
    summarize_address_range,
)

Network = IPv4Network | IPv6Network
Address = IPv4Address | IPv6Address


def _both(nets: Iterable[Network]) -> tuple[Network, ...]:
    got = tuple(nets)
    four = collapse_addresses(n for n in got if isinstance(n, IPv4Network))
    six = collapse_addresses(n for n in got if isinstance(n, IPv6Network))
    return (*four, *six)


def strict_networks(text: str) -> tuple[Network, ...]:
    """`192.0.2.1`, `192.0.2.0/24`, `192.0.2.0/255.255.255.0`, `192.0.2.5-192.0.2.9`, IPv6 alike; nothing is repaired silently.

    Raises ValueError with the reason: wrong number of parts, mask not contiguous, host bits set, range reversed.
    """
    text = text.strip()
    if "-" in text:
        first, last = (ip_address(t.strip()) for t in text.split("-", 1))
        if first.version != last.version:
            raise ValueError(f"{text}: the ends are of different address families")
        if isinstance(first, IPv4Address) and isinstance(last, IPv4Address):
            return tuple(summarize_address_range(first, last))
        if isinstance(first, IPv6Address) and isinstance(last, IPv6Address):
            return tuple(summarize_address_range(first, last))
    return (ip_network(text, strict=True),)


@dataclass(frozen=True)
class AddressSet:
    """A set of addresses. `nets` is minimal and sorted, so equal sets are equal values."""

    nets: tuple[Network, ...] = ()

    @classmethod
    def of(cls, *texts: str) -> AddressSet:
        """From single addresses, ranges and subnets. Raises ValueError as `strict_networks` does."""
        return cls(_both(n for t in texts for n in strict_networks(t)))

    def __contains__(self, address: str) -> bool:
        a = ip_address(address)
        return any(a in n for n in self.nets if n.version == a.version)

    def __or__(self, other: AddressSet) -> AddressSet:
        return AddressSet(_both(self.nets + other.nets))

    def __sub__(self, other: AddressSet) -> AddressSet:
        left = list(self.nets)
        for cut in other.nets:
            left = [piece for n in left for piece in _without(n, cut)]
        return AddressSet(_both(left))

    def __and__(self, other: AddressSet) -> AddressSet:
        return AddressSet(
            _both(
                a if _within(a, b) else b
                for a in self.nets
                for b in other.nets
                if a.version == b.version and a.overlaps(b)
            )
        )

    def __le__(self, other: AddressSet) -> bool:
        return not (self - other).nets

    def __bool__(self) -> bool:
        return bool(self.nets)

    def count(self) -> int:
        """How many addresses the set holds."""
        return sum(n.num_addresses for n in self.nets)

    def texts(self) -> tuple[str, ...]:
        """Each block as the trade writes it: a single host without its prefix length."""
        return tuple(str(n.network_address) if n.num_addresses == 1 else str(n) for n in self.nets)

    def __str__(self) -> str:
        if self == ANYONE:
            return "anyone"
        return ", ".join(self.texts()) or "nobody"


def _within(a: Network, b: Network) -> bool:
    return b.prefixlen <= a.prefixlen


def _without(net: Network, cut: Network) -> Iterator[Network]:
    if net.version != cut.version or not net.overlaps(cut):
        yield net
    elif not _within(net, cut):
        yield from net.address_exclude(cut)  # type: ignore[arg-type]  # the versions are equal, checked above


NOBODY = AddressSet()
ANYONE = AddressSet.of("0.0.0.0/0", "::/0")
