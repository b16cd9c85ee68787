"""The server's event log, in order: bays, drives and volumes resolved, in plain words beside the original message,
causes with what followed from them, and the server's clock held against this machine's."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

from ..core.server.model import Server
from ..core.units import parse_duration
from ..media.image import MediaError
from ..media.whole import write_text
from ..redfish.client import Body, Client, RedfishError
from ..redfish.names import OEM
from .errors import WorkError
from .remembered import state_file
from .survey import find, survey

TOGETHER = 10.0
"""Seconds within which a consequence follows its cause."""

LID = 120.0
"""Seconds after the lid was opened in which what happens to drives is put down to that."""

CAUSES = ("LidOpened", "DriveRemoved", "DriveFailure", "DriveOffline", "PowerLost", "DrivePredictiveFailure",
          "DriveInserted", "DriveOfflineCleared", "PowerOn", "SectorsUnreadable", "VolumeImported")  # fmt: skip
"""Events that others follow from, by the last part of their message id; each begins a group."""

CONSEQUENCES = ("VolumeDegraded", "VolumeFailure", "VolumeOK", "VolumeDamaged", "SpareTookOver", "RebuildStarted",
                "RebuildStopped", "RebuildDone", "CopyStarted", "CopyDone", "CopyStopped", "DriveNotTaken",
                "MemberReturned", "CheckStopped", "InitializeStopped", "DriveGivenUp", "StripLost")  # fmt: skip

PLAIN = {
    "DriveInserted": "a drive was pushed into {place}",
    "DriveRemoved": "the drive was pulled out of {place}",
    "DriveFailure": "the drive in {place} has failed",
    "DriveOffline": "the drive in {place} does not answer: its link is down",
    "DriveOfflineCleared": "the drive in {place} answers again",
    "DrivePredictiveFailure": "the drive in {place} says that it will fail",
    "VolumeDegraded": "{volume} has lost redundancy",
    "VolumeFailure": "{volume} has lost data",
    "VolumeOK": "{volume} is whole again",
    "TemperatureWarning": "{place} is too warm",
    "TemperatureCritical": "{place} is far too hot",
    "TemperatureNormal": "{place} is as warm as it should be",
    "RebuildStarted": "{volume} is being rebuilt onto {place}",
    "RebuildDone": "{volume} is rebuilt onto {place}",
    "UpdateSuccessful": "new firmware runs",
    "ApplyFailed": "new firmware could not be written",
}
"""Plain words for messages of the standard registries, and for those that need none of their own words."""


@dataclass(frozen=True)
class Entry:
    """One event; `time` as the server wrote it (ISO 8601), `here` by this machine's clock.

    plain    what it means; "" where the message says it well enough
    follows  it is a consequence of the event before it in its group
    """

    number: str
    time: str
    severity: str
    bay: str
    serial: str
    volume: str
    message: str
    message_id: str
    to_do: str
    here: str = ""
    plain: str = ""
    group: int = 0
    follows: bool = False


def entries(client: Client) -> list[Entry]:
    """All events of all log services of the system, oldest first. Raises WorkError where there is no log."""
    system = find(client).system
    if "LogServices" not in system:
        raise WorkError(what=f"{client.where}: the server offers no log", to_do="look at its own console")
    found = []
    for service in client.members(system["LogServices"]["@odata.id"]):
        found += [_entry(body) for body in client.members(service["Entries"]["@odata.id"])]
    return sorted(found, key=lambda e: e.time)  # stable: entries of one second keep the log's own order


def _entry(body: Body) -> Entry:
    ours = (body.get("Oem") or {}).get(OEM) or {}
    origin = str(((body.get("Links") or {}).get("OriginOfCondition") or {}).get("@odata.id") or "")
    return Entry(
        number=str(body.get("Id")),
        time=str(body.get("Created") or ""),
        severity=str(body.get("Severity") or ""),
        bay=str(ours.get("Bay") or ""),
        serial=str(ours.get("SerialNumber") or ""),
        volume=str(ours.get("Volume") or ""),
        message=str(body.get("Message") or ""),
        message_id=str(body.get("MessageId") or ""),
        to_do=str(body.get("Resolution") or ""),
        plain=origin,  # the path, until it is resolved
    )


def explained(found: Sequence[Entry], seen: Server | None, offset: float) -> list[Entry]:
    """Events resolved, grouped, and with this machine's time.

    seen    to tell which drive or volume a path is; None where that is not wanted
    offset  seconds by which the server's clock is ahead of this machine's
    """
    drives = {d.path: d for d in seen.drives} if seen else {}
    volumes = {v.path: v for v in seen.volumes} if seen else {}
    made: list[Entry] = []
    for e in found:
        drive, volume = drives.get(e.plain), volumes.get(e.plain)
        bay = e.bay or (drive.bay if drive else "")
        name = e.volume or (volume.name if volume else "")
        words = PLAIN.get(_kind(e), "")
        place = f"bay {bay}" if bay else "the server"
        text = words.format(place=place, volume=f"volume {name}" if name else "a volume") if words else ""
        serial = e.serial or (drive.serial if drive else "")
        made.append(replace(e, bay=bay, volume=name, serial=serial, plain=text, here=_shifted(e.time, -offset)))
    return grouped(made)


def _kind(entry: Entry) -> str:
    return entry.message_id.rpartition(".")[2]


def grouped(found: Sequence[Entry]) -> list[Entry]:
    """Events with their groups: a cause, and what followed from it within moments."""
    made: list[Entry] = []
    group, last, lid = 0, 0.0, -LID
    for e in found:
        at, kind = _seconds(e.time), _kind(e)
        if kind == "LidOpened":
            lid = at
        elif kind == "LidClosed":
            lid = -LID
        hurt = kind in ("DriveRemoved", "DriveOffline", "DriveFailure")
        follows = bool(made) and (
            (kind in CONSEQUENCES and at - last <= TOGETHER and _kind(made[-1]) in CAUSES + CONSEQUENCES)
            or (hurt and at - lid <= LID)
        )
        group += not follows
        made.append(replace(e, group=group, follows=follows))
        last = at
    return made


def ahead(client: Client, now: Callable[[], float] = time.time) -> float | None:
    """Seconds by which the server's clock is ahead of this machine's; None where it does not tell."""
    before = now()
    told = str(find(client).manager.get("DateTime") or "")
    middle = (before + now()) / 2
    return _seconds(told) - middle if _seconds(told) else None


def since(text: str, server_now: float) -> str:
    """The server's time from which on events are wanted: a moment (ISO 8601), or how long ago (2h, 30m)."""
    try:
        moment = datetime.fromisoformat(text)
        return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).isoformat()
    except ValueError:
        return datetime.fromtimestamp(server_now - parse_duration(text), UTC).isoformat()


def later(found: Sequence[Entry], moment: str) -> list[Entry]:
    """The events at or after a moment."""
    return [e for e in found if _seconds(e.time) >= _seconds(moment)]


# what was read last -----------------------------------------------------------------------------


def unread(server: str, found: Sequence[Entry]) -> list[Entry]:
    """The events that were not there when this server's log was read last by somebody who asked for new ones."""
    path = state_file(f"log-{server}", ".json")
    try:
        known = set(json.loads(path.read_text("utf-8"))["read"])
    except (OSError, ValueError, KeyError, TypeError):
        known = set()
    return [e for e in found if f"{e.number} {e.time}" not in known]


def mark_read(server: str, found: Sequence[Entry]) -> None:
    """Remember what has been read; a folder that cannot be written is no reason to stop."""
    path = state_file(f"log-{server}", ".json")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_text(path, json.dumps({"read": [f"{e.number} {e.time}" for e in found]}), replace=True)
    except (OSError, MediaError):
        return


def follow(client: Client, pause: float, sleep: Callable[[float], None] = time.sleep) -> Iterator[list[Entry]]:
    """What is new, each time there is something: told by the server where it sends events, else asked for.

    A lost connection is waited for.
    """
    known = {(e.number, e.time) for e in entries(client)}
    stream = _stream(client)
    while True:
        try:
            for _told in client.stream(stream) if stream else ({},):  # the log itself says what has happened
                fresh = [e for e in entries(client) if (e.number, e.time) not in known]
                known |= {(e.number, e.time) for e in fresh}
                if fresh:
                    yield fresh
        except RedfishError as reason:
            if reason.facts["status"] not in (0, 500, 502, 503, 504):
                raise
        sleep(pause)


def _stream(client: Client) -> str:
    """Where the server sends events as they happen; "" where it does not."""
    if "EventService" not in client.root:
        return ""
    return str(client.get(client.root["EventService"]["@odata.id"]).get("ServerSentEventUri") or "")


def seen_for(client: Client) -> Server | None:
    """A survey to resolve paths with; None where it cannot be read just now."""
    try:
        return survey(client)
    except (RedfishError, WorkError):
        return None


def _shifted(text: str, seconds: float) -> str:
    moment = _seconds(text)
    return (datetime.fromtimestamp(moment, UTC) + timedelta(seconds=seconds)).isoformat() if moment else text


def _seconds(text: str) -> float:
    try:
        return datetime.fromisoformat(text).timestamp()
    except ValueError:
        return 0.0
