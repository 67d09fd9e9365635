"""The laptop's time."""

from __future__ import annotations

from datetime import UTC, datetime


class LaptopClock:
    """Fulfils `Clock`."""

    def now(self) -> str:
        """UTC, ISO 8601, to the second."""
        return datetime.now(UTC).isoformat(timespec="seconds")

    async def sleep(self, seconds: float) -> None:
        """Wait."""
        import asyncio

        await asyncio.sleep(seconds)
