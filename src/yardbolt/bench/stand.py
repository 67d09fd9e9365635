"""Real protocol servers for bench units: SSH through asyncssh, telnet through telnetlib3, on 127.x.y.z addresses.

Sources are enforced at the door, by the address a connection comes from. A fault switch makes a unit misbehave.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import asyncssh
from telnetlib3 import ECHO, SGA, WILL
from telnetlib3.server import TelnetServer

from .lineswitch import Board
from .relaybox import Counter

FAULTS = {
    "none": "behaves",
    "hang": "takes connections and says nothing",
    "drop": "ends the connection in the middle of an answer",
    "noise": "speaks no protocol at all, only noise",
    "garbage": "answers questions with binary garbage",
    "endless": "answers questions without end",
    "newkey": "shows another host key",
    "refuse": "refuses every connection",
    "swallow": "says yes to changes and makes none",
    "credulous": "takes any phrase of somebody it knows",
    "blank": "takes a blank phrase too",
    "namesake": "takes a name as its own phrase too",
    "short": "compares the first eight characters of a phrase",
    "overlong": "takes whatever begins with the phrase",
    "edges": "compares the first and the last four characters of a phrase",
    "caseless": "takes capitals for small letters",
    "ghost": "still lets in who was dismissed",
    "cached": "shows a page that somebody saw to anyone who asks for it",
    "blab": "repeats every phrase it is told, for all to read",
}
AWAY_SECONDS = 1.0
ENDLESS_BYTES = 60 * 1024 * 1024


@dataclass
class Stand:
    """One unit on the bench: its mind, its address, its doors, its faults."""

    unit: Any  # a mind of Plugged; what is asked of it differs by its doors
    address: str
    fault: Callable[[], str] = lambda: "none"
    key: asyncssh.SSHKey = field(default_factory=lambda: asyncssh.generate_private_key("ssh-ed25519"))
    other_key: asyncssh.SSHKey = field(default_factory=lambda: asyncssh.generate_private_key("ssh-ed25519"))
    away_until: float = 0.0
    listeners: dict[str, socket.socket] = field(default_factory=dict)
    remembered: dict[str, str] = field(default_factory=dict)  # everybody who ever was there
    tasks: set[asyncio.Task[Any]] = field(default_factory=set)

    def __post_init__(self) -> None:
        self.unit.on_start.append(self.left)

    def left(self) -> None:
        """The unit restarts: nothing listens for a while."""
        self.away_until = time.monotonic() + AWAY_SECONDS

    def try_phrase(self, name: str, phrase: str) -> str:
        """As the unit would, or as its fault has it."""
        known = name in self.unit.known()
        right = self.unit.known().get(name, "")
        lies = {
            "short": known and len(right) > 8 and phrase[:8] == right[:8],
            "overlong": known and right != "" and phrase.startswith(right),
            "edges": known and len(right) > 8 and (phrase[:4], phrase[-4:]) == (right[:4], right[-4:]),
            "caseless": known and right != "" and phrase.casefold() == right.casefold(),
            "credulous": known,
            "blank": known and phrase == "",
            "namesake": known and phrase == name,
            "ghost": not known and self.remembered.get(name) == phrase,
        }
        honest = known and phrase == right
        return "in" if lies.get(self.fault()) and not honest else self.unit.try_phrase(name, phrase)

    # -- doors --

    async def run(self) -> None:
        """Keep the doors as the unit's settings say, for as long as the bench is up."""
        try:
            while True:
                self.set_doors()
                self.remembered |= self.unit.known()
                await asyncio.sleep(0.05)
        finally:
            for name in list(self.listeners):
                self.shut(name)
            for task in self.tasks:
                task.cancel()

    def set_doors(self) -> None:
        """Open and shut listening sockets."""
        away = time.monotonic() < self.away_until or self.fault() == "refuse"
        for name, gate in self.unit.live.gates.items():
            if (not gate.open or away) and name in self.listeners:
                self.shut(name)
            elif gate.open and not away and name not in self.listeners:
                if self.away_until:
                    self.unit.started, self.away_until = self.unit.tick(), 0.0
                self.listeners[name] = self.listen(gate.wire)
                asyncio.get_running_loop().add_reader(self.listeners[name], self.accept, name, self.listeners[name])

    def listen(self, port: int) -> socket.socket:
        """A listening socket on this unit's address."""
        s = socket.socket()
        s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        s.setblocking(False)
        try:
            s.bind((self.address, port))
        except OSError:
            s.close()
            raise
        s.listen(64)
        return s

    def shut(self, name: str) -> None:
        """Close a door; connections already in stay."""
        listener = self.listeners.pop(name)
        asyncio.get_running_loop().remove_reader(listener)
        listener.close()

    def spawn(self, work: Any) -> None:
        """Run something beside."""
        task = asyncio.ensure_future(work)
        self.tasks.add(task)
        task.add_done_callback(self.tasks.discard)

    def accept(self, name: str, listener: socket.socket) -> None:
        """Let in who may come in."""
        try:
            sock, peer = listener.accept()
        except OSError:
            return
        sock.setblocking(False)
        self.spawn(self.guest(name, sock, peer[0]))

    async def guest(self, name: str, sock: socket.socket, source: str) -> None:
        """One connection, as the sources and the fault switch have it."""
        fault = self.fault()
        if not self.unit.takes(name, source):
            sock.close()
            return
        with contextlib.suppress(OSError, asyncssh.Error):
            if fault == "hang":
                with sock:
                    await asyncio.sleep(3600)
            elif fault == "noise":
                await asyncio.get_running_loop().sock_sendall(sock, os.urandom(2000) + b"\n" + os.urandom(2000))
                sock.close()
            elif name == "shell":
                await self.shell(sock, source, self.other_key if fault == "newkey" else self.key)
            else:
                await self.talk(sock, source)

    async def shell(self, sock: socket.socket, source: str, key: asyncssh.SSHKey) -> None:
        """SSH on an accepted socket."""
        stand = self

        class Door(asyncssh.SSHServer):
            def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
                self.conn = conn

            def begin_auth(self, username: str) -> bool:
                return True

            def password_auth_supported(self) -> bool:
                return True

            def validate_password(self, username: str, password: str) -> bool:
                got = stand.try_phrase(username, password)
                if got == "resting":
                    self.conn.send_auth_banner(stand.unit.barred)
                return got == "in"

        async def process(p: asyncssh.SSHServerProcess[str]) -> None:
            hand = p.get_extra_info("username")
            await self.board(self.unit.board("shell", source, hand), lambda: p.stdin.read(256), p.stdout.write)
            p.exit(0)
            p.channel.get_connection().close()

        await asyncssh.run_server(
            sock,
            server_factory=Door,
            server_host_keys=[key],
            process_factory=process,
            line_editor=False,
            encoding="utf-8",
            errors="replace",
            kbdint_auth=False,
            public_key_auth=False,
            gss_host=None,
            server_version=self.unit.version,
            login_timeout=20,
            config=[],
            kex_algs=["curve25519-sha256"],
            encryption_algs=["chacha20-poly1305@openssh.com", "aes256-gcm@openssh.com"],
            mac_algs=["hmac-sha2-256-etm@openssh.com", "hmac-sha2-256"],
            compression_algs=None,
        )

    async def talk(self, sock: socket.socket, source: str) -> None:
        """Telnet on an accepted socket."""

        async def shell(reader: Any, writer: Any) -> None:
            writer.iac(WILL, ECHO)
            writer.iac(WILL, SGA)
            await self.board(self.unit.board("talk", source), lambda: reader.read(256), writer.write)
            writer.close()

        await asyncio.get_running_loop().connect_accepted_socket(
            lambda: TelnetServer(
                shell=shell,
                encoding="utf8",
                encoding_errors="replace",
                connect_maxwait=0.3,
                timeout=0,
                compression=False,
            ),
            sock,
        )

    # -- a board on a wire --

    async def board(self, board: Board | Counter, read: Callable[[], Any], write: Callable[[str], Any]) -> None:
        """Carry text between a board and its connection, character by character, until one of them ends."""
        with contextlib.suppress(OSError, asyncssh.Error, RuntimeError, asyncssh.BreakReceived):
            write(board.greet().replace("\n", "\r\n"))
            line = ""
            while not board.ended:
                typed = await self.typed(board, read)
                if typed is None:
                    break
                for c in typed:
                    if board.pages and c in " \r\n":
                        write("\r" + board.page().replace("\n", "\r\n"))
                    elif c in "\r\n":
                        if c == "\n" and not line:
                            continue
                        write("\r\n")
                        if not await self.answer(board, line, write):
                            board.end()
                            return
                        line = ""
                    elif c >= " ":
                        line += c
                        if not board.hides:
                            write(c)
        board.end()

    async def typed(self, board: Board | Counter, read: Callable[[], Any]) -> str | None:
        """What is typed next; None when the connection, the board or the patience of the unit ends."""
        waiting = asyncio.ensure_future(read())
        limit = self.unit.live.rest * 60 or None
        since = time.monotonic()
        while not board.ended and (limit is None or time.monotonic() - since < limit):
            done, _ = await asyncio.wait({waiting}, timeout=0.2)
            if done:
                return waiting.result() or None
        waiting.cancel()
        return None

    async def answer(self, board: Board | Counter, line: str, write: Callable[[str], Any]) -> bool:
        """Say what the board says, or what the fault makes of it."""
        fault = self.fault()
        if board.asking is None and line.strip():
            if fault == "garbage":
                write(os.urandom(3000).decode("latin-1") + "\r\n" + board.prompt())
                return True
            if fault == "endless":
                sent, block = 0, ("endless " * 15 + "\r\n") * 500
                while sent < ENDLESS_BYTES and not board.ended:
                    write(block)
                    sent += len(block)
                    await asyncio.sleep(0)
                return False
            if fault == "swallow" and line.split()[0] in ("engrave", "gate", "fact", "way"):
                write("Set.\r\n" + board.prompt())
                return True
        hidden = board.hides
        said = board.hear(line).replace("\n", "\r\n")
        if fault == "blab" and hidden:
            said = f"I was told {line}\r\n{said}"
        if fault == "drop" and board.hand and line.strip():
            write(said[: len(said) // 2])
            return False
        write(said)
        await asyncio.sleep(0)
        return True
