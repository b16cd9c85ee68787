"""The server's event log, in order: bays, drives and volumes resolved, in plain words beside the original message,
causes with what followed from them, and the server's clock held against this machine's."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from itertools import pairwise

from ..core.server.model import Server
from ..core.server.unknown import known as said_or
from ..core.shape import fits
from ..core.units import parse_duration
from ..media.image import MediaError
from ..media.whole import write_text
from ..redfish.client import Client, Missed, gap
from ..redfish.entries import read_entries
from ..redfish.exchange import Body, RedfishError
from ..redfish.names import OEM
from ..redfish.plain import link, path_of
from .errors import WorkError
from .remembered import state_file
from .survey import find, survey
from .visits import note, notes

OFTEN, DAY = 4, 86400.0
"""Events alike within so many seconds from which on they are told once, with their count."""

SAME_CLOCK = 2.0
"""Seconds by which an offset may differ from the one before and be the same: answers take their time."""

TOGETHER = 10.0
"""Seconds within which a consequence follows its cause."""

LID = 120.0
"""Seconds after the lid was opened in which what happens to drives is put down to that."""

CAUSES = ("LidOpened", "DriveRemoved", "DriveFailure", "DriveOffline", "PowerLost", "DrivePredictiveFailure",
          "DriveInserted", "DriveOfflineCleared", "PowerOn", "SectorsUnreadable", "VolumeAdopted")  # fmt: skip
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
    "VolumeDegraded": "{volume} has less redundancy",
    "VolumeFailure": "{volume} cannot be read: it is offline",
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

    path     its resource
    plain    what it means; "" where the message says it well enough
    follows  it is a consequence of the event before it in its group
    path     its resource
    count    so many like it within a day are told by this one, the last of them at `last`
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
    count: int = 1
    last: str = ""
    path: str = ""


def entries(client: Client, missed: Missed = gap, moment: str = "", known: Collection[str] = ()) -> list[Entry]:
    """All events of all log services of system, managers and chassis, oldest first. Raises WorkError where there is
    no log, RedfishError where none of what there is can be read.

    missed  hears of a log, or a part of one, that cannot be read
    moment  the server's time from which on events are wanted, and what they may have followed from; "" for all
    known   paths of events that are not wanted any more
    """
    after = _seconds(moment) - max(LID, TOGETHER) if moment else None
    unread: list[RedfishError] = []

    def miss(path: str, reason: RedfishError) -> None:
        gap(path, reason)
        unread.append(reason)
        missed(path, reason)

    with client.look():
        root, systems = client.root, find(client).systems
        keepers = [*systems, *(m for name in ("Managers", "Chassis") for m in client.members(link(root, name), gap))]
        logs = list(dict.fromkeys(path for k in keepers if (path := link(k, "LogServices"))))
        if not logs:
            raise WorkError(what=f"{client.where}: the server offers no log", to_do="look at its own console")
        places = dict.fromkeys(link(s, "Entries") for path in logs for s in client.members(path, miss))
        found = [_entry(body) for path in places for body in read_entries(client, path, miss, after, known)]
    if unread and not found:
        raise unread[0]
    numbers = [int(e.number) for e in found if e.number.isdecimal()]
    if len(set(numbers)) == len(found):  # the log counts its entries: its order holds when its clock is set back
        return sorted(found, key=lambda e: int(e.number))
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
        path=path_of(body),
    )


def explained(found: Sequence[Entry], seen: Server | None, clocks: Clocks) -> list[Entry]:
    """Events resolved, grouped, and with this machine's time.

    seen    to tell which drive or volume a path is; None where that is not wanted
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
        serial = e.serial or (said_or(drive.serial, "") if drive else "")
        made.append(replace(e, bay=bay, volume=name, serial=serial, plain=text, here=clocks.here(e.time)))
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


def collapsed(found: Sequence[Entry]) -> list[Entry]:
    """Events of which many alike came within a day (a link that comes and goes), told once with their count.

    Alike are groups of events with the same kinds at the same places; fewer than `OFTEN` stay as they are.
    """
    groups: dict[int, list[Entry]] = {}
    for e in found:
        groups.setdefault(e.group, []).append(e)
    runs: list[tuple[tuple[object, ...], list[list[Entry]]]] = []
    for mine in groups.values():
        signature = tuple((_kind(e), e.bay, e.serial, e.volume) for e in mine)
        run = next((r for s, r in reversed(runs) if s == signature), None)
        if run is not None and _seconds(mine[0].time) - _seconds(run[0][0].time) <= DAY:
            run.append(mine)
        else:
            runs.append((signature, [mine]))
    made: list[Entry] = []
    for _signature, run in runs:
        if len(run) < OFTEN:
            made += [e for mine in run for e in mine]
        else:
            made += [replace(e, count=len(run), last=run[-1][i].time) for i, e in enumerate(run[0])]
    places = {id(e): i for i, e in enumerate(found)}
    first = {(e.number, e.time): i for i, e in enumerate(found)}
    return sorted(made, key=lambda e: places.get(id(e), first[e.number, e.time]))


def clocks(client: Client) -> Clocks:
    """How the server's clock stands to this machine's, now and earlier; noted where it has changed."""
    offset = ahead(client)
    history = [
        (_seconds(str(n["server_time"])), _seconds(str(n["time"])), float(n["offset"]))
        for n in notes(client.where)
        if n.get("kind") == "clock"
    ]
    if offset is None:
        return Clocks(tuple(history))
    if not history or abs(history[-1][2] - offset) > SAME_CLOCK:
        server_now = datetime.fromtimestamp(time.time() + offset, UTC).isoformat()
        note(client.where, "clock", offset=offset, server_time=server_now)
    now = time.time()
    return Clocks((*history, (now + offset, now, offset)))


@dataclass(frozen=True)
class Clocks:
    """The history of two clocks: (server's time, this machine's time, seconds by which the server's was ahead), oldest
    first; the last is now. What happened before a jump of either clock is not moved by it."""

    history: tuple[tuple[float, float, float], ...] = ()

    @property
    def offset(self) -> float:
        """Seconds by which the server's clock is ahead now; 0 where it does not tell."""
        return self.history[-1][2] if self.history else 0.0

    def here(self, text: str) -> str:
        """This machine's time (ISO 8601) of a moment by the server's clock."""
        moment = _seconds(text)
        return _shifted(text, -self.at(moment)) if moment else text

    def at(self, moment: float) -> float:
        """By how much the server's clock was ahead when it showed a moment.

        Between two looks with different offsets the clock has jumped (or runs at another speed, as a bench's may): up
        to where the first look's clock would have come by the second look, the first offset holds.
        """
        if not self.history:
            return 0.0
        for (server, here, offset), (_later, here_later, _offset) in pairwise(self.history):
            if moment <= server + (here_later - here):
                return offset
        return self.history[-1][2]


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
        told = json.loads(path.read_text("utf-8"))
    except (OSError, ValueError, RecursionError):
        told = None
    known = set(told["read"]) if fits(told, {"read": [str]}) else set()
    return [e for e in found if f"{e.number} {e.time}" not in known]


def mark_read(server: str, found: Sequence[Entry]) -> None:
    """Remember what has been read; a folder that cannot be written is no reason to stop."""
    path = state_file(f"log-{server}", ".json")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_text(path, json.dumps({"read": [f"{e.number} {e.time}" for e in found]}), replace=True, mode=0o600)
    except (OSError, MediaError):
        return


def follow(client: Client, pause: float, sleep: Callable[[float], None] = time.sleep) -> Iterator[list[Entry]]:
    """What is new, each time there is something: told by the server where it sends events, else asked for.

    A lost connection is waited for.
    """
    first = entries(client)
    known, read = {(e.number, e.time) for e in first}, {e.path for e in first}
    stream = _stream(client)
    while True:
        try:
            for _told in client.stream(stream) if stream else ({},):  # the log itself says what has happened
                fresh = [e for e in entries(client, known=read) if (e.number, e.time) not in known]
                known |= {(e.number, e.time) for e in fresh}
                read |= {e.path for e in fresh}
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
    return str(client.get(link(client.root, "EventService")).get("ServerSentEventUri") or "")


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
