"""Rules: what a baseline can demand. One file per subject; `RULES` is the registry, in reading order."""

from __future__ import annotations

from collections.abc import Mapping

from . import exposure, extras, hosts, logins, policy, services, snmp, upkeep
from .rule import Rule

RULES: Mapping[str, Rule] = {
    r.id: r for module in (logins, services, policy, upkeep, hosts, snmp, exposure, extras) for r in module.RULES
}
