"""Dropbear: its settings stand in its command line and nowhere else (dropbear(8))."""

from __future__ import annotations

from collections.abc import Mapping

from ...plane.kinds import ABSENT, NEVER
from .decoder import Decoded, Pairs
from .idle import at_a_prompt, shortest
from .tagged import digits

_SSH = ("services", "ssh")
_WITH_VALUE = frozenset("bcdDGIKlpPrTW2")
TRIES = 10  # as it is built


def options(words: list[str]) -> dict[str, list[str]]:
    """The options of a command line (getopt(3)): letter -> values, empty texts where it takes none."""
    found: dict[str, list[str]] = {}
    rest = words[1:]
    while rest:
        word = rest.pop(0)
        if not word.startswith("-") or len(word) < 2:
            continue
        for place, letter in enumerate(word[1:], 1):
            if letter in _WITH_VALUE:
                inside = word[place + 1 :]
                found.setdefault(letter, []).append(inside or (rest.pop(0) if rest else ""))
                break
            found.setdefault(letter, []).append("")
    return found


def decode_server(seen: Mapping[str, list[str]]) -> Decoded:
    """The section `ssh` where the server is dropbear."""
    given = options(seen.get("arg", []))
    if not seen.get("arg") or "i" in given:
        return Decoded((), ("the SSH server is started for each connection; its options are not known",))
    told = dict.fromkeys(value.rpartition(":")[2] for value in given.get("p", ["22"]))
    ports = [int(port) for port in told if digits(port)] if all(map(digits, told)) else []
    idle = given.get("I", ["0"])[-1]
    by_server = (float(idle) or NEVER) if digits(idle) else None
    tries = given.get("T", [str(TRIES)])[-1]
    notice = "\n".join(seen.get("notice", [])).strip()
    facts: Pairs = [
        (_SSH, True),
        ((*_SSH, "enabled"), True),
        ((*_SSH, "encrypted"), True),
        ((*_SSH, "config"), ABSENT),
        ((*_SSH, "permitted"), ABSENT),
        ((*_SSH, "interfaces"), ABSENT if all(":" not in value for value in given.get("p", [])) else None),
        ((*_SSH, "port"), ports[0] if ports else None),
        ((*_SSH, "also"), tuple(f"tcp {port}" for port in ports[1:]) or ABSENT if ports else None),
        ((*_SSH, "root_login"), "no" if "w" in given else "keys" if {"g", "s"} & given.keys() else "yes"),
        ((*_SSH, "password_login"), "s" not in given),
        ((*_SSH, "key_login"), True),
        ((*_SSH, "authority"), ABSENT),  # dropbear(8) knows neither
        ((*_SSH, "key_command"), ABSENT),
        ((*_SSH, "blank_login"), "B" in given),
        ((*_SSH, "tries"), int(tries) if digits(tries) else None),
        ((*_SSH, "accounts"), None if "G" in given else ABSENT),
        ((*_SSH, "idle"), shortest(by_server, at_a_prompt(seen.get("tmout", []), seen.get("shell", [])))),
        (("banner",), notice or ABSENT),
    ]
    return Decoded(tuple((path, value) for path, value in facts if value is not None))
