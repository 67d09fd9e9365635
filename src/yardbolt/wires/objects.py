"""Objects over HTTP (RFC 9110), through httpx: one connection to one unit, its certificate compared inside the handshake.

Nothing is followed, unpacked or kept but what a login says is to be kept; that, tokens and challenges, never leaves this
place. Bodies and their depth are bounded before anything is made of them, and they are read in a thread.
"""

from __future__ import annotations

import asyncio
import hashlib
import hmac
import json
import re
from collections.abc import Callable, Mapping
from typing import Any

import httpx

from yardbolt.core.doors import Door
from yardbolt.core.errors import clean
from yardbolt.core.ports import Credential
from yardbolt.core.secret import Secret, Slot
from yardbolt.core.talk.conversation import ANSWER
from yardbolt.core.talk.objects import Answer, Call, Kept, Signed
from yardbolt.core.talk.outcomes import End, Login, Lost
from yardbolt.core.talk.tree import DEEPEST, one

from .hearing import Secrets, revealed
from .http import SCHEMES, Bounded, context, other_certificate, reached
from .words import in_url

DIGESTS = {"sha256": hashlib.sha256, "sha512": hashlib.sha512}
_TEXTS = re.compile(rb'"(?:[^"\\]|\\.)*"')
LONGEST_TEXT = 400
HEADERS = {"Accept": "application/json", "Accept-Encoding": "identity", "User-Agent": "yardbolt"}


class Objects:
    """One connection, and what is kept of its session."""

    authenticates = False

    def __init__(self, secrets: Secrets, pin: str) -> None:
        self._secrets, self._pin = secrets, pin
        self._met: list[str] = []
        self._kept: dict[str, Secret] = {}
        self._auth: httpx.Auth | None = None
        self._client: httpx.AsyncClient | None = None
        self._made: Callable[[], httpx.AsyncClient] = httpx.AsyncClient
        self._base, self._door = "", ""
        self.fingerprint = ""

    async def open(self, door: Door, source: str, credential: Credential) -> Login:
        """Reach it, and compare its certificate, before anything is sent. Raises IdentityError where it is not the one
        noted."""
        self._base, self._door = f"{door.scheme}://{in_url(door.address)}:{door.port}", f"{door.address}:{door.port}"
        verify: Any = context(self._pin, self._met) if door.scheme == "https" else None
        try:
            outcome = await reached(door, source, verify, self._pin, self._met)
        finally:
            self.fingerprint = next(iter(self._met), "")
        self._made = lambda: httpx.AsyncClient(
            transport=Bounded(httpx.AsyncHTTPTransport(verify=verify or False, local_address=source or None, retries=0)),
            timeout=ANSWER, trust_env=False, headers=HEADERS,
        )  # fmt: skip
        self._client = self._made()
        return outcome

    async def exchange(self, event: Call) -> Answer | Lost:
        """Send one request and read its answer whole, within a time the conversation bounds. Raises IdentityError where the
        certificate changed meanwhile."""
        assert self._client is not None
        if event.auth is not None:
            scheme, account, ref = event.auth
            self._auth = SCHEMES[scheme](account, revealed(ref, self._secrets))
        content = None if event.body is None else json.dumps(self._filled(event.body)).encode()
        headers = {name: str(self._filled(member)) for name, member in event.headers}
        if content is not None:
            headers["Content-Type"] = "application/json"
        try:
            if event.writes:
                # a connection that lay idle may be gone: then it would not be known whether this arrived
                async with self._made() as fresh:
                    got = await self._send(fresh, event, content, headers)
            else:
                got = await self._send(self._client, event, content, headers)
        except httpx.TimeoutException:
            return Lost(End.SILENT)
        except httpx.HTTPError as e:
            other_certificate(self._door, self._pin, self._met)
            too_much = "limit" in str(e)
            return Lost(End.TOO_MUCH if too_much else End.CLOSED, why=str(e) if too_much else type(e).__name__)
        tree, text = await asyncio.to_thread(_read, got.content)
        for name, place in event.keep.items():
            if isinstance(found := one(tree, place), str):
                self._kept[name] = Secret(found)
                tree = _without(tree, place.split("/"))
        return Answer(got.status_code, tree, text, clean(got.headers.get("location", ""))[:LONGEST_TEXT])

    async def _send(
        self, client: httpx.AsyncClient, event: Call, content: bytes | None, headers: dict[str, str]
    ) -> httpx.Response:
        got = await client.request(
            event.method, self._base + event.target, content=content, headers=headers, auth=self._auth
        )
        client.cookies.clear()
        return got

    async def close(self) -> None:
        """End it; never raises."""
        self._kept.clear()
        self._auth = None
        if self._client is not None:
            await self._client.aclose()

    def _filled(self, member: Any) -> Any:
        match member:
            case Kept(name):
                return self._kept[name].reveal() if name in self._kept else ""
            case Signed(ref, kept, digest):
                said = self._kept[kept].reveal() if kept in self._kept else ""
                return hmac.new(revealed(ref, self._secrets).encode(), said.encode(), DIGESTS[digest]).hexdigest()
            case tuple():
                return "".join(revealed(part.ref, self._secrets) if isinstance(part, Slot) else part for part in member)
            case Mapping():
                return {name: self._filled(child) for name, child in member.items()}
            case list():
                return [self._filled(child) for child in member]
        return member


def _read(body: bytes) -> tuple[Any, str]:
    """A body as a tree; else its first characters, where it is no object or deeper than any unit's."""
    level = deepest = 0
    for sign in _TEXTS.sub(b"", body):
        level += (sign in b"[{") - (sign in b"]}")
        deepest = max(deepest, level)
    try:
        if deepest > DEEPEST or not body:
            raise ValueError
        return _cleaned(json.loads(body, parse_constant=_no_number)), ""
    except (ValueError, RecursionError):
        return None, clean(body[: 4 * LONGEST_TEXT].decode(errors="replace"))[:LONGEST_TEXT]


def _no_number(word: str) -> Any:
    raise ValueError(word)


def _cleaned(node: Any) -> Any:
    if isinstance(node, str):
        return clean(node)
    if isinstance(node, dict):
        return {clean(name): _cleaned(child) for name, child in node.items()}
    return [_cleaned(child) for child in node] if isinstance(node, list) else node


def _without(node: Any, steps: list[str]) -> Any:
    if not isinstance(node, dict) or steps[0] not in node:
        return node
    rest = {name: child for name, child in node.items() if name != steps[0]}
    return rest if len(steps) == 1 else {**rest, steps[0]: _without(node[steps[0]], steps[1:])}


__all__ = ["Objects"]
