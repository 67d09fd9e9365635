"""Logging in to file transfer (RFC 959), through ftplib in a thread: name and password, nothing more."""

from __future__ import annotations

import asyncio
import contextlib
import ftplib
import socket
from typing import Any

from yardbolt.core.credentials import Credential
from yardbolt.core.doors import Door
from yardbolt.core.errors import clean
from yardbolt.core.talk.outcomes import Cut, End, Locked, Login, Lost, NoListener, Opened, Refused, Silent, Untried

from .foreign import meaning
from .hearing import CONNECT, Secrets, revealed

MOST_LINES = 200


class _Client(ftplib.FTP):
    """Reads so many lines and no more."""

    lines = 0

    def getline(self) -> str:
        self.lines += 1
        if self.lines > MOST_LINES:
            raise ftplib.error_proto("more lines than the limit")  # noqa: S321  # what a unit speaks is tried
        return super().getline()


class FtpLogin:
    """One login. It has no host identity to pin."""

    authenticates = True
    fingerprint = ""

    def __init__(self, secrets: Secrets, pin: str = "", outdated: bool = False) -> None:
        self._secrets = secrets
        self._client = _Client()

    async def open(self, door: Door, source: str, account: str, credential: Credential) -> Login:
        """Connect, give the name and, where it is asked for, the password."""
        try:
            async with asyncio.timeout(CONNECT * 2):
                return await asyncio.to_thread(self._log_in, door, source, account, credential)
        except TimeoutError:
            await self.close()  # which ends the thread's waiting
            return Silent(True, "no answer in time")

    def _log_in(self, door: Door, source: str, account: str, credential: Credential) -> Login:
        sent = False
        try:
            self._client.connect(door.address, door.port, CONNECT, (source, 0) if source else None)
            first = self._client.sendcmd(f"USER {account}")
            if first.startswith("3"):
                sent = True
                first = self._client.sendcmd(f"PASS {revealed(credential.ref, self._secrets)}")
        except ftplib.error_perm as e:
            said = clean(str(e))[:200]
            if not sent:
                return Untried(f"it does not ask for the password ({said})")
            return Locked(said) if "lock" in said.lower() else Refused(said)
        except ConnectionRefusedError:
            return NoListener("connection refused")
        except TimeoutError:
            return Silent(sent, "no answer in time")
        except (ftplib.Error, EOFError, OSError, ValueError) as e:
            return Cut(sent, meaning(e))
        return Opened(clean(first)[:200]) if first.startswith("2") else Silent(True, clean(first)[:200])

    async def exchange(self, event: Any) -> Lost:
        """There is nothing to say after a login."""
        return Lost(End.CLOSED)

    async def close(self) -> None:
        """End the connection; never raises."""
        with contextlib.suppress(OSError, AttributeError):
            if self._client.sock is not None:
                self._client.sock.shutdown(socket.SHUT_RDWR)
        with contextlib.suppress(OSError, EOFError):
            self._client.close()
