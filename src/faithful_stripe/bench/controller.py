"""A RAID controller of the bench: its volumes, their bytes, and the moments at which work goes on.

It acts on the state and the drives that a session hands it; everything it does is stamped with bench time.
How volumes are made is in `volumes.py`, what happens when drives come and go in `members.py`, and the work
that goes on with the clock in `jobs.py`.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable
from typing import Any

from ..core.arrays.engine import Array, lost_ranges
from ..core.arrays.margin import margin
from ..core.formats.ddf_records import SETUP_BYTES
from ..core.source import WritableSource
from . import errors, events
from .clock import iso
from .drive import Medium, Twin
from .state import Drive, Event, Job, Member, Memory, State, Volume

SETTINGS: dict[str, Any] = {
    "rebuild_rate": 60,
    "check_rate": 60,
    "replacement": "automatic",
    "copy_on_prediction": True,
}
"""What can be set on a controller, and the value it comes with. The rates are per cent of the slowest drive's, for
rebuilds, copies and initializations, and for consistency checks; `replacement` says whether a fitting blank drive in a
failed bay is taken by itself ("automatic") or waits ("by-hand"); the last whether a drive that predicts its failure is
copied to a hot spare by itself."""

RESERVED_BYTES = SETUP_BYTES
"""At the end of every drive, kept for the controller's own configuration."""

MOST_BAD = 500
"""Unreadable ranges of one drive that are looked at when a volume's lost ranges are listed."""


class Controller:
    """One session's view of a controller.

    state       the whole bench; memory: what this controller remembers; both changed in place
    medium      opens a drive for reading and writing
    log         receives events
    checkpoint  called when the state could be stored
    """

    def __init__(
        self,
        state: State,
        memory: Memory,
        medium: Callable[[Drive], Medium],
        log: Callable[[Event], None],
        checkpoint: Callable[[], None],
        now: float,
    ) -> None:
        self.state, self.memory, self.medium, self.log, self.checkpoint = state, memory, medium, log, checkpoint
        self.now = now
        self.facts: dict[str, Any] = memory.facts

    @property
    def bays(self) -> list[str]:
        """The labels of its bays."""
        return list(self.facts["bays"])

    def here(self) -> list[Drive]:
        """The drives seated in its bays, in the order of the bays."""
        return [drive for bay in self.bays if (drive := self.state.in_bay(bay))]

    def reaches(self, serial: str) -> bool:
        """Whether a drive is seated in one of its bays, and answers."""
        drive = self.state.drives.get(serial)
        return drive is not None and drive.bay in self.facts["bays"] and drive.works

    def drive_of(self, member: Member) -> Drive | None:
        """A member's drive, wherever it lies; None when it never was on this bench, or has left it."""
        return self.state.drives.get(member.serial)

    def volume(self, name: str) -> Volume:
        """The volume with this name. Raises UnknownVolume."""
        for volume in self.memory.volumes.values():
            if volume.name == name:
                return volume
        known = ", ".join(v.name for v in self.memory.volumes.values()) or "none"
        raise errors.UnknownVolume(name=name, known=known)

    def seated(self, bay: str) -> Drive:
        """The drive in one of its bays. Raises UnknownBay, EmptyBay."""
        if bay not in self.bays:
            raise errors.UnknownBay(bay=bay, where=f"at controller {self.facts['id']}", bays=", ".join(self.bays))
        drive = self.state.in_bay(bay)
        if drive is None:
            raise errors.EmptyBay(bay=bay)
        return drive

    def array(self, volume: Volume) -> Array:
        """The volume's bytes, computed from the members that count."""
        copies = {job.position: job for job in self.memory.jobs.values() if job.volume == volume.number and job.target}
        sources, trusted = list[WritableSource | None](), list[int | None]()
        for position, member in enumerate(volume.members):
            source: WritableSource | None = None
            if member.state != "lost":
                source = first = self.medium(self.state.drives[member.serial])
                if position in copies:
                    source = Twin(first, self.medium(self.state.drives[copies[position].target]))
            sources.append(source)
            trusted.append(volume.start + member.done if member.state == "rebuilding" else None)
        return Array(volume.geometry, sources, trusted, f"volume {volume.name}")

    def margin(self, volume: Volume) -> int:
        """Further failures it is certain to survive; -1 when it has failed.

        Until a background initialization is done parity does not cover everything: nothing is certain then.
        """
        left = margin(volume.geometry.pattern, volume.lost)
        return min(left, 0) if self.initializing(volume) else left

    def lost_ranges(self, volume: Volume) -> list[tuple[int, int]]:
        """(start, end) in bytes of the volume that cannot be read nor computed; of a usable volume."""
        bad = []
        for position, member in enumerate(volume.members):
            drive = self.drive_of(member)
            if member.state != "lost" and drive:
                bad += [(position, start, count) for start, count in drive.unreadable[:MOST_BAD]]
        return lost_ranges(self.array(volume), bad) if bad else []

    def initializing(self, volume: Volume) -> str:
        """ "background" or "foreground" while the volume is being initialized, else ""."""
        kinds = [job.kind for job in self.jobs_of(volume)]
        return next((kind for kind in ("foreground", "background") if kind in kinds), "")

    def check_writable(self, volume: Volume) -> None:
        """Raise VolumeFailed for a volume that has failed, NotReady for one that cannot be used yet."""
        if self.initializing(volume) == "foreground":
            raise errors.NotReady(name=volume.name)
        if self.margin(volume) < 0:
            gone = ", ".join(map(str, volume.lost))
            raise errors.VolumeFailed(name=volume.name, level=volume.level, members=gone)

    def before_write(self, volume: Volume) -> None:
        """Note, and keep, that members which are away now will be out of date. Raises VolumeFailed."""
        self.check_writable(volume)
        self.outdate(volume)

    def outdate(self, volume: Volume, always: bool = False) -> None:
        """From now on members that are away are out of date: kept before anything is written without them.

        always  whatever was known of them
        """
        away = [volume.members[position] for position in volume.lost]
        if always or any(volume.generation in (m.generation, m.paused_at) for m in away):
            volume.generation += 1
            volume.branch = zlib.crc32(f"{self.facts['serial']} {self.now}".encode())
            for member in volume.members:
                if member.state == "active":
                    member.generation = volume.generation
            self.checkpoint()

    def jobs_of(self, volume: Volume) -> list[Job]:
        """The volume's work, in the order it was begun."""
        return [job for job in self.memory.jobs.values() if job.volume == volume.number]

    # events -------------------------------------------------------------------------------------

    def event(self, kind: str, drive: Drive | None = None, bay: str = "", volume: str = "", **facts: object) -> None:
        """Log an event of a kind of `events.KINDS`, stamped with now."""
        serial = drive.serial if drive else ""
        place = bay or (str(drive.bay) if drive and drive.bay else "")
        facts.setdefault("controller", self.facts["id"])
        self.log(events.make(kind, iso(self.now), serial=serial, bay=place, volume=volume, **facts))

    def event_condition(self, volume: Volume) -> None:
        """Log what a volume is now: healthy, complete but with losses, degraded with its margin, or failed."""
        left = self.margin(volume)
        if left < 0:
            self.event("volume failed", volume=volume.name)
        elif volume.lost:
            self.event("volume degraded", volume=volume.name, margin=left)
        elif lost := self.lost_ranges(volume):
            count = sum(end - start for start, end in lost)
            self.event("volume damaged", volume=volume.name, count=count)
        else:
            self.event("volume ok", volume=volume.name)
