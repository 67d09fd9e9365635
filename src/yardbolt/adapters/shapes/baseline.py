"""The shape of a baseline."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from .base import Name, Shape, Text


class RequirementShape(Shape):
    rule: Name
    severity: Literal["critical", "high", "medium", "low"] | None = None
    set: dict[Text, Text] = Field({}, description="the numbers of the rule")


class BaselineShape(Shape):
    """A baseline: numbered requirements, in the owner's order."""

    baseline: Name
    version: Text
    meaning: Text
    lines: list[RequirementShape] = Field(min_length=1)
