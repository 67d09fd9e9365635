"""One open line to a unit: asking, ordering and reading over it, in one conversation at a time."""

from __future__ import annotations

import contextlib
import hashlib
import shlex
from collections.abc import Generator, Iterable
from dataclasses import asdict
from datetime import datetime
from typing import TYPE_CHECKING, Any, TypeVar

from yardbolt.core import family as fam
from yardbolt.core.access import Way
from yardbolt.core.dialogue import ANSWER, Heard, Reply, Turn, converse
from yardbolt.core.errors import Trouble, UnitError
from yardbolt.core.extract import Blind, Evidence, Part, Reading, extract, merge
from yardbolt.core.family import AskSpec, Order, asks_for, is_token
from yardbolt.core.paths import Path, show
from yardbolt.core.plane import get, listing, to_json
from yardbolt.core.ports import Channel
from yardbolt.core.signs import split

if TYPE_CHECKING:
    from .desk import Desk

R = TypeVar("R")
EXCERPT = 400


async def hold_talk(channel: Channel, talk: Generator[Turn, Heard, R]) -> R:
    """Drive a conversation of the core over a channel."""
    try:
        turn = next(talk)
        while True:
            turn = talk.send(await channel.turn(turn))
    except StopIteration as stop:
        return stop.value  # type: ignore[no-any-return]


class Line:
    """An open line, as one account."""

    def __init__(self, desk: Desk, channel: Channel, spec: fam.Channel, way: Way, greeting: str) -> None:
        self.desk, self.channel, self.spec, self.way, self.greeting = desk, channel, spec, way, greeting
        self.rights = ""
        self.closed = False

    async def close(self) -> None:
        """Log out where the family knows how, for closing a window is not logging out (N259); then end the connection."""
        leave = self.desk.family.console.leave if self.desk.family.console and self.spec.mode == "console" else ""
        if leave and not self.closed:
            self.closed = True
            with contextlib.suppress(UnitError):
                await self.channel.turn(Turn((leave,), (), seconds=1.0))
        await self.channel.close()

    async def order(self, order: Order, seconds: float = ANSWER) -> Reply:
        """Send one command and answer what it asks. Raises UnitError."""
        assert self.desk.family.console is not None
        try:
            reply = await hold_talk(self.channel, converse(self.desk.family.console, order, seconds))
        except UnitError:
            self.closed = True  # what the unit is at is not known any more
            raise
        self.closed = reply.closed
        return reply

    # -- reading --

    async def ask(self, ask: AskSpec, words: str) -> str:
        """The reply to one ask. Raises UnitError when the unit says no or the rights do not suffice."""
        if self.spec.mode == "console":
            reply = await self.order(Order((words,)))
            if reply.trouble or reply.closed:
                raise UnitError(
                    Trouble.NOT_UNDERSTOOD if reply.trouble else Trouble.CLOSED, reply.trouble or f"the connection ended at '{words}'; try again"
                )
            return reply.text
        if ask.rights == "root" and await self.whoami() != "root":
            if not self.desk.family.elevate:
                raise UnitError(Trouble.NOT_UNDERSTOOD, "needs root")
            words = self.desk.family.elevate.replace("{command}", shlex.quote(words))
        answer = await self.channel.fetch(words, ANSWER)
        if answer.status != 0:
            said = answer.errors.strip().split("\n")[0][:160] or f"exit status {answer.status}"
            raise UnitError(Trouble.NOT_UNDERSTOOD, f"{said} (as {self.way.account})")
        return answer.text

    async def whoami(self) -> str:
        """root, or not."""
        if not self.rights:
            answer = await self.channel.fetch("id -u", ANSWER)
            self.rights = "root" if answer.text.strip() == "0" else "account"
        return self.rights

    def words(self, ask: AskSpec, key: str, so_far: Reading) -> str:
        """The command of an ask with its places filled: {key} is the item asked about, {config} the settings file read before. Raises UnitError."""
        out = ""
        for literal, name, _ in split(ask.say):
            out += literal
            if not name:
                continue
            value = key if name == "key" else get(so_far.plane, ("services", "ssh", "config")) if name == "config" else None
            if not isinstance(value, str) or not value:
                raise UnitError(Trouble.NOT_UNDERSTOOD, "which file the running server takes its settings from is not known")
            path_like = name == "config" and value.startswith("/") and all(is_token(self.desk.family, p) for p in value.strip("/").split("/"))
            if not path_like and not is_token(self.desk.family, value):
                raise UnitError(Trouble.GARBLED, f"{value[:40]!r} may not be put into a command")
            out += value
        return out

    async def read(self, paths: Iterable[Path] | None = None) -> Reading:
        """Everything the family can read (or the asks that feed these paths), with evidence; what failed is a blind area.

        Raises UnitError only when the connection ended.
        """
        f = self.desk.family
        parts: list[Part] = []
        evidence: list[Evidence] = []
        blind: list[Blind] = []
        for ask in f.asks if paths is None else asks_for(f, frozenset(paths)):
            so_far = merge(f, parts)
            keys = [i.key for i in listing(so_far.plane, ask.each).items] if ask.each else [""]
            for key in keys:
                now = self.desk.clock.now()
                try:
                    words = self.words(ask, key, so_far)
                    reply = await self.ask(ask, words)
                except UnitError as e:
                    if e.trouble in (Trouble.CLOSED, Trouble.SILENT, Trouble.TOO_MUCH):
                        raise
                    blind.append(Blind(f"{ask.name} {key}".strip(), str(e)))
                    continue
                parts += extract(f, ask, reply, key, datetime.fromisoformat(now))
                evidence.append(self._evidence(ask, words, reply, now, len(evidence)))
        level = merge(f, parts).plane.identity.software
        if not f.fits(level):
            low, below = f.software
            blind.append(
                Blind(
                    "software",
                    f"level {level} is outside what {f.name} was written for ({low or 'any'} to below {below or 'any'}): check every finding by hand",
                )
            )
        got = merge(f, parts, tuple(evidence), tuple(blind))
        listed = any(a.key == self.way.account for a in got.plane.accounts.items)
        if paths is None and got.leftovers and not listed and got.plane.identity.serial is None:
            lines = f"{len(got.leftovers)} line{'s' if len(got.leftovers) > 1 else ''}"
            raise UnitError(Trouble.GARBLED, f"logged in, but its answers are not understood ({lines}): is 'family' right, and is the unit well?")
        return got

    def _evidence(self, ask: AskSpec, words: str, reply: str, now: str, n: int) -> Evidence:
        scrubbed = "(holds secrets; not kept)" if ask.tree.get("decode") == "shadow" else self.desk.scrub(reply)[:EXCERPT]
        digest = hashlib.sha256(reply.encode()).hexdigest()
        return Evidence(f"{ask.name}.{n}", words, self.way.service, self.way.account, self.rights or "as the account", now, digest, scrubbed)


def document(reading: Reading, **more: Any) -> dict[str, Any]:
    """A reading as a document of the record."""

    return {
        "plane": to_json(reading.plane),
        "evidence": [asdict(e) for e in reading.evidence],
        "origin": {show(p): list(asks) for p, asks in sorted(reading.origin.items())},
        "conflicts": [show(p) for p in reading.conflicts],
        "leftovers": [asdict(x) for x in reading.leftovers],
        "blind": [asdict(b) for b in reading.blind],
        **more,
    }
