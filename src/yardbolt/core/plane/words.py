"""Values for people, with their units."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Any

from ..addresses import ANYONE, AddressSet
from ..secret import Ref
from .kinds import ABSENT
from .path import Path
from .table import row_of


def human(path: Path, value: Any) -> str:
    """A value for people, with its unit."""
    if value is None:
        return "not read"
    if value is ABSENT:
        return "not set"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return "never" if math.isinf(value) else duration(value)
    if isinstance(value, Ref):
        return value.entry
    if isinstance(value, AddressSet):
        return ", ".join(addresses(value))
    if isinstance(value, tuple):
        return ", ".join(map(str, value)) or "none"
    unit = row_of(path).unit
    unit = unit.removesuffix("es" if unit.endswith("sses") else "s") if value == 1 else unit
    return f"{value} {unit}".strip() if isinstance(value, int) else str(value)


FEW = 8  # addresses told one by one
LEAVES = {
    ("policy", "min_length"): "shortest password",
    ("policy", "classes"): "kinds of character",
    ("policy", "max_repeat"): "longest repeat",
    ("policy", "max_run"): "longest run",
    ("lockout", "tries"): "wrong tries",
    ("lockout", "release"): "lock",
    ("clock", "offset"): "clock",
    ("clock", "servers"): "time from",
    ("logs", "destinations"): "logs to",
    ("snmp", "communities"): "SNMP communities",
    ("policy", "dictionary"): "word check of passwords",
    ("idle",): "idle limit",
    ("stores", "differences"): "live but not saved",
    ("packet_filter", "empty_names"): "what its packet filter blocks",
    ("packet_filter", "unseen"): "packet filters that nothing shows",
}
OF_ITEM = {
    "accounts": "accounts let in by {}",
    "secret": "password of {}",
    "weakness": "password of {}",
    "enabled": "{} on",
    "permitted": "who may reach {}",
    "role": "rights of {}",
    "idle": "idle limit of {}",
    "keys": "SSH keys of {}",
    "storage": "how the password of {} is kept",
    "port": "port of {}",
    "root_login": "root by {}",
    "blank_login": "blank passwords by {}",
    "tries": "tries by {}",
    "key_types": "host keys of {}",
    "exchanges": "key exchanges of {}",
    "ciphers": "ciphers of {}",
    "macs": "checksums of {}",
    "rsa_bits": "RSA host key of {}",
    "boot": "{} at the next start",
    "starter": "what starts {}",
    "key_command": "keys by a command on {}",
    "authority": "keys by an authority on {}",
}


def spoken(path: Path) -> str:
    """What a path is about, as people say it."""
    if path in LEAVES:
        return LEAVES[path]
    if len(path) == 3 and path[0] in ("accounts", "services") and path[2] in OF_ITEM:
        return OF_ITEM[path[2]].format(path[1])
    if path[:2] == ("snmp", "users") and len(path) > 2:
        leaf = {3: "", 4: f"{path[-1]} of "}[len(path)]
        return f"{leaf}SNMP user {path[2]}"
    if len(path) == 2 and path[0] in ("accounts", "services", "files", "jobs", "listening"):
        return path[1]
    if path[:1] == ("entry_lists",) and len(path) == 2:
        return f"entry list {path[1]}"
    if path[:1] == ("interfaces",) and len(path) == 2:
        return f"socket {path[1]}"
    if path[:1] == ("interfaces",) and len(path) == 3:
        return {
            "services": "what {} lets in",
            "entry_list": "entry list of {}",
            "addresses": "address of {}",
            "gateway": "way out of {}",
            "lends": "addresses lent by {}",
            "announces": "what {} tells its neighbours",
        }.get(path[2], "{} " + path[2]).format(path[1])
    if path[:1] == ("answering",) and len(path) == 2:
        # transport, port and, by the second address, its family
        key, _, second = path[1].partition("-ip")
        return f"port {key.rpartition('-')[2]}" + (f" by IP{second}" if second else "")
    return " ".join(path)


LISTS_IN_WORDS = {
    "filter_rules": "rules of its packet filter",
    "filter_stages": "chains of its packet filter",
    "named_addresses": "named addresses",
    "listening": "listening sockets",
    "jobs": "jobs",
    "files": "files",
}
MOST_ITEMS_NAMED = 3


def in_few_words(paths: Iterable[Path]) -> tuple[str, ...]:
    """Paths as people say them; of many items of one list only how many."""
    found: dict[str, dict[Path, None]] = {}
    out: dict[str, None] = {}
    for path in paths:
        if path[0] in LISTS_IN_WORDS and len(path) > 1:
            found.setdefault(path[0], {})[path[:2]] = None
        else:
            out[spoken(path)] = None
    for head, items in found.items():
        what = LISTS_IN_WORDS[head]
        many = len(items) > MOST_ITEMS_NAMED
        said = [f"{len(items)} {what}"] if many else [f"{what}: {path[1]}" for path in items]
        out |= dict.fromkeys(said)
    return tuple(out)


def listed(words: Iterable[str]) -> str:
    """`a`, `a and b`, `a, b and c`; each once."""
    *most, last = list(dict.fromkeys(words)) or [""]
    return f"{', '.join(most)} and {last}" if most else last


def addresses(sources: AddressSet) -> tuple[str, ...]:
    """A set as people write one: a few addresses one by one, many as blocks."""
    if sources == ANYONE or not sources:
        return (str(sources),)
    few = sources.count() <= FEW
    return tuple(str(one) for net in sources.nets for one in net) if few else sources.texts()


def brief(sources: AddressSet, near: str) -> str:
    """The same on one line; addresses next to `near` (IPv4), and blocks of no others, by their last number alone."""
    beside = f"{near.rpartition('.')[0]}."
    return " ".join(
        one.removeprefix(beside[:-1])
        if near and one.startswith(beside) and int(one.partition("/")[2] or 32) >= 24
        else one
        for one in addresses(sources)
    )


def duration(value: float) -> str:
    """Seconds as people say them: `90 s`, `10 min`, `2 h 5 min`."""
    whole_seconds = round(abs(value))
    sign = "-" if value < 0 and whole_seconds else ""
    if whole_seconds < 120 and whole_seconds % 60:
        return f"{sign}{whole_seconds} s"
    days, rest = divmod(whole_seconds, 86400)
    hours, rest = divmod(rest, 3600)
    minutes, secs = divmod(rest, 60)
    parts = [f"{count} {unit}" for count, unit in ((days, "d"), (hours, "h"), (minutes, "min"), (secs, "s")) if count]
    return sign + " ".join(parts[:2] or ["0 s"])
