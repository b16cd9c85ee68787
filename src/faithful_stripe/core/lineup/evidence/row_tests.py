"""Testing rows: does the redundancy of an array hold in rows spread over its data?"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from ...arrays import codes
from ...arrays.engine import SECTOR, Array, data_rows
from ...arrays.parity import combine_many
from ...arrays.rebuild import check_rows
from ...errors import StripeError
from ..reading.row_reader import rows_of
from .sampled_places import noise_values

UNREAD_BYTES, UNREAD_SHARE = 7 * 512, 16
"""What copies may differ by in a row: a few sectors, or a small part of a long strip, one in so many."""


def test_rows(array: Array, most: int) -> tuple[int, int]:
    """Rows tested and rows that do not match; groups that lack a member are passed over, none may be left."""
    tested, broken = broken_rows(array, most)
    return tested, len(broken)


@dataclass(frozen=True)
class CopyTest:
    """Rows of copies: how many were tested; those that differ by more than a few sectors, which could not be read; and
    of these those that are not explained by damage to the one member that takes part in most of them."""

    tested: int = 0
    broken: int = 0
    unexplained: int = 0


def test_copies(array: Array, most: int) -> CopyTest:
    """Rows that hold noise on every member were never written, and say nothing. Of long strips a part is looked at."""
    looked: Counter[int] = Counter()
    rows: list[list[set[int]]] = []
    for row in _units(array, most):
        sets = list(_copies_in(array, row))
        apart = [_copies_differ(array, cells) for cells in sets]
        if not apart or None in apart or (any(apart) and _noise(array, row)):
            continue  # what cannot be read is evidence lost
        members = [{m for _row, m in cells} for cells in sets]
        looked.update(m for some in members for m in some)
        rows.append([some for some, differ in zip(members, apart, strict=True) if differ])
    differing = Counter(m for row in rows for some in row for m in some)
    worst = max(differing, key=differing.__getitem__, default=None)
    if worst is not None and differing[worst] > MOST_AT_ONE * looked[worst]:
        worst = None  # that is no member that is damaged, but none, or one in another's place
    unexplained = sum(any(worst not in some for some in row) for row in rows)
    return CopyTest(len(rows), sum(map(bool, rows)), unexplained)


MOST_AT_ONE = 0.5
"""Of the rows of copies in which a member takes part, the share that may differ for it to be one that is damaged."""


def _copies_in(array: Array, first: int) -> Iterator[list[tuple[int, int]]]:
    """The sets of copies in a unit of rows: (row, member) of each one that is there, two at least."""
    pattern = array.geometry.pattern
    period, phase = divmod(first, pattern.rows)
    for group in pattern.groups:
        if phase <= group.cells[0][0] < phase + pattern.unit_rows:
            there = [(period * pattern.rows + at, m) for at, m in group.cells if array.members[m] is not None]
            if len(there) > 1:
                yield there


def _copies_differ(array: Array, cells: Sequence[tuple[int, int]]) -> bool | None:
    """Whether copies of a strip differ by more than a few sectors; None where they cannot be read. A long strip is read
    whole only where pieces of it leave that open, as a few lost sectors do that all lie in those."""
    strip = array.geometry.strip_bytes
    looked = min(strip, LOOKED_BYTES)
    apart = _bytes_apart(array, cells, looked)
    if apart is not None and looked < strip and looked // UNREAD_SHARE < apart < looked // SURELY_APART:
        looked, apart = strip, _bytes_apart(array, cells, strip)
    return None if apart is None else apart > max(UNREAD_BYTES, looked // UNREAD_SHARE)


def _bytes_apart(array: Array, cells: Sequence[tuple[int, int]], looked: int) -> int | None:
    """Bytes in which copies of a strip differ, of as many as are looked at, in pieces spread over it; None where they
    cannot be read."""
    made = array.geometry
    blocks = np.empty((len(cells), looked), np.uint8)
    step = made.strip_bytes // (looked // PIECE_BYTES)
    for block, (row, m) in zip(blocks, cells, strict=True):
        source = array.members[m]
        assert source is not None
        for number, part in enumerate(block.reshape(-1, PIECE_BYTES)):
            try:
                source.read_into(made.start_bytes[m] + row * made.strip_bytes + number * step, part)
            except StripeError:
                return None
    return int((blocks[1:] != blocks[0]).sum(axis=1).max())


LOOKED_BYTES, PIECE_BYTES = 64 << 10, 4096
"""Of a long strip, as much is compared as copies at first, in pieces of so many bytes."""

SURELY_APART = 4
"""One byte of so many, and a strip differs, whatever stands between the pieces."""


def rows_by_what_is_left(array: Array, most: int) -> tuple[int, int]:
    """Groups tested by the equations that missing members leave them, in rows spread over the data, and those that do
    not match: with P and Q and one member missing, one is left."""
    made = array.geometry
    pattern = made.pattern
    gone = frozenset(i for i, member in enumerate(array.members) if member is None)
    ranges = data_rows(made, array.members, 0, made.rows) if pattern.unit_rows == 1 else []
    rows = sorted({row for a, b in ranges for row in _spread(a, b, most)})
    chosen = [rows[i] for i in np.linspace(0, len(rows) - 1, min(most, len(rows))).astype(int)]
    tested = broken = 0
    for read in rows_of(made, array.members, [(row, row + 1) for row in dict.fromkeys(chosen)], 1):
        for group in () if read.lost else pattern.groups:
            erased = frozenset(c for c, (_row, who) in enumerate(group.cells) if who in gone)
            checks = codes.remaining(group.checks, erased) if group.cells[0][0] == read.first % pattern.rows else ()
            if checks:
                sums = np.empty((len(checks), 1, made.strip_bytes), np.uint8)
                combine_many(list(sums), [read.blocks[who] for _row, who in group.cells], checks)
                tested, broken = tested + 1, broken + bool(sums.any())
    return tested, broken


def test_sectors(volume: Array, most: int) -> tuple[int, int]:
    """Sectors that hold something on two members at least, one in a row, of at most so many rows spread over the data:
    how many were tested, and how many are not what the rest computes. Where whole rows are mostly touched by damage,
    most sectors still match; in another order hardly one does, if there are P and Q."""
    made = volume.geometry
    rows = sorted({row for a, b in data_rows(made, volume.members, 0, made.rows) for row in _spread(a, b, most)})
    chosen = sorted({rows[i] for i in np.linspace(0, len(rows) - 1, min(most, len(rows))).astype(int)})
    sectors = np.random.default_rng(0).integers(0, made.strip_bytes // SECTOR, len(chosen))
    tested = failing = 0
    for row, inner in zip(chosen, (sectors * SECTOR).tolist(), strict=True):
        filled = [m for m, source in enumerate(volume.members) if source is not None and _filled(volume, m, row, inner)]
        if len(filled) > 1:
            tested, failing = tested + 1, failing + differs(volume, filled[0], row, inner)
    return tested, failing


def _filled(volume: Array, member: int, row: int, inner: int) -> bool:
    """Whether a sector of a member that is there holds something."""
    own, source = np.empty(SECTOR, np.uint8), volume.members[member]
    try:
        assert source is not None
        source.read_into(volume.geometry.start_bytes[member] + row * volume.geometry.strip_bytes + inner, own)
    except StripeError:
        return False
    return bool(own.any())


def differs(volume: Array, member: int, row: int, inner: int) -> bool:
    """Whether a sector of a strip is not what those that go with it compute; where the member is missing, whether one
    of them is not, if redundancy tells that without it."""
    made, (period, phase) = volume.geometry, divmod(row, volume.geometry.pattern.rows)
    cells = next((group.cells for group in made.pattern.groups if (phase, member) in group.cells), ())
    own, computed = np.empty(SECTOR, np.uint8), np.empty(SECTOR, np.uint8)
    for at, one in [(phase, member)] if volume.members[member] is not None else cells:
        source, there = volume.members[one], period * made.pattern.rows + at
        if source is None:
            continue
        try:
            source.read_into(made.start_bytes[one] + there * made.strip_bytes + inner, own)
            volume.compute(one, there, inner, computed)
        except StripeError:
            continue
        return not np.array_equal(own, computed)
    return False


def _noise(array: Array, row: int) -> bool:
    made = array.geometry
    block = np.zeros(min(4096, made.strip_bytes), np.uint8)
    for member, start in zip(array.members, made.start_bytes, strict=True):
        if member is not None:
            try:
                member.read_into(start + row * made.strip_bytes, block)
            except StripeError:
                return False
            if len(np.unique(block)) < noise_values(len(block)):
                return False
    return True


def broken_rows(array: Array, most: int) -> tuple[int, list[int]]:
    """How many rows were tested, at most about `most` spread over the data, and which of them do not match."""
    made = array.geometry
    missing = frozenset(i for i, member in enumerate(array.members) if member is None)
    if not made.redundant or all(members & missing for members, _survives in made.pattern.sets):
        return 0, []
    unit, units = made.pattern.unit_rows, _units(array, most)
    tested = 0
    broken: list[int] = []
    for first, last in _joined(units, unit, made.rows):
        try:
            bad = {m.row for _end, found in check_rows(array, first, last, missing) for m in found}
        except StripeError:
            continue  # what cannot be read is evidence lost
        tested += last - first
        broken += sorted(bad)
    return tested, broken


def _units(array: Array, most: int) -> list[int]:
    """The first rows of units of rows that belong together, at most so many, spread over the data."""
    made, unit = array.geometry, array.geometry.pattern.unit_rows
    ranges = data_rows(made, array.members, 0, made.rows)
    units = sorted({row // unit * unit for a, b in ranges for row in _spread(a, b, most)})
    return [units[i] for i in np.linspace(0, len(units) - 1, most).astype(int)] if len(units) > most else units


def _joined(units: list[int], unit: int, rows: int) -> list[tuple[int, int]]:
    """Units of rows as ranges, neighbours joined."""
    found: list[tuple[int, int]] = []
    for row in units:
        last = min(row + unit, rows)
        if found and found[-1][1] == row and last - found[-1][0] <= 64:
            found[-1] = (found[-1][0], last)
        else:
            found.append((row, last))
    return found


def _spread(first: int, last: int, most: int) -> list[int]:
    return list(range(first, last)) if last - first <= most else [int(r) for r in np.linspace(first, last - 1, most)]
