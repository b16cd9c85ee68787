"""What a server's storage looks like, as values: drives, volumes, controllers, findings, and the survey of them all."""

from __future__ import annotations

from dataclasses import dataclass, field

from ..core.errors import StripeError


class WorkError(StripeError):
    """A job that cannot be done as asked."""

    template = "{what}"
    remedy = "{to_do}"


@dataclass(frozen=True)
class DriveView:
    """A bay and what is seated there. Without a drive `serial` is "" and `state` "Absent"; sizes in bytes.

    use      "empty", "unassigned", "member N of VOLUME", "was member N of VOLUME" for one that failed,
             or "hot spare, ..."
    content  what an unassigned drive seems to hold: "" for nothing, None where the server cannot say
    led      the bay's LED pattern, by its SFF-8489 name as Redfish `StatusIndicator` spells it
    """

    bay: str
    serial: str
    vendor: str
    model: str
    part: str
    size: int
    media: str
    protocol: str
    rpm: int | None
    sector: int | None
    firmware: str
    state: str
    health: str
    use: str
    content: str | None
    led: str
    why: str
    path: str
    predicted: bool = False
    unreadable: int = 0
    spare: str = ""


@dataclass(frozen=True)
class MemberView:
    """One position of a volume: `state` is "active", "lost" or "rebuilding".

    stands_in  where a hot spare stands there: the bay whose drive it stands in for; else ""
    """

    position: int
    bay: str
    serial: str
    state: str
    stands_in: str = ""


@dataclass(frozen=True)
class Work:
    """Work on a volume; bytes of the member where the server tells them, else None; it may wait for other work."""

    volume: str
    name: str
    percent: float
    done: int | None
    total: int | None
    waits: bool = False


@dataclass(frozen=True)
class VolumeView:
    """A volume; `margin` is None where it cannot be told, -1 when data are lost. Members span by span."""

    name: str
    level: str
    size: int
    strip: int | None
    rotation: str | None
    data: str | None
    state: str
    health: str
    margin: int | None
    members: tuple[MemberView, ...]
    work: tuple[Work, ...]
    content: str | None
    path: str
    etag: str | None
    spans: int = 1
    q: str | None = None


@dataclass(frozen=True)
class ControllerView:
    id: str
    name: str
    serial: str
    firmware: str
    state: str
    health: str
    levels: tuple[str, ...]


@dataclass(frozen=True)
class Finding:
    """Something that needs attention: how bad ("Warning", "Critical"), where, what, what to do."""

    severity: str
    where: str
    what: str
    to_do: str


@dataclass(frozen=True)
class Survey:
    """A server as it was at `time` (ISO 8601, its own clock). `panel`: rows of bay labels from the top left."""

    server: str
    maker: str
    model: str
    serial: str
    firmware: str
    power: str
    time: str
    controllers: tuple[ControllerView, ...]
    drives: tuple[DriveView, ...]
    volumes: tuple[VolumeView, ...]
    panel: tuple[tuple[str, ...], ...]
    findings: tuple[Finding, ...] = field(default=())

    def volume(self, name: str) -> VolumeView:
        """The volume with this name. Raises WorkError naming those there are."""
        for volume in self.volumes:
            if volume.name == name:
                return volume
        known = ", ".join(v.name for v in self.volumes) or "none yet"
        raise WorkError(what=f"{self.server}: there is no volume {name}", to_do=f"volumes here: {known}")

    def bay(self, label: str) -> DriveView:
        """The bay with this label. Raises WorkError naming those there are."""
        for drive in self.drives:
            if drive.bay == label:
                return drive
        known = ", ".join(d.bay for d in self.drives)
        raise WorkError(what=f"{self.server}: there is no bay {label}", to_do=f"bays here: {known}")
