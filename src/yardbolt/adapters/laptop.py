"""What the laptop itself can tell: which addresses it has, and the hardware address behind one on the same cable."""

from __future__ import annotations

import asyncio
import contextlib
import socket
from pathlib import Path

from yardbolt.core.errors import OperatorError

NEIGHBOURS = Path("/proc/net/arp")
UNKNOWN = "00:00:00:00:00:00"


def holds(address: str) -> bool:
    """Has the laptop this address, so that it can be met from there?"""
    try:
        with socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET) as probe:
            probe.bind((address, 0))
    except OSError:
        return False
    return True


def addresses_of(name: str) -> tuple[str, ...]:
    """The addresses of a name, at most one of each family. Raises OperatorError where there is none."""
    try:
        if not any(sign.isalpha() for sign in name):
            raise OSError  # 192.0.2 is an address cut short, and the system would complete it in its own way
        found = [str(row[4][0]) for row in socket.getaddrinfo(name, None, type=socket.SOCK_STREAM)]
        return tuple({":" in one: one for one in reversed(found)}.values())
    except OSError:
        raise OperatorError(
            f"found '{name}'; an address, or a name that has one, is wanted, such as 192.0.2.1"
        ) from None


async def neighbour(address: str) -> str:
    """The hardware address the laptop sees at an address of its own segment; nothing where it cannot tell (behind a
    gateway, on the loopback, without the system's neighbour table)."""
    if ":" in address:
        return await _neighbour6(address)
    with contextlib.suppress(OSError, UnicodeDecodeError):
        table = await asyncio.to_thread(NEIGHBOURS.read_text, "ascii")
        for line in table.splitlines()[1:]:
            words = line.split()
            if len(words) >= 4 and words[0] == address and words[3] != UNKNOWN:
                return words[3].lower()
    return ""


async def _neighbour6(address: str) -> str:
    """The same for IPv6 (RFC 4861), through ip(8)."""
    with contextlib.suppress(OSError, TimeoutError):
        asked = await asyncio.create_subprocess_exec(
            "ip",
            "-6",
            "neigh",
            "show",
            "to",
            address,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.DEVNULL,
        )
        said, _ = await asyncio.wait_for(asked.communicate(), 3)
        words = said.decode("ascii", "replace").split()
        if "lladdr" in words[:-1]:
            return words[words.index("lladdr") + 1].lower()
    return ""
