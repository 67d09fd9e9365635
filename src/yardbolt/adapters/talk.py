"""What the console channels share: a turn is fed from any source of text, with every wait bounded."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import TypeVar

from yardbolt.core.dialogue import CLOSED, SILENT, Heard, Listener, Turn
from yardbolt.core.errors import SafeError
from yardbolt.core.secret import Ref, Secret, Slot, Text

CONNECT = 10.0
T = TypeVar("T")
Secrets = Callable[[Ref], Secret | None]


def revealed(ref: Ref, secrets: Secrets) -> str:
    """The characters of a secret, on their way to a unit. Raises SafeError where it is not there."""
    got = secrets(ref)
    if got is None:
        raise SafeError(f"{ref.entry} is not in the safe")
    return got.reveal()


def filled(message: Text, secrets: Secrets) -> str:
    """A message with its slots filled: only here, only on its way out."""
    return "".join(revealed(p.ref, secrets) if isinstance(p, Slot) else p for p in message)


async def hear(turn: Turn, read: Callable[[], Awaitable[str]]) -> Heard:
    """Listen until a sign stands alone after silence, the peer ends, or the time is over. `read` gives '' at the end."""
    loop = asyncio.get_running_loop()
    ears, end = Listener(turn), loop.time() + turn.seconds
    pending: asyncio.Task[str] | None = None
    try:
        while True:
            left = end - loop.time()
            if left <= 0:
                return ears.ended(SILENT)
            pending = pending or asyncio.ensure_future(read())
            done, _ = await asyncio.wait({pending}, timeout=min(turn.settle, left))
            if not done:
                if heard := ears.feed("", True):
                    return heard
                continue
            chunk, pending = pending.result(), None
            if not chunk:
                return ears.feed("", True) or ears.ended(CLOSED)
            ears.feed(chunk, False)
    finally:
        if pending is not None:
            pending.cancel()
