"""A volume that is offline: which member left when, whether it is up to date, and forcing online what is known to be.

Nothing is changed until it is asked for, and then only in the standard's way (`Volume.ForceEnable`), with members that
are known to be up to date; it is read back before it is called done.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from ..core.lineup.reading.samples import Tell, silent
from ..core.server.acts import Allowed, ForceOnline, Refused, may
from ..core.server.assess import assess
from ..core.server.condition import Judged, State
from ..core.server.model import Server
from ..core.server.redundancy import Answers, answers, standing
from ..core.server.things import Seat, SeatState, Volume
from ..core.server.unknown import UNKNOWN
from ..redfish.client import Client
from ..redfish.exchange import RedfishError
from ..redfish.plain import part, text
from .errors import ActRefused, WorkError
from .log import Entry, clocks, entries, explained
from .survey import survey
from .trying_back import OnImages, on_images

LEFT = ("DriveRemoved", "DriveFailure", "DriveOffline", "DriveGivenUp")
"""Events of a member that leaves, by the last part of their message id."""

ACTION = "#Volume.ForceEnable"


@dataclass(frozen=True)
class Away:
    """A missing member: its place, whether its drive is seated and answers, and the event with which it left last; None
    where the log tells of none."""

    seat: Seat
    here: bool
    left: Entry | None


@dataclass(frozen=True)
class Rescue:
    """What is known of a volume that is to be brought back.

    logged   whether the server's log could be read: else nothing is known of when a member left
    verdict  whether it may be forced online, and else why not and what comes first
    offered  whether the server offers that
    tried    what images of its drives say of its missing members, where some were named
    """

    server: Server
    volume: Volume
    away: tuple[Away, ...]
    logged: bool
    verdict: Allowed | Refused
    offered: bool
    tried: OnImages | None = None

    @property
    def serials(self) -> list[str]:
        """The serial numbers of the missing members whose drives are there."""
        return [str(a.seat.serial) for a in self.away if a.here and a.seat.serial is not UNKNOWN]


def rescue(
    client: Client, name: str, controller: str | None = None, images: Mapping[str, Path] | None = None,
    tell: Tell = silent,
) -> Rescue:  # fmt: skip
    """What is known of a volume. Raises ChoiceError, RedfishError, and what `on_images` does.

    images  of its drives, by bay, to try each choice of missing members on
    """
    seen = survey(client)
    volume = seen.volume(name, controller)
    missed: list[str] = []
    try:
        events = explained(entries(client, lambda path, _reason: missed.append(path)), seen, clocks(client))
        logged = not missed
    except (WorkError, RedfishError):
        events, logged = [], False  # a server without a log, or one that refuses it
    missing = [volume.seats[i] for i in sorted(standing(seen, volume).gone)]
    away = tuple(_away(seen, s, events) for s in missing if s.state is not SeatState.REBUILDING)
    offered = text(part(client.maybe(volume.path), "Actions", ACTION), "target") is not UNKNOWN
    tried = on_images(seen, volume, images, tell) if images and away else None
    act = ForceOnline(volume, tried.proven if tried else frozenset())
    return Rescue(seen, volume, away, logged, may(act, seen), offered, tried)


def _away(seen: Server, seat: Seat, events: list[Entry]) -> Away:
    drive = seen.seated_at(seat)
    here = drive is not None and drive.seated and answers(drive) is Answers.YES
    mine = [e for e in events if e.message_id.rpartition(".")[2] in LEFT and _of(e, seat)]
    return Away(seat, here, mine[-1] if mine else None)


def _of(event: Entry, seat: Seat) -> bool:
    """Whether an event is about a member: by its serial number, else by its bay."""
    return event.serial == seat.serial if event.serial and seat.serial is not UNKNOWN else event.bay == seat.bay


def force_online(client: Client, found: Rescue) -> Judged:
    """Have the controller use the members that are there again, and read it back. Raises ActRefused, WorkError,
    RedfishError where it took that and the volume still cannot be read."""
    if isinstance(found.verdict, Refused):
        raise ActRefused(found.server, found.verdict)
    target = text(part(client.get(found.volume.path), "Actions", ACTION), "target")
    if target is UNKNOWN:
        what = f"volume {found.volume.name}: this server does not offer to force a volume online"
        raise WorkError(what=what, to_do="its own console may; or image the drives and use `lineup solve`")
    client.post(target, {})
    seen = survey(client)
    now = next((j for j in assess(seen).volumes.values() if j.volume.path == found.volume.path), None)
    if now is None or now.state is State.OFFLINE:
        what = f"{client.where}: it took that, and volume {found.volume.name} still cannot be read"
        raise RedfishError(what=what, to_do="look at its log: `log`; write nothing to it", status=0, message_id="")
    return now
