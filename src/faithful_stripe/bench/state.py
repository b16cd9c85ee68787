"""The bench's non-volatile state as values: what the controller and the enclosure remember."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any

from ..core.arrays.geometry import Geometry, geometry


@dataclass
class Drive:
    """One drive, wherever it is: sizes in bytes, rate in bytes per second of bench time.

    bay    label of the bay it is seated in; None when it lies in the cupboard or on the bench top
    place  where it is otherwise: "stock" or "pulled"; "" while seated
    fault  "" or "dead"
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

    @property
    def works(self) -> bool:
        """Seated and answering."""
        return self.bay is not None and not self.fault


@dataclass
class Member:
    """One position of a volume.

    serial  the drive that stands there, or stood there last
    bay     where that drive was seated last: a replacement seated there takes its place
    state   "active", "lost" (failed or pulled) or "rebuilding"
    done    while rebuilding: bytes of the member's data area that are complete
    generation  the volume's `generation` when this member was last written with it
    """

    serial: str
    bay: str
    state: str = "active"
    done: int = 0
    generation: int = 0


@dataclass
class Volume:
    """A volume of the controller.

    start, extent  the members' data area, in bytes
    generation     counted up when the volume is written while a member is away, which is stale then
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
        )

    @property
    def lost(self) -> list[int]:
        """Positions whose content does not count, or does not count yet."""
        return [i for i, member in enumerate(self.members) if member.state != "active"]


@dataclass
class Job:
    """Work that goes on with the bench clock: rebuilding one position of a volume.

    started  bench time at which it began, in seconds
    rate     bytes of the member per second of bench time
    """

    number: int
    kind: str
    volume: int
    position: int
    started: float
    rate: float


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
class State:
    """Everything that a power cycle keeps. `clock` is (bench seconds, wall seconds) of the last mark."""

    server: dict[str, Any]
    bays: list[str]
    controllers: list[dict[str, Any]]
    clock: tuple[float, float]
    drives: dict[str, Drive] = field(default_factory=dict)
    volumes: dict[int, Volume] = field(default_factory=dict)
    jobs: dict[int, Job] = field(default_factory=dict)
    next_number: int = 1

    def in_bay(self, bay: str) -> Drive | None:
        """The drive seated in a bay."""
        return next((d for d in self.drives.values() if d.bay == bay), None)

    def take_number(self) -> int:
        """A number that was never used before, for a volume or a job."""
        self.next_number += 1
        return self.next_number - 1

    def membership(self, serial: str) -> tuple[Volume, int] | None:
        """The volume and position that a drive is a member of (lost members are members no more)."""
        for volume in self.volumes.values():
            for position, member in enumerate(volume.members):
                if member.serial == serial and member.state != "lost":
                    return volume, position
        return None


def to_rows(state: State) -> dict[tuple[str, str], dict[str, Any]]:
    """The state as rows (kind, key) -> JSON value, for the store."""
    rows: dict[tuple[str, str], dict[str, Any]] = {
        ("meta", "server"): state.server,
        ("meta", "bays"): {"labels": state.bays},
        ("meta", "controllers"): {"list": state.controllers},
        ("meta", "clock"): {"bench": state.clock[0], "wall": state.clock[1]},
        ("meta", "next"): {"number": state.next_number},
    }
    rows |= {("drive", serial): asdict(drive) for serial, drive in state.drives.items()}
    rows |= {("volume", str(number)): asdict(volume) for number, volume in state.volumes.items()}
    rows |= {("job", str(number)): asdict(job) for number, job in state.jobs.items()}
    return rows


def from_rows(rows: dict[tuple[str, str], dict[str, Any]]) -> State:
    """The inverse of `to_rows`. Raises KeyError or TypeError when rows are missing or unknown."""
    state = State(
        server=rows["meta", "server"],
        bays=rows["meta", "bays"]["labels"],
        controllers=rows["meta", "controllers"]["list"],
        clock=(rows["meta", "clock"]["bench"], rows["meta", "clock"]["wall"]),
        next_number=rows["meta", "next"]["number"],
    )
    for (kind, key), value in rows.items():
        if kind == "drive":
            state.drives[key] = Drive(**value)
        elif kind == "volume":
            members = [Member(**member) for member in value["members"]]
            state.volumes[int(key)] = Volume(**(value | {"members": members}))
        elif kind == "job":
            state.jobs[int(key)] = Job(**value)
    return state
