"""Logging in by HTTP (RFC 9110), Basic (RFC 7617) or Digest (RFC 7616), through httpx: one question without a login, one
with it. Nothing is followed, nothing is kept; a certificate is compared inside the handshake, before anything is sent."""

from __future__ import annotations

import asyncio
import hashlib
import ssl
from collections.abc import AsyncIterator, Iterator
from contextlib import contextmanager
from typing import Any

import httpcore
import httpx

from yardbolt.core.credentials import Credential
from yardbolt.core.doors import Door
from yardbolt.core.errors import IdentityError, clean
from yardbolt.core.talk.outcomes import Cut, End, Locked, Login, Lost, NoListener, Opened, Refused, Silent, Untried

from .hearing import CONNECT, Secrets, revealed
from .tls import plain_context, takes_outdated
from .words import in_url

MOST_BYTES = 256 * 1024
SCHEMES = {"basic": httpx.BasicAuth, "digest": httpx.DigestAuth}


class _Changed(ssl.SSLError):
    """Another certificate than the one noted."""


def context(pin: str, met: list[str], outdated: bool = False) -> ssl.SSLContext:
    """What a TLS connection to a unit is made with: no authority vouches for a unit, the certificate noted for it does.
    The one it shows is put into `met`; another than `pin` ends the handshake."""

    class Compared(ssl.SSLObject):
        def do_handshake(self) -> None:
            super().do_handshake()
            shown = "SHA256:" + hashlib.sha256(self.getpeercert(True) or b"").hexdigest()
            met[:] = [shown]
            if pin and pin != shown:
                raise _Changed("another certificate than the one noted")

    made = plain_context(outdated)
    made.sslobject_class = Compared
    return made


def other_certificate(where: str, pin: str, met: list[str]) -> None:
    """Raises IdentityError where what was shown is not what was noted."""
    if pin and met and met != [pin]:
        raise IdentityError(
            f"{where} shows certificate {met[0]}, noted was {pin}; nothing was sent. "
            "If the change is meant, find out who made it, then 'yardbolt records forget-key UNIT'"
        ) from None


class Reaching(httpx.AsyncBaseTransport):
    """One unit, reached through httpcore. The connection that reached it is the first one used. Answers as they came, never
    unpacked, and only so much of each."""

    def __init__(self, verify: Any, source: str) -> None:
        self._verify, self._source = verify or None, source or None
        self._first = _First()
        self._pool = httpcore.AsyncConnectionPool(
            ssl_context=self._verify, local_address=self._source, network_backend=self._first
        )

    async def reach(self, door: Door) -> None:
        """Connect, and shake hands where it is sealed; nothing is sent. Raises httpcore.ConnectTimeout and ConnectError."""
        stream = await self._first.under.connect_tcp(door.address, door.port, CONNECT, self._source)
        if self._verify is not None:
            try:
                stream = _Shaken(await stream.start_tls(self._verify, None, CONNECT))
            except BaseException:
                await stream.aclose()
                raise
        self._first.ready = stream

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        url = httpcore.URL(
            scheme=request.url.raw_scheme, host=request.url.raw_host, port=request.url.port, target=request.url.raw_path
        )
        asked = httpcore.Request(
            request.method, url, headers=request.headers.raw, content=request.stream, extensions=request.extensions
        )
        with _as_httpx():
            got = await self._pool.handle_async_request(asked)
        kept = [(name, value) for name, value in got.headers if name.lower() != b"content-encoding"]
        return httpx.Response(got.status, headers=kept, stream=_Some(got.stream), extensions=got.extensions)

    async def aclose(self) -> None:
        if self._first.ready is not None:
            await self._first.ready.aclose()
        await self._pool.aclose()


class _First(httpcore.AsyncNetworkBackend):
    """Gives away the connection that is there already, once."""

    def __init__(self) -> None:
        self.under = httpcore.AnyIOBackend()
        self.ready: httpcore.AsyncNetworkStream | None = None

    async def connect_tcp(self, *args: Any, **kwargs: Any) -> httpcore.AsyncNetworkStream:
        ready, self.ready = self.ready, None
        return ready or await self.under.connect_tcp(*args, **kwargs)

    async def sleep(self, seconds: float) -> None:
        await self.under.sleep(seconds)


class _Shaken(httpcore.AsyncNetworkStream):
    """A connection that shook hands already."""

    def __init__(self, under: httpcore.AsyncNetworkStream) -> None:
        self._under = under
        self.read, self.write, self.aclose = under.read, under.write, under.aclose  # type: ignore[method-assign]
        self.get_extra_info = under.get_extra_info  # type: ignore[method-assign]

    async def start_tls(self, *args: Any, **kwargs: Any) -> httpcore.AsyncNetworkStream:
        return self._under


@contextmanager
def _as_httpx() -> Iterator[None]:
    """The errors of httpcore by the names httpx has for them."""
    try:
        yield
    except httpcore.TimeoutException as e:
        raise httpx.ReadTimeout(str(e)) from e
    except httpcore.ConnectError as e:
        raise httpx.ConnectError(str(e)) from e
    except (httpcore.NetworkError, httpcore.ProtocolError) as e:
        raise httpx.ReadError(str(e)) from e


async def reached(door: Door, through: Reaching, source: str, verify: Any, pin: str, met: list[str]) -> Login:
    """Reach a door, and shake hands where it is sealed; nothing is sent. Raises IdentityError where what is shown is not what
    was noted."""
    try:
        async with asyncio.timeout(CONNECT):
            await through.reach(door)
    except (httpcore.TimeoutException, TimeoutError):
        return Silent(False, "no answer in time")
    except (httpcore.NetworkError, OSError) as e:
        why = _beneath(e)
        if isinstance(why, ConnectionRefusedError):
            return NoListener("connection refused")
        other_certificate(f"{door.address}:{door.port}", pin, met)
        current = isinstance(verify, ssl.SSLContext) and verify.minimum_version != ssl.TLSVersion.TLSv1
        if isinstance(why, ssl.SSLError) and current and await takes_outdated(door.address, door.port, source, CONNECT):
            return Cut(False, "it speaks outdated TLS alone; 'outdated: yes' in the job allows that for this unit")
        return Cut(False, type(why).__name__)
    return Opened()


def _beneath(e: BaseException) -> BaseException:
    """What an error was made from in the end."""
    while e.__cause__ is not None:
        e = e.__cause__
    return e


class _Some(httpx.AsyncByteStream):
    def __init__(self, whole: Any) -> None:
        self._whole = whole

    async def __aiter__(self) -> AsyncIterator[bytes]:
        size = 0
        with _as_httpx():
            async for chunk in self._whole:
                size += len(chunk)
                if size > MOST_BYTES:
                    raise httpx.ReadError("more than the limit")
                yield chunk

    async def aclose(self) -> None:
        await self._whole.aclose()


class WebLogin:
    """One login by the scheme the server asks for."""

    authenticates = True

    def __init__(self, secrets: Secrets, pin: str, outdated: bool = False) -> None:
        self._secrets, self._pin, self._outdated = secrets, pin, outdated
        self._met: list[str] = []
        self.fingerprint = ""

    async def open(self, door: Door, source: str, account: str, credential: Credential) -> Login:
        """Ask for the first page without a login, then with it. Raises IdentityError where the certificate is not the one
        noted."""
        try:
            return await self._open(door, source, account, credential)
        finally:
            self.fingerprint = next(iter(self._met), "")

    async def _open(self, door: Door, source: str, account: str, credential: Credential) -> Login:
        url = f"{door.scheme}://{in_url(door.address)}:{door.port}/"
        verify: Any = context(self._pin, self._met, self._outdated) if door.scheme == "https" else False
        transport = Reaching(verify, source)
        sent = False
        try:
            async with (
                asyncio.timeout(CONNECT * 2),
                httpx.AsyncClient(transport=transport, timeout=CONNECT, trust_env=False) as client,
            ):
                asked, scheme = await _status(client, url, None)
                if asked != 401:
                    return Untried(f"its first page asks for no login ({asked})")
                if scheme not in SCHEMES:
                    return Untried(f"it asks for a login by {scheme[:20] or 'no scheme'}, which is not known")
                sent = True
                auth = SCHEMES[scheme](account, revealed(credential.ref, self._secrets))
                return _told((await _status(client, url, auth))[0])
        except httpx.ConnectError as e:
            other_certificate(f"{door.address}:{door.port}", self._pin, self._met)
            return NoListener("connection refused") if "refused" in str(e).lower() else Cut(sent, type(e).__name__)
        except (httpx.TimeoutException, TimeoutError):
            return Silent(sent, "no answer in time")
        except (httpx.HTTPError, ValueError, KeyError, NotImplementedError) as e:  # a challenge nobody can answer, too
            return Cut(sent, type(e).__name__)

    async def exchange(self, event: Any) -> Lost:
        """There is nothing to say after a login."""
        return Lost(End.CLOSED)

    async def close(self) -> None:
        """Nothing is kept open."""


async def _status(client: httpx.AsyncClient, url: str, auth: httpx.Auth | None) -> tuple[int, str]:
    """The status of the first page, and the scheme of login it asks for; its body is not read."""
    async with client.stream("GET", url, auth=auth) as answer:
        named = [clean(one).strip().lower() for one in answer.headers.get_list("www-authenticate")]
        schemes = [one.split()[0] for one in named if one]
        known = next((one for one in ("digest", "basic") if one in schemes), "")
        return answer.status_code, known or next(iter(schemes), "")


def _told(status: int) -> Login:
    """What the answer to a login means (RFC 9110, section 15), where without one the same page is refused by 401."""
    if status == 401:
        return Refused("401")
    if status in (423, 429):
        return Locked(str(status))
    # that there is no such page is told to whom it lets in
    if status < 400 or status in (404, 405, 406):
        return Opened(str(status))
    return Silent(True, f"it answers {status}, which does not tell")
