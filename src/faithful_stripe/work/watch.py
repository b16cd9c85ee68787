"""Watching work in progress: snapshots with the measured rate and the time that leaves, until all is done."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from itertools import pairwise

from ..core.server.assess import Assessment, assess
from ..core.server.condition import Judged, State
from ..core.server.model import Server
from ..core.server.redundancy import Answers, answers
from ..core.server.risk import exposure
from ..core.server.things import Drive, Operation, SeatState, Volume, WorkKind
from ..core.server.unknown import UNKNOWN, known
from ..redfish.client import Client
from .seeing import Told, looks

WINDOW = 12
"""Looks over which the rate is measured: enough to be steady, few enough to follow a change."""


@dataclass(frozen=True)
class Progress:
    """One piece of work at one moment.

    rate     bytes of the member per second of the server's clock; None until two readings differ
    left     seconds of the server's clock until it is done at that rate; None where it cannot be told
    spread   (least, most) seconds left, by the slowest and the fastest that was measured lately
    warmest  (degrees Celsius, bay) of the warmest drive of the volume, where the server tells
    chance   that data are lost in the time that is left (`core/server/risk`); None where it cannot be told
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
    """All work at one moment of the server's clock (ISO 8601), and the server as judged then.

    unfinished  volumes whose drives all answer, and that are not whole yet all the same
    """

    time: str
    progress: tuple[Progress, ...]
    judged: Assessment
    unfinished: tuple[str, ...] = ()

    @property
    def healthy(self) -> bool:
        return self.judged.all_read and all(j.state is State.OK for j in self.judged.volumes.values())

    @property
    def drives(self) -> tuple[Drive, ...]:
        return self.judged.server.drives

    @property
    def volumes(self) -> tuple[Judged, ...]:
        return tuple(self.judged.volumes.values())


def until_all_done(progress: Sequence[Progress]) -> float | None:
    """Seconds until all work is done where some of it waits for other work: what runs first, then what waits, one after
    the other at the rate that was measured last; None where nothing waits, or its size or a rate is not known."""
    waiting = [p for p in progress if p.work.waits is True]
    running = [p for p in progress if p.work.waits is not True]
    rates = [p.rate for p in running if p.rate]
    if not waiting or not rates or any(p.left is None for p in running):
        return None
    rest = [known(p.work.total, None) for p in waiting]
    if any(total is None for total in rest):
        return None
    done = [known(p.work.done, 0) for p in waiting]
    later = sum((total or 0) - begun for total, begun in zip(rest, done, strict=True)) / min(rates)
    return max(p.left or 0.0 for p in running) + later


class Pace:
    """Measures how fast each piece of work goes, from one look to the next."""

    def __init__(self) -> None:
        self._samples: dict[tuple[str, ...], deque[tuple[float, float]]] = {}

    def of(self, seen: Server, work: Operation, margin: int | None = None) -> Progress:
        """One piece of work as it is in a survey, with its rate as far as it is known."""
        at = _seconds(seen.time)
        recent = self._samples.setdefault(work.key, deque(maxlen=WINDOW))
        if work.waits is True or work.percent is UNKNOWN:
            recent.clear()  # it will begin between two looks: only what is seen of it running counts
        else:
            recent.append((at, work.percent))
        return _measure(Progress(work, margin), recent)


def watch(client: Client, pause: float = 0.0, sleep: Callable[[float], None] = time.sleep) -> Iterator[Snapshot | Told]:
    """A snapshot each time it is asked, the last one when no work is left; in between, what there is to tell of a lost
    connection or a server that is off."""
    pace = Pace()
    for seen in looks(client, pause, sleep):
        if isinstance(seen, Told):
            yield seen
            continue
        snapshot = snapshot_of(assess(seen), pace)
        yield snapshot
        if not snapshot.progress:
            return


def snapshot_of(found: Assessment, pace: Pace) -> Snapshot:
    """A server as judged, as a snapshot of its work."""
    seen, progress = found.server, []
    for v in seen.volumes:
        for work in v.work:
            now = pace.of(seen, work, found.of(v).margin)
            hours = now.left / 3600 if now.left is not None else None
            risk = exposure(seen, v, hours) if work.kind in (WorkKind.REBUILD, WorkKind.COPY) else None
            progress.append(replace(now, warmest=_warmest(seen, v), chance=risk.chance if risk else None))
    unfinished = tuple(
        v.name
        for v in seen.volumes
        if any(s.state is SeatState.REBUILDING for s in v.seats)
        and all(answers(d) is Answers.YES for s in v.seats if (d := seen.seated_at(s)))
    )
    return Snapshot(seen.time, tuple(progress), found, unfinished)


def _warmest(seen: Server, volume: Volume) -> tuple[float, str] | None:
    mates = [d for s in volume.seats if (d := seen.seated_at(s))]
    return max(((d.celsius, d.bay) for d in mates if d.celsius is not UNKNOWN), default=None)


def _measure(now: Progress, recent: Sequence[tuple[float, float]]) -> Progress:
    """The rate over all recent readings, and what the slowest and fastest of them would leave."""
    began, percent = recent[0] if recent else (0.0, 0.0)
    at = recent[-1][0] if recent else 0.0
    done = known(now.work.percent, 0.0)
    if at <= began or done <= percent:
        return now
    speed = (done - percent) / (at - began)
    rate = speed / 100 * now.work.total if now.work.total is not UNKNOWN else None
    steps = [(b[1] - a[1]) / (b[0] - a[0]) for a, b in pairwise(recent) if b[0] > a[0] and b[1] > a[1]]
    rest = 100 - done
    spread = (rest / max(steps), rest / min(steps)) if len(steps) > 1 else None
    return replace(now, rate=rate, left=rest / speed, spread=spread)


def _seconds(text: str) -> float:
    try:
        return datetime.fromisoformat(text).timestamp()
    except ValueError:
        return 0.0
