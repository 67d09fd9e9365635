"""Real hosts, from as found to as left: tightened by the tool, then met by ordinary clients, before and after a power
cut; and the timed return fired for real."""

from __future__ import annotations

import asyncio
import json
import re
import socket
import subprocess
import time
from contextlib import closing
from typing import Any

import asyncssh
import pytest

from tests.conftest import MASTER, Tool, typed
from tests.drawn import THOROUGH
from tests.test_yard import connects
from tests.yard.hosts import OFFICE, STRANGER, TECHNICIAN, Host, missing
from tests.yard.truth import KINDS
from yardbolt.adapters.files import shipped
from yardbolt.adapters.hosts import library
from yardbolt.adapters.safe import KdbxSafe
from yardbolt.core.secret import Ref, Secret
from yardbolt.core.talk.host.script import whole

pytestmark = [pytest.mark.skipif(bool(missing()), reason=missing()), pytest.mark.xdist_group("yard")]
YARD = """
job: mill and cabin
owner: Larkmoor Tramway
technician: Ros Tamblin
baseline: quick
segments: {{depot: {{network: {net}.0/24, administrators: [{net}.10, {net}.11, "{net6}:a", "{net6}:b"], monitoring: [{net}.20], laptop: {net}.10, stands in for: [{net}.11, "{net6}:b"], laptop also: "{net6}:a", stranger: {net}.66, stranger also: "{net6}:42"}}}}
accounts: {{lt-works: {{rights: full, whose: works office, keys: ["{key}"]}}, lt-watch: {{rights: read, whose: control room}}, lt-graph: {{rights: read, whose: control room, by: snmp}}}}
needs: {{cabin: [ssh], mill: [ssh, snmp], shed: [ssh, snmp]}}
banner: "Larkmoor Tramway. Authorised staff only."
servers: [{{kind: logs, at: {net}.20}}, {{kind: time, at: {net}.20, here: no}}]
allows: {{restart: yes, remove factory accounts: yes, remove foreign: [accounts, keys, jobs, /home/guest/.bashrc]}}
safe: {{copy: copy/safe.kdbx}}
units: {{{name}: {{class: {name}, family: {name}, segment: depot, at: {net}.1, also at: "{net6}:1"}}}}
"""


KEY = asyncssh.generate_private_key("ssh-ed25519", comment="works office")


def begin(tool: Tool, made: Host, light_safe: bytes) -> None:
    """The job for a host, with its first check as the account the maker says."""
    tool.env |= {"YARDBOLT_PORTS": "1-1024", "YARDBOLT_MASTER": MASTER}
    (tool.folder / "yard.yaml").write_text(
        YARD.format(net=made.network, net6=made.network6, name=made.name, key=KEY.export_public_key().decode().strip())
    )
    kind = KINDS[made.name]
    base = shipped("families")[kind.family].read_text().replace(f"family: {kind.family}", f"family: {made.name}", 1)
    factory = f"factory:\n  ports: {{ssh: 22}}\n  logins: [{kind.published}]\n  lockout: {{tries: 20, release: 60 s}}\n"
    base = base.replace("factory:\n  ports: {ssh: 22}\n", factory) if "factory:" in base else base + factory
    (tool.folder / "families").mkdir()
    (tool.folder / "families" / f"{made.name}.yaml").write_text(base)
    # the lock is waited for, so it is a short one
    quick = shipped("baselines")["hand-tight"].read_text().replace("baseline: hand-tight", "baseline: quick")
    (tool.folder / "baselines").mkdir()
    (tool.folder / "baselines" / "quick.yaml").write_text(
        re.sub(
            r"\{rule: lock-out.*\}",
            "{rule: lock-out, set: {tries at least: 3, tries at most: 3, release at least: 5 s}}",
            quick,
        )
    )
    for place in ("safe.kdbx", "copy/safe.kdbx"):
        (tool.folder / place).parent.mkdir(exist_ok=True)
        (tool.folder / place).write_bytes(light_safe)
        (tool.folder / place).chmod(0o600)
    account, _, password = kind.login.partition(":")
    typed(tool, [password.encode()], "check", "--as", account, "--keep")


def opens(made: Host, account: str, password: str, keys: Any = None) -> bool:
    """Does an ordinary client log in?"""

    async def attempt() -> bool:
        try:
            async with asyncssh.connect(made.address, username=account, password=password, known_hosts=None, client_keys=keys,
                                        agent_path=None, config=None, local_addr=(made.at(TECHNICIAN), 0), login_timeout=30):  # fmt: skip
                return True
        except (asyncssh.Error, OSError, TimeoutError):
            return False

    return asyncio.run(attempt())


def asked(made: Host, *how: str) -> str:
    """What SNMP answers an ordinary client."""
    argv = ["snmpget", "-Oqv", "-t", "1", "-r", "1", *how, f"udp:{made.address}:161", "1.3.6.1.2.1.1.5.0"]
    return subprocess.run(argv, capture_output=True, text=True, check=False).stdout.strip()


def by_certificate(made: Host, account: str) -> str:
    """What a client meets that has a certificate of the maker's authority."""
    how = "ssh -i /root/k -o BatchMode=yes -o ConnectTimeout=5 -o StrictHostKeyChecking=no"
    return made.shell(f"{how} {account}@127.0.0.1 echo in 2>&1", check=False)


def stands(made: Host, tool: Tool) -> None:
    """What ordinary clients meet once a host was tightened."""
    kind = KINDS[made.name]
    for _ in range(300):  # its init starts the SSH server last
        if connects(made.at(TECHNICIAN), made.address, 22, 15):
            break
        time.sleep(0.1)
    for port in (21, 23, 80):
        assert not connects(made.at(TECHNICIAN), made.address, port), port
    for login in (kind.login, "guest:guest", "works:Millstone-2", "tech:tech", "backup2:x"):
        account, _, password = login.partition(":")
        assert not opens(made, account, password), account
    if made.name != "cabin":
        phrase = KdbxSafe(tool.folder / "safe.kdbx", Secret(MASTER), None, None).value(
            Ref(f"safe:{made.name}/lt-graph")
        )
        assert phrase
        user = f"-v3 -u lt-graph -a SHA-256 -x AES -A {phrase.reveal()} -X {phrase.reveal()} -l".split()
        assert asked(made, *user, "authPriv") == f'"{made.name}"' and not asked(made, *user, "authNoPriv")
        assert not asked(made, "-v2c", "-c", "public") and not asked(made, "-v2c", "-c", "Bogie-77-x")
        assert opens(made, "lt-works", "", [KEY]), "by the key the job gives"
        assert made.name != "mill" or "denied" in by_certificate(made, "lt-works"), "of an authority of the maker"
        for source, admitted in ((TECHNICIAN, True), (OFFICE, True), (STRANGER, False)):
            # an emulated one takes seconds for its first word
            assert connects(made.at(source), made.address, 22, 15) is admitted, source
        assert connects(f"{made.network6}:b", f"{made.network6}:1", 22, 15)
        assert not connects(f"{made.network6}:42", f"{made.network6}:1", 22)
    with closing(socket.create_connection((made.address, 22), 5, (made.at(TECHNICIAN), 0))) as client:
        assert client.recv(20).startswith(b"SSH-2.0")


# what a daemon that bans strangers does, once it has seen wrong passwords
BANNING = """until ls -d /var/lib/yardbolt/return/armed-* >/dev/null 2>&1; do sleep 0.2; done
nft add table ip banning; nft 'add chain ip banning c { type filter hook input priority -1; }'; nft 'add rule ip banning c ip saddr 203.0.113.9 drop'"""
GAPS = {
    "mill": {"time-source"},
    "shed": {"time-source"},
    "cabin": {"own-account", "password-length", "password-classes", "lock-out", "ssh-root", "account-name", "ssh-old", "time-source", "open-sources"},
}  # fmt: skip


# the shed is carried through, and disturbed, by sweeps/hosts.py: minutes more
@pytest.mark.parametrize("host", ["mill", "cabin"], indirect=True)
def test_a_real_host_is_tightened_and_stays_so(tool: Tool, host: Host, light_safe: bytes) -> None:
    """Every planted weakness is gone as ordinary clients see it, also after a power cut; what this class cannot is a
    gap with its reason; a second run changes nothing; what is ours can be taken away, and the host works."""
    assert host.name != "mill" or by_certificate(host, "works").endswith("in\n"), "as it is found it opens"
    begin(tool, host, light_safe)
    steps = tool("steps", host.name, code=4 if host.name == "cabin" else 0)
    assert (
        ("CANNOT BE DONE HERE" in steps) == (host.name == "cabin") and "arm the return" in steps and "OUTAGES" in steps
    )
    if host.name != "cabin":
        host.shell(f"({BANNING}) </dev/null >/dev/null 2>&1 &")
        host.shell("mv /usr/sbin/chronyd /root" if THOROUGH else ":")
    said = tool.run("tighten", "--yes", "--this-one", host.name)
    assert said.returncode == 3, said.stdout + said.stderr
    assert "closed after the restart: whether" in " ".join(said.stdout.split()), said.stdout
    if host.name != "cabin":
        if THOROUGH:
            # one change is refused, while an account with few rights is the only one with a password of the owner's:
            # all others are made
            assert "NOT DONE  time from: the unit refused it" in said.stdout and said.stdout.count("NOT DONE") == 2, (
                said.stdout
            )
            host.shell("mv /root/chronyd /usr/sbin")
            again = tool("tighten", "--yes", "--again", host.name, code=3)
            assert "NOT DONE" not in again, again
        assert THOROUGH or "NOT DONE" not in said.stdout, said.stdout
        told = tool("records", "journal", host.name)
        # noted, and it stops nothing
        assert "meanwhile " in told and "filter_stages/ip banning" in " ".join(told.split()), told
        assert ":42 is blocked by ssh" in said.stdout, said.stdout
        for tried in (
            "encrypted",
            "not unencrypted",
            "no published community",
            "lets in",
            "a weak password is refused to an account",
            "3 wrong ones lock it",
            "arrives at",
        ):
            assert tried in said.stdout, said.stdout
    host.power_cycle()
    stands(host, tool)
    if host.name == "cabin":
        assert "closed after the restart" not in tool.run("prove", host.name).stdout, "it was started by hand since"
    else:
        # one that says it is loaded, and whose own service flushed the filter, is caught
        host.shell("nft delete table inet yardbolt")
        # what opened it before is refused for a while: waited for, and tried once more
        let_go = "until faillock --user lt-works | grep -q RHOST; do sleep 0.2; done; usermod -U lt-works"
        host.shell(f"chmod g+w ~lt-works; usermod -L lt-works; ({let_go}) </dev/null >/dev/null 2>&1 &")
    again = json.loads(tool("check", host.name, "--format", "json", code=3))[host.name]
    fails = {one["rule"] for one in again["findings"] if one["state"] == "fails"}
    taken = {name: one.get("keys_taken") for name, one in again["plane"]["accounts"]["items"].items()}
    assert taken["root"] is True and not taken.get("lt-works"), "a file of keys is taken where nobody else may write"
    assert fails - GAPS[host.name] == ({"open-sources"} if host.name != "cabin" else set()), fails
    plan = tool.run("steps", host.name).stdout
    assert (
        ("2 changes," in plan and "ssh from" in plan and "and root" not in plan)
        if host.name != "cabin"
        else "0 changes" in plan
    ), plan
    every = "".join(tool.said) + host.shell("cat /var/lib/yardbolt/own; cat /proc/[0-9]*/cmdline | tr '\\0' ' '")
    assert KINDS[host.name].login.partition(":")[2] not in every
    listed = tool("records", "files", host.name)
    assert "take-away" in listed and ("+yardbolt.conf" in listed) == (host.name != "cabin")
    if host.name != "cabin":
        host.shell("usermod -L lt-works")
        barred = tool.run("tighten", "--yes", "--this-one", host.name)
        assert barred.returncode == 5 and "only lt-watch logged in" in barred.stderr, barred.stderr
        assert "lt-works by ssh: refused" in barred.stderr and "lt-watch is not in the sudoers" in barred.stderr
        look = "ls -d /var/lib/yardbolt /etc/yardbolt 2>&1; nft list tables"
        gone = host.shell(f"sh /var/lib/yardbolt/take-away all; {look}", check=False)
        assert "is gone" in gone and "as it was before" in gone and gone.count("cannot access") == 2
        assert gone.endswith("table inet gate\n") and not opens(host, *KINDS[host.name].login.split(":"))
        host.power_cycle()
        assert connects(host.at(TECHNICIAN), host.address, 22)


async def tell(made: Host, name: str, **given: str) -> tuple[int, str]:
    """Run a program of the library as root, over SSH."""
    script = "".join(
        str(part) for part in whole(library().programs[name].text, {key: (value,) for key, value in given.items()})
    )
    return await run_at(made, script)


async def run_at(made: Host, script: str) -> tuple[int, str]:
    """Run a script as the account its maker said, over SSH."""
    account, _, password = KINDS[made.name].login.partition(":")
    for left in reversed(range(20)):
        try:
            connection = await asyncssh.connect(made.address, username=account, password=password, known_hosts=None, client_keys=None, agent_path=None,
                                                config=None, local_addr=(made.at(TECHNICIAN), 0))  # fmt: skip
            break
        except OSError:
            # while a server loads its settings nothing listens for a moment
            if not left:
                raise
            await asyncio.sleep(0.3)
    async with connection:
        ran: Any = await connection.run("exec /bin/sh -s", input=script)
    return ran.exit_status or 0, ran.stderr


SABOTAGE = {
    "the account list": "echo 'AllowUsers nobody' > /etc/ssh/sshd_config.d/+yardbolt.conf; kill -HUP $(cat /run/sshd.pid)",
    "a dead listener": "echo 'ListenAddress 192.0.2.77' > /etc/ssh/sshd_config.d/+yardbolt.conf; kill -HUP $(cat /run/sshd.pid)",
    "the filter": "mkdir -p /etc/yardbolt; echo 'table inet yardbolt { chain limits { type filter hook input priority -5; tcp dport 22 reject with tcp reset; }; }'"
    " > /etc/yardbolt/limits.nft; nft -f /etc/yardbolt/limits.nft",
    "passwords refused": "sed -i 's/^auth/#auth/' /etc/pam.d/common-auth; echo 'auth required pam_deny.so' >> /etc/pam.d/common-auth",
}  # fmt: skip


LATE = (
    'echo "$$ $(sed "s/^.*) //" /proc/$$/stat | cut -d" " -f20)" >/var/lib/yardbolt/at-work; (sleep 8); '
    'echo "AllowUsers nobody pardon" >/etc/ssh/sshd_config.d/+yardbolt.conf; kill -HUP $(cat /run/sshd.pid)'
)
SMALL = {
    "options of dropbear": "sed -i 's/-p 22/-p 2222/' /etc/inittab; kill -HUP 1; for p in /proc/[0-9]*; do case \"$(tr '\\0' ' ' <$p/cmdline)\" in"
    " *' -2 '*) ;; */dropbear*) kill ${p#/proc/};; esac; done",
}  # fmt: skip


@pytest.mark.parametrize("host", ["cabin"], indirect=True)
def test_a_small_appliance_goes_back_by_itself(host: Host) -> None:
    """By its own table of init, now and at the next start, which has read that table before anything takes it back."""
    account, _, password = KINDS["cabin"].login.partition(":")
    for seconds, how in (("5", "time"), ("600", "power")):
        assert asyncio.run(tell(host, "arm-return", seconds=seconds, holds="/etc/inittab")) == (0, "")
        host.shell(SMALL["options of dropbear"], check=False)
        time.sleep(1.5)
        assert not opens(host, account, password)
        if how == "power":
            host.power_cycle()
        end = time.monotonic() + 40
        while not opens(host, account, password):
            assert time.monotonic() < end, how
            time.sleep(1)
        assert asyncio.run(tell(host, "return-now")) == (0, "")
        assert "-p 22 " in host.shell("cat /etc/inittab") and "yardbolt" not in host.shell("cat /etc/inittab")


@pytest.mark.parametrize("host", ["mill"], indirect=True)
def test_a_host_goes_back_by_itself(host: Host) -> None:
    """Shut out by the account list, a dead listener, the filter, the password stack: back by itself; over a boot too;
    cancelled once, and too late, it says so; armed only once."""
    account, _, password = KINDS["mill"].login.partition(":")
    holds = "/etc/pam.d/ /etc/ssh/sshd_config.d/ /etc/yardbolt/ /etc/inittab"
    for how, script in SABOTAGE.items():
        assert asyncio.run(tell(host, "arm-return", seconds="4", holds=holds)) == (0, ""), how
        host.shell(script, check=False)
        time.sleep(0.7)
        assert not opens(host, account, password), how
        end = time.monotonic() + 40
        while not opens(host, account, password):
            assert time.monotonic() < end, how
            time.sleep(1)
        late = asyncio.run(tell(host, "cancel-return"))
        assert late[0] and "too late" in late[1], how
        assert asyncio.run(tell(host, "return-now")) == (0, "")
    # what was sent before and is slow is not done after it was taken back
    assert asyncio.run(tell(host, "arm-return", seconds="4", holds=holds)) == (0, "")
    assert asyncio.run(run_at(host, f"setsid sh -c '{LATE}' </dev/null >/dev/null 2>&1 &\n")) == (0, "")
    time.sleep(12)
    assert opens(host, account, password) and "pardon" not in host.shell("cat /etc/ssh/sshd_config.d/* | cat")
    assert asyncio.run(tell(host, "return-now")) == (0, "")
    assert asyncio.run(tell(host, "arm-return", seconds="600", holds=holds)) == (0, "")
    assert "armed already" in asyncio.run(tell(host, "arm-return", seconds="600", holds=holds))[1]
    host.shell("echo 'AllowUsers nobody' > /etc/ssh/sshd_config.d/+yardbolt.conf")
    host.power_cycle()
    assert opens(host, account, password), "the hook of the next boot takes it back before anything starts"
    assert asyncio.run(tell(host, "return-now")) == (0, "")
    # a full disk, and a clock that jumps, change nothing of that
    assert asyncio.run(tell(host, "arm-return", seconds="600", holds=holds)) == (0, "")
    host.shell(
        "mount -t tmpfs -o size=4k tmpfs /etc/ssh/sshd_config.d; cat /dev/zero > /etc/ssh/sshd_config.d/x 2>/dev/null; :",
        check=False,
    )
    full = asyncio.run(tell(host, "ssh-setting", word="MaxAuthTries", value="2"))
    assert full[0] and "could not be written" in full[1] and opens(host, account, password)
    # once it goes back no more, nothing that could shut somebody out is taken
    assert asyncio.run(tell(host, "cancel-return")) == (0, "")
    assert "not armed any more" in asyncio.run(tell(host, "ssh-setting", word="MaxAuthTries", value="2"))[1]
    left = host.shell("ls -A /etc/ssh/sshd_config.d; ls /var/lib/yardbolt/return /etc/rcS.d")
    assert "+yardbolt" not in left and "yardbolt-return" not in left
