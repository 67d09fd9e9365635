"""The table of ways of talking. A new one is its own file in one of the rooms beside this, a wire, and a row below."""

from __future__ import annotations

from collections.abc import Mapping

from . import logon
from .conversation import Channel, Talk
from .host import commands
from .text import console
from .web import objects, pages

WAYS: Mapping[str, Talk] = {talk.name: talk for talk in (console.TALK, commands.TALK, objects.TALK, pages.TALK)}
# At a service no family describes one can only log in, to see whether a login is good there.
UNDESCRIBED: tuple[Channel, Talk] = (logon.Channel(), logon.TALK)
