"""A drive as the controller sees it: its image, its volatile cache, and the sectors that cannot be read."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from ..core.ranges import Range, subtract, union
from ..core.source import Buffer, Unreadable
from ..media.image import ImageFile
from ..media.parts import Parts
from .cache import WriteCache
from .state import Drive


class Medium:
    """A seated drive as a block source. Unreadable sectors raise Unreadable until they are written again.

    A write heals what it covers, as a real drive does by using a spare sector.
    """

    def __init__(self, drive: Drive, image: ImageFile | Parts, undo: Path) -> None:
        self.drive, self.image = drive, image
        self.cache = WriteCache(image, undo)

    def close(self) -> None:
        self.cache.close()
        self.image.close()

    def __str__(self) -> str:
        return f"bay {self.drive.bay}, drive {self.drive.serial}"

    @property
    def size(self) -> int:
        return self.image.size

    def read_into(self, offset: int, buffer: Buffer) -> None:
        length = memoryview(buffer).nbytes
        for start, count in self.drive.unreadable:
            if offset < start + count and start < offset + length:
                raise Unreadable(source=self, offset=max(offset, start), length=count)
        self.image.read_into(offset, buffer)

    def write(self, offset: int, data: Buffer) -> None:
        length = memoryview(data).nbytes
        self.cache.before_change(offset, length)
        self.image.write(offset, data)
        self._heal(offset, length)

    def discard(self, offset: int, length: int) -> None:
        self.cache.before_change(offset, length)
        self.image.discard(offset, length)
        self._heal(offset, length)

    def flush(self) -> None:
        """Empty the drive's cache onto the medium (of the bench; the host's own cache is the host's matter)."""
        self.cache.flush()

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        """The image's data, and what cannot be read: it may be anything but a hole."""
        stop = self.size if end is None else end
        bad = [(max(start, a), min(stop, a + n)) for a, n in self.drive.unreadable]
        yield from union([*self.image.data_ranges(start, stop), *bad]) if bad else self.image.data_ranges(start, stop)

    def spoil(self, offset: int, length: int) -> None:
        """From now on these bytes cannot be read."""
        self._set(union([*self._bad(), (offset, offset + length)]))

    def _heal(self, offset: int, length: int) -> None:
        if self.drive.unreadable:
            self._set(subtract(self._bad(), [(offset, offset + length)]))

    def _bad(self) -> list[Range]:
        return [(start, start + count) for start, count in self.drive.unreadable]

    def _set(self, ranges: list[Range]) -> None:
        self.drive.unreadable = [[a, b - a] for a, b in ranges]


class Twin:
    """A member that is being copied: read from the first drive, written to both."""

    def __init__(self, first: Medium, second: Medium) -> None:
        self.first, self.second = first, second

    def __str__(self) -> str:
        return str(self.first)

    @property
    def size(self) -> int:
        return self.first.size

    def read_into(self, offset: int, buffer: Buffer) -> None:
        self.first.read_into(offset, buffer)

    def write(self, offset: int, data: Buffer) -> None:
        self.first.write(offset, data)
        self.second.write(offset, data)

    def discard(self, offset: int, length: int) -> None:
        self.first.discard(offset, length)
        self.second.discard(offset, length)

    def flush(self) -> None:
        self.first.flush()
        self.second.flush()

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        return self.first.data_ranges(start, end)
