"""Patches: what belongs in a recovered volume where it is not what stands on the members, computed from the others."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from ...arrays.geometry import Geometry
from ...ranges import Range, clip, union
from ...source import BlockSource
from ..document.lineup_document import Lineup
from ..document.row_map import RowMap, opened, touched
from ..reading.row_reader import fill_readable

CHUNK = 4 << 20


@dataclass(frozen=True)
class Patch:
    """Bytes of the volume at `at`; `unreadable` are ranges of the volume in them that are zeros instead."""

    at: int
    data: bytearray
    unreadable: tuple[Range, ...]

    @property
    def end(self) -> int:
        return self.at + len(self.data)


def patches(array: Lineup, members: Sequence[BlockSource | None], found: RowMap, part: Range) -> Iterator[Patch]:
    """What has to be written over what a pass handed on, within a part of the volume (bytes)."""
    for zone in array.zones:
        for low, high in clip([zone.volume], *part):
            yield from _in_zone(zone.geometry, zone.chosen(members), zone.inward(found), (low, high))


def _in_zone(made: Geometry, members: Sequence[BlockSource | None], found: RowMap, part: Range) -> Iterator[Patch]:
    volume = opened(made, members, found)
    gone = [p for p, member in enumerate(members) if member is None]
    wanted = touched(made, found, gone)
    if gone and not made.redundant:  # nothing is computed for them
        wanted = [*wanted, *_standing_on(made, found, gone)]
    for a, b in clip(union(wanted), *part):
        for at in range(a, b, CHUNK):
            data = bytearray(min(CHUNK, b - at))
            bad = fill_readable(volume, at, np.frombuffer(data, np.uint8))
            yield Patch(at, data, tuple(bad))


def _standing_on(made: Geometry, found: RowMap, gone: Sequence[int]) -> list[Range]:
    """Ranges of the volume that stand on some members, in rows that hold data."""
    ranges: list[Range] = []
    for first, last, _state in found.stretches:
        for who in gone:
            for row in range(first, last):
                volume = int(made.to_volume(who, made.start_bytes[who] + row * made.strip_bytes))
                if volume >= 0:
                    ranges.append((volume, volume + made.strip_bytes))
    return union(ranges)
