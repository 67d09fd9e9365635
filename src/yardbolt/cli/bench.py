"""`bench`: simulated units from the command line."""

from __future__ import annotations

import asyncio
import contextlib
import errno
import os
import signal
import sys
import tempfile
from pathlib import Path
from typing import Any

from yardbolt.core.errors import OperatorError

from . import wiring


def state_folder(given: Path | None) -> Path:
    """Where the running bench looks for its fault switch."""
    return given or Path(os.environ.get("XDG_RUNTIME_DIR") or tempfile.gettempdir()) / f"yardbolt-bench-{os.getuid()}"


def up(state: Path | None, network: str, fault_kind: str) -> int:
    """Serve until interrupted or ended."""
    serve = wiring.bench()
    folder = state_folder(state)
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    switch(folder, fault_kind)

    def ready(stands: list[Any]) -> None:
        wiring.renewed([stand.address for stand in stands])
        for stand in stands:
            ports = ", ".join(str(gate.wire) for gate in stand.unit.live.gates.values())
            sys.stdout.write(f"up: {stand.unit.title} at {stand.address}, ports {ports}, at factory default\n")
        sys.stdout.write("Ctrl-C ends it; its state is lost then. 'yardbolt bench fault KIND' makes it misbehave.\n")
        sys.stdout.flush()

    async def run() -> None:
        task = asyncio.current_task()
        assert task is not None
        asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, task.cancel)
        await serve.up(folder, network, ready)

    try:
        with contextlib.suppress(KeyboardInterrupt, asyncio.CancelledError):
            asyncio.run(run())
    except OSError as e:
        if e.errno == errno.EADDRINUSE:
            taken = f"{network}.1 port 2022 is taken"
            raise OperatorError(
                f"the bench is up already ({taken}); end the other one first, or say --network"
            ) from None
        raise OperatorError(f"the bench cannot take its address: {e.strerror}; 127.x.y.z needs Linux") from None
    return 0


def switch(folder: Path, kind: str) -> None:
    """Set the fault switch. Raises OperatorError on an unknown kind."""
    faults = wiring.bench().FAULTS
    if kind not in faults:
        raise OperatorError(f"no fault called {kind}; faults are {', '.join(faults)}")
    (folder / "fault").write_text(kind)


def fault(kind: str, state: Path | None) -> int:
    """Turn the switch, or list what it can do."""
    faults = wiring.bench().FAULTS
    if not kind:
        for name, meaning in faults.items():
            sys.stdout.write(f"{name:<9} {meaning}\n")
        return 0
    folder = state_folder(state)
    if not folder.is_dir():
        raise OperatorError(f"no bench is up ({folder} is not there); next: yardbolt bench up")
    switch(folder, kind)
    sys.stdout.write(f"the bench now {faults[kind]}\n")
    return 0
