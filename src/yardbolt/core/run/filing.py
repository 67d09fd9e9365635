"""From readings, findings and baselines to the rows of documents."""

from __future__ import annotations

from typing import Any

from ..family.parts import Reading
from ..judge.baseline import Baseline, Finding
from ..plane.document import to_tree
from ..plane.leaves import Plane
from ..plane.path import show
from .documents import BaselineName, FindingRow


def reading_fields(reading: Reading, plane: Plane | None = None) -> dict[str, Any]:
    """The fields of a `ReadingDocument` from a reading; `plane` stands in for its live plane where more is known by
    now."""
    return {
        "plane": to_tree(plane if plane is not None else reading.plane),
        "stores": {store: to_tree(one) for store, one in reading.planes.items() if store != "live"},
        "evidence": reading.evidence,
        "origin": {show(path): asks for path, asks in sorted(reading.origin.items())},
        "conflicts": tuple(show(path) for path in reading.conflicts),
        "leftovers": reading.leftovers,
        "blind": reading.blind,
    }


def finding_rows(findings: tuple[Finding, ...]) -> tuple[FindingRow, ...]:
    """Findings for the record."""
    return tuple(
        FindingRow(
            number=one.number, rule=one.rule, title=one.title, why=one.why, severity=one.severity.value,
            subject=show(one.subject), state=one.state.value, saw=one.saw, basis=one.basis,
            cause=one.cause,
        )
        for one in findings
    )  # fmt: skip


def baseline_name(baseline: Baseline) -> BaselineName:
    """Which baseline it was."""
    return BaselineName(name=baseline.name, version=baseline.version, meaning=baseline.meaning)
