"""Rebuilding a member and checking consistency: whole rows at a time, only where data is."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from ..ranges import Range
from ..source import BlockSourceError, Unreadable, WritableSource
from . import codes
from .engine import Array, data_rows
from .layout import Pattern
from .parity import combine

Bytes3D = npt.NDArray[np.uint8]

CHUNK_BYTES = 1 << 20
"""Bytes of one member handled at a time (at least one unit of rows)."""

Source = tuple[int, int, int]
"""(row in the period, member, coefficient)."""


class NotRecoverable(BlockSourceError):
    """Rows of a member that do not follow from the others; `offset` counts on the member, in bytes."""

    template = (
        "{source}: {length} bytes at {offset} of each member cannot be computed: members {members} are unreadable"
    )
    remedy = "bring one of these members back as it was"


@lru_cache(maxsize=1024)
def recipes(pattern: Pattern, lost: frozenset[int], member: int) -> tuple[tuple[Source, ...] | None, ...]:
    """For each row of the period: how `member`'s cell follows from the others; None where it does not."""
    found: list[tuple[Source, ...] | None] = [None] * pattern.rows
    for group in pattern.groups:
        erased = frozenset(i for i, (_row, who) in enumerate(group.cells) if who in lost)
        for cell, recipe in codes.solve(group.checks, erased).items():
            row, who = group.cells[cell]
            if who == member:
                found[row] = tuple((*group.cells[c], k) for c, k in recipe)
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
    at = first
    # empty survivors mean an empty strip only where it follows from them
    gone = frozenset(i for i, source in enumerate(array.members) if source is None) | {member}
    if first < last and None in recipes(geometry.pattern, gone, member):
        raise _not_recoverable(array, first, unit, gone)
    for a, b in _whole_units(data_rows(geometry, others, first, last), unit):
        _clear(array, member, target, at, a)
        for row in range(a, b, step):
            end = min(row + step, b, last)
            block = _compute(array, member, row, end)
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


def _compute(array: Array, member: int, first: int, last: int) -> npt.NDArray[np.uint8]:
    """The member's bytes of rows [first, last)."""
    geometry = array.geometry
    pattern, strip = geometry.pattern, geometry.strip_bytes
    lost = frozenset({member}) | _unusable(array, first, last)
    plan = recipes(pattern, lost, member)
    out = np.empty((last - first, strip), np.uint8)
    if None in plan:
        raise _not_recoverable(array, first, last - first, lost)
    needed = sorted({who for recipe in plan if recipe for _row, who, _k in recipe})
    try:
        blocks = {who: _read_rows(array, who, first, last) for who in needed}
    except Unreadable:
        return _compute_by_strip(array, member, first, last)
    if (
        len({tuple((who, k) for _row, who, k in sorted(recipe or ())) for recipe in plan}) == 1
        and pattern.unit_rows == 1
    ):
        recipe = plan[0] or ()
        combine(out, [blocks[who] for _row, who, _k in recipe], [k for _row, _who, k in recipe])
        return out
    for phase, found in enumerate(plan):
        begin = (phase - first) % pattern.rows
        if found is None or begin >= last - first:
            continue
        strips = [blocks[who][begin + row - phase :: pattern.rows] for row, who, _k in found]
        rows = out[begin :: pattern.rows]
        combine(rows, [s[: rows.shape[0]] for s in strips], [k for _row, _who, k in found])
    return out


def _unusable(array: Array, first: int, last: int) -> frozenset[int]:
    strip = array.geometry.strip_bytes
    return frozenset(
        who
        for who, start in enumerate(array.geometry.start_bytes)
        if not array.readable(who, start + first * strip, (last - first) * strip)
    )


def _read_rows(array: Array, who: int, first: int, last: int) -> npt.NDArray[np.uint8]:
    strip = array.geometry.strip_bytes
    block = np.empty((last - first, strip), np.uint8)
    source = array.members[who]
    assert source is not None  # `_unusable` has put missing members among the lost
    source.read_into(array.geometry.start_bytes[who] + first * strip, block)
    return block


def _compute_by_strip(array: Array, member: int, first: int, last: int) -> npt.NDArray[np.uint8]:
    """The slow road around an unreadable sector: strip by strip, each from whatever can be read."""
    if last - first > array.geometry.pattern.unit_rows:
        unit = array.geometry.pattern.unit_rows
        parts = [_compute(array, member, row, min(row + unit, last)) for row in range(first, last, unit)]
        return np.concatenate(parts)
    limited = list(array.members)
    for who, source in enumerate(limited):
        if source is not None and who != member:
            try:
                _read_rows(array, who, first, last)
            except Unreadable:
                limited[who] = None
    if limited == array.members:
        raise _not_recoverable(array, first, last - first, frozenset({member}))
    return _compute(Array(array.geometry, limited, array.trusted, array.name), member, first, last)


@dataclass(frozen=True)
class Mismatch:
    """A row whose check equation does not hold: which one (0 is P or a mirror, 1 is Q), and where first."""

    row: int
    equation: int
    members: tuple[int, ...]
    first_byte: int
    bytes: int


def check_rows(array: Array, first: int, last: int) -> Iterator[tuple[int, list[Mismatch]]]:
    """Test every check equation of rows [first, last): yields (row reached, mismatches found since).

    All members must be readable there (raises NotRecoverable otherwise: nothing can be checked against).
    """
    geometry = array.geometry
    pattern, strip = geometry.pattern, geometry.strip_bytes
    step = max(1, CHUNK_BYTES // (strip * pattern.unit_rows)) * pattern.unit_rows
    for a, b in _whole_units(data_rows(geometry, array.members, first, last), pattern.unit_rows):
        for row in range(a, b, step):
            end = min(row + step, b, last)
            gone = _unusable(array, row, end)
            if gone:
                raise _not_recoverable(array, row, end - row, gone)
            blocks = [_read_rows(array, who, row, end) for who in range(geometry.members)]
            yield end, _check_block(pattern, blocks, row, end)
    yield last, []


def _check_block(pattern: Pattern, blocks: list[npt.NDArray[np.uint8]], first: int, last: int) -> list[Mismatch]:
    found = []
    for group in pattern.groups:
        phase = min(row for row, _ in group.cells)
        begin = (phase - first) % pattern.rows
        count = len(range(begin, last - first, pattern.rows))
        if not count:
            continue
        cells = [blocks[who][begin + row - phase :: pattern.rows][:count] for row, who in group.cells]
        total = np.empty((count, cells[0].shape[1]), np.uint8)
        for equation, check in enumerate(group.checks):
            used = [i for i, k in enumerate(check) if k]
            combine(total, [cells[i] for i in used], [check[i] for i in used])
            for bad in np.flatnonzero(total.any(axis=1)).tolist():
                wrong = np.flatnonzero(total[bad])
                members = tuple(group.cells[i][1] for i in used)
                row = first + begin + bad * pattern.rows
                found.append(Mismatch(row, equation, members, int(wrong[0]), len(wrong)))
    return sorted(found, key=lambda m: (m.row, m.equation))
