"""Survey: everything about a server's storage in one value, and what in it needs attention."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..core.arrays.layout import layout
from ..core.arrays.levels import LEVELS, GeometryError
from ..core.arrays.margin import margin
from ..redfish.client import Body, Client
from ..redfish.names import OEM
from .views import ControllerView, DriveView, Finding, MemberView, Survey, VolumeView, Work, WorkError


@dataclass(frozen=True)
class Paths:
    """Where the resources of the first system and its storage are, as the server links them."""

    system: Body
    storage: Body
    manager: Body

    @property
    def volumes(self) -> str:
        return str(self.storage["Volumes"]["@odata.id"])


def find(client: Client) -> Paths:
    """The system, its storage with volumes, and its manager. Raises WorkError where one is missing."""
    for system in client.members(_link(client.root, "Systems")):
        if "Storage" not in system:
            continue
        for storage in client.members(_link(system, "Storage")):
            if "Volumes" in storage:
                managers = system.get("Links", {}).get("ManagedBy", [])
                manager = client.get(managers[0]["@odata.id"]) if managers else {}
                return Paths(system, storage, manager)
    raise WorkError(what=f"{client.where}: no storage with volumes", to_do="is the controller in RAID mode?")


def survey(client: Client) -> Survey:
    """Read the whole server. Raises RedfishError, WorkError."""
    paths = find(client)
    system = paths.system
    controllers = [_controller(c) for c in client.members(_link(paths.storage, "Controllers"))]
    volumes = [_volume(v) for v in client.members(paths.volumes)]
    chassis = [client.get(link["@odata.id"]) for link in paths.storage.get("Links", {}).get("Enclosures", [])]
    bodies = _drives(client, paths.storage, chassis)
    by_path = {v.path: v for v in volumes}
    drives = [_drive(b, by_path) for b in bodies]
    made = Survey(
        server=str(system.get("Name") or system.get("Id")),
        maker=str(system.get("Manufacturer") or ""),
        model=str(system.get("Model") or ""),
        serial=str(system.get("SerialNumber") or ""),
        firmware=str(system.get("BiosVersion") or ""),
        power=str(system.get("PowerState") or ""),
        time=str(paths.manager.get("DateTime") or ""),
        controllers=tuple(controllers),
        drives=tuple(drives),
        volumes=tuple(_with_members(v, drives) for v in volumes),
        panel=_panel(chassis, drives),
    )
    return Survey(**{**made.__dict__, "findings": tuple(findings(made))})


def findings(seen: Survey) -> list[Finding]:
    """What needs attention, the worst first: what, how much more it can take, what to do."""
    found = []
    for volume in seen.volumes:
        lost = ", ".join(f"{m.position} (bay {m.bay}, {m.serial})" for m in volume.members if m.state == "lost")
        coming = ", ".join(f"{w.name}: {w.percent:.0f} %" for w in volume.work)
        where = f"volume {volume.name}"
        if volume.margin is not None and volume.margin < 0:
            what = f"failed: members {lost or 'unknown'} are lost, data cannot be read"
            found.append(Finding("Critical", where, what, "bring a lost member back as it was; build nothing new"))
        elif volume.health in ("OK", "") and any("initialization" in w.name for w in volume.work):
            foreground = any("foreground" in w.name for w in volume.work)
            what = (
                "cannot be used until it is initialized" if foreground else "parity does not cover it all yet, margin 0"
            )
            found.append(
                Finding("Warning", where, f"{what}; {coming}", "let it finish: `watch`; measure nothing until then")
            )
        elif volume.health not in ("OK", ""):
            left = "unknown" if volume.margin is None else f"{volume.margin}"
            takes = "no further failure" if volume.margin == 0 else f"{left} more"
            what = f"degraded, margin {left} (it survives {takes})"
            if lost:
                what += f"; lost: member {lost}"
            if coming:
                found.append(Finding("Warning", where, f"{what}; {coming}", "let it finish: `watch`; pull nothing"))
            else:
                found.append(Finding("Critical", where, what, "replace the lost member's drive"))
    for drive in seen.drives:
        if drive.predicted and drive.health != "Critical":
            moving = any(f"copy from bay {drive.bay} " in w.name for v in seen.volumes for w in v.work)
            what = f"drive {drive.serial} predicts its failure, {drive.use}"
            if moving:
                to_do = "leave it seated: its data are being copied off it (`watch`)"
            elif "member" in drive.use:
                to_do = "leave it seated; add a hot spare and its data are copied off it while it still works"
            else:
                to_do = "take it out: nothing is on it"
            found.append(Finding("Warning", f"bay {drive.bay}", what, to_do))
        elif drive.unreadable:
            what = f"drive {drive.serial} has {drive.unreadable} unreadable bytes"
            to_do = "check the volume (`volume check`): redundancy finds and mends them"
            found.append(Finding("Warning", f"bay {drive.bay}", what, to_do))
        elif drive.health not in ("OK", ""):
            what = f"drive {drive.serial} is {drive.health.lower()} ({drive.state})" + (
                f": {drive.why}" if drive.why else ""
            )
            found.append(Finding(drive.health, f"bay {drive.bay}", what, "replace it"))
    return sorted(found, key=lambda f: f.severity != "Critical")


def _link(body: Body, key: str) -> str:
    try:
        return str(body[key]["@odata.id"])
    except (KeyError, TypeError) as reason:
        what = f"{body.get('@odata.id', 'the server')} has no link {key}"
        raise WorkError(what=what, to_do="this server does not offer what the command needs") from reason


def _drives(client: Client, storage: Body, chassis: list[Body]) -> list[Body]:
    """The drives' resources: in one page over the chassis where that lists the same drives, else one by one."""
    wanted = [link["@odata.id"] for link in storage.get("Drives", [])]
    found: dict[str, Body] = {}
    for enclosure in chassis:
        if "Drives" in enclosure:
            found |= {body["@odata.id"]: body for body in client.members(_link(enclosure, "Drives"))}
    return [found[path] if path in found else client.get(path) for path in wanted]


def _panel(chassis: list[Body], drives: list[DriveView]) -> tuple[tuple[str, ...], ...]:
    rows = next((rows for c in chassis if (rows := _ours(c).get("Panel"))), [[d.bay for d in drives]])
    return tuple(tuple(str(bay) for bay in row) for row in rows)


def _ours(body: Body) -> dict[str, Any]:
    ours = (body.get("Oem") or {}).get(OEM)
    return ours if isinstance(ours, dict) else {}


def _status(body: Body) -> tuple[str, str]:
    status = body.get("Status") or {}
    return str(status.get("State") or ""), str(status.get("Health") or "")


def _controller(body: Body) -> ControllerView:
    state, health = _status(body)
    return ControllerView(
        id=str(body.get("Id")),
        name=str(body.get("Name") or body.get("Model") or ""),
        serial=str(body.get("SerialNumber") or ""),
        firmware=str(body.get("FirmwareVersion") or ""),
        state=state,
        health=health,
        levels=tuple(body.get("SupportedRAIDTypes") or ()),
    )


def _drive(body: Body, volumes: dict[str, VolumeView]) -> DriveView:
    state, health = _status(body)
    place = (body.get("PhysicalLocation") or {}).get("PartLocation") or {}
    serial = str(body.get("SerialNumber") or "")
    use = "empty" if state == "Absent" else "unassigned"
    for entry in (body.get("Links") or {}).get("Volumes") or []:
        volume = volumes.get(entry["@odata.id"])
        if volume:
            at = next((f"member {m.position} of" for m in volume.members if m.serial == serial), "member of")
            use = f"{at} {volume.name}"
    if use == "unassigned":
        use = next((f"was member {m.position} of {v.name}" for v, m in _lost(volumes) if m.serial == serial), use)
        if health == "Critical":
            bay = str(place.get("ServiceLabel") or "")
            use = next(
                (f"bay {m.bay} stands in for it" for v in volumes.values() for m in v.members if m.stands_in == bay),
                use,
            )
    kind = str(body.get("HotspareType") or "None")
    spare = ""
    if kind != "None":
        serves = [volumes[e["@odata.id"]].name for e in _ours(body).get("SpareFor") or [] if e["@odata.id"] in volumes]
        spare = f"dedicated to {', '.join(serves)}" if serves else kind.lower()
        if body.get("HotspareReplacementMode") == "NonRevertible":
            spare += ", not revertible"
        use = f"hot spare, {spare}" if use == "unassigned" else f"{use} (hot spare, {spare})"
    conditions = (body.get("Status") or {}).get("Conditions") or []
    return DriveView(
        bay=str(place.get("ServiceLabel") or body.get("Id")),
        serial=serial,
        vendor=str(body.get("Manufacturer") or ""),
        model=str(body.get("Model") or ""),
        part=str(body.get("PartNumber") or ""),
        size=int(body.get("CapacityBytes") or 0),
        media=str(body.get("MediaType") or ""),
        protocol=str(body.get("Protocol") or ""),
        rpm=body.get("RotationSpeedRPM"),
        sector=body.get("BlockSizeBytes"),
        firmware=str(body.get("Revision") or ""),
        state=state,
        health=health,
        use=use,
        content=_ours(body).get("Content"),
        led=str(body.get("StatusIndicator") or ""),
        why="; ".join(str(c.get("Message")) for c in conditions),
        path=str(body.get("@odata.id")),
        predicted=bool(body.get("FailurePredicted")),
        unreadable=int(_ours(body).get("UnreadableBytes") or 0),
        spare=spare,
    )


def _lost(volumes: dict[str, VolumeView]) -> list[tuple[VolumeView, MemberView]]:
    return [(v, m) for v in volumes.values() for m in v.members if m.state == "lost"]


def _volume(body: Body) -> VolumeView:
    state, health = _status(body)
    ours = _ours(body)
    name = str(body.get("DisplayName") or body.get("Name") or body.get("Id"))
    return VolumeView(
        name=name,
        level=str(ours.get("Level") or body.get("RAIDType") or ""),
        size=int(body.get("CapacityBytes") or 0),
        strip=body.get("StripSizeBytes"),
        rotation=ours.get("Rotation"),
        data=ours.get("DataOrder"),
        state=state,
        health=health,
        margin=ours["Margin"] if "Margin" in ours else _margin(body, health),
        members=tuple(
            MemberView(m["Position"], m["Bay"], m["SerialNumber"], m["State"], m.get("StandsInForBay") or "")
            for m in ours.get("Members", [])
        ),
        work=tuple(_work(name, op) for op in body.get("Operations") or []),
        content=ours.get("Content"),
        path=str(body.get("@odata.id")),
        etag=body.get("@odata.etag"),
        spans=int(body.get("MediaSpanCount") or 1),
        q=f"Q {ours['QPlace']}, {ours['QExponent']}" if ours.get("QPlace") else None,
    )


def _margin(body: Body, health: str) -> int | None:
    """The margin of a volume whose server does not state it: told only while everything is healthy."""
    level, members = body.get("RAIDType"), (body.get("Links") or {}).get("Drives") or []
    spans = body.get("MediaSpanCount") if level in LEVELS and LEVELS[level].inner else None
    if health != "OK" or level not in LEVELS:
        return None
    try:
        return margin(layout(level, len(members), spans=spans).pattern(), [])
    except GeometryError:
        return None


def _with_members(volume: VolumeView, drives: list[DriveView]) -> VolumeView:
    """Members from the drives' side, where the volume does not list its own; their order is unknown then."""
    if volume.members:
        return volume
    mine = [d for d in drives if d.use.endswith(f" of {volume.name}")]
    members = tuple(MemberView(i, d.bay, d.serial, "active") for i, d in enumerate(mine))
    return VolumeView(**{**volume.__dict__, "members": members})


def _work(volume: str, operation: Body) -> Work:
    ours = _ours(operation)
    done, total = ours.get("DoneBytes"), ours.get("TotalBytes")
    percent = 100 * done / total if done is not None and total else float(operation.get("PercentageComplete") or 0)
    name = str(operation.get("OperationName") or operation.get("Operation") or "work")
    return Work(volume, name, percent, done, total, ours.get("Waiting") is True)
