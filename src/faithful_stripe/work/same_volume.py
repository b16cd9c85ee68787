"""A volume as somebody else shows it, held against that of a lineup, byte by byte, before anything is written to it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.formats.ends import declared_end
from ..core.lineup.document.lineup_document import Lineup
from ..core.lineup.full_pass.soundness import tested
from ..core.lineup.reading.samples import Tell, silent
from ..core.ranges import Range, clip, total, union
from ..core.source import BlockSource
from ..media.forgiving import Forgiving

MOST_DIFFERENCES = 1000
CHUNK, SECTOR = 4 << 20, 512


@dataclass(frozen=True)
class Seen:
    """What a server shows of a volume, held against the lineup's own.

    size, expected  of the two, in bytes
    needed          how many of them what is on it takes, where it says so; else all
    compared        bytes that hold data on either side
    differ          ranges of the volume that do not hold the same; the first `MOST_DIFFERENCES` of them
    unreadable      ranges that one of the two cannot read
    """

    size: int
    expected: int
    needed: int
    compared: int
    differ: tuple[Range, ...]
    unreadable: tuple[Range, ...]

    @property
    def same(self) -> bool:
        return self.size >= self.needed and not self.differ and not self.unreadable


def compare_seen(found: Lineup, members: list[BlockSource | None], seen: BlockSource, tell: Tell = silent) -> Seen:
    """Read a volume as a server shows it against the lineup's own, wherever either holds data; nothing is written.

    A controller may show a few bytes more behind the end; or fewer, as far as nothing on the volume claims them.
    """
    found, _read = (found, 0) if found.rowmap is not None else tested(found, members, tell)
    mine, theirs = Forgiving(found.opened(members)), Forgiving(seen)
    end = min(mine.size, theirs.size)
    ranges = union([*mine.data_ranges(0, end), *theirs.data_ranges(0, end)])
    differ: list[Range] = []
    whole, done = total(ranges), 0
    for a, b in ranges:
        for at in range(a, b, CHUNK):
            ours, other = bytearray(min(CHUNK, b - at)), bytearray(min(CHUNK, b - at))
            mine.read_into(at, ours)
            theirs.read_into(at, other)
            if len(differ) < MOST_DIFFERENCES and ours != other:
                wrong = np.flatnonzero(np.frombuffer(ours, np.uint8) != np.frombuffer(other, np.uint8))
                sectors = np.unique(wrong // SECTOR).tolist()
                differ = union([*differ, *((at + s * SECTOR, at + (s + 1) * SECTOR) for s in sectors)])
            done += len(ours)
            tell("comparing", done >> 20, whole >> 20)
    unreadable = clip(union([*mine.unread, *theirs.unread]), 0, end)
    claimed = declared_end(mine)
    needed = mine.size if claimed is None else min(claimed, mine.size)
    return Seen(theirs.size, mine.size, needed, done, tuple(differ[:MOST_DIFFERENCES]), tuple(unreadable))
