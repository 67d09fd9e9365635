"""A real host in namespaces of its own: a Debian root (made once, and kept), an overlay, a network of two sockets with
technician, administrator, monitoring station and stranger in both address families, and plain daemons started by hand.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import os
import shutil
import signal
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import ClassVar

PACKAGES = (
    "openssh-server,sudo,nftables,iproute2,procps,busybox,dropbear-bin,vsftpd,tftpd-hpa,snmpd,rsyslog,cron,chrony,lighttpd,"
    "libpam-pwquality,openbsd-inetd,inetutils-telnetd,sysv-rc,ssl-cert,iptables"
)
MANAGED = PACKAGES.replace("sysv-rc", "systemd-sysv,dbus,libpam-systemd,systemd-timesyncd").replace(",chrony", "")
# nodes of its own: what its init does to them it does to no other's. Where none can be made, those of this machine
NODES = (
    "for x in null:3 zero:5 full:7 random:8 urandom:9 console:3; do mknod -m 666 dev/${x%:*} c 1 ${x#*:} || { touch "
    "dev/${x%:*}; y=${x%:*}; "
    "[ $y = console ] && y=null; mount --bind /dev/$y dev/${x%:*}; }; done 2>/dev/null && { mknod -m 666 dev/tty c 5 "
    "0 || { touch dev/tty; mount --bind /dev/tty dev/tty; }; }"
)
TECHNICIAN, OFFICE, STATION, STRANGER = 10, 11, 20, 66


def missing() -> str:
    """Why no host can stand here; empty where one can."""
    if os.geteuid() != 0:
        return "a real host needs root here, for namespaces"
    for program in ("mmdebstrap", "ip", "unshare", "nsenter"):
        if not shutil.which(program):
            return f"a real host needs {program}: apt-get install mmdebstrap iproute2 util-linux"
    tried = subprocess.run(
        ["/usr/bin/unshare", "--mount", "--pid", "--net", "--fork", "true"], capture_output=True, check=False
    )
    return "" if tried.returncode == 0 else "no namespaces can be made here"


def root(packages: str = PACKAGES, release: str = "bookworm") -> Path:
    """The Debian root hosts stand on: made at the first use, and kept for the next."""
    cache = Path(os.environ.get("YARDBOLT_YARD", "/var/cache/yardbolt-yard"))
    named = packages if release == "bookworm" else f"{release},{packages}"
    made = cache / hashlib.sha256(named.encode()).hexdigest()[:12]
    cache.mkdir(parents=True, exist_ok=True)
    with (cache / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not made.exists():
            new = made.with_suffix(".new")
            shutil.rmtree(new, ignore_errors=True)
            argv = ["mmdebstrap", "--quiet", "--variant=minbase", f"--include={packages}", release, str(new)]
            subprocess.run(argv, check=True, stdin=subprocess.DEVNULL)
            new.rename(made)
    return made


def run(*argv: str, given: str = "", check: bool = True) -> str:
    """Run a program; what it wrote."""
    return subprocess.run(argv, input=given, capture_output=True, text=True, check=check).stdout


@cache
def free() -> int:
    """A part of the network 10.0.0.0/8 that nobody on this machine uses, nor another program of ours has taken: while
    a host starts again its addresses are gone for a moment."""
    used = run("ip", "-o", "addr")
    for place in (100 + (os.getpid() + more) % 150 for more in range(150)):
        taken = os.open(Path(tempfile.gettempdir(), f"yardbolt-network-{place}"), os.O_CREAT | os.O_RDWR, 0o600)
        with contextlib.suppress(BlockingIOError):
            fcntl.flock(taken, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if f" 10.{place}." not in used:
                return place  # held as long as this process lives
        os.close(taken)
    raise RuntimeError("no network is free for a host here")


@dataclass
class Host:
    """One host. `setup` makes it what it is, once; `start` starts its daemons the first time, as they were found;
    `boot` is what its init does at each further start. All are shell, run inside of it. A restart from inside is one:
    it comes back."""

    name: str
    number: int
    setup: str
    start: str
    folder: Path
    boot: str = ""
    pid: int = 0
    process: subprocess.Popen[bytes] | None = field(default=None, repr=False)
    ended: bool = False
    lock: threading.RLock = field(default_factory=threading.RLock, repr=False)
    packages: ClassVar[str] = PACKAGES
    release: ClassVar[str] = "bookworm"
    spaces: ClassVar[tuple[str, ...]] = ("--mount", "--pid", "--net", "--uts")
    mounts: ClassVar[str] = ""
    first: ClassVar[str] = "touch /run/yard-up\nwhile :; do sleep 3600; done\n"  # what it does from then on

    @property
    def network(self) -> str:
        """The first three numbers of its network, which no other run of the tests uses."""
        return f"10.{free()}.{self.number}"

    @property
    def network6(self) -> str:
        """The same for IPv6."""
        return f"fd99:{free():x}:{self.number}:"

    @property
    def address(self) -> str:
        """Its own address."""
        return f"{self.network}.1"

    def at(self, who: int) -> str:
        """The address of somebody on its network."""
        return f"{self.network}.{who}"

    @property
    def script(self) -> str:
        """What its first process runs: made the first time, started again from then on."""
        return (
            "umask 022\nexport PATH=/usr/sbin:/usr/bin:/sbin:/bin\nip link set lo up\n"
            f"until ip link show eth0 >/dev/null 2>&1; do sleep 0.05; done\nip addr add {self.address}/24 dev eth0\n"
            f"ip -6 addr add {self.network6}:1/64 dev eth0 nodad\nip link set eth0 up\nip route add default via "
            f"{self.network}.254\n"
            "mkdir -p /run/sshd /run/lock\nif [ -e /yard/made ]; then hostname $(cat "
            f"/etc/hostname)\n{self.boot}\nelse\n"
            f"hostname {self.name} 2>/dev/null; echo {self.name} >/etc/hostname\n"
            # nobody answers questions of names here; a daemon that asks must not wait for it
            f"echo nameserver 127.0.0.1 >/etc/resolv.conf\necho 127.0.0.1 localhost {self.name} >/etc/hosts\n"
            "[ -e /sbin/reboot ] || { printf '#!/bin/sh\\nexec busybox reboot -f\\n' >/sbin/reboot; chmod 755 "
            "/sbin/reboot; }\n"
            f"{self.setup}\n{self.start}\ntouch /yard/made; fi\n{self.first}"
        )

    def up(self) -> None:
        """Make it and start it. Raises RuntimeError where it does not come up."""
        for part in ("upper", "work", "root"):
            (self.folder / part).mkdir(parents=True, exist_ok=True)
            (self.folder / part).chmod(0o755)  # whatever is masked here: daemons that are not root live in it
        (self.folder / "upper" / "yard").mkdir()
        (self.folder / "upper" / "yard" / "start").write_text(self.script)
        self._start()
        threading.Thread(target=self._again, daemon=True).start()

    def _again(self) -> None:
        """Whatever ends it, short of us, is a restart."""
        while not self.ended and self.process is not None:
            self.process.wait()
            with self.lock:
                if not self.ended and self.process.poll() is not None:
                    self._start()

    def _start(self) -> None:
        script = (
            "mount -t overlay overlay -o "
            f"lowerdir={root(self.packages, self.release)},upperdir={self.folder}/upper,workdir={self.folder}/work "
            f"{self.folder}/root\n"
            f"cd {self.folder}/root && mount -t proc proc proc && mount -t tmpfs tmpfs run && mount -t tmpfs tmpfs "
            f"tmp && mount -t tmpfs tmpfs dev && mkdir dev/pts dev/shm && {NODES} && ln -s pts/ptmx dev/ptmx && ln "
            "-s /proc/self/fd dev/fd && mount -t devpts devpts dev/pts -o mode=620,ptmxmode=666\n"
            f"{self.mounts}exec chroot {self.folder}/root /bin/sh /yard/start\n"
        )
        # its uptime is its own, as that of a real one is
        up = int(float(Path("/proc/uptime").read_text().split()[0]))
        argv = [
            *self.before(),
            "unshare",
            *self.spaces,
            "--time",
            "--boottime",
            f"-{up}",
            "--fork",
            "--kill-child",
            "/bin/sh",
            "-c",
            script,
        ]
        with (self.folder / "log").open("ab") as log:
            self.process = subprocess.Popen(
                argv, stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True
            )
        self.pid = self._inside()
        link = f"yb{os.getpid() % 65000:x}{self.number}"
        run("ip", "link", "del", link, check=False)
        # the socket it has is the one it had before it was started again
        ether = f"02:59:42:{free():02x}:{self.number:02x}:01"
        run("ip", "link", "add", link, "type", "veth", "peer", "name", "eth0", "address", ether, "netns", str(self.pid))
        for who in (TECHNICIAN, OFFICE, STATION, STRANGER, 254):
            run("ip", "addr", "add", f"{self.at(who)}/24", "dev", link)
            run("ip", "-6", "addr", "add", f"{self.network6}:{who:x}/64", "dev", link, "nodad")
        run("ip", "link", "set", link, "up")
        end = time.monotonic() + 60
        while not self.has_started():
            if time.monotonic() > end or self.process.poll() is not None:
                raise RuntimeError(f"{self.name} did not come up: {(self.folder / 'log').read_text()[-2000:]}")
            time.sleep(0.05)

    def before(self) -> list[str]:
        """What its namespaces are made through."""
        return []

    def has_started(self) -> bool:
        """Has everything started that starts with it?"""
        return Path(f"/proc/{self.pid}/root/run/yard-up").exists()

    def _inside(self) -> int:
        """The process that is number one in it."""
        assert self.process is not None
        for _ in range(200):
            children = Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children").read_text().split()
            if children:
                return int(children[0])
            time.sleep(0.02)
        raise RuntimeError(f"{self.name} did not start")

    def shell(self, script: str, check: bool = True) -> str:
        """Run a script inside, as root; what it wrote."""
        enter = ["nsenter", "--target", str(self.pid), *self.spaces, "--root", "--wd"]
        env = "export PATH=/usr/sbin:/usr/bin:/sbin:/bin\n"
        return run(*enter, "/bin/sh", "-s", given=env + script, check=check)

    def power_cycle(self) -> None:
        """Off and on again, without a word to it."""
        with self.lock:
            self._end()
            self._start()

    def _end(self) -> None:
        assert self.process is not None
        with contextlib.suppress(ProcessLookupError):
            os.kill(self.pid, signal.SIGKILL)
        self.process.wait(20)

    def down(self) -> None:
        """End it, with all that runs in it."""
        self.ended = True
        if self.process is not None:
            self._end()


class Managed(Host):
    """A host whose init is systemd: as most servers are."""

    packages = MANAGED
    spaces = ("--mount", "--pid", "--net", "--uts", "--ipc", "--cgroup")
    mounts = (
        "mount -t sysfs -o ro sysfs sys && if [ -d /sys/fs/cgroup/systemd ]; "
        "then mount -t tmpfs tmpfs sys/fs/cgroup && mkdir sys/fs/cgroup/systemd && mount -t cgroup -o "
        "none,name=systemd cgroup sys/fs/cgroup/systemd; "
        "else mount -t cgroup2 cgroup2 sys/fs/cgroup; fi || exit\n"
    )
    first = "exec env -i container=yard PATH=/usr/sbin:/usr/bin:/sbin:/bin /lib/systemd/systemd\n"

    @property
    def groups(self) -> tuple[Path, str]:
        """The tree of control groups, and how those of this host are called in it."""
        held = Path("/sys/fs/cgroup/systemd")
        return held if held.is_dir() else held.parent, f"yardbolt-{os.getpid()}-{self.number}-"

    def before(self) -> list[str]:
        # one of its own at each start: it is the root of what it sees
        tree, named = self.groups
        apart = tree / f"{named}{time.monotonic_ns()}"
        apart.mkdir()
        return ["/bin/sh", "-c", f'echo $$ >{apart}/cgroup.procs && exec "$@"', "sh"]

    def down(self) -> None:
        super().down()
        tree, named = self.groups
        for apart in tree.glob(f"{named}*"):
            for inner in sorted((one for one in apart.rglob("*") if one.is_dir()), reverse=True):
                inner.rmdir()
            apart.rmdir()

    def has_started(self) -> bool:
        # what it waits for says so itself
        return self.shell("systemctl is-system-running", check=False).strip() in ("running", "degraded")


# A server as it left somebody's works: a published root, a guest with a key and a job of his own, everything open.
PLANTED = r"""
useradd -m -s /bin/bash guest; printf 'root:works-4417\nguest:guest\n' | chpasswd 2>/dev/null
ssh-keygen -A >/dev/null; mkdir -p /home/guest/.ssh; ssh-keygen -q -t ed25519 -N '' -f /root/k; cp /root/k.pub
/home/guest/.ssh/authorized_keys
printf 'PermitRootLogin yes\nMaxAuthTries 9\n' >/etc/ssh/sshd_config.d/50-works.conf
echo '*/7 * * * * root /usr/local/bin/report-home' >/etc/cron.d/report
echo 'telnet stream tcp nowait root /usr/sbin/telnetd telnetd' >/etc/inetd.conf
sed -i 's/^rocommunity .*/rocommunity public/' /etc/snmp/snmpd.conf; sleep 1.2
"""
STARTED = (
    "/usr/sbin/sshd; service cron start; service snmpd start; service vsftpd start; inetd; rsyslogd; "
    "until ss -Hltn | grep -q ':21 '; do sleep 0.1; done"
)
AT_BOOT = (
    "for x in /etc/rcS.d/S*yardbolt*; do [ -x $x ] && $x start; done; rsyslogd; for x in /etc/rc2.d/S*; "
    "do $x start; done"
)


def planted(name: str, folder: Path) -> Host:
    """The server of the demo, not yet up."""
    return Host(name, 9, PLANTED, STARTED, folder, AT_BOOT)


@contextlib.contextmanager
def standing(name: str, folder: Path) -> Iterator[str]:
    """A planted server, up in namespaces of its own; the first three numbers of its network."""
    host = planted(name, folder)
    try:
        host.up()
        yield host.network
    finally:
        host.down()
