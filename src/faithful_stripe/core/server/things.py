"""The things that a server tells of, as plain frozen values: drives, volumes, work, controllers, parts.

Nothing here judges. What a server leaves out is `UNKNOWN`. A thing is identified by its resource path and its durable
name, never by a label or a volume's name: both may repeat.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from ..ranges import Range
from .unknown import UNKNOWN, Maybe, known


class Health(StrEnum):
    """Redfish `Health`."""

    OK = "OK"
    WARNING = "Warning"
    CRITICAL = "Critical"


class SeatState(StrEnum):
    """What a member place of a volume holds.

    ACTIVE      a drive whose content counts
    REBUILDING  a drive onto which the member is being computed
    MISSING     nothing that counts: the drive is away, failed or out of date
    """

    ACTIVE = "active"
    REBUILDING = "rebuilding"
    MISSING = "missing"


class UseKind(StrEnum):
    """What a drive is used for. NOT_KNOWN: volumes that may use it could not be read, or no storage owns it."""

    MEMBER = "member"
    FORMER_MEMBER = "former member"
    STOOD_IN_FOR = "stood in for"
    COPY_TARGET = "copy target"
    GLOBAL_SPARE = "global spare"
    DEDICATED_SPARE = "dedicated spare"
    NOT_KNOWN = "not known"


class WorkKind(StrEnum):
    """Kinds of work on a volume, by the standard's words where it has one."""

    REBUILD = "rebuild"
    COPY = "copy"
    CHECK = "check"
    INITIALIZE = "initialize"
    OTHER = "other"


@dataclass(frozen=True)
class Use:
    """One thing that a drive is used for; `position` in the volume, UNKNOWN where the server does not tell.

    bay  of STOOD_IN_FOR: the bay of the hot spare that is used in its place
    """

    kind: UseKind
    volume: str = ""
    volume_path: str = ""
    position: Maybe[int] = UNKNOWN
    bay: str = ""


@dataclass(frozen=True)
class Condition:
    """What a server says of a resource's trouble, in its own words; `message_id` of a message registry."""

    severity: Maybe[Health]
    message: str
    resolution: str = ""
    message_id: str = ""

    @property
    def kind(self) -> str:
        """The last part of the message id, such as "DriveOffline"; "" where it has none."""
        return self.message_id.rpartition(".")[2]


@dataclass(frozen=True)
class Drive:
    """A bay and what is seated there; sizes in bytes, rates in Gbit/s.

    bay, enclosure  the bay's label, and the chassis that it is in: a label may stand in two of them
    present     whether a drive is seated; UNKNOWN where the server does not tell
    wwn         its durable name (NAA, EUI), as the server tells it
    indicator   the bay's LED pattern, by its SFF-8489 name as Redfish `StatusIndicator` spells it
    media_life  per cent that are left of what may be written
    unreadable  ranges of the drive that cannot be read, bytes from its start
    content     what a drive that is in no use seems to hold: "" for nothing
    located     its identify LED is on
    volumes     paths of the volumes that its own resource names
    hours_path  where its metrics are read, "" where the server has none
    spare       it is a hot spare; `dedicated`: for certain volumes only, `spare_for` their paths where they are told;
                `spare_reverts`: it stands by again afterwards
    told        of facts that may come from several places: where each of them came from
    """

    bay: str
    path: str
    enclosure: str = ""
    controller: str = ""
    present: Maybe[bool] = True
    serial: Maybe[str] = UNKNOWN
    wwn: Maybe[str] = UNKNOWN
    vendor: Maybe[str] = UNKNOWN
    model: Maybe[str] = UNKNOWN
    part: Maybe[str] = UNKNOWN
    size: Maybe[int] = UNKNOWN
    media: Maybe[str] = UNKNOWN
    protocol: Maybe[str] = UNKNOWN
    rpm: Maybe[int] = UNKNOWN
    sector: Maybe[int] = UNKNOWN
    firmware: Maybe[str] = UNKNOWN
    state: Maybe[str] = UNKNOWN
    health: Maybe[Health] = UNKNOWN
    rollup: Maybe[Health] = UNKNOWN
    indicator: Maybe[str] = UNKNOWN
    predicted: Maybe[bool] = UNKNOWN
    media_life: Maybe[float] = UNKNOWN
    unreadable: Maybe[tuple[Range, ...]] = UNKNOWN
    conditions: tuple[Condition, ...] = ()
    content: Maybe[str] = UNKNOWN
    uses: tuple[Use, ...] = ()
    spare: Maybe[bool] = UNKNOWN
    dedicated: Maybe[bool] = UNKNOWN
    spare_for: tuple[str, ...] = ()
    spare_reverts: Maybe[bool] = UNKNOWN
    celsius: Maybe[float] = UNKNOWN
    gbps: Maybe[float] = UNKNOWN
    best_gbps: Maybe[float] = UNKNOWN
    slowed: Maybe[float] = UNKNOWN
    link_losses: Maybe[int] = UNKNOWN
    located: Maybe[bool] = UNKNOWN
    volumes: tuple[str, ...] = ()
    hours_path: str = ""
    told: dict[str, str] = field(default_factory=dict)

    @property
    def seated(self) -> bool:
        """Whether a drive is known, or may be thought, to be there."""
        return self.present is not False

    @property
    def durable(self) -> Maybe[str]:
        """What tells this drive from every other one: its WWN, else serial number and model."""
        if self.wwn is not UNKNOWN:
            return self.wwn
        return UNKNOWN if self.serial is UNKNOWN else f"{known(self.model, '')} {self.serial}".strip()

    @property
    def place(self) -> tuple[str, str]:
        """Which bay it is: enclosure and label."""
        return self.enclosure, self.bay

    @property
    def free(self) -> bool:
        """Whether a drive is seated and nothing is known to use it."""
        return self.present is True and not self.uses

    def used_as(self, *kinds: UseKind) -> tuple[Use, ...]:
        """Its uses of these kinds."""
        return tuple(u for u in self.uses if u.kind in kinds)

    @property
    def stands_by(self) -> bool:
        """A hot spare that stands by: it is one, and is a member of nothing."""
        return bool(self.used_as(UseKind.GLOBAL_SPARE, UseKind.DEDICATED_SPARE)) and not self.used_as(
            UseKind.MEMBER, UseKind.COPY_TARGET
        )

    def same_as(self, other: Drive) -> bool:
        """Whether two views show one drive: by their durable names, both told."""
        return self.durable is not UNKNOWN and self.durable == other.durable


@dataclass(frozen=True)
class Seat:
    """A member place of a volume.

    drive      the path of the bay whose drive stands there, "" where no bay of this server is known to hold it
    bay        that bay's label, or where the drive was seated last
    stands_in  where a hot spare stands there: the bay whose drive it stands in for; else ""
    current    of a missing member: whether its content was up to date when it went away
    done       of a rebuilding member: bytes of its data area that are complete
    """

    position: int
    bay: str
    serial: Maybe[str]
    state: Maybe[SeatState]
    drive: str = ""
    span: int = 0
    stands_in: str = ""
    current: Maybe[bool] = UNKNOWN
    done: Maybe[int] = UNKNOWN


@dataclass(frozen=True)
class Operation:
    """Work on a volume; bytes of the member where the server tells them; it may wait for other work.

    source, target  the bays that are read from and written to, by label, where the work has them
    method          of an initialization: "foreground" or "background"
    word            what the server calls it, for kinds that have no name here
    """

    kind: WorkKind
    volume: str
    volume_path: str = ""
    position: Maybe[int] = UNKNOWN
    source: Maybe[str] = UNKNOWN
    target: Maybe[str] = UNKNOWN
    method: Maybe[str] = UNKNOWN
    percent: Maybe[float] = UNKNOWN
    done: Maybe[int] = UNKNOWN
    total: Maybe[int] = UNKNOWN
    waits: Maybe[bool] = UNKNOWN
    word: str = ""

    @property
    def key(self) -> tuple[str, ...]:
        """Which work it is, from one look to the next."""
        return self.volume_path or self.volume, self.kind, str(self.position), str(self.source), str(self.target)


CACHE_WORDS = {
    "ReadAhead": "ahead", "AdaptiveReadAhead": "adaptive", "WriteThrough": "through",
    "ProtectedWriteBack": "protected-back", "UnprotectedWriteBack": "unprotected-back", "Off": "off",
}  # fmt: skip
"""Cache policies of Redfish volumes in the words of the command line."""


@dataclass(frozen=True)
class Volume:
    """A volume as its server describes it. Seats span by span, by position where `ordered`.

    level         canonical (`RAID5`, `SPAN`), UNKNOWN where neither `RAIDType` nor `VolumeType` tells
    ordered       whether the server tells the members' order and their states; else the seats are those drives that
                  it links, and more may be missing
    start, extent where the data area begins on the members, and how long it is
    lost          ranges of the volume that its controller can neither read nor compute
    inconsistent  ranges of the volume in which a check found that copies or parity do not agree, not yet repaired
    acknowledged  those of `inconsistent` that a person has seen and accepted
    found, found_size  whether the system's own firmware found it at the last start, and with how many bytes
    boots         it is first in the boot order
    spares        paths of the drives that are dedicated to it
    told          where level, seats and name came from
    """

    name: str
    path: str
    level: Maybe[str] = UNKNOWN
    size: Maybe[int] = UNKNOWN
    controller: str = ""
    strip: Maybe[int] = UNKNOWN
    rotation: str | None = None
    data: str | None = None
    q_place: str | None = None
    q_exponent: str | None = None
    spans: int = 1
    copies: int = 1
    state: Maybe[str] = UNKNOWN
    health: Maybe[Health] = UNKNOWN
    rollup: Maybe[Health] = UNKNOWN
    seats: tuple[Seat, ...] = ()
    work: tuple[Operation, ...] = ()
    content: Maybe[str] = UNKNOWN
    etag: str | None = None
    ordered: bool = True
    start: Maybe[int] = UNKNOWN
    extent: Maybe[int] = UNKNOWN
    lost: tuple[Range, ...] = ()
    inconsistent: tuple[Range, ...] = ()
    acknowledged: tuple[Range, ...] = ()
    conditions: tuple[Condition, ...] = ()
    read_cache: Maybe[str] = UNKNOWN
    write_cache: Maybe[str] = UNKNOWN
    found: Maybe[bool] = UNKNOWN
    found_size: Maybe[int] = UNKNOWN
    boots: Maybe[bool] = UNKNOWN
    wwn: Maybe[str] = UNKNOWN
    sector: Maybe[int] = UNKNOWN
    spares: tuple[str, ...] = ()
    told: dict[str, str] = field(default_factory=dict)

    @property
    def key(self) -> str:
        """Which volume it is: its path; two may have one name. A planned one has none yet."""
        return self.path or f"{self.controller}/{self.name}"

    def at(self, drive: Drive) -> tuple[Seat, ...]:
        """The seats whose member is the drive in a bay: by the bay's path, else by its serial number."""
        mine = tuple(s for s in self.seats if s.drive and s.drive == drive.path)
        return mine or tuple(s for s in self.seats if not s.drive and s.serial == drive.serial)

    def homes(self, drive: Drive) -> tuple[Seat, ...]:
        """The seats whose place is this bay although another drive, or none, stands there."""
        return tuple(
            s
            for s in self.seats
            if (s.stands_in and s.stands_in == drive.bay)
            or (s.state is SeatState.MISSING and s.bay == drive.bay and not s.drive)
        )


@dataclass(frozen=True)
class BootOption:
    """Something the server can be started from; `volume`: the path of the volume it is, "" for anything else;
    `uefi_path`: where its firmware finds it, "" where that is not told."""

    reference: str
    shown: str
    volume: str
    uefi_path: str = ""


@dataclass(frozen=True)
class FoundSeat:
    """One position of a found volume: `state` is "current", "stale", "incomplete" or "missing"; `bay` "" then."""

    position: int
    bay: str
    serial: str
    state: str


@dataclass(frozen=True)
class FoundVolume:
    """A volume that seated drives describe and their controller does not know.

    margin   what it would be after the import; None when it cannot be imported: `trouble` says why, `advice` what to do
    written  when the newest of its records was written, by the clock of who wrote it
    """

    name: str
    guid: str
    level: str
    size: int | None
    writer: str
    written: str
    margin: int | None
    trouble: str
    advice: str
    members: tuple[FoundSeat, ...]
    controller: str
    path: str


@dataclass(frozen=True)
class Controller:
    """A controller. `rates` in per cent of the drives' rate.

    replacement         "automatic" or "by-hand": whether a blank drive in a failed bay is taken by itself
    copy_on_prediction  whether a drive that predicts its failure is copied to a hot spare by itself
    offers_volumes      whether its storage has volumes; else its drives are presented one by one
    volumes_read        whether all of them could be read
    """

    id: str
    path: str = ""
    name: Maybe[str] = UNKNOWN
    serial: Maybe[str] = UNKNOWN
    firmware: Maybe[str] = UNKNOWN
    state: Maybe[str] = UNKNOWN
    health: Maybe[Health] = UNKNOWN
    rollup: Maybe[Health] = UNKNOWN
    conditions: tuple[Condition, ...] = ()
    levels: tuple[str, ...] = ()
    rebuild_rate: Maybe[int] = UNKNOWN
    check_rate: Maybe[int] = UNKNOWN
    replacement: Maybe[str] = UNKNOWN
    copy_on_prediction: Maybe[bool] = UNKNOWN
    offers_volumes: bool = True
    volumes_read: bool = True


class PartKind(StrEnum):
    """Resources of a server that have a health of their own, besides drives, volumes and controllers."""

    SYSTEM = "system"
    CHASSIS = "chassis"
    STORAGE = "storage"
    MANAGER = "manager"
    CACHE = "cache"
    BATTERY = "battery"


@dataclass(frozen=True)
class Part:
    """A part of the server, as far as its health goes; `controller`: of a cache or a battery, whose it is."""

    kind: PartKind
    name: str
    path: str
    state: Maybe[str] = UNKNOWN
    health: Maybe[Health] = UNKNOWN
    rollup: Maybe[Health] = UNKNOWN
    conditions: tuple[Condition, ...] = ()
    controller: str = ""

    @property
    def gone(self) -> bool:
        """Whether it says itself that it does not work: it is away, or switched off."""
        return known(self.state, "") in ("Absent", "Disabled", "UnavailableOffline")


@dataclass(frozen=True)
class Gap:
    """A resource that could not be read, and why (HTTP status; 0 where no answer came)."""

    path: str
    status: int
    reason: str
