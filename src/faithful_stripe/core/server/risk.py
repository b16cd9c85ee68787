"""The chance that a volume without its full redundancy loses data before it is whole again: one model for all.

`weigh`, `watch`, `survey` and `rehearse` ask here, so that the same facts give the same chance. Assumptions: drives
fail independently at `FAILING`; a sector that cannot be read is met at `UNREADABLE` per bit of what is still to be
read; both are published figures, see `core/arrays/risk.py` for the sources of the model. A range that is known to be
bad is no chance any more: it is counted as lost.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from ..arrays.groups import HOURS_PER_YEAR, Redundancy, chance_without_repair, redundancy
from ..arrays.layout import layout
from ..arrays.levels import LEVELS, GeometryError
from ..arrays.timing import PACES, REBUILD_SHARE, spinning
from .model import Server
from .redundancy import layout_of, offline, standing
from .stretches import stretches
from .things import Volume, WorkKind
from .unknown import UNKNOWN, known

FAILING = 0.015
"""Of a drive, per year: as published for large fleets."""

UNREADABLE = 1e-15
"""Sectors that cannot be read per bit read, as makers state it for server drives."""

SWAP_HOURS = 24.0
"""Until somebody has fitted a replacement, where no hot spare stands by."""


@dataclass(frozen=True)
class Exposure:
    """A volume that is not whole: the chance that data are lost until it is.

    hours   that this takes, waiting for a replacement included; `measured`: by the work's own pace
    left    bytes of each remaining member that are still to be read
    """

    chance: float
    hours: float
    left: int
    measured: bool


def until_whole(
    group: Redundancy, missing: int, hours: float, left: int, failing: float = FAILING, unreadable: float = UNREADABLE
) -> float:
    """Chance of losing data until a group with `missing` members gone is whole again.

    failing  of a drive per year; unreadable per bit; left: bytes of each remaining member that are still to be read

    >>> from ..arrays.layout import layout
    >>> round(until_whole(redundancy(layout("RAID5", 4)), 1, 0.0, 4 * 10**12), 4)  # 1 - (1 - 1e-15) ** (3 * 3.2e13)
    0.0915
    """
    if len(group.fatal) == 1:
        return 1.0
    bad = -math.expm1(left * 8 * math.log1p(-unreadable)) if unreadable < 1 else 1.0
    return chance_without_repair(group, failing / HOURS_PER_YEAR, hours, missing, bad)


def exposure(server: Server, volume: Volume, hours: float | None = None) -> Exposure | None:
    """The exposure of a volume as it is now; None where it is whole, cannot be read, or too little is told.

    hours  what its work still needs, where that was measured
    """
    group = _groups(volume)
    stands = standing(server, volume)
    if group is None or offline(server, volume) or not (stands.gone or stands.hidden):
        return None
    sizes = [d.size for s in volume.seats if (d := server.seated_at(s)) and d.size is not UNKNOWN]
    whole = volume.extent if volume.extent is not UNKNOWN else min(sizes, default=0)
    work = next((w for w in volume.work if w.kind is WorkKind.REBUILD), None)
    left = whole
    if work and work.done is not UNKNOWN and work.total is not UNKNOWN:
        left = work.total - work.done
    elif work and work.percent is not UNKNOWN:
        left = int(whole * (1 - work.percent / 100))
    if not left:
        return None
    takes = hours if hours is not None else left / (_rate(server, volume) * REBUILD_SHARE) / 3600
    if hours is None and work is None and not any(d.stands_by for d in server.drives):
        takes += SWAP_HOURS
    chance = until_whole(group, _worst(volume, stands.gone, group) + stands.hidden, takes, left)
    if any(s.margin < 0 for s in stretches(server, volume)):
        chance = 1.0
    return Exposure(chance, takes, left, hours is not None)


def _groups(volume: Volume) -> Redundancy | None:
    chosen = layout_of(volume)
    if chosen is None and volume.level is not UNKNOWN and volume.level in LEVELS:
        facts = LEVELS[volume.level]
        try:
            chosen = layout(volume.level, len(volume.seats), spans=volume.spans if facts.inner else None)
        except GeometryError:
            return None
    return redundancy(chosen) if chosen else None


def _worst(volume: Volume, gone: frozenset[int], group: Redundancy) -> int:
    """Members missing in the group that lacks most; where the order is not told, all of them in one."""
    if not volume.ordered:
        return len(gone)
    width = len(volume.seats) // group.groups
    return max(len([i for i in gone if i // width == g]) for g in range(group.groups))


def _rate(server: Server, volume: Volume) -> float:
    """Bytes per second of the slowest kind of drive in a volume, by what such drives do."""
    mates = [d for s in volume.seats if (d := server.seated_at(s))]
    if any(known(d.media, "HDD") == "HDD" for d in mates) or not mates:
        return spinning(7200).rate
    return PACES["nvme" if all("NVM" in known(d.protocol, "").upper() for d in mates) else "ssd"].rate
