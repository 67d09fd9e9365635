"""`sheet`: write the hand-over sheets."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path

from yardbolt.application.handover import hand_over
from yardbolt.core.errors import OperatorError, YardboltError
from yardbolt.core.run.documents import LeftDocument
from yardbolt.core.run.events import HandedOver
from yardbolt.reports import FORMATS

from . import wiring
from .values import output_format, worst
from .yard import Yard

ENDINGS = {"text": "txt", "json": "json", "html": "html"}


def sheet(units: list[str] | None, job: Path, report_format: str, output: Path | None) -> int:
    """Write the sheet of each unit, in one format or in all."""
    wanted = list(FORMATS) if report_format == "all" else [output_format(report_format, (*FORMATS, "all"))]
    with Yard(job) as yard:
        folder = output or job.parent / "sheets"
        codes = []
        for name in yard.units(units):
            try:
                unit = yard.unit(name)
                made = hand_over(unit)
            except YardboltError as e:
                sys.stderr.write(f"yardbolt: {e}\n")
                codes.append(e.exit_code)
                continue
            made_here = []
            kind, stamp = "as-left" if made.left.proven else "as-found", made.left.time
            # ISO 8601: the day and the minute of what the sheet is about
            base = folder / f"{name}-{stamp[:10]}-{stamp[11:13]}{stamp[14:16]}-{kind}"
            pages = {ENDINGS[one]: FORMATS[one](made).encode() for one in wanted}
            base = _free(base, pages)
            for ending, page in pages.items():
                path = base.with_name(f"{base.name}.{ending}")
                try:
                    folder.mkdir(parents=True, exist_ok=True)
                    wiring.write_whole(path, page)
                except OSError as e:
                    raise OperatorError(f"{path}: cannot be written: {e.strerror}") from None
                made_here.append(path)
            endings = ", ".join(path.suffix.removeprefix(".") for path in made_here)
            sys.stdout.write(f"{base}: {endings}\n")
            failing = any(row.state == "fails" for row in made.left.findings)
            failed = any(proof.result == "fails" for proof in made.proofs) or made.unplanned
            left = unit.record.latest("as left", LeftDocument)
            if left is None:
                sys.stdout.write(f"{name}: not proven yet, so this is no as-left record; next: yardbolt prove {name}\n")
            else:
                unit.record.note(HandedOver(document=left.number))
            codes.append(3 if failing or failed else 0 if left else 4)
        return worst(codes)


def _free(base: Path, pages: Mapping[str, bytes]) -> Path:
    """A name under which no other sheet lies: an older one may be signed already. The same sheet keeps its name."""
    for number in range(1, 1000):
        path = base if number == 1 else base.with_name(f"{base.name}-{number}")
        there = {path.with_name(f"{path.name}.{ending}"): page for ending, page in pages.items()}
        if all(not one.exists() or one.read_bytes() == page for one, page in there.items()):
            return path
    raise OperatorError(f"{base}: a thousand sheets of this name lie there already")
