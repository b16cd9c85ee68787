"""Building: volumes planned, shown and made. The plan is what the preview prints and what is sent."""

from __future__ import annotations

from dataclasses import dataclass

from ..core.arrays.geometry import geometry
from ..core.arrays.margin import margin
from ..core.units import decimal_size
from ..redfish.client import Body, Client
from ..redfish.names import OEM
from .survey import DriveView, Survey, VolumeView, WorkError, find, survey


@dataclass(frozen=True)
class VolumeWish:
    """What a person asked for; strip in bytes, `bays` in the order of the members."""

    name: str
    level: str
    bays: tuple[str, ...]
    strip: int
    rotation: str | None = None
    data: str | None = None
    mixed: bool = False


@dataclass(frozen=True)
class VolumePlan:
    """What will be made: the drives in order, the usable size (an estimate until it stands), the request.

    lost      what is on the drives now, a line per drive that is not known to be blank
    warnings  what a careful colleague would say
    """

    wish: VolumeWish
    level: str
    drives: tuple[DriveView, ...]
    size: int
    margin: int
    lost: tuple[str, ...]
    warnings: tuple[str, ...]
    path: str
    body: Body


def plan_volume(client: Client, wish: VolumeWish) -> VolumePlan:
    """Check a wish against the server, changing nothing. Raises WorkError, GeometryError."""
    seen = survey(client)
    drives = tuple(_pick(seen, bay) for bay in wish.bays)
    for bay in wish.bays:
        if wish.bays.count(bay) > 1:
            raise WorkError(what=f"bay {bay} is named twice", to_do="name every drive once")
    if any(v.name == wish.name for v in seen.volumes):
        raise WorkError(what=f"{seen.server}: there is a volume {wish.name} already", to_do="choose another name")
    least = min(d.size for d in drives) if drives else wish.strip
    extent = least // wish.strip * wish.strip
    made = geometry(wish.level, len(drives), wish.strip, member_bytes=extent, rotation=wish.rotation, data=wish.data)
    _check_alike(drives, wish.mixed)
    ours = {"Rotation": made.layout.rotation, "DataOrder": made.layout.data, "AllowUnlikeDrives": wish.mixed}
    paths = find(client)
    return VolumePlan(
        wish=wish,
        level=made.layout.level,
        drives=drives,
        size=made.volume_bytes,
        margin=margin(made.pattern, []),
        lost=tuple(f"bay {d.bay}, {d.serial}: {_content(d)}" for d in drives if d.content != ""),
        warnings=tuple(_warnings(drives, least)),
        path=paths.volumes,
        body={
            "DisplayName": wish.name,
            "RAIDType": made.layout.level,
            "StripSizeBytes": wish.strip,
            "Links": {"Drives": [{"@odata.id": d.path} for d in drives]},
            "Oem": {OEM: ours},
        },
    )


def add_volume(client: Client, plan: VolumePlan) -> VolumeView:
    """Make the planned volume and read it back."""
    client.post(plan.path, plan.body)
    return survey(client).volume(plan.wish.name)


def remove_volume(client: Client, volume: VolumeView) -> None:
    """Delete a volume, if it is still as it was seen."""
    client.delete(volume.path, volume.etag)


def start_rebuild(client: Client, name: str, bay: str) -> VolumeView:
    """Ask the controller to rebuild a volume's lost member onto the drive in a bay."""
    seen = survey(client)
    volume, drive = seen.volume(name), seen.bay(bay)
    target = (client.get(volume.path).get("Actions") or {}).get("Oem", {}).get(f"#{OEM}.Rebuild", {}).get("target")
    if not target:
        what = f"{seen.server}: this server does not take a rebuild by hand"
        raise WorkError(what=what, to_do="seat a fitting blank drive in the failed bay; it starts by itself")
    client.post(target, {"Drive": {"@odata.id": drive.path}})
    return survey(client).volume(name)


def check_serials(expected: list[str], drives: list[str]) -> None:
    """Compare the serial numbers a script expects with those that are there. Raises WorkError."""
    if sorted(expected) != sorted(drives):
        what = f"the drives are {', '.join(drives)}, expected {', '.join(expected)}"
        raise WorkError(what=what, to_do="nothing was changed; check which drives are meant")


def _pick(seen: Survey, bay: str) -> DriveView:
    drive = seen.bay(bay)
    if drive.state == "Absent":
        raise WorkError(what=f"bay {bay} is empty", to_do="seat a drive there, or name another bay")
    if drive.health == "Critical":
        raise WorkError(what=f"bay {bay}: drive {drive.serial} has failed", to_do="replace it, or choose another")
    if drive.use != "unassigned":
        free = ", ".join(d.bay for d in seen.drives if d.use == "unassigned" and d.health == "OK") or "none"
        raise WorkError(what=f"bay {bay}: drive {drive.serial} is {drive.use}", to_do=f"unassigned bays: {free}")
    return drive


def _check_alike(drives: tuple[DriveView, ...], mixed: bool) -> None:
    for what, values in (("media", [d.media for d in drives]), ("sector size", [str(d.sector) for d in drives])):
        if len(set(values)) > 1 and not mixed:
            listed = ", ".join(f"bay {d.bay} {value}" for d, value in zip(drives, values, strict=True))
            to_do = "choose drives that are alike, or allow it with --mixed"
            raise WorkError(what=f"the drives differ in {what}: {listed}", to_do=to_do)


def _warnings(drives: tuple[DriveView, ...], least: int) -> list[str]:
    found = [
        f"bay {d.bay} holds {decimal_size(d.size)}; {decimal_size(d.size - least)} of it stay unused"
        for d in drives
        if d.size > least
    ]
    media = sorted({d.media for d in drives})
    if len(media) > 1:
        found.append(f"{' and '.join(media)} in one volume: the slower drives set the pace")
    return found


def _content(drive: DriveView) -> str:
    return drive.content if drive.content is not None else "contents unknown, the server cannot say"
