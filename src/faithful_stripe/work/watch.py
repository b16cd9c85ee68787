"""Watching work in progress: snapshots with the measured rate and the time that leaves, until all is done."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from itertools import pairwise

from ..core.arrays.groups import HOURS_PER_YEAR, chance_without_repair, redundancy
from ..core.server.model import Drive, Operation, Server, Volume
from ..redfish.client import Client
from .margins import layout_of
from .seeing import Told, looks

WINDOW = 12
"""Looks over which the rate is measured: enough to be steady, few enough to follow a change."""


FAILING = 0.02 / HOURS_PER_YEAR
"""Of a drive, per hour: two of a hundred in a year, as published for large fleets."""


@dataclass(frozen=True)
class Progress:
    """One piece of work at one moment.

    rate     bytes of the member per second of the server's clock; None until two readings differ
    left     seconds of the server's clock until it is done at that rate; None where it cannot be told
    spread   (least, most) seconds left, by the slowest and the fastest that was measured lately
    warmest  (degrees Celsius, bay) of the warmest drive of the volume, where the server tells
    chance   that further failures in the time that is left cost data; None where it cannot be told
    """

    work: Operation
    margin: int | None
    rate: float | None = None
    left: float | None = None
    spread: tuple[float, float] | None = None
    warmest: tuple[float, str] | None = None
    chance: float | None = None


@dataclass(frozen=True)
class Snapshot:
    """All work at one moment of the server's clock (ISO 8601), and the volumes as they are then.

    unfinished  volumes whose drives all answer, and that are not whole yet all the same
    """

    time: str
    progress: tuple[Progress, ...]
    volumes: tuple[Volume, ...]
    unfinished: tuple[str, ...] = ()
    drives: tuple[Drive, ...] = ()

    @property
    def healthy(self) -> bool:
        return all(v.health == "OK" for v in self.volumes)


class Pace:
    """Measures how fast each piece of work goes, from one look to the next."""

    def __init__(self) -> None:
        self._samples: dict[tuple[str, str], deque[tuple[float, float]]] = {}

    def of(self, seen: Server, work: Operation, margin: int | None = None) -> Progress:
        """One piece of work as it is in a survey, with its rate as far as it is known."""
        at = _seconds(seen.time)
        recent = self._samples.setdefault((work.volume, work.name), deque(maxlen=WINDOW))
        if work.waits:
            recent.clear()  # it will begin between two looks: only what is seen of it running counts
        else:
            recent.append((at, work.percent))
        known = [v.margin for v in seen.volumes if v.name == work.volume]
        left = margin if margin is not None or not known else known[0]
        return _measure(Progress(work, left), recent)


def watch(client: Client, pause: float = 0.0, sleep: Callable[[float], None] = time.sleep) -> Iterator[Snapshot | Told]:
    """A snapshot each time it is asked, the last one when no work is left; in between, what there is to tell of a lost
    connection or a server that is off."""
    pace = Pace()
    for seen in looks(client, pause, sleep):
        if isinstance(seen, Told):
            yield seen
            continue
        snapshot = snapshot_of(seen, pace)
        yield snapshot
        if not snapshot.progress:
            return


def snapshot_of(seen: Server, pace: Pace) -> Snapshot:
    """A survey as a snapshot of its work."""
    several = len(seen.controllers) > 1
    volumes = tuple(replace(v, name=f"{v.name} ({v.controller})") if several else v for v in seen.volumes)
    progress = []
    for v in volumes:
        for work in v.work:
            now = pace.of(seen, replace(work, volume=v.name), v.margin)
            progress.append(replace(now, warmest=_warmest(seen, v), chance=chance_of_loss_within(v, now.left)))
    failed = {d.serial for d in seen.drives if d.health == "Critical"}
    unfinished = tuple(
        v.name
        for v in volumes
        if any(m.state == "rebuilding" for m in v.members) and not failed & {m.serial for m in v.members}
    )
    return Snapshot(seen.time, tuple(progress), volumes, unfinished, seen.drives)


def _warmest(seen: Server, volume: Volume) -> tuple[float, str] | None:
    members = {m.serial for m in volume.members}
    known = [(d.celsius, d.bay) for d in seen.drives if d.serial in members and d.celsius is not None]
    return max(known, default=None)


def chance_of_loss_within(volume: Volume, seconds: float | None) -> float | None:
    """Chance that further drives fail in this time so that data are lost (`core/arrays/groups.py`)."""
    shape = layout_of(volume)
    if shape is None or seconds is None or (volume.margin is not None and volume.margin < 0):
        return None
    group = redundancy(shape)
    width = len(volume.members) // group.groups
    lost = [
        sum(m.state != "active" for m in volume.members[i : i + width]) for i in range(0, len(volume.members), width)
    ]
    return chance_without_repair(group, FAILING, seconds / 3600, lost=max(lost, default=0))


def _measure(now: Progress, recent: Sequence[tuple[float, float]]) -> Progress:
    """The rate over all recent readings, and what the slowest and fastest of them would leave."""
    began, percent = recent[0] if recent else (0.0, 0.0)
    at = recent[-1][0] if recent else 0.0
    if at <= began or now.work.percent <= percent:
        return now
    speed = (now.work.percent - percent) / (at - began)
    rate = speed / 100 * now.work.total if now.work.total else None
    steps = [(b[1] - a[1]) / (b[0] - a[0]) for a, b in pairwise(recent) if b[0] > a[0] and b[1] > a[1]]
    rest = 100 - now.work.percent
    spread = (rest / max(steps), rest / min(steps)) if len(steps) > 1 else None
    return replace(now, rate=rate, left=rest / speed, spread=spread)


def _seconds(text: str) -> float:
    try:
        return datetime.fromisoformat(text).timestamp()
    except ValueError:
        return 0.0
