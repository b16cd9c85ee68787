"""The RAID controller of the bench: its volumes, their bytes, and the moments at which work goes on.

It acts on the state and the drives that a session hands it; everything it does is stamped with bench time.
How volumes are made is in `volumes.py`, what happens when drives come and go in `members.py`, and the work
that goes on with the clock in `jobs.py`.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..core.arrays.engine import Array
from ..core.arrays.margin import margin
from ..core.source import WritableSource
from . import errors, events
from .clock import iso
from .drive import Medium, Twin
from .state import Drive, Event, Job, State, Volume

RESERVED_BYTES = 64 << 20
"""At the end of every drive, kept for the controller's own configuration."""


class Controller:
    """One session's view of the controller.

    state       what it remembers; changed in place
    medium      opens a drive for reading and writing
    log         receives events
    checkpoint  called when the state could be stored
    """

    def __init__(
        self,
        state: State,
        medium: Callable[[Drive], Medium],
        log: Callable[[Event], None],
        checkpoint: Callable[[], None],
        now: float,
    ) -> None:
        self.state, self.medium, self.log, self.checkpoint, self.now = state, medium, log, checkpoint, now
        self.facts: dict[str, Any] = state.controllers[0]

    def volume(self, name: str) -> Volume:
        """The volume with this name. Raises UnknownVolume."""
        for volume in self.state.volumes.values():
            if volume.name == name:
                return volume
        known = ", ".join(v.name for v in self.state.volumes.values()) or "none"
        raise errors.UnknownVolume(name=name, known=known)

    def seated(self, bay: str) -> Drive:
        """The drive in a bay. Raises UnknownBay, EmptyBay."""
        if bay not in self.state.bays:
            raise errors.UnknownBay(bay=bay, bays=", ".join(self.state.bays))
        drive = self.state.in_bay(bay)
        if drive is None:
            raise errors.EmptyBay(bay=bay)
        return drive

    def array(self, volume: Volume) -> Array:
        """The volume's bytes, computed from the members that count."""
        copies = {job.position: job for job in self.state.jobs.values() if job.volume == volume.number and job.target}
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
        """Note that members which are away now will be out of date. Raises VolumeFailed."""
        self.check_writable(volume)
        if volume.lost:
            volume.generation += 1
            for member in volume.members:
                if member.state == "active":
                    member.generation = volume.generation

    def jobs_of(self, volume: Volume) -> list[Job]:
        """The volume's work, in the order it was begun."""
        return [job for job in self.state.jobs.values() if job.volume == volume.number]

    # events -------------------------------------------------------------------------------------

    def event(self, kind: str, drive: Drive | None = None, bay: str = "", volume: str = "", **facts: object) -> None:
        """Log an event of a kind of `events.KINDS`, stamped with now."""
        serial = drive.serial if drive else ""
        place = bay or (str(drive.bay) if drive and drive.bay else "")
        facts.setdefault("controller", self.facts["id"])
        self.log(events.make(kind, iso(self.now), serial=serial, bay=place, volume=volume, **facts))

    def event_condition(self, volume: Volume) -> None:
        """Log what a volume is now: healthy, degraded with its margin, or failed."""
        left = self.margin(volume)
        if left < 0:
            self.event("volume failed", volume=volume.name)
        elif volume.lost:
            self.event("volume degraded", volume=volume.name, margin=left)
        else:
            self.event("volume ok", volume=volume.name)
