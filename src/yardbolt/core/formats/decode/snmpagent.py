"""Who an SNMP agent answers (snmpd.conf(5)): communities, and users (RFC 3414) with what they must do and may do."""

from __future__ import annotations

import re
from collections.abc import Mapping

from ...plane.kinds import ABSENT
from .decoder import Decoded, Decoder, Pairs, of_text
from .logsclock import OLDER
from .tagged import tagged

_TAGS = "snmpd oldsnmp snmp snmpfile user access"
LEVELS = {
    "noauth": "noAuthNoPriv", "noauthnopriv": "noAuthNoPriv", "auth": "authNoPriv", "authnopriv": "authNoPriv",
    "priv": "authPriv", "authpriv": "authPriv",
}  # fmt: skip
RIGHTS = {"rouser": "read", "rwuser": "change"}
USERS = ("snmp", "users")


def decode_snmp(reply: str, key: str = "") -> Decoded:
    """The section `snmp`. Communities are passwords: which there are is counted, and never said."""
    seen, strange = tagged(reply, _TAGS)
    left = [*strange]
    # of an agent that does not run, what it would take
    if "snmpd" not in seen and "snmpfile" not in seen:
        return Decoded((), tuple(left))
    if "oldsnmp" in seen or any(re.search(r" -[cC]", line) for line in seen.get("snmpd", [])):
        left.append(f"snmpd {OLDER}, or takes them from elsewhere")
        return Decoded((), tuple(left))
    rows = [line.split() for line in seen.get("snmp", [])]
    facts: Pairs = [
        (("snmp", "communities"), len(rows)),
        (("snmp", "published"), sum(row[1:2] == ["published"] for row in rows)),
        (("snmp", "writing"), sum(row[0].startswith("rwcommunity") for row in rows if row)),
    ]
    return Decoded((*facts, *_users(seen, left)), tuple(left))


def _users(seen: Mapping[str, list[str]], left: list[str]) -> Pairs:
    """Each user the agent has, with the least it must do and the most it may do; a name without a user opens
    nothing."""
    access: dict[str, tuple[str, str]] = {}
    untold = False  # a group, or what is not understood, may give more
    for line in seen.get("access", []):
        word, name, level, *_ = (*line.split(), "", "", "")
        level = level or "auth"  # what net-snmp takes where nothing is said
        if not name or word not in RIGHTS or (level.startswith("-") and level != "-V"):
            left.append(f"what SNMP users may do is written in a way not known here ({word})")
            untold = True
            continue
        level = "auth" if level == "-V" else level
        if level.lower() not in LEVELS:
            left.append(f"what SNMP users must do is written in a way not known here ({word})")
            untold = True
            continue
        least, most = access.get(name, ("authPriv", "read"))
        here = LEVELS[level.lower()]
        access[name] = (min(least, here, key=_strength), "change" if word == "rwuser" else most)
    facts: Pairs = []
    for line in seen.get("user", []):
        name = _name(line.split()[0]) if line.split() else ""
        if not name:
            left.append("an SNMP user is written in a way not known here")
            continue
        path = (*USERS, name)
        facts.append((path, True))
        if not untold:
            least, most = access.get(name, ("", "none"))
            facts += [((*path, "level"), least or ABSENT), ((*path, "rights"), most)]
    return facts


def _strength(level: str) -> int:
    return list(dict.fromkeys(LEVELS.values())).index(level)


def _name(written: str) -> str:
    """A name as net-snmp keeps it; empty where it is none."""
    if written.startswith('"'):
        return written.strip('"')
    try:
        plain = bytes.fromhex(written.removeprefix("0x")).rstrip(b"\0").decode()
    except ValueError:
        return ""
    return plain if plain.isprintable() else ""


DECODERS = (
    Decoder(
        "snmp-agent", "snmpd.conf(5)", of_text(decode_snmp),
        frozenset({
            *(("snmp", x) for x in ("communities", "published", "writing")),
            USERS, (*USERS, "*"), *((*USERS, "*", x) for x in ("level", "rights")),
        }),
        whole=(USERS,), private=True,
    ),
)  # fmt: skip
