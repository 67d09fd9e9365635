"""Logging in to 64 cameras at once and reading them whole, against bare httpx sending the same requests: python
benchmarks/objects.py

The units stand in a process of their own; what is compared is the client's work in the same run, in turns."""

from __future__ import annotations

import asyncio
import subprocess
import sys
import time

import httpx

from yardbolt.adapters.files import load_family, shipped
from yardbolt.application.session import drive
from yardbolt.core.credentials import Password
from yardbolt.core.doors import Door
from yardbolt.core.family.extracting import extract
from yardbolt.core.family.reading import merge
from yardbolt.core.secret import Ref, Secret
from yardbolt.core.talk.conversation import Fetch
from yardbolt.core.talk.outcomes import Done, Opened
from yardbolt.wires.objects import Objects

MANY = int(sys.argv[1]) if len(sys.argv) > 1 else 64
STAND = f"""
import asyncio, time
from yardbolt.bench.linecamera import LineCamera
from yardbolt.bench.webdoors import WebStand
async def main():
    stands = [WebStand(LineCamera(time.monotonic, shy=0.0), f"127.86.7.{{n + 1}}") for n in range({MANY})]
    for stand in stands: stand.set_doors()
    print("up", flush=True)
    await asyncio.gather(*(stand.run() for stand in stands))
asyncio.run(main())
"""
FAMILY = load_family(shipped("families")["wendlock-lc2"])
_, CHANNEL, TALK = FAMILY.channel_of("https")
PLACES = (
    "/cab",
    "/cab",
    "/cab/rules",
    "/cab/folk",
    "/cab/doors",
    "/cab/notice",
    "/cab/wire",
    "/cab/journal",
    "/cab/shell",
    "/cab/picture",
)


async def ours(address: str) -> None:
    """Log in, ask everything, make a reading of it."""
    wire = Objects({Ref("factory:1"): Secret("warden")}.get, "")
    await wire.open(Door("https", address, 8443, "https"), "", "warden", Password(Ref("factory:1")))
    assert isinstance(await drive(wire, TALK.login(CHANNEL, "warden", Ref("factory:1"), False, {})), Opened)
    parts = []
    for ask in FAMILY.asks:
        got = await drive(wire, TALK.ask_(CHANNEL, Fetch(ask.how), None))
        assert isinstance(got, Done)
        parts += extract(FAMILY, ask, got.reply)
    assert merge(FAMILY, parts).plane.name == "lc2-new"
    await wire.close()


async def bare(address: str) -> None:
    """The same requests, and nothing made of them."""
    auth = httpx.DigestAuth("warden", "warden")
    async with httpx.AsyncClient(verify=False, trust_env=False, auth=auth) as client:
        for place in PLACES:
            (await client.get(f"https://{address}:8443{place}")).raise_for_status()


async def timed(one: object) -> float:
    """All units at once, in seconds."""
    began = time.perf_counter()
    await asyncio.gather(*(one(f"127.86.7.{n + 1}") for n in range(MANY)))  # type: ignore[operator]
    return time.perf_counter() - began


async def main() -> None:
    """In turns, the best of three of each."""
    best = {"ours": 1e9, "bare": 1e9}
    for _ in range(3):
        for name, one in (("bare", bare), ("ours", ours)):
            best[name] = min(best[name], await timed(one))
    print(
        f"{MANY} at once: ours {best['ours']:.2f} s, bare httpx {best['bare']:.2f} s: {best['bare'] / best['ours']:.2f} of it"
    )


with subprocess.Popen([sys.executable, "-c", STAND], stdout=subprocess.PIPE, text=True) as stand:
    assert stand.stdout is not None
    stand.stdout.readline()
    time.sleep(0.5)
    try:
        asyncio.run(main())
    finally:
        stand.terminate()
