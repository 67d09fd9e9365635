"""Adapters against the real thing: the safe's file, the record's file, sockets of every kind, the SSH library's own
errors, the page."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import dataclasses
import datetime
import functools
import hashlib
import json
import socket
import sqlite3
import ssl
import threading
from pathlib import Path
from typing import Any

import asyncssh
import jsonschema
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import LAPTOP, MASTER, NETWORK, Tool
from yardbolt.adapters.documents import record_schema, written
from yardbolt.adapters.records import SqliteRecords
from yardbolt.adapters.safe import KdbxSafe, apart, copy_again, make_safe
from yardbolt.core.credentials import Password
from yardbolt.core.doors import Door
from yardbolt.core.errors import FileError, IdentityError, SafeError
from yardbolt.core.formats.syslog import Message, parsed, split
from yardbolt.core.plane.evidence import Evidence, Leftover
from yardbolt.core.run import documents, events, handover
from yardbolt.core.run.documents import CheckDocument, KeyDocument, TargetDocument, WantRow
from yardbolt.core.run.events import RunBegun, Tried, Trying
from yardbolt.core.secret import Ref, Secret, Slot
from yardbolt.core.talk.outcomes import (
    Cut,
    NoListener,
    Open,
    Opened,
    Quiet,
    Refused,
    Refusing,
    Silent,
    Untried,
    spends_a_try,
)
from yardbolt.core.talk.web.objectchannel import Call
from yardbolt.reports import FORMATS
from yardbolt.wires.http import WebLogin
from yardbolt.wires.look import TcpLook
from yardbolt.wires.objects import Objects
from yardbolt.wires.ssh import SshCommands, outcome_of

HOST, LOOKER = f"{NETWORK}.81", f"{NETWORK}.89"


def words_of(safe: KdbxSafe) -> dict[str, str]:
    return {ref.entry: got.reveal() for ref in safe.entries() if (got := safe.value(ref)) is not None}


def test_the_safe_is_whole_or_untouched(tmp_path: Path, light_safe: bytes) -> None:
    """Stored means on disk and in the copy, opened again and compared; two runs lose nothing to each other; what only
    one file knows survives, whichever is older; a stick that is gone stops, and is never made again."""
    path, copy, master = tmp_path / "s.kdbx", tmp_path / "stick" / "s.kdbx", Secret(MASTER)
    make_safe(path, master, None, copy)
    with pytest.raises(SafeError, match="never overwritten"):
        make_safe(path, master, None, None)
    for place in (path, copy):
        place.write_bytes(light_safe)
    first, second = KdbxSafe(path, master, None, copy), KdbxSafe(path, master, None, copy)

    def store(safe: KdbxSafe, **new: str) -> None:
        asyncio.run(safe.store({Ref(f"safe:u/{name}"): Secret(value) for name, value in new.items()}, "made"))

    def both() -> dict[str, str]:
        found = [words_of(KdbxSafe(place, master, None, None)) for place in (path, copy)]
        assert found[0] == found[1]
        return found[0]

    store(first, a="one", b="")
    backup = path.read_bytes()
    store(second, c="three")
    store(first, a="two")
    assert both() == {"safe:u/a": "two", "safe:u/b": "", "safe:u/c": "three"} == words_of(first)
    # an older safe is put back from a backup; then an older copy: the newer of the two wins, nothing is sent before
    for place in (path, copy):
        place.write_bytes(backup)
        asyncio.run(
            KdbxSafe(path, master, None, copy).assure((Ref("safe:u/a"),)) if place == copy else first.store({}, "")
        )
        assert both()["safe:u/a"] == "two" and both()["safe:u/c"] == "three"
    assert path.stat().st_mode & 0o777 == copy.stat().st_mode & 0o777 == 0o600
    copy.unlink()
    with pytest.raises(SafeError, match="second copy of the safe is not there; put the stick back"):
        asyncio.run(first.assure((Ref("safe:u/a"),)))
    with pytest.raises(SafeError, match="second copy of the safe is not there; put the stick back"):
        store(first, d="four")
    assert not copy.exists() and first.value(Ref("safe:u/d")) is None
    copy_again(path, copy)
    store(first, d="four")
    assert both()["safe:u/d"] == "four" and not apart(path, copy) and not list(tmp_path.rglob(".s.kdbx.[!l]*"))
    (tmp_path / "bad").write_bytes(b"rubbish" * 99)
    for file, words in (
        (path, "does not open it"),
        (tmp_path / "none", "no safe yet"),
        (tmp_path / "bad", "cannot be read"),
    ):
        with pytest.raises(SafeError, match=words):
            KdbxSafe(file, Secret("not it"), None, None)


def test_the_record_only_grows(tmp_path: Path) -> None:
    """Entries come back in order and folded once, no matter who wrote them; documents keep every version; rubbish is
    told."""
    records, other = SqliteRecords(tmp_path / "r.sqlite"), SqliteRecords(tmp_path / "r.sqlite")
    login: Any = {"account": "a", "service": "ssh", "source": "s", "address": "d", "secret": "safe:u/a"}
    for run in (0, 1, 0):
        records.append("u", run, Trying(**login))
        other.append("u", run, Tried(**login, outcome="opened", accepted=True))
    records.append("other", 1, RunBegun(steps=3, by="t"))
    for seen in (records.history(), other.history(), records.history()):
        assert [entry.event.event for entry in seen.of("u").entries] == ["trying", "tried"] * 3
        assert seen.of("other").open_run() == (1, True) and seen.of("u").open_run() == (2, False)
    records.file("u", KeyDocument(service="ssh", fingerprint="one"))
    number = other.file("u", KeyDocument(service="ssh", fingerprint="two"))
    newest = records.latest("u", "host key ssh", KeyDocument)
    assert newest and (newest.document.fingerprint, newest.number) == ("two", number)
    assert records.latest("u", "check", CheckDocument) is None and records.body(99) is None
    assert [(one.kind, one.unit) for one in records.listing()] == [("host key ssh", "u")] * 2
    records.close()
    other.close()
    (tmp_path / "bad").write_bytes(b"rubbish " * 999)
    with pytest.raises(FileError, match="cannot be used as a record"):
        SqliteRecords(tmp_path / "bad")
    with sqlite3.connect(tmp_path / "r.sqlite") as db:
        db.execute("update journal set entry = '{}'")
    with pytest.raises(FileError, match="not one this version knows"):
        SqliteRecords(tmp_path / "r.sqlite").history()


VALUES: dict[str, Any] = {"int": 3, "str": "t", "bool": True, "tuple[str, ...]": ("x", "y")}
WRITTEN = [kind for kind in vars(events).values() if hasattr(kind, "__annotations__") and hasattr(kind, "event")]


def made(kind: type) -> Any:
    """An event or row of a kind, with a value in every field."""
    return kind(**{f.name: VALUES[str(f.type)] for f in dataclasses.fields(kind) if str(f.type) in VALUES})


def test_every_event_and_document_fits_its_schema_and_comes_back(tmp_path: Path) -> None:
    """Journal and record are typed: what is written is valid by the printed schema, and read again it is the same
    value."""
    assert len(WRITTEN) >= 18
    records = SqliteRecords(tmp_path / "r.sqlite")
    entry, whole = record_schema("journal"), record_schema("record")
    for kind in WRITTEN:
        event = made(kind)
        jsonschema.validate(json.loads(written(event)), entry)
        records.append("u", 1, event)
    assert [type(e.event) for e in records.history().of("u").entries] == WRITTEN
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({"event": "dreamt", "what": "x"}, entry)
    evidence = Evidence("i", "a", "c", "a", "r", "t", "d", "e")
    finding, proof = made(documents.FindingRow), made(documents.ProofRow)
    plane = {"name": "x", "accounts": {"complete": True, "items": {"a": {"role": None}}}}
    common: Any = {
        "plane": plane,
        "evidence": (evidence,),
        "leftovers": (Leftover("a", "l"),),
        "origin": {"name": ("a",)},
    }
    made_documents: list[Any] = [
        CheckDocument(kind="as found", findings=(finding,), **common),
        documents.LeftDocument(findings=(finding,), proofs=(proof,), **common),
        TargetDocument(target=(WantRow(path="idle", rule="r", kind="set", value=600.0),), changes=("c",), run=1),
        KeyDocument(service="ssh", fingerprint="f"),
    ]
    for document in made_documents:
        jsonschema.validate(json.loads(written(document)), whole)
        records.file("u", document)
        filed = records.latest("u", documents.filed_as(document), type(document))
        assert filed and filed.document == document
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**json.loads(written(made_documents[0])), "plane": {"nothing": 1}}, whole)


def test_every_error_of_the_ssh_library_has_a_meaning_and_a_price() -> None:
    """Walk the library's own exceptions: none escapes the table, only a refusal is one, and what came after the secret
    costs a try."""
    kinds: set[type[BaseException]] = set()
    todo: list[type[BaseException]] = [asyncssh.Error]
    while todo:
        kind = todo.pop()
        kinds.add(kind)
        todo += kind.__subclasses__()
    assert len(kinds) > 20
    for kind in (*kinds, OSError, TimeoutError, ConnectionResetError, ConnectionRefusedError):
        before, after = outcome_of(kind.__new__(kind), False), outcome_of(kind.__new__(kind), True)
        assert isinstance(after, Refused) == issubclass(kind, asyncssh.PermissionDenied)
        assert isinstance(after, NoListener) == issubclass(kind, ConnectionRefusedError)
        assert isinstance(after, Refused | NoListener | Cut | Silent)
        assert spends_a_try(after) is not isinstance(after, NoListener), kind
        assert spends_a_try(before) is isinstance(before, Refused), kind


@pytest.mark.parametrize(
    "only",
    [{"encryption_algs": ["aes128-cbc"]}, {"mac_algs": ["hmac-sha1"], "encryption_algs": ["aes128-ctr"]}],
)  # fmt: skip
def test_outdated_ssh_is_spoken_only_where_it_is_allowed(only: dict[str, list[str]]) -> None:
    """A server that has nothing else is told as that, before anything is sent; allowed, it lets in."""

    class Lets(asyncssh.SSHServer):
        def password_auth_supported(self) -> bool:
            return True

        def validate_password(self, username: str, password: str) -> bool:
            return (username, password) == ("lt-works", "right")

    async def tried() -> list[Any]:
        key = asyncssh.generate_private_key("ssh-ed25519")
        server = await asyncssh.listen(HOST, 0, server_factory=Lets, server_host_keys=[key], **only)
        door, credential = Door("ssh", HOST, server.get_port(), "ssh"), Password(Ref("safe:a"))
        out = []
        for allowed in (False, True):
            wire = SshCommands({Ref("safe:a"): Secret("right")}.get, "", allowed)
            out.append(await wire.open(door, "", "lt-works", credential))
            await wire.close()
        server.close()
        return out

    told, let_in = asyncio.run(tried())
    assert isinstance(told, Cut) and "outdated: yes" in told.said and not told.secret_sent, told
    assert isinstance(let_in, Opened), let_in


class Answering:
    """A listening socket with an answer of its own for anyone who connects, until it is closed."""

    def __init__(self, answer: Any) -> None:
        self.answer, self.kept = answer, list[socket.socket]()
        self.listener = socket.create_server((HOST, 0))
        self.port = self.listener.getsockname()[1]
        self.threads = [threading.Thread(target=self.serve)]
        self.threads[0].start()

    def serve(self) -> None:
        while True:
            try:
                connection, _ = self.listener.accept()
            except OSError:
                return
            self.kept.append(connection)
            self.threads.append(threading.Thread(target=self.answer, args=(connection,)))
            self.threads[-1].start()

    def close(self) -> None:
        self.listener.shutdown(socket.SHUT_RDWR)
        self.listener.close()
        for connection in self.kept:
            connection.close()
        for thread in self.threads:
            thread.join(10)


def certificate(folder: Path) -> ssl.SSLContext:
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "sk-web")])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(7)
        .not_valid_before(now)
    )
    signed = made.not_valid_after(now + datetime.timedelta(days=9)).sign(key, hashes.SHA256())
    pem = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    (folder / "c.pem").write_bytes(signed.public_bytes(serialization.Encoding.PEM) + pem)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(folder / "c.pem")
    return context


def test_what_answers_is_told_apart_from_outside(tmp_path: Path) -> None:
    """TLS with its certificate, HTTP, telnet, a greeting, silence, one that hangs up, one that floods: each for what
    it is."""
    context = certificate(tmp_path)

    def tls(c: socket.socket) -> None:
        try:
            with context.wrap_socket(c, server_side=True) as s:
                s.recv(100)
        except OSError:
            pass

    def flood(c: socket.socket) -> None:
        try:
            for _ in range(5000):
                c.sendall(b"\x1b[2J" + b"x" * 4000)
        except OSError:
            pass

    def http(c: socket.socket) -> None:
        c.recv(500)
        c.sendall(b"HTTP/1.0 401 No\r\nServer: yard\x1b[31m/1\r\nWWW-Authenticate: Basic\r\n\r\n")
        c.close()

    answers = {
        "tls": tls,
        "http": http,
        "telnet": lambda c: c.sendall(b"\xff\xfb\x01login: "),
        "flood": flood,
        "mute": lambda c: None,
        "shut": lambda c: c.close(),
    }
    listeners = {name: Answering(answer) for name, answer in answers.items()}
    ports = {name: one.port for name, one in listeners.items()}

    async def look() -> Any:
        k = TcpLook()
        found = await k.ports(HOST, LOOKER)
        seen = {name: await k.look(HOST, p, LOOKER) for name, p in ports.items()}
        knocked = {
            name: await k.knock(Door("x", HOST, ports[name], "x"), LOOKER)
            for name in ("telnet", "http", "mute", "shut")
        }
        nowhere = await k.knock(Door("x", HOST, ports["telnet"], "x"), "203.0.113.9")
        closed = await k.knock(Door("x", f"{NETWORK}.82", ports["telnet"], "x"), LOOKER)
        return found, seen, knocked, nowhere, closed

    found, seen, knocked, nowhere, closed = asyncio.run(look())
    for listener in listeners.values():
        listener.close()
    assert set(found.open) == set(ports.values()) and found.whole
    assert {n: p.speaks for n, p in seen.items()} == {
        "tls": "tls",
        "http": "http",
        "telnet": "telnet",
        "flood": "unknown",
        "mute": "unknown",
        "shut": "unknown",
    }
    assert (
        seen["tls"].banner == "CN=sk-web"
        and seen["tls"].details["self-signed"] is True
        and "256" in seen["tls"].details["key"]
    )
    assert (
        seen["http"].details == {"server": "yard/1", "asks by": "basic"}
        and len(seen["flood"].banner) <= 120
        and "\x1b" not in seen["flood"].banner
    )
    assert (
        knocked == {"telnet": Open(), "http": Open(), "mute": Quiet(), "shut": Refusing(listening=True)}
        and isinstance(nowhere, Untried)
        and closed == Refusing()
    )


def test_a_sealed_door_is_knocked_at_by_its_handshake(tmp_path: Path) -> None:
    """It waits for us to begin, in TLS: who it answers is let in; one that hangs up, or forbids, turns him away."""
    context = certificate(tmp_path)

    async def knocked(serve: Any, ssl_context: Any) -> Any:
        server = await asyncio.start_server(serve, f"{NETWORK}.79", 8443, ssl=ssl_context)
        async with server:
            got = await TcpLook(lambda n: None).knock(Door("https", f"{NETWORK}.79", 8443, "https"), LAPTOP)
            await asyncio.sleep(0.1)
            return got

    async def answer(status: str, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError):
            await reader.readuntil(b"\r\n\r\n")
            writer.write(f"HTTP/1.0 {status}\r\n\r\n".encode())
        writer.close()

    async def shut(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writer.transport.abort()

    assert asyncio.run(knocked(functools.partial(answer, "401 Say who you are"), context)) == Open()
    assert asyncio.run(knocked(functools.partial(answer, "403 Not from there"), context)) == Refusing(listening=True)
    assert asyncio.run(knocked(shut, None)) == Refusing(listening=True)


def test_a_first_session_meets_one_certificate_and_no_other(tmp_path: Path) -> None:
    """Nothing is noted yet, and what is written opens a connection of its own: one that shows another certificate is
    sent nothing."""
    (tmp_path / "other").mkdir()
    other = certificate(tmp_path / "other")
    shown, heard = [certificate(tmp_path), other, other], list[bytes]()

    def choose(connection: Any, name: Any, context: ssl.SSLContext) -> None:
        connection.context = shown.pop(0)

    door = certificate(tmp_path)
    door.sni_callback = choose

    async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError):
            heard.append(await reader.read(4096))
        writer.close()

    async def session() -> None:
        async with await asyncio.start_server(answer, f"{NETWORK}.80", 8443, ssl=door):
            wire = Objects(lambda ref: Secret("Bogie-77"), "")
            at = Door("https", f"{NETWORK}.80", 8443, "https")
            assert isinstance(await wire.open(at, LAPTOP, "admin", Password(Ref("safe:u/admin"))), Opened)
            assert wire.fingerprint.startswith("SHA256:")
            for _ in range(2):  # what was shown once in between is not noted for it
                with pytest.raises(IdentityError, match="nothing was sent"):
                    await wire.exchange(Call("POST", "/session", body={"word": (Slot(Ref("safe:u/admin")),)}))
            await wire.close()
            await asyncio.sleep(0.1)

    asyncio.run(session())
    assert not any(heard) and not shown, heard


def md5(text: str) -> str:
    return hashlib.md5(text.encode()).hexdigest()


def authorised(scheme: str, asked: str) -> bool:
    """Is admin's password Bogie-77 in the request, by Basic (RFC 7617) or Digest (RFC 7616)?"""
    given = next(
        (line.partition(": ")[2] for line in asked.split("\r\n") if line.lower().startswith("authorization")), ""
    )
    if scheme == "basic":
        return given == "Basic " + base64.b64encode(b"admin:Bogie-77").decode()
    told = {name: value.strip('"') for name, _, value in (part.partition("=") for part in given[7:].split(", "))}
    if told.get("username") != "admin":
        return False
    proof = ":".join((md5("admin:yard:Bogie-77"), told["nonce"], told["nc"], told["cnonce"], "auth", md5("GET:/")))
    return told["response"] == md5(proof)


@pytest.mark.parametrize("scheme", ["basic", "digest", "none"])
def test_a_web_login_is_what_the_server_answers_and_a_changed_certificate_is_told_nothing(
    tmp_path: Path, scheme: str
) -> None:
    """Over TLS: opened, refused, not asked for; the certificate is compared in the handshake, before anything is
    sent."""
    context, heard = certificate(tmp_path), list[str]()
    asks = {"basic": 'Basic realm="yard"', "digest": 'Digest realm="yard", nonce="n1", qop="auth", algorithm=MD5'}.get(
        scheme, ""
    )

    def answer(c: socket.socket) -> None:
        with contextlib.suppress(OSError), context.wrap_socket(c, server_side=True) as s:
            while asked := s.recv(8000).decode():
                heard.append(asked)
                status = "200 Yes" if not asks or authorised(scheme, asked) else f"401 No\r\nWWW-Authenticate: {asks}"
                s.sendall(f"HTTP/1.1 {status}\r\nContent-Encoding: gzip\r\nContent-Length: 4\r\n\r\nword".encode())

    server = Answering(answer)
    door, password = Door("https", HOST, server.port, "https"), Ref("typed:password")

    def login(value: str, pin: str = "") -> tuple[Any, str]:
        wire = WebLogin(lambda ref: Secret(value), pin)
        return asyncio.run(wire.open(door, LOOKER, "admin", Password(password))), wire.fingerprint

    opened, seen = login("Bogie-77")
    assert isinstance(opened, Untried if scheme == "none" else Opened) and seen.startswith("SHA256:")
    if scheme != "none":
        assert isinstance(login("Bogie-78", seen)[0], Refused)
    so_far = len(heard)
    with pytest.raises(IdentityError, match="nothing was sent"):
        login("Bogie-77", "SHA256:other")
    server.close()
    assert len(heard) == so_far and not any("Bogie" in text for text in heard)


HOSTILE = "<script>alert(1)</script>"


def record() -> handover.HandOver:
    finding = documents.FindingRow(number=1, rule="name", title="the unit carries its own name", why="w", severity="low",
                                   subject="name", state="fails", saw=HOSTILE, basis="read")  # fmt: skip
    time = "2026-01-01T00:00:00"
    entry = handover.EntryRow(time=time, state="answering", gate="change", account=HOSTILE)
    return handover.HandOver(
        job="j", owner="Larkmoor Tramway", technician="t", unit=HOSTILE, note="", goes_to="w", family="f",
        identity=handover.IdentityRow(serial=HOSTILE), baseline=documents.BaselineName(name="b", version="1", meaning="m " * 60),
        found=handover.Found(time=time, inside="", findings=(finding,), outside=documents.Outside()),
        left=handover.Left(time=time, proven=True, ending="not done", findings=(finding,), blind=()),
        changes=(handover.ChangeRow(path="name", before=HOSTILE, after="x"),), unplanned=("name",), by_others=("idle",), steps=(), entry=(entry,),
        proofs=(), back_in=(), secrets=(), owed=(HOSTILE,), waivers=(), reset="", socket="", evidence=(), site=("q",),
    )  # fmt: skip


@pytest.mark.parametrize("form", FORMATS)
def test_sheets_are_the_same_bytes_for_the_same_record_and_trust_nothing(form: str) -> None:
    """Two renderings are equal; what a unit said is escaped in the page; the text keeps to 78 columns where it can."""
    made = FORMATS[form](record())
    assert made == FORMATS[form](record()) and made.endswith("\n" if form != "html" else ">")
    if form == "html":
        assert "<script" not in made and "&lt;script&gt;" in made and "src=" not in made and "not planned" in made
    if form == "text":
        assert max(map(len, made.splitlines())) <= 78 and "answered of" in made


MESSAGES = {
    b"<37>1 2026-01-02T03:04:05.6Z host-1 logger 77 - - mark 12": (4, 5, "host-1", "logger", "mark 12"),
    b'<13>1 - - app - - [x@1 a="b"] \xef\xbb\xbfhello': (1, 5, "", "app", "hello"),
    b"<37>Jan  2 03:04:05 host-1 yardbolt[3]: mark 7": (4, 5, "host-1", "yardbolt", "mark 7"),
    b"<37>Jan 12 03:04:05 yardbolt: mark 8": (4, 5, "", "yardbolt", "mark 8"),
    b"<0>anything at all": (0, 0, "", "", "anything at all"),
}


@given(st.lists(st.tuples(st.sampled_from(sorted(MESSAGES)), st.booleans()), max_size=5), st.lists(st.integers(1, 40)))
def test_log_messages_are_told_apart_however_they_come(sent: list[tuple[bytes, bool]], cuts: list[int]) -> None:
    """RFC 5424 and 3164, counted or by line (RFC 6587), cut anywhere: the same messages; what has no priority is
    none."""
    stream = b"".join(b"%d %s" % (len(raw), raw) if counted else raw + b"\n" for raw, counted in sent)
    got: list[bytes] = []
    left = b""
    for cut in [*cuts, len(stream)]:
        found, left = split(left + stream[:cut])
        got, stream = [*got, *found], stream[cut:]
    assert [parsed(raw) for raw in got] == [Message(*MESSAGES[raw]) for raw, _ in sent] and not left
    assert parsed(b"<192>x") is None and parsed(b"no priority") is None and split(b"x" * 20_000)[0]


def test_the_receiver_hears_by_datagram_and_stream_and_prints_safely(tool: Tool) -> None:
    """By both transports; control signs of a hostile sender never reach the terminal."""
    with socket.socket() as probe:
        probe.bind((LAPTOP, 0))
        port = probe.getsockname()[1]
    process = tool.start("receive", "--at", LAPTOP, "--port", str(port), "--for", "4", "--format", "json")
    assert process.stdout is not None and "listening" in process.stdout.readline()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        sender.sendto(b"<37>1 - h logger - - - mark \x1b[2J1", (LAPTOP, port))
        sender.sendto(b"rubbish", (LAPTOP, port))
    with socket.create_connection((LAPTOP, port)) as stream:
        stream.sendall(b"<37>Jan  2 03:04:05 yardbolt: mark 2\n")
    lines = [json.loads(line) for line in process.communicate(timeout=30)[0].splitlines()]
    assert {line["text"].replace("[2J", "") for line in lines} == {"mark 1", "mark 2"} and "\\x1b" not in str(lines)
    assert process.returncode == 0
