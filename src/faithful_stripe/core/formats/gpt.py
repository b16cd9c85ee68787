"""The GUID Partition Table (UEFI specification 2.10, section 5.3): header, entries, their checksums and the copy."""

from __future__ import annotations

import uuid
import zlib
from dataclasses import dataclass

from ..source import BlockSource, read
from .declared import Field, FormatError, Layout

HEADER = Layout("GPT header", 92, "<", (
    Field(0, "signature", "8s", "", "EFI PART"),
    Field(8, "revision", "I", "", "0x00010000"),
    Field(12, "size", "I", "bytes", "of this header"),
    Field(16, "crc", "I", "", "CRC-32 of the header with this field as 0"),
    Field(24, "own", "Q", "sectors", "where this header is"),
    Field(32, "other", "Q", "sectors", "where its copy is"),
    Field(40, "first", "Q", "sectors", "first usable"),
    Field(48, "last", "Q", "sectors", "last usable"),
    Field(56, "guid", "16s", "", "of the disk"),
    Field(72, "entries", "Q", "sectors", "where the entries begin"),
    Field(80, "count", "I", "", "of entries"),
    Field(84, "entry_size", "I", "bytes", ""),
    Field(88, "entries_crc", "I", "", "CRC-32 of the entries"),
))  # fmt: skip

ENTRY = Layout("GPT entry", 128, "<", (
    Field(0, "type", "16s", "", "GUID; zeros: unused"),
    Field(16, "guid", "16s", "", ""),
    Field(32, "first", "Q", "sectors", ""),
    Field(40, "last", "Q", "sectors", "included"),
    Field(48, "attributes", "Q", "", ""),
    Field(56, "name", "72s", "", "UTF-16, little-endian"),
))  # fmt: skip

SYSTEM_PARTITION = uuid.UUID("c12a7328-f81f-11d2-ba4b-00a0c93ec93b")
"""The type of an EFI system partition."""

MOST_ENTRIES = 1024


@dataclass(frozen=True)
class Partition:
    """A partition: its type, name, and place in bytes."""

    type: uuid.UUID
    name: str
    start: int
    length: int


@dataclass(frozen=True)
class Table:
    """A sound table: sector size in bytes, partitions in order, whether the copy at the end is sound too, and where, in
    bytes, the disk ends behind that copy."""

    sector: int
    partitions: tuple[Partition, ...]
    copy_sound: bool
    end: int


def table(source: BlockSource) -> Table | None:
    """The partition table of a disk with sectors of 512 or 4096 bytes; None where there is none.

    Raises FormatError where one is damaged and its copy does not help.
    """
    for sector in (512, 4096):
        if source.size >= 3 * sector and read(source, sector, 8) == b"EFI PART":
            return _table(source, sector)
    return None


def _table(source: BlockSource, sector: int) -> Table:
    last = source.size // sector - 1
    try:
        found = _read(source, sector, 1)
    except FormatError as reason:
        try:
            return Table(sector, _read(source, sector, last)[0], copy_sound=True, end=(last + 1) * sector)
        except FormatError:
            raise reason from None
    end = (found[1] + 1) * sector
    try:
        _read(source, sector, found[1])
    except FormatError:
        return Table(sector, found[0], copy_sound=False, end=end)
    return Table(sector, found[0], copy_sound=True, end=end)


def _read(source: BlockSource, sector: int, lba: int) -> tuple[tuple[Partition, ...], int]:
    where = f"{source}, sector {lba}"
    if not 0 < lba < source.size // sector:
        raise FormatError(what=f"{where}: not on the disk", to_do="the image is shorter than its table says")
    data = read(source, lba * sector, HEADER.size)
    head = HEADER.read(data, 0, where)
    size = head["size"]
    if head["signature"] != b"EFI PART" or not HEADER.size <= size <= sector:
        raise FormatError(what=f"{where}: GPT header: expected EFI PART", to_do="there is none, or it is damaged")
    whole = bytearray(read(source, lba * sector, size))
    whole[16:20] = bytes(4)
    if zlib.crc32(whole) != head["crc"]:
        what = f"{where}: GPT header: expected CRC {zlib.crc32(whole):#010x}, found {head['crc']:#010x}"
        raise FormatError(what=what, to_do="it is damaged; the copy at the other end may be sound")
    length = head["count"] * head["entry_size"]
    inside = head["entries"] * sector + length <= source.size
    if head["entry_size"] < ENTRY.size or head["count"] > MOST_ENTRIES or not inside:
        what = f"{where}: GPT header: {head['count']} entries of {head['entry_size']} bytes cannot be"
        raise FormatError(what=what, to_do="the header is damaged")
    rows = read(source, head["entries"] * sector, length)
    if zlib.crc32(rows) != head["entries_crc"]:
        what = f"{where}: GPT entries: expected CRC {head['entries_crc']:#010x}, found {zlib.crc32(rows):#010x}"
        raise FormatError(what=what, to_do="they are damaged; the copy at the other end may be sound")
    found = []
    for i in range(head["count"]):
        row = ENTRY.read(rows, i * head["entry_size"], where)
        if any(row["type"]):
            name = row["name"].decode("utf-16-le", "replace").split("\0")[0]
            length = (row["last"] + 1 - row["first"]) * sector
            found.append(Partition(uuid.UUID(bytes_le=row["type"]), name, row["first"] * sector, length))
    return tuple(found), int(head["other"])
