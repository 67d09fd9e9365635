"""A receiver for log messages, by UDP (RFC 5426) and TCP (RFC 6587). It keeps a bounded number of them and answers
nothing."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable
from contextlib import suppress

from yardbolt.core.errors import OperatorError, clean
from yardbolt.core.formats.syslog import LONGEST, Message, parsed, split

from .foreign import meaning

MOST_KEPT, MOST_AT_ONCE = 10_000, 64
IDLE = 300.0  # seconds a sender may hold a connection without a word


class Receiver(asyncio.DatagramProtocol):
    """Listens at one address and port by both transports while it is entered. Raises OperatorError where it cannot."""

    def __init__(
        self, address: str, port: int, heard: Callable[[str, Message], None] = lambda sender, message: None
    ) -> None:
        self.address, self.port, self.heard = address, port, heard
        self.kept: deque[tuple[str, Message]] = deque(maxlen=MOST_KEPT)
        self._news = asyncio.Event()
        self._open = 0
        self._server: asyncio.Server | None = None
        self._datagrams: asyncio.DatagramTransport | None = None

    async def __aenter__(self) -> Receiver:
        try:
            self._datagrams, _ = await asyncio.get_running_loop().create_datagram_endpoint(
                lambda: self, local_addr=(self.address, self.port)
            )
            self._server = await asyncio.start_server(self._stream, self.address, self.port, limit=LONGEST)
        except OSError as e:
            await self.__aexit__()
            problem = meaning(e)
            raise OperatorError(
                f"no log messages can be received at {self.address} port {self.port}: {problem}"
            ) from None
        return self

    async def __aexit__(self, *exc: object) -> None:
        if self._datagrams is not None:
            self._datagrams.close()
        if self._server is not None:
            self._server.close()

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        """One datagram is one message."""
        self._take(addr[0], data)

    async def _stream(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._open += 1
        try:
            left = b""
            while self._open <= MOST_AT_ONCE:
                chunk = await asyncio.wait_for(reader.read(LONGEST), IDLE)
                if not chunk:
                    break
                messages, left = split(left + chunk)
                for raw in messages:
                    self._take(writer.get_extra_info("peername")[0], raw)
        except (OSError, TimeoutError):
            pass
        finally:
            self._open -= 1
            writer.close()
            with suppress(OSError):
                await writer.wait_closed()

    def _take(self, sender: str, raw: bytes) -> None:
        message = parsed(raw)
        if message is None:
            return
        message = Message(
            message.facility, message.severity, clean(message.host), clean(message.who), clean(message.text)
        )
        self.kept.append((sender, message))
        self.heard(sender, message)
        self._news.set()

    async def wait(self, sender: str, text: str, seconds: float) -> bool:
        """Does a message with this text come from this sender, within so many seconds? What came before counts too."""
        try:
            async with asyncio.timeout(seconds):
                while not any(who == sender and text in message.text for who, message in self.kept):
                    self._news.clear()
                    await self._news.wait()
        except TimeoutError:
            return False
        return True
