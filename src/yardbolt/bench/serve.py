"""The bench: its units put up on a network, each on a stand of its own, with one fault switch."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from pathlib import Path

from .accesspoint import AccessPoint
from .intercomexchange import IntercomExchange
from .linecamera import LineCamera
from .lineswitch import LineSwitch
from .packetgate import PacketGate
from .relaybox import RelayBox
from .stand import FAULTS, Stand
from .waysiderouter import WaysideRouter

__all__ = ["FAULTS", "Stand", "switch_file", "up"]


def switch_file(state: Path) -> Callable[[], str]:
    """The fault switch as a file: what it holds is the fault; no file is none."""
    file = state / "fault"

    def fault() -> str:
        try:
            return file.read_text("ascii").strip() or "none"
        except (OSError, UnicodeDecodeError):
            return "none"

    return fault


async def up(state: Path, network: str, ready: Callable[[list[Stand]], None]) -> None:
    """Put the bench's units up on `network` (the first three numbers of a 127.x.y.z address) and keep them up until
    cancelled. `ready` is called once every door is open."""
    # what web doors need is read only where a bench is up
    from .webdoors import WebStand

    fault = switch_file(state)
    stands = [
        Stand(LineSwitch(time.monotonic), f"{network}.1", fault),
        Stand(RelayBox(time.monotonic), f"{network}.2", fault),
        WebStand(LineCamera(time.monotonic, place=f"{network}.3/24"), f"{network}.3", fault),
        WebStand(PacketGate(time.monotonic, yard=f"{network.partition('.')[0]}.0.0.0/8"), f"{network}.4", fault),
        WebStand(WaysideRouter(time.monotonic, place=f"{network}.5/24"), f"{network}.5", fault),
        WebStand(IntercomExchange(time.monotonic), f"{network}.6", fault),
        WebStand(AccessPoint(time.monotonic, place=f"{network}.7/24"), f"{network}.7", fault),
    ]
    try:
        for stand in stands:
            stand.set_doors()
        ready(stands)
        await asyncio.gather(*(stand.run() for stand in stands))
    finally:
        # what ends before a stand has begun to run leaves its doors to us
        for stand in stands:
            for name in list(stand.listeners):
                stand.shut(name)
