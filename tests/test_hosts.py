"""Real hosts: Debian's own sshd, looked at from outside and read inside; logins typed at a prompt."""

from __future__ import annotations

import contextlib
import json
import os
import socket
import subprocess
import sys
import threading

from tests.conftest import LAPTOP, NETWORK, Sshd, Tool, typed

YARD = """
job: log server
owner: Larkmoor Tramway
technician: Ros Tamblin
segments:
  depot: {{network: {network}.0/24, administrators: [{network}.10], laptop: {network}.10}}
needs: {{all: [ssh]}}
banner: "Larkmoor Tramway. Authorised staff only."
safe: {{copy: copy/safe.kdbx}}
units:
  lt-log-1: {{family: linux-server, segment: depot, at: {address}, ports: {{ssh: "{port}"}}}}
"""


def test_a_debian_server_is_read_inside_through_open_formats(tool: Tool, sshd: Sshd) -> None:
    """Effective settings, accounts, listening sockets and notice of a real sshd, and what could not be seen said so."""
    tool.env["YARDBOLT_PORTS"] = f"{sshd.port}-{sshd.port}"
    (tool.folder / "yard.yaml").write_text(YARD.format(network=NETWORK, address=sshd.address, port=sshd.port))
    out = tool("check", "--as", sshd.user, "--ssh-key", str(sshd.key), "--all", code=3)
    assert f"read as {sshd.user} by ssh" in out and f"{sshd.port}" in out
    doc = json.loads(tool("check", "--as", sshd.user, "--ssh-key", str(sshd.key), "--format", "json", code=3))[
        "lt-log-1"
    ]
    plane = doc["plane"]
    accounts = plane["accounts"]["items"]
    assert (
        accounts["daemon"]["role"] == "none"
        and accounts["daemon"]["origin"] == "system"
        and plane["accounts"]["complete"]
    )
    assert abs(plane["clock"]["offset"]) < 60 and plane["name"] == socket.gethostname()
    if os.getuid() == 0:
        assert accounts[sshd.user]["keys"], "read from where this very server looks for them"
        ssh = plane["services"]["items"]["ssh"]
        assert (ssh["port"], ssh["root_login"], ssh["password_login"], ssh["tries"], ssh["blank_login"]) == (
            sshd.port,
            "yes",
            True,
            9,
            False,
        )
        assert (
            ssh["accounts"] == [sshd.user]
            and ssh["ciphers"] == ["aes128-cbc", "aes128-ctr"]
            and ssh["config"].endswith("sshd_config")
        )
        assert plane["banner"] == "Larkmoor Tramway. Authorised staff only."
        mine = plane["listening"]["items"][f"tcp {sshd.address} {sshd.port}"]
        assert mine["program"] == "sshd" and mine["exe"].endswith("/sshd") and mine["package"] == "openssh-server"
        fails = {f["rule"] for f in doc["findings"] if f["state"] == "fails"}
        assert {"ssh-root", "ssh-tries", "ssh-old", "idle-timeout"} <= fails
        assert {b["area"] for b in doc["blind"]} <= {"filter"}, "nothing but a packet filter that is not there"
        assert len([1 for one in doc["evidence"] if one["ask"].startswith("section ")]) == 14
    else:
        assert {b["area"].split()[0] for b in doc["blind"]} >= {"keys", "ssh", "sockets"}
    assert "blank" not in {f["saw"] for f in doc["findings"] if f["rule"] == "weak-password"}, "a key is no password"
    if os.getuid() == 0:  # written after the daemon started: what the file says is not what runs
        os.utime(sshd.key.parent / "sshd_config")
        args = ("check", "--as", sshd.user, "--ssh-key", str(sshd.key), "--format", "json")
        stale = json.loads(tool(*args, code=3))["lt-log-1"]
        assert any("older settings" in one["line"] for one in stale["leftovers"] if one["ask"] == "ssh")
        assert {f["state"] for f in stale["findings"] if f["rule"] in ("ssh-root", "ssh-tries")} == {"unknown"}
    unknown = {f["rule"] for f in doc["findings"] if f["state"] == "unknown"}
    assert "foreign-files" in unknown or os.getuid()
    assert "shadow" not in json.dumps(doc["evidence"]) and "$y$" not in json.dumps(doc)


def test_any_host_can_be_looked_at_from_outside_with_logins_typed_at_a_prompt(tool: Tool, sshd: Sshd) -> None:
    """No job, no family: ports, banner, what SSH offers, a typed login refused; the password shows up nowhere, and
    goes by no service that can be read while an encrypted one is there."""
    heard = bytearray()

    def transfer(files: socket.socket) -> None:
        for _ in range(20):
            with contextlib.suppress(OSError), files.accept()[0] as client:
                client.sendall(b"220 FTP here\r\n")
                while line := client.recv(500):
                    heard.extend(line)
                    client.sendall(b"331 and?\r\n" if line.startswith(b"USER") else b"530 no\r\n")

    with socket.create_server((sshd.address, 0)) as files:
        low, high = sorted((files.getsockname()[1], sshd.port))
        tool.env["YARDBOLT_PORTS"] = f"{low}-{high}"
        threading.Thread(target=transfer, args=(files,), daemon=True).start()
        args = ("check", "--at", sshd.address, "--source", LAPTOP, "--try", sshd.user)
        out, code = typed(tool, [b"MARKER-typed-4417"], *args)
    assert "it would go readable" in out and b"MARKER" not in heard and b"guest@" in heard
    assert code == 3 and f"{sshd.port:<9}ssh" in out and "SSH-2.0-OpenSSH" in out
    assert "aes128-cbc" in out and "SSH offers outdated algorithms" in out
    assert f"{sshd.user}" in out and "refused" in out
    assert not any("MARKER-typed" in text for text in tool.said)


def test_a_plain_web_server_and_silence_are_told_apart(tool: Tool) -> None:
    """A service that speaks HTTP is plain text; a port that says nothing is unknown; an address where nothing answers
    is an error."""
    with (
        socket.socket() as mute,
        subprocess.Popen(
            [sys.executable, "-m", "http.server", "--bind", f"{NETWORK}.7", "0"],
            stderr=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        ) as web,
    ):
        mute.bind((f"{NETWORK}.7", 0))
        mute.listen()
        try:
            assert web.stdout is not None and web.stderr is not None
            threading.Event().wait(1.0)
            tool.env["YARDBOLT_PORTS"] = "1024-65535"
            found = json.loads(tool("check", "--at", f"{NETWORK}.7", "--format", "json", code=3))
        finally:
            web.terminate()
        tool.env["YARDBOLT_PORTS"] = "2000-2010"
        speaks = {p["port"]: p["speaks"] for p in found["ports"]}
        assert speaks[mute.getsockname()[1]] == "unknown" and "http" in speaks.values()
        assert any(f["rule"] == "plain-service" and f["state"] == "fails" for f in found["findings"])
    assert "this laptop has no address 203.0.113.5" in tool.error(
        "check", "--at", f"{NETWORK}.7", "--source", "203.0.113.5", code=4
    )
    assert "no port answers" in tool.error("check", "--at", f"{NETWORK}.8", code=4)
    assert "an address, or a name that has one" in tool.error("check", "--at", "127.83.9", code=2)
