"""The leaves of what was seen of a unit besides its settings: what runs by itself, what answers, what was tried, who
is inside."""

from __future__ import annotations

from dataclasses import dataclass

from ..secret import Ref
from .kinds import (
    TRIAL_ENDS,
    Absent,
    Among,
    doubt_set,
    flag,
    leaf,
    number,
    program,
    reference,
    text,
)


@dataclass(frozen=True)
class Job:
    key: str
    owner: str | Absent | None = leaf(text, "the account it runs as")
    schedule: str | Absent | None = leaf(text, "when it runs, as the unit writes it")
    runs: str | Absent | None = leaf(program, "the program it runs, without what is given to it")
    origin: str | Absent | None = leaf(text, "who put it there: package, ours, unknown")


@dataclass(frozen=True)
class File:
    key: str
    owner: str | Absent | None = leaf(text, "the account it belongs to")
    mode: str | Absent | None = leaf(text, "its permission bits, octal")
    digest: str | Absent | None = leaf(text, "SHA-256 of what it holds")
    written: bool | Absent | None = leaf(flag, "does it hold just what we last wrote into it", steady=False)
    origin: str | Absent | None = leaf(text, "who put it there: package, ours, unknown")


@dataclass(frozen=True)
class Answering:
    key: str
    port: int | None = leaf(number, "the port that answers", steady=False)
    transport: str | None = leaf(text, "tcp or udp", steady=False)
    address: str | None = leaf(text, "the address it answers on", steady=False)
    speaks: str | None = leaf(
        text,
        "what it speaks, told from its first words: ssh, telnet, http, tls, ftp, unknown; by UDP snmp, tftp, ntp",
        steady=False,
    )
    anonymous: bool | Absent | None = leaf(flag, "does it let in somebody without a name", steady=False)
    banner: str | None = leaf(text, "its first words", steady=False)
    asks_by: str | Absent | None = leaf(
        text, "how its first page asks for a login: basic, digest, a form", steady=False
    )


@dataclass(frozen=True)
class Certificate:
    key: str
    port: int | None = leaf(number, "the port that shows it", steady=False)
    subject: str | None = leaf(text, "who it names (RFC 5280)", steady=False)
    days_left: int | None = leaf(number, "how long it is still valid; below 0 it is not", "days", steady=False)
    self_signed: bool | None = leaf(flag, "is it vouched for by itself alone", steady=False)
    protocol: str | Absent | None = leaf(text, "the newest TLS it speaks (RFC 8446)", steady=False)
    outdated: bool | Absent | None = leaf(flag, "does it take outdated TLS (RFC 8996)", steady=False)


@dataclass(frozen=True)
class Listening:
    key: str
    port: int | None = leaf(number, "port")
    transport: str | None = leaf(text, "tcp or udp")
    address: str | None = leaf(text, "the address it is bound to, IPv4 or IPv6; * is all of them")
    program: str | None = leaf(text, "the program behind it, by its name")
    exe: str | None = leaf(text, "the file it runs from")
    unit: str | None = leaf(text, "the unit that started it")
    package: str | None = leaf(text, "the package that brought it")


@dataclass(frozen=True)
class Trial:
    key: str
    service: str | None = leaf(text, "by which service", steady=False)
    port: int | None = leaf(number, "at which port", steady=False)
    account: str | None = leaf(text, "as which account", steady=False)
    secret: Ref | None = leaf(reference, "with which published credential", steady=False)
    outcome: str | None = leaf(
        Among(TRIAL_ENDS),
        "opened, asked, refused, locked, not ready, nothing listens, cut, silent, untried",
        steady=False,
    )

    why: str | Absent | None = leaf(text, "why it was not tried", steady=False)
    blank: bool | Absent | None = leaf(flag, "is that credential a blank password", steady=False)
    doubts: tuple[str, ...] | Absent | None = leaf(
        doubt_set,
        "what else could explain a refusal: starting, locked, everybody, elsewhere; none = ruled out by a control",
        steady=False,
    )


@dataclass(frozen=True)
class Seat:
    key: str
    account: str | None = leaf(text, "who is logged in", steady=False)
    source: str | None = leaf(text, "from where", steady=False)
    service: str | None = leaf(text, "by which service", steady=False)
