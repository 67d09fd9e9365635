"""One question by UDP, and its answer."""

from __future__ import annotations

import asyncio
import socket

from .words import place

WAIT = 1.0
ROUNDS = 2  # a datagram may be lost


async def asked(address: str, port: int, source: str, send: bytes, connected: bool = True) -> bytes | None:
    """The answer, None where it was refused, empty where nothing came. Unconnected, an answer may come from any port of
    the host (RFC 1350)."""
    loop = asyncio.get_running_loop()
    with socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_DGRAM) as s:
        s.setblocking(False)
        s.bind(place(source, 0))
        if connected:
            s.connect(place(address, port))
        for _ in range(ROUNDS):
            try:
                # an empty datagram is one too, and asyncio sends none
                s.sendto(send, place(address, port)) if not connected else s.send(send)
                async with asyncio.timeout(WAIT / ROUNDS):
                    while True:
                        answer, sender = await loop.sock_recvfrom(s, 4096)
                        if sender[0] == address:
                            return answer
            except ConnectionRefusedError:
                return None
            except TimeoutError:
                continue
    return b""
