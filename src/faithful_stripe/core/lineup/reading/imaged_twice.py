"""Drives that were imaged twice: two passes over one drive, each with its own gaps, read as one.

No map says which bytes a pass has read. But what a pass could not read is zeros or a pattern, where the other holds
something else; and everywhere else the two are equal. Mates of a mirror look just so: they are passes of one drive only
in a pile where no other drive has a mate.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from ...ranges import Range, union
from ...source import BlockSource, BlockSourceError, Buffer, Unreadable, check_bounds
from .row_reader import repeating
from .samples import BLOCK, Pile

SECTOR = 512
LOOKED, LEAST_EQUAL, LEAST_GAPS = 768, 24, 2
"""Places that are looked at, how many must be equal, and how many be a gap of one; none may be neither."""

Bytes2D = npt.NDArray[np.uint8]
Flags = npt.NDArray[np.bool_]


def worth(sectors: Bytes2D) -> npt.NDArray[np.int8]:
    """What sectors, uint8 (n, 512), say for having been read: 2 data, 1 zeros, 0 one pattern over and over."""
    filled: Flags = np.asarray(sectors.any(axis=1))
    return np.where(filled & ~repeating(sectors), 2, np.where(filled, 0, 1)).astype(np.int8)


@dataclass
class BestOf:
    """Several passes over one drive as one source: of every sector what is likeliest to have been read, data, else
    zeros, else whatever is there. What a pass cannot read, another one gives; where two hold different data, nothing
    tells which is right, and the sector cannot be read."""

    passes: Sequence[BlockSource]
    name: str = field(default="")

    def __str__(self) -> str:
        return self.name or "+".join(str(one) for one in self.passes)

    @property
    def size(self) -> int:
        return max(one.size for one in self.passes)

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        check_bounds(self, self.size, offset, view.nbytes)
        first = offset // SECTOR * SECTOR
        count = -(-(offset + view.nbytes - first) // SECTOR)
        best = np.zeros((count, SECTOR), np.uint8)
        known = np.full(count, -1, np.int8)
        apart = np.zeros(count, np.bool_)
        failed: BlockSourceError | None = None
        for one in self.passes:
            mine, told = np.zeros((count, SECTOR), np.uint8), np.full(count, -1, np.int8)
            try:
                self._read(one, first, mine, told)
            except BlockSourceError as reason:
                failed = reason
                for row in range(count):
                    try:
                        self._read(one, first + row * SECTOR, mine[row : row + 1], told[row : row + 1])
                    except BlockSourceError:
                        continue
            apart |= (told == 2) & (known == 2) & (mine != best).any(axis=1)
            better = told > known
            best[better], known[better] = mine[better], told[better]
        if failed is not None and (known < 0).any():
            raise failed
        if apart.any():
            raise Unreadable(source=self, offset=offset, length=view.nbytes)
        inner = offset - first
        view[:] = best.reshape(-1)[inner : inner + view.nbytes].tobytes()

    @staticmethod
    def _read(one: BlockSource, first: int, rows: Bytes2D, told: npt.NDArray[np.int8]) -> None:
        """What one pass has of some sectors, and what that is worth; nothing behind its end."""
        length = max(0, min(rows.size, one.size - first))
        flat = bytearray(length)
        if length:
            one.read_into(first, flat)
            rows.reshape(-1)[:length] = np.frombuffer(flat, np.uint8)
        there = -(-length // SECTOR)
        told[:there] = worth(rows[:there])

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = self.size if end is None else min(end, self.size)
        yield from union(
            r for one in self.passes if start < one.size for r in one.data_ranges(start, min(stop, one.size))
        )


def imaged_twice(pile: Pile, equal_too: bool, both_ways: bool = False) -> list[tuple[int, ...]]:
    """Images that seem to be passes over one drive, with gaps where another has data; none where other images have
    copies, too, or there are no others.

    equal_too  whether images that are equal throughout are taken for one drive, too
    both_ways  whether each must have data where the other has none: one that only lacks some may be out of date
    """
    if len(pile) < 3:
        return []
    blocks = _looked_at(pile)
    held = [int((worth_of == 2).any(axis=1).sum()) for worth_of in (b[1] for b in blocks)]
    pairs: list[tuple[int, int]] = []
    for i in range(len(pile)):
        for j in range(i + 1, len(pile)):
            equal, gaps, apart = _compared(blocks[i], blocks[j])
            if equal >= LEAST_EQUAL and not apart:
                if sum(gaps) < LEAST_GAPS and not equal_too:
                    return []  # a mirror's mates
                if all(gaps) or not both_ways:
                    pairs.append((i, j))
    groups: list[set[int]] = []
    for pair in pairs:
        mine = [g for g in groups if g & set(pair)]
        groups = [g for g in groups if g not in mine] + [set(pair).union(*mine)]
    alone = [i for i in range(len(pile)) if held[i] >= LEAST_EQUAL and not any(i in g for g in groups)]
    return [tuple(sorted(g)) for g in groups] if len(alone) >= len(groups) else []


Looked = tuple[npt.NDArray[np.uint8], npt.NDArray[np.int8]]


def _looked_at(pile: Pile) -> list[Looked]:
    """The same blocks of every image: uint8 (blocks, 8, 512), and what their sectors are worth."""
    ranges = union(r for i in range(len(pile)) for r in pile.data(i))
    offsets = np.concatenate([np.arange(a, b, BLOCK, dtype=np.int64) for a, b in ranges] or [np.empty(0, np.int64)])
    chosen = offsets[np.unique(np.linspace(0, len(offsets) - 1, LOOKED).astype(np.int64))] if len(offsets) else offsets
    found = []
    for source in pile.sources:
        rows = np.zeros((len(chosen), BLOCK), np.uint8)
        for n, at in enumerate(chosen.tolist()):
            if at + BLOCK <= source.size:
                block = bytearray(BLOCK)
                try:
                    source.read_into(at, block)
                except BlockSourceError:
                    continue
                rows[n] = np.frombuffer(block, np.uint8)
        pile.bytes_read += len(chosen) * BLOCK
        sectors = rows.reshape(-1, SECTOR)
        found.append((rows.reshape(len(chosen), -1, SECTOR), worth(sectors).reshape(len(chosen), -1)))
    return found


def _compared(one: Looked, other: Looked) -> tuple[int, tuple[int, int], int]:
    """Blocks that hold data on both and are equal, that differ only where the first, or the second, holds none, and
    those that differ where both hold some."""
    (a, told_a), (b, told_b) = one, other
    same = (a == b).all(axis=2)
    data: Flags = ((told_a == 2) & (told_b == 2)).any(axis=1)
    apart: Flags = (~same & (told_a == 2) & (told_b == 2)).any(axis=1)
    first = (~same & (told_a < 2) & (told_b == 2)).any(axis=1) & ~apart
    second = (~same & (told_a == 2) & (told_b < 2)).any(axis=1) & ~apart & ~first
    return int((data & same.all(axis=1)).sum()), (int(first.sum()), int(second.sum())), int(apart.sum())
