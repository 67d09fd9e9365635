"""The table of ways of talking. A new one is its own file here, a wire, and a row below."""

from __future__ import annotations

from collections.abc import Mapping

from . import commands, console
from .conversation import Talk

WAYS: Mapping[str, Talk] = {talk.name: talk for talk in (console.TALK, commands.TALK)}
