"""Taking volumes over from the drives that describe them: at power-on, and from another controller when asked."""

from __future__ import annotations

from ..core.formats import ddf
from ..core.units import decimal_size
from . import errors, jobs, members, ondisk
from .assemble import Found, found_named, told_by, volumes_on
from .controller import RESERVED_BYTES, Controller
from .state import Spare, Volume


def power_on(controller: Controller) -> None:
    """Take up the volumes that the drives describe, with what the memory knows besides; then begin what can begin."""
    memory = controller.memory
    own = ondisk.controller_guid(controller)
    told = {serial: one for serial, one in told_by(controller).items() if one.controller["guid"] == own}
    found = {f.volume.guid: f for f in volumes_on(controller, told)}
    remembered = {v.guid: v for v in memory.volumes.values()}
    for volume in remembered.values():
        _take_up(controller, volume, found.get(volume.guid))
    newer = [f for guid, f in found.items() if guid not in remembered]
    for f in newer:
        if f.trouble is None and f.sequence > int(memory.setup.get("sequence", 0)):
            _adopt(controller, f, f.volume.name)
    memory.spares = {serial: one for serial, one in memory.spares.items() if serial in controller.state.drives}
    _spares_from(controller, told)
    for job in list(memory.jobs.values()):
        if not _goes_on(controller, memory.volumes[job.volume], job.position, job.kind, job.target):
            del memory.jobs[job.number]
    jobs.stop_hopeless(controller)
    for volume in memory.volumes.values():
        for position, member in enumerate(volume.members):
            if member.state == "rebuilding" and not any(j.position == position for j in controller.jobs_of(volume)):
                member.state, member.done = "lost", 0
        if volume.lost:
            controller.event_condition(volume)
    members.settle(controller)


def _take_up(controller: Controller, volume: Volume, found: Found | None) -> None:
    """Bring a remembered volume's members to what the drives say; nothing older than the memory is trusted."""
    trusted = (
        found is not None and found.volume.generation == volume.generation and found.volume.branch == volume.branch
    )
    for position, member in enumerate(volume.members):
        now = found.volume.members[position] if found and trusted else None
        same = now is not None and now.serial == member.serial
        drive = controller.drive_of(member)
        if drive is not None and drive in controller.here():
            member.bay = str(drive.bay)
        if member.state == "rebuilding" and same and controller.reaches(member.serial):
            continue
        if same and now is not None and now.state == "active" and member.generation == volume.generation:
            if member.state == "lost":
                controller.event("member back", drive=drive, volume=volume.name)
            member.state = "active"
        else:
            member.state, member.done = "lost", 0


def _goes_on(controller: Controller, volume: Volume, position: int, kind: str, target: str) -> bool:
    if target:
        return volume.members[position].state == "active" and controller.reaches(target)
    return kind != "rebuild" or volume.members[position].state == "rebuilding"


def _spares_from(controller: Controller, told: dict[str, ddf.Metadata]) -> None:
    """Standby spares as the drives say, where nothing newer is remembered."""
    memory = controller.memory
    numbers = {v.guid.encode(): v.number for v in memory.volumes.values()}
    for serial, one in told.items():
        fresh = one.header["sequence"] > int(memory.setup.get("sequence", 0))
        if one.spares and fresh and serial not in memory.spares and not memory.in_use(serial):
            fields, guids = one.spares[0]
            serves = [numbers[g] for g in guids if g in numbers]
            if serves or not guids:
                memory.spares[serial] = Spare(serial, serves, bool(fields["type"] & 2))


def adopt(controller: Controller, name: str, new_name: str | None = None) -> list[Volume]:
    """Take a found volume over, with all that shares drives with it. Raises NothingFound, FoundUnfit, NameTaken."""
    group = found_named(controller, name)
    names = [new_name or group[0].volume.name, *(f.volume.name for f in group[1:])]
    for f, wanted in zip(group, names, strict=True):
        if f.trouble:
            raise errors.FoundUnfit(name=f.volume.name, why=f.trouble[0], advice=f.trouble[1])
        short = [s for s in f.drives if controller.state.drives[s].size < f.volume.end + RESERVED_BYTES]
        if short:
            why = f"drive {short[0]} has no room for this controller's own set-up behind it"
            raise errors.FoundUnfit(name=f.volume.name, why=why, advice="copy its bytes to a new volume instead")
        if any(v.name == wanted for v in controller.memory.volumes.values()) or names.count(wanted) > 1:
            raise errors.NameTaken(name=wanted)
    made = [_adopt(controller, f, wanted) for f, wanted in zip(group, names, strict=True)]
    told = {s: one for s, one in told_by(controller).items() if one.spares and not controller.memory.in_use(s)}
    numbers = {v.guid.encode(): v.number for v in made}
    for serial, one in told.items():
        serves = [numbers[g] for g in one.spares[0][1] if g in numbers]
        if serves and serial not in controller.memory.spares:
            controller.memory.spares[serial] = Spare(serial, serves, bool(one.spares[0][0]["type"] & 2))
    for f, volume in zip(group, made, strict=True):
        for position, member in enumerate(volume.members):
            if member.state == "lost" and member.serial in f.drives:  # here, but out of date or incomplete
                jobs.start_rebuild(controller, volume, position, controller.state.drives[member.serial])
    members.settle(controller)
    return made


def _adopt(controller: Controller, found: Found, name: str) -> Volume:
    """Make a described volume one of this controller's."""
    volume = found.volume
    volume.name, volume.number = name, controller.state.take_number()
    controller.memory.volumes[volume.number] = volume
    bays = ", ".join(m.bay or f"none ({m.serial})" for m in volume.members)
    size = decimal_size(volume.geometry.volume_bytes)
    what = f"{volume.level}, {size}, bays {bays}, as its drives describe it"
    controller.event("volume adopted", volume=name, what=what)
    for serial in found.drives:
        controller.state.drives[serial].configured = True
    if volume.lost:
        controller.event_condition(volume)
    return volume


def forget(controller: Controller, name: str) -> list[str]:
    """Remove a found volume's set-up, and that of all that shares drives with it; the serials of the drives."""
    group = found_named(controller, name)
    serials = list(dict.fromkeys(serial for f in group for serial in f.drives))
    for serial in serials:
        drive = controller.state.drives[serial]
        ondisk.clear(controller, drive)
        controller.event("set-up cleared", drive=drive, names=", ".join(f.volume.name for f in group))
    return serials
