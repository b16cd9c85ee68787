"""Rebuilding a member and checking consistency: whole rows at a time, only where data is."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache, lru_cache

import numpy as np

from ..ranges import Range
from ..source import BlockSourceError, Unreadable, WritableSource
from . import codes, gf256
from .engine import Array, data_rows
from .layout import Cell, Pattern
from .parity import Bytes, Bytes2D, combine_many, recover

CHUNK_BYTES = 1 << 18
"""Bytes of one member handled at a time (at least one unit of rows)."""


@dataclass(frozen=True)
class CellPlan:
    """How one cell follows from others: their places (row in the period, member), and the sums to form."""

    sources: tuple[Cell, ...]
    stages: codes.Stages


class NotRecoverable(BlockSourceError):
    """Rows of a member that do not follow from the others; `offset` counts on the member, in bytes."""

    template = (
        "{source}: {length} bytes at {offset} of each member cannot be computed: members {members} are unreadable"
    )
    remedy = "bring one of these members back as it was"


@lru_cache(maxsize=1024)
def cell_plans(pattern: Pattern, lost: frozenset[int], member: int) -> tuple[CellPlan | None, ...]:
    """For each row of the period: how `member`'s cell follows from the others; None where it does not."""
    found: list[CellPlan | None] = [None] * pattern.rows
    for group in pattern.groups:
        erased = frozenset(i for i, (_row, who) in enumerate(group.cells) if who in lost)
        for cell, (row, who) in enumerate(group.cells):
            stages = codes.stages(group.checks, erased, (cell,)) if who == member else None
            if stages:
                found[row] = CellPlan(tuple(group.cells[c] for c in stages.cells), stages)
    return tuple(found)


def rebuild_rows(array: Array, member: int, target: WritableSource, first: int, last: int) -> Iterator[int]:
    """Compute `member`'s strips of rows [first, last) from the others and write them to `target`.

    Yields the row up to which the target is complete, after every chunk. Where all others are empty
    the target is made empty, which costs nothing. Raises NotRecoverable when the others do not suffice;
    rows before that are done.

    first, last  multiples of the pattern's `unit_rows`
    """
    geometry = array.geometry
    strip, unit = geometry.strip_bytes, geometry.pattern.unit_rows
    others = [source if i != member else None for i, source in enumerate(array.members)]
    step = max(1, CHUNK_BYTES // (strip * unit)) * unit
    at, scratch = first, _Scratch()
    # empty survivors mean an empty strip only where it follows from them
    gone = frozenset(i for i, source in enumerate(array.members) if source is None) | {member}
    if first < last and None in cell_plans(geometry.pattern, gone, member):
        raise _not_recoverable(array, first, unit, gone)
    for a, b in _whole_units(data_rows(geometry, others, first, last), unit):
        _clear(array, member, target, at, a)
        for row in range(a, b, step):
            end = min(row + step, b, last)
            block = _compute(array, member, row, end, scratch)
            target.write(geometry.start_bytes[member] + row * strip, block)
            yield end
        at = min(b, last)
    _clear(array, member, target, at, last)
    yield last


def _not_recoverable(array: Array, first: int, rows: int, lost: frozenset[int]) -> NotRecoverable:
    strip, start = array.geometry.strip_bytes, array.geometry.start_bytes[min(lost)]
    return NotRecoverable(source=array, offset=start + first * strip, length=rows * strip, members=sorted(lost))


def _whole_units(rows: list[Range], unit: int) -> Iterator[Range]:
    for a, b in rows:
        yield a // unit * unit, -(-b // unit) * unit


def _clear(array: Array, member: int, target: WritableSource, first: int, last: int) -> None:
    strip, start = array.geometry.strip_bytes, array.geometry.start_bytes[member]
    if first < last:
        for a, b in list(target.data_ranges(start + first * strip, start + last * strip)):
            target.discard(a, b - a)


class _Scratch:
    """Buffers kept from chunk to chunk: fresh ones would cost a page fault for every 4 KiB read."""

    def __init__(self) -> None:
        self._blocks: dict[int, Bytes2D] = {}

    def take(self, who: int, rows: int, strip: int) -> Bytes2D:
        """A buffer (rows, strip) of this member's; what it held is overwritten."""
        block = self._blocks.get(who)
        if block is None or block.shape[0] < rows:
            block = self._blocks[who] = np.empty((rows, strip), np.uint8)
        return block[:rows]


def _compute(array: Array, member: int, first: int, last: int, scratch: _Scratch) -> Bytes2D:
    """The member's bytes of rows [first, last), valid until the next call with the same scratch."""
    geometry = array.geometry
    pattern, strip = geometry.pattern, geometry.strip_bytes
    lost = frozenset({member}) | _unusable(array, first, last)
    plans = cell_plans(pattern, lost, member)
    out = scratch.take(member, last - first, strip)
    if None in plans:
        raise _not_recoverable(array, first, last - first, lost)
    needed = sorted({who for plan in plans if plan for _row, who in plan.sources})
    try:
        blocks = {who: _read_rows(array, who, first, last, scratch) for who in needed}
    except Unreadable:
        return _compute_by_strip(array, member, first, last)
    for phase, plan in enumerate(plans):
        begin = (phase - first) % pattern.rows
        if plan is None or begin >= last - first:
            continue
        rows = out[begin :: pattern.rows]
        strips = [blocks[who][begin + row - phase :: pattern.rows][: rows.shape[0]] for row, who in plan.sources]
        recover([rows], strips, plan.stages)
    return out


def _unusable(array: Array, first: int, last: int) -> frozenset[int]:
    strip = array.geometry.strip_bytes
    return frozenset(
        who
        for who, start in enumerate(array.geometry.start_bytes)
        if not array.readable(who, start + first * strip, (last - first) * strip)
    )


def _read_rows(array: Array, who: int, first: int, last: int, scratch: _Scratch) -> Bytes2D:
    strip = array.geometry.strip_bytes
    block = scratch.take(who, last - first, strip)
    source = array.members[who]
    assert source is not None  # `_unusable` has put missing members among the lost
    source.read_into(array.geometry.start_bytes[who] + first * strip, block)
    return block


def _compute_by_strip(array: Array, member: int, first: int, last: int) -> Bytes2D:
    """The slow road around an unreadable sector: strip by strip, each from whatever can be read."""
    if last - first > array.geometry.pattern.unit_rows:
        unit = array.geometry.pattern.unit_rows
        parts = [_compute(array, member, row, min(row + unit, last), _Scratch()) for row in range(first, last, unit)]
        return np.concatenate(parts)
    limited = list(array.members)
    for who, source in enumerate(limited):
        if source is not None and who != member:
            try:
                _read_rows(array, who, first, last, _Scratch())
            except Unreadable:
                limited[who] = None
    if limited == array.members:
        raise _not_recoverable(array, first, last - first, frozenset({member}))
    rest = Array(array.geometry, limited, array.trusted, array.name)
    return _compute(rest, member, first, last, _Scratch())


@dataclass(frozen=True)
class Mismatch:
    """A group of strips whose check equations do not hold.

    row         the group's first row, from 0
    group       its number in the period
    equation    the first one that fails (0 is P or a mirror, 1 is Q)
    members     those that take part in it
    first_byte  where in the strip the first difference is; bytes: how many differ
    liar        the member that holds wrong bytes, where two equations tell; else None
    """

    row: int
    group: int
    equation: int
    members: tuple[int, ...]
    first_byte: int
    bytes: int
    liar: int | None = None


def check_rows(
    array: Array, first: int, last: int, passed: frozenset[int] = frozenset()
) -> Iterator[tuple[int, list[Mismatch]]]:
    """Test every check equation of rows [first, last): yields (row reached, mismatches found since).

    All members must be readable there (raises NotRecoverable otherwise: nothing can be checked against), but for those
    that are `passed` over, with every group that they take part in.
    """
    geometry = array.geometry
    pattern, strip = geometry.pattern, geometry.strip_bytes
    step = max(1, CHUNK_BYTES // (strip * pattern.unit_rows)) * pattern.unit_rows
    scratch = _Scratch()
    for a, b in _whole_units(data_rows(geometry, array.members, first, last), pattern.unit_rows):
        for row in range(a, b, step):
            end = min(row + step, b, last)
            gone = _unusable(array, row, end) - passed
            if gone:
                raise _not_recoverable(array, row, end - row, gone)
            none = np.empty((0, strip), np.uint8)
            blocks = [
                none if who in passed else _read_rows(array, who, row, end, scratch) for who in range(geometry.members)
            ]
            yield end, _check_block(pattern, blocks, row, end, passed)
    yield last, []


def _check_block(
    pattern: Pattern, blocks: list[Bytes2D], first: int, last: int, passed: frozenset[int]
) -> list[Mismatch]:
    found = []
    for number, group in enumerate(pattern.groups):
        if group.members & passed:
            continue
        phase = min(row for row, _ in group.cells)
        begin = (phase - first) % pattern.rows
        count = len(range(begin, last - first, pattern.rows))
        if not count:
            continue
        cells = [blocks[who][begin + row - phase :: pattern.rows][:count] for row, who in group.cells]
        sums = np.empty((len(group.checks), count, cells[0].shape[1]), np.uint8)
        combine_many(list(sums), cells, group.checks)
        for bad in np.flatnonzero(sums.any(axis=(0, 2))).tolist():
            equation = int(np.argmax(sums[:, bad].any(axis=1)))
            wrong = np.flatnonzero(sums[equation, bad])
            members = tuple(group.cells[i][1] for i, k in enumerate(group.checks[equation]) if k)
            cell = locate(group.checks, sums[:, bad])
            liar = None if cell is None else group.cells[cell][1]
            row = first + begin + bad * pattern.rows
            found.append(Mismatch(row, number, equation, members, int(wrong[0]), len(wrong), liar))
    return sorted(found, key=lambda m: (m.row, m.group))


def locate(checks: codes.Checks, sums: Bytes2D) -> int | None:
    """The one cell whose error explains the sums that the equations leave; None where several could, or none.

    sums  uint8 (equations, bytes): what each equation adds up to, not all zero

    An error e in cell c leaves the sums H[r][c] * e, so H[r][c] * sum_q = H[q][c] * sum_r for all r and q: with P
    and Q this singles one member out, byte by byte (Anvin, "The mathematics of CTRL-6", section 4).
    """
    suspects = []
    for cell in range(len(checks[0])):
        column = [row[cell] for row in checks]
        pairs = [(r, q) for r in range(len(checks)) for q in range(r)]
        silent = all(column[r] or not sums[r].any() for r in range(len(checks)))
        if silent and all((times(column[r], sums[q]) == times(column[q], sums[r])).all() for r, q in pairs):
            suspects.append(cell)
    return suspects[0] if len(suspects) == 1 else None


def times(factor: int, values: Bytes) -> Bytes:
    """Every byte times a factor in GF(2^8): uint8, of the shape of `values`."""
    result: Bytes = _products(factor)[values]
    return result


@cache
def _products(factor: int) -> Bytes:
    """A factor times each of the 256 elements: asked for once per cell of every row that does not match."""
    return np.array([gf256.multiply(factor, value) for value in range(256)], np.uint8)


def repair_row(array: Array, bad: Mismatch) -> None:
    """Make the equations of a group hold: the liar is computed again, or where none is known, copies and parity."""
    geometry = array.geometry
    group = geometry.pattern.groups[bad.group]
    period = bad.row // geometry.pattern.rows
    places = [(who, geometry.cell_offset(period, row, who)) for row, who in group.cells]
    wrong = [i for i, (_row, who) in enumerate(group.cells) if who == bad.liar]
    wanted = tuple(wrong or range(group.data, len(group.cells)))
    stages = codes.stages(group.checks, frozenset(wanted), wanted)
    assert stages is not None  # one member, or all of the checks, always follow from the others
    strips = [np.empty((1, geometry.strip_bytes), np.uint8) for _ in stages.cells]
    for strip, cell in zip(strips, stages.cells, strict=True):
        source = array.members[places[cell][0]]
        assert source is not None
        source.read_into(places[cell][1], strip)
    outs = [np.empty((1, geometry.strip_bytes), np.uint8) for _ in wanted]
    recover(outs, strips, stages)
    for out, cell in zip(outs, wanted, strict=True):
        target = array.members[places[cell][0]]
        assert isinstance(target, WritableSource)
        target.write(places[cell][1], out)
