"""The table of ways of talking. A new one is its own file here, a wire, and a row below."""

from __future__ import annotations

from collections.abc import Mapping

from . import commands, console, logon, objects, pages
from .conversation import Channel, Talk

WAYS: Mapping[str, Talk] = {talk.name: talk for talk in (console.TALK, commands.TALK, objects.TALK, pages.TALK)}
# At a service no family describes one can only log in, to see whether a login is good there.
UNDESCRIBED: tuple[Channel, Talk] = (logon.Channel(), logon.TALK)
