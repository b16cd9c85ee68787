"""What a server tells, at the one border where it comes in: every property is of the type that the standard gives it,
or is not there at all.

Whoever reads answers behind this border finds a missing property or a right one, never a third thing; a `null` is a
property that is not told. Texts are fit to be shown, numbers finite, links paths. What the standard does not name
keeps its form.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from enum import Flag, auto
from typing import Any

from ..core.shape import fits
from ..core.visible import visible

MOST_DEPTH = 64
MOST_TEXT = 100_000
"""Characters of one text: of a longer one the rest is left out."""

_LINK = re.compile(r"(?:https?://[^/\x00-\x20]+)?/[\x21-\x7e]*\Z|\Z")
"""A path on this server, or a whole address, of which only the path is followed; or nothing."""


class Kind(Flag):
    """What a property may be."""

    TEXT = auto()
    NUMBER = auto()
    FLAG = auto()
    OBJECT = auto()
    OBJECTS = auto()
    TEXTS = auto()
    LINK = auto()
    VALUES = auto()
    """An object of plain values under names that the server chooses: firmware attributes."""


def _named(kind: Kind, names: str) -> dict[str, Kind]:
    return dict.fromkeys(names.split(), kind)


TYPES: dict[str, Kind] = {
    **_named(Kind.LINK, "@odata.id target Uri Members@odata.nextLink @odata.nextLink MultipartHttpPushUri HttpPushUri "
             "ServerSentEventUri TaskMonitor @Redfish.ActionInfo"),
    **_named(Kind.TEXT, "@odata.etag @odata.type AttributeName AttributeRegistry Bay BiosVersion BootOptionReference "
             "Content Created DataOrder DateTime DateTimeLocalOffset DeviceId DisplayName DurableName "
             "DurableNameFormat "
             "EntryType FirmwareVersion Health HealthRollup HelpText HotspareReplacementMode HotspareType Id "
             "IndicatorLED IntrusionSensor Kind LastState Level LogEntryType Manufacturer MapFromAttribute "
             "MapFromCondition MapToAttribute MapToProperty MaxPCIeType MediaType Message MessageId Method Model Name "
             "Operation OperationName OSVersion PCIeType PartNumber PowerState Protocol QExponent "
             "QPlace RAIDType ReadCachePolicy RedfishVersion Registry Replacement Resolution Revision Rotation "
             "SerialNumber ServiceLabel Severity SourceBay StandsInForBay State StatusIndicator TargetBay TaskState "
             "TaskStatus Type UUID UserName ValueDisplayName ValueName VendorId Version VolumeType WaitingVersion "
             "WriteCachePolicy code message MessageSeverity EncryptionStatus"),
    **_named(Kind.NUMBER, "AllocatedBytes BlockSizeBytes CapableSpeedGbs CapacityBytes ConsistencyCheckRatePercent "
             "ConsumedBytes DataLengthBytes DataStartBytes DoneBytes LanesInUse LengthBytes LinkLossesPerDay "
             "LocationOrdinalValue LowerBound MaxLanes MaxLength MediaSpanCount Members@odata.count MinLength "
             "BadBlockCount CorrectableIOReadErrorCount UncorrectableIOReadErrorCount UncorrectableIOWriteErrorCount "
             "MirrorMembers NegotiatedSpeedGbs PercentComplete PercentageComplete Position PowerOnHours "
             "PredictedMediaLifeLeftPercent RebuildRatePercent RotationSpeedRPM ScalarIncrement SlowedBy StartByte "
             "StripSizeBytes TemperatureCelsius TotalBytes UpperBound"),
    **_named(Kind.FLAG, "CopyOnPrediction FailurePredicted GrayOut Hidden HotSwap LocationIndicatorActive NoLinks "
             "ReadOnly ResetRequired ServiceEnabled Updateable UpToDate Waiting Lit"),
    **_named(Kind.OBJECT, "@Redfish.Settings AccountService Actions Bios Boot BootOptions BootProgress CacheSummary "
             "Controllers ControllerRates Dependency Entries EventService ExpandQuery FaithfulStripe "
             "FirmwareInventory Links LogServices Metrics Oem OriginOfCondition PCIeFunctions PCIeInterface "
             "PartLocation PhysicalLocation PhysicalSecurity ProtocolFeaturesSupported Registries RegistryEntries "
             "SessionService Sessions SettingsObject SimpleStorage Slot Systems Tasks UpdateService error Temperature"),
    **_named(Kind.OBJECTS, "@Message.ExtendedInfo Batteries CapacitySources Conditions DedicatedSpareDrives "
             "Dependencies Devices Enclosures FoundVolumes Identifiers InconsistentRanges LostRanges ManagedBy "
             "MapFrom Members Operations RelatedItem Seats SpareFor UnreadableRanges Value Messages "
             "ProvidingDrives ProvidingVolumes ProvidingPools Events CreatedResources"),
    **_named(Kind.TEXTS, "BootOrder ResetType@Redfish.AllowableValues SupportedRAIDTypes MessageArgs Targets "
             "SupportedDeviceProtocols RelatedProperties"),
    **_named(Kind.OBJECT | Kind.OBJECTS, "Chassis Drives Managers PCIeDevices Storage "
             "StorageControllers Volumes ComputerSystems StoragePools Location"),
    **_named(Kind.OBJECT | Kind.TEXT, "Status"),
    **_named(Kind.OBJECTS | Kind.VALUES, "Attributes"),
    **_named(Kind.TEXT | Kind.NUMBER | Kind.FLAG, "MapFromValue MapToValue DefaultValue CurrentValue"),
}  # fmt: skip
"""By name: names have one meaning throughout the standard's schemas (DSP0268), but for those with two kinds here."""


def told(answer: Any) -> Any:
    """An answer as it is to be read, of JSON as `json.loads` gives it: an object where it is one."""
    return _free(answer, 0)


def misfits(wish: Any, path: str = "") -> list[str]:
    """The properties of a request, as paths, whose values are not of the type that the standard gives them."""
    if isinstance(wish, list):
        return [found for i, one in enumerate(wish) for found in misfits(one, f"{path}/{i}")]
    if not isinstance(wish, dict):
        return []
    wrong = []
    for name, value in wish.items():
        kind, at = TYPES.get(name), f"{path}/{name}"
        if value is None:
            continue  # says as much as nothing
        if kind is not None and _typed(value, kind, 0) is _GONE:
            wrong.append(at)
        elif kind is not None and kind & (Kind.OBJECTS | Kind.TEXTS) and isinstance(value, list):
            wanted = str if Kind.TEXTS in kind else dict
            wrong += [f"{at}/{i}" for i, one in enumerate(value) if not isinstance(one, wanted)]
        wrong += misfits(value, at)
    return wrong


_WORDS = {
    Kind.TEXT: "text", Kind.NUMBER: "a number", Kind.FLAG: "true or false", Kind.OBJECT: "an object",
    Kind.OBJECTS: "a list of objects", Kind.TEXTS: "a list of texts", Kind.LINK: "a path",
    Kind.VALUES: "an object of values",
}  # fmt: skip


def expected(path: str) -> str:
    """What a property may be, in words; `path` as `misfits` gives it."""
    name = next(part for part in reversed(path.split("/")) if not part.isdecimal())
    kind = TYPES.get(name, Kind(0))
    return "expected " + " or ".join(word for one, word in _WORDS.items() if one in kind)


def spoken(wish: Any) -> Any:
    """A request without its nulls."""
    if isinstance(wish, dict):
        return {name: spoken(value) for name, value in wish.items() if value is not None}
    return [spoken(one) for one in wish] if isinstance(wish, list) else wish


def deeper(value: Any, levels: int) -> bool:
    """Whether objects and lists lie within each other more than so many levels deep."""
    inner = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return any(levels == 0 or deeper(one, levels - 1) for one in inner if isinstance(one, dict | list))


_GONE = object()


def _free(value: Any, depth: int) -> Any:
    """A value whose name says nothing of its type."""
    if depth > MOST_DEPTH:
        return None
    if isinstance(value, dict):
        return _object(value, depth)
    if isinstance(value, list):
        return [_free(v, depth + 1) for v in value]
    if isinstance(value, str):
        return visible(value[:MOST_TEXT])
    if isinstance(value, int | float) and not isinstance(value, bool):
        return value if fits(value, float) else None
    return value


def _object(value: dict[Any, Any], depth: int) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, inner in value.items():
        kind = Kind.OBJECT if str(name).startswith("#") else TYPES.get(name)  # actions
        made = _free(inner, depth + 1) if kind is None else _typed(inner, kind, depth + 1)
        if made is not _GONE:
            found[visible(str(name)[:MOST_TEXT])] = made
    return found


def _typed(value: Any, kind: Kind, depth: int) -> Any:
    if depth > MOST_DEPTH:
        return _GONE
    for one, reading in _READINGS.items():
        if one in kind and (made := reading(value, depth)) is not _GONE:
            return made
    return _GONE


def _text(value: Any, _depth: int) -> Any:
    return visible(value[:MOST_TEXT]) if isinstance(value, str) else _GONE


def _number(value: Any, _depth: int) -> Any:
    if isinstance(value, str):  # some spell them
        try:
            value = int(value) if len(value) < 40 else None
        except ValueError:
            try:
                value = float(value)
            except ValueError:
                return _GONE
    if isinstance(value, bool) or not isinstance(value, int | float):
        return _GONE
    return value if fits(value, float) else _GONE


def _flag(value: Any, _depth: int) -> Any:
    return value if isinstance(value, bool) else _GONE


def _link(value: Any, _depth: int) -> Any:
    return value if isinstance(value, str) and len(value) < 4096 and _LINK.match(value) else _GONE


def _one(value: Any, depth: int) -> Any:
    return _object(value, depth) if isinstance(value, dict) else _GONE


def _several(value: Any, depth: int) -> Any:
    if not isinstance(value, list):
        return _GONE
    return [_object(v, depth + 1) for v in value if isinstance(v, dict)]


def _texts(value: Any, _depth: int) -> Any:
    return [visible(v[:MOST_TEXT]) for v in value if isinstance(v, str)] if isinstance(value, list) else _GONE


def _values(value: Any, _depth: int) -> Any:
    if not isinstance(value, dict):
        return _GONE
    plain = {
        visible(str(n)[:MOST_TEXT]): visible(v[:MOST_TEXT]) if isinstance(v, str) else v
        for n, v in value.items()
        if v is None or isinstance(v, str | bool) or (isinstance(v, int | float) and fits(v, float))
    }  # fmt: skip
    return plain


_READINGS: dict[Kind, Callable[[Any, int], Any]] = {
    Kind.LINK: _link, Kind.TEXT: _text, Kind.NUMBER: _number, Kind.FLAG: _flag, Kind.OBJECTS: _several,
    Kind.VALUES: _values, Kind.OBJECT: _one, Kind.TEXTS: _texts,
}  # fmt: skip
