"""Building: volumes planned, shown and made. The plan is what the preview prints and what is sent."""

from __future__ import annotations

from dataclasses import dataclass

from ..core.arrays.geometry import geometry
from ..core.arrays.margin import margin
from ..core.units import decimal_size
from ..redfish.client import Body, Client
from ..redfish.names import OEM
from .survey import find, survey
from .views import DriveView, Survey, VolumeView, WorkError


@dataclass(frozen=True)
class VolumeWish:
    """What a person asked for; sizes in bytes, `bays` in the order of the members, spans one after the other.

    size     of the volume; None for all that the drives hold
    copies   members of one mirror of RAID 10
    initialize  "fast", "foreground" or "background"
    """

    name: str
    level: str
    bays: tuple[str, ...]
    strip: int
    rotation: str | None = None
    data: str | None = None
    mixed: bool = False
    size: int | None = None
    spans: int | None = None
    copies: int | None = None
    q_place: str | None = None
    q_exponent: str | None = None
    initialize: str = "fast"


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
    spans: int
    lost: tuple[str, ...]
    warnings: tuple[str, ...]
    path: str
    body: Body


def plan_volume(client: Client, wish: VolumeWish) -> VolumePlan:
    """Check a wish against the server, changing nothing. Raises WorkError, GeometryError."""
    seen = survey(client)
    drives = tuple(_pick(seen, bay, wish.bays) for bay in wish.bays)
    for bay in wish.bays:
        if wish.bays.count(bay) > 1:
            raise WorkError(what=f"bay {bay} is named twice", to_do="name every drive once")
    if any(v.name == wish.name for v in seen.volumes):
        raise WorkError(what=f"{seen.server}: there is a volume {wish.name} already", to_do="choose another name")
    least = min(d.size for d in drives) if drives else wish.strip
    extent = least // wish.strip * wish.strip
    made = geometry(
        wish.level, len(drives), wish.strip, member_bytes=extent, rotation=wish.rotation, data=wish.data,
        spans=wish.spans, copies=wish.copies, q_place=wish.q_place, q_exponent=wish.q_exponent,
    )  # fmt: skip
    _check_alike(drives, wish.mixed)
    if wish.size is not None and not 0 < wish.size <= made.volume_bytes:
        room = f"these drives hold about {decimal_size(made.volume_bytes)} as {made.layout.level}"
        raise WorkError(what=f"{room}, {decimal_size(wish.size)} are wanted", to_do="ask for less, or use more drives")
    chosen = made.layout
    ours: Body = {"Rotation": chosen.rotation, "DataOrder": chosen.data, "AllowUnlikeDrives": wish.mixed}
    if chosen.q_place:
        ours |= {"QPlace": chosen.q_place, "QExponent": chosen.q_exponent}
    if wish.copies:
        ours["MirrorMembers"] = wish.copies
    paths = find(client)
    return VolumePlan(
        wish=wish,
        level=chosen.level,
        drives=drives,
        size=min(made.volume_bytes, wish.size or made.volume_bytes),
        margin=margin(made.pattern, []),
        spans=chosen.spans,
        lost=tuple(f"bay {d.bay}, {d.serial}: {_content(d)}" for d in drives if _would_lose(d)),
        warnings=tuple(_warnings(drives, least)),
        path=paths.volumes,
        body={
            "DisplayName": wish.name,
            "RAIDType": chosen.level if chosen.level != "SPAN" else "None",
            "StripSizeBytes": wish.strip,
            **({"InitializeMethod": wish.initialize.capitalize()} if wish.initialize != "fast" else {}),
            **({"CapacityBytes": wish.size} if wish.size else {}),
            **({"MediaSpanCount": chosen.spans} if chosen.spans > 1 else {}),
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


def initialize(client: Client, name: str, method: str) -> VolumeView:
    """Begin to initialize a volume: "fast", "foreground" (both lose what it holds) or "background"."""
    seen = survey(client)
    volume = seen.volume(name)
    action = (client.get(volume.path).get("Actions") or {}).get("#Volume.Initialize", {}).get("target")
    if not action:
        raise WorkError(what=f"{seen.server}: this server offers no initialization", to_do="its own console may")
    body = {"InitializeType": "Fast"} if method == "fast" else {"InitializeType": "Slow"}
    client.post(action, body | ({} if method == "fast" else {"InitializeMethod": method.capitalize()}))
    return survey(client).volume(name)


def start_check(client: Client, name: str, repair: bool) -> VolumeView:
    """Begin a consistency check of a volume; with `repair` (where the server takes it) it mends what it finds."""
    seen = survey(client)
    volume = seen.volume(name)
    action = (client.get(volume.path).get("Actions") or {}).get("#Volume.CheckConsistency", {}).get("target")
    if not action:
        what = f"{seen.server}: this server offers no consistency check"
        raise WorkError(what=what, to_do="its own console may")
    client.post(action, {"Oem": {OEM: {"Repair": True}}} if repair else {})
    return survey(client).volume(name)


def add_spare(client: Client, bay: str, names: tuple[str, ...], revertible: bool) -> DriveView:
    """Make the drive in a bay a hot spare, for the named volumes or for any."""
    seen = survey(client)
    drive = _pick(seen, bay, ())
    serves = [{"@odata.id": seen.volume(name).path} for name in names]
    body: Body = {
        "HotspareType": "Dedicated" if names else "Global",
        "HotspareReplacementMode": "Revertible" if revertible else "NonRevertible",
        **({"Oem": {OEM: {"SpareFor": serves}}} if serves else {}),
    }
    client.patch(drive.path, body)
    return survey(client).bay(bay)


def remove_spare(client: Client, bay: str) -> DriveView:
    """Make a standby spare an unassigned drive again."""
    client.patch(survey(client).bay(bay).path, {"HotspareType": "None"})
    return survey(client).bay(bay)


def check_serials(expected: list[str], drives: list[str]) -> None:
    """Compare the serial numbers a script expects with those that are there. Raises WorkError."""
    if sorted(expected) != sorted(drives):
        what = f"the drives are {', '.join(drives)}, expected {', '.join(expected)}"
        raise WorkError(what=what, to_do="nothing was changed; check which drives are meant")


def _pick(seen: Survey, bay: str, bays: tuple[str, ...]) -> DriveView:
    """The drive in a bay if it can be used; members of volumes on exactly these bays may be shared."""
    drive = seen.bay(bay)
    if drive.state == "Absent":
        raise WorkError(what=f"bay {bay} is empty", to_do="seat a drive there, or name another bay")
    if drive.health == "Critical":
        raise WorkError(what=f"bay {bay}: drive {drive.serial} has failed", to_do="replace it, or choose another")
    mine = [v for v in seen.volumes if any(m.serial == drive.serial and m.state != "lost" for m in v.members)]
    shared = bool(mine) and all({m.bay for m in v.members} == set(bays) for v in mine)
    if drive.use != "unassigned" and not shared:
        free = ", ".join(d.bay for d in seen.drives if d.use == "unassigned" and d.health == "OK") or "none"
        raise WorkError(what=f"bay {bay}: drive {drive.serial} is {drive.use}", to_do=f"unassigned bays: {free}")
    return drive


def _would_lose(drive: DriveView) -> bool:
    """Whether something on an unassigned drive will be overwritten; volumes that share a drive stay."""
    return drive.content != "" and not drive.use.startswith("member")


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
