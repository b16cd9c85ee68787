"""One resource in, one value out: controllers, drives, volumes, their work and seats. Nothing here raises."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..core.server.redundancy import OLD_TYPES
from ..core.server.things import (
    CACHE_WORDS,
    Controller,
    Drive,
    FoundSeat,
    FoundVolume,
    Operation,
    Seat,
    SeatState,
    Volume,
    WorkKind,
)
from ..core.server.unknown import UNKNOWN, Maybe, known
from .exchange import Body
from .plain import (
    conditions,
    flag,
    health,
    last_of,
    link,
    links,
    number,
    ours,
    part,
    path_of,
    ranges,
    rows,
    state,
    text,
    texts,
    whole,
)

OPERATIONS = {
    "Rebuild": WorkKind.REBUILD, "CheckConsistency": WorkKind.CHECK, "Initialize": WorkKind.INITIALIZE,
    "Replicate": WorkKind.COPY,
}  # fmt: skip
"""Work on volumes by the standard's `Operation`."""

SEATS = {"active": SeatState.ACTIVE, "missing": SeatState.MISSING, "rebuilding": SeatState.REBUILDING}


def read_controller(body: Body, storage: Body, name: str, offers: bool) -> Controller:
    """A controller of a storage; `name`: what the storage is called."""
    rates = part(body, "ControllerRates")
    return Controller(
        id=name,
        path=path_of(body) or path_of(storage),
        name=text(body, "Name", "Model"),
        serial=text(body, "SerialNumber"),
        firmware=text(body, "FirmwareVersion"),
        state=state(body),
        health=health(body),
        rollup=health(body, "HealthRollup"),
        conditions=conditions(body),
        levels=texts(body, "SupportedRAIDTypes"),
        rebuild_rate=whole(rates, "RebuildRatePercent"),
        check_rate=whole(rates, "ConsistencyCheckRatePercent"),
        replacement=text(ours(body), "Replacement"),
        copy_on_prediction=flag(ours(body), "CopyOnPrediction"),
        offers_volumes=offers,
    )


def read_drive(body: Body, path: str, controller: str, holder: str) -> Drive:
    """A drive, or an empty bay; `holder`: the chassis that lists it."""
    place = part(body, "PhysicalLocation", "PartLocation") or part(body, "Location", "PartLocation")
    ordinal = whole(place, "LocationOrdinalValue")
    label = text(place, "ServiceLabel")
    if label is UNKNOWN:
        label = str(ordinal) if ordinal is not UNKNOWN else str(known(text(body, "Id", "Name"), last_of(path)))
    holder = link(body, "Links", "Chassis") or holder
    kind, status = text(body, "HotspareType"), state(body)
    mode = text(body, "HotspareReplacementMode")
    own = ours(body)
    serial = text(body, "SerialNumber")
    spare: Maybe[bool] = kind != "None" if kind is not UNKNOWN else True if status == "StandbySpare" else UNKNOWN
    blank = (
        serial is UNKNOWN and status is UNKNOWN and health(body) is UNKNOWN and whole(body, "CapacityBytes") is UNKNOWN
    )
    return Drive(
        bay=str(label),
        path=path,
        enclosure=last_of(holder),
        controller=controller,
        present=False if status == "Absent" else UNKNOWN if blank else True,
        serial=serial,
        wwn=_durable(body),
        vendor=text(body, "Manufacturer"),
        model=text(body, "Model"),
        part=text(body, "PartNumber"),
        size=whole(body, "CapacityBytes", 1),
        media=text(body, "MediaType"),
        protocol=text(body, "Protocol"),
        rpm=whole(body, "RotationSpeedRPM"),
        sector=whole(body, "BlockSizeBytes", 1),
        firmware=text(body, "Revision", "FirmwareVersion"),
        state=status,
        health=health(body),
        rollup=health(body, "HealthRollup"),
        indicator=text(body, "StatusIndicator"),
        predicted=flag(body, "FailurePredicted"),
        media_life=number(body, "PredictedMediaLifeLeftPercent"),
        unreadable=tuple(ranges(rows(own, "UnreadableRanges")))
        if isinstance(own.get("UnreadableRanges"), list)
        else UNKNOWN,
        conditions=conditions(body),
        content=own["Content"] if isinstance(own.get("Content"), str) else UNKNOWN,
        spare=spare,
        dedicated=kind == "Dedicated" if kind is not UNKNOWN else UNKNOWN,
        spare_for=links(own, "SpareFor"),
        spare_reverts=mode != "NonRevertible" if mode is not UNKNOWN else UNKNOWN,
        celsius=number(own, "TemperatureCelsius"),
        gbps=number(body, "NegotiatedSpeedGbs"),
        best_gbps=number(body, "CapableSpeedGbs"),
        slowed=number(own, "SlowedBy"),
        link_losses=whole(own, "LinkLossesPerDay"),
        located=located(body),
        volumes=links(body, "Links", "Volumes"),
        hours_path=link(body, "Metrics"),
    )


def _durable(body: Body) -> Maybe[str]:
    """The durable name of a drive or volume: NAA, EUI, NGUID or UUID of its `Identifiers`."""
    for row in rows(body, "Identifiers"):
        name = text(row, "DurableName")
        if name is not UNKNOWN:
            return name
    return UNKNOWN


def located(body: Body) -> Maybe[bool]:
    now = flag(body, "LocationIndicatorActive")
    if now is not UNKNOWN:
        return now
    older = text(body, "IndicatorLED")
    return UNKNOWN if older is UNKNOWN or older in ("Unknown", "Lit") else older == "Blinking"


def read_volume(body: Body, controller: str) -> Volume:
    """A volume without its seats: those need the drives, too."""
    own, told = ours(body), dict[str, str]()
    name = str(known(text(body, "DisplayName", "Name", "Id"), last_of(path_of(body))))
    level = text(own, "Level")
    if level is UNKNOWN:
        level = text(body, "RAIDType")
        told["level"] = "RAIDType"
    if level is UNKNOWN and (older := text(body, "VolumeType")) is not UNKNOWN:
        level = OLD_TYPES.get(older, UNKNOWN)
        told["level"] = "VolumeType"
    spans, copies = whole(body, "MediaSpanCount", 1), whole(own, "MirrorMembers", 1)
    return Volume(
        name=name,
        path=path_of(body),
        level="SPAN" if level == "None" and "Level" not in own else level,
        size=whole(body, "CapacityBytes", 1),
        controller=controller,
        strip=whole(body, "StripSizeBytes", 1),
        rotation=known(text(own, "Rotation"), None),
        data=known(text(own, "DataOrder"), None),
        q_place=known(text(own, "QPlace"), None),
        q_exponent=known(text(own, "QExponent"), None),
        spans=known(spans, 1),
        copies=known(copies, 1),
        state=state(body),
        health=health(body),
        rollup=health(body, "HealthRollup"),
        work=tuple(_operation(row, name, path_of(body)) for row in rows(body, "Operations")),
        content=own["Content"] if isinstance(own.get("Content"), str) else UNKNOWN,
        etag=known(text(body, "@odata.etag"), None),
        start=whole(own, "DataStartBytes"),
        extent=whole(own, "DataLengthBytes"),
        lost=tuple(ranges(rows(own, "LostRanges"))),
        inconsistent=tuple(ranges(rows(own, "InconsistentRanges"))),
        acknowledged=tuple(ranges([r for r in rows(own, "InconsistentRanges") if r.get("Acknowledged") is True])),
        conditions=conditions(body),
        read_cache=_cache(body, "ReadCachePolicy"),
        write_cache=_cache(body, "WriteCachePolicy"),
        wwn=_durable(body),
        sector=whole(body, "BlockSizeBytes", 1),
        spares=links(body, "Links", "DedicatedSpareDrives"),
        told=told,
    )


def _cache(body: Body, name: str) -> Maybe[str]:
    word = text(body, name)
    return CACHE_WORDS.get(word, UNKNOWN) if word is not UNKNOWN else UNKNOWN


def _operation(row: Body, volume: str, path: str) -> Operation:
    own = ours(row)
    word = str(known(text(row, "Operation", "OperationName"), "work"))
    kind = OPERATIONS.get(word, WorkKind.OTHER)
    told = known(text(own, "Kind"), "")
    if told in [k.value for k in WorkKind]:
        kind = WorkKind(told)
    done, total = whole(own, "DoneBytes"), whole(own, "TotalBytes", 1)
    percent = number(row, "PercentageComplete")
    if done is not UNKNOWN and total is not UNKNOWN:
        percent = 100 * done / total
    return Operation(
        kind=kind,
        volume=volume,
        volume_path=path,
        position=whole(own, "Position"),
        source=text(own, "SourceBay"),
        target=text(own, "TargetBay"),
        method=text(own, "Method"),
        percent=percent,
        done=done,
        total=total,
        waits=flag(own, "Waiting"),
        word=str(known(text(row, "OperationName", "Operation"), "")),
    )


def read_seat(row: Body, index: int, span: int, drives: Sequence[Drive]) -> Seat:
    """A member place as our own part of a volume tells it."""
    serial = text(row, "SerialNumber")
    held = next((d for d in drives if d.seated and d.serial == serial), None)
    told = known(text(row, "State"), "")
    return Seat(
        position=known(whole(row, "Position"), index),
        bay=str(known(text(row, "Bay"), "")),
        serial=serial,
        state=SEATS.get(told, UNKNOWN),
        drive=held.path if held else "",
        span=span,
        stands_in=str(known(text(row, "StandsInForBay"), "")),
        current=flag(row, "UpToDate"),
        done=whole(row, "DoneBytes"),
    )


def read_found(row: Body, storage: Body, controller: str) -> FoundVolume | None:
    """A volume that drives describe and their controller does not know; None for what names none."""
    name, guid, level = text(row, "Name"), text(row, "GUID"), text(row, "Level")
    if name is UNKNOWN or guid is UNKNOWN:
        return None
    seats = tuple(
        FoundSeat(known(whole(m, "Position"), i), str(known(text(m, "Bay"), "")),
                    str(known(text(m, "SerialNumber"), "")), str(known(text(m, "State"), "")))
        for i, m in enumerate(rows(row, "Members"))
    )  # fmt: skip
    margin: Any = row.get("MarginAfterAdoption")
    return FoundVolume(
        name=name,
        guid=guid,
        level=str(known(level, "")),
        size=known(whole(row, "CapacityBytes"), None),
        writer=str(known(text(row, "WrittenBy"), "")),
        written=str(known(text(row, "Written"), "")),
        margin=margin if isinstance(margin, int) else None,
        trouble=str(known(text(row, "Trouble"), "")),
        advice=str(known(text(row, "Advice"), "")),
        members=seats,
        controller=controller,
        path=path_of(storage),
    )
