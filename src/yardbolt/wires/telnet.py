"""Telnet (RFC 854), through telnetlib3. Nothing of the laptop's environment is offered."""

from __future__ import annotations

import asyncio
import contextlib
from typing import Any

import telnetlib3
from telnetlib3.client import TelnetClient

from yardbolt.core.credentials import Credential
from yardbolt.core.doors import Door
from yardbolt.core.talk.outcomes import Cut, Login, Lost, NoListener, Opened, Silent
from yardbolt.core.talk.text.console import Heard, Turn

from .foreign import meaning
from .hearing import CONNECT, Ear, Secrets, filled


class TelnetConsole:
    """One telnet connection; name and password are typed by the conversation. It has no host identity to pin."""

    authenticates = False
    fingerprint = ""

    def __init__(self, secrets: Secrets, pin: str = "", outdated: bool = False) -> None:
        self._secrets = secrets
        self._ear = Ear()
        self._reader: Any = None
        self._writer: Any = None

    async def open(self, door: Door, source: str, account: str, credential: Credential) -> Login:
        """Connect; logging in is a conversation."""
        try:
            self._reader, self._writer = await asyncio.wait_for(
                telnetlib3.open_connection(
                    door.address, door.port, client_factory=TelnetClient, local_addr=(source, 0) if source else None,
                    encoding="utf8", encoding_errors="replace", term="dumb", cols=200, rows=50, compression=False,
                    connect_minwait=0.0, connect_maxwait=0.5, connect_timeout=CONNECT, send_environ=(), limit=65536,
                ),
                CONNECT + 2,
            )  # fmt: skip
        except ConnectionRefusedError:
            return NoListener("connection refused")
        except ConnectionResetError:
            return Cut(False, "the connection was reset")
        except (OSError, TimeoutError, asyncio.CancelledError) as e:
            if isinstance(e, asyncio.CancelledError) and (task := asyncio.current_task()) and task.cancelling():
                raise
            return Silent(False, meaning(e))
        return Opened()

    async def exchange(self, event: Turn) -> Heard | Lost:
        """One turn of a conversation."""
        with contextlib.suppress(OSError, RuntimeError):
            if event.send is not None:
                self._writer.write(filled(event.send, self._secrets) + ("\r\n" if event.line else ""))

        async def read() -> str:
            try:
                got = await self._reader.read(4096)
            except (OSError, EOFError, RuntimeError):
                return ""
            return got if isinstance(got, str) else got.decode("utf-8", "replace")

        return await self._ear.hear(event, read)

    async def close(self) -> None:
        """End the connection; never raises."""
        if self._writer is not None:
            with contextlib.suppress(OSError, RuntimeError):
                self._writer.close()
