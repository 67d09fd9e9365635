"""Two writers of one safe, 0 to 3 s apart, and one killed at a seeded moment: python sweeps/safe.py [ROUNDS] [SEED]

Every value whose storing was told as done must lie in both files afterwards, and every value either file ever held too.
"""

import asyncio
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from pykeepass import PyKeePass

from yardbolt.adapters.safe import KdbxSafe, create
from yardbolt.core.secret import Ref, Secret

MASTER = Secret("sweep")
if sys.argv[1:2] == ["write"]:
    safe = KdbxSafe(Path(sys.argv[2]), MASTER, None, Path(sys.argv[3]))
    for n in range(5):
        ref = Ref(f"safe:{sys.argv[4]}/account-{n}")
        asyncio.run(safe.store({ref: Secret(f"{sys.argv[4]}-{n}")}, "sweep"))
        print(f"{ref.entry} {sys.argv[4]}-{n}", flush=True)
    sys.exit(0)

rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 100
chance = random.Random(int(sys.argv[2]) if len(sys.argv) > 2 else 1)
lost = killed = unlike = stored = 0


def held(place: Path) -> dict[str, str]:
    return {f"safe:{e.group.name}/{e.title}": e.password for e in PyKeePass(str(place), password="sweep").entries}


for turn in range(rounds):
    with tempfile.TemporaryDirectory() as folder:
        path, copy = Path(folder) / "s.kdbx", Path(folder) / "stick" / "s.kdbx"
        create(path, MASTER, None, copy)
        light = PyKeePass(str(path), password="sweep")
        cost = light.kdbx.header.value.dynamic_header.kdf_parameters.data.dict
        cost["I"].value, cost["M"].value = 1, 65536
        light.save()
        copy.write_bytes(path.read_bytes())
        writers = []
        for name, wait in (("first", 0), ("second", chance.choice((0, 0, 0.1, 1, 3)))):
            time.sleep(wait)
            command = [sys.executable, __file__, "write", str(path), str(copy), f"{name}-{turn}"]
            writers.append(subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True))
        if chance.random() < 0.7:
            time.sleep(0.4 + chance.random() * 1.2)
            victim = writers[chance.randrange(2)]
            killed += victim.poll() is None
            victim.send_signal(signal.SIGKILL)
        told = dict(line.split() for w in writers for line in w.communicate()[0].splitlines())
        asyncio.run(KdbxSafe(path, MASTER, None, copy).store({}, ""))  # the next run
        here, there = held(path), held(copy)
        stored, lost, unlike = (
            stored + len(told),
            lost + (told.items() - here.items() != set()),
            unlike + (here != there),
        )
    print(f"{turn + 1} rounds, {killed} kills: {stored} stored, {lost} with a value lost, {unlike} unlike", flush=True)
sys.exit(bool(lost or unlike))
