"""Looking from outside: which TCP ports answer, their first words, SSH offers (RFC 4253), certificates (RFC 5280),
HTTP servers.

One named unit only; what is in flight is limited; each probe is bound to the named address of the laptop.
"""

from __future__ import annotations

import asyncio
import contextlib
import errno
import hashlib
import re
import resource
import select
import socket
import ssl
import time
from collections.abc import AsyncIterator, Callable, Sequence
from dataclasses import replace
from typing import Any

from cryptography import x509

from yardbolt.core.doors import Door
from yardbolt.core.errors import Trouble, UnitError, clean
from yardbolt.core.formats.kexinit import decode_kexinit
from yardbolt.core.ports import Datagrams, Ports, Seen, Sockets
from yardbolt.core.talk.outcomes import Open, Port, Quiet, Refusing, Untried

from . import datagrams, snmp
from .tls import plain_context, shaken, takes_outdated
from .udp import asked
from .words import in_url, place
from .words import line as _line

WAIT = 1.0
MOMENT = 0.3  # seconds for the rest of what has begun
MOST_PAGE = 64 * 1024  # bytes
_PASSWORD_FIELD = re.compile(rb"type\s*=\s*[\"']?password", re.IGNORECASE)
BATCH = 2_000
MOST_SOCKETS = 32_000  # in flight for all units of this process together, or what the system allows
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
            s.bind(place(source, 0))
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


def _answers(waiting: dict[int, socket.socket], seconds: float) -> dict[int, str]:
    """What became of connections that are on their way, as soon as all have an answer, or after so many seconds."""
    poll, by_number = select.poll(), {s.fileno(): p for p, s in waiting.items()}
    for number in by_number:
        poll.register(number, select.POLLOUT)
    out: dict[int, str] = {}
    end = time.monotonic() + seconds
    while by_number and (left := end - time.monotonic()) > 0:
        for number, _ in poll.poll(left * 1000):
            poll.unregister(number)
            port = by_number.pop(number)
            error = waiting[port].getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
            is_open = not error and _other_end(waiting[port])
            out[port] = "open" if is_open else "closed" if error in (0, errno.ECONNREFUSED) else "silent"
    return out | dict.fromkeys(by_number.values(), "silent")


def _probe(address: str, batch: Sequence[int], source: str) -> tuple[list[int], set[int]]:
    """Knock at each port: those that are open, and those without an answer."""
    waiting: dict[int, socket.socket] = {}
    found, silent = list[int](), set[int]()
    try:
        for port in batch:
            s = _socket(address, source)
            got = s.connect_ex(place(address, port))
            if got == errno.EINPROGRESS:
                waiting[port] = s
                continue
            found += [port] if got == 0 and _other_end(s) else []
            silent |= {port} if got not in (0, errno.ECONNREFUSED) else set()
            s.close()
        states = _answers(waiting, WAIT)
    finally:
        for s in waiting.values():
            s.close()
    found += [port for port, state in states.items() if state == "open"]
    return sorted(found), silent | {port for port, state in states.items() if state == "silent"}


class SocketsOfLaptop:
    """Fulfils `Sockets`: as many as this laptop allows a process."""

    def __init__(self) -> None:
        allowed, most = resource.getrlimit(resource.RLIMIT_NOFILE)
        wanted = MOST_SOCKETS + 1024 if most == resource.RLIM_INFINITY else min(most, MOST_SOCKETS + 1024)
        if allowed < wanted:
            with contextlib.suppress(ValueError, OSError):
                resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, most))
                allowed = wanted
        # the rest is for sessions, files and what the libraries open
        self.most = self.free = max(64, min(MOST_SOCKETS, allowed - 256))
        self._freed = asyncio.Condition()

    @contextlib.asynccontextmanager
    async def taken(self, wanted: int) -> AsyncIterator[None]:
        """Wait until so many are free."""
        async with self._freed:
            await self._freed.wait_for(lambda: self.free >= wanted)
            self.free -= wanted
        try:
            yield
        finally:
            async with self._freed:
                self.free += wanted
                self._freed.notify_all()


class TcpLook:
    """Fulfils `Look`. `progress` hears how many ports were looked at; `span` limits the look to some of the 65,535;
    `sockets` is shared by all units of a run.

    A bench unit on 127.x.y.z shares the loopback of this laptop, so what answers on every loopback address is not the
    unit's.
    """

    def __init__(
        self,
        progress: Callable[[int], None] = lambda done: None,
        span: tuple[int, int] = ALL,
        sockets: Sockets | None = None,
    ) -> None:
        self.progress, self.span, self.sockets = progress, span, sockets or SocketsOfLaptop()

    async def ports(self, address: str, source: str) -> Ports:
        """What every TCP port does. Raises UnitError where the laptop has no such address."""
        found, silent = list[int](), set[int]()
        try:
            place(address, 1)
        except OSError:
            socket_named = address.partition("%")[2]
            raise UnitError(
                Trouble.UNREACHABLE, f"this laptop has no socket {socket_named}; 'ip link' lists them"
            ) from None
        lowest, highest = self.span
        # what refuses goes at the speed of its answers, what is silent waits: so many are in flight at one unit
        size = min(BATCH, self.sockets.most)
        for first in range(lowest, highest + 1, size):
            batch = range(first, min(first + size, highest + 1))
            async with self.sockets.taken(len(batch)):
                found += await self._batch(address, batch, source, silent)
            self.progress(batch[-1])
        found = sorted({*found, *await self._again(address, source, silent)})
        own = []
        if address.startswith("127.") and address != "127.0.0.1":
            own = [p for p in found if await self._batch(NOBODYS, range(p, p + 1), "", set())]
        return Ports(tuple(p for p in found if p not in own), frozenset(silent), self.span, tuple(own))

    async def _again(self, address: str, source: str, silent: set[int]) -> list[int]:
        """A second look at a few that were silent: a packet may have been lost."""
        if not silent or len(silent) > BATCH:
            return []
        quiet, found = sorted(silent), list[int]()
        silent.clear()
        async with self.sockets.taken(len(quiet)):
            found += await self._batch(address, quiet, source, silent)
        return found

    async def _batch(self, address: str, batch: Sequence[int], source: str, silent: set[int]) -> list[int]:
        # in a thread, so that other units' sessions are heard meanwhile
        found, shut = await asyncio.to_thread(_probe, address, batch, source)
        silent |= shut
        return found

    async def datagrams(self, address: str, source: str) -> Datagrams:
        """What a few UDP ports do; on a loopback address of a bench, without what this laptop itself answers."""
        found = await datagrams.look(address, source)
        if found.seen and address.startswith("127.") and address != "127.0.0.1":
            own = {one.port for one in (await datagrams.look(NOBODYS, "")).seen}
            return replace(found, seen=tuple(one for one in found.seen if one.port not in own))
        return found

    async def look(self, address: str, port: int, source: str) -> Seen:
        """The first words of one port and what can be told from them; never raises, never logs in."""
        try:
            async with self.sockets.taken(1), asyncio.timeout(WAIT * 8):
                return await self._look(address, port, source)
        except (OSError, TimeoutError, asyncio.IncompleteReadError, ValueError):
            return Seen(port, "unknown", "")

    async def _look(self, address: str, port: int, source: str) -> Seen:
        first, offers = await self._greeting(address, port, source)
        if first.startswith(b"SSH-"):
            return Seen(port, "ssh", _line(first), offers)
        if first[:1] == b"\xff":
            return Seen(port, "telnet", _line(_without_options(first)))
        if first[:4] in (b"220 ", b"220-"):
            return await self._greeted(address, port, source, first)
        if first:
            return Seen(port, "unknown", _line(first))
        if certificate := await self._tls(address, port, source):
            return Seen(port, "tls", certificate.pop("banner", ""), certificate)
        answer = await self._exchange(address, port, source, _first_page(address), WAIT, whole=True)
        # some think long before their first words
        if answer.startswith(b"SSH-"):
            return Seen(port, "ssh", _line(answer), (await self._greeting(address, port, source, WAIT * 2))[1])
        if answer[:1] == b"\xff":
            return Seen(port, "telnet", _line(_without_options(answer)))
        if answer.startswith(b"HTTP/"):
            return Seen(port, "http", _line(answer), _page(answer))
        return Seen(port, "unknown", _line(answer))

    async def _greeted(self, address: str, port: int, source: str, first: bytes) -> Seen:
        """File transfer and mail greet alike (RFC 959, RFC 5321); what they say to a word only one knows tells."""
        reader, writer = await asyncio.open_connection(
            address, port, local_addr=(source, 0) if source else None, limit=8192
        )
        user, opened = b"", b""
        try:
            async with asyncio.timeout(WAIT * 3):
                await reader.readline()
                writer.write(b"USER anonymous\r\n")
                user = await reader.readline()
                if user[:3] == b"331":
                    writer.write(b"PASS guest@\r\n")
                    opened = await reader.readline()
        except (TimeoutError, OSError, ValueError):
            pass
        finally:
            writer.transport.abort()
        if b"ftp" in first.lower() or user[:3] in (b"331", b"230", b"530", b"332"):
            anonymous = b"230" in (user[:3], opened[:3])
            told = anonymous or user[:3] in (b"530", b"332") or opened[:3] == b"530"
            return Seen(port, "ftp", _line(first), {"anonymous": anonymous} if told else {})
        return Seen(port, "smtp" if b"smtp" in first.lower() else "unknown", _line(first))

    async def _exchange(
        self, address: str, port: int, source: str, send: bytes, wait: float, whole: bool = False
    ) -> bytes:
        """Say something; the first words of the answer or, where `whole`, what comes of it until its end."""
        reader, writer = await asyncio.open_connection(
            address, port, local_addr=(source, 0) if source else None, limit=8192
        )
        try:
            writer.write(send)
            return await _heard(reader, wait, whole)
        finally:
            writer.transport.abort()

    async def _greeting(self, address: str, port: int, source: str, wait: float = WAIT) -> tuple[bytes, dict[str, Any]]:
        """What it says before it is spoken to; where that is SSH, what it offers, over the same connection."""
        reader, writer = await asyncio.open_connection(
            address, port, local_addr=(source, 0) if source else None, limit=65536
        )
        try:
            first = await _heard(reader, wait, whole=False)
            return first, await _offers(first, reader, writer) if first.startswith(b"SSH-") else {}
        finally:
            writer.transport.abort()

    async def _tls(self, address: str, port: int, source: str) -> dict[str, Any] | None:
        met = await shaken(address, port, source, plain_context(), WAIT * 3)
        # one that knows nothing current is looked at all the same: nothing but a first page is asked for
        if isinstance(met, ssl.SSLError):
            met = await shaken(address, port, source, plain_context(outdated=True), WAIT * 3)
        if isinstance(met, Exception):
            return None
        outdated = await takes_outdated(address, port, source, WAIT * 3)
        reader, writer = met
        try:
            tls = writer.get_extra_info("ssl_object")
            der = tls.getpeercert(True)
            writer.write(_first_page(address))
            answer = await _heard(reader, WAIT, whole=True)
            web = {"web": _line(answer), **_page(answer)} if answer.startswith(b"HTTP/") else {}
            return {"version": tls.version(), "outdated": outdated, **(_certificate(der) if der else {}), **web}
        finally:
            writer.transport.abort()

    async def knock(self, door: Door, source: str) -> Port:
        """Does the service let this source in? A service that waits for the client to speak first is open as soon as it
        keeps the connection."""
        if door.service == "snmp":
            try:
                answer = await asked(door.address, door.port, source, snmp.DISCOVERY)
            except OSError as e:
                return Untried("this laptop has no such address") if e.errno == errno.EADDRNOTAVAIL else Quiet()
            return Refusing() if answer is None else Open() if answer else Quiet()
        writer = None
        try:
            async with self.sockets.taken(1), asyncio.timeout(WAIT * 3):
                local = (source, 0) if source else None
                if door.scheme == "https":
                    return await self._sealed(door, local)
                reader, writer = await asyncio.open_connection(door.address, door.port, local_addr=local, limit=8192)
                try:
                    said = await asyncio.wait_for(reader.read(4096), WAIT)
                except TimeoutError:
                    return await self._spoken_to(door, reader, writer)
                return Open(await _begun(said, reader)) if said else Refusing(listening=True)
        except ConnectionRefusedError:
            return Refusing()
        except ConnectionResetError:
            return Refusing(listening=True)
        except (TimeoutError, OSError) as e:
            if getattr(e, "errno", 0) == errno.EADDRNOTAVAIL:
                return Untried("this laptop has no such address")
            return Quiet()
        finally:
            if writer is not None:
                writer.transport.abort()

    async def _sealed(self, door: Door, local: tuple[str, int] | None) -> Port:
        """What speaks TLS (RFC 8446) lets in every client it completes the handshake with, or says why it does not."""
        made = plain_context()
        try:
            reader, writer = await asyncio.open_connection(
                door.address, door.port, local_addr=local, ssl=made, server_hostname=""
            )
        except ssl.SSLError as e:
            return Refusing(listening=True) if "EOF" in str(e) else Open()
        try:
            return await self._spoken_to(door, reader, writer) if door.scheme == "https" else Open()
        finally:
            writer.transport.abort()

    async def _spoken_to(self, door: Door, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> Port:
        """It waits for us to begin: so we do, in the plainest words any service answers or blocks."""
        writer.write(_first_page(door.address))
        try:
            first = await asyncio.wait_for(reader.read(4096), WAIT)
        except TimeoutError:
            return Quiet()
        # one that forbids (RFC 9110, section 15.5.4) answers, and lets nobody in
        if not first or _FORBIDS.match(first):
            return Refusing(listening=True)
        return Open(await _begun(first, reader))


_FORBIDS = re.compile(rb"HTTP/\d(\.\d)? 403\b")


async def _begun(said: bytes, reader: asyncio.StreamReader) -> str:
    """The first words, and what comes with them: they may arrive in pieces. Of SSH a line is all (RFC 4253, section
    4.2)."""
    if said.startswith(b"SSH-") and said.endswith(b"\n"):
        return said.decode(errors="replace")
    return (said + await _heard(reader, MOMENT, whole=True)).decode(errors="replace")


def _first_page(address: str) -> bytes:
    """The question for the first page of a web server (RFC 1945)."""
    return f"GET / HTTP/1.0\r\nHost: {in_url(address)}\r\n\r\n".encode()


async def _heard(reader: asyncio.StreamReader, wait: float, whole: bool) -> bytes:
    """What came within so many seconds: the first words, or until the end or the limit."""
    out = b""
    try:
        async with asyncio.timeout(wait):
            while (chunk := await reader.read(4096)) and len(out) < MOST_PAGE:
                out += chunk
                if not whole:
                    break
    except (TimeoutError, OSError):
        pass
    return out


async def _offers(first: bytes, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> dict[str, Any]:
    """What an SSH server offers in its first packet (RFC 4253, sections 6 and 7.1); empty where that does not come."""
    got = first
    try:
        async with asyncio.timeout(WAIT * 2):
            writer.write(b"SSH-2.0-YardBolt\r\n")
            while len(got) < MOST_PAGE:
                begin = got.find(b"\n") + 1
                size = 4 + min(int.from_bytes(got[begin : begin + 4], "big"), 35000)
                if begin and len(got) >= begin + 4 and len(got) >= begin + size:
                    return dict(decode_kexinit(got[begin : begin + size]) or {})
                if not (chunk := await reader.read(4096)):
                    break
                got += chunk
    except (TimeoutError, OSError, ValueError):
        pass
    return {}


def _page(answer: bytes) -> dict[str, Any]:
    """What can be told of a web server from its first page: who it says it is, where it sends one, for which login it
    asks."""
    head, _, body = answer.partition(b"\r\n\r\n")
    lines = [line.partition(":") for line in clean(head.decode("latin-1")).split("\n")]
    named = {name.strip().lower(): value.strip()[:200] for name, _, value in lines}
    details: dict[str, Any] = {name: named[name] for name in ("server", "location") if name in named}
    if challenge := named.get("www-authenticate", ""):
        details["asks by"] = challenge.split()[0].lower()
    elif _PASSWORD_FIELD.search(body):
        details["asks by"] = "a form"
    return details


def _without_options(raw: bytes) -> bytes:
    """The words between telnet's options (RFC 854, RFC 855)."""
    out, at = bytearray(), 0
    while at < len(raw):
        if raw[at] != 255:
            out.append(raw[at])
            at += 1
        elif raw[at + 1 : at + 2] == b"\xfa":
            end = raw.find(b"\xff\xf0", at)
            at = end + 2 if end >= 0 else len(raw)
        else:
            at += 3 if raw[at + 1 : at + 2] in (b"\xfb", b"\xfc", b"\xfd", b"\xfe") else 2
    return bytes(out)


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
