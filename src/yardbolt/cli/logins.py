"""Logins the technician knows: typed hidden, or a key file; given once, used by the whole command."""

from __future__ import annotations

import sys
from dataclasses import dataclass, replace

from yardbolt.application.held import TYPED
from yardbolt.application.unit import UnitInWork
from yardbolt.core.credentials import BY_KEY, Key
from yardbolt.core.errors import OperatorError
from yardbolt.core.secret import Secret

from . import wiring
from .keyboard import ask_secret
from .values import Wish
from .yard import Yard


@dataclass(frozen=True)
class Known:
    """A login for each unit: what was wished, and the passwords, asked for before any unit is touched."""

    wish: Wish
    passwords: tuple[tuple[str, Secret], ...] = ()
    key: Key | None = None

    def give(self, unit: UnitInWork) -> None:
        """Let a unit be entered by it."""
        wish = self.wish
        if not (wish.account or wish.key):
            return
        unit.facts.entry = replace(unit.facts.entry, account=wish.account or unit.facts.entry.account)
        unit.held.key, unit.held.keep = self.key, wish.keep
        unit.held.typed[BY_KEY if wish.key else TYPED] = dict(self.passwords).get(unit.name, Secret(""))


def known(yard: Yard, names: list[str], wish: Wish) -> Known:
    """Ask for the password of an account on each unit, where one is named. Raises OperatorError."""
    if wish.key and not wish.key.is_file():
        raise OperatorError(f"{wish.key}: no such key file")
    if wish.keep and (wish.key or not wish.account):
        raise OperatorError("--keep keeps a typed password: say --as NAME, and no key file")
    key = wiring.key_in(str(wish.key)) if wish.key else None
    if not wish.account:
        return Known(wish, key=key)
    if not wish.key:
        prompt, ask = f"Password of {wish.account} on {{}} (may be blank): ", names
    else:  # a key opens the account; full rights inside may want its password all the same
        prompt = f"Password of {wish.account} on {{}}, if it is asked for inside (blank: none): "
        inside = wish.account != "root" and sys.stdin.isatty()
        ask = [name for name in names if inside and yard.family_of(name).asks_inside()]
    return Known(wish, tuple((name, ask_secret(prompt.format(name))) for name in ask), key)
