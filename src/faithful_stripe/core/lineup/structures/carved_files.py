"""Files that carry their own checksum, found by their first bytes in the images and read through a rebuilt volume.

A gzip stream, a PNG picture or a zip member that holds over several strips proves the junctions between them, with
any file system or none. One that fails proves little: its file may lie in pieces.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from ...ranges import Range
from ...source import BlockSource, BlockSourceError, Buffer, read
from .ground import SECTOR, Stock, big, hits, little

MOST_BYTES = 4 << 20
MARKS = (
    (b"\x1f\x8b\x08\x00", "gzip"),
    (b"\x1f\x8b\x08\x08", "gzip"),
    (b"\x89PNG\r\n\x1a\n", "PNG"),
    (b"PK\x03\x04", "zip"),
)


@dataclass(frozen=True)
class Carved:
    """Where a file with its own checksum begins: image and byte offset, and its format."""

    image: int
    offset: int
    kind: str


def find_files(stock: Stock) -> list[Carved]:
    """Every place in the stock at which such a file may begin: at sectors, as file systems put them."""
    found = []
    for piece in stock:
        for mark, kind in MARKS:
            for row in hits(piece.sectors, 0, mark).tolist():
                found.append(Carved(piece.image, piece.offset + row * SECTOR, kind))
    return found


def length_if_sound(volume: BlockSource, at: int, kind: str, blocks: Sequence[int] = ()) -> int:
    """Length in bytes of the file at `at` whose checksum holds; 0 where it does not.

    blocks  block sizes of file systems in the volume that map files by indirect blocks
    """
    for source in (volume, *(Stepping(volume, at, block) for block in blocks)):
        try:
            length = {"gzip": _gzip, "PNG": _png, "zip": _zip}[kind](source, at)
        except (BlockSourceError, zlib.error, ValueError):
            continue
        if length:
            return length
    return 0


class Stepping:
    """A volume in which a file mapped by indirect blocks lies in one run: the blocks that only list others, which such
    file systems put between the data, are stepped over.

    volume  the volume; at: where the file begins; block: the file system's block, in bytes
    """

    def __init__(self, volume: BlockSource, at: int, block: int) -> None:
        self._volume, self._at, self._block = volume, at, block
        self.size = volume.size

    def _place(self, number: int) -> int:
        """The block of the run that holds the file's block `number`: 12, then one list and what it lists, then more."""
        per = self._block // 4
        if number < 12:
            return number
        if number < 12 + per:
            return number + 1
        return number + 2 + 1 + (number - 12 - per) // per

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        done = 0
        while done < len(view):
            number, inner = divmod(offset + done - self._at, self._block)
            count = min(self._block - inner, len(view) - done)
            self._volume.read_into(self._at + self._place(number) * self._block + inner, view[done : done + count])
            done += count

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        yield start, self.size if end is None else end


def _chunks(volume: BlockSource, at: int, most: int) -> Iterator[bytes]:
    end = min(volume.size, at + most)
    step = 64 << 10
    while at < end:
        yield read(volume, at, min(step, end - at))
        at += step


def _gzip(volume: BlockSource, at: int) -> int:
    engine, out, length = zlib.decompressobj(31), 0, 0
    for chunk in _chunks(volume, at, MOST_BYTES):
        out += len(engine.decompress(chunk, 16 * MOST_BYTES))
        length += len(chunk) - len(engine.unused_data)
        if engine.eof:  # the stream's own CRC and length were right, or it would have raised
            return length
        if out > 16 * MOST_BYTES:
            return 0
    return 0


def _png(volume: BlockSource, at: int) -> int:
    place = at + 8
    while place + 12 <= min(volume.size, at + MOST_BYTES):
        head = read(volume, place, 8)
        length = big(head, 0, 4)
        if length > MOST_BYTES or not head[4:8].isalpha():
            return 0
        body = read(volume, place + 4, length + 8)
        if big(body, length + 4, 4) != zlib.crc32(body[: length + 4]):
            return 0
        place += 12 + length
        if head[4:8] == b"IEND":
            return place - at
    return 0


def _zip(volume: BlockSource, at: int) -> int:
    head = read(volume, at, 30)
    method, crc, packed = little(head, 8, 2), little(head, 14, 4), little(head, 18, 4)
    start = at + 30 + little(head, 26, 2) + little(head, 28, 2)
    if method not in (0, 8) or not 0 < packed <= MOST_BYTES or little(head, 6, 2) & 9:
        return 0
    data = read(volume, start, packed)
    plain = zlib.decompressobj(-15).decompress(data, 16 * MOST_BYTES) if method == 8 else data
    return start + packed - at if zlib.crc32(plain) == crc else 0
