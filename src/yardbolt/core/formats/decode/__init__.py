"""Named decoders of open formats, one file per standard: a reply in, facts out; never one per make.

A decoder gives facts as (path, value) pairs, and says which rows of the plane it feeds and which lists it reads whole.
A line it does not understand is a leftover, and then the list is not whole.
"""

from __future__ import annotations

from collections.abc import Mapping

from . import (
    jobfiles,
    linuxhost,
    listening,
    loggedin,
    logsclock,
    nftables,
    openssh,
    packetfilter,
    pam,
    returning,
    snmpagent,
    webserver,
)
from .decoder import Decoder

DECODERS: Mapping[str, Decoder] = {
    d.name: d
    for module in (
        openssh,
        linuxhost,
        listening,
        pam,
        jobfiles,
        logsclock,
        nftables,
        packetfilter,
        loggedin,
        returning,
        snmpagent,
        webserver,
    )
    for d in module.DECODERS
}
