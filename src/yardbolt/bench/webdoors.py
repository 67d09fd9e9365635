"""Real web servers for bench units: HTTP and TLS through uvicorn, what is asked through starlette.

Sources are enforced at the door, by the address a connection comes from, before a byte is read.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import socket
import ssl
import tempfile
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl

import asyncssh
import uvicorn
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route
from uvicorn.protocols.http.h11_impl import H11Protocol
from uvicorn.server import ServerState

from .linecamera import LineCamera
from .paged import Paged
from .stand import Stand

# what a unit says that says yes and does nothing
PLAIN = (
    Response("{}", media_type="application/json"),
    Response("<html><title>Desk</title><p>Noted.</p></html>", media_type="text/html"),
)
VERBS = ["GET", "POST", "PUT", "PATCH", "DELETE"]


def certificate(name: str, serial: int) -> ssl.SSLContext:
    """What a unit shows that vouches for itself."""
    key = ec.generate_private_key(ec.SECP256R1())
    who = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder().subject_name(who).issuer_name(who).public_key(key.public_key()).serial_number(serial)
        .not_valid_before(now - timedelta(days=1)).not_valid_after(now + timedelta(days=900)).sign(key, hashes.SHA256())
    )  # fmt: skip
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "both.pem"
        plain = serialization.NoEncryption()
        file.write_bytes(
            key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, plain)
            + made.public_bytes(serialization.Encoding.PEM)
        )
        context.load_cert_chain(file)
    return context


@dataclass
class WebStand(Stand):
    """One unit with web doors."""

    shown: dict[int, ssl.SSLContext] = field(default_factory=dict)
    open_now: set[Any] = field(default_factory=set)
    cached: dict[str, Response] = field(default_factory=dict)

    def __post_init__(self) -> None:
        super().__post_init__()
        self.unit.on_move.append(self.elsewhere)
        if isinstance(self.unit, LineCamera):
            self.unit.on_say.append(self.say)

    def say(self, to: str, port: int, words: str) -> None:
        """Send its log somewhere, by UDP from its own address."""
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one, contextlib.suppress(OSError):
            one.bind((self.address, 0))
            one.sendto(f"<134>1 - {self.unit.called} - - - - {words}".encode(), (to, port))

    def elsewhere(self) -> None:
        """It has another address: open connections get their answer and end."""

        def move() -> None:
            self.cut()
            for name in list(self.listeners):
                self.shut(name)
            self.address = self.unit.live.place.partition("/")[0]

        asyncio.get_running_loop().call_later(0.1, move)

    def left(self) -> None:
        """It restarts: open connections are cut off."""
        super().left()
        asyncio.get_running_loop().call_later(0.05, self.cut)

    def cut(self) -> None:
        """End every connection."""
        for transport in list(self.open_now):
            # asyncio of Python 3.11.2 has nothing to abort where a sealed one was closed already
            with contextlib.suppress(AttributeError):
                transport.abort()
        self.open_now.clear()

    async def guest(self, name: str, sock: socket.socket, source: str) -> None:
        """One connection, as the sources and the fault switch have it."""
        if not self.unit.takes(name, source):
            sock.close()
            return
        fault, gate = self.fault(), self.unit.live.gates[name]
        with contextlib.suppress(OSError, asyncssh.Error):
            if name == "shell" and fault not in ("hang", "noise"):
                await self.shell(sock, source, self.other_key if fault == "newkey" else self.key)
            elif fault == "hang" or name == "hatch":
                with sock:
                    await asyncio.sleep(3600)
            elif fault == "noise":
                await asyncio.get_running_loop().sock_sendall(sock, os.urandom(2000))
                sock.close()
            else:
                await self.serve(sock, gate.sealed)

    async def serve(self, sock: socket.socket, sealed: bool) -> None:
        """HTTP on an accepted socket."""
        app = Starlette(routes=[Route("/{path:path}", self.asked, methods=VERBS)])
        config = uvicorn.Config(app, log_config=None, lifespan="off", access_log=False, http="h11")
        config.load()
        transport, _ = await asyncio.get_running_loop().connect_accepted_socket(
            lambda: H11Protocol(config, ServerState(), {}), sock, ssl=self.context() if sealed else None
        )
        self.open_now = {one for one in self.open_now if not one.is_closing()} | {transport}

    def context(self) -> ssl.SSLContext:
        """The certificate of now."""
        count = self.unit.certificate + (1000 if self.fault() == "newkey" else 0)
        if count not in self.shown:
            self.shown[count] = certificate(self.unit.works, count)
        return self.shown[count]

    async def asked(self, request: Request) -> Response:
        """One question, answered as the unit does or as its fault has it."""
        raw = await request.body()
        source = request.client.host if request.client else ""
        answer = self.paged if isinstance(self.unit, Paged) else self.told
        writes = request.method != "GET" and request.url.path not in ("/gate/answer", "/door", "/in")
        match self.fault():
            case "swallow" if writes:
                return PLAIN[isinstance(self.unit, Paged)]
            case "garbage":
                return Response(os.urandom(3000), media_type=answer(request, raw, source).media_type)
            case "endless":
                return Response(b"[<div>" * 10_000_000, media_type=answer(request, raw, source).media_type)
        named, asked = self.names_itself(request), str(request.url)
        if self.fault() == "cached" and not named and not writes and asked in self.cached:
            return self.cached[asked]
        got = answer(request, raw, source)
        if named and not writes and got.status_code == 200:
            self.cached[asked] = got
        spoiled = {
            "drop": bytes(got.body)[: len(got.body) // 2] if not writes else got.body,
            "blab": bytes(got.body) + raw,
        }
        if self.fault() in spoiled:
            got.body = spoiled[self.fault()]
            got.headers["content-length"] = str(len(got.body))
        return got

    def names_itself(self, request: Request) -> bool:
        """Does it come with something that a login gave it?"""
        seats = getattr(self.unit, "inside", {})
        return request.cookies.get("seat", "") in seats or any(
            request.headers.get(name) for name in ("authorization", "gate-pass")
        )

    def told(self, request: Request, raw: bytes, source: str) -> Response:
        """An object."""
        unit = self.unit
        target = request.url.path + (f"?{request.url.query}" if request.url.query else "")
        if unit.tick() - unit.started < unit.shy:
            return Response("waking up", 503)
        try:
            body = json.loads(raw) if raw else None
        except ValueError:
            body = None
        if isinstance(unit, LineCamera):
            status, who = unit.proven(request.method, target, request.headers.get("authorization", ""), source)
            if status != 200:
                answer = Response(status_code=status or 401)
                for one in unit.challenge(stale=status == 0) if status in (0, 401) else ():
                    answer.headers.append("www-authenticate", one)
                return answer
            grip = unit.grip(target)
            if grip and request.method == "PUT" and (named := request.headers.get("if-match", "")) != grip:
                return Response(b"", 412 if named else 428)
            got, tree = unit.answer(who, request.method, target, body)
            if grip and request.method == "GET":
                return Response(json.dumps(tree), got, {"ETag": grip}, media_type="application/json")
        else:
            got, tree = unit.reply(request.method, target, request.headers, body, source)
        return Response(b"" if tree is None else json.dumps(tree), got, media_type="application/json")

    def paged(self, request: Request, raw: bytes, source: str) -> Response:
        """One page."""
        sent = dict(parse_qsl(raw.decode(errors="replace"), keep_blank_values=True))
        path, query = request.url.path.rstrip("/"), dict(request.query_params)
        seat = request.headers.get("authorization", "") or request.cookies.get("seat", "")
        got = self.unit.reply(request.method, path, query, sent, seat, source)
        answer = Response(got.body, got.status, media_type="text/html")
        if got.asks:
            answer.headers["www-authenticate"] = got.asks
        if got.to:
            answer.headers["location"] = got.to
        if got.cookie:
            # a clock that stands in 1970 makes every cookie an old one
            answer.headers["set-cookie"] = (
                f"seat={got.cookie}; Path=/; Secure; expires=Thu, 01 Jan 1970 00:00:00 GMT; Domain=unit.invalid"
            )
        return answer
