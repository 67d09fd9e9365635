"""Real hosts in namespaces of their own: what was planted is told, what is not read is said, nothing weak is called
good; and the packet filter is what real packets meet."""

from __future__ import annotations

import json
import socket
from collections.abc import Iterator
from contextlib import closing, contextmanager
from typing import Any

import pytest

from tests.conftest import Tool, typed
from tests.yard.hosts import OFFICE, STATION, STRANGER, TECHNICIAN, Host, missing
from tests.yard.truth import KINDS
from yardbolt.adapters.files import shipped

pytestmark = [pytest.mark.skipif(bool(missing()), reason=missing()), pytest.mark.xdist_group("yard")]
YARD = """
job: mill and cabin
owner: Larkmoor Tramway
technician: Ros Tamblin
segments: {{depot: {{network: {net}.0/24, administrators: [{net}.10, {net}.11], monitoring: [{net}.20], laptop: {net}.10, laptop also: "{net6}:a", stranger: {net}.66}}}}
needs: {{all: [ssh]}}
safe: {{copy: copy/safe.kdbx}}
units: {{{name}: {{family: {name}, segment: depot, at: {net}.1, also at: "{net6}:1"}}}}
"""


def read(tool: Tool, host: Host) -> dict[str, Any]:
    """One check as the technician makes it, as JSON."""
    tool.env["YARDBOLT_PORTS"] = "1-1024"
    (tool.folder / "yard.yaml").write_text(YARD.format(net=host.network, net6=host.network6, name=host.name))
    family = shipped("families")["linux-server"].read_text().replace("family: linux-server", f"family: {host.name}")
    factory = f"factory:\n  logins: [{KINDS[host.name].published}]\n  lockout: {{tries: 20, release: 60 s}}\n"
    (tool.folder / "families").mkdir(exist_ok=True)
    (tool.folder / "families" / f"{host.name}.yaml").write_text(family.replace("factory:\n", factory))
    account, _, password = KINDS[host.name].login.partition(":")
    out, _ = typed(tool, [password.encode()], "check", "--as", account, "--format", "json")
    told: dict[str, Any] = json.loads(out)[host.name]
    return told


@contextmanager
def somebody_inside(host: Host) -> Iterator[None]:
    """A guest by file transfer, where there is any."""
    with socket.socket() as guest:
        guest.bind((host.at(STATION), 0))
        if not guest.connect_ex((host.address, 21)):
            for said in (b"", b"USER guest\r\n", b"PASS guest\r\n"):
                guest.sendall(said)
                guest.recv(500)
        yield


def leaf(plane: object, written: str) -> object:
    """One leaf of a plane in its JSON form; the key of an item may hold slashes."""
    head, *rest = written.split("/", 1)
    node = plane[head]  # type: ignore[index]
    if not rest:
        return node
    if "items" in node:
        key = max((k for k in node["items"] if rest[0].startswith(f"{k}/")), key=len, default="")
        last = rest[0][len(key) + 1 :]
        item = node["items"].get(key, {})
        return leaf(item, last) if "/" in last and key else item.get(last)
    return node[rest[0]]


@pytest.mark.parametrize("host", KINDS, indirect=True)
def test_what_is_planted_on_a_real_host_is_told(tool: Tool, host: Host) -> None:
    """Every planted fact is on the plane, what is wrong fails in words that name it, and nothing secret is said."""
    kind = KINDS[host.name]
    with somebody_inside(host):
        told = read(tool, host)
    seen = [(one["port"], one["transport"], one["details"]) for one in told["outside"]["ports"]]
    for path, value in kind.leaves.items():
        assert leaf(told["plane"], path) == value, (path, seen)
    findings: list[dict[str, str]] = told["findings"]  # type: ignore[assignment]
    for rule, words in kind.fails.items():
        saw = [one["saw"] for one in findings if one["rule"] == rule and one["state"] == "fails"]
        assert any(words in each for each in saw), (rule, words, saw)
    every = json.dumps(told) + "".join(tool.said)
    assert not any(secret in every for secret in ("MARKER-job", "Bogie-77", "$y$", kind.login.partition(":")[2]))


@pytest.mark.parametrize("host", ["mill"], indirect=True)
def test_access_is_what_real_packets_meet(tool: Tool, host: Host) -> None:
    """Maps, jumps, sets, negations and both families: what is surely let in connects, what is blocked does not."""
    read(tool, host)
    document = asked_of(tool, host)
    places = [host.at(who) for who in (TECHNICIAN, OFFICE, STATION, STRANGER)]
    places += [f"{host.network6}:{who:x}" for who in (TECHNICIAN, STRANGER)]
    for service in ("ssh", "ftp"):
        for source in places:
            asked = asked_of(tool, host, "--from", source, "--service", service)
            lets_in = [one["verdict"] for one in asked["services"][service]["decisions"] if one["surely"]][-1:]
            target = f"{host.network6}:1" if ":" in source else host.address
            assert lets_in == (
                ["pass"] if connects(source, target, document["services"][service]["port"]) else ["block"]
            ), (service, source)


def asked_of(tool: Tool, host: Host, *args: str) -> dict[str, Any]:
    """What `access` says, as JSON."""
    got = tool.run("access", host.name, *args, "--format", "json")
    assert got.stdout, got.stderr
    told: dict[str, Any] = json.loads(got.stdout)
    return told


def connects(source: str, target: str, port: int, patience: float = 1) -> bool:
    """Does a real connection come about from this address, and does anything come back by it?"""
    family = socket.AF_INET6 if ":" in source else socket.AF_INET
    with closing(socket.socket(family)) as client:
        client.settimeout(patience)
        client.bind((source, 0))
        try:
            client.connect((target, port))
            client.sendall(b"GET / HTTP/1.0\r\n\r\n")
            return bool(client.recv(1))
        except OSError:
            return False
