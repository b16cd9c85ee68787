"""Reading on where something cannot be read: zeros stand in its place, and it is noted."""

from __future__ import annotations

from collections.abc import Iterator

from ..core.ranges import Range, union
from ..core.source import BlockSource, Buffer, Unreadable

SECTOR = 512


def read_forgiving(source: BlockSource, offset: int, size: int, unread: list[Range]) -> bytes:
    """`size` bytes at `offset`, fewer where the source ends; what cannot be read comes as zeros, and joins `unread`."""
    out = bytearray(max(0, min(size, source.size - offset)))
    if not out:
        return b""
    try:
        source.read_into(offset, out)
    except Unreadable:
        view = memoryview(out)
        for at in range(0, len(out), SECTOR):
            try:
                source.read_into(offset + at, view[at : at + SECTOR])
            except Unreadable:
                view[at : at + SECTOR] = bytes(len(view[at : at + SECTOR]))
                unread[:] = union([*unread, (offset + at, offset + min(at + SECTOR, len(out)))])
    return bytes(out)


class Forgiving:
    """A source of which everything can be read: zeros stand for what cannot, and `unread` lists that."""

    def __init__(self, source: BlockSource) -> None:
        self.source, self.unread = source, list[Range]()

    def __str__(self) -> str:
        return str(self.source)

    @property
    def size(self) -> int:
        return self.source.size

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        view[:] = read_forgiving(self.source, offset, len(view), self.unread)

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        yield from self.source.data_ranges(start, self.size if end is None else end)
