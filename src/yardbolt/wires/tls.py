"""TLS as it is spoken to units, for which no authority vouches."""

from __future__ import annotations

import asyncio
import hashlib
import ssl
import warnings
from dataclasses import dataclass

from yardbolt.core.errors import IdentityError

Streams = tuple[asyncio.StreamReader, asyncio.StreamWriter]


@dataclass
class Certificate:
    """The certificate of one unit: the one noted for it or, before any is, the first one met in this session. Once
    noted it stays so, whatever is shown later; `shown` is what was shown last."""

    where: str = ""
    noted: str = ""
    shown: str = ""

    def meet(self, connection: ssl.SSLObject | ssl.SSLSocket) -> None:
        """Compare what a connection that just shook hands shows, before anything is sent by it. Raises
        IdentityError."""
        self.shown = "SHA256:" + hashlib.sha256(connection.getpeercert(True) or b"").hexdigest()
        self.noted = self.noted or self.shown
        if self.shown != self.noted:
            raise IdentityError(
                f"{self.where} shows certificate {self.shown}, noted was {self.noted}; nothing was sent to it. "
                "If the change is meant, find out who made it, then 'yardbolt records forget-key UNIT'"
            )


def plain_context(outdated: bool = False, only: bool = False) -> ssl.SSLContext:
    """What a TLS connection is made with that trusts nobody; `outdated` takes what RFC 8996 has put away too, and
    `only` nothing but that."""
    made = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    made.check_hostname, made.verify_mode = False, ssl.CERT_NONE
    if outdated or only:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)
            made.minimum_version = ssl.TLSVersion.TLSv1
            if only:
                made.maximum_version = ssl.TLSVersion.TLSv1_1
        made.set_ciphers("ALL:@SECLEVEL=0")
    return made


async def shaken(address: str, port: int, source: str, made: ssl.SSLContext, seconds: float) -> Streams | Exception:
    """A connection that shook hands, or why it did not; nothing is sent. An `ssl.SSLError` is a no of the unit's
    own."""
    try:
        async with asyncio.timeout(seconds):
            return await asyncio.open_connection(
                address, port, ssl=made, local_addr=(source, 0) if source else None, server_hostname=""
            )
    except (OSError, TimeoutError, ValueError) as e:
        return e


async def takes_outdated(address: str, port: int, source: str, seconds: float) -> bool | None:
    """Does it accept TLS versions that RFC 8996 deprecates? No only where it answers with the alert that RFC 5246 (E.1)
    has for this, or hangs up on it and shakes hands by what is current right after. None where it answers otherwise,
    or not at all: it may know ciphers only that this laptop has no longer."""
    got = await shaken(address, port, source, plain_context(only=True), seconds)
    if isinstance(got, ConnectionResetError | ssl.SSLEOFError):
        control = await shaken(address, port, source, plain_context(), seconds)
        if isinstance(control, Exception):
            return None
        control[1].transport.abort()
        return False
    if isinstance(got, Exception):
        return False if isinstance(got, ssl.SSLError) and got.reason == "TLSV1_ALERT_PROTOCOL_VERSION" else None
    got[1].transport.abort()
    return True
