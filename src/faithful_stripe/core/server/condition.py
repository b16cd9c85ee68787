"""What state a volume is in, and how much it survives: one volume judged."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from ..ranges import Range, union
from .model import Server
from .redundancy import health_of, margin_now, offline, standing, survives
from .risk import Exposure, exposure
from .stretches import Stretch, stretches
from .things import Health, Seat, Volume, WorkKind
from .unknown import UNKNOWN


class State(StrEnum):
    """States of volumes, one word each.

    OK          whole, and its redundancy as it should be
    DEGRADED    can be read, with less redundancy than it should have
    REBUILDING  the same, and being brought back
    OFFLINE     cannot be read, and returns when a drive returns
    LOST        some of its bytes can be neither read nor computed: gone for good
    """

    OK = "OK"
    DEGRADED = "degraded"
    REBUILDING = "rebuilding"
    OFFLINE = "offline"
    LOST = "lost"


@dataclass(frozen=True)
class Judged:
    """A volume judged.

    margin     failures that it is certain to survive now, for its worst range that can be read; -1: it cannot be read
    whole      the same for the volume but for the ranges below
    stretches  ranges of it with another margin
    certain    whether the margin is derived from what the server tells; else it counts none for want of knowing
    lost       ranges that can be neither read nor computed
    gone       seats that do not count, `hidden`: further ones that are not listed; `doubtful`: of which too little is
               told to count on them
    """

    volume: Volume
    state: State
    margin: int
    whole: int
    certain: bool
    stretches: tuple[Stretch, ...] = ()
    lost: tuple[Range, ...] = ()
    gone: tuple[Seat, ...] = ()
    hidden: int = 0
    doubtful: tuple[Seat, ...] = ()
    exposure: Exposure | None = None


def judge_volume(server: Server, volume: Volume) -> Judged:
    """One volume judged."""
    stands = standing(server, volume)
    away = offline(server, volume)
    parts = [] if away else stretches(server, volume)
    lost = union((s.start, s.end) for s in parts if s.margin < 0)
    whole = margin_now(server, volume)
    readable = [s.margin for s in parts if s.margin >= 0]
    running = any(w.kind in (WorkKind.REBUILD, WorkKind.COPY) for w in volume.work)
    short = bool(stands.gone or stands.hidden or stands.doubtful) or not stands.told
    state = State.OK
    if away:
        state = State.OFFLINE
    elif lost:
        state = State.LOST
    elif short:
        rebuilding = any(w.kind is WorkKind.REBUILD for w in volume.work)
        state = State.REBUILDING if rebuilding else State.DEGRADED
    elif running and any(w.kind is WorkKind.REBUILD for w in volume.work):
        state = State.REBUILDING
    elif health_of(volume) is not Health.OK or _weakened(volume, parts, whole):
        state = State.DEGRADED
    certain = survives(volume) is not UNKNOWN and stands.told and health_of(volume) is not UNKNOWN
    return Judged(
        volume=volume, state=state, margin=-1 if away else min([whole, *readable]), whole=whole, certain=certain,
        stretches=tuple(parts), lost=tuple(lost), gone=tuple(volume.seats[i] for i in sorted(stands.gone)),
        hidden=stands.hidden, doubtful=tuple(volume.seats[i] for i in sorted(stands.doubtful)),
        exposure=exposure(server, volume),
    )  # fmt: skip


def _weakened(volume: Volume, parts: list[Stretch], whole: int) -> bool:
    """Whether a range has less than the rest for another reason than an initialization that still runs."""
    initializing = any(w.kind is WorkKind.INITIALIZE for w in volume.work)
    bad = union([*volume.inconsistent, *volume.lost])
    weak = [s for s in parts if 0 <= s.margin < whole]
    return any(not initializing or any(a < s.end and s.start < b for a, b in bad) for s in weak)
