"""Two writers of one safe, 0 to 3 s apart, one killed at a seeded moment; what was told as stored must lie in both
files afterwards: python sweeps/safe.py [ROUNDS] [SEED]"""

import asyncio
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from pykeepass import PyKeePass

from yardbolt.adapters.safe import KdbxSafe, make_safe
from yardbolt.core.secret import Ref, Secret

MASTER = Secret("sweep")
if sys.argv[1:2] == ["write"]:
    safe = KdbxSafe(Path(sys.argv[2]), MASTER, None, Path(sys.argv[3]))
    for n in range(5):
        name = f"safe:{sys.argv[4]}/account-{n}"
        asyncio.run(safe.store({Ref(name): Secret(f"secret of {name}")}, "sweep"))
        print(name, flush=True)
    sys.exit(0)

rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 100
chance = random.Random(int(sys.argv[2]) if len(sys.argv) > 2 else 1)
lost = killed = unlike = stored = 0


def held(place: Path) -> dict[str, str]:
    return {f"safe:{e.group.name}/{e.title}": e.password for e in PyKeePass(str(place), password="sweep").entries}


for turn in range(rounds):
    with tempfile.TemporaryDirectory() as folder:
        path, copy = Path(folder) / "s.kdbx", Path(folder) / "stick" / "s.kdbx"
        make_safe(path, MASTER, None, copy)
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
            victim.kill()
        told = {name for w in writers for name in w.communicate()[0].split()}
        asyncio.run(KdbxSafe(path, MASTER, None, copy).store({}, ""))  # the next run
        here = held(path)
        stored, unlike = stored + len(told), unlike + (here != held(copy))
        lost += any(here.get(name) != f"secret of {name}" for name in told)
    print(f"{turn + 1} rounds, {killed} kills: {stored} stored, {lost} with a value lost, {unlike} unlike", flush=True)
sys.exit(bool(lost or unlike))
