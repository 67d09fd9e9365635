"""Recognising a unit before anything is written to it, from what can be read without writing."""

from __future__ import annotations

from yardbolt.core.errors import IdentityError, Stopped
from yardbolt.core.family.parts import Reading
from yardbolt.core.plane.edit import get
from yardbolt.core.plane.leaves import Plane
from yardbolt.core.plane.path import show
from yardbolt.core.run.documents import Box, CheckDocument
from yardbolt.core.run.events import Recognised

from .unit import UnitInWork

MARKS = ("serial", "hardware")


def same_unit(unit: UnitInWork, plane: Plane) -> tuple[str, ...]:
    """By which marks of the work order it was recognised. Raises IdentityError when it is another one."""
    known = []
    for leaf, wanted in (("serial", unit.facts.entry.serial), ("hardware", unit.facts.entry.hardware)):
        seen = get(plane, ("identity", leaf))
        if wanted and isinstance(seen, str):
            if seen.lower() != wanted.lower():
                problem = f"this is the wrong unit: {leaf} {seen}, the work order says {wanted}; check the cable"
                raise IdentityError(f"{unit.name}: {problem}")
            known.append(f"{leaf} {seen}")
    for path, wanted in unit.family.marks:
        seen = get(plane, path)
        if isinstance(seen, str) and seen != wanted:
            problem = f"{show(path)} is {seen}, the family {unit.family.name} is for {wanted}"
            raise IdentityError(f"{unit.name}: {problem}; correct 'family' in the job file")
    return tuple(known)


def box_of(unit: UnitInWork, plane: Plane) -> Box:
    """The box behind the name, by the strongest marks that were read."""
    services = [door.service for door in unit.site.doors]
    key = next((pin for service in services if (pin := unit.record.pin(service))), "")
    return Box(serial=plane.identity.serial or "", hardware=plane.identity.hardware or "", key=key)


def same_box(one: Box, other: Box) -> bool | None:
    """Is it the same box, by the strongest mark known of both? None where they have none in common."""
    for mark in ("serial", "hardware", "key"):
        mine, its = getattr(one, mark), getattr(other, mark)
        if mine and its:
            return bool(mine.lower() == its.lower())
    return None


def _recorded_as(unit: UnitInWork, box: Box, marks: tuple[str, ...]) -> str:
    """The other unit of the job whose box on record has one of these marks too, or nothing."""
    for name in unit.facts.job.units:
        filed = unit.record.records.latest(name, "check", CheckDocument) if name != unit.name else None
        if filed and any(
            getattr(box, mark) and getattr(box, mark) == getattr(filed.document.box, mark) for mark in marks
        ):
            return name
    return ""


def not_another(unit: UnitInWork, box: Box) -> str:
    """What is to be said where another unit of the job showed the same host key: some makers give one to all they make.
    Raises IdentityError where serial or hardware address are on record as another unit's."""
    if name := _recorded_as(unit, box, MARKS):
        raise IdentityError(f"{unit.name}: this box is on record as {name}; is the cable still in that one?")
    name = _recorded_as(unit, box, ("key",))
    return f"it shows the host key of {name}: the same box, or a maker's one key for all?" if name else ""


async def _plate_says(unit: UnitInWork, marks: str) -> bool:
    """Does the plate bear these marks? False where nobody is there to be asked. Raises IdentityError where it does
    not."""
    if unit.plate is None:
        return False
    if not await unit.plate(marks):
        raise IdentityError(f"{unit.name}: its plate says otherwise, so nothing was written; check the cable")
    return True


async def recognise(unit: UnitInWork, reading: Reading | None, run: int = 0) -> None:
    """Before the first write: is it the unit on the work order? By serial or hardware address as read inside or seen
    on the cable, else from what the technician reads on its plate.

    Raises IdentityError on another unit, Stopped where there is nothing to compare and nobody read the plate.
    """
    known = list(same_unit(unit, reading.plane) if reading else ())
    seen = await unit.outside.neighbour(unit.facts.entry.address)
    if seen and unit.facts.entry.hardware:
        if seen.lower() != unit.facts.entry.hardware.lower():
            problem = (
                f"{unit.facts.entry.address} has hardware address {seen}, the work order says "
                f"{unit.facts.entry.hardware}"
            )
            raise IdentityError(f"{unit.name}: this is the wrong unit: {problem}; check the cable")
        known.append(f"hardware address {seen} on the cable")
    key = unit.record.pin(unit.facts.best_door().service)  # the session that got us here was compared with it
    if not known and key and key == unit.record.history().recognised and not _recorded_as(unit, Box(key=key), ("key",)):
        known.append("the host key it had when it was recognised before")
    wanted = " ".join(f"{mark} {value}" for mark in MARKS if (value := getattr(unit.facts.entry, mark)))
    if not known and (unit.this_one or await _plate_says(unit, wanted)):
        known.append("its plate, read by the technician")
    if not known:
        plate = f"compare its plate with {wanted}" if wanted else "the job file names no serial: look at its plate"
        raise Stopped(
            f"{unit.name}: nothing was written: nothing it shows so far identifies the box; "
            f"{plate}, then say --this-one"
        )
    unit.record.note(Recognised(by=", ".join(known), key=key), run)
