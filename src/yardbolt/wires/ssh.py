"""SSH (RFC 4251 to 4254), through asyncssh: a console in a pseudo-terminal, or single commands.

Only what is passed in is used: no agent, no default keys, no user configuration, no known-hosts file. The host key is
compared before any credential leaves.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import secrets
from typing import Any

import asyncssh
from asyncssh.encryption import get_encryption_algs
from asyncssh.kex import get_kex_algs
from asyncssh.mac import get_mac_algs

from yardbolt.core.algorithms import outdated as is_outdated
from yardbolt.core.credentials import Credential, Key
from yardbolt.core.doors import Door
from yardbolt.core.errors import FileError, IdentityError, clean
from yardbolt.core.secret import Slot, Text
from yardbolt.core.talk.host.commands import Part, Ran, RanAll, Run, RunAll
from yardbolt.core.talk.host.expiry import CHANGE
from yardbolt.core.talk.host.script import frames, script
from yardbolt.core.talk.logon import NEW, says
from yardbolt.core.talk.outcomes import Asked, Cut, End, Login, Lost, NoListener, Opened, Refused, Silent
from yardbolt.core.talk.text.console import Heard, Turn
from yardbolt.core.talk.tree import DEEPEST, Tree, depth

from .foreign import meaning
from .hearing import CONNECT, Ear, Secrets, filled, revealed

BELOW = b"\njson\n"  # what a section prints before its JSON
OPENINGS, OPENING = 12, 0.25  # how often a channel is asked for, and seconds between
MOST_BYTES = 8 * 1024 * 1024  # of one answer; a script of many sections is one
# Plain keys, the strongest first; the outdated last, for units that have nothing else and may be spoken to so.
# Certificates (not in any RFC) are left out: some small servers end the connection over them.
HOST_KEYS = [
    "ssh-ed25519", "ssh-ed448", "ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521",
    "rsa-sha2-256", "rsa-sha2-512", "ssh-rsa", "ssh-dss",
]  # fmt: skip
ALGORITHMS: dict[str, list[str]] = {
    "kex_algs": [one.decode() for one in get_kex_algs()],
    "encryption_algs": [one.decode() for one in get_encryption_algs()],
    "mac_algs": [one.decode() for one in get_mac_algs()],
    "server_host_key_algs": HOST_KEYS,
}
WHILE_ENTERING = "it is asked for while logging in, which is not answered here: set it with an SSH client"
NOTHING_CURRENT = (
    "no current SSH in common with it; 'outdated: yes' in the job lets it be spoken to by what is outdated"
)
# What each foreign error means for a login, the most specific first. A connection that ends is not a refusal.
ERRORS: tuple[tuple[type[BaseException], type[Login]], ...] = (
    (asyncssh.PermissionDenied, Refused),
    (asyncssh.Error, Cut),
    (ConnectionRefusedError, NoListener),
    (ConnectionResetError, Cut),
    (TimeoutError, Silent),
    (OSError, Silent),
)


def outcome_of(error: BaseException, secret_sent: bool, said: str = "") -> Login:
    """What a foreign error means for a login."""
    kind = next(kind for foreign, kind in ERRORS if isinstance(error, foreign))
    if kind is Refused:
        return Refused(said)
    if kind is NoListener:
        return NoListener(said or "connection refused")
    why = said or meaning(error)
    return Cut(secret_sent, why) if kind is Cut else Silent(secret_sent, why)


class _Client(asyncssh.SSHClient):
    """Gives one password once, compares the host key first, and keeps what the unit says on the way."""

    def __init__(self, password: str | None, pin: str) -> None:
        self._password, self.pin = password, pin
        self.fingerprint, self.notice, self.changed, self.asked = "", "", False, False
        self.wants_new = ""  # what it says where the password was good, and must be changed first (RFC 4256)

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
        said = "\n".join((instructions, *(str(prompt) for prompt, _ in prompts)))
        if self.asked and says(said, *NEW):
            self.wants_new = f"{clean(said).strip()}\n{WHILE_ENTERING}"
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


def private_key(file: str) -> asyncssh.SSHKey:
    """The SSH key in a file. Raises FileError where there is none, or it wants a passphrase."""
    try:
        return asyncssh.read_private_key(file)
    except (OSError, asyncssh.KeyImportError) as e:
        raise FileError(file, 0, "", f"is not a usable SSH private key ({meaning(e)})") from None


def key_in(file: str) -> Key:
    """The SSH key in a file, by its fingerprint. Raises FileError where it cannot be used."""
    return Key(private_key(file).get_fingerprint(), file)


def offered(outdated: bool) -> dict[str, list[str]]:
    """What is offered to a unit, by name: what is current, or all there is."""
    return {kind: [one for one in names if outdated or not is_outdated(one)] for kind, names in ALGORITHMS.items()}


class _Connection:
    """One SSH connection, logged in as it is opened."""

    authenticates = True

    def __init__(self, secrets: Secrets, pin: str, outdated: bool = False) -> None:
        self._secrets, self._pin, self._outdated = secrets, pin, outdated
        self._conn: asyncssh.SSHClientConnection | None = None
        self.fingerprint = ""
        self._by_key = False
        self._ear = Ear()
        self._process: asyncssh.SSHClientProcess[str] | None = None

    async def open(self, door: Door, source: str, account: str, credential: Credential) -> Login:
        """Connect and log in. Raises IdentityError where the host key is not the one noted, FileError on a useless key
        file."""
        keys = self._keys(credential)
        self._by_key = bool(keys)
        password = None if keys else revealed(credential.ref, self._secrets)
        client = _Client(password, self._pin)
        try:
            self._conn, _ = await asyncio.wait_for(
                asyncssh.create_connection(
                    lambda: client, door.address, door.port,
                    local_addr=(source, 0) if source else None,
                    config=None, known_hosts=([], [], []), client_keys=keys, agent_path=None, agent_forwarding=False,
                    username=account,
                    preferred_auth="publickey" if keys else "password,keyboard-interactive",
                    **offered(self._outdated),
                    connect_timeout=CONNECT, login_timeout=CONNECT, keepalive_interval=0, gss_kex=False, gss_auth=False,
                ),
                CONNECT * 2 + 1,
            )  # fmt: skip
        except (asyncssh.Error, OSError, TimeoutError) as e:
            self.fingerprint = client.fingerprint
            if client.changed:
                raise IdentityError(
                    f"{door.address}:{door.port} shows host key {client.fingerprint}, noted was {self._pin}; "
                    "nothing was sent. If the change is meant, find out who made it, then "
                    "'yardbolt records forget-key UNIT'"
                ) from None
            if isinstance(e, asyncssh.KeyExchangeFailed) and "No matching" in e.reason and not self._outdated:
                return Cut(False, NOTHING_CURRENT)
            return (
                Asked(CHANGE, client.wants_new)
                if client.wants_new
                else outcome_of(e, client.asked, clean(client.notice))
            )
        self.fingerprint = client.fingerprint
        return await self._entered(clean(client.notice))

    def _keys(self, credential: Credential) -> list[asyncssh.SSHKey] | None:
        return [private_key(credential.file)] if isinstance(credential, Key) else None

    async def _entered(self, notice: str) -> Login:
        return Opened(notice)

    async def close(self) -> None:
        """End the connection; never raises, never waits long."""
        if self._conn is not None:
            self._conn.close()
            with contextlib.suppress(asyncssh.Error, OSError, TimeoutError):
                await asyncio.wait_for(self._conn.wait_closed(), 2)

    async def _terminal(self) -> str:
        """Open a pseudo-terminal; why that could not be, where it could not."""
        assert self._conn is not None
        opening = self._conn.create_process(term_type="dumb", term_size=(200, 50), encoding="utf-8", errors="replace")
        try:
            self._process = await asyncio.wait_for(opening, CONNECT)
        except (asyncssh.Error, OSError, TimeoutError) as e:
            return f"logged in, but no console opened ({meaning(e)})"
        return ""

    async def turn(self, event: Turn) -> Heard | Lost:
        """One turn of a conversation in the terminal."""
        assert self._process is not None
        process = self._process
        with contextlib.suppress(asyncssh.Error, OSError):
            if event.send is not None:
                process.stdin.write(filled(event.send, self._secrets) + ("\r" if event.line else ""))

        async def read() -> str:
            try:
                return await process.stdout.read(4096)
            except (asyncssh.Error, OSError):
                return ""

        return await self._ear.hear(event, read)


class SshConsole(_Connection):
    """A console in a pseudo-terminal."""

    async def _entered(self, notice: str) -> Login:
        if why := await self._terminal():
            await self.close()
            return Cut(True, f"{notice}{why}")
        return Opened(notice)

    async def exchange(self, event: Turn) -> Heard | Lost:
        """One turn of a conversation."""
        return await self.turn(event)


class SshCommands(_Connection):
    """Single commands, each on a channel of its own."""

    async def exchange(self, event: Run | RunAll | Turn) -> Ran | RanAll | Heard | Lost:
        """Run one command, or many as one framed script; or take one turn in a terminal, which is opened for it."""
        if isinstance(event, RunAll):
            return await self._run_all(event)
        if isinstance(event, Turn):
            why = await self._terminal() if self._process is None else ""
            why = why or self._lacks(event.send or ())
            return Lost(End.CLOSED, why=why) if why else await self.turn(event)
        # a blank line would be a wrong password, and a wrong try
        if why := self._lacks(event.input):
            return Ran("", 1, why)
        ran = await self._run(filled(event.command, self._secrets), filled(event.input, self._secrets), event.seconds)
        if isinstance(ran, Lost):
            return ran
        text, errors, status = ran
        return Ran(_text(text), status, _text(errors))

    def _lacks(self, message: Text) -> str:
        """Why a message cannot be sent that holds a password; empty where it can."""
        unknown = any(isinstance(part, Slot) and not self._secrets(part.ref) for part in message)
        return "a password is wanted, and none is known, for the login was by key" if unknown and self._by_key else ""

    async def _run_all(self, event: RunAll) -> RanAll | Lost:
        nonce = secrets.token_hex(12)
        texts = [filled(section.text, self._secrets) for section in event.sections]
        before = filled(event.before, self._secrets)
        ran = await self._run(event.command, before + script(texts, nonce, event.given), event.seconds)
        if isinstance(ran, Lost):
            return ran
        output, errors, _ = ran
        parts = {}
        for place, frame in frames(output, nonce).items():
            kind = event.sections[place].tree
            # what prints no JSON may end with the very line that JSON stands below
            text, _, below = (frame.body + b"\n").partition(BELOW) if kind == "below" else (frame.body, b"", frame.body)
            tree = await asyncio.to_thread(_json, below) if kind else None
            parts[place] = Part(_text(text), frame.status, tree)
        return RanAll(parts, _text(errors))

    async def _run(self, command: str, given: str, seconds: float) -> tuple[bytes, bytes, int] | Lost:
        """One command on a channel of its own, with its input; what it wrote on both outputs and its exit status."""
        assert self._conn is not None
        try:
            async with asyncio.timeout(seconds):
                process = await self._channel(command, bool(given))
                if given:
                    process.stdin.write(given.encode())
                    process.stdin.write_eof()
                text, errors = await asyncio.gather(_bounded(process.stdout), _bounded(process.stderr))
                await process.wait_closed()
        except TimeoutError:
            return Lost(End.SILENT)
        except (asyncssh.Error, OSError):
            return Lost(End.CLOSED)
        if text is None or errors is None:
            return Lost(End.TOO_MUCH, why=f"the unit sent more than {MOST_BYTES // 1024} KiB in one answer")
        return text, errors, -1 if process.exit_status is None else process.exit_status

    async def _channel(self, command: str, given: bool) -> asyncssh.SSHClientProcess[bytes]:
        """A new channel with its command. A server that allows few sessions at once may still be ending the one
        before: nothing was sent then, so it is asked again for a while."""
        assert self._conn is not None
        for left in reversed(range(OPENINGS)):
            try:
                return await self._conn.create_process(
                    command, encoding=None, stdin=asyncssh.PIPE if given else asyncssh.DEVNULL
                )
            except asyncssh.ChannelOpenError:
                if not left:
                    raise
                await asyncio.sleep(OPENING)
        raise AssertionError("it is asked at least once")


async def _bounded(stream: asyncssh.SSHReader[bytes]) -> bytes | None:
    """All of a stream, or None where it is more than the limit."""
    parts, size = [], 0
    while chunk := await stream.read(65536):
        parts.append(chunk)
        size += len(chunk)
        if size > MOST_BYTES:
            return None
    return b"".join(parts)


def _text(raw: bytes) -> str:
    return clean(raw.decode("utf-8", "replace"))


def _json(text: bytes) -> Tree:
    """The tree of a JSON text (RFC 8259); None where it is none, is nested too deeply, or holds what JSON does not
    know."""

    def refuse(word: str) -> None:
        raise ValueError(word)

    try:
        tree = json.loads(text, parse_constant=refuse)
    except (ValueError, RecursionError):
        return None
    return tree if depth(tree) < DEEPEST else None
