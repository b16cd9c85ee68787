"""What the searches for self-addressed structures share: the stretches that were read, and the anchors found in them.

An anchor is an equation: what stands at this offset of this image belongs at that address of a file system.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from ...ranges import total
from ..reading.samples import PIECE, Bytes, Pile, Tell, silent

Int64 = npt.NDArray[np.int64]

SECTOR = 512

END = "file end"
"""The kind of structure that is a file's last block, told by what stands behind the file's end."""


@dataclass(frozen=True)
class Piece:
    """A stretch of an image. Structures are looked for that start in its first PIECE bytes.

    data  uint8 (length,), a whole number of sectors
    """

    image: int
    offset: int
    data: Bytes

    @property
    def sectors(self) -> Bytes:
        """The sectors in which a structure may start: uint8 (n, 512)."""
        count = min(len(self.data), PIECE) // SECTOR
        return self.data[: count * SECTOR].reshape(count, SECTOR)

    def at(self, sector: int, length: int) -> Bytes | None:
        """`length` bytes from a sector on; None where they are not all in this stretch."""
        start = sector * SECTOR
        return self.data[start : start + length] if start + length <= len(self.data) else None

    def records(self, rows: Int64, length: int) -> tuple[Int64, Bytes]:
        """The given sectors of which `length` bytes are here, and those: uint8 (n, length)."""
        rows = rows[rows * SECTOR + length <= len(self.data)]
        return rows, self.data[rows[:, None] * SECTOR + np.arange(length)]

    def grid(self, phase: int, step: int) -> tuple[Int64, Bytes]:
        """(offsets on the image, records) of `step` bytes at `phase` past a multiple of that, those that are not
        zero."""
        first = (phase - self.offset) % step
        count = max(0, min(len(self.data) - first, len(self.data)) // step)
        records = self.data[first : first + count * step].reshape(count, step)
        inside = np.arange(count) * step + first < PIECE
        rows = np.flatnonzero(inside & records.any(axis=1))
        return self.offset + first + rows * step, records[rows]


@dataclass(frozen=True)
class Ends:
    """Where files end by their metadata: arrays of one length.

    image    int64: on which the metadata stand; -1 where they name their file system
    address  int64: one past the file's last byte, from the ground's start
    """

    image: Int64
    address: Int64


NOWHERE = -1


def bounded(values: npt.ArrayLike) -> Int64:
    """Numbers that a disk tells as int64, one-dimensional; those of no place on any disk become `NOWHERE`."""
    try:
        return np.atleast_1d(np.asarray(values, np.int64))
    except OverflowError:
        listed = np.atleast_1d(np.asarray(values, object)).tolist()
        return np.array([v if abs(v) < 1 << 62 else NOWHERE for v in listed], np.int64)


def within(at: Int64, ranges: Iterable[tuple[int, int]]) -> npt.NDArray[np.bool_]:
    """Which places lie in one of the ranges, each from one place to before another; bool of the same shape."""
    inside = np.zeros(at.shape, bool)
    for first, end in ranges:
        inside |= (at >= first) & (at < end)
    return inside


@dataclass
class Ground:
    """Something whose structures share one address space: a file system, or the disk of a partition table.

    key      identifies it across its copies
    words    for a person
    size     in bytes, 0 where unknown
    head     whether its own start was found, not only copies
    table    whether it is a partition table or a label of one: its address space is the volume
    starts   where partitions start in it, in bytes: a table's; none where its entries were not found
    found    anchors by kind: (kind, image, offsets, addresses)
    ages     how old structures are: (in what it is counted, image, offsets, addresses, ages)
    ends     where its files end; what is zeroed past a file's end, at least, is the rest of `filled` bytes, counted
             from `grid` on
    """

    key: bytes
    words: str
    size: int = 0
    head: bool = False
    table: bool = False
    starts: set[int] = field(default_factory=set)
    found: list[tuple[str, Int64, Int64, Int64]] = field(default_factory=list)
    ends: list[Ends] = field(default_factory=list)
    ages: list[tuple[str, int, Int64, Int64, Int64]] = field(default_factory=list)
    filled: int = 0
    grid: int = 0
    facts: object = None
    guessed: bool = False
    """Whether the meaning of its structures was only guessed: what stands elsewhere makes an answer less likely then,
    but refutes none."""

    silent: tuple[tuple[int, int], ...] = ()
    """Where its journal is, from its start, in bytes: copies of structures stand there, and say nothing of the
    place."""

    weak: tuple[str, ...] = ()
    """Kinds of structures that do not name their file system: any other one's look the same."""

    def in_journal(self, at: Int64) -> npt.NDArray[np.bool_]:
        """Which places, in bytes from its start, hold copies of its structures."""
        return within(at, self.silent)

    def bound(self) -> set[int]:
        """Images that hold structures which name this file system."""
        return {int(i) for kind, image, _o, _a in self.found if kind not in self.weak for i in image}

    def add(self, kind: str, image: int, offset: npt.ArrayLike, address: npt.ArrayLike) -> None:
        """Anchors; where a structure may stand at one of several addresses, add each."""
        offsets = bounded(offset)
        addresses = bounded(address)
        if len(offsets):
            self.found.append((kind, np.full(len(offsets), image, np.int64), offsets, addresses))

    def add_ages(
        self, unit: str, image: int, offset: npt.ArrayLike, address: npt.ArrayLike, when: npt.ArrayLike
    ) -> None:
        """How old structures are that were added, int64: in seconds, transactions or places of the journal."""
        arrays = [bounded(a) for a in (offset, address, when)]
        if len(arrays[0]):
            self.ages.append((unit, image, arrays[0], arrays[1], arrays[2]))

    def add_ends(self, image: int, address: npt.ArrayLike) -> None:
        """Files that end before these addresses, by metadata on this image (-1: on any, for they name the file
        system)."""
        ends = bounded(address)
        ends = ends[(ends > 0) & (ends <= self.size)]
        if len(ends):
            self.ends.append(Ends(np.full(len(ends), image, np.int64), ends))

    @property
    def kinds(self) -> dict[str, int]:
        counts: dict[str, int] = {}
        for kind, image, _offset, _address in self.found:
            counts[kind] = counts.get(kind, 0) + len(image)
        return counts

    def arrays(self) -> tuple[Int64, Int64, Int64]:
        """(image, offset, address) of all anchors, int64 of one length."""
        none = np.empty(0, np.int64)
        if not self.found:
            return none, none, none
        joined = [np.concatenate([row[i] for row in self.found]) for i in (1, 2, 3)]
        return joined[0], joined[1], joined[2]


@dataclass
class Stock:
    """The stretches of a pile that were read, kept while they are searched."""

    pile: Pile
    pieces: list[Piece]

    def __iter__(self) -> Iterator[Piece]:
        return iter(self.pieces)

    def of(self, image: int) -> list[Piece]:
        """The stretches of one image."""
        return [piece for piece in self.pieces if piece.image == image]


def read_stock(pile: Pile, budget: int, tell: Tell = silent) -> Stock:
    """At most about `budget` bytes of the pile, the images sharing them."""
    pieces: list[Piece] = []
    for image, share in enumerate(shares(pile, budget)):
        tell("reading what is searched for structures", image, len(pile))
        pieces += [Piece(image, at, data) for at, data in pile.pieces(image, share) if data.any()]
    return Stock(pile, pieces)


def shares(pile: Pile, budget: int) -> list[int]:
    """How many bytes to read of each image: alike, but for what some do not hold, which falls to the others."""
    held = [total(pile.data(image)) for image in range(len(pile))]
    found = [0] * len(pile)
    for left, image in zip(range(len(pile), 0, -1), sorted(range(len(pile)), key=held.__getitem__), strict=True):
        found[image] = budget // left
        budget -= min(held[image], found[image])
    return found


def filled_blocks(stock: Stock) -> Int64:
    """Offsets of the 4 KiB blocks that some image fills, as far as they were read: int64 ascending."""
    none = [np.empty(0, np.int64)]
    found = [
        piece.offset + 4096 * np.flatnonzero(piece.sectors[: len(piece.sectors) // 8 * 8].reshape(-1, 4096).any(axis=1))
        for piece in stock
    ]
    return np.unique(np.concatenate(none + found))


def hits(sectors: Bytes, at: int, mark: bytes) -> Int64:
    """Rows of `sectors` that hold `mark` at byte `at`."""
    rows = np.flatnonzero(sectors[:, at] == mark[0])
    if len(rows) and len(mark) > 1:
        wanted = np.frombuffer(mark, np.uint8)
        rows = rows[(sectors[rows, at : at + len(mark)] == wanted).all(axis=1)]
    return rows


def numbers(records: Bytes, at: int, kind: str) -> Int64:
    """One number of each record, as int64 (kind like "<u4"); those of 64 bits are clipped to what int64 holds."""
    width = int(kind[-1])
    raw = np.ascontiguousarray(records[:, at : at + width]).view(kind)[:, 0]
    return np.minimum(raw, (1 << 63) - 1).astype(np.int64) if width == 8 else raw.astype(np.int64)


def little(data: Sequence[int] | bytes | Bytes, at: int, width: int) -> int:
    return int.from_bytes(bytes(data[at : at + width]), "little")


def big(data: Sequence[int] | bytes | Bytes, at: int, width: int) -> int:
    return int.from_bytes(bytes(data[at : at + width]), "big")
