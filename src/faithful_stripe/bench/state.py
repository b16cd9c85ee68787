"""The bench's non-volatile state as values: what the controller and the enclosure remember."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from ..core.arrays.geometry import Geometry, geometry


@dataclass
class Drive:
    """One drive, wherever it is: sizes in bytes, rate in bytes per second of bench time.

    bay    label of the bay it is seated in; None when it lies in stock or on the bench top
    place  where it is otherwise: "stock" or "pulled"; "" while seated
    fault  "", "dead", "link": its controller has given it up after too many losses of the link, or "image": its image
           is not the one that was there, see `images`
    predicted   it says that it will fail
    unreadable  (offset, length) in bytes that cannot be read until they are written again
    configured  it carries the set-up of the controller whose bay it is in
    slowed      it works at one part in this many of its rate
    celsius     its temperature
    hours       it had been running before it came to this bench
    gbps        the link rate that it and its bay have agreed on, in Gbit/s; 0 while it is seated nowhere
    link        of an intermittent link: "every" and "down" in seconds, "next" the bench time of the next change,
                "up", and "drops" the times at which it was lost within an hour; None for a sound one
    losses      the times at which its link was lost within a day
    image       the file that its image is: device, inode, time of change; "" before a first look
    """

    serial: str
    vendor: str
    model: str
    part: str
    size: int
    media: str
    protocol: str
    rpm: int | None
    sector: int
    rate: int
    firmware: str
    bay: str | None = None
    place: str = ""
    fault: str = ""
    indicator: bool = False
    predicted: bool = False
    unreadable: list[list[int]] = field(default_factory=list)
    configured: bool = False
    slowed: float = 1.0
    celsius: int = 34
    link: dict[str, Any] | None = None
    gbps: float = 0.0
    hours: int = 0
    losses: list[float] = field(default_factory=list)
    image: str = ""

    @property
    def works(self) -> bool:
        """Seated and answering."""
        return self.bay is not None and not self.fault and (self.link is None or self.link["up"])

    @property
    def pace(self) -> float:
        """Bytes per second of bench time that it really does; its link carries a byte in ten bits."""
        return min(self.rate, self.gbps * 1e8 if self.gbps else self.rate) / self.slowed

    @property
    def best_gbps(self) -> float:
        """The link rate that it can do, in Gbit/s, by its protocol."""
        return {"SAS": 12.0, "SATA": 6.0}.get(self.protocol, 32.0)


@dataclass
class Member:
    """One position of a volume.

    serial  the drive that stands there, or stood there last
    bay     where that drive was seated last: a replacement seated there takes its place
    state   "active", "lost" (failed or pulled) or "rebuilding"
    done    while rebuilding: bytes of the member's data area that are complete
    generation  the volume's `generation` when this member was last written with it
    home        where a hot spare stands in: the bay of the drive it stands in for; else ""
    paused      of a lost member whose rebuild was interrupted: bytes that were complete then, and hold as long as the
                volume's generation is still `paused_at`
    """

    serial: str
    bay: str
    state: str = "active"
    done: int = 0
    generation: int = 0
    home: str = ""
    paused: int = 0
    paused_at: int = -1


@dataclass
class Volume:
    """A volume of the controller.

    start, extent  the members' data area, in bytes
    generation     counted up when the volume is written while a member is away, which is stale then
    branch         a mark of the moment at which `generation` last counted up: members that were written apart from
                   each other differ in it
    guid           24 characters of ASCII, the same wherever its drives go
    read_cache, write_cache  its cache policies, see `volumes.READ_CACHES` and `WRITE_CACHES`
    mismatches     (first, last) rows in which the last check found copies or parity that do not agree; `accepted`:
                   those that somebody has seen and let be
    """

    number: int
    name: str
    level: str
    strip: int
    rotation: str | None
    data: str | None
    start: int
    extent: int
    members: list[Member]
    created: str
    generation: int = 0
    spans: int = 1
    copies: int = 1
    q_place: str | None = None
    q_exponent: str | None = None
    guid: str = ""
    branch: int = 0
    read_cache: str = "ahead"
    write_cache: str = "through"
    mismatches: list[list[int]] = field(default_factory=list)
    accepted: list[list[int]] = field(default_factory=list)

    @property
    def geometry(self) -> Geometry:
        return geometry(
            self.level,
            len(self.members),
            self.strip,
            member_bytes=self.extent,
            start_bytes=self.start,
            rotation=self.rotation,
            data=self.data,
            spans=self.spans,
            copies=self.copies,
            q_place=self.q_place,
            q_exponent=self.q_exponent,
        )

    @property
    def end(self) -> int:
        """Where the members' data area ends, in bytes."""
        return self.start + self.extent

    @property
    def lost(self) -> list[int]:
        """Positions whose content does not count, or does not count yet."""
        return [i for i, member in enumerate(self.members) if member.state != "active"]


@dataclass
class Spare:
    """A hot spare: for the volumes with these numbers, or for any when there are none (global).

    revertible  it stands by again once the drive it stood in for has been replaced
    """

    serial: str
    volumes: list[int]
    revertible: bool = True


@dataclass
class Job:
    """Work that goes on with the bench clock.

    kind      "rebuild" of a position, "copy" of a position's drive onto another, "check" of the volume,
              or its initialization: "background", "foreground"
    rate      bytes of a member per second of bench time
    since     bench time from which it has been running; None while it waits for another job on its drives
    base      bytes that were done at `since`
    target    the serial of the drive that a copy goes to
    done      bytes done (a rebuild keeps its own in the member)
    repair    a check that mends what it finds
    found     what a check has found: mismatching rows
    """

    number: int
    kind: str
    volume: int
    position: int
    rate: float
    since: float | None = None
    base: int = 0
    target: str = ""
    done: int = 0
    repair: bool = False
    found: int = 0


@dataclass
class Event:
    """One entry of the server's log; `number` 0 until it is stored."""

    time: str
    severity: str
    message_id: str
    args: list[str]
    message: str
    resolution: str = ""
    serial: str = ""
    bay: str = ""
    volume: str = ""
    number: int = 0


@dataclass
class Update:
    """New firmware on its way to a part; `began` and `until` in bench seconds.

    state  "Running", "Waiting" (for the next restart), "Completed", "Exception" (broken off)
    """

    number: int
    part: str
    version: str
    began: float
    until: float
    state: str = "Running"


@dataclass
class Memory:
    """What one controller keeps in its non-volatile memory.

    facts     its description: id, maker, model, serial, firmware, bays
    settings  what can be set: see `controller.SETTINGS`
    setup     what was last written to the drives: a mark of its contents, and its sequence number
    """

    facts: dict[str, Any]
    settings: dict[str, Any]
    setup: dict[str, Any] = field(default_factory=dict)
    volumes: dict[int, Volume] = field(default_factory=dict)
    jobs: dict[int, Job] = field(default_factory=dict)
    spares: dict[str, Spare] = field(default_factory=dict)

    def memberships(self, serial: str) -> list[tuple[Volume, int]]:
        """The volumes and positions that a drive is a member of (lost members are members no more)."""
        return [
            (volume, position)
            for volume in self.volumes.values()
            for position, member in enumerate(volume.members)
            if member.serial == serial and member.state != "lost"
        ]

    def in_use(self, serial: str) -> bool:
        """Whether a drive is a member of a volume, or is being copied onto."""
        return bool(self.memberships(serial)) or any(job.target == serial for job in self.jobs.values())


@dataclass
class State:
    """Everything that a power cycle keeps.

    clock  (bench seconds, wall seconds) of the last mark
    power  whether the server is on
    lid    whether the chassis is open
    firmware, pending  attributes that are not as they came; those that wait for the next restart
    boot_order  references of boot options, the first is started first; boot_until: bench time when a restart is over;
                boot_override: target, enabled and mode of what is started instead; empty where that is nothing
    found  the disks that the system's own firmware found at the last start: controller, name, size in bytes, and the
           volume's GUID, "" for a drive that is presented by itself
    leaving, arrived  drives on their way to another bench, and those that came from one: see `moving`
    """

    server: dict[str, Any]
    bays: list[str]
    clock: tuple[float, float]
    controllers: dict[str, Memory] = field(default_factory=dict)
    drives: dict[str, Drive] = field(default_factory=dict)
    power: bool = True
    lid: bool = False
    next_number: int = 1
    firmware: dict[str, Any] = field(default_factory=dict)
    pending: dict[str, Any] = field(default_factory=dict)
    boot_order: list[str] = field(default_factory=list)
    boot_until: float = 0.0
    boot_override: dict[str, Any] = field(default_factory=dict)
    updates: dict[int, Update] = field(default_factory=dict)
    found: list[dict[str, Any]] = field(default_factory=list)
    leaving: dict[str, dict[str, str]] = field(default_factory=dict)
    arrived: dict[str, str] = field(default_factory=dict)

    def in_bay(self, bay: str) -> Drive | None:
        """The drive seated in a bay."""
        return next((d for d in self.drives.values() if d.bay == bay), None)

    def negotiated(self, drive: Drive) -> float:
        """The link rate of a drive where it is now, in Gbit/s."""
        return min(drive.best_gbps, float(self.server["links"].get(drive.bay, drive.best_gbps))) if drive.bay else 0.0

    def take_number(self) -> int:
        """A number that was never used before, for a volume or a job."""
        self.next_number += 1
        return self.next_number - 1
