"""The shell of the LC-2 line camera, as `docs/bench/wendlock-lc2.md` has it: it shows, and changes nothing."""

from __future__ import annotations

from collections.abc import Callable

from .plugged import Connection, Plugged


class CameraShell(Connection):
    """One connection to the shell."""

    pages: tuple[str, ...] = ()
    hides = False

    def __init__(self, camera: Plugged, plate: Callable[[], dict[str, str]], source: str, hand: str) -> None:
        super().__init__(camera, "shell", source, hand)
        self.plate = plate

    def prompt(self) -> str:
        """What it shows when it waits."""
        return "lens> "

    def greet(self) -> str:
        """What is shown before anything is typed."""
        return self.prompt()

    def hear(self, line: str) -> str:
        """One line typed; what it says to it."""
        if line.strip() == "quit":
            self.end()
            return ""
        if line.strip() == "plate":
            return "".join(f"{name} = {value}\n" for name, value in self.plate().items()) + self.prompt()
        return ("no: plate, quit\n" if line.strip() else "") + self.prompt()

    def page(self) -> str:
        """Nothing here is longer than a screen."""
        return ""
