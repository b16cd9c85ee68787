"""Server: everything about a server's storage in one value, and what in it needs attention."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..core.arrays.layout import layout
from ..core.arrays.levels import LEVELS, GeometryError
from ..core.arrays.margin import margin
from ..core.server.model import (
    CACHE_WORDS,
    Controller,
    Drive,
    ForeignSeat,
    ForeignVolume,
    Operation,
    Seat,
    Server,
    Volume,
)
from ..redfish.client import Body, Client
from ..redfish.names import OEM
from .errors import WorkError
from .findings import findings
from .seen import as_seen


@dataclass(frozen=True)
class Paths:
    """Where the resources of the first system and its storage are, as the server links them."""

    system: Body
    storages: tuple[Body, ...]
    manager: Body

    def volumes(self, controller: str) -> str:
        """The path of a controller's volumes."""
        for storage in self.storages:
            if _id(storage) == controller and "Volumes" in storage:
                return str(storage["Volumes"]["@odata.id"])
        what = f"controller {controller} offers no volumes"
        raise WorkError(what=what, to_do="its firmware may have to be set to RAID: `firmware show`")


def find(client: Client) -> Paths:
    """The system, its storage with volumes, and its manager. Raises WorkError where one is missing."""
    for system in client.members(_link(client.root, "Systems")):
        if "Storage" not in system:
            continue
        storages = tuple(s for s in client.members(_link(system, "Storage")) if "Volumes" in s or "Drives" in s)
        if storages:
            managers = system.get("Links", {}).get("ManagedBy", [])
            manager = client.get(managers[0]["@odata.id"]) if managers else {}
            return Paths(system, storages, manager)
    raise WorkError(what=f"{client.where}: no storage with volumes", to_do="is the controller in RAID mode?")


def survey(client: Client, sight: bool = True) -> Server:
    """Read the whole server. Raises RedfishError, WorkError.

    sight  also what the system's own firmware sees of the volumes, which changes only as the server starts: those
           who look again and again do without
    """
    paths = find(client)
    system = paths.system
    enclosures = {link["@odata.id"]: None for s in paths.storages for link in s.get("Links", {}).get("Enclosures", [])}
    chassis = [client.get(path) for path in enclosures]
    listed = _listed(client, chassis)
    controllers, drives, volumes, foreign = [], [], [], []
    for storage in paths.storages:
        name = _id(storage)
        offered = "Volumes" in storage
        mine = [_volume(v, name) for v in client.members(_link(storage, "Volumes"))] if offered else []
        bodies = [listed.get(e["@odata.id"]) or client.get(e["@odata.id"]) for e in storage.get("Drives", [])]
        seen = [_drive(b, {v.path: v for v in mine}, name) for b in bodies]
        controllers += (
            [_controller(c, name, offered) for c in client.members(_link(storage, "Controllers"))]
            if "Controllers" in storage
            else []
        )
        volumes += [_with_members(v, seen) for v in mine]
        drives += seen
        foreign += [_foreign(f, storage, name) for f in _ours(storage).get("ForeignVolumes") or []]
    made = Server(
        server=str(system.get("Name") or system.get("Id")),
        maker=str(system.get("Manufacturer") or ""),
        model=str(system.get("Model") or ""),
        serial=str(system.get("SerialNumber") or ""),
        firmware=str(system.get("BiosVersion") or ""),
        power=str(system.get("PowerState") or ""),
        time=str(paths.manager.get("DateTime") or ""),
        controllers=tuple(controllers),
        drives=tuple(drives),
        volumes=tuple(as_seen(client, system, volumes) if sight else volumes),
        panel=_panel(chassis, drives),
        foreign=tuple(foreign),
        lid_open=any((c.get("PhysicalSecurity") or {}).get("IntrusionSensor") == "HardwareIntrusion" for c in chassis),
    )
    return Server(**{**made.__dict__, "findings": tuple(findings(made))})


def _id(storage: Body) -> str:
    """What a storage is called: its Id, or the end of its path."""
    return str(storage.get("Id") or str(storage.get("@odata.id")).rstrip("/").rpartition("/")[2])


def _link(body: Body, key: str) -> str:
    try:
        return str(body[key]["@odata.id"])
    except (KeyError, TypeError) as reason:
        what = f"{body.get('@odata.id', 'the server')} has no link {key}"
        raise WorkError(what=what, to_do="this server does not offer what the command needs") from reason


def _listed(client: Client, chassis: list[Body]) -> dict[str, Body]:
    """The drives' resources as the chassis list them, a page at a time, by path."""
    found: dict[str, Body] = {}
    for enclosure in chassis:
        if "Drives" in enclosure:
            found |= {body["@odata.id"]: body for body in client.members(_link(enclosure, "Drives"))}
    return found


def _panel(chassis: list[Body], drives: list[Drive]) -> tuple[tuple[str, ...], ...]:
    rows = next((rows for c in chassis if (rows := _ours(c).get("Panel"))), [[d.bay for d in drives]])
    return tuple(tuple(str(bay) for bay in row) for row in rows)


def _ours(body: Body) -> dict[str, Any]:
    ours = (body.get("Oem") or {}).get(OEM)
    return ours if isinstance(ours, dict) else {}


def _status(body: Body) -> tuple[str, str]:
    status = body.get("Status") or {}
    return str(status.get("State") or ""), str(status.get("Health") or "")


def _controller(body: Body, storage: str, offered: bool) -> Controller:
    state, health = _status(body)
    rates = body.get("ControllerRates") or {}
    return Controller(
        id=storage,
        name=str(body.get("Name") or body.get("Model") or ""),
        serial=str(body.get("SerialNumber") or ""),
        firmware=str(body.get("FirmwareVersion") or ""),
        state=state,
        health=health,
        levels=tuple(body.get("SupportedRAIDTypes") or ()),
        path=str(body.get("@odata.id")),
        rebuild_rate=rates.get("RebuildRatePercent"),
        check_rate=rates.get("ConsistencyCheckRatePercent"),
        replacement=str(_ours(body).get("Replacement") or ""),
        copy_on_prediction=_ours(body).get("CopyOnPrediction"),
        direct=not offered,
    )


def _foreign(body: Body, storage: Body, controller: str) -> ForeignVolume:
    members = tuple(
        ForeignSeat(m["Position"], m["Bay"] or "", m["SerialNumber"], m["State"]) for m in body.get("Members", [])
    )
    return ForeignVolume(
        name=str(body["Name"]),
        guid=str(body["GUID"]),
        level=str(body["Level"]),
        size=body["CapacityBytes"],
        writer=str(body["WrittenBy"]),
        written=str(body["Written"]),
        margin=body["MarginAfterImport"],
        trouble=str(body["Trouble"] or ""),
        advice=str(body["Advice"] or ""),
        members=members,
        controller=controller,
        path=str(storage["@odata.id"]),
    )


def _drive(body: Body, volumes: dict[str, Volume], controller: str) -> Drive:
    state, health = _status(body)
    place = (body.get("PhysicalLocation") or {}).get("PartLocation") or {}
    serial = str(body.get("SerialNumber") or "")
    use = "empty" if state == "Absent" else "unassigned"
    of: dict[str, list[str]] = {}
    for entry in (body.get("Links") or {}).get("Volumes") or []:
        volume = volumes.get(entry["@odata.id"])
        if volume:
            at = next((f"member {m.position} of" for m in volume.members if m.serial == serial), "member of")
            of.setdefault(at, []).append(volume.name)
    if of:
        use = "; ".join(f"{at} {', '.join(names)}" for at, names in of.items())
    if use == "unassigned":
        use = next((f"was member {m.position} of {v.name}" for v, m in _lost(volumes) if m.serial == serial), use)
        if health == "Critical":
            bay = str(place.get("ServiceLabel") or "")
            use = next(
                (f"bay {m.bay} stands in for it" for v in volumes.values() for m in v.members if m.stands_in == bay),
                use,
            )
    kind = str(body.get("HotspareType") or "None")
    spare, serves = "", list[str]()
    if kind != "None":
        serves = [volumes[e["@odata.id"]].name for e in _ours(body).get("SpareFor") or [] if e["@odata.id"] in volumes]
        spare = f"dedicated to {', '.join(serves)}" if serves else kind.lower()
        if body.get("HotspareReplacementMode") == "NonRevertible":
            spare += ", not revertible"
        use = f"hot spare, {spare}" if use == "unassigned" else f"{use} (hot spare, {spare})"
    conditions = (body.get("Status") or {}).get("Conditions") or []
    return Drive(
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
        spare_for=tuple(serves),
        spare_reverts=body.get("HotspareReplacementMode") != "NonRevertible",
        controller=controller,
        celsius=_ours(body).get("TemperatureCelsius"),
        located=body.get("LocationIndicatorActive") is True,
        hours_path=str((body.get("Metrics") or {}).get("@odata.id") or ""),
        gbps=body.get("NegotiatedSpeedGbs"),
        best_gbps=body.get("CapableSpeedGbs"),
        advice="; ".join(str(c["Resolution"]).rstrip(".") for c in conditions if c.get("Resolution")),
    )


def _lost(volumes: dict[str, Volume]) -> list[tuple[Volume, Seat]]:
    return [(v, m) for v in volumes.values() for m in v.members if m.state == "lost"]


def _volume(body: Body, controller: str) -> Volume:
    state, health = _status(body)
    ours = _ours(body)
    name = str(body.get("DisplayName") or body.get("Name") or body.get("Id"))
    return Volume(
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
            Seat(m["Position"], m["Bay"], m["SerialNumber"], m["State"], m.get("StandsInForBay") or "")
            for m in ours.get("Members", [])
        ),
        work=tuple(_work(name, op) for op in body.get("Operations") or []),
        content=ours.get("Content"),
        path=str(body.get("@odata.id")),
        etag=body.get("@odata.etag"),
        spans=int(body.get("MediaSpanCount") or 1),
        q=f"Q {ours['QPlace']}, {ours['QExponent']}" if ours.get("QPlace") else None,
        q_place=ours.get("QPlace"),
        q_exponent=ours.get("QExponent"),
        copies=int(ours.get("MirrorMembers") or 1),
        controller=controller,
        read_cache=CACHE_WORDS.get(body.get("ReadCachePolicy") or "", ""),
        write_cache=CACHE_WORDS.get(body.get("WriteCachePolicy") or "", ""),
        lost=tuple((r["StartByte"], r["StartByte"] + r["LengthBytes"]) for r in ours.get("LostRanges") or []),
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


def _with_members(volume: Volume, drives: list[Drive]) -> Volume:
    """Members from the drives' side, where the volume does not list its own; their order is unknown then."""
    if volume.members:
        return volume
    mine = [d for d in drives if volume.name in d.use.rpartition(" of ")[2].split(", ")]
    members = tuple(Seat(i, d.bay, d.serial, "active") for i, d in enumerate(mine))
    return Volume(**{**volume.__dict__, "members": members, "ordered": False})


def _work(volume: str, operation: Body) -> Operation:
    ours = _ours(operation)
    done, total = ours.get("DoneBytes"), ours.get("TotalBytes")
    percent = 100 * done / total if done is not None and total else float(operation.get("PercentageComplete") or 0)
    name = str(operation.get("OperationName") or operation.get("Operation") or "work")
    return Operation(volume, name, percent, done, total, ours.get("Waiting") is True)
