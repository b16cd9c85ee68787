"""Members coming and going: failures, pulls, returns, replacements, hot spares; and what each begins.

The rules, as a technician can predict them. A member that returns counts as it is only if nothing was written
while it was away, by what the controller remembers and by the drive's own records; else it is rebuilt whole. A
blank drive seated in a lost member's bay takes its place if it is large enough and of the same media and sector
size (unless the controller's setting says that replacements wait); anything else only by hand. Otherwise a hot
spare takes over: dedicated before global, same media before other, the smallest that fits, then the bay that comes
first. When the bay of a drive that a revertible spare stands in for gets a good drive, the data are copied back and
the spare stands by again. A drive that predicts its failure is copied to a spare while it still works.
"""

from __future__ import annotations

from ..core.arrays.margin import margin
from ..core.server.fitness import Candidate, Need, Why, judge
from ..core.server.unknown import UNKNOWN
from ..core.units import decimal_size
from . import assemble, errors, jobs
from .controller import RESERVED_BYTES, Controller
from .state import Drive, Job, Spare, Volume
from .volumes import free_drive


def drive_gone(controller: Controller, drive: Drive, bay: str, kind: str) -> None:
    """A seated drive failed ("drive failed") or left ("drive removed"); its volumes suffer."""
    controller.event(kind, drive=drive, bay=bay)
    why = {"drive failed": "the drive failed", "drive removed": "the drive was removed"}.get(kind, "its link is down")
    for job in [j for j in controller.memory.jobs.values() if j.target == drive.serial]:
        name = controller.memory.volumes[job.volume].name
        del controller.memory.jobs[job.number]
        controller.event("copy stopped", drive=drive, bay=bay, volume=name, why=why)
    for volume, position in controller.memory.memberships(drive.serial):
        member = volume.members[position]
        copy = next((j for j in controller.jobs_of(volume) if j.position == position and j.target), None)
        if copy:
            jobs.take_over_copy(controller, volume, copy)
            controller.event_condition(volume)
        elif member.state == "rebuilding":
            member.paused, member.paused_at = member.done, volume.generation
            member.state, member.done = "lost", 0
            jobs.drop(controller, volume, position)
            controller.event("rebuild stopped", drive=drive, bay=bay, volume=volume.name, why=why)
        else:
            member.state = "lost"
            controller.event_condition(volume)
    jobs.stop_hopeless(controller)
    settle(controller)


def drive_seated(controller: Controller, drive: Drive, kind: str = "drive inserted") -> None:
    """A drive was seated, or answers again: take it as a member where that is safe, else say why not."""
    controller.event(kind, drive=drive)
    mine = []
    for volume in controller.memory.volumes.values():
        for position, member in enumerate(volume.members):
            if member.state == "lost" and member.serial == drive.serial and drive.works:
                standing = assemble.standing(controller, volume, position, drive)
                if standing != "other":
                    mine.append((volume, position, standing))
    for volume, position, standing in mine:
        _take_back(controller, volume, position, drive, standing)
    if not mine:
        _replace(controller, drive)
    settle(controller)


def _replace(controller: Controller, drive: Drive) -> None:
    """A new drive in the bay of lost members: of every volume that was on the old one, or of none."""
    wanted = [
        (volume, position)
        for volume in controller.memory.volumes.values()
        for position, member in enumerate(volume.members)
        if member.state == "lost" and member.bay == drive.bay
    ]
    refused = [(volume, reason) for volume, _ in wanted if (reason := _why_not(controller, volume, drive))]
    if not refused and controller.memory.settings["replacement"] == "by-hand":
        advice = "Take it: fstripe volume rebuild {name} --onto {bay}"
        why = "this controller is set to wait for your word"
        refused = [(v, (why, advice.format(name=v.name, bay=drive.bay))) for v, _position in wanted]
    for volume, (why, advice) in refused:
        controller.event("not taken", drive=drive, volume=volume.name, why=why, advice=advice)
    if not refused:
        for volume, position in wanted:
            jobs.start_rebuild(controller, volume, position, drive)


def _take_back(controller: Controller, volume: Volume, position: int, drive: Drive, standing: str) -> None:
    """A member returns: as it was when nothing was written meanwhile, else to be rebuilt whole."""
    member = volume.members[position]
    member.bay = str(drive.bay)
    if member.generation == volume.generation and standing == "current":
        member.state = "active"
        controller.event("member back", drive=drive, volume=volume.name)
        controller.event_condition(volume)
    elif controller.margin(volume) >= 0:
        jobs.start_rebuild(controller, volume, position, drive, jobs.still_good(volume, position))
    else:
        why, advice = "the volume was written while it was away, and has failed since", "Bring back the others first."
        controller.event("not taken", drive=drive, volume=volume.name, why=why, advice=advice)


NOT_TAKEN = {
    Why.FAILED: ("it has failed", "Seat a working drive."),
    Why.PREDICTED: ("it predicts its failure", "Seat a sound drive."),
    Why.TOO_SMALL: ("it holds {size}, {least} are needed", "Seat a drive at least that large."),
    Why.MEDIA: ("it is {found}, the other members are {others}", ""),
    Why.SECTOR: ("its sectors are {found} bytes, those of the others {others}", ""),
    Why.INTERFACE: ("its interface is {found}, that of the others {others}", ""),
}
"""Why a drive is not taken unasked, and what helps; without advice it can be taken by hand."""


def need_of(controller: Controller, volume: Volume) -> Need:
    """What a member's place of a volume needs: to the byte, since the controller knows."""
    active = [m for m in volume.members if m.state == "active"]
    others = [d for m in active if (d := controller.drive_of(m))]
    like = others[0] if others else None
    return Need(
        least=volume.end + RESERVED_BYTES, media=like.media if like else UNKNOWN,
        sector=like.sector if like else UNKNOWN, protocol=like.protocol if like else UNKNOWN, exact=True,
    )  # fmt: skip


def candidate(drive: Drive) -> Candidate:
    """A drive as one that might be taken; what is on it is asked for separately."""
    return Candidate(
        serial=drive.serial, size=drive.size, media=drive.media, protocol=drive.protocol, sector=drive.sector,
        failed=bool(drive.fault), predicted=drive.predicted,
    )  # fmt: skip


def _too_small(controller: Controller, volume: Volume, drive: Drive) -> None:
    """Raise TooSmall where a drive cannot hold a member of a volume."""
    fit = judge(need_of(controller, volume), candidate(drive))
    for reason in fit.reasons:
        if reason.why is Why.TOO_SMALL:
            raise errors.TooSmall(bay=drive.bay, serial=drive.serial, found=drive.size, volume=volume.name,
                                  needed=reason.facts["least"])  # fmt: skip


def _why_not(controller: Controller, volume: Volume, drive: Drive) -> tuple[str, str] | None:
    """Reasons not to take a drive for a volume unasked, with advice; None when it fits."""
    by_hand = f"To take it all the same: fstripe volume rebuild {volume.name} --onto {drive.bay}"
    for reason in judge(need_of(controller, volume), candidate(drive)).cannot:
        template, advice = NOT_TAKEN[reason.why]
        facts = {k: decimal_size(v) if k in ("size", "least") else v for k, v in reason.facts.items()}
        return template.format(**facts), advice or by_hand
    if controller.margin(volume) < 0:
        return "the volume has failed, a rebuild would invent data", "Bring a missing member back as it was."
    left = assemble.describe(controller, drive)
    if left:
        return f"it carries: {left}", by_hand + " (that set-up, and what it describes, will be lost)"
    if any(True for _ in controller.medium(drive).data_ranges(0, drive.size)):
        return "it is not blank", by_hand + " (what is on it will be lost)"
    return None


def rebuild_onto(controller: Controller, volume: Volume, bay: str) -> Job:
    """Take the drive in `bay` for the first lost member, or copy back onto it where a hot spare is used in place of
    that bay, as asked by hand. Raises ControllerRefusal."""
    drive = free_drive(controller, bay)
    position = next((i for i, m in enumerate(volume.members) if m.state == "lost"), None)
    standing_in = next((i for i, m in enumerate(volume.members) if m.home == bay and m.state == "active"), None)
    if position is None and standing_in is None:
        raise errors.NothingToRebuild(name=volume.name)
    controller.check_writable(volume)
    _too_small(controller, volume, drive)
    controller.memory.spares.pop(drive.serial, None)
    if position is None:
        assert standing_in is not None
        return jobs.start_copy(controller, volume, standing_in, drive, "the data return from the hot spare, as asked")
    return jobs.start_rebuild(controller, volume, position, drive)


def force_online(controller: Controller, volume: Volume) -> None:
    """Use lost members again that are seated and answer, whatever was written while they were away, as few as make the
    volume readable, the one that left last first. Raises ControllerRefusal."""
    if controller.margin(volume) >= 0:
        raise errors.NothingToForce(name=volume.name)
    able = [
        (member.generation, position, drive)
        for position, member in enumerate(volume.members)
        if member.state == "lost" and (drive := controller.drive_of(member)) and drive.works
        and controller.reaches(drive.serial) and assemble.standing(controller, volume, position, drive) != "other"
    ]  # fmt: skip
    chosen = []
    for _generation, position, drive in sorted(able, key=lambda a: (-a[0], a[1])):
        chosen.append((position, drive))
        if margin(volume.geometry.pattern, set(volume.lost) - {p for p, _drive in chosen}) >= 0:
            break
    else:
        raise errors.TooFewToForce(name=volume.name)
    for position, drive in chosen:
        member = volume.members[position]
        member.state, member.bay, member.done = "active", str(drive.bay), 0
        controller.event("member forced", drive=drive, volume=volume.name)
    controller.outdate(volume, always=True)  # whoever is still away holds what the forced ones may not
    controller.event_condition(volume)
    settle(controller)


# hot spares -------------------------------------------------------------------------------------


def add_spare(controller: Controller, bay: str, volumes: list[Volume], revertible: bool) -> Spare:
    """Make the drive in `bay` a hot spare, for these volumes or for any. Raises ControllerRefusal."""
    drive = free_drive(controller, bay)
    if drive.predicted:
        raise errors.DriveFailed(bay=bay, serial=drive.serial)
    for volume in volumes:
        _too_small(controller, volume, drive)
    spare = Spare(drive.serial, [v.number for v in volumes], revertible)
    controller.memory.spares[drive.serial] = spare
    controller.event("spare added", drive=drive, what=spare_words(controller, spare))
    settle(controller)
    return spare


def remove_spare(controller: Controller, bay: str) -> None:
    """Make a standby spare a free drive again. Raises UnknownBay, EmptyBay, NoSpare, DriveInUse."""
    drive = controller.seated(bay)
    if drive.serial not in controller.memory.spares:
        raise errors.NoSpare(bay=bay, serial=drive.serial)
    free_drive(controller, bay)
    del controller.memory.spares[drive.serial]
    controller.event("spare removed", drive=drive)


def spare_words(controller: Controller, spare: Spare) -> str:
    """What a spare is for, in words."""
    names = [controller.memory.volumes[n].name for n in spare.volumes]
    kind = f"dedicated to {', '.join(names)}" if names else "global"
    return f"{kind}, {'revertible' if spare.revertible else 'not revertible'}"


def settle(controller: Controller) -> None:
    """Begin whatever can begin now: waiting members, spares taking over, copies off failing drives, copies back."""
    for volume in list(controller.memory.volumes.values()):
        for position, member in enumerate(volume.members):
            busy = any(job.position == position for job in controller.jobs_of(volume))
            if busy or controller.margin(volume) < 0:
                continue
            drive = controller.drive_of(member)
            if member.state == "lost":
                _fill(controller, volume, position, drive)
            elif drive and drive.predicted and member.state == "active":
                if not controller.memory.settings["copy_on_prediction"]:
                    continue
                spare = _pick_spare(controller, volume)
                if spare:
                    jobs.start_copy(controller, volume, position, spare, "it predicts its failure")
                    _stand_in(controller, volume, position, home=member.bay, spare=spare)
            elif member.state == "active" and member.home:
                _revert(controller, volume, position)


def _fill(controller: Controller, volume: Volume, position: int, drive: Drive | None) -> None:
    """A lost member: its own drive, seated and out of date, or a spare."""
    target = drive and any(job.target == drive.serial for job in controller.memory.jobs.values())
    if (
        drive
        and controller.reaches(drive.serial)
        and not target
        and assemble.standing(controller, volume, position, drive) != "other"
    ):
        jobs.start_rebuild(controller, volume, position, drive, jobs.still_good(volume, position))
        return
    spare = _pick_spare(controller, volume)
    if spare:
        home = volume.members[position].bay
        jobs.start_rebuild(controller, volume, position, spare)
        controller.event("spare took over", drive=spare, volume=volume.name, home=f"bay {home}")
        _stand_in(controller, volume, position, home=home, spare=spare)


def _stand_in(controller: Controller, volume: Volume, position: int, home: str, spare: Drive) -> None:
    """Remember where a spare stands in; one that does not revert is an ordinary member from now on."""
    if controller.memory.spares[spare.serial].revertible:
        volume.members[position].home = home
    else:
        del controller.memory.spares[spare.serial]


def _pick_spare(controller: Controller, volume: Volume) -> Drive | None:
    """The spare that takes over for this volume, by the rules at the head of this file."""
    media = {d.media for m in volume.members if (d := controller.drive_of(m))}
    fitting = []
    for spare in controller.memory.spares.values():
        drive = controller.state.drives[spare.serial]
        told = judge(need_of(controller, volume), candidate(drive))
        fits = controller.reaches(drive.serial) and not told.has(Why.FAILED, Why.PREDICTED, Why.TOO_SMALL)
        mine = not spare.volumes or volume.number in spare.volumes
        if fits and mine and not controller.memory.in_use(drive.serial):
            bay = controller.bays.index(str(drive.bay))
            fitting.append((not spare.volumes, drive.media not in media, drive.size, bay, drive))
    return min(fitting, key=lambda f: f[:4])[4] if fitting else None


def _revert(controller: Controller, volume: Volume, position: int) -> None:
    """Copy back from a spare onto a good drive in the bay it stands in for."""
    member = volume.members[position]
    drive = controller.state.in_bay(member.home)
    if drive is None or drive.serial == member.serial or controller.memory.in_use(drive.serial):
        return
    if (
        controller.memory.settings["replacement"] == "by-hand"
        or drive.serial in controller.memory.spares
        or _why_not(controller, volume, drive) is not None
    ):
        return
    jobs.start_copy(controller, volume, position, drive, "the data return from the hot spare")


def predict_failure(controller: Controller, drive: Drive) -> None:
    """A drive says that it will fail: its data are copied to a spare while it still works."""
    drive.predicted = True
    controller.event("failure predicted", drive=drive)
    settle(controller)
