"""The events of the bench as a table: Redfish message, severity, wording and advice.

Messages of the DMTF `StorageDevice` registry are used where there is one for the occasion; ours are under
`FaithfulStripe`. The argument lists follow the registry.
"""

from __future__ import annotations

from dataclasses import dataclass

from .state import Event


@dataclass(frozen=True)
class Kind:
    """`message` is a template over the facts; `args` names the facts that go into MessageArgs."""

    message_id: str
    severity: str
    args: tuple[str, ...]
    message: str
    resolution: str = ""


_DRIVE = "StorageDevice.1.2."
_OURS = "FaithfulStripe.1.0."

KINDS: dict[str, Kind] = {
    "drive inserted": Kind(_DRIVE + "DriveInserted", "OK", ("place",), "A drive was inserted into {place}."),
    "drive removed": Kind(
        _DRIVE + "DriveRemoved", "Critical", ("place",), "A drive was removed from {place}.",
        "If it was removed by mistake, insert it again.",
    ),
    "drive failed": Kind(
        _DRIVE + "DriveFailure", "Critical", ("place",), "A failure condition exists on the drive at {place}.",
        "Replace the drive.",
    ),
    "volume degraded": Kind(
        _DRIVE + "VolumeDegraded", "Warning", ("volume", "controller"),
        "The volume {volume} attached to the storage controller {controller} is degraded. Margin left: {margin}.",
        "Replace the member that is lost.",
    ),
    "volume failed": Kind(
        _DRIVE + "VolumeFailure", "Critical", ("volume", "controller"),
        "The volume {volume} attached to the storage controller {controller} has failed: data cannot be read.",
        "Bring a lost member back as it was. Do not build anything new on these drives.",
    ),
    "volume ok": Kind(
        _DRIVE + "VolumeOK", "OK", ("volume", "controller"),
        "The volume {volume} attached to the storage controller {controller} is healthy again.",
    ),
    "volume created": Kind(
        _OURS + "VolumeCreated", "OK", ("volume",), "The volume {volume} was created: {what}.",
    ),
    "volume deleted": Kind(_OURS + "VolumeDeleted", "OK", ("volume",), "The volume {volume} was deleted."),
    "rebuild started": Kind(
        _OURS + "RebuildStarted", "OK", ("volume", "place"),
        "The rebuild of the volume {volume} onto the drive at {place} started.",
    ),
    "rebuild done": Kind(
        _OURS + "RebuildDone", "OK", ("volume", "place"),
        "The rebuild of the volume {volume} onto the drive at {place} is complete.",
    ),
    "rebuild stopped": Kind(
        _OURS + "RebuildStopped", "Warning", ("volume", "place"),
        "The rebuild of the volume {volume} onto the drive at {place} stopped: {why}.",
        "Seat a replacement drive.",
    ),
    "member back": Kind(
        _OURS + "MemberReturned", "OK", ("volume", "place"),
        "A member of the volume {volume} is back at {place}; nothing was written while it was away.",
    ),
    "not taken": Kind(
        _OURS + "DriveNotTaken", "Warning", ("volume", "place"),
        "The drive at {place} was not taken as a replacement for the volume {volume}: {why}.",
        "{advice}",
    ),
    "started": Kind(_OURS + "BenchStarted", "OK", ("server",), "The server {server} was put on the bench."),
}  # fmt: skip


def make(kind: str, time: str, *, serial: str = "", bay: str = "", volume: str = "", **facts: object) -> Event:
    """An event of `kind` (a key of KINDS); `facts` fill its texts, along with place and volume."""
    row = KINDS[kind]
    known = {"place": f"bay {bay}" if bay else "", "volume": volume, **facts}
    return Event(
        time=time,
        severity=row.severity,
        message_id=row.message_id,
        args=[str(known[name]) for name in row.args],
        message=row.message.format(**known),
        resolution=row.resolution.format(**known),
        serial=serial,
        bay=bay,
        volume=volume,
    )
