"""The map of rows: what a pass over everything that holds data found in each row of an array, as a value.

Made by `passing`, kept in the lineup document, drawn, and read by whoever opens the volume: where a member is at fault,
its bytes are not used.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from itertools import accumulate
from typing import Any

from ...arrays.engine import Array
from ...arrays.geometry import Concatenation, Geometry
from ...ranges import Range, clip, total, union
from ...source import BlockSource, Buffer, Unreadable


class State(StrEnum):
    """What is known of the bytes of a row."""

    SOUND = "sound"
    """Every equation of the row's redundancy holds."""
    MENDED = "computed"
    """A member is at fault there, it is known which one, and the others give what belongs there."""
    OPEN = "open"
    """The row does not match, and nothing tells who is at fault."""
    UNPROTECTED = "unprotected"
    """No redundancy is left that could speak."""


class Why(StrEnum):
    """Why the bytes of a member are not used somewhere."""

    UNREADABLE = "unreadable"
    BLANK = "blank"
    """It holds zeros, or a pattern, where the others tell that something belongs."""
    LOCATED = "located"
    """Two equations single it out."""
    OUT_OF_DATE = "out-of-date"
    """What it holds is like what stood there once, what the others tell is like the rest of the array."""
    AWAY = "away"
    """It is known to have been away while the others were written, and nothing there speaks for another one."""
    ABSENT = "absent"
    """Its image ends before."""


@dataclass(frozen=True)
class Fault:
    """Bytes [start, end) of a member, counted on its image, that are not used, and why.

    proven  whether redundancy tells who is at fault, and that what is computed instead is right
    """

    member: int
    start: int
    end: int
    why: Why
    proven: bool = False


@dataclass(frozen=True)
class RowMap:
    """The rows of an array that hold data, by what is known of them.

    rows     how many in each state; one with open bytes is open, else one with computed bytes is computed
    faults   where members are not used, ascending by member and place
    open     ranges of the volume, in bytes, of which nothing tells whether they are right
    stretches  (first row, row after the last, state), ascending: rows that hold no data are in none
    read     bytes that were read for it
    smaller  (first row, row after the last, member) of stretches that add up without that member only: an array of the
             others wrote them, before a growth that did not come to its end, or when it was made anew in another shape
    """

    rows: dict[State, int]
    faults: tuple[Fault, ...] = ()
    open: tuple[Range, ...] = ()
    stretches: tuple[tuple[int, int, State], ...] = ()
    read: int = 0
    smaller: tuple[tuple[int, int, int], ...] = ()

    @property
    def open_bytes(self) -> int:
        return total(self.open)

    def of(self, member: int) -> list[Range]:
        """Where a member is not used: byte ranges on its image."""
        return union((f.start, f.end) for f in self.faults if f.member == member)

    def mended_bytes(self, member: int) -> int:
        """How many bytes of a member are computed from the others."""
        return total(self.of(member))

    def blamed(self) -> dict[int, dict[Why, int]]:
        """Bytes that are not used, by member and reason."""
        found: dict[int, dict[Why, int]] = {}
        for fault in self.faults:
            reasons = found.setdefault(fault.member, {})
            reasons[fault.why] = reasons.get(fault.why, 0) + fault.end - fault.start
        return found

    def as_document(self) -> dict[str, Any]:
        """As JSON and TOML hold it."""
        return {
            "rows": {state.value: self.rows.get(state, 0) for state in State},
            "faults": [_fault(f) for f in self.faults],
            "open": [[a, b - a] for a, b in self.open],
            "stretches": [[a, b, state.value] for a, b, state in self.stretches],
            **({"smaller": [list(stretch) for stretch in self.smaller]} if self.smaller else {}),
        }

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> RowMap:
        """Raises KeyError, TypeError, ValueError where it is not one."""
        faults = tuple(
            Fault(f["member"], f["start"], f["start"] + f["length"], Why(f["why"]), f["proven"] is True)
            for f in document["faults"]
        )
        return cls(
            {State(name): int(count) for name, count in document["rows"].items()},
            faults,
            tuple((int(a), int(a) + int(length)) for a, length in document["open"]),
            tuple((int(a), int(b), State(state)) for a, b, state in document["stretches"]),
            smaller=tuple((int(a), int(b), int(who)) for a, b, who in document.get("smaller", ())),
        )


def joined(maps: Sequence[RowMap]) -> RowMap:
    """What several passes over parts of one array found, as one: a row that two of them read counts once."""
    if len(maps) == 1:
        return maps[0]
    stretches: list[tuple[int, int, State]] = []
    for first, last, state in sorted({s for one in maps for s in one.stretches}):
        begin = max(first, stretches[-1][1]) if stretches else first
        if begin < last:
            stretches.append((begin, last, state))
    rows: dict[State, int] = {}
    for first, last, state in stretches:
        rows[state] = rows.get(state, 0) + last - first
    for one in maps if not stretches else ():  # of members one after the other: none of their rows stands in two parts
        for state, count in one.rows.items():
            rows[state] = rows.get(state, 0) + count
    faults = sorted({f for one in maps for f in one.faults}, key=lambda f: (f.member, f.start, f.end))
    return RowMap(
        rows, tuple(faults), tuple(union(r for one in maps for r in one.open)), tuple(stretches),
        sum(one.read for one in maps), tuple(sorted({s for one in maps for s in one.smaller})),
    )  # fmt: skip


def _fault(fault: Fault) -> dict[str, Any]:
    return {
        "member": fault.member, "start": fault.start, "length": fault.end - fault.start, "why": fault.why.value,
        "proven": fault.proven,
    }  # fmt: skip


@dataclass
class Excused:
    """A member of which some ranges are not used: reading them is refused, and redundancy takes over."""

    source: BlockSource
    ranges: Sequence[Range] = field(default_factory=tuple)

    def __str__(self) -> str:
        return str(self.source)

    @property
    def size(self) -> int:
        return self.source.size

    def __post_init__(self) -> None:
        self.ranges = union(self.ranges)
        self._ends = [end for _start, end in self.ranges]

    def _within(self, start: int, end: int) -> list[Range]:
        """The ranges in a part of the member: there may be tens of thousands, asked for at every strip."""
        first = bisect_right(self._ends, start)
        last = bisect_left(self._ends, end)
        return clip(self.ranges[first : last + 1], start, end)

    def read_into(self, offset: int, buffer: Buffer) -> None:
        length = memoryview(buffer).nbytes
        if self._within(offset, offset + length):
            raise Unreadable(source=self.source, offset=offset, length=length)
        self.source.read_into(offset, buffer)

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = self.size if end is None else min(end, self.size)
        yield from union([*self.source.data_ranges(start, stop), *self._within(start, stop)])


@dataclass
class Shorter:
    """A member whose image ends early, as long as the others: what is behind its end is unreadable."""

    source: BlockSource
    size: int

    def __str__(self) -> str:
        return str(self.source)

    def read_into(self, offset: int, buffer: Buffer) -> None:
        length = memoryview(buffer).nbytes
        if offset + length > self.source.size:
            raise Unreadable(source=self.source, offset=offset, length=length)
        self.source.read_into(offset, buffer)

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = min(self.source.size, self.size if end is None else end)
        if start < stop:
            yield from self.source.data_ranges(start, stop)


def touched(made: Geometry, found: RowMap, gone: Sequence[int]) -> list[Range]:
    """Ranges of the volume, in bytes, that are not what stands on the members: a member is at fault there, or one that
    is missing is computed from it.

    gone  positions of missing members
    """
    ranges: list[Range] = []
    if isinstance(made, Concatenation):
        edges = [0, *accumulate(made.member_bytes)]
        return union((edges[f.member] + f.start - s, edges[f.member] + f.end - s)
                     for f in found.faults for s in [made.start_bytes[f.member]])  # fmt: skip
    strip, pattern = made.strip_bytes, made.pattern
    unit = pattern.unit_rows
    for fault in found.faults:
        start = made.start_bytes[fault.member]
        at = max(fault.start, start)
        while at < fault.end:
            row, inner = divmod(at - start, strip)
            length = min(strip - inner, fault.end - at)
            cells = [(row, fault.member)]
            if gone:
                first = row // unit * unit
                cells += [(r, who) for r in range(first, min(first + unit, made.rows)) for who in gone]
            for r, who in cells:
                volume = int(made.to_volume(who, made.start_bytes[who] + r * strip))
                if volume >= 0:
                    ranges.append((volume + inner, volume + inner + length))
            at += length
    return union(ranges)


def as_long(made: Geometry, members: Sequence[BlockSource | None]) -> list[BlockSource | None]:
    """The members, those whose image is too short for the geometry made as long as it says."""
    ends = [start + size for start, size in zip(made.start_bytes, made.member_bytes, strict=True)]
    whole: list[BlockSource | None] = []
    for source, end in zip(members, ends, strict=True):
        whole.append(Shorter(source, end) if source is not None and source.size < end else source)
    return whole


def opened(
    made: Geometry, members: Sequence[BlockSource | None], found: RowMap | None, name: str = "recovered volume"
) -> Array:
    """The volume with every member used only where it is not at fault."""
    whole = as_long(made, members)
    for m, source in enumerate(whole if found is not None else ()):
        ranges = found.of(m) if found is not None else []
        whole[m] = Excused(source, ranges) if source is not None and ranges else source
    return Array(made, whole, name=name)
