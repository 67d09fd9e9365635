"""The record as JSON (RFC 8259), keys sorted."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any


def render(record: Mapping[str, Any]) -> str:
    """The record, two blanks a level, UTF-8."""
    return json.dumps(record, indent=2, sort_keys=True, ensure_ascii=False) + "\n"
