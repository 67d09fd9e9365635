"""What is known of one unit beforehand, and where it is met."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from yardbolt.core.doors import Door
from yardbolt.core.family.model import Family
from yardbolt.core.job import Job, Site, UnitEntry
from yardbolt.core.judge.baseline import Baseline
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.talk.conversation import Channel, Talk
from yardbolt.core.talk.ways import UNDESCRIBED


@dataclass
class Facts:
    """The job's view of one unit, its family, and which of its two places it is at.

    `local_names` and `common` are words for the password analysis; `inputs` are digests of the files this was planned
    from."""

    job: Job
    entry: UnitEntry
    site: Site
    family: Family
    baseline: Baseline
    local_names: frozenset[str] = frozenset()
    common: frozenset[str] = frozenset()
    inputs: Mapping[str, str] = field(default_factory=dict)
    places: tuple[tuple[UnitEntry, Site], ...] = ()  # where it is, and where it goes to

    @property
    def name(self) -> str:
        """The name the work order gives it."""
        return self.entry.name

    def talks(self, service: str) -> tuple[str, Channel, Talk]:
        """How one talks by a service: as a channel of the family does, else one can only log in there."""
        if self.apart(service):
            return "", *UNDESCRIBED
        return self.family.channel_of(service)

    def apart(self, service: str) -> bool:
        """Is it a service no channel of the family uses, whose accounts may be others?"""
        return service not in self.family.services()

    @property
    def prefix_there(self) -> str:
        """The prefix length of the network it goes to."""
        return self.entry.goes_to.at.partition("/")[2] if self.entry.goes_to else ""

    def is_at(self, address: str) -> None:
        """It was met there: where that is the other of its two places, that is where it is from now on."""
        for entry, site in self.places:
            if entry.address == address != self.entry.address:
                self.entry, self.site = replace(entry, account=self.entry.account), site

    def addresses(self) -> tuple[str, str, str, str]:
        """Where it is met and from which address of the laptop; the same in the other family, or empty."""
        return self.entry.address, self.site.laptop, self.entry.also, self.site.laptop_also

    def source(self, door: Door) -> str:
        """From which address of the laptop a door is met."""
        return self.site.laptop_also if door.address == self.entry.also else self.site.laptop

    def door(self, service: str) -> Door:
        """Where a service is met. Raises KeyError on a service no channel uses."""
        found = self.site.door(service)
        if found is None:
            raise KeyError(service)
        return found

    def best_door(self, plane: Plane | None = None) -> Door:
        """Where the best way of talking is met: the best of all or, on a plane, of those that are not off there."""
        return self.good_doors(plane)[0]

    def good_doors(self, plane: Plane | None = None) -> tuple[Door, ...]:
        """Where each way of talking is met, the best first; on a plane, of those that are not off there."""
        names = self.family.services()
        off = {one.key for one in plane.services if one.enabled is False} if plane is not None else set()
        return tuple(self.door(name) for name in names if name not in off) or (self.door(names[0]),)
