"""Reading rows: the strips of all members, some rows at a time, so few that they stay in a processor's cache."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import cycle

import numpy as np
import numpy.typing as npt

from ...arrays.engine import SECTOR
from ...arrays.geometry import Geometry
from ...ranges import Range, total, union
from ...source import BlockSource, BlockSourceError

Bytes2D = npt.NDArray[np.uint8]


@dataclass(frozen=True)
class Rows:
    """Rows [first, last) of an array as they stand on its members.

    blocks  by member: uint8 (rows, strip bytes); zeros where there is none, or nothing could be read. They are used
            again for other rows once the next but one are asked for: what is written from them may take that long
    lost    by member: byte ranges on it that could not be read
    """

    first: int
    last: int
    blocks: list[Bytes2D]
    lost: dict[int, list[Range]]

    @property
    def ended(self) -> frozenset[int]:
        """Members of which nothing could be read here."""
        return frozenset(who for who, ranges in self.lost.items() if total(ranges) == self.blocks[who].size)


def rows_of(
    made: Geometry, members: Sequence[BlockSource | None], ranges: Sequence[Range], step: int
) -> Iterator[Rows]:  # fmt: skip
    """The rows of some ranges in order, at most `step` at a time."""
    most = min(step, max((high - low for low, high in ranges), default=0))
    turns = cycle([[np.zeros((most, made.strip_bytes), np.uint8) for _ in members] for _ in range(2)])
    for low, high in ranges:
        for first in range(low, high, step):
            last, buffers = min(first + step, high), next(turns)
            blocks = [buffer[: last - first] for buffer in buffers]
            lost: dict[int, list[Range]] = {}
            for who, member in enumerate(members):
                if member is None:
                    blocks[who][...] = 0  # what was computed for it stood there
                elif bad := fill_readable(
                    member, made.start_bytes[who] + first * made.strip_bytes, blocks[who].reshape(-1)
                ):
                    lost[who] = bad
            yield Rows(first, last, blocks, lost)


def fill_readable(source: BlockSource, at: int, out: npt.NDArray[np.uint8]) -> list[Range]:
    """Read `out` at `at`; byte ranges on the source that cannot be read, sector by sector, and are zeros."""
    try:
        source.read_into(at, out)
        return []
    except BlockSourceError:
        out[...] = 0
        size = out.size
    if size <= SECTOR:
        return [(at, at + size)]
    middle = max(SECTOR, size // 2 // SECTOR * SECTOR)
    return union([*fill_readable(source, at, out[:middle]), *fill_readable(source, at + middle, out[middle:])])


def holding(blocks: Bytes2D) -> npt.NDArray[np.bool_]:
    """Which blocks, uint8 (blocks, bytes), hold something else than zeros: a few bytes of most tell."""
    found: npt.NDArray[np.bool_] = np.asarray(blocks[:, ::GLANCE].any(axis=1))
    if not found.all():
        rest = np.flatnonzero(~found)
        found[rest] = blocks[rest].max(axis=1, initial=0) != 0
    return found


GLANCE = 509
"""Every how many bytes a block is looked at first."""

LONGEST_WORD = 64
"""Bytes of a word that a copy has over and over where a drive could not be read, at most; shorter ones divide it."""


def repeating(blocks: Bytes2D) -> npt.NDArray[np.bool_]:
    """Which blocks, uint8 (blocks, bytes), hold zeros, one byte, or one short word over and over."""
    found: npt.NDArray[np.bool_] = np.asarray((blocks[:, LONGEST_WORD:] == blocks[:, :-LONGEST_WORD]).all(axis=1))
    return found
