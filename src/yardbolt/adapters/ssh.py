"""SSH, through asyncssh: a console in a pseudo-terminal, or single commands. Only what is passed in is used: no agent, no default
keys, no user configuration, no known-hosts file. The host key is compared before any credential leaves."""

from __future__ import annotations

import asyncio
import contextlib
from typing import Any

import asyncssh

from yardbolt.core.dialogue import MOST, Heard, Turn, clean
from yardbolt.core.errors import FileError, IdentityError, Trouble, UnitError
from yardbolt.core.ports import Answer, Credential, Opening, Place

from .talk import CONNECT, Secrets, filled, hear, revealed

ERRORS: tuple[tuple[type[BaseException], str], ...] = (
    (asyncssh.PermissionDenied, "refused"),
    (asyncssh.ConnectionLost, "closed"),
    (asyncssh.KeyExchangeFailed, "garbled"),
    (asyncssh.ProtocolError, "garbled"),
    (asyncssh.DisconnectError, "closed"),
    (asyncssh.Error, "garbled"),
    (ConnectionRefusedError, "closed"),
    (ConnectionResetError, "closed"),
    (TimeoutError, "silent"),
    (OSError, "silent"),
)


class _Client(asyncssh.SSHClient):
    """Gives one password once, compares the host key first, and keeps what the unit says on the way."""

    def __init__(self, password: str | None, pin: str) -> None:
        self._password, self.pin = password, pin
        self.fingerprint, self.notice, self.changed, self.asked = "", "", False, False

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        self.fingerprint = f"{key.get_algorithm()} {key.get_fingerprint()}"
        self.changed = bool(self.pin) and self.pin != self.fingerprint
        return not self.changed

    def auth_banner_received(self, msg: str, lang: str) -> None:
        self.notice = (self.notice + msg)[:4000]

    def password_auth_requested(self) -> str | None:
        return self._once()

    def kbdint_auth_requested(self) -> str | None:
        return None if self.asked or self._password is None else ""

    def kbdint_challenge_received(self, name: str, instructions: str, lang: str, prompts: Any) -> list[str] | None:
        if not prompts:
            return []
        got = self._once()
        return None if got is None else [got] * len(prompts)

    def _once(self) -> str | None:
        """The password, the first time only: each further offer would be one more wrong try on the unit."""
        if self.asked:
            return None
        self.asked = True
        return self._password


def outcome_of(error: BaseException) -> str:
    """What a foreign error means for a login."""
    return next(word for kind, word in ERRORS if isinstance(error, kind))


class SshChannel:
    """One SSH connection. `mode` is console or commands; `pin` the fingerprint noted before, or empty."""

    typed = False

    def __init__(self, secrets: Secrets, mode: str, pin: str = "") -> None:
        self._secrets, self.mode, self.pin = secrets, mode, pin
        self._conn: asyncssh.SSHClientConnection | None = None
        self._process: asyncssh.SSHClientProcess[str] | None = None

    async def open(self, place: Place, credential: Credential) -> Opening:
        """Connect and log in. Raises IdentityError when the host key is not the one noted."""
        keys = None
        if credential.key_file:
            try:
                keys = [asyncssh.read_private_key(credential.key_file)]
            except (OSError, asyncssh.KeyImportError) as e:
                raise FileError(credential.key_file, 0, "", f"no private key that can be used: {type(e).__name__}") from None
        client = _Client(None if keys else revealed(credential.secret, self._secrets), self.pin)
        try:
            conn, _ = await asyncio.wait_for(
                asyncssh.create_connection(
                    lambda: client, place.address, place.port,
                    local_addr=(place.source, 0) if place.source else None,
                    config=None, known_hosts=([], [], []), client_keys=keys, agent_path=None, agent_forwarding=False,
                    username=credential.account, preferred_auth="publickey" if keys else "password,keyboard-interactive",
                    kex_algs="*", encryption_algs="*", mac_algs="*", server_host_key_algs="*",
                    connect_timeout=CONNECT, login_timeout=CONNECT, keepalive_interval=0, gss_kex=False, gss_auth=False,
                ), CONNECT * 2 + 1,
            )  # fmt: skip
        except (asyncssh.Error, OSError, TimeoutError) as e:
            if client.changed:
                raise IdentityError(
                    f"{place.address}:{place.port} shows host key {client.fingerprint}, noted was {self.pin}; nothing was sent. "
                    "If the change is meant, find out who made it, then 'yardbolt records forget-key UNIT'"
                ) from None
            return Opening(outcome_of(e), clean(client.notice), client.fingerprint)
        self._conn = conn
        try:
            if self.mode == "console":
                self._process = await asyncio.wait_for(
                    conn.create_process(term_type="dumb", term_size=(200, 50), encoding="utf-8", errors="replace"), CONNECT
                )
        except (asyncssh.Error, OSError, TimeoutError) as e:
            await self.close()
            return Opening("closed", f"{clean(client.notice)}logged in, but no console opened ({type(e).__name__})", client.fingerprint)
        return Opening("opened", clean(client.notice), client.fingerprint)

    async def turn(self, turn: Turn) -> Heard:
        """One turn of a conversation."""
        assert self._process is not None
        process = self._process
        with contextlib.suppress(asyncssh.Error, OSError):
            if turn.send is not None:
                process.stdin.write(filled(turn.send, self._secrets) + ("\r" if turn.line else ""))

        async def read() -> str:
            try:
                return await process.stdout.read(4096)
            except (asyncssh.Error, OSError):
                return ""

        return await hear(turn, read)

    async def fetch(self, command: str, seconds: float) -> Answer:
        """Run one command. Raises UnitError when it takes too long, says too much, or the connection ends."""
        assert self._conn is not None
        try:
            async with asyncio.timeout(seconds):
                process = await self._conn.create_process(command, encoding="utf-8", errors="replace", stdin=asyncssh.DEVNULL)
                text, errors = await asyncio.gather(_bounded(process.stdout), _bounded(process.stderr))
                await process.wait_closed()
        except TimeoutError:
            raise UnitError(Trouble.SILENT, f"no answer within {seconds:.0f} s") from None
        except (asyncssh.Error, OSError) as e:
            raise UnitError(Trouble.CLOSED, f"the connection ended ({type(e).__name__})") from None
        status = process.exit_status
        return Answer(clean(text), -1 if status is None else status, clean(errors))

    async def close(self) -> None:
        """End the connection; never raises, never waits long."""
        if self._conn is not None:
            self._conn.close()
            with contextlib.suppress(asyncssh.Error, OSError, TimeoutError):
                await asyncio.wait_for(self._conn.wait_closed(), 2)


async def _bounded(stream: asyncssh.SSHReader[str]) -> str:
    parts, size = [], 0
    while chunk := await stream.read(65536):
        parts.append(chunk)
        size += len(chunk)
        if size > MOST:
            raise UnitError(Trouble.TOO_MUCH, f"the unit sent more than {MOST // 1024} KiB in one answer")
    return "".join(parts)
