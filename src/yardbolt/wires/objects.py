"""Objects over HTTP (RFC 9110), through httpx: one connection to one unit, its certificate compared inside the
handshake.

Nothing is followed, unpacked or kept but what a login says is to be kept; that, tokens and challenges, never leaves
this place. Bodies and their depth are bounded before anything is made of them, and they are read in a thread."""

from __future__ import annotations

import asyncio
import json
import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import urlencode

import httpx

from yardbolt.core.errors import clean
from yardbolt.core.secret import Ref, Secret, Slot
from yardbolt.core.talk.outcomes import Lost
from yardbolt.core.talk.tree import DEEPEST, one
from yardbolt.core.talk.web.bodies import Kept
from yardbolt.core.talk.web.objectchannel import Answer, Call
from yardbolt.core.talk.web.shared import Signed

from .hearing import Secrets, revealed
from .web import WebWire, cookies, keyed

_TEXTS = re.compile(rb'"(?:[^"\\]|\\.)*"')
LONGEST_TEXT = 400
STRONG_TAG = re.compile(r'"[!#-~]{0,200}"')  # an entity tag that a comparison may rest on
SMALL = 8192  # bytes: read sooner than a thread is begun


class Objects(WebWire):
    """One connection, and what is kept of its session."""

    accepts = "application/json"

    def __init__(self, secrets: Secrets, pin: str, outdated: bool = False) -> None:
        super().__init__(secrets, pin, outdated)
        self._kept: dict[str, Secret] = {}

    async def exchange(self, event: Call) -> Answer | Lost:
        """Send one request and read its answer whole, within a time the conversation bounds. Raises IdentityError
        where the certificate changed meanwhile."""
        self.log_in_by(event.auth)
        body = None if event.body is None else self._filled(event.body)
        content = None if body is None else (_as_form(body) if event.form else json.dumps(body)).encode()
        # where nobody logged in there is nothing of a session to send, and half a header is none
        headers = {name: str(self._filled(member)) for name, member in event.headers if self._has(member)}
        if content is not None:
            headers["Content-Type"] = "application/x-www-form-urlencoded" if event.form else "application/json"
        try:
            query = urlencode([(name, self._filled(member)) for name, member in event.query if self._has(member)])
            target = f"{event.target}{'&' if '?' in event.target else '?'}{query}" if query else event.target
            got = await self.send(event.method, target, content, headers)
        except (httpx.HTTPError, httpx.InvalidURL) as e:
            return self.lost(e)
        small = len(got.content) <= SMALL
        tree, text = _read(got.content) if small else await asyncio.to_thread(_read, got.content)
        for name, place in event.keep.items():
            kind, _, named = place.partition(" ")
            if kind in ("cookie", "header") and named:
                if (held := _beside(got, kind, named)) is not None:
                    self._kept[name] = Secret(held)
                continue
            if isinstance(found := one(tree, place), str):
                self._kept[name] = Secret(found)
                tree = _without(tree, place.split("/"))
        tag = got.headers.get("etag", "")
        # what stands behind the ? may be the session's
        where = clean(got.headers.get("location", "")).partition("?")[0][:LONGEST_TEXT]
        tag = tag if STRONG_TAG.fullmatch(tag) else ""
        return Answer(got.status_code, tree, text, where, tag, frozenset(self._kept))

    def log_in_by(self, auth: tuple[str, str, Ref] | None) -> None:
        """From now on every question carries this login; one that goes in headers of the family's is kept for them."""
        if auth is not None and auth[0] == "header":
            self._kept |= {"account": Secret(auth[1]), "secret": Secret(revealed(auth[2], self._secrets))}
        else:
            super().log_in_by(auth)

    def _part(self, part: Slot | Kept) -> str:
        return revealed(part.ref, self._secrets) if isinstance(part, Slot) else self._held(part.name)

    def _has(self, member: Any) -> bool:
        """Is all of the session there that it is filled with?"""
        parts = member if isinstance(member, tuple) else (member,)
        return all(one.name == "origin" or one.name in self._kept for one in parts if isinstance(one, Kept))

    def _held(self, name: str) -> str:
        if name == "origin" and name not in self._kept:
            return self.origin()
        return self._kept[name].reveal() if name in self._kept else ""

    async def close(self) -> None:
        """End it; never raises."""
        self._kept.clear()
        await super().close()

    def _filled(self, member: Any) -> Any:
        match member:
            case Kept(name):
                return self._held(name)
            case Signed(ref, of):
                return keyed(ref, self._secrets, self._held(of))
            case tuple():
                return "".join(part if isinstance(part, str) else self._part(part) for part in member)
            case Mapping():
                return {name: self._filled(child) for name, child in member.items()}
            case list():
                return [self._filled(child) for child in member]
        return member


def _as_form(body: Mapping[str, Any]) -> str:
    """An object as a form: a text as it is, anything else in JSON."""
    return urlencode({name: each if isinstance(each, str) else json.dumps(each) for name, each in body.items()})


def _beside(got: httpx.Response, kind: str, named: str) -> str | None:
    """What stands beside an answer: a cookie that is set, or a header."""
    if kind == "cookie":
        return cookies(got).get(named)
    return clean(got.headers[named])[:LONGEST_TEXT] if named in got.headers else None


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
