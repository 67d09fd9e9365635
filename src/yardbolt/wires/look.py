"""Looking from outside: which TCP ports answer, their first words, SSH offers (RFC 4253), certificates (RFC 5280),
HTTP servers.

One named unit only; the rate is limited; each probe is bound to the named address of the laptop.
"""

from __future__ import annotations

import asyncio
import contextlib
import errno
import hashlib
import select
import socket
import ssl
from collections.abc import Callable
from typing import Any

from cryptography import x509

from yardbolt.core.doors import Door
from yardbolt.core.errors import Trouble, UnitError
from yardbolt.core.formats.kexinit import decode_kexinit
from yardbolt.core.ports import Seen
from yardbolt.core.talk.console import clean
from yardbolt.core.talk.outcomes import Open, Port, Quiet, Refusing, Untried

WAIT = 1.0
BATCH = 400
ALL = (1, 65535)
NOBODYS = "127.254.254.254"  # a loopback address no unit has
_NO_PORT = getattr(socket, "IP_BIND_ADDRESS_NO_PORT", 24)


def _socket(address: str, source: str) -> socket.socket:
    s = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_STREAM)
    s.setblocking(False)
    if source:
        if ":" not in address:
            s.setsockopt(socket.IPPROTO_IP, _NO_PORT, 1)
        try:
            s.bind((source, 0))
        except OSError:
            s.close()
            raise UnitError(
                Trouble.UNREACHABLE,
                f"this laptop has no address {source}: set it on the socket that leads to the unit, or correct it",
            ) from None
    return s


def _other_end(s: socket.socket) -> bool:
    """Is it really somebody else who answered? On loopback a socket can meet itself."""
    with contextlib.suppress(OSError):
        return bool(s.getsockname()[:2] != s.getpeername()[:2])
    return False


def _at_once(waiting: dict[int, socket.socket]) -> dict[int, str]:
    """Those whose answer has come already: on a short cable nearly all, without a task for each."""
    poll, by_number = select.poll(), {s.fileno(): p for p, s in waiting.items()}
    for number in by_number:
        poll.register(number, select.POLLOUT)
    out = {}
    for number, _ in poll.poll(0):
        s = waiting[by_number[number]]
        error = s.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
        out[by_number[number]] = (
            "closed" if error == errno.ECONNREFUSED else "silent" if error else "open" if _other_end(s) else "closed"
        )
    return out


class TcpLook:
    """Fulfils `Look`. `progress` is told how many ports were looked at; `span` limits the look to some of the 65,535.

    `silent` counts the ports that said nothing; `own` are ports of this laptop: a bench unit on 127.x.y.z shares its
    loopback, so what answers on every loopback address is not the unit's.
    """

    def __init__(self, progress: Callable[[int], None] = lambda done: None, span: tuple[int, int] = ALL) -> None:
        self.progress, self.span = progress, span
        self.whole = span == ALL
        self.silent = 0
        self.own: tuple[int, ...] = ()

    async def ports(self, address: str, source: str, rate: int) -> tuple[int, ...]:
        """Every TCP port that accepts a connection; `rate` is the most probes in a second."""
        loop = asyncio.get_running_loop()
        start, self.silent = loop.time(), 0
        found: list[int] = []
        lowest, highest = self.span
        for first in range(lowest, highest + 1, BATCH):
            batch = range(first, min(first + BATCH, highest + 1))
            found += await self._batch(address, batch, source)
            self.progress(batch[-1])
            ahead = ((batch[-1] - lowest) / rate) - (loop.time() - start)
            await asyncio.sleep(max(0.0, ahead))
        if address.startswith("127.") and address != "127.0.0.1":
            self.own = tuple([p for p in found if await self._batch(NOBODYS, range(p, p + 1), "")])
        return tuple(p for p in found if p not in self.own)

    async def _batch(self, address: str, batch: range, source: str) -> list[int]:
        waiting: dict[int, socket.socket] = {}
        found = []
        try:
            for port in batch:
                s = _socket(address, source)
                got = s.connect_ex((address, port))
                if got == errno.EINPROGRESS:
                    waiting[port] = s
                    continue
                found += [port] if got == 0 and _other_end(s) else []
                self.silent += got not in (0, errno.ECONNREFUSED)
                s.close()
            states = _at_once(waiting)
            slow = [p for p in waiting if p not in states]
            states |= dict(
                zip(slow, await asyncio.gather(*(self._wait(waiting[p], (address, p)) for p in slow)), strict=True)
            )
            self.silent += sum(state == "silent" for state in states.values())
            return sorted(found + [p for p, state in states.items() if state == "open"])
        finally:
            for s in waiting.values():
                s.close()

    async def _wait(self, s: socket.socket, peer: tuple[str, int]) -> str:
        try:
            await asyncio.wait_for(asyncio.get_running_loop().sock_connect(s, peer), WAIT)
        except ConnectionRefusedError:
            return "closed"
        except (TimeoutError, OSError):
            return "silent"
        return "open" if _other_end(s) else "closed"

    async def look(self, address: str, port: int, source: str) -> Seen:
        """The first words of one port and what can be told from them; never raises, never logs in."""
        try:
            async with asyncio.timeout(WAIT * 8):
                return await self._look(address, port, source)
        except (OSError, TimeoutError, asyncio.IncompleteReadError, ValueError):
            return Seen(port, "unknown", "")

    async def _look(self, address: str, port: int, source: str) -> Seen:
        first = await self._exchange(address, port, source, b"", WAIT)
        if first.startswith(b"SSH-"):
            return Seen(port, "ssh", _line(first), await self._ssh(address, port, source))
        if first[:1] == b"\xff":
            return Seen(port, "telnet", _line(bytes(b for b in first if 32 <= b < 127)))
        if first:
            return Seen(port, "unknown", _line(first))
        if certificate := await self._tls(address, port, source):
            return Seen(port, "tls", certificate.pop("banner", ""), certificate)
        answer = await self._exchange(
            address, port, source, f"HEAD / HTTP/1.0\r\nHost: {address}\r\n\r\n".encode(), WAIT
        )
        if answer.startswith(b"HTTP/"):
            head = {
                k.strip().lower(): v.strip()
                for k, _, v in (x.partition(":") for x in clean(answer.decode("latin-1")).split("\n"))
            }
            shown = ("server", "location", "www-authenticate")
            details: dict[str, Any] = {k: head[k][:200] for k in shown if k in head}
            return Seen(port, "http", _line(answer), details)
        return Seen(port, "unknown", _line(answer))

    async def _exchange(self, address: str, port: int, source: str, send: bytes, wait: float) -> bytes:
        reader, writer = await asyncio.open_connection(
            address, port, local_addr=(source, 0) if source else None, limit=8192
        )
        try:
            writer.write(send)
            return await asyncio.wait_for(reader.read(4096), wait)
        except TimeoutError:
            return b""
        finally:
            writer.transport.abort()

    async def _ssh(self, address: str, port: int, source: str) -> dict[str, Any]:
        reader, writer = await asyncio.open_connection(
            address, port, local_addr=(source, 0) if source else None, limit=65536
        )
        try:
            async with asyncio.timeout(WAIT * 2):
                writer.write(b"SSH-2.0-YardBolt\r\n")
                for _ in range(20):
                    if (await reader.readline()).startswith(b"SSH-"):
                        break
                head = await reader.readexactly(4)
                body = await reader.readexactly(min(int.from_bytes(head, "big"), 35000))
                return dict(decode_kexinit(head + body) or {})
        except (TimeoutError, OSError, asyncio.IncompleteReadError, ValueError):
            return {}
        finally:
            writer.transport.abort()

    async def _tls(self, address: str, port: int, source: str) -> dict[str, Any] | None:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        try:
            async with asyncio.timeout(WAIT * 3):
                _, writer = await asyncio.open_connection(
                    address, port, ssl=context, local_addr=(source, 0) if source else None
                )
        except (OSError, TimeoutError, ValueError):
            return None
        try:
            tls = writer.get_extra_info("ssl_object")
            der = tls.getpeercert(True)
            return {"version": tls.version(), **(_certificate(der) if der else {})}
        finally:
            writer.transport.abort()

    async def knock(self, door: Door, source: str) -> Port:
        """Does the service let this source in as far as its first words?"""
        writer = None
        try:
            async with asyncio.timeout(WAIT * 3):
                local = (source, 0) if source else None
                reader, writer = await asyncio.open_connection(door.address, door.port, local_addr=local, limit=8192)
                return Open() if await reader.read(4096) else Refusing()
        except (ConnectionRefusedError, ConnectionResetError):
            return Refusing()
        except (TimeoutError, OSError) as e:
            if getattr(e, "errno", 0) == errno.EADDRNOTAVAIL:
                return Untried("this laptop has no such address")
            return Quiet()
        finally:
            if writer is not None:
                writer.transport.abort()


def _line(raw: bytes) -> str:
    return clean(raw.decode("utf-8", "replace")).strip().split("\n", 1)[0][:120]


def _certificate(der: bytes) -> dict[str, Any]:
    try:
        got = x509.load_der_x509_certificate(der)
        key = got.public_key()
        return {
            "banner": got.subject.rfc4514_string()[:120],
            "issuer": got.issuer.rfc4514_string()[:120],
            "self-signed": got.issuer == got.subject,
            "until": got.not_valid_after_utc.date().isoformat(),
            "key": f"{type(key).__name__.strip('_').removesuffix('PublicKey')} {getattr(key, 'key_size', '')}".strip(),
            "fingerprint": "SHA256:" + hashlib.sha256(der).hexdigest(),
        }
    except ValueError:
        return {"banner": "a certificate that cannot be read"}
