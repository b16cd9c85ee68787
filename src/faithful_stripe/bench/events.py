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
_ENVIRONMENT = "Environmental.1.0."
_UPDATE = "Update.1.1."
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
    "image wrong": Kind(
        _OURS + "ImageWrong", "Critical", ("place",), "The image file of the drive at {place} {what}.",
        "Put the drive's own image back: it answers again then.",
    ),
    "journal damaged": Kind(
        _OURS + "JournalDamaged", "Warning", ("volume",),
        "The controller's journal holds a write to the volume {volume} that cannot be one: it was left out.",
        "Check the volume's consistency: fstripe volume check {volume}",
    ),
    "volume degraded": Kind(
        _DRIVE + "VolumeDegraded", "Warning", ("volume", "controller"),
        "The volume {volume} attached to the storage controller {controller} is degraded. Margin left: {margin}.",
        "Replace the member that is missing.",
    ),
    "volume failed": Kind(
        _DRIVE + "VolumeFailure", "Critical", ("volume", "controller"),
        "The volume {volume} attached to the storage controller {controller} has failed: data cannot be read.",
        "Bring a missing member back as it was. Do not build anything new on these drives.",
    ),
    "volume ok": Kind(
        _DRIVE + "VolumeOK", "OK", ("volume", "controller"),
        "The volume {volume} attached to the storage controller {controller} is healthy again.",
    ),
    "volume damaged": Kind(
        _OURS + "VolumeDamaged", "Critical", ("volume", "controller"),
        "All members of the volume {volume} of controller {controller} are there, but {count} bytes of it are lost.",
        "`volume show` names them: restore them from a backup, writing them anew repairs the volume.",
    ),
    "volume created": Kind(
        _OURS + "VolumeCreated", "OK", ("volume",), "The volume {volume} was created: {what}.",
    ),
    "volume adopted": Kind(
        _OURS + "VolumeAdopted", "OK", ("volume",), "The volume {volume} was adopted from its drives: {what}.",
    ),
    "set-up cleared": Kind(
        _OURS + "SetUpCleared", "OK", ("place",),
        "The set-up on the drive at {place} was cleared; it described: {names}.",
    ),
    "power lost": Kind(
        _OURS + "PowerLost", "Critical", ("server",), "The power of the server {server} was cut.", "Restore the power.",
    ),
    "power off": Kind(
        _OURS + "PowerOff", "OK", ("server",), "The server {server} was switched off; work in progress stopped there.",
    ),
    "power on": Kind(
        _OURS + "PowerOn", "OK", ("server",),
        "The server {server} has power again; its controllers read their drives and finish the writes they had begun.",
        "Work in progress continues where it was.",
    ),
    "lid opened": Kind(
        _OURS + "LidOpened", "Warning", ("server",), "The chassis of the server {server} was opened.",
        "Close it soon: with the lid open the drives are cooled badly.",
    ),
    "lid closed": Kind(_OURS + "LidClosed", "OK", ("server",), "The chassis of the server {server} was closed."),
    "link lost": Kind(
        _DRIVE + "DriveOffline", "Critical", ("place",),
        "The drive at {place} does not answer any more: its link is down.",
        "Reseat the drive; if it happens again, look at the cable or backplane, then replace the drive.",
    ),
    "link back": Kind(_DRIVE + "DriveOfflineCleared", "OK", ("place",), "The drive at {place} answers again."),
    "member forced": Kind(
        _OURS + "MemberForced", "Warning", ("volume", "place"),
        "The drive at {place} is a member of the volume {volume} again because it was forced: it does not hold what "
        "was written while it was away.",
        "Check the file systems on the volume, and the volume: fstripe volume check {volume}",
    ),
    "given up": Kind(
        _OURS + "DriveGivenUp", "Critical", ("place",),
        "The link of the drive at {place} was lost {count} times within an hour: it is not taken back by itself.",
        "Reseat it, or replace it.",
    ),
    "temperature normal": Kind(
        _ENVIRONMENT + "TemperatureNormal", "OK", ("sensor",), "The temperature of {place} is normal: {celsius} °C.",
    ),
    "temperature high": Kind(
        _ENVIRONMENT + "TemperatureWarning", "Warning", ("sensor",),
        "The temperature of {place} is above the warning threshold: {celsius} °C.",
        "Check fans and air flow.",
    ),
    "temperature critical": Kind(
        _ENVIRONMENT + "TemperatureCritical", "Critical", ("sensor",),
        "The temperature of {place} is above the critical threshold: {celsius} °C.",
        "Check fans and air flow at once; a drive this hot may fail.",
    ),
    "settings changed": Kind(
        _OURS + "SettingsChanged", "OK", ("controller",), "Settings of controller {controller} were changed: {what}.",
    ),
    "caches changed": Kind(
        _OURS + "CachesChanged", "OK", ("volume",), "The volume {volume} reads {read} and writes {write} from now on.",
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
    "failure predicted": Kind(
        _DRIVE + "DrivePredictiveFailure", "Warning", ("place",),
        "A predictive failure condition exists on the drive at {place}.",
        "It still works: keep it seated until its data are copied or the volume has another member to spare.",
    ),
    "sectors unreadable": Kind(
        _OURS + "SectorsUnreadable", "Warning", ("place",), "Sectors of the drive at {place} cannot be read: {where}.",
        "Check the volume's consistency; replace the drive if more follow.",
    ),
    "strip lost": Kind(
        _OURS + "StripLost", "Critical", ("volume", "place"),
        "A strip of the volume {volume} could not be computed for the drive at {place}: {where}.",
        "Restore what stands there from a backup; writing it anew repairs it.",
    ),
    "copy started": Kind(
        _OURS + "CopyStarted", "OK", ("volume", "place"),
        "Copying a member of the volume {volume} onto the drive at {place} started: {why}.",
    ),
    "copy done": Kind(
        _OURS + "CopyDone", "OK", ("volume", "place"),
        "The drive at {place} has taken the place of drive {old} in the volume {volume}.",
    ),
    "copy stopped": Kind(
        _OURS + "CopyStopped", "Warning", ("volume", "place"),
        "Copying a member of the volume {volume} onto the drive at {place} stopped: {why}.",
    ),
    "spare added": Kind(_OURS + "SpareAdded", "OK", ("place",), "The drive at {place} is a hot spare: {what}."),
    "spare removed": Kind(_OURS + "SpareRemoved", "OK", ("place",), "The drive at {place} is no hot spare any more."),
    "spare took over": Kind(
        _OURS + "SpareTookOver", "Warning", ("volume", "place"),
        "The hot spare at {place} is used in place of the drive of {home} in the volume {volume}.",
        "Replace the drive that failed.",
    ),
    "initialize started": Kind(
        _OURS + "InitializeStarted", "OK", ("volume",), "The {mode} initialization of the volume {volume} started.",
    ),
    "initialize done": Kind(
        _OURS + "InitializeDone", "OK", ("volume",), "The initialization of the volume {volume} is complete.",
    ),
    "initialize stopped": Kind(
        _OURS + "InitializeStopped", "Warning", ("volume",),
        "The initialization of the volume {volume} stopped: {why}.",
        "The rebuild of the member completes its parity as well.",
    ),
    "check started": Kind(
        _OURS + "CheckStarted", "OK", ("volume",), "The consistency check of the volume {volume} started, {mode}.",
    ),
    "check done": Kind(
        _OURS + "CheckDone", "OK", ("volume",), "The consistency check of the volume {volume} found no mismatch.",
    ),
    "check found": Kind(
        _OURS + "CheckFound", "Warning", ("volume",),
        "The consistency check of the volume {volume} found {found} rows that do not match or cannot be read"
        "{repaired}.",
    ),
    "check stopped": Kind(
        _OURS + "CheckStopped", "Warning", ("volume",), "The consistency check of the volume {volume} stopped: {why}.",
    ),
    "row unreadable": Kind(
        _OURS + "RowUnreadable", "Warning", ("volume", "place"),
        "In row {row} of the volume {volume} the drive at {place} cannot be read: {where}.",
        "A repairing check writes these bytes anew from the other members.",
    ),
    "mismatch": Kind(
        _OURS + "Mismatch", "Warning", ("volume",), "Row {row} of the volume {volume} does not match: {who}.",
    ),
    "mismatches accepted": Kind(
        _OURS + "MismatchesAccepted", "OK", ("volume",),
        "The rows of the volume {volume} that do not match were seen, and left as they are.",
    ),
    "update started": Kind(
        _UPDATE + "InstallingOnComponent", "OK", ("version", "part"),
        "Firmware {version} is being written to {part}.",
    ),
    "update waits": Kind(
        _UPDATE + "AwaitToActivate", "OK", ("version", "part"),
        "Firmware {version} of {part} is written; it runs from the next restart on.",
        "Restart the server.",
    ),
    "update done": Kind(_UPDATE + "UpdateSuccessful", "OK", ("part", "version"), "{part} runs firmware {version}."),
    "update failed": Kind(
        _UPDATE + "ApplyFailed", "Critical", ("version", "part"),
        "Writing firmware {version} to {part} was broken off; the firmware it had still runs.",
        "Update it again, and let it finish.",
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
