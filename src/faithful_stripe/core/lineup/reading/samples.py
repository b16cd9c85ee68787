"""Samples: a pile of images as the solver reads it: only where data is, counted, errors as evidence lost."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

import numpy as np
import numpy.typing as npt

from ...ranges import Range, total, union, widen
from ...source import BlockSource, BlockSourceError

if TYPE_CHECKING:
    from ..document.known import Given

BLOCK = 4096
"""The grid of samples in bytes: the smallest strip there is, so that no sample crosses a border."""

PIECE = 64 << 10
"""Stretches that are read at once, in bytes."""

OVERLAP = 16 << 10
"""What is read behind a stretch, for what starts in it and ends behind it, in bytes."""

LOOK_BYTES, LOOK_CHUNK = 1 << 30, 1 << 20
"""A pile that holds no more is looked through for zeros; so much at a time."""

GLANCES, MOSTLY_FULL = 1024, 0.5
"""Blocks of a larger image that are looked at to see where it holds anything; with more of them, that is everywhere."""

MOST_WIDE = 64
"""Stretches behind a glance that are taken for likely as well."""

Blocks = npt.NDArray[np.uint8]
Bytes = npt.NDArray[np.uint8]


class Tell(Protocol):
    """Is told what is being looked at, and how many parts of that are done, of how many (0: nobody knows)."""

    def __call__(self, text: str, done: int = 0, of: int = 0, /) -> None: ...


LEAST_BEYOND, BEYOND_SHARE = 1 << 20, 0.02
"""What members hold behind the end of an array where that is cut short: bytes in all, and of what they hold; what
controllers write at the ends of drives is less."""

BEST = "best so far: "
"""How what is told of the best answer begins."""


def silent(_text: str, _done: int = 0, _of: int = 0, /) -> None:
    """For when nobody waits."""


PATIENCE_SECONDS = 40.0
"""Of the processor's time, after which what is less likely is not tried any more: what is being looked at comes to its
end within a minute then."""


@dataclass
class Effort:
    """When a search began, and how long it may take before what is less likely is left untried, in seconds of the
    processor's time; and whether something was.

    share    of that time, what may be used up by now
    untried  whether something was left that could have been as good as what was found: then nothing is certain
    """

    patience: float = PATIENCE_SECONDS
    began: float = field(default_factory=time.process_time)
    share: float = 1.0
    gave_up: bool = False
    untried: bool = False

    def left(self) -> bool:
        """Whether what is less likely may be tried, too; where not, that is remembered."""
        over = time.process_time() - self.began > self.patience * self.share
        self.gave_up |= over
        return not over

    @contextmanager
    def within(self, share: float) -> Iterator[None]:
        """For what must leave time for something else: no more than a share of all of it may be used up."""
        before = self.share
        self.share = min(before, share)
        try:
            yield
        finally:
            self.share = before

    def left_for_rivals(self) -> bool:
        """The same, of what could be as good as what was found."""
        left = self.left()
        self.untried |= not left
        return left


@dataclass
class Pile:
    """The images on the table, by name; `bytes_read` and `unreadable` grow as they are read.

    wanted  offsets of stretches, by image, that `pieces` gives whatever its budget
    short   images that end before the array does: what is behind their end is missing
    given   what a person knows of the array, fixed in the search
    effort  how long the search has worked
    """

    names: Sequence[str]
    sources: Sequence[BlockSource]
    bytes_read: int = 0
    unreadable: int = 0
    wanted: dict[int, set[int]] = field(default_factory=dict)
    short: set[int] = field(default_factory=set)
    given: Given | None = None
    effort: Effort = field(default_factory=Effort)
    _ranges: dict[int, list[Range]] = field(default_factory=dict)
    _likely: dict[int, npt.NDArray[np.int64]] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.sources)

    def data(self, image: int) -> list[Range]:
        """Whole blocks of an image that may hold data, as byte ranges.

        A copy of a drive has its zeros written out, where a sparse file has holes: of a pile that is small enough all
        is looked at, so that both are the same.
        """
        if image not in self._ranges:
            told = [widen(s.data_ranges(0, s.size // BLOCK * BLOCK), BLOCK) for s in self.sources]
            look = sum(total(ranges) for ranges in told) <= LOOK_BYTES
            self._ranges = {i: self._not_zero(i, ranges) if look else ranges for i, ranges in enumerate(told)}
        return self._ranges[image]

    def _not_zero(self, image: int, ranges: Sequence[Range]) -> list[Range]:
        """Of ranges of whole blocks, the blocks that hold something else than zeros, or cannot be read."""
        found: list[Range] = []
        for low, high in ranges:
            for at in range(low, high, LOOK_CHUNK):
                end = min(high, at + LOOK_CHUNK)
                chunk = np.empty(end - at, np.uint8)
                try:
                    self.sources[image].read_into(at, chunk)
                except BlockSourceError:
                    found.append((at, end))
                    continue
                self.bytes_read += end - at
                holds = chunk.view(np.uint64).reshape(-1, BLOCK // 8).any(axis=1)
                found += [(at + b * BLOCK, at + (b + 1) * BLOCK) for b in np.flatnonzero(holds).tolist()]
        return union(found)

    def blocks(self, image: int, start: int, count: int) -> Blocks:
        """`count` blocks from byte `start` on: uint8 (count, BLOCK); zeros where sectors cannot be read."""
        out = np.zeros((count, BLOCK), np.uint8)
        try:
            self.sources[image].read_into(start, out)
        except BlockSourceError:
            for i in range(count):  # sector by sector: one that is lost takes no other with it
                out[i] = self.stretch(image, start + i * BLOCK, BLOCK)
            return out
        self.bytes_read += count * BLOCK
        return out

    def pieces(self, image: int, budget: int) -> Iterator[tuple[int, Bytes]]:
        """(offset, bytes) of stretches of an image's data, each with OVERLAP bytes of what follows it; zeros where
        nothing can be read."""
        for start in self.stretches(image, budget).tolist():
            yield start, self.piece(image, start)

    def piece(self, image: int, start: int) -> Bytes:
        """One such stretch."""
        end = min(self.sources[image].size // 512 * 512, start + PIECE + OVERLAP)
        return self.stretch(image, start, end - start)

    def stretches(self, image: int, budget: int) -> npt.NDArray[np.int64]:
        """Where stretches of an image's data start, ascending: each is PIECE bytes, on a grid of PIECE.

        All of the data where they fit into `budget` bytes; else the first and last ones, others spread evenly, more of
        them where a glance shows that not all is zeros, and those that are wanted.
        """
        none = [np.empty(0, np.int64)]
        numbers = np.unique(np.concatenate([np.arange(a // PIECE, -(-b // PIECE)) for a, b in self.data(image)] + none))
        most = max(8, budget // PIECE)
        if len(numbers) > most:
            edge = most // 8
            inner = self._spread(image, numbers[edge : len(numbers) - edge], most - 2 * edge)
            wanted = np.array(sorted(self.wanted.get(image, ())), np.int64) // PIECE
            numbers = np.unique(np.concatenate([numbers[:edge], inner, numbers[len(numbers) - edge :], wanted]))
        return numbers * PIECE

    def _spread(self, image: int, numbers: npt.NDArray[np.int64], count: int) -> npt.NDArray[np.int64]:
        """`count` of the numbered stretches, evenly; where most of an image is zeros, most of them from the rest."""
        even = numbers[np.linspace(0, len(numbers) - 1, count).astype(np.int64)]
        if len(numbers) < GLANCES:
            return even
        if image not in self._likely:
            looked = numbers[np.linspace(0, len(numbers) - 1, GLANCES).astype(np.int64)]
            holds = [bool(self.stretch(image, n * PIECE, BLOCK).any()) for n in looked.tolist()]
            held = np.flatnonzero(holds)
            near = np.unique(np.clip(np.concatenate([held - 1, held, held + 1]), 0, GLANCES - 1))
            few = len(near) < MOSTLY_FULL * GLANCES
            self._likely[image] = looked[near] if few else np.empty(0, np.int64)
        likely = self._likely[image]
        if not len(likely):
            return even
        width = len(numbers) // GLANCES + 1
        inside = np.unique(np.concatenate([likely + k for k in range(min(width, MOST_WIDE))]))
        inside = inside[np.isin(inside, numbers)]
        share = min(len(inside), count * 3 // 4)
        chosen = inside[np.linspace(0, len(inside) - 1, share).astype(np.int64)]
        return np.concatenate([chosen, even[:: max(1, count // max(1, count - share))]])

    def stretch(self, image: int, start: int, length: int) -> Bytes:
        """The bytes [start, start + length) of an image: uint8 (length,); zeros where they cannot be read."""
        out = np.zeros(length, np.uint8)
        try:
            self.sources[image].read_into(start, out)
        except BlockSourceError:
            for at in range(0, length, 512):
                try:
                    self.sources[image].read_into(start + at, out[at : at + 512])
                except BlockSourceError:
                    out[at : at + 512] = 0
                    self.unreadable += 1
        self.bytes_read += length
        return out

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
