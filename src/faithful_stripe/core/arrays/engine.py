"""The array engine: an array over its members is itself a block source, whole, degraded or being rebuilt."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from ..ranges import Range, clip, union, widen
from ..source import BlockSource, BlockSourceError, Buffer, Unreadable, WritableSource, check_bounds
from . import codes
from .geometry import Concatenation, Geometry
from .layout import Group
from .levels import GeometryError
from .parity import combine

Bytes = npt.NDArray[np.uint8]
Member = BlockSource | None

SECTOR = 512
"""The smallest piece that a drive refuses to read, in bytes."""


class DataLost(BlockSourceError):
    """More members are gone than the level can make up for."""

    template = "{source}: {length} bytes at {offset} are lost: members {members} cannot be read there"
    remedy = "bring back one of these members as it was; do not rebuild over it"


@dataclass(frozen=True)
class GroupWrite:
    """The member writes that one group of strips needs, computed and not yet done.

    pieces   (member, offset in bytes, bytes)
    guarded  torn, this write could change bytes that it does not cover, or leave some that are neither old nor
             new: some data strip keeps bytes in these columns, or a member is missing. It goes through a
             journal first; any other is computed by computing its parity again
    """

    pieces: tuple[tuple[int, int, Bytes], ...]
    guarded: bool


class Array:
    """A volume over its members.

    members  one block source per position; None where the member is missing
    trusted  per member, the offset up to which its content counts (a member being rebuilt: its
             progress); beyond it the member is written but not read
    """

    def __init__(
        self,
        geometry: Geometry,
        members: Sequence[Member],
        trusted: Sequence[int | None] | None = None,
        name: str = "array",
    ) -> None:
        if len(members) != geometry.members:
            raise ValueError(f"{len(members)} members for a geometry of {geometry.members}")
        self.geometry = geometry
        self.members = list(members)
        self.trusted = list(trusted or [None] * geometry.members)
        self.name = name

    def __str__(self) -> str:
        return self.name

    @property
    def size(self) -> int:
        return self.geometry.volume_bytes

    # reading ------------------------------------------------------------------------------------

    def read_into(self, offset: int, buffer: Buffer) -> None:
        """Fill `buffer`; strips that cannot be read are computed. Raises OutOfBounds, DataLost."""
        out = np.frombuffer(memoryview(buffer).cast("B"), np.uint8)
        check_bounds(self, self.size, offset, out.size)
        runs = self.geometry.runs(offset, out.size)
        for volume, member, at, length in zip(*(a.tolist() for a in runs), strict=True):
            self._read_piece(member, at, volume, out[volume - offset : volume - offset + length])

    def _read_piece(self, member: int, at: int, volume: int, out: Bytes) -> None:
        """A piece of one data strip: read, else computed, else sector by sector: two members that are bad in
        different sectors make up for each other."""
        if self._read_cell(member, at, out):
            return
        try:
            if not self.geometry.redundant:
                raise DataLost(source=self, offset=volume, length=out.size, members=[member])
            self._reconstruct(volume, out)
        except DataLost:
            first = min(out.size, SECTOR - at % SECTOR)
            if first == out.size:
                raise
            for begin, end in [(0, first), *((i, min(i + SECTOR, out.size)) for i in range(first, out.size, SECTOR))]:
                self._read_piece(member, at + begin, volume + begin, out[begin:end])

    def readable(self, member: int, at: int, length: int) -> bool:
        """Whether the member is there and its content counts over these bytes."""
        limit = self.trusted[member]
        return self.members[member] is not None and (limit is None or at + length <= limit)

    def whole(self, number: int) -> bool:
        """Whether every strip of the group with this number (counted through the volume) counts."""
        group, period = self._group(number)
        return not self._erased(group, period, 0, self.geometry.strip_bytes)

    def _read_cell(self, member: int, at: int, out: Bytes) -> bool:
        source = self.members[member]
        if source is None or not self.readable(member, at, out.size):
            return False
        try:
            source.read_into(at, out)
        except Unreadable:
            return False
        return True

    def _reconstruct(self, volume: int, out: Bytes) -> None:
        """Compute a piece of one data strip from the rest of its group."""
        number, inner = divmod(volume, self.geometry.strip_bytes)
        period, index = divmod(number, self.geometry.pattern.strips)
        which, wanted = self.geometry.pattern.cells[index].tolist()
        self._solve(self.geometry.pattern.groups[which], period, wanted, inner, out, volume)

    def compute(self, member: int, row: int, inner: int, out: Bytes) -> None:
        """Compute a piece of any strip, data, copy or parity, from the rest of its group, never from itself.

        row    of the member, from 0; inner: where in the strip the piece begins, in bytes
        Raises DataLost when it does not follow from what can be read (its offset is that of a data strip's bytes in
        the volume, -1 for a strip that holds no data).
        """
        pattern = self.geometry.pattern
        period, phase = divmod(row, pattern.rows)
        group = next((group for group in pattern.groups if (phase, member) in group.cells), None)
        strip = self.geometry.strip_bytes
        volume = int(self.geometry.to_volume(member, self.geometry.start_bytes[member] + row * strip))
        where = volume + inner if volume >= 0 else -1
        if group is None:  # spare space: nothing says what is in it
            raise DataLost(source=self, offset=-1, length=out.size, members=[member])
        self._solve(group, period, group.cells.index((phase, member)), inner, out, where)

    def _solve(self, group: Group, period: int, wanted: int, inner: int, out: Bytes, volume: int) -> None:
        erased = self._erased(group, period, inner, out.size)
        erased.add(wanted)
        while True:
            recipe = codes.solve(group.checks, frozenset(erased)).get(wanted)
            if recipe is None:
                raise self._lost(group, erased, volume, out.size)
            failed = self._evaluate(group, period, inner, recipe, out)
            if failed is None:
                return
            erased.add(failed)

    def _evaluate(self, group: Group, period: int, inner: int, recipe: codes.Recipe, out: Bytes) -> int | None:
        """Sum a recipe into `out`; the cell that could not be read, if one could not."""
        strips = []
        for cell, _coefficient in recipe:
            strip = np.empty((1, out.size), np.uint8)
            if not self._read_cell(*self._cell(group, period, cell, inner), strip[0]):
                return cell
            strips.append(strip)
        combine(out.reshape(1, -1), strips, [coefficient for _cell, coefficient in recipe])
        return None

    def _group(self, number: int) -> tuple[Group, int]:
        """The group with this number, counted through the volume, and the period it lies in."""
        period, phase = divmod(number, len(self.geometry.pattern.groups))
        return self.geometry.pattern.groups[phase], period

    def _cell(self, group: Group, period: int, cell: int, inner: int) -> tuple[int, int]:
        row, member = group.cells[cell]
        return member, self.geometry.cell_offset(period, row, member) + inner

    def _erased(self, group: Group, period: int, inner: int, length: int) -> set[int]:
        return {
            cell
            for cell in range(len(group.cells))
            if not self.readable(*self._cell(group, period, cell, inner), length)
        }

    def _lost(self, group: Group, erased: set[int], volume: int, length: int) -> DataLost:
        members = sorted(group.cells[cell][1] for cell in erased)
        return DataLost(source=self, offset=volume, length=length, members=members)

    # writing ------------------------------------------------------------------------------------

    def write(self, offset: int, data: Buffer) -> None:
        """Store `data`, and the copies and parity that follow. Raises OutOfBounds, DataLost."""
        for step in self.plan_writes(offset, data):
            self.apply(step)

    def plan_writes(self, offset: int, data: Buffer) -> Iterator[GroupWrite]:
        """The member writes for `data` at `offset`, group by group.

        The plan of a group reads what it needs when it is asked for: apply each before taking the
        next. Raises DataLost before anything of the group is planned when the bytes would not be
        readable afterwards.
        """
        source = np.frombuffer(memoryview(data).cast("B"), np.uint8)
        check_bounds(self, self.size, offset, source.size)
        self._written_by_rows()
        if not self.geometry.redundant:
            yield from self._plan_plain(offset, source)
            return
        span = self.geometry.strip_bytes * self.geometry.pattern.group_strips
        at = 0
        while at < source.size:
            number, inner = divmod(offset + at, span)
            count = min(span - inner, source.size - at)
            yield self._plan_group(number, inner, source[at : at + count])
            at += count

    def _written_by_rows(self) -> None:
        """Writes count on it that the strips of a group follow one another in the volume."""
        if self.geometry.layout.outer != "row":
            what = "an array whose outer unit is one strip cannot be written"
            raise GeometryError(what=what, to_do="extract it, and build a new one")

    def _plan_plain(self, offset: int, source: Bytes) -> Iterator[GroupWrite]:
        """Without redundancy every piece stands alone."""
        for volume, member, at, length in zip(
            *(a.tolist() for a in self.geometry.runs(offset, source.size)), strict=True
        ):
            if self.members[member] is None:
                raise DataLost(source=self, offset=volume, length=length, members=[member])
            yield GroupWrite(((member, at, source[volume - offset : volume - offset + length]),), False)

    def apply(self, step: GroupWrite) -> None:
        """Carry a planned write out. Doing it twice does no harm."""
        for member, at, piece in step.pieces:
            target = self.members[member]
            if target is not None:
                _writable(target).write(at, piece)

    def _plan_group(self, number: int, inner: int, new: Bytes) -> GroupWrite:
        """`new` replaces the group's data bytes from `inner` on (counted through its data strips)."""
        strip = self.geometry.strip_bytes
        group, period = self._group(number)
        touched = range(inner // strip, (inner + new.size - 1) // strip + 1)
        low = inner % strip if len(touched) == 1 else 0
        high = low + new.size if len(touched) == 1 else strip
        erased = self._erased(group, period, low, high - low)
        recoverable = codes.solve(group.checks, frozenset(erased))
        if any(cell in erased and cell not in recoverable for cell in touched):
            raise self._lost(group, erased, number * group.data * strip + inner, new.size)
        columns = np.empty((group.data, high - low), np.uint8)
        kept = self._fill_old(number, inner, new.size, low, columns)
        guarded = len(group.cells) > 1 and (kept or bool(erased))
        for cell in touched:
            start, end = max(cell * strip, inner), min((cell + 1) * strip, inner + new.size)
            columns[cell, start - cell * strip - low : end - cell * strip - low] = new[start - inner : end - inner]
        pieces = []
        for cell in touched:
            start, end = max(cell * strip, inner), min((cell + 1) * strip, inner + new.size)
            member, at = self._cell(group, period, cell, start - cell * strip)
            pieces.append((member, at, columns[cell, start - cell * strip - low : end - cell * strip - low]))
        for cell, recipe in codes.solve(group.checks, frozenset(range(group.data, len(group.cells)))).items():
            check = np.empty((1, high - low), np.uint8)
            combine(check, [columns[c : c + 1] for c, _ in recipe], [k for _, k in recipe])
            member, at = self._cell(group, period, cell, low)
            pieces.append((member, at, check[0]))
        present = tuple(p for p in pieces if self.members[p[0]] is not None)
        return GroupWrite(present, guarded)

    def _fill_old(self, number: int, inner: int, length: int, low: int, columns: Bytes) -> bool:
        """Read the group's present data into `columns`, where the new bytes do not cover it anyway."""
        strip, width = self.geometry.strip_bytes, columns.shape[1]
        kept = False
        for cell in range(columns.shape[0]):
            first = cell * strip + low
            if inner <= first and first + width <= inner + length:
                continue
            kept = True
            self.read_into((number * columns.shape[0] + cell) * strip + low, columns[cell])
        return kept

    def discard(self, offset: int, length: int) -> None:
        """Make a range read as zeros; whole groups take no space on the members afterwards."""
        check_bounds(self, self.size, offset, length)
        self._written_by_rows()
        if not self.geometry.redundant:
            self._discard_plain(offset, length)
            return
        span = self.geometry.strip_bytes * self.geometry.pattern.group_strips
        first, last = -(-offset // span), (offset + length) // span
        if first >= last:
            self.write(offset, bytes(length))
            return
        self.write(offset, bytes(first * span - offset))
        for number in range(first, last):
            group, period = self._group(number)
            for cell in range(len(group.cells)):
                member, at = self._cell(group, period, cell, 0)
                target = self.members[member]
                if target is not None:
                    _writable(target).discard(at, self.geometry.strip_bytes)
        self.write(last * span, bytes(offset + length - last * span))

    def _discard_plain(self, offset: int, length: int) -> None:
        for _volume, member, at, count in zip(*(a.tolist() for a in self.geometry.runs(offset, length)), strict=True):
            target = self.members[member]
            if target is not None:
                _writable(target).discard(at, count)

    def flush(self) -> None:
        """Return once every member has stored what was written."""
        for source in self.members:
            if source is not None:
                _writable(source).flush()

    # holes --------------------------------------------------------------------------------------

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        """Ranges that may hold data, in whole rows: a row is empty when every member is empty there."""
        stop = self.size if end is None else min(end, self.size)
        if isinstance(self.geometry, Concatenation):
            yield from clip(self._concatenated(), start, stop)
            return
        pattern = self.geometry.pattern
        per_row = pattern.strips * self.geometry.strip_bytes / pattern.rows
        first = max(0, int(start / per_row) - pattern.unit_rows) // pattern.unit_rows * pattern.unit_rows
        last = min(self.geometry.rows, int(stop / per_row) + 2 * pattern.unit_rows)
        found = data_rows(self.geometry, self.members, first, last)
        yield from clip(self.geometry.row_ranges(found), start, stop)

    def _concatenated(self) -> list[Range]:
        found = list[Range]()
        at = 0
        for source, start, size in zip(
            self.members, self.geometry.start_bytes, self.geometry.member_bytes, strict=True
        ):
            if source is not None:
                found += [(at + a - start, at + b - start) for a, b in source.data_ranges(start, start + size)]
            at += size
        return union(found)


def data_rows(geometry: Geometry, members: Sequence[Member], first: int, last: int) -> list[Range]:
    """Row ranges of [first, last) where any member that is there may hold data."""
    strip, found = geometry.strip_bytes, list[Range]()
    for source, start in zip(members, geometry.start_bytes, strict=True):
        if source is not None:
            low, high = start + first * strip, min(start + last * strip, source.size)
            for a, b in widen(source.data_ranges(low, high) if low < high else (), strip, start):
                found.append(((a - start) // strip, (b - start) // strip))
    return clip(union(found), first, last)


def _writable(source: BlockSource) -> WritableSource:
    assert isinstance(source, WritableSource)  # members of an array that is written are opened for writing
    return source


def lost_ranges(array: Array, bad: Iterable[tuple[int, int, int]]) -> list[Range]:
    """The bytes of the volume that can neither be read nor computed, found by reading next to what is known as bad.

    bad  (member, offset on the member, length): what cannot be read there
    """
    geometry = array.geometry
    strip, unit = geometry.strip_bytes, geometry.pattern.unit_rows
    lost: set[Range] = set()
    tried: set[Range] = set()
    for who, offset, length in bad:
        start = geometry.start_bytes[who]
        at, stop = max(0, offset - start), min(offset + length - start, geometry.rows * strip)
        while at < stop:
            row, inner = divmod(at, strip)
            end = min(strip, inner + stop - at)
            at += end - inner
            for near in range(row // unit * unit, min(geometry.rows, row // unit * unit + unit)):
                for member in range(geometry.members):
                    first = int(geometry.to_volume(member, geometry.start_bytes[member] + near * strip))
                    piece = (first + inner, first + end)
                    if first >= 0 and piece not in tried:
                        tried.add(piece)
                        if not _can_read(array, *piece):
                            sectors = ((i, min(i + SECTOR, piece[1])) for i in range(*piece, SECTOR))
                            lost.update(sector for sector in sectors if not _can_read(array, *sector))
    return union(lost)


def _can_read(array: Array, start: int, end: int) -> bool:
    try:
        array.read_into(start, bytearray(end - start))
    except BlockSourceError:
        return False
    return True
