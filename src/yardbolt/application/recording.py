"""The record of one unit: its journal, its documents, and the tries at its accounts."""

from __future__ import annotations

from dataclasses import dataclass

from yardbolt.core.doors import Door
from yardbolt.core.errors import OperatorError
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.ports import Clock, D, Records
from yardbolt.core.run.documents import CheckDocument, Document, Filed, KeyDocument
from yardbolt.core.run.events import Event, Tried, Trying
from yardbolt.core.run.history import UnitHistory

BUILT = "2025-01-01"  # no clock that is right shows an earlier day


@dataclass
class Record:
    """The journal and the documents of one unit. `tries` is the laptop's own book of tries, by address and host key."""

    name: str
    records: Records
    clock: Clock
    tries: Records | None = None

    def pin(self, service: str) -> str:
        """The host key noted for this service, or empty."""
        noted = self.latest(f"host key {service}", KeyDocument)
        return noted.document.fingerprint if noted else ""

    def forget_pins(self, doors: tuple[Door, ...]) -> None:
        """The unit will show another certificate or key: the next one is noted again."""
        for door in doors:
            if self.pin(door.service):
                self.file(KeyDocument(service=door.service, fingerprint=""))

    def latest(self, kind: str, of: type[D]) -> Filed[D] | None:
        """The latest document of a kind."""
        return self.records.latest(self.name, kind, of)

    def file(self, document: Document) -> None:
        """File a document."""
        self.records.file(self.name, document)

    def note(self, event: Event, run: int = 0) -> None:
        """Write into the journal of this unit; a try also into the laptop's own book, which all jobs share."""
        if self.tries is not None and isinstance(event, Trying | Tried):
            self.tries.append(event.address, 0, event)
        self.records.append(self.name, run, event)

    def history(self) -> UnitHistory:
        """What the journal says of this unit."""
        return self.records.history().of(self.name)

    def last_check(self) -> Filed[CheckDocument] | None:
        """The latest check."""
        return self.latest("check", CheckDocument)

    def last_plane(self) -> Plane | None:
        """The plane of the latest check, or None."""
        filed = self.last_check()
        return filed.document.as_plane if filed else None

    def believable_clock(self) -> None:
        """Raises OperatorError where the laptop's clock is before this program was made: it would be set on the
        unit."""
        now = self.clock.now()
        if now[:10] < BUILT:
            problem = f"this laptop's clock says {now[:10]}, before Yard Bolt was made ({BUILT})"
            raise OperatorError(f"{self.name}: {problem}; set it first, for it is written into the unit and the record")
