"""Looking from outside by UDP: a few ports the trade manages by, each asked in its own words. Silence is not a
refusal: only the host's own "port unreachable" (RFC 792, RFC 4443) is."""

from __future__ import annotations

import asyncio
import contextlib
import struct

from yardbolt.core.ports import Datagrams, Seen

from .snmp import communities
from .udp import asked
from .words import line

TFTP, NTP, SNMP = 69, 123, 161
# A question of each protocol that changes nothing; an empty datagram where there is none: it only wakes a refusal.
PROBES: dict[int, tuple[str, bytes]] = {
    53: (
        "dns",
        b"\x1b\x7b\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\x01",
    ),  # RFC 1035: who serves the root
    67: ("dhcp", b""),
    TFTP: ("tftp", b"\x00\x01yard-bolt-asks\x00octet\x00"),  # RFC 1350: a file nobody has
    111: (
        "rpc",
        struct.pack(">10I", 0x1B7B, 0, 2, 100000, 2, 0, 0, 0, 0, 0),
    ),  # RFC 5531: the null call of the port mapper
    NTP: ("ntp", b"\x1b" + bytes(47)),  # RFC 5905: a client's question
    SNMP: ("snmp", b""),  # asked by its own protocol below
    514: ("syslog", b""),
    623: (
        "ipmi",
        b"\x06\x00\xff\x06\x00\x00\x00\x00\x00\x00\x00\x00\x00\x09\x20\x18\xc8\x81\x00\x38\x8e\x04\xb5",
    ),  # presence ping
    5353: (
        "mdns",
        b"\x00\x00\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x09_services\x07_dns-sd\x04_udp\x05local\x00\x00\x0c\x00\x01",
    ),
}


async def look(address: str, source: str) -> Datagrams:
    """What those ports do. Only a defect is raised."""
    results = await asyncio.gather(*(_port(address, port, source) for port in PROBES), return_exceptions=True)
    seen, refused, silent = list[Seen](), list[int](), list[int]()
    for port, result in zip(PROBES, results, strict=True):
        if isinstance(result, Seen):
            seen.append(result)
        elif isinstance(result, BaseException) and not isinstance(result, OSError):
            raise result
        elif result is None:
            refused.append(port)
        else:
            silent.append(port)
    return Datagrams(tuple(seen), tuple(refused), tuple(silent))


async def _port(address: str, port: int, source: str) -> Seen | str | None:
    speaks, send = PROBES[port]
    answer = await asked(address, port, source, send)
    if answer is None:
        return None
    if port == SNMP:
        return await communities(lambda send: asked(address, SNMP, source, send)) or "silent"
    if port == TFTP and not answer:
        answer = await asked(address, port, source, send, connected=False)
    if not answer:
        return "silent"
    told = {TFTP: _tftp, NTP: _ntp}.get(port)
    with contextlib.suppress(ValueError, IndexError):
        return Seen(port, speaks, told(answer) if told else "", transport="udp")
    return Seen(port, "unknown", line(answer), transport="udp")


def _tftp(answer: bytes) -> str:
    """An error says that it serves; data would be the file nobody has."""
    return f"answers: {line(answer[4:].rstrip(bytes(1)))}" if answer[:2] == b"\x00\x05" else "answers"


def _ntp(answer: bytes) -> str:
    if len(answer) < 48 or answer[0] & 7 != 4:
        raise ValueError("no answer of a server")
    return f"stratum {answer[1]}"
