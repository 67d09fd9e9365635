"""SNMP from outside (RFC 1157, RFC 1901, RFC 3414): which communities everybody knows are answered, by which version,
and whether a user-based engine is there. A wrong community is only ever silence.

And one question as a user of ours. The messages are pysnmp's; for communities its engine is not used, for each one
reads all its tables of names."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any

from yardbolt.core.credentials import Credential
from yardbolt.core.doors import Door
from yardbolt.core.errors import clean
from yardbolt.core.ports import Seen
from yardbolt.core.talk.outcomes import Cut, End, Login, Lost, Opened, Refused, Silent

from .foreign import meaning
from .hearing import CONNECT, Secrets, revealed
from .udp import asked as asked_by_udp

PORT = 161
KNOWN = ("public", "private")
DESCRIPTION = (1, 3, 6, 1, 2, 1, 1, 1, 0)  # sysDescr (RFC 3418)
VERSIONS = {0: "1", 1: "2c"}
# the question by which an engine is found: reportable, without a user, about nothing (RFC 3414, section 4)
DISCOVERY = bytes.fromhex(
    "303e020103301102041b7b0001020300ffe30401040201030410300e0400020100020100040004000400"
    "301404000400a00e02041b7b00020201000201003000"
)
Ask = Callable[[bytes], Awaitable[bytes | None]]


async def communities(ask: Ask) -> Seen | None:
    """What answers; None where nothing does. `ask` sends a datagram to the port and gives the answer, empty or None
    where there is none."""
    asked = [(name, version) for name in KNOWN for version in VERSIONS]
    *answers, engine = await asyncio.gather(*(ask(_question(*one)) for one in asked), ask(DISCOVERY))
    told = [
        None if not answer else _description(answer, version)
        for answer, (_, version) in zip(answers, asked, strict=True)
    ]
    open_by = [
        f"{name} by version {VERSIONS[v]}" for (name, v), words in zip(asked, told, strict=True) if words is not None
    ]
    # an engine that knows no such user says so; only silence says nothing
    users = bool(engine) and b"\x02\x01\x03" in (engine or b"")[:8]
    if not open_by and not users:
        return None
    said = next((words for words in told if words), "")
    return Seen(PORT, "snmp", said, {"communities": open_by, "user-based": users}, "udp")


class SnmpUser:
    """One question as a user, sealed (RFC 7860, RFC 3826). The scheme `snmp-unsealed` asks as the same user without
    sealing, `snmp-community` by each community everybody knows. Of the secret itself nothing is sent."""

    authenticates = True
    fingerprint = ""

    def __init__(self, secrets: Secrets, pin: str = "", outdated: bool = False) -> None:
        self._secrets = secrets

    async def open(self, door: Door, source: str, account: str, credential: Credential) -> Login:
        """Ask, twice where nothing comes."""
        if door.scheme == "snmp-community":
            seen = await communities(lambda send: asked_by_udp(door.address, door.port, source, send))
            names = seen.details["communities"] if seen else []
            return Opened(", ".join(names)) if names else Silent(False, "no community was answered")
        from pysnmp.error import PySnmpError
        from pysnmp.hlapi.v3arch import asyncio as snmp

        phrase = revealed(credential.ref, self._secrets)
        sealed = {"privKey": phrase, "privProtocol": snmp.USM_PRIV_CFB128_AES} if door.scheme == "snmp" else {}
        target: Any = snmp.Udp6TransportTarget if ":" in door.address else snmp.UdpTransportTarget
        engine = snmp.SnmpEngine()
        try:
            user = snmp.UsmUserData(account, phrase, authProtocol=snmp.USM_AUTH_HMAC192_SHA256, **sealed)
            at = await target.create((door.address, door.port), timeout=2, retries=1)
            if source:
                at.set_local_address((source, 0))
            rows = snmp.ObjectType(snmp.ObjectIdentity(DESCRIPTION))
            async with asyncio.timeout(CONNECT):
                wrong, status, _, bound = await snmp.get_cmd(
                    engine, user, at, snmp.ContextData(), rows, lookupMib=False
                )
        except TimeoutError:
            return Silent(False, "no answer in time")
        except (PySnmpError, OSError, ValueError) as e:
            return Cut(False, meaning(e))
        finally:
            engine.close_dispatcher()
        if wrong is not None:
            silent = type(wrong).__name__ == "RequestTimedOut"
            return Silent(False, "no answer in time") if silent else Refused(clean(str(wrong))[:120])
        if status:
            return Refused(clean(status.prettyPrint())[:120])
        return Opened(clean(str(bound[0][1]))[:120] if bound else "")

    async def exchange(self, event: Any) -> Lost:
        """There is nothing to say after it."""
        return Lost(End.CLOSED)

    async def close(self) -> None:
        """Nothing stays open."""


def _question(community: str, version: int) -> bytes:
    from pyasn1.codec.ber import encoder
    from pysnmp.proto import api

    kind: Any = api.PROTOCOL_MODULES[version]
    asked, message = kind.GetRequestPDU(), kind.Message()
    kind.apiPDU.set_defaults(asked)
    kind.apiPDU.set_varbinds(asked, [(DESCRIPTION, kind.Null(""))])
    kind.apiMessage.set_defaults(message)
    kind.apiMessage.set_community(message, community)
    kind.apiMessage.set_pdu(message, asked)
    whole: bytes = encoder.encode(message)
    return whole


def _description(answer: bytes, version: int) -> str | None:
    """What it says of itself; None where that is no answer of SNMP."""
    from pyasn1.codec.ber import decoder
    from pyasn1.error import PyAsn1Error
    from pysnmp.proto import api

    kind: Any = api.PROTOCOL_MODULES[version]
    try:
        message, _ = decoder.decode(answer, asn1Spec=kind.Message())
        rows = kind.apiPDU.get_varbinds(kind.apiMessage.get_pdu(message))
        return clean(str(rows[0][1]))[:120] if rows else ""
    except (PyAsn1Error, ValueError, IndexError, RecursionError):
        return None
