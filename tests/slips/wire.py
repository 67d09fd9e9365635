"""The wire of the way: one TCP connection."""

from __future__ import annotations

import asyncio
import json
from typing import Any

from tests.slips.talk import Slip
from yardbolt.core.doors import Door
from yardbolt.core.talk.outcomes import End, Login, Lost, NoListener, Opened, Silent
from yardbolt.wires.hearing import CONNECT, Secrets, filled


class Slips:
    """One connection. It has no host identity to pin."""

    authenticates = False
    fingerprint = ""

    def __init__(self, secrets: Secrets, pin: str = "", outdated: bool = False) -> None:
        self._secrets = secrets

    async def open(self, door: Door, source: str, account: str, credential: object) -> Login:
        try:
            self._in, self._out = await asyncio.wait_for(
                asyncio.open_connection(door.address, door.port, local_addr=(source, 0) if source else None), CONNECT
            )
        except ConnectionRefusedError:
            return NoListener("connection refused")
        except (OSError, TimeoutError) as e:
            return Silent(False, type(e).__name__)
        return Opened()

    async def exchange(self, event: Slip) -> Any:
        members = {name: filled(text, self._secrets) for name, text in event.members}
        try:
            self._out.write(json.dumps(members).encode() + b"\n")
            return json.loads(await asyncio.wait_for(self._in.readline(), CONNECT) or b"-")
        except (OSError, TimeoutError, ValueError):
            return Lost(End.CLOSED)

    async def close(self) -> None:
        if hasattr(self, "_out"):
            self._out.close()
