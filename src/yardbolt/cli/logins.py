"""Logins the technician knows: typed hidden, or a key file; given once, used by the whole command."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from yardbolt.application.unit import TYPED, TYPED_KEY, UnitInWork
from yardbolt.core.errors import OperatorError
from yardbolt.core.secret import Secret

from . import wiring


@dataclass(frozen=True)
class Known:
    """A login for each unit: its account, and its password (asked for before any unit is touched) or key file."""

    account: str = ""
    key: Path | None = None
    keep: bool = False
    passwords: tuple[tuple[str, Secret], ...] = ()

    def give(self, unit: UnitInWork) -> None:
        """Let a unit be entered by it."""
        if not (self.account or self.key):
            return
        unit.entry = replace(unit.entry, account=self.account or unit.entry.account)
        unit.key_file = str(self.key or "")
        password = dict(self.passwords).get(unit.name, Secret(""))
        unit.typed[TYPED_KEY if self.key else TYPED] = password
        unit.keep = self.keep


def known(names: list[str], account: str, key: Path | None, keep: bool) -> Known:
    """Ask for the password of an account on each unit, where one is named. Raises OperatorError."""
    if key and not key.is_file():
        raise OperatorError(f"{key}: no such key file")
    if keep and (key or not account):
        raise OperatorError("--keep keeps a typed password: say --as NAME, and no key file")
    ask = names if account and not key else []
    return Known(
        account, key, keep,
        tuple((name, wiring.ask_secret(f"Password of {account} on {name} (may be blank): ")) for name in ask),
    )  # fmt: skip
