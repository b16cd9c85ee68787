"""A qcow2 image, read by its published description (interop/qcow2.txt): the library that was tried gives other bytes
than stand in packed clusters, and says nothing of holes.

Two levels of tables say where each cluster of the drive stands in the file, or that it is zeros, or packed.
"""

from __future__ import annotations

import threading
import zlib
from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path

from ..core.formats.declared import Field, FormatError, Layout
from ..core.ranges import Range, clip, union
from ..core.source import BlockSourceError, Buffer, Unreadable, check_bounds, read
from .image import ImageFile, MediaError

HEADER = Layout(
    "qcow2 header", size=104, order=">",
    fields=(
        Field(0, "magic", "4s", "", "QFI and 0xFB"),
        Field(4, "version", "I", "", "2 or 3"),
        Field(8, "backing_offset", "Q", "bytes", "of the name of an image that this one differs from; 0: none"),
        Field(16, "backing_size", "I", "bytes"),
        Field(20, "cluster_bits", "I", "", "a cluster is 1 << this many bytes"),
        Field(24, "size", "Q", "bytes", "of the drive"),
        Field(32, "crypt_method", "I", "", "0: not encrypted"),
        Field(36, "l1_size", "I", "entries"),
        Field(40, "l1_offset", "Q", "bytes"),
        Field(72, "incompatible", "Q", "", "version 3: bits that a reader must know"),
        Field(100, "header_size", "I", "bytes", "version 3"),
    ),
)  # fmt: skip
DIRTY, CORRUPT, OUTSIDE, PACKING, EXTENDED = 1, 2, 4, 8, 16
"""Bits of `incompatible`; a dirty one has only its count of references unsettled."""
STANDARD_OFFSET, PACKED = 0x00FFFFFFFFFFFE00, 1 << 62
MOST_L1 = 4 << 20
"""Entries of the first table: of 64 KiB clusters, 2 PiB."""
SUBCLUSTERS = 32
KEPT_TABLES, KEPT_CLUSTERS = 256, 64


class Qcow2:
    """The drive in a qcow2 file, read-only. Raises MediaError where it is damaged, encrypted or only a difference."""

    def __init__(self, path: Path) -> None:
        self.path, self._file = path, ImageFile(path)
        try:
            self._open()
        except (BlockSourceError, FormatError, OverflowError) as reason:
            self.close()
            raise MediaError(
                path=path, what="its qcow2 structure is damaged or not known", to_do="copy it again"
            ) from reason
        except MediaError:
            self.close()
            raise
        self._tables: OrderedDict[int, list[int]] = OrderedDict()
        self._unpacked: OrderedDict[int, bytes] = OrderedDict()
        self._lock = threading.Lock()

    def _open(self) -> None:
        head = HEADER.read(read(self._file, 0, min(HEADER.size, self._file.size)).ljust(HEADER.size, b"\0"))
        bits, marks = head["cluster_bits"], head["incompatible"] if head["version"] >= 3 else 0
        if head["backing_offset"]:
            name = read(self._file, head["backing_offset"], min(head["backing_size"], 1023)).decode("utf-8", "replace")
            what, to_do = f"it holds only what differs from another image ({name})", "convert both to one raw image"
            raise MediaError(path=self.path, what=what, to_do=to_do)
        if head["crypt_method"]:
            raise MediaError(path=self.path, what="it is encrypted", to_do="convert it to a raw image with its key")
        if marks & (CORRUPT | OUTSIDE) or marks >> 5 or head["version"] not in (2, 3):
            what = "it is marked damaged, keeps its data elsewhere, or is of a later version"
            raise MediaError(path=self.path, what=what, to_do="convert it to a raw image")
        if not 9 <= bits <= 21 or head["l1_size"] > MOST_L1:
            raise FormatError(what="cluster size or table", to_do="")
        self._size, self._bits, self._cluster = int(head["size"]), int(bits), 1 << int(bits)
        self._extended = bool(marks & EXTENDED)
        self._entries = self._cluster // (16 if self._extended else 8)
        self._zstd = bool(marks & PACKING) and read(self._file, 104, 1) == b"\1"
        raw = read(self._file, head["l1_offset"], head["l1_size"] * 8)
        self._l1 = [int.from_bytes(raw[i : i + 8], "big") & STANDARD_OFFSET for i in range(0, len(raw), 8)]
        if len(self._l1) * self._entries * self._cluster < self._size:
            raise FormatError(what="the table is shorter than the drive", to_do="")

    def __str__(self) -> str:
        return self.path.name

    @property
    def size(self) -> int:
        return self._size

    @property
    def identity(self) -> str:
        return self._file.identity

    @property
    def written(self) -> int:
        return self._file.written

    @property
    def serial(self) -> str:
        return ""

    def close(self) -> None:
        self._file.close()

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        check_bounds(self, self._size, offset, len(view))
        at = 0
        while at < len(view):
            inner = (offset + at) % self._cluster
            count = min(len(view) - at, self._cluster - inner)
            try:
                self._cluster_into((offset + at) // self._cluster, inner, view[at : at + count])
            except (BlockSourceError, zlib.error, ValueError) as reason:
                raise Unreadable(source=self, offset=offset + at, length=len(view) - at) from reason
            at += count

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = self._size if end is None else min(end, self._size)
        found: list[Range] = []
        span = self._entries * self._cluster
        for index in range(start // span, -(-stop // span)):
            if not self._l1[index]:
                continue
            base = index * span
            table = self._table(index)
            step = 2 if self._extended else 1
            for number in range(self._entries):
                entry = table[number * step]
                if entry & PACKED or self._pieces(entry, table, number):
                    found.append((base + number * self._cluster, base + (number + 1) * self._cluster))
            found = union(found)
        yield from clip(found, start, stop)

    def _table(self, index: int) -> list[int]:
        """The second table `index`, which the first one must name."""
        with self._lock:
            if index in self._tables:
                self._tables.move_to_end(index)
                return self._tables[index]
            raw = read(self._file, self._l1[index], self._cluster)
            table = [int.from_bytes(raw[i : i + 8], "big") for i in range(0, len(raw), 8)]
            self._tables[index] = table
            if len(self._tables) > KEPT_TABLES:
                self._tables.popitem(last=False)
            return table

    def _pieces(self, entry: int, table: list[int], number: int) -> list[int]:
        """Which parts of a cluster that is not packed stand in the file: all are one part without subclusters."""
        if not entry & STANDARD_OFFSET:
            return []
        if not self._extended:
            return [] if entry & 1 else [0]
        marks = table[number * 2 + 1]
        return [k for k in range(SUBCLUSTERS) if marks >> k & 1 and not marks >> (32 + k) & 1]

    def _cluster_into(self, cluster: int, inner: int, view: memoryview) -> None:
        index, number = divmod(cluster, self._entries)
        if not self._l1[index]:
            view[:] = bytes(len(view))
            return
        table = self._table(index)
        entry = table[number * (2 if self._extended else 1)]
        if entry & PACKED:
            view[:] = self._packed(cluster, entry)[inner : inner + len(view)]
            return
        pieces = self._pieces(entry, table, number)
        at = entry & STANDARD_OFFSET
        whole = SUBCLUSTERS if self._extended else 1
        if len(pieces) == whole:
            # the file may end inside its last cluster
            there = max(0, min(len(view), self._file.size - at - inner))
            self._file.read_into(at + inner, view[:there])
            view[there:] = bytes(len(view) - there)
            return
        view[:] = bytes(len(view))
        part = self._cluster // whole
        for k in pieces:
            for low, high in clip([(k * part, (k + 1) * part)], inner, inner + len(view)):
                self._file.read_into(at + low, view[low - inner : high - inner])

    def _packed(self, cluster: int, entry: int) -> bytes:
        """The bytes of a packed cluster."""
        with self._lock:
            if cluster in self._unpacked:
                return self._unpacked[cluster]
        split = 62 - (self._bits - 8)
        at, sectors = entry & ((1 << split) - 1), (entry >> split & ((1 << (62 - split)) - 1)) + 1
        length = min(sectors * 512 - at % 512, self._file.size - at)
        raw = read(self._file, at, length)
        if self._zstd:
            data = _zstd(self.path, raw, self._cluster)
        else:
            data = zlib.decompressobj(-12).decompress(raw, self._cluster)
        if len(data) != self._cluster:
            raise ValueError("a packed cluster is cut short")
        with self._lock:
            self._unpacked[cluster] = data
            if len(self._unpacked) > KEPT_CLUSTERS:
                self._unpacked.popitem(last=False)
        return data


def _zstd(path: Path, raw: bytes, size: int) -> bytes:
    try:
        import zstandard  # noqa: PLC0415  (an optional extra)
    except ImportError as reason:
        what = "packed with zstd: the library that reads it is not installed"
        raise MediaError(path=path, what=what, to_do="pip install 'faithful-stripe[images]'") from reason
    try:
        return zstandard.ZstdDecompressor().decompressobj().decompress(raw)[:size]
    except zstandard.ZstdError as reason:
        raise ValueError("a packed cluster is damaged") from reason
