"""Where logs go (rsyslog.conf(5), syslogd of busybox) and whose time is kept (chronyc(1), timedatectl(1))."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping

from ...plane.kinds import ABSENT
from ...plane.path import Path
from .decoder import Decoded, Decoder, Pairs, of_text
from .tagged import tagged

_FORWARD = re.compile(r"^\S+\s+(@@?)(?:\([^)]*\))?(?:\[([0-9A-Fa-f:.]+)\]|([0-9A-Za-z_.-]+))(?::(\d+))?(?:;\S+)?\s*$")
# an action that begins so sends, whatever stands before and behind it
_SENDS = re.compile(r"(^|[\s;&])@{1,2}[\[(A-Za-z0-9]")
# modules that send by something else than the syslog protocol (rsyslog.conf(5)), or run a program that may
_OTHER_WAYS = (
    "omrelp",
    "omgssapi",
    "ommail",
    "omprog",
    "omkafka",
    "omhttp",
    "omelasticsearch",
    "omamqp",
    "omhiredis",
    "omuxsock",
    "omsnmp",
    "omudpspoof",
)
_ACTION = re.compile(r'(\w+)="([^"]*)"')
_TAGS = "rsyslogd together oldlogs rsyslog syslogd otherlogs chronyd tracking source timedate ntp ntpd othertime"
_FOLDER = "/etc/rsyslog.d/*.conf"
OLDER = "may run with older settings than its files"


def decode_upkeep(reply: str, key: str = "") -> Decoded:
    """The section `upkeep`."""
    seen, strange = tagged(reply, _TAGS)
    left = [*strange]
    facts = [*_logs(seen, left), *_time(seen)]
    return Decoded(tuple(facts), tuple(left))


# ---- logs -----------------------------------------------------------------------------------------------------------


def _logs(seen: Mapping[str, list[str]], left: list[str]) -> Pairs:
    """Where logs are sent. Of a logger not known here, of settings that may not be loaded, and of ones written in a way
    not known here, nothing is told."""
    if "otherlogs" in seen:
        left.append(f"where {seen['otherlogs'][0].split(' ')[0]} sends logs is not known here")
        return []
    if "oldlogs" in seen:
        left.append(f"rsyslogd {OLDER}")
        return []
    found = {*_busybox(seen.get("syslogd", []))}
    if "rsyslogd" in seen:
        sent = _rsyslog(seen)
        if sent is None:
            left.append("where rsyslogd sends logs is written in a way not known here")
            return []
        found |= sent
    return [(("logs", "destinations"), tuple(sorted(found)) or ABSENT)]


def _rsyslog(seen: Mapping[str, list[str]]) -> set[str] | None:
    """Where a running rsyslogd sends to: `*.* @host`, `@@host` (TCP), or an action of omfwd on one line. By what
    rsyslogd itself takes together from all its files, or by those it is known to read where it cannot."""
    found, together = set(), "together" in seen
    if not together and any(" -f" in line for line in seen["rsyslogd"]):
        return None
    for line in seen.get("rsyslog", []):
        if not together and "nclude" in line and _FOLDER not in line:
            return None
        if any(word in line for word in _OTHER_WAYS):
            return None
        if "omfwd" in line:
            told = dict(_ACTION.findall(line))
            if "target" not in told:
                return None
            found.add(f"{told.get('protocol', 'udp').lower()} {told['target']} {told.get('port', '514')}")
        elif match := _FORWARD.match(line):
            found.add(f"{'tcp' if match[1] == '@@' else 'udp'} {match[2] or match[3]} {match[4] or '514'}")
        elif _SENDS.search(line):
            return None
    return found


def _busybox(lines: Iterable[str]) -> Iterator[str]:
    for line in lines:
        for target in re.findall(r" -R ?(\S+)", line):
            host, _, port = target.partition(":")
            yield f"udp {host} {port or '514'}"


# ---- time -----------------------------------------------------------------------------------------------------------


def _time(seen: Mapping[str, list[str]]) -> Pairs:
    """What it is synchronised to: asked of the daemon that runs, not read from its file."""
    source, in_step = ("clock", "source"), ("clock", "synchronised")
    if "othertime" in seen:
        return []
    return [*_in_step(seen, source, in_step), (("clock", "servers"), _time_servers(seen))]


def _time_servers(seen: Mapping[str, list[str]]) -> tuple[str, ...] | None:
    """The servers a running daemon is set to ask."""
    if "chronyd" in seen:
        rows = [line.split(",") for line in seen.get("source", [])]
        return tuple(sorted({row[2] for row in rows if len(row) > 2 and row[0] in ("^", "=")}))
    if "ntpd" in seen:
        return tuple(sorted({peer for line in seen["ntpd"] for peer in re.findall(r" -p ?(\S+)", line)}))
    return tuple(sorted({name for line in seen.get("ntp", []) for name in line.split()}))


def _in_step(seen: Mapping[str, list[str]], source: Path, in_step: Path) -> Pairs:
    if "chronyd" in seen:
        chosen = [line.split(",") for line in seen.get("source", []) if line.startswith("^,*")]
        if chosen and len(chosen[0]) > 2:
            return [(source, chosen[0][2]), (in_step, True)]
        answered = any("," in line for line in seen.get("tracking", []))
        return [(source, ABSENT), (in_step, False)] if answered else []
    for line in seen.get("ntpd", []):
        peers = re.findall(r" -p ?(\S+)", line)
        return [(source, peers[0] if peers else ABSENT)]
    told = dict(line.split("=", 1) for line in seen.get("timedate", []) if "=" in line)
    if told.get("NTP") == "yes":
        named: Pairs = [(source, line.split()[0]) for line in seen.get("ntp", [])[:1] if line.split()]
        return [(in_step, told.get("NTPSynchronized") == "yes"), *named]
    return [(source, ABSENT), (in_step, False)]


DECODERS = (
    Decoder(
        "linux-upkeep", "rsyslog.conf(5), chronyc(1)", of_text(decode_upkeep),
        frozenset({
            ("logs", "destinations"), ("clock", "source"), ("clock", "servers"), ("clock", "synchronised"),
        }),
        private=True,
    ),
)  # fmt: skip
