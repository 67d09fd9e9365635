"""Adapters against the real thing: the safe's file, the record's file, sockets of every kind, the SSH library's own errors, the page."""

from __future__ import annotations

import asyncio
import datetime
import socket
import ssl
import threading
from pathlib import Path
from typing import Any

import asyncssh
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from yardbolt.adapters.knock import TcpKnocker
from yardbolt.adapters.ssh import outcome_of

from yardbolt.adapters.records import SqliteRecords
from yardbolt.adapters.safe import KdbxSafe, create
from yardbolt.core.errors import FileError, SafeError
from yardbolt.core.ports import Place
from yardbolt.core.secret import Ref, Secret
from yardbolt.reports import FORMATS

HOST = "127.83.8.1"


def test_the_safe_is_whole_or_untouched(tmp_path: Path) -> None:
    """Stored means on disk and in the copy; a failed copy stores nothing; wrong keys, rubbish and nothing at all are told apart."""
    path, copy, master = tmp_path / "s.kdbx", tmp_path / "stick" / "s.kdbx", Secret("open sesame")
    create(path, master, None, copy)
    with pytest.raises(SafeError, match="never overwritten"):
        create(path, master, None, None)
    safe = KdbxSafe(path, master, None, copy)
    safe.store({Ref("safe:u/a"): Secret("first"), Ref("safe:u/b (as found)"): Secret("")}, "made")
    safe.store({Ref("safe:u/a"): Secret("second")}, "made")
    again = KdbxSafe(copy, master, None, None)
    value, blank = again.value(Ref("safe:u/a")), again.value(Ref("safe:u/b (as found)"))
    assert (
        value
        and value.reveal() == "second"
        and blank is not None
        and blank.reveal() == ""
        and again.value(Ref("safe:u/c")) is None
    )
    assert path.stat().st_mode & 0o777 == copy.stat().st_mode & 0o777 == 0o600
    copy.unlink()
    copy.mkdir()
    with pytest.raises(SafeError, match="nothing was sent"):
        safe.store({Ref("safe:u/c"): Secret("third")}, "made")
    assert safe.value(Ref("safe:u/c")) is None
    for file, words in (
        (path, "does not open it"),
        (tmp_path / "none", "no safe yet"),
        (tmp_path / "bad", "cannot be read as a password database"),
    ):
        (tmp_path / "bad").write_bytes(b"rubbish" * 99)
        with pytest.raises(SafeError, match=words):
            KdbxSafe(file, Secret("not it"), None, None)


def test_the_record_only_grows(tmp_path: Path) -> None:
    """Entries come back in order, by unit and run; documents keep every version; a second opener sees what the first wrote."""
    records = SqliteRecords(tmp_path / "r.sqlite")
    for n in range(5):
        records.append("u", n % 2, {"n": n})
    records.append("other", 0, {"n": 9})
    records.file("u", "check", {"v": 1}), records.file("u", "check", {"v": 2})
    again = SqliteRecords(tmp_path / "r.sqlite")
    assert [e["n"] for e in again.journal("u")] == [0, 1, 2, 3, 4] and [e["n"] for e in again.journal("u", 1)] == [1, 3]
    newest, first = again.latest("u", "check"), again.document(1)
    assert (
        newest
        and first
        and (newest["v"], first["v"]) == (2, 1)
        and again.latest("u", "none") is None
        and again.document(99) is None
    )
    (tmp_path / "bad").write_bytes(b"rubbish " * 999)
    with pytest.raises(FileError, match="cannot be used as a record"):
        SqliteRecords(tmp_path / "bad")


def test_every_error_of_the_ssh_library_has_a_meaning() -> None:
    """Walk the library's own exceptions: none escapes the table, and a refusal is never mistaken for trouble on the line."""
    kinds: set[type[BaseException]] = set()
    todo: list[type[BaseException]] = [asyncssh.Error]
    while todo:
        kind = todo.pop()
        kinds.add(kind)
        todo += kind.__subclasses__()
    assert len(kinds) > 20
    for kind in (*kinds, OSError, TimeoutError, ConnectionResetError, ConnectionRefusedError):
        error = kind.__new__(kind)
        assert outcome_of(error) in ("refused", "closed", "silent", "garbled"), kind
        assert (outcome_of(error) == "refused") == issubclass(kind, asyncssh.PermissionDenied)


def serve(port: int, answer: Any) -> socket.socket:
    listener = socket.create_server((HOST, port))

    def run() -> None:
        while True:
            try:
                connection, _ = listener.accept()
            except OSError:
                return
            threading.Thread(target=answer, args=(connection,), daemon=True).start()

    threading.Thread(target=run, daemon=True).start()
    return listener


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
    """TLS with its certificate, HTTP, telnet, a greeting, silence, one that hangs up, one that floods: each for what it is."""
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

    keep: list[socket.socket] = []
    answers = {
        "tls": tls,
        "http": http,
        "telnet": lambda c: c.sendall(b"\xff\xfb\x01login: "),
        "flood": flood,
        "mute": keep.append,
        "shut": lambda c: c.close(),
    }
    listeners = {name: serve(0, answer) for name, answer in answers.items()}
    ports = {name: s.getsockname()[1] for name, s in listeners.items()}

    async def look() -> Any:
        k = TcpKnocker()
        found = await k.ports(HOST, "127.83.8.9", 100_000)
        seen = {name: await k.look(HOST, p, "127.83.8.9") for name, p in ports.items()}
        knocked = {
            name: await k.knock(Place(HOST, ports[name], "127.83.8.9", "x")) for name in ("telnet", "mute", "shut")
        }
        nowhere = await k.knock(Place(HOST, ports["telnet"], "203.0.113.9", "x"))
        closed = await k.knock(Place("127.83.8.2", ports["telnet"], "127.83.8.9", "x"))
        return found, seen, knocked, nowhere, closed

    found, seen, knocked, nowhere, closed = asyncio.run(look())
    for s in (*listeners.values(), *keep):
        s.close()
    assert set(found) == set(ports.values())
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
        seen["http"].details == {"server": "yard/1", "www-authenticate": "Basic"}
        and len(seen["flood"].banner) <= 120
        and "\x1b" not in seen["flood"].banner
    )
    assert (
        knocked == {"telnet": "admitted", "mute": "silent", "shut": "refused"}
        and nowhere.startswith("untried")
        and closed == "refused"
    )


def record() -> dict[str, Any]:
    hostile = "<script>alert(1)</script>"
    finding = {
        "number": 1,
        "rule": "name",
        "title": "the unit carries its own name",
        "why": "w",
        "severity": "low",
        "subject": "name",
        "state": "fails",
        "saw": hostile,
        "basis": "read",
    }
    return {
        "job": "j", "owner": "Larkmoor Tramway", "technician": "t", "unit": hostile, "note": "", "family": "f", "identity": {"serial": hostile, "hardware": None, "software": None},
        "baseline": {"name": "hand-tight", "version": "1", "meaning": "m " * 60}, "found": {"time": "2026-01-01T00:00:00", "findings": [finding]},
        "left": {"time": "2026-01-01T00:00:00", "findings": [finding], "proven": True}, "changes": [{"path": "name", "before": hostile, "after": "x"}], "unplanned": ["name"],
        "steps": [], "entry": [{"time": "2026-01-01T00:00:00", "state": "sending", "gate": "change", "account": hostile}], "proofs": [], "back in": [], "secrets": [],
        "owed": [hostile], "waivers": [], "recovery": {"reset": "", "socket": ""}, "site": ["q"],
    }  # fmt: skip


@pytest.mark.parametrize("form", FORMATS)
def test_sheets_are_the_same_bytes_for_the_same_record_and_trust_nothing(form: str) -> None:
    """Two renderings are equal; what a unit said is escaped in the page; the text keeps to 78 columns where it can."""
    made = FORMATS[form](record())
    assert made == FORMATS[form](record()) and made.endswith("\n" if form != "html" else ">")
    if form == "html":
        assert "<script" not in made and "&lt;script&gt;" in made and "src=" not in made and "not planned" in made
    if form == "text":
        assert max(map(len, made.splitlines())) <= 78 and "answered of" in made
