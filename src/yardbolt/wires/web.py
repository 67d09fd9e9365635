"""What wires over HTTP (RFC 9110) have in common, through httpx: one unit, its certificate compared as soon as hands
are shaken, before anything is sent; nothing unpacked, so much and no more; the login told once for the session."""

from __future__ import annotations

import hmac
from collections.abc import Callable
from functools import partial

import httpx

from yardbolt.core.credentials import Credential
from yardbolt.core.doors import Door
from yardbolt.core.errors import clean
from yardbolt.core.secret import Ref
from yardbolt.core.talk.conversation import ANSWER
from yardbolt.core.talk.outcomes import End, Login, Lost

from .foreign import meaning
from .hearing import Secrets, revealed
from .http import SCHEMES, Reaching, reached
from .tls import Certificate
from .words import in_url

LONGEST_COOKIE = 400


def cookies(got: httpx.Response) -> dict[str, str]:
    """The cookies an answer sets: a name and a value, whatever else they say."""
    told = [value.decode("latin-1") for name, value in got.headers.raw if name.lower() == b"set-cookie"]
    lines = [line.partition(";")[0].partition("=") for line in told]
    return {name.strip(): clean(value.strip())[:LONGEST_COOKIE] for name, _, value in lines if name.strip()}


def _as_it_came(text: str) -> bytes:
    """A header, octet by octet as it came (RFC 9110, section 5.5), also where a unit gives what no header should
    hold."""
    try:
        return text.encode("latin-1")
    except UnicodeEncodeError:
        return text.encode()


def keyed(ref: Ref, secrets: Secrets, said: str) -> str:
    """The keyed digest of what was said, under a secret (RFC 2104, SHA-256), as hexadecimal."""
    return hmac.new(revealed(ref, secrets).encode(), said.encode(), "sha256").hexdigest()


class WebWire:
    """One connection to one unit; `accepts` is what it is asked for."""

    authenticates = False
    accepts = "*/*"

    def __init__(self, secrets: Secrets, pin: str, outdated: bool = False) -> None:
        self._secrets, self._pin, self._outdated = secrets, pin, outdated
        self._auth: httpx.Auth | None = None
        self._certificate = Certificate(noted=pin)
        self._through: Callable[[], Reaching]
        self._base = ""
        self._client: httpx.AsyncClient | None = None
        self.fingerprint = ""

    async def open(self, door: Door, source: str, account: str, credential: Credential) -> Login:
        """Reach it, and compare its certificate, before anything is sent. Raises IdentityError where it is not the one
        noted."""
        self._base = f"{door.scheme}://{in_url(door.address)}:{door.port}"
        self._certificate.where = f"{door.address}:{door.port}"
        self._through = partial(Reaching, door, source, self._certificate, self._outdated)
        through = self._through()
        self._client = self._fresh(through)
        try:
            return await reached(through)
        finally:
            self.fingerprint = self._certificate.shown

    def _fresh(self, through: Reaching) -> httpx.AsyncClient:
        """A client that has no connection but what it is given."""
        headers = {"Accept": self.accepts, "Accept-Encoding": "identity", "User-Agent": "yardbolt"}
        return httpx.AsyncClient(transport=through, timeout=ANSWER, trust_env=False, headers=headers)

    async def send(
        self, method: str, target: str, content: bytes | None, told: dict[str, str], once: bool = False
    ) -> httpx.Response:
        """One question, and its answer whole; `once` where asking does something. Raises httpx.HTTPError."""
        assert self._client is not None
        url, headers = self._base + target, {name.encode(): _as_it_came(text) for name, text in told.items()}
        if method == "GET" and not once:
            got = await self._client.request(method, url, headers=headers, auth=self._auth)
            self._client.cookies.clear()
            return got
        # a connection that lay idle may be gone: then it would not be known whether what is written arrived
        async with self._fresh(self._through()) as fresh:
            return await fresh.request(method, url, content=content, headers=headers, auth=self._auth)

    def origin(self) -> str:
        """This very unit, as a browser names it (RFC 6454, section 6.2)."""
        usual = ":443" if self._base.startswith("https") else ":80"
        return self._base.removesuffix(usual)

    def log_in_by(self, auth: tuple[str, str, Ref] | None) -> None:
        """From now on every question carries this login."""
        if auth is not None:
            scheme, account, ref = auth
            self._auth = SCHEMES[scheme](account, revealed(ref, self._secrets))

    def lost(self, e: httpx.HTTPError | httpx.InvalidURL) -> Lost:
        """What an error means."""
        if isinstance(e, httpx.InvalidURL):
            return Lost(End.SILENT, why="it gives an invalid address")
        if isinstance(e, httpx.TimeoutException):
            return Lost(End.SILENT)
        too_much = "limit" in str(e)
        return Lost(End.TOO_MUCH if too_much else End.CLOSED, why=str(e) if too_much else meaning(e))

    async def close(self) -> None:
        """End it; never raises."""
        self._auth = None
        if self._client is not None:
            await self._client.aclose()
