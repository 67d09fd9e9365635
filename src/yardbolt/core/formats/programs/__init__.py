"""The library of programs: what is run on a host to change it, one table."""

from __future__ import annotations

from collections.abc import Mapping

from . import accounts, drills, packets, passwords, services, snmp, ssh, timed_return, upkeep
from .common import ALONE, BEGIN, BEGUN, COMMON, WORK, Program

PROGRAMS: Mapping[str, Program] = {
    one.name: one
    for module in (timed_return, drills, ssh, accounts, passwords, services, packets, upkeep, snmp)
    for one in module.PROGRAMS
}


def text_of(program: Program) -> str:
    """The whole text of a program."""
    return f"{BEGIN}{COMMON}{WORK}{'end_work' if program.ends else ALONE}{BEGUN}{program.text}"
