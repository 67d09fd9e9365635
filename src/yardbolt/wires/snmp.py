"""SNMP from outside (RFC 1157, RFC 1901, RFC 3414), through pysnmp: which communities everybody knows are answered, by which
version, and whether a user-based engine is there. A wrong community is only ever silence."""

from __future__ import annotations

import asyncio
from typing import Any

from yardbolt.core.errors import clean
from yardbolt.core.ports import Seen

PORT, WAIT = 161, 1.0
KNOWN = ("public", "private")
DESCRIPTION = "1.3.6.1.2.1.1.1.0"  # sysDescr (RFC 3418)
VERSIONS = {0: "1", 1: "2c"}


async def communities(address: str, source: str) -> Seen | None:
    """What answers; None where nothing does. Never raises."""
    from pysnmp.error import PySnmpError
    from pysnmp.hlapi.v3arch.asyncio import CommunityData, SnmpEngine, UsmUserData

    engine = SnmpEngine()
    asked = [(community, version) for community in KNOWN for version in VERSIONS]
    who = [CommunityData(community, mpModel=version) for community, version in asked]
    try:
        *answers, (problem, _) = await asyncio.gather(
            *(_get(engine, one, address, source) for one in who),
            _get(engine, UsmUserData("yard-bolt-asks"), address, source),  # noqa: S509  # only the engine is wanted
        )
    except (PySnmpError, OSError):
        return None
    finally:
        engine.close_dispatcher()
    open_by = [
        f"{name} by version {VERSIONS[v]}" for (name, v), (no, _) in zip(asked, answers, strict=True) if no is None
    ]
    said = next((words for no, words in answers if no is None), "")
    # an engine that knows no such user says so; only silence says nothing
    users = problem is not None and "timeout" not in str(problem).lower()
    if not open_by and not users:
        return None
    return Seen(PORT, "snmp", said, {"communities": open_by, "user-based": users}, "udp")


async def _get(engine: Any, who: Any, address: str, source: str) -> tuple[Any, str]:
    """One question; the problem, or None and the description."""
    from pysnmp.hlapi.v3arch.asyncio import (
        ContextData,
        Udp6TransportTarget,
        UdpTransportTarget,
        get_cmd,
    )
    from pysnmp.proto.rfc1902 import Null, ObjectName

    kind = Udp6TransportTarget if ":" in address else UdpTransportTarget
    target = await kind.create((address, PORT), timeout=WAIT, retries=1)
    if source:
        target.set_local_address((source, 0))
    # without its tables of names: loading them would take longer than the answer may
    asked = (ObjectName(DESCRIPTION), Null(""))
    problem, status, _, rows = await get_cmd(engine, who, target, ContextData(), asked, lookupMib=False)
    words = clean(str(rows[0][1]))[:120] if rows and not problem and not status else ""
    return problem, words
