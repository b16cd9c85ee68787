"""Samples: a pile of images as the solver reads it: only where data is, counted, errors as evidence lost."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from ..ranges import Range, total, union, widen
from ..source import BlockSource, BlockSourceError

BLOCK = 4096
"""The grid of samples in bytes: the smallest strip there is, so that no sample crosses a border."""

Blocks = npt.NDArray[np.uint8]


@dataclass
class Pile:
    """The images on the table, by name; `bytes_read` and `unreadable` grow as they are read."""

    names: Sequence[str]
    sources: Sequence[BlockSource]
    bytes_read: int = 0
    unreadable: int = 0
    _ranges: dict[int, list[Range]] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.sources)

    def data(self, image: int) -> list[Range]:
        """Whole blocks of an image that may hold data, as byte ranges."""
        if image not in self._ranges:
            size = self.sources[image].size // BLOCK * BLOCK
            self._ranges[image] = widen(self.sources[image].data_ranges(0, size), BLOCK)
        return self._ranges[image]

    def blocks(self, image: int, start: int, count: int) -> Blocks:
        """`count` blocks from byte `start` on: uint8 (count, BLOCK); zeros where they cannot be read."""
        out = np.zeros((count, BLOCK), np.uint8)
        try:
            self.sources[image].read_into(start, out)
        except BlockSourceError:
            for i in range(count):
                try:
                    self.sources[image].read_into(start + i * BLOCK, out[i])
                except BlockSourceError:
                    out[i] = 0
                    self.unreadable += 1
        self.bytes_read += count * BLOCK
        return out

    def scan(self, image: int, budget: int, chunk: int = 1024) -> Iterator[tuple[npt.NDArray[np.int64], Blocks]]:
        """(offsets, blocks) of the image's data that is not zero, at most `budget` bytes, from the start on."""
        left = budget // BLOCK
        for a, b in self.data(image):
            for at in range(a, b, chunk * BLOCK):
                count = min(chunk, (b - at) // BLOCK, left)
                if count <= 0:
                    return
                left -= count
                blocks = self.blocks(image, at, count)
                full = np.flatnonzero(blocks.any(axis=1))
                if len(full):
                    yield at + full * BLOCK, blocks[full]

    def places(self, most: int) -> npt.NDArray[np.int64]:
        """Offsets of blocks where some image has data: all, or `most` spread evenly over the data."""
        ranges = union(r for image in range(len(self)) for r in self.data(image))
        count = total(ranges) // BLOCK
        wanted = np.arange(count) if count <= most else np.unique(np.linspace(0, count - 1, most).astype(np.int64))
        starts = np.array([a for a, _ in ranges], np.int64)
        ends = np.cumsum([(b - a) // BLOCK for a, b in ranges]) if ranges else np.empty(0, np.int64)
        where = np.searchsorted(ends, wanted, side="right")
        before = np.concatenate([[0], ends])[where]
        return starts[where] + (wanted - before) * BLOCK if ranges else starts

    def column(self, offset: int, holders: Sequence[int]) -> Blocks:
        """The block at `offset` of each image in `holders`: uint8 (len(holders), BLOCK)."""
        return np.concatenate([self.blocks(image, offset, 1) for image in holders])

    def holding(self, offset: int) -> list[int]:
        """Images that may hold data in the block at `offset`."""
        return [i for i in range(len(self)) if any(a <= offset < b for a, b in self.data(i))]
