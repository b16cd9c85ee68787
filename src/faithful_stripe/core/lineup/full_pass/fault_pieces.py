"""Fault pieces: stretches of rows that do not match, cut where members begin and end to be blank."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from ...arrays.engine import SECTOR
from ...arrays.geometry import Geometry
from ...arrays.layout import Group
from ..reading.row_reader import repeating

Bytes2D = npt.NDArray[np.uint8]

REGION_GAP = 256 << 10
"""Pieces of one group of members no further apart than this, in bytes of a member, are one stretch."""

MOST_PIECES = 32
"""Pieces into which one run is divided."""


@dataclass(frozen=True)
class Run:
    """Sectors [start, end) of the strips of one group, in bytes, in which it does not match.

    row     the group's first row, counted from the start of the data; group: its number in the period
    erased  cells that are missing there
    """

    row: int
    group: int
    start: int
    end: int
    erased: frozenset[int]

    def group_key(self, made: Geometry) -> tuple[int, ...]:
        """What is the same for the runs that one chain may hold: those of the same members."""
        return tuple(sorted(made.pattern.groups[self.group].members)) if made.pattern.unit_rows == 1 else (self.group,)

    def place(self, strip: int) -> tuple[int, int]:
        """Where it begins and ends on its members, in bytes from the start of the data."""
        return self.row * strip + self.start, self.row * strip + self.end


@dataclass
class Looked:
    """A run with what stands there: uint8 (cells, bytes), and what its one equation leaves: uint8 (bytes,).

    stretch  number of the stretch of runs it stands in
    """

    run: Run
    stretch: int
    cells: Bytes2D
    coefficients: tuple[int, ...]
    sums: npt.NDArray[np.uint8]


@dataclass
class Piece:
    """A part of a run at which the same members are blank.

    run     of its own extent; looked: the run it is of; low, high: where it stands in what was looked at of that, bytes
    cells   that take part, and the member of each
    empty   members that are blank there
    """

    run: Run
    looked: Looked
    low: int
    high: int
    cells: tuple[int, ...]
    members_of_cells: tuple[int, ...]
    empty: frozenset[int]

    @property
    def members(self) -> frozenset[int]:
        return frozenset(self.members_of_cells)

    @property
    def first(self) -> bool:
        """Whether its run begins with it: what stands before it matches."""
        return self.run.start == self.looked.run.start

    @property
    def last(self) -> bool:
        return self.run.end == self.looked.run.end

    def place(self, strip: int) -> tuple[int, int]:
        return self.run.place(strip)

    @property
    def sums(self) -> npt.NDArray[np.uint8]:
        return self.looked.sums[self.low : self.high]

    def held(self, cell: int) -> npt.NDArray[np.uint8]:
        return self.looked.cells[cell, self.low : self.high]


def pieces_of(looked: Looked, group: Group) -> list[Piece]:
    """A run in pieces, at each of which the same members are blank."""
    run = looked.run
    cells = [c for c, k in enumerate(looked.coefficients) if k]
    members = [group.cells[c][1] for c in cells]
    flat = np.stack([plain_sectors(looked.cells[c]) for c in cells])
    count = flat.shape[1]
    edges = [0, *(np.flatnonzero((flat[:, 1:] != flat[:, :-1]).any(axis=0)) + 1).tolist(), count]
    if len(edges) > MOST_PIECES + 1:
        edges = np.unique(np.linspace(0, count, MOST_PIECES + 1).astype(int)).tolist()
    made = []
    for a, b in pairwise(edges):
        low, high = a * SECTOR, run.end - run.start if b == count else b * SECTOR
        blank = np.array(members)[flat[:, a:b].all(axis=1)].tolist()
        part = replace(run, start=run.start + low, end=run.start + high)
        last = min(b * SECTOR, len(looked.sums))
        made.append(Piece(part, looked, low, last, tuple(cells), tuple(members), frozenset(blank)))
    return made


def stretches(runs: Sequence[Run], made: Geometry) -> list[list[Run]]:
    """The runs of the same members that stand near one another."""
    found: list[list[Run]] = []
    end, before = 0, None
    for one in sorted(runs, key=lambda r: (r.group_key(made), r.row, r.start)):
        (begin, after), key = one.place(made.strip_bytes), one.group_key(made)
        if key != before or begin - end > REGION_GAP:
            found.append([])
        found[-1].append(one)
        end, before = after, key
    return found


def plain_sectors(data: npt.NDArray[np.uint8]) -> npt.NDArray[np.bool_]:
    """Which sectors hold zeros, one byte, or a pattern of at most 64 bytes."""
    whole = np.zeros(-(-len(data) // SECTOR) * SECTOR, np.uint8)
    whole[: len(data)] = data
    return repeating(whole.reshape(-1, SECTOR))


def plain(data: npt.NDArray[np.uint8]) -> bool:
    """Whether every sector holds the same: zeros, one byte, or a pattern."""
    if not len(data) or (data == data[0]).all():
        return True
    sectors = data[: len(data) // SECTOR * SECTOR].reshape(-1, SECTOR)
    repeats = bool((data[:448] == data[64:512]).all()) if len(data) >= SECTOR else False
    return repeats and bool((sectors == sectors[0]).all())
