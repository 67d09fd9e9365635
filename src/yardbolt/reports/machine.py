"""The record as JSON (RFC 8259), keys sorted."""

from __future__ import annotations

import json

from yardbolt.core.run.handover import HandOver


def render(record: HandOver) -> str:
    """The record, two blanks a level, UTF-8."""
    return json.dumps(record, default=vars, indent=2, sort_keys=True, ensure_ascii=False) + "\n"
