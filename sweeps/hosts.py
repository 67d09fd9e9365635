"""A real host, tightened with mischief at moments drawn by lot: killed, line cut, power cut, disk full: python
sweeps/hosts.py SEEDS FIRST

After each the same command is run again: somebody must get in, and the end must be the same. Needs root, like the
yard."""

import os
import random
import signal
import sys
import tempfile
import time
from pathlib import Path
from typing import TypeVar

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.conftest import MASTER, Tool
from tests.test_tightened import begin, stands
from tests.yard.hosts import Host, run
from tests.yard.truth import FILTER, KINDS
from yardbolt.adapters.safe import make_safe
from yardbolt.core.secret import Secret

Made = TypeVar("Made", bound=Host)
MISCHIEF = {
    "kill": "", "power": "",
    "line": "echo 1 >/proc/sys/net/ipv6/conf/eth0/keep_addr_on_down; ip link set eth0 down; (sleep 20; ip link set eth0 up; ip route add default via $(ip -4 -o addr show eth0 | sed 's/.*inet \\([0-9.]*\\)[.]1[/].*/\\1.254/')) </dev/null >/dev/null 2>&1 &",
    "disk": "dd if=/dev/zero of=/filled bs=64k 2>/dev/null; (sleep 15; rm /filled) </dev/null >/dev/null 2>&1 &",
}  # fmt: skip


# what a server under systemd may be like besides: systemd holds the socket of its SSH server; a list says who may log
# in, by name, by group or by both
BESIDES = (
    "",
    "systemctl -q disable ssh.service; systemctl -q enable ssh.socket\n",
    "echo 'AllowUsers root works' >/etc/ssh/sshd_config.d/60-list.conf; sleep 2.2\n",
    "groupadd crew; for x in root works guest; do usermod -aG crew $x; done; echo 'AllowGroups wheel crew' >/etc/ssh/sshd_config.d/60-list.conf; sleep 2.2\n",
    "for x in root works guest; do usermod -aG sudo $x; done; echo 'AllowGroups sudo' >/etc/ssh/sshd_config.d/60-list.conf; sleep 2.2\n",
    "groupadd crew; groupadd away; for x in root works guest; do usermod -aG crew $x; done; usermod -aG away guest\n"
    "printf 'AllowUsers root works guest\\nAllowGroups crew\\nDenyGroups away\\n' >/etc/ssh/sshd_config.d/60-list.conf; sleep 2.2\n",
)


def laid_out(name: str, kind: type[Made], number: int, seed: int, folder: Path) -> tuple[Made, Tool]:
    """The host of this seed as its maker sets it up, not started, and the laptop's job folder beside it."""
    host = kind(name, number, "", KINDS[name].start, folder / "host", KINDS[name].boot)
    filled = FILTER.replace("NET6", host.network6).replace("NET", host.network)
    host.setup = f"FILTER='{filled}'\n" + KINDS[name].setup.replace("NET", host.network)
    host.setup += BESIDES[seed // 3 % len(BESIDES)] if name == "shed" else ""
    tool = Tool(folder / "job", {**os.environ, "COLUMNS": "120", "HOME": str(folder)})
    tool.folder.mkdir()
    make_safe(folder / "light.kdbx", Secret(MASTER), None, None)
    return host, tool


def disturbed(seed: int, folder: Path) -> str:
    """One host, from as found to as left, disturbed four times, and changed later; what went wrong, or nothing."""
    chance = random.Random(seed)
    (folder / "host").mkdir()
    run("mount", "-t", "tmpfs", "-o", "size=80m", "tmpfs", str(folder / "host"))
    name = ("cabin", "mill", "shed")[seed % 3]
    host, tool = laid_out(name, KINDS[name].host, 7, seed, folder)
    try:
        host.up()
        begin(tool, host, (folder / "light.kdbx").read_bytes())
        for what in [*(chance.choice([*MISCHIEF, "kill"]) for _ in range(4)), "", ""]:
            process = tool.start("tighten", "--yes", "--this-one", host.name)
            if what:
                time.sleep(chance.uniform(3, 45))
                host.power_cycle() if what == "power" else host.shell(MISCHIEF[what], check=False)
                process.send_signal(signal.SIGKILL if what == "kill" else signal.SIGCONT)
            said = process.communicate(timeout=900)[0].strip().splitlines()
            print(seed, what, process.returncode, [line for line in said if "yardbolt" in line][-1:], flush=True)
            time.sleep(21 if what in ("line", "disk") else 0)
        # what is asked for later is changed on a host that stands as it was left
        quick = tool.folder / "baselines" / "quick.yaml"
        quick.write_text(quick.read_text().replace('at most: "4"', 'at most: "2"'))
        process = tool.start("tighten", "--yes", "--this-one", host.name)
        later = process.communicate(timeout=900)[0].strip().splitlines()
        print(seed, "later", process.returncode, later[-1:], flush=True)
        if not any("tries by ssh 2" in line for line in later):
            return f"seed {seed} was not told of fewer tries: {later}"
        if strange := [line for line in said if line.startswith("NOT PLANNED")]:
            return f"seed {seed}: {strange}"
        return stands(host, tool) or "" if process.returncode == 3 else f"seed {seed} ended so: {said[-5:]}"
    finally:
        host.down()
        run("umount", "-l", str(folder / "host"))


if __name__ == "__main__":
    seeds = range(int(sys.argv[2]), int(sys.argv[2]) + int(sys.argv[1]))
    with tempfile.TemporaryDirectory() as base:
        wrong = [found for seed in seeds if (found := disturbed(seed, Path(tempfile.mkdtemp(dir=base))))]
    sys.exit("\n".join(wrong) or (print(f"{len(seeds)} hosts, nobody locked out, the same end every time") or 0))
