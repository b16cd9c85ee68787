"""Watching work in progress: snapshots with the measured rate and the time that leaves, until all is done."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime

from ..redfish.client import Client
from .survey import survey
from .views import VolumeView, Work

WINDOW = 12
"""Looks over which the rate is measured: enough to be steady, few enough to follow a change."""


@dataclass(frozen=True)
class Progress:
    """One piece of work at one moment.

    rate     bytes of the member per second of the server's clock; None until two readings differ
    left     seconds of the server's clock until it is done at that rate; None where it cannot be told
    """

    work: Work
    margin: int | None
    rate: float | None = None
    left: float | None = None


@dataclass(frozen=True)
class Snapshot:
    """All work at one moment of the server's clock (ISO 8601), and the volumes as they are then."""

    time: str
    progress: tuple[Progress, ...]
    volumes: tuple[VolumeView, ...]

    @property
    def healthy(self) -> bool:
        return all(v.health == "OK" for v in self.volumes)


def watch(client: Client) -> Iterator[Snapshot]:
    """A snapshot each time it is asked, the last one when no work is left. The caller chooses the pace."""
    samples: dict[tuple[str, str], deque[tuple[float, float]]] = {}
    while True:
        seen = survey(client)
        at = _seconds(seen.time)
        progress = []
        several = len(seen.controllers) > 1
        volumes = tuple(replace(v, name=f"{v.name} ({v.controller})") if several else v for v in seen.volumes)
        for volume in volumes:
            for work in (replace(w, volume=volume.name) for w in volume.work):
                recent = samples.setdefault((work.volume, work.name), deque(maxlen=WINDOW))
                if work.waits:
                    recent.clear()  # it will begin between two looks: only what is seen of it running counts
                else:
                    recent.append((at, work.percent))
                progress.append(_measure(Progress(work, volume.margin), recent[0] if recent else (at, 0.0), at))
        yield Snapshot(seen.time, tuple(progress), volumes)
        if not progress:
            return


def _measure(now: Progress, start: tuple[float, float], at: float) -> Progress:
    began, percent = start
    if at <= began or now.work.percent <= percent:
        return now
    speed = (now.work.percent - percent) / (at - began)
    rate = speed / 100 * now.work.total if now.work.total else None
    return replace(now, rate=rate, left=(100 - now.work.percent) / speed)


def _seconds(text: str) -> float:
    try:
        return datetime.fromisoformat(text).timestamp()
    except ValueError:
        return 0.0
