"""The block source: the one interface through which arrays, solvers and exporters see storage.

A drive image, a volume, a recovered array and a test double are all block sources. The two errors
here are part of the interface: any source may raise them from `read_into` and `write`.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import accumulate
from typing import Any, Protocol, runtime_checkable

from .errors import StripeError
from .ranges import Range, clip, union

Buffer = Any  # a writable, C-contiguous bytes-like object (bytearray, memoryview, uint8 array)


class BlockSourceError(StripeError):
    template = "{source}: {what}"


class Unreadable(BlockSourceError):
    """A read that the medium refuses. Redundancy, where there is any, takes over."""

    template = "{source}: {length} bytes at {offset} cannot be read"
    remedy = "the drive has unreadable sectors there, or is gone"


class OutOfBounds(BlockSourceError):
    template = "{source}: {length} bytes at {offset} are outside its {size} bytes"


class ReadOnlySource(BlockSourceError):
    template = "{source} is opened read-only"


@runtime_checkable
class BlockSource(Protocol):
    """Bytes at offsets. All offsets and lengths are in bytes; reads and writes are exact or raise."""

    @property
    def size(self) -> int:
        """Size in bytes."""

    def read_into(self, offset: int, buffer: Buffer) -> None:
        """Fill `buffer` with the bytes at `offset`. Raises OutOfBounds, Unreadable."""

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        """Ranges of [start, end) that may hold something else than zeros, ascending and disjoint.

        A source that does not know its holes yields the whole range. Outside the ranges every byte
        reads as zero; this is what makes work proportional to the data and not to the nominal size.
        """


@runtime_checkable
class WritableSource(BlockSource, Protocol):
    """A block source that can be changed."""

    def write(self, offset: int, data: Buffer) -> None:
        """Store `data` at `offset`. Raises OutOfBounds, ReadOnlySource."""

    def discard(self, offset: int, length: int) -> None:
        """Make the range read as zeros and, where the medium can, take no space."""

    def flush(self) -> None:
        """Return once everything written before is on the medium."""


def check_bounds(source: object, size: int, offset: int, length: int) -> None:
    """Raise OutOfBounds unless [offset, offset + length) lies inside `size` bytes."""
    if offset < 0 or length < 0 or offset + length > size:
        raise OutOfBounds(source=source, offset=offset, length=length, size=size)


def read(source: BlockSource, offset: int, length: int) -> bytes:
    """`length` bytes at `offset`, as bytes."""
    buffer = bytearray(length)
    source.read_into(offset, buffer)
    return bytes(buffer)


class MemorySource:
    """A sparse block source in memory: pages appear when they are written."""

    PAGE = 4096

    def __init__(self, size: int, name: str = "memory") -> None:
        self._size = size
        self._pages: dict[int, bytearray] = {}
        self.name = name

    def __str__(self) -> str:
        return self.name

    @property
    def size(self) -> int:
        return self._size

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        check_bounds(self, self._size, offset, len(view))
        for page, inner, at, count in self._pieces(offset, len(view)):
            stored = self._pages.get(page)
            view[at : at + count] = stored[inner : inner + count] if stored else bytes(count)

    def write(self, offset: int, data: Buffer) -> None:
        view = memoryview(data).cast("B")
        check_bounds(self, self._size, offset, len(view))
        for page, inner, at, count in self._pieces(offset, len(view)):
            stored = self._pages.setdefault(page, bytearray(self.PAGE))
            stored[inner : inner + count] = view[at : at + count]

    def discard(self, offset: int, length: int) -> None:
        check_bounds(self, self._size, offset, length)
        for page, inner, _at, count in list(self._pieces(offset, length)):
            if count == self.PAGE:
                self._pages.pop(page, None)
            elif page in self._pages:
                self._pages[page][inner : inner + count] = bytes(count)

    def flush(self) -> None:
        pass

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = self._size if end is None else end
        pages = ((page * self.PAGE, (page + 1) * self.PAGE) for page in self._pages)
        yield from clip(union(pages), start, min(stop, self._size))

    def _pieces(self, offset: int, length: int) -> Iterator[tuple[int, int, int, int]]:
        at = 0
        while at < length:
            page, inner = divmod(offset + at, self.PAGE)
            count = min(self.PAGE - inner, length - at)
            yield page, inner, at, count
            at += count


class Window:
    """A part of another source, seen as a source of its own: a partition, a member without its tail."""

    def __init__(self, source: BlockSource, start: int, size: int, name: str | None = None) -> None:
        check_bounds(source, source.size, start, size)
        self._source, self._start, self._size = source, start, size
        self.name = name or str(source)

    def __str__(self) -> str:
        return self.name

    @property
    def size(self) -> int:
        return self._size

    def read_into(self, offset: int, buffer: Buffer) -> None:
        check_bounds(self, self._size, offset, memoryview(buffer).nbytes)
        self._source.read_into(self._start + offset, buffer)

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = self._size if end is None else min(end, self._size)
        for a, b in self._source.data_ranges(self._start + start, self._start + stop):
            yield a - self._start, b - self._start


class Pieces:
    """Ranges of another source, one after the other as they are given, seen as a source of its own."""

    def __init__(self, source: BlockSource, ranges: Sequence[Range], name: str | None = None) -> None:
        for a, b in ranges:
            check_bounds(source, source.size, a, b - a)
        self._source, self.ranges = source, tuple(ranges)
        self._starts = [0, *accumulate(b - a for a, b in ranges)]
        self.name = name or str(source)

    def __str__(self) -> str:
        return self.name

    @property
    def size(self) -> int:
        return self._starts[-1]

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        check_bounds(self, self.size, offset, view.nbytes)
        for at, (a, b) in self._meeting(offset, offset + view.nbytes):
            self._source.read_into(a, view[at - offset : at - offset + b - a])

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        for at, (a, b) in self._meeting(start, self.size if end is None else min(end, self.size)):
            for low, high in self._source.data_ranges(a, b):
                yield low - a + at, high - a + at

    def inward(self, ranges: Iterable[Range]) -> list[Range]:
        """Where ranges of the other source stand in this one, as far as they do; ascending."""
        return sorted(
            (max(a, low) - a + at, min(b, high) - a + at)
            for low, high in ranges
            for at, (a, b) in zip(self._starts, self.ranges, strict=False)
            if max(a, low) < min(b, high)
        )

    def outward(self, ranges: Iterable[Range]) -> list[Range]:
        """Where ranges of this source stand in the other one; ascending."""
        return sorted(place for a, b in ranges for _at, place in self._meeting(a, b))

    def _meeting(self, start: int, end: int) -> Iterator[tuple[int, Range]]:
        """What [start, end) of this source is: (where in it, the range of the other one), piece by piece."""
        for at, (a, b) in zip(self._starts, self.ranges, strict=False):
            low, high = max(start, at), min(end, at + b - a)
            if low < high:
                yield low, (a + low - at, a + high - at)
