"""Real hosts on which a way in hangs by a thread: python sweeps/guarded.py [CASE...]

Each is tightened; whatever comes of it, somebody gets in, now and after a power cut, and nobody is told otherwise.
Needs root."""

import os
import re
import signal
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from sweeps.hosts import KINDS, laid_out, run
from tests.test_job import steps_of
from tests.test_tightened import KEY, begin, opens

PUBLIC = KEY.export_public_key().decode().strip()
BY_KEY = f"""for h in /root /home/tech; do [ -d $h ] || continue; mkdir -p $h/.ssh; echo '{PUBLIC}' >>$h/.ssh/authorized_keys; chmod 700 $h/.ssh; done
passwd -l root >/dev/null
"""
# the host, what is done to it once the job has begun, what is said besides, and for how many seconds the lid is closed
CASES = {
    "off at boot": ("shed", "systemctl -q disable ssh.service", (), 0),
    "by key alone": ("shed", BY_KEY, ("--as", "root", "--ssh-key", "key"), 0),
    "an address of its own on lo": ("shed", "ip addr add NET.77/32 dev lo", (), 0),
    "a closed lid": ("shed", "", (), 130),
    "started by a script": ("mill", "", (), 0),
}


def gets_in(host: object, login: str) -> bool:
    """Does an ordinary client, by the owner's key or by what the maker set, where a start may still be going on?"""
    account, _, password = login.partition(":")
    for _ in range(12):
        if opens(host, "lt-works", "", [KEY]) or opens(host, "root", "", [KEY]) or opens(host, account, password):
            return True
        time.sleep(5)
    return False


def tried(case: str, folder: Path) -> str:
    """One host; what went wrong, or nothing."""
    name, shell, more, lid = CASES[case]
    (folder / "host").mkdir()
    run("mount", "-t", "tmpfs", "-o", "size=80m", "tmpfs", str(folder / "host"))
    host, tool = laid_out(name, KINDS[name].host, 8, 0, folder)
    try:
        host.up()
        begin(tool, host, (folder / "light.kdbx").read_bytes())
        KEY.write_private_key(tool.folder / "key")
        host.shell(shell.replace("NET", host.network))
        if lid:
            family = tool.folder / "families" / f"{name}.yaml"
            family.write_text(re.sub(r"\b480\b", "100", family.read_text()))
        process = tool.start("tighten", "--yes", "--this-one", *more, host.name)
        while lid and process.poll() is None:
            if any(
                "arm the" in str(event.get("kind")) and event["event"] == "read back" for event in steps_of(tool.folder)
            ):
                time.sleep(4)
                process.send_signal(signal.SIGSTOP)
                time.sleep(lid)
                process.send_signal(signal.SIGCONT)
                break
            time.sleep(0.1)
        said = process.communicate(timeout=900)[0].strip().splitlines()
        print(case, process.returncode, [line for line in said if "AS LEFT" in line or "yardbolt:" in line], flush=True)
        if not gets_in(host, KINDS[name].login):
            return f"{case}: nobody gets in: {said[-8:]}"
        host.power_cycle()
        return "" if gets_in(host, KINDS[name].login) else f"{case}: nobody gets in after a power cut: {said[-8:]}"
    finally:
        host.down()
        run("umount", "-l", str(folder / "host"))


if __name__ == "__main__":
    problems = []
    for case in sys.argv[1:] or CASES:
        with tempfile.TemporaryDirectory(dir=os.environ.get("TMPDIR")) as folder:
            problems += [wrong] if (wrong := tried(case, Path(folder))) else []
    print(*problems or ["somebody gets in everywhere"], sep="\n")
    sys.exit(bool(problems))
