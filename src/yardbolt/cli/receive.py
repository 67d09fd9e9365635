"""`receive`: log messages as they arrive at this laptop."""

from __future__ import annotations

import asyncio
import contextlib
import json
import signal
import sys
from datetime import UTC, datetime

from yardbolt.core.formats.syslog import Message

from . import wiring
from .values import output_format

SEVERITIES = ("emergency", "alert", "critical", "error", "warning", "notice", "info", "debug")  # RFC 5424, table 2


def receive(address: str, port: int, seconds: float, form: str) -> int:
    """Print what arrives, one line a message, until the time is over or it is interrupted; 0 where something came, 4
    where nothing did. Raises OperatorError where it cannot listen there."""
    count, form = 0, output_format(form, ("text", "json"))

    def heard(sender: str, message: Message) -> None:
        nonlocal count
        count += 1
        now = datetime.now(UTC).isoformat(timespec="seconds")
        if form == "json":
            sys.stdout.write(json.dumps({"time": now, "from": sender, **vars(message)}) + "\n")
        else:
            said = f"{message.who}: {message.text}" if message.who else message.text
            sys.stdout.write(f"{now[11:19]}  {sender:<15}  {SEVERITIES[message.severity]:<9}  {said}\n")
        sys.stdout.flush()

    async def listen() -> None:
        stop = asyncio.Event()
        for number in (signal.SIGINT, signal.SIGTERM):
            asyncio.get_running_loop().add_signal_handler(number, stop.set)
        async with wiring.Receiver(address, port, heard):
            sys.stderr.write(f"listening at {address} port {port}, UDP and TCP; Ctrl-C ends it\n")
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(stop.wait(), seconds or None)

    asyncio.run(listen())
    return 0 if count else 4
