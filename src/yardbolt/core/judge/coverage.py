"""What a look can cover, in one table, so that what was not looked at can be said and not forgotten."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ..plane.path import Path


@dataclass(frozen=True)
class Looked:
    """What one look covered: the rows of the plane that were read inside, whether every TCP port was tried, the
    versions of the addresses, the services whose published logins were tried, whether UDP ports were asked, which of
    those said nothing, whether a page with a form for a login was met, and whether any web server was."""

    read: frozenset[Path] = frozenset()
    all_ports: bool = False
    versions: frozenset[int] = frozenset({4})
    tried: frozenset[str] = frozenset()
    datagrams: bool = False
    silent: tuple[int, ...] = ()
    forms: bool = False
    web: bool = False


@dataclass(frozen=True)
class Row:
    """One thing a look can cover: its name, the reason where it does not, and the test."""

    name: str
    why: str
    covered: Callable[[Looked], bool]


def _inside(*heads: str) -> Callable[[Looked], bool]:
    return lambda looked: any(path[0] in heads for path in looked.read)


INSIDE = "its family does not read it, or nobody got in"
COVERABLE: tuple[Row, ...] = (
    Row("some TCP ports", "not looked at, or silent", lambda looked: looked.all_ports),
    Row("UDP", "no UDP port was looked at", lambda looked: looked.datagrams),
    Row("most UDP ports", "only those the trade manages by were asked", lambda looked: not looked.datagrams),
    Row("IPv6", "the unit was met by IPv4 only", lambda looked: 6 in looked.versions),
    Row("IPv4", "the unit was met by IPv6 only", lambda looked: 4 in looked.versions),
    Row("UDP ports that said nothing", "open, or not: silence does not tell", lambda looked: not looked.silent),
    Row("SNMP", "no community or user was tried", lambda looked: looked.datagrams),
    Row("SNMP users", "no user of SNMP was tried", lambda looked: not looked.datagrams),
    Row("web logins", "none was tried", lambda looked: bool(looked.tried & {"http", "https", "web"}) or looked.forms),
    Row("web logins by form", "a page asks for one, and forms are not filled in", lambda looked: not looked.forms),
    Row("web settings", "what a web server gives away, and to anyone, is not read", lambda looked: not looked.web),
    Row("TFTP", "it was not asked", lambda looked: looked.datagrams),
    Row("accounts", INSIDE, _inside("accounts")),
    Row("password policy", INSIDE, _inside("policy", "lockout")),
    Row("services", INSIDE, _inside("services")),
    Row("packet filter", INSIDE, _inside("packet_filter", "filter_rules")),
    Row(
        "packet filter at the next boot",
        "what is loaded was read, not what a start would load",
        lambda looked: not _inside("filter_stages")(looked),
    ),
    Row("console socket", INSIDE, _inside("consoles")),
    Row("scheduled jobs", INSIDE, _inside("jobs")),
    Row("files", INSIDE, _inside("files")),
    Row("who is inside", INSIDE, _inside("sessions")),
    Row("log destinations", INSIDE, lambda looked: ("logs", "destinations") in looked.read),
    Row("time source", INSIDE, lambda looked: ("clock", "source") in looked.read),
)


def not_looked_at(looked: Looked) -> tuple[tuple[str, str], ...]:
    """What was not looked at, each with its reason."""
    return tuple((row.name, row.why) for row in COVERABLE if not row.covered(looked))
