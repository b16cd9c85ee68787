"""The partition table of the boot record (MBR): four entries, and the chain of logical partitions behind one."""

from __future__ import annotations

from dataclasses import dataclass

from ..source import BlockSource, BlockSourceError, read

SECTOR = 512
EXTENDED = (0x05, 0x0F, 0x85)
PROTECTIVE = 0xEE
MOST_LOGICAL = 128


@dataclass(frozen=True)
class Entry:
    """A partition: its type byte, and its place in bytes."""

    type: int
    start: int
    length: int


def entries(source: BlockSource) -> list[Entry]:
    """Primary partitions, then logical ones, each that lies on the disk; none where there is no sound table.

    A chain of logical partitions that loops, or leaves the disk, ends there.
    """
    found = []
    for entry in _sector(source, 0):
        if entry.type in EXTENDED:
            found += _logical(source, entry.start)
        elif entry.type != PROTECTIVE:
            found.append(entry)
    return [e for e in found if e.length > 0 and e.start + e.length <= source.size]


def _logical(source: BlockSource, first: int) -> list[Entry]:
    found: list[Entry] = []
    at, seen = first, set()
    while at not in seen and len(found) < MOST_LOGICAL:
        seen.add(at)
        onward = None
        for entry in _sector(source, at):
            if entry.type in EXTENDED:
                onward = first + entry.start
            else:
                found.append(Entry(entry.type, at + entry.start, entry.length))
        if onward is None:
            break
        at = onward
    return found


def _sector(source: BlockSource, at: int) -> list[Entry]:
    """The used entries of one boot record; none where it is not one."""
    if at + SECTOR > source.size:
        return []
    try:
        data = read(source, at, SECTOR)
    except BlockSourceError:
        return []
    rows = [data[446 + 16 * i : 462 + 16 * i] for i in range(4)]
    if data[510:] != b"\x55\xaa" or any(row[0] not in (0, 0x80) for row in rows):
        return []
    return [
        Entry(row[4], int.from_bytes(row[8:12], "little") * SECTOR, int.from_bytes(row[12:16], "little") * SECTOR)
        for row in rows if row[4] and any(row[8:12])
    ]  # fmt: skip
