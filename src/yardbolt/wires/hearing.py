"""What the console wires share: slots are filled on the way out, and a turn is fed from any source of text, with every
wait bounded."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable

from yardbolt.core.errors import SafeError, UnitError
from yardbolt.core.secret import Ref, Secret, Slot, Text
from yardbolt.core.talk.outcomes import End, Lost
from yardbolt.core.talk.text.console import SETTLE, Heard, Listener, Turn

CONNECT = 10.0
Secrets = Callable[[Ref], Secret | None]


def revealed(ref: Ref, secrets: Secrets) -> str:
    """The characters of a secret, on their way to a unit. Raises SafeError where it is not there."""
    got = secrets(ref)
    if got is None:
        raise SafeError(f"{ref.entry} is not in the safe")
    return got.reveal()


def filled(message: Text, secrets: Secrets) -> str:
    """A message with its slots filled: only here, only on its way out."""
    return "".join(revealed(part.ref, secrets) if isinstance(part, Slot) else part for part in message)


class Ear:
    """What one session's hearing remembers: the very prompt it shows, and the quickest answer it gave, in seconds."""

    def __init__(self) -> None:
        self.usual = ""
        self.round_trip = SETTLE

    async def hear(self, turn: Turn, read: Callable[[], Awaitable[str]]) -> Heard | Lost:
        """Listen until a sign stands alone after silence, the peer ends, or the time is over. `read` gives '' at the
        end."""
        listener = Listener(turn, self.usual)
        loop = asyncio.get_running_loop()
        began = loop.time()
        pending: asyncio.Future[str] | None = None
        try:
            while True:
                left = began + turn.seconds - loop.time()
                pending = pending or asyncio.ensure_future(read())
                done, _ = await asyncio.wait({pending}, timeout=max(0.0, min(listener.patience(self.round_trip), left)))
                if not done:
                    if heard := listener.decide():
                        self.usual = listener.last
                        return heard
                    # after what came in time was looked at, not before
                    if left <= 0:
                        return listener.lost(End.SILENT)
                    continue
                chunk, pending = pending.result(), None
                if not chunk:
                    return listener.decide() or listener.lost(End.CLOSED)
                if not listener.raw and turn.send is not None:
                    # the quickest answer is the line itself; slower ones were the unit thinking
                    self.round_trip = min(self.round_trip, loop.time() - began)
                listener.feed(chunk)
        except UnitError as e:
            return Lost(End.TOO_MUCH, why=str(e))
        finally:
            if pending is not None:
                pending.cancel()
