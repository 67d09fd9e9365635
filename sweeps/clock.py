"""A real host in a machine of its own, whose clock jumps while it is tightened: python sweeps/clock.py SEEDS FIRST

Namespaces share the clock of the machine they are in, so this one is emulated whole, and slow: about half an hour a
seed. Needs root, qemu-system-x86_64, mmdebstrap and mke2fs. Each host is disturbed three times (clock forward, back,
power), then finished: somebody must get in, and the end must be the same."""

import contextlib
import os
import random
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from sweeps.hosts import laid_out
from tests.test_tightened import begin, stands
from tests.yard.hosts import OFFICE, STATION, STRANGER, TECHNICIAN, Host, run
from yardbolt.bench.realhost import PACKAGES

JUMPS = ("+30 days", "-400 days", "+3 hours", "-2 hours", "+20 seconds", "power")
FIRST = """#!/bin/sh
export PATH=/usr/sbin:/usr/bin:/sbin:/bin
mount -o remount,rw /; mount -t tmpfs tmpfs /tmp; mount -t tmpfs tmpfs /dev/shm 2>/dev/null
setsid sh -c 'exec sh </dev/ttyS0 >/dev/ttyS0 2>&1' &
modprobe virtio_net; modprobe nf_tables
"""


def disk(cache: Path) -> tuple[Path, Path, Path]:
    """The disk all machines begin with, its kernel and what the kernel starts from: made at the first use, and kept."""
    tree, image = cache / "machine", cache / "machine.img"
    if not image.exists():
        cache.mkdir(parents=True, exist_ok=True)
        included = f"--include={PACKAGES},linux-image-cloud-amd64,initramfs-tools,zstd"
        argv = ["mmdebstrap", "--quiet", "--variant=minbase", included, "bookworm", str(tree)]
        subprocess.run(argv, check=True, stdin=subprocess.DEVNULL)
        run("mke2fs", "-q", "-t", "ext4", "-d", str(tree), str(image) + ".new", "2500M")
        Path(f"{image}.new").rename(image)
    return image, next((tree / "boot").glob("vmlinuz-*")), next((tree / "boot").glob("initrd.img-*"))


class Machine(Host):
    """A host that is a machine: its own kernel, clock and disk."""

    def up(self) -> None:
        image, self.kernel, self.begun = disk(Path(os.environ.get("YARDBOLT_YARD", "/var/cache/yardbolt-yard")))
        run("cp", "--sparse=always", str(image), str(self.folder / "disk"))
        (self.folder / "start").write_text(FIRST + self.script)
        orders = f"mkdir yard\nwrite {self.folder}/start yard/start\nset_inode_field yard/start mode 0100755\n"
        run("debugfs", "-w", "-f", "/dev/stdin", str(self.folder / "disk"), given=orders)
        self._start()

    def _start(self) -> None:
        link = f"yt{os.getpid() % 65000:x}{self.number}"
        run("ip", "link", "del", link, check=False)
        run("ip", "tuntap", "add", link, "mode", "tap")
        for who in (TECHNICIAN, OFFICE, STATION, STRANGER, 254):
            run("ip", "addr", "add", f"{self.at(who)}/24", "dev", link)
            run("ip", "-6", "addr", "add", f"{self.network6}:{who:x}/64", "dev", link, "nodad")
        run("ip", "link", "set", link, "up")
        argv = [
            "qemu-system-x86_64", "-accel", "tcg,thread=multi", "-cpu", "max", "-m", "512", "-display", "none", "-nodefaults",
            "-kernel", str(self.kernel), "-initrd", str(self.begun),
            "-append", "root=/dev/vda rw console=ttyS0 net.ifnames=0 quiet panic=5 init=/yard/start",
            "-drive", f"file={self.folder}/disk,if=virtio,format=raw,cache=writethrough",
            "-netdev", f"tap,id=n,ifname={link},script=no,downscript=no", "-device", "virtio-net-pci,netdev=n",
            "-chardev", f"socket,id=c,path={self.folder}/serial,server=on,wait=off,logfile={self.folder}/console,logappend=on", "-serial", "chardev:c", "-rtc", "base=utc,clock=host",
        ]  # fmt: skip
        with (self.folder / "log").open("ab") as log:
            self.process = subprocess.Popen(argv, stdin=subprocess.DEVNULL, stdout=log, stderr=log)
        self.pid = self.process.pid
        self.is_up()

    def is_up(self) -> None:
        """Wait until it has started; emulated, that takes minutes."""
        assert self.process is not None
        end = time.monotonic() + 900
        while "yes" not in self.shell("test -e /run/yard-up && echo ye''s"):
            if time.monotonic() > end or self.process.poll() is not None:
                raise RuntimeError(f"{self.name} did not come up: {(self.folder / 'log').read_text()[-2000:]}")

    def shell(self, script: str, check: bool = True) -> str:
        """Type a line at its console; what came back within three seconds."""
        got = b""
        try:
            with socket.socket(socket.AF_UNIX) as console:
                console.settimeout(3)
                console.connect(f"{self.folder}/serial")
                console.sendall(b"\n" + script.encode() + b"\n")
                while True:
                    got += console.recv(65536)
        except OSError:
            return got.decode(errors="replace")


def jumped(seed: int, folder: Path) -> str:
    """One host, from as found to as left, its clock set three times; what went wrong, or nothing."""
    chance = random.Random(seed)
    (folder / "host").mkdir()
    host, tool = laid_out("mill" if seed % 3 else "cabin", Machine, 8, seed, folder)
    try:
        host.up()
        print(seed, host.name, "is up", time.strftime("%H:%M:%S"), flush=True)
        begin(tool, host, (folder / "light.kdbx").read_bytes())
        took = 60.0
        for what in [*(chance.choice(JUMPS) for _ in range(3)), "", "", "", ""]:
            host.is_up()
            began, process = time.monotonic(), tool.start("tighten", "--yes", "--this-one", host.name)
            if what:
                with contextlib.suppress(subprocess.TimeoutExpired):
                    process.wait(chance.uniform(0.1, 0.9) * took)
                host.power_cycle() if what == "power" else host.shell(f"date -s '{what}'", check=False)
            said = process.communicate(timeout=3600)[0].strip().splitlines()
            took = time.monotonic() - began
            print(
                seed, what, process.returncode, f"{took:.0f} s", [s for s in said if "yardbolt" in s][-1:], flush=True
            )
            # what could not be read when a run was approved is for the next one
            if not what and process.returncode == 3 and "0 changes" in tool.run("steps", host.name).stdout:
                break
        if strange := [line for line in said if line.startswith("NOT PLANNED")]:
            return f"seed {seed}: {strange}"
        if process.returncode == 3:
            try:
                return stands(host, tool) or ""
            except AssertionError as e:
                return f"seed {seed}: {e!r}\n" + "\n".join(said[-40:])
        console = (host.folder / "console").read_text(errors="replace")[-1500:]
        return f"seed {seed} ended so: {said[-5:]}\nits console: {console}"
    finally:
        host.down()


if __name__ == "__main__":
    seeds = range(int(sys.argv[2]), int(sys.argv[2]) + int(sys.argv[1]))
    with tempfile.TemporaryDirectory() as base:
        wrong = [found for seed in seeds if (found := jumped(seed, Path(tempfile.mkdtemp(dir=base))))]
    sys.exit("\n".join(wrong) or (print(f"{len(seeds)} machines, nobody locked out, the same end every time") or 0))
