"""The RAID controller of the bench: volumes, what happens to them when drives come and go, rebuilds.

It acts on the state and the drives' images that a session hands it. Everything it does is stamped with
bench time; `advance` carries work on to a moment of the bench clock, really computing what that takes.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from typing import Any

from ..core.arrays.engine import Array
from ..core.arrays.geometry import geometry
from ..core.arrays.levels import level_named
from ..core.arrays.margin import margin
from ..core.arrays.rebuild import NotRecoverable, rebuild_rows
from ..core.source import WritableSource
from ..core.units import decimal_size
from . import errors, events
from .clock import iso
from .state import Drive, Event, Job, Member, State, Volume

RESERVED_BYTES = 64 << 20
"""At the end of every drive, kept for the controller's own configuration."""

HOST_SECONDS = 1.0
"""Work is checkpointed about this often, in seconds of the host's time."""

NEVER = -1
"""The generation of a member that has not been complete yet: it is stale whenever it returns."""

Images = Callable[[Drive], WritableSource]


class Controller:
    """One session's view of the controller.

    state       what it remembers; changed in place
    images      opens a drive's image for writing
    log         receives events
    checkpoint  called when the state could be stored
    """

    def __init__(
        self,
        state: State,
        images: Images,
        log: Callable[[Event], None],
        checkpoint: Callable[[], None],
        now: float,
    ) -> None:
        self.state, self.images, self.log, self.checkpoint, self.now = state, images, log, checkpoint, now
        self.facts: dict[str, Any] = state.controllers[0]

    # volumes ------------------------------------------------------------------------------------

    def volume(self, name: str) -> Volume:
        """The volume with this name. Raises UnknownVolume."""
        for volume in self.state.volumes.values():
            if volume.name == name:
                return volume
        known = ", ".join(v.name for v in self.state.volumes.values()) or "none"
        raise errors.UnknownVolume(name=name, known=known)

    def check_new(
        self,
        name: str,
        level: str,
        bays: list[str],
        strip: int,
        rotation: str | None,
        data: str | None,
        mixed: bool,
    ) -> Volume:
        """The volume that these wishes describe, not yet made.

        mixed  allow drives of different media or sector size
        Raises ControllerRefusal or GeometryError, saying which wish cannot be met.
        """
        if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9_-]{0,14}", name):
            raise errors.BadName(name=name)
        if any(v.name == name for v in self.state.volumes.values()):
            raise errors.NameTaken(name=name)
        drives = [self._free_drive(bay, bays) for bay in bays]
        if not mixed:
            for what, values in (
                ("media", [d.media for d in drives]),
                ("sector size", [str(d.sector) for d in drives]),
            ):
                if len(set(values)) > 1:
                    listed = ", ".join(f"bay {d.bay} {value}" for d, value in zip(drives, values, strict=True))
                    raise errors.UnlikeDrives(what=what, values=listed, unless=", or allow it with --mixed")
        facts = level_named(level)
        least = min((d.size for d in drives), default=strip + RESERVED_BYTES)
        extent = max(0, least - RESERVED_BYTES) // strip * strip
        made = geometry(facts.name, len(bays), strip, member_bytes=extent, rotation=rotation, data=data)
        members = [Member(d.serial, str(d.bay)) for d in drives]
        chosen = made.layout
        return Volume(0, name, chosen.level, strip, chosen.rotation, chosen.data, 0, extent, members, iso(self.now))

    def create(self, volume: Volume) -> Volume:
        """Make a checked volume: its members are emptied, so that their parity is true from the start."""
        volume.number = self.state.take_number()
        for member in volume.members:
            image = self.images(self.state.drives[member.serial])
            for a, b in list(image.data_ranges(0, image.size)):
                image.discard(a, b - a)
        self.state.volumes[volume.number] = volume
        size = decimal_size(volume.geometry.volume_bytes)
        bays = ", ".join(m.bay for m in volume.members)
        self._event("volume created", volume=volume.name, what=f"{volume.level}, {size}, bays {bays}")
        return volume

    def delete(self, volume: Volume) -> None:
        """Forget a volume; its drives are unassigned afterwards, their bytes as they were."""
        for number in [n for n, job in self.state.jobs.items() if job.volume == volume.number]:
            del self.state.jobs[number]
        del self.state.volumes[volume.number]
        self._event("volume deleted", volume=volume.name)

    def array(self, volume: Volume) -> Array:
        """The volume's bytes, computed from the members that count."""
        sources, trusted = list[WritableSource | None](), list[int | None]()
        for member in volume.members:
            there = member.state != "lost"
            sources.append(self.images(self.state.drives[member.serial]) if there else None)
            trusted.append(volume.start + member.done if member.state == "rebuilding" else None)
        return Array(volume.geometry, sources, trusted, f"volume {volume.name}")

    def margin(self, volume: Volume) -> int:
        """Further failures it is certain to survive; -1 when it has failed."""
        return margin(volume.geometry.pattern, volume.lost)

    def before_write(self, volume: Volume) -> None:
        """Note that members which are away now will be out of date. Raises VolumeFailed."""
        if self.margin(volume) < 0:
            raise errors.VolumeFailed(name=volume.name, level=volume.level, members=", ".join(map(str, volume.lost)))
        if volume.lost:
            volume.generation += 1
            for member in volume.members:
                if member.state == "active":
                    member.generation = volume.generation

    # drives coming and going --------------------------------------------------------------------

    def drive_gone(self, drive: Drive, bay: str, kind: str) -> None:
        """A seated drive failed ("drive failed") or left ("drive removed"); its volume suffers."""
        self._event(kind, drive=drive, bay=bay)
        found = self.state.membership(drive.serial)
        if found is None:
            return
        volume, position = found
        member = volume.members[position]
        rebuilding = member.state == "rebuilding"
        member.state, member.done = "lost", 0
        if rebuilding:
            self._stop_job(volume, position)
            why = "the drive failed" if kind == "drive failed" else "the drive was removed"
            self._event("rebuild stopped", drive=drive, bay=bay, volume=volume.name, why=why)
        else:
            self._event_degraded(volume)

    def drive_seated(self, drive: Drive) -> None:
        """A drive was seated: take it as a member where that is safe, else say why not."""
        bay = str(drive.bay)
        self._event("drive inserted", drive=drive)
        for volume in self.state.volumes.values():
            for position, member in enumerate(volume.members):
                if member.state == "lost" and member.serial == drive.serial and not drive.fault:
                    self._take_back(volume, position, drive)
                    return
        for volume in self.state.volumes.values():
            for position, member in enumerate(volume.members):
                if member.state == "lost" and member.bay == bay:
                    refused = self._why_not(volume, position, drive)
                    if refused:
                        why, advice = refused
                        self._event("not taken", drive=drive, volume=volume.name, why=why, advice=advice)
                    else:
                        self.start_rebuild(volume, position, drive)
                    return

    def _take_back(self, volume: Volume, position: int, drive: Drive) -> None:
        """A member returns: as it was when nothing was written meanwhile, else to be rebuilt whole."""
        member = volume.members[position]
        member.bay = str(drive.bay)
        if member.generation == volume.generation:
            member.state = "active"
            self._event("member back", drive=drive, volume=volume.name)
            self._event_healthy(volume)
            self._rebuild_waiting(volume)
        elif self.margin(volume) >= 0:
            self.start_rebuild(volume, position, drive)
        else:
            why, advice = (
                "the volume was written while it was away, and has failed since",
                "Bring back the others first.",
            )
            self._event("not taken", drive=drive, volume=volume.name, why=why, advice=advice)

    def _rebuild_waiting(self, volume: Volume) -> None:
        """Begin what had to wait while the volume had failed: members that are seated but out of date."""
        for position, member in enumerate(volume.members):
            drive = self.state.drives[member.serial]
            if member.state == "lost" and drive.works and self.margin(volume) >= 0:
                self.start_rebuild(volume, position, drive)

    def _why_not(self, volume: Volume, position: int, drive: Drive) -> tuple[str, str] | None:
        """Reasons not to take a new drive unasked, with advice; None when it fits."""
        others = [self.state.drives[m.serial] for m in volume.members if m.state == "active"]
        by_hand = f"To take it all the same: fstripe volume rebuild {volume.name} --onto {drive.bay}"
        if drive.fault:
            return "it has failed", "Seat a working drive."
        if drive.size < volume.start + volume.extent:
            needed = decimal_size(volume.start + volume.extent)
            return (
                f"it holds {decimal_size(drive.size)}, {needed} are needed",
                "Seat a drive at least that large.",
            )
        if self.margin(volume) < 0:
            return (
                "the volume has failed, a rebuild would make up data",
                "Bring a lost member back as it was.",
            )
        if others and drive.media != others[0].media:
            return f"it is {drive.media}, the other members are {others[0].media}", by_hand
        if others and drive.sector != others[0].sector:
            return f"its sectors are {drive.sector} bytes, those of the others {others[0].sector}", by_hand
        if any(True for _ in self.images(drive).data_ranges(0, drive.size)):
            return "it is not blank", by_hand + " (what is on it will be lost)"
        return None

    def rebuild_onto(self, volume: Volume, bay: str) -> Job:
        """Take the drive in `bay` for the first lost member, as asked by hand. Raises ControllerRefusal."""
        drive = self._free_drive(bay, [bay])
        position = next((i for i, m in enumerate(volume.members) if m.state == "lost"), None)
        if position is None:
            raise errors.NothingToRebuild(name=volume.name)
        if self.margin(volume) < 0:
            gone = ", ".join(map(str, volume.lost))
            raise errors.VolumeFailed(name=volume.name, level=volume.level, members=gone)
        needed = volume.start + volume.extent
        if drive.size < needed:
            raise errors.TooSmall(bay=bay, serial=drive.serial, found=drive.size, volume=volume.name, needed=needed)
        return self.start_rebuild(volume, position, drive)

    # rebuilds -----------------------------------------------------------------------------------

    def start_rebuild(self, volume: Volume, position: int, drive: Drive) -> Job:
        """Begin to compute the member at `position` onto `drive`."""
        volume.members[position] = Member(drive.serial, str(drive.bay), "rebuilding", 0, NEVER)
        job = Job(self.state.take_number(), "rebuild", volume.number, position, self.now, self._rate(volume))
        self.state.jobs[job.number] = job
        self._event("rebuild started", drive=drive, volume=volume.name)
        return job

    def _rate(self, volume: Volume) -> float:
        drives = [self.state.drives[m.serial] for m in volume.members if m.state != "lost"]
        return float(min(d.rate for d in drives) * self.facts["rebuild_share"])

    def advance(self, until: float) -> None:
        """Carry all work on to the bench time `until`, finishing what ends before, in that order."""
        while self.state.jobs:
            ends = {job.number: job.started + self._extent(job) / job.rate for job in self.state.jobs.values()}
            first = min(ends, key=lambda number: (ends[number], number))
            moment = min(ends[first], until)
            for number in list(self.state.jobs):
                self.now = moment
                job = self.state.jobs[number]
                self._work(job, self._extent(job) if number == first and ends[first] <= until else None)
            if ends[first] > until:
                break
        self.now = max(self.now, until)

    def _extent(self, job: Job) -> int:
        made = self.state.volumes[job.volume].geometry
        return made.rows * made.strip_bytes

    def _work(self, job: Job, goal: int | None) -> None:
        """Rebuild up to where the clock has brought the job (or to `goal`, in bytes of the member)."""
        volume = self.state.volumes[job.volume]
        member, made = volume.members[job.position], volume.geometry
        unit = made.strip_bytes * made.pattern.unit_rows
        extent = self._extent(job)
        due = min(extent, int((self.now - job.started) * job.rate) // unit * unit) if goal is None else goal
        if due > member.done:
            target = self.images(self.state.drives[member.serial])
            array, last = self.array(volume), time.monotonic()
            try:
                first, end = member.done // made.strip_bytes, due // made.strip_bytes
                for row in rebuild_rows(array, job.position, target, first, end):
                    member.done = row * made.strip_bytes
                    if time.monotonic() - last > HOST_SECONDS:
                        target.flush()
                        self.checkpoint()
                        last = time.monotonic()
            except NotRecoverable as reason:
                self._give_up(job, volume, str(reason.what))
                return
            target.flush()
        if member.done >= extent:
            self._finish(job, volume)

    def _finish(self, job: Job, volume: Volume) -> None:
        del self.state.jobs[job.number]
        member = volume.members[job.position]
        member.state, member.done, member.generation = "active", 0, volume.generation
        self._event("rebuild done", drive=self.state.drives[member.serial], volume=volume.name)
        self._event_healthy(volume)

    def _give_up(self, job: Job, volume: Volume, why: str) -> None:
        del self.state.jobs[job.number]
        member = volume.members[job.position]
        member.state, member.done = "lost", 0
        self._event("rebuild stopped", drive=self.state.drives[member.serial], volume=volume.name, why=why)

    def _stop_job(self, volume: Volume, position: int) -> None:
        for number, job in list(self.state.jobs.items()):
            if (job.volume, job.position) == (volume.number, position):
                del self.state.jobs[number]

    # small things -------------------------------------------------------------------------------

    def seated(self, bay: str) -> Drive:
        """The drive in a bay. Raises UnknownBay, EmptyBay."""
        if bay not in self.state.bays:
            raise errors.UnknownBay(bay=bay, bays=", ".join(self.state.bays))
        drive = self.state.in_bay(bay)
        if drive is None:
            raise errors.EmptyBay(bay=bay)
        return drive

    def _free_drive(self, bay: str, bays: list[str]) -> Drive:
        drive = self.seated(bay)
        if bays.count(bay) > 1:
            raise errors.NamedTwice(bay=bay)
        if drive.fault:
            raise errors.DriveFailed(bay=bay, serial=drive.serial)
        found = self.state.membership(drive.serial)
        if found:
            raise errors.DriveInUse(bay=bay, serial=drive.serial, volume=found[0].name)
        return drive

    def _event(self, kind: str, drive: Drive | None = None, bay: str = "", volume: str = "", **facts: object) -> None:
        serial = drive.serial if drive else ""
        place = bay or (str(drive.bay) if drive and drive.bay else "")
        facts.setdefault("controller", self.facts["id"])
        self.log(events.make(kind, iso(self.now), serial=serial, bay=place, volume=volume, **facts))

    def _event_degraded(self, volume: Volume) -> None:
        left = self.margin(volume)
        if left < 0:
            self._event("volume failed", volume=volume.name)
        else:
            self._event("volume degraded", volume=volume.name, margin=left)

    def _event_healthy(self, volume: Volume) -> None:
        if volume.lost:
            self._event_degraded(volume)
        else:
            self._event("volume ok", volume=volume.name)
