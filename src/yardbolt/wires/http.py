"""Logging in by HTTP (RFC 9110), Basic (RFC 7617) or Digest (RFC 7616), through httpx: one question without a login,
one with it. Nothing is followed, nothing is kept; a certificate is compared as soon as hands are shaken, before
anything is sent."""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import AsyncIterator, Iterator
from contextlib import contextmanager
from typing import Any

import httpcore
import httpx

from yardbolt.core.credentials import Credential
from yardbolt.core.doors import Door
from yardbolt.core.errors import clean
from yardbolt.core.talk.outcomes import Cut, End, Locked, Login, Lost, NoListener, Opened, Refused, Silent, Untried

from .foreign import meaning
from .hearing import CONNECT, Secrets, revealed
from .tls import Certificate, plain_context, takes_outdated
from .words import in_url

MOST_BYTES = 256 * 1024
SCHEMES = {"basic": httpx.BasicAuth, "digest": httpx.DigestAuth}


class Reaching(httpx.AsyncBaseTransport):
    """One unit, reached through httpcore. The connection that reached it is the first one used. Answers as they came,
    never unpacked, and only so much of each."""

    def __init__(self, door: Door, source: str, certificate: Certificate, outdated: bool = False) -> None:
        self.door, self.source, self.outdated = door, source or None, outdated
        self._sealed = plain_context(outdated) if door.scheme == "https" else None
        self._network = _Network(certificate)
        self._pool = httpcore.AsyncConnectionPool(
            ssl_context=self._sealed, local_address=self.source, network_backend=self._network
        )

    async def reach(self) -> None:
        """Connect, and shake hands where it is sealed; nothing is sent. Raises httpcore.ConnectTimeout and
        ConnectError, and IdentityError where another certificate is shown than the one noted."""
        stream = await self._network.connect_tcp(self.door.address, self.door.port, CONNECT, self.source)
        if self._sealed is not None:
            stream = _Shaken(await stream.start_tls(self._sealed, None, CONNECT))
        self._network.ready = stream

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
        if self._network.ready is not None:
            await self._network.ready.aclose()
        await self._pool.aclose()


class _Network(httpcore.AsyncNetworkBackend):
    """Connections to one unit, each of which compares the certificate before anything is sent by it. It gives away
    the one that is there already, once."""

    def __init__(self, certificate: Certificate) -> None:
        self._under, self._certificate = httpcore.AnyIOBackend(), certificate
        self.ready: httpcore.AsyncNetworkStream | None = None

    async def connect_tcp(self, *args: Any, **kwargs: Any) -> httpcore.AsyncNetworkStream:
        ready, self.ready = self.ready, None
        return ready or _Stream(await self._under.connect_tcp(*args, **kwargs), self._certificate)

    async def sleep(self, seconds: float) -> None:
        await self._under.sleep(seconds)


class _Stream(httpcore.AsyncNetworkStream):
    """A connection that has not shaken hands yet."""

    def __init__(self, under: httpcore.AsyncNetworkStream, certificate: Certificate) -> None:
        self._under, self._certificate = under, certificate

    async def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        return await self._under.read(max_bytes, timeout)

    async def write(self, buffer: bytes, timeout: float | None = None) -> None:
        await self._under.write(buffer, timeout)

    async def aclose(self) -> None:
        await self._under.aclose()

    def get_extra_info(self, info: str) -> Any:
        return self._under.get_extra_info(info)

    async def start_tls(
        self, ssl_context: ssl.SSLContext, server_hostname: str | None = None, timeout: float | None = None
    ) -> httpcore.AsyncNetworkStream:
        try:
            made = await self._under.start_tls(ssl_context, server_hostname, timeout)
        except BaseException:
            await self._under.aclose()
            raise
        try:
            self._certificate.meet(made.get_extra_info("ssl_object"))
        except BaseException:
            await made.aclose()
            raise
        return made


class _Shaken(_Stream):
    """A connection that has."""

    def __init__(self, under: httpcore.AsyncNetworkStream) -> None:
        self._under = under

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


async def reached(through: Reaching) -> Login:
    """Reach a door, and shake hands where it is sealed; nothing is sent. Raises IdentityError where what is shown is
    not what was noted."""
    door = through.door
    try:
        async with asyncio.timeout(CONNECT):
            await through.reach()
    except (httpcore.TimeoutException, TimeoutError):
        return Silent(False, "no answer in time")
    except (httpcore.NetworkError, OSError) as e:
        why = _beneath(e)
        if isinstance(why, ConnectionRefusedError):
            return NoListener("connection refused")
        current = isinstance(why, ssl.SSLError) and not through.outdated
        if current and await takes_outdated(door.address, door.port, through.source or "", CONNECT):
            return Cut(False, "it speaks outdated TLS alone; 'outdated: yes' in the job allows that for this unit")
        return Cut(False, meaning(why))
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
        self.fingerprint = ""

    async def open(self, door: Door, source: str, account: str, credential: Credential) -> Login:
        """Ask for the first page without a login, then with it. Raises IdentityError where the certificate is not the
        one noted."""
        certificate = Certificate(f"{door.address}:{door.port}", self._pin)
        try:
            return await self._open(Reaching(door, source, certificate, self._outdated), account, credential)
        finally:
            self.fingerprint = certificate.shown

    async def _open(self, through: Reaching, account: str, credential: Credential) -> Login:
        door = through.door
        url = f"{door.scheme}://{in_url(door.address)}:{door.port}/"
        sent = False
        try:
            async with (
                asyncio.timeout(CONNECT * 2),
                httpx.AsyncClient(transport=through, timeout=CONNECT, trust_env=False) as client,
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
            return NoListener("connection refused") if "refused" in str(e).lower() else Cut(sent, meaning(e))
        except (httpx.TimeoutException, TimeoutError):
            return Silent(sent, "no answer in time")
        except (httpx.HTTPError, ValueError, KeyError, NotImplementedError) as e:  # a challenge nobody can answer, too
            return Cut(sent, meaning(e))

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
    # only those it lets in learn that there is no such page
    if status < 400 or status in (404, 405, 406):
        return Opened(str(status))
    return Silent(True, f"it answers {status}, which does not tell")
