"""Building: volumes planned, shown and made. The plan is what the preview prints and what is sent."""

from __future__ import annotations

from dataclasses import dataclass

from ..core.arrays.geometry import geometry
from ..core.arrays.margin import margin
from ..core.units import decimal_size
from ..redfish.client import AnswerLost, Body, Client, RedfishError
from ..redfish.names import OEM
from .survey import find, survey
from .views import ControllerView, DriveView, ForeignView, Survey, VolumeView, WorkError


@dataclass(frozen=True)
class VolumeWish:
    """What a person asked for; sizes in bytes, `bays` in the order of the members, spans one after the other.

    size     of the volume; None for all that the drives hold
    copies   members of one mirror of RAID 10
    initialize  "fast", "foreground" or "background"
    controller  the one it is to be made at, where the person said so: the bays must be its
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
    controller: str | None = None


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
    controller: str


def plan_volume(client: Client, wish: VolumeWish) -> VolumePlan:
    """Check a wish against the server, changing nothing. Raises WorkError, GeometryError."""
    seen = survey(client)
    drives = tuple(_pick(seen, bay, wish.bays) for bay in wish.bays)
    for bay in wish.bays:
        if wish.bays.count(bay) > 1:
            raise WorkError(what=f"bay {bay} is named twice", to_do="name every drive once")
    controller = _controller_of(seen, drives, wish.controller)
    if any(v.name == wish.name for v in seen.volumes if v.controller == controller):
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
        path=paths.volumes(controller),
        controller=controller,
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
    """Make the planned volume and read it back. Where the answer was lost it is looked for, never asked for twice."""
    try:
        client.post(plan.path, plan.body)
    except AnswerLost:
        if not any(v.key == (plan.controller, plan.wish.name) for v in survey(client).volumes):
            raise
    return survey(client).volume(plan.wish.name, plan.controller)


def remove_volume(client: Client, volume: VolumeView) -> None:
    """Delete a volume, if it is still as it was seen; progress of work on it does not count.

    Raises WorkError when its members or what it holds have changed meanwhile.
    """
    for _attempt in range(3):
        try:
            client.delete(volume.path, volume.etag)
            return
        except RedfishError as reason:
            now = survey(client).volume(*reversed(volume.key)) if reason.facts["status"] == 412 else None
            if now is None:
                raise
            if (now.members, now.size, now.content) != (volume.members, volume.size, volume.content):
                what = f"volume {volume.name} has changed since it was shown"
                raise WorkError(what=what, to_do="look at it again, then decide; nothing was removed") from reason
            volume = now
    raise WorkError(what=f"volume {volume.name} changes all the time", to_do="wait until its work is done (`watch`)")


def start_rebuild(client: Client, name: str, bay: str, controller: str | None = None) -> VolumeView:
    """Ask the controller to rebuild a volume's lost member onto the drive in a bay."""
    seen = survey(client)
    volume, drive = seen.volume(name, controller), seen.bay(bay)
    target = (client.get(volume.path).get("Actions") or {}).get("Oem", {}).get(f"#{OEM}.Rebuild", {}).get("target")
    if not target:
        what = f"{seen.server}: this server does not take a rebuild by hand"
        raise WorkError(what=what, to_do="seat a fitting blank drive in the failed bay; it starts by itself")
    client.post(target, {"Drive": {"@odata.id": drive.path}})
    return survey(client).volume(*reversed(volume.key))


def initialize(client: Client, name: str, method: str, controller: str | None = None) -> VolumeView:
    """Begin to initialize a volume: "fast", "foreground" (both lose what it holds) or "background"."""
    seen = survey(client)
    volume = seen.volume(name, controller)
    action = (client.get(volume.path).get("Actions") or {}).get("#Volume.Initialize", {}).get("target")
    if not action:
        raise WorkError(what=f"{seen.server}: this server offers no initialization", to_do="its own console may")
    body = {"InitializeType": "Fast"} if method == "fast" else {"InitializeType": "Slow"}
    client.post(action, body | ({} if method == "fast" else {"InitializeMethod": method.capitalize()}))
    return survey(client).volume(*reversed(volume.key))


def start_check(client: Client, name: str, repair: bool, controller: str | None = None) -> VolumeView:
    """Begin a consistency check of a volume; with `repair` (where the server takes it) it mends what it finds."""
    seen = survey(client)
    volume = seen.volume(name, controller)
    action = (client.get(volume.path).get("Actions") or {}).get("#Volume.CheckConsistency", {}).get("target")
    if not action:
        what = f"{seen.server}: this server offers no consistency check"
        raise WorkError(what=what, to_do="its own console may")
    client.post(action, {"Oem": {OEM: {"Repair": True}}} if repair else {})
    return survey(client).volume(*reversed(volume.key))


def add_spare(client: Client, bay: str, names: tuple[str, ...], revertible: bool) -> DriveView:
    """Make the drive in a bay a hot spare, for the named volumes or for any."""
    seen = survey(client)
    drive = _pick(seen, bay, ())
    serves = [{"@odata.id": seen.volume(name, drive.controller).path} for name in names]
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


def import_foreign(client: Client, foreign: ForeignView, new_name: str | None) -> VolumeView:
    """Take a foreign volume over, with all that shares drives with it, and read it back."""
    body = {"Volume": foreign.guid} | ({"NewName": new_name} if new_name else {})
    client.post(_foreign_action(client, foreign, "Import"), body)
    return survey(client).volume(new_name or foreign.name, foreign.controller)


def clear_foreign(client: Client, foreign: ForeignView) -> None:
    """Remove a foreign volume's set-up from its drives, and that of all that shares drives with it."""
    client.post(_foreign_action(client, foreign, "ClearForeign"), {"Volume": foreign.guid})


def _foreign_action(client: Client, foreign: ForeignView, name: str) -> str:
    actions = (client.get(foreign.path).get("Actions") or {}).get("Oem") or {}
    return str(actions[f"#{OEM}.{name}"]["target"])  # it stands beside the list that the view came from


def with_company(seen: Survey, foreign: ForeignView) -> list[ForeignView]:
    """A foreign volume, and those whose drives it shares: they can only be imported or cleared together."""
    group, bays = [foreign], {m.bay for m in foreign.members if m.bay}
    while more := [f for f in seen.foreign if f not in group and bays & {m.bay for m in f.members}]:
        group += more
        bays |= {m.bay for f in more for m in f.members if m.bay}
    return group


def set_controller(client: Client, controller: ControllerView, **settings: int | str | bool | None) -> ControllerView:
    """Change a controller's rates and habits (the names are those of `ControllerView`), and read it back."""
    rates = {"RebuildRatePercent": "rebuild_rate", "ConsistencyCheckRatePercent": "check_rate"}
    habits = {"Replacement": "replacement", "CopyOnPrediction": "copy_on_prediction"}
    asked, ours = (
        {name: value for name, key in part.items() if (value := settings.get(key)) is not None}
        for part in (rates, habits)
    )
    client.patch(controller.path, {"ControllerRates": asked, "Oem": {OEM: ours}})
    return survey(client).controller(controller.id)


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


def _controller_of(seen: Survey, drives: tuple[DriveView, ...], wanted: str | None) -> str:
    """The one controller that all bays belong to: a volume cannot span two."""
    found = sorted({d.controller for d in drives})
    if wanted is not None:
        seen.controller(wanted)
    if len(found) > 1 or (wanted is not None and found != [wanted]):
        listed = ", ".join(f"bay {d.bay} at {d.controller}" for d in drives)
        what = f"these bays belong to {' and '.join(found)}" if len(found) > 1 else f"these bays are not {wanted}'s"
        raise WorkError(what=f"{what}: {listed}", to_do="choose bays of one controller; `survey` lists them")
    return found[0]


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
