"""Reading many real hosts against a loop over the OpenSSH client that runs the same framed script, once each and as
many at once: python benchmarks/hosts.py [HOSTS]. Needs root, for namespaces. All hosts live on this machine and share
its processors."""

from __future__ import annotations

import asyncio
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.yard.hosts import OFFICE, Host
from yardbolt.adapters.hosts import library
from yardbolt.core.talk.host.script import script

MANY = int(sys.argv[1]) if len(sys.argv) > 1 else 32
OPTIONS = [
    "BatchMode=yes",
    "StrictHostKeyChecking=no",
    "UserKnownHostsFile=/dev/null",
    "LogLevel=ERROR",
    "GSSAPIAuthentication=no",
]
GIVEN = {"accounts": "root", "sources": "192.0.2.1", "here": "127.0.0.1", "port": "22"}
JOB = """job: benchmark
owner: Larkmoor Tramway
technician: Ros Tamblin
needs: {all: [ssh]}
safe: {copy: copy/safe.kdbx}
"""


async def loop(hosts: list[Host], folder: Path, at_once: int) -> None:
    """The same script over the OpenSSH client."""
    free = asyncio.Semaphore(at_once)

    async def one(host: Host) -> None:
        argv = [
            "ssh",
            "-F",
            "/dev/null",
            *(word for option in OPTIONS for word in ("-o", option)),
            "-i",
            str(folder / "key"),
        ]
        async with free:
            with (folder / "script").open() as given:
                ssh = await asyncio.create_subprocess_exec(
                    *argv,
                    "-b",
                    host.at(OFFICE),
                    f"root@{host.address}",
                    "/bin/sh -s",
                    stdin=given,
                    stdout=subprocess.PIPE,
                )
            assert b" done" in (await ssh.communicate())[0][-60:]

    await asyncio.gather(*(one(host) for host in hosts))


with tempfile.TemporaryDirectory() as made:
    folder = Path(made)
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / "key"], check=True)
    public = (folder / "key.pub").read_text().strip()
    setup = f"ssh-keygen -A >/dev/null; mkdir -p /root/.ssh; echo '{public}' >/root/.ssh/authorized_keys"
    hosts = [Host(f"h{n}", 20 + n, setup, "/usr/sbin/sshd -o MaxStartups=100", folder / f"h{n}") for n in range(MANY)]
    for host in hosts:
        host.up()
    segments = [
        f"s{n}: {{network: {h.network}.0/24, administrators: [{h.at(OFFICE)}], laptop: {h.at(OFFICE)}}}"
        for n, h in enumerate(hosts)
    ]
    units = [f"u{n}: {{family: linux-server, segment: s{n}, at: {h.address}}}" for n, h in enumerate(hosts)]
    (folder / "yard.yaml").write_text(f"{JOB}segments: {{{', '.join(segments)}}}\nunits: {{{', '.join(units)}}}\n")
    (folder / "script").write_text(script([one.text for one in library().sections.values()], "0123456789ab", GIVEN))
    argv = [
        sys.executable,
        "-m",
        "yardbolt",
        "check",
        "--as",
        "root",
        "--ssh-key",
        "key",
        "--ports",
        "22-22",
        "--format",
        "json",
    ]
    times: dict[str, list[float]] = {"loop": [], "ours": []}
    try:
        for _ in range(3):
            began = time.perf_counter()
            asyncio.run(loop(hosts, folder, 16))
            times["loop"].append(time.perf_counter() - began)
            began = time.perf_counter()
            env = {**os.environ, "XDG_STATE_HOME": made}
            told = subprocess.run(
                [*argv, "--jobs", "16"], cwd=folder, env=env, capture_output=True, text=True, check=False
            )
            assert told.stdout.count('"read as root by ssh"') == MANY, told.stderr
            times["ours"].append(time.perf_counter() - began)
    finally:
        for host in hosts:
            host.down()
    one, other = min(times["loop"]), min(times["ours"])
    print(f"{MANY} hosts: the loop {one:.1f} s, looked at, read and judged {other:.1f} s, ratio {other / one:.2f}")
