"""Several units at once: each error is one line, results come in the order of the job, the worst exit code wins."""

from __future__ import annotations

import asyncio
import sys
from collections.abc import Awaitable, Callable
from pathlib import Path

from yardbolt.core.errors import YardboltError

from .values import worst
from .yard import Turns, Yard


def where_of(error: BaseException) -> str:
    """Where an unexpected error came from: file and line, never a value."""
    import traceback

    frames = traceback.extract_tb(error.__traceback__)[-3:]
    return ", ".join(f"{Path(frame.filename).name}:{frame.lineno}" for frame in frames)


def each(yard: Yard, names: list[str], jobs: int, work: Callable[[str], Awaitable[int]]) -> int:
    """Run the work of several units at the same time; each error is one line, the worst exit code wins."""

    from yardbolt.core.run.events import Troubled

    async def one(name: str, gate: asyncio.Semaphore) -> int:
        async with gate:
            try:
                return await work(name)
            except YardboltError as e:
                await yard.turns.of(name)
                yard.progress.clear()
                told = " ".join(str(e).split("\n"))
                told = told if told.startswith(name) else f"{name}: {told}"
                sys.stderr.write(f"yardbolt: {told}\n")
                yard.records.append(name, 0, Troubled(error=told))
                yard.troubles[name] = told
                return e.exit_code
            except Exception as e:
                # one unit's defect is that unit's outcome; the others go on
                await yard.turns.of(name)
                yard.progress.clear()
                told = (
                    f"{name}: stopped by a defect in Yard Bolt: {type(e).__name__}; see 'yardbolt records journal "
                    f"{name}'"
                )
                sys.stderr.write(f"yardbolt: {told}\n")
                yard.records.append(name, 0, Troubled(error=f"{told} ({where_of(e)})"))
                return 1
            finally:
                # an approval that is waited for, or an end, shows nothing: then it is the next one's turn all the same
                await yard.turns.of(name)
                yard.turns.shown(name)

    async def all_of_them() -> list[int]:
        gate = asyncio.Semaphore(jobs)
        yard.turns = Turns(names)
        return list(await asyncio.gather(*(one(name, gate) for name in names)))

    try:
        return worst(asyncio.run(all_of_them()))
    finally:
        yard.progress.clear()
