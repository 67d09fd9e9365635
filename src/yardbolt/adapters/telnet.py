"""Telnet (RFC 854), through telnetlib3. Nothing of the laptop's environment is offered."""

from __future__ import annotations

import asyncio
import contextlib
from typing import Any

import telnetlib3
from telnetlib3.client import TelnetClient

from yardbolt.core.dialogue import Heard, Turn
from yardbolt.core.errors import Trouble, UnitError
from yardbolt.core.ports import Answer, Credential, Opening, Place

from .talk import CONNECT, Secrets, filled, hear


class TelnetChannel:
    """One telnet connection; name and password are typed by the dialogue."""

    typed = True

    def __init__(self, secrets: Secrets) -> None:
        self._secrets = secrets
        self._reader: Any = None
        self._writer: Any = None

    async def open(self, place: Place, credential: Credential) -> Opening:
        """Connect; logging in is a conversation."""
        try:
            self._reader, self._writer = await asyncio.wait_for(
                telnetlib3.open_connection(
                    place.address, place.port, client_factory=TelnetClient, local_addr=(place.source, 0) if place.source else None,
                    encoding="utf8", encoding_errors="replace", term="dumb", cols=200, rows=50, compression=False,
                    connect_minwait=0.0, connect_maxwait=0.5, connect_timeout=CONNECT, send_environ=(), limit=65536,
                ), CONNECT + 2,
            )  # fmt: skip
        except (ConnectionRefusedError, ConnectionResetError):
            return Opening("closed", "connection refused")
        except (OSError, TimeoutError, asyncio.CancelledError) as e:
            if isinstance(e, asyncio.CancelledError) and (task := asyncio.current_task()) and task.cancelling():
                raise
            return Opening("silent", type(e).__name__)
        return Opening("opened")

    async def turn(self, turn: Turn) -> Heard:
        """One turn of a conversation."""
        with contextlib.suppress(OSError, RuntimeError):
            if turn.send is not None:
                self._writer.write(filled(turn.send, self._secrets) + ("\r\n" if turn.line else ""))

        async def read() -> str:
            try:
                got = await self._reader.read(4096)
            except (OSError, EOFError, RuntimeError):
                return ""
            return got if isinstance(got, str) else got.decode("utf-8", "replace")

        return await hear(turn, read)

    async def fetch(self, command: str, seconds: float) -> Answer:
        """Telnet carries no single commands."""
        raise UnitError(Trouble.NOT_UNDERSTOOD, "telnet carries no single commands")

    async def close(self) -> None:
        """End the connection; never raises."""
        if self._writer is not None:
            with contextlib.suppress(OSError, RuntimeError):
                self._writer.close()
