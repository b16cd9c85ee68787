"""Reading a FAT file system: directories by short names (Microsoft, "FAT: General Overview of On-Disk Format")."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ..source import BlockSource, read
from .declared import Field, FormatError, Layout

BOOT = Layout("FAT boot sector", 512, "<", (
    Field(11, "sector", "H", "bytes", "of a sector"),
    Field(13, "cluster", "B", "sectors", "of a cluster"),
    Field(14, "reserved", "H", "sectors", "before the first table"),
    Field(16, "tables", "B", "", "copies of the table"),
    Field(17, "root_entries", "H", "", "0 in FAT32"),
    Field(19, "total16", "H", "sectors", "0 where there are more than fit"),
    Field(22, "table16", "H", "sectors", "of a table, 0 in FAT32"),
    Field(32, "total32", "I", "sectors", ""),
    Field(36, "table32", "I", "sectors", "of a table in FAT32"),
    Field(44, "root_cluster", "I", "", "in FAT32"),
    Field(510, "signature", "H", "", "0xAA55"),
))  # fmt: skip

DIRECTORY, VOLUME_LABEL = 0x10, 0x08
MOST_CLUSTERS = 4096
"""Of one directory: a chain that runs in a circle costs bounded time."""


@dataclass(frozen=True)
class Entry:
    """A file or directory: its short name, its first cluster, its size in bytes."""

    name: str
    directory: bool
    cluster: int
    size: int


class Fat:
    """A FAT12, FAT16 or FAT32 file system. Raises FormatError when it is none."""

    def __init__(self, source: BlockSource) -> None:
        self.source = source
        where = str(source)
        if source.size < BOOT.size:
            raise FormatError(what=f"{where}: too small for a FAT file system", to_do="it is something else")
        boot = BOOT.read(read(source, 0, BOOT.size), 0, where)
        sizes_known = boot["sector"] in (512, 1024, 2048, 4096) and boot["cluster"] in (1, 2, 4, 8, 16, 32, 64, 128)
        if boot["signature"] != 0xAA55 or not sizes_known or not boot["tables"] or not boot["reserved"]:
            raise FormatError(what=f"{where}: no FAT boot sector there", to_do="it is another file system, or damaged")
        self._table = boot["reserved"] * boot["sector"]
        length = (boot["table16"] or boot["table32"]) * boot["sector"]
        self._root_at = self._table + boot["tables"] * length
        self._root_bytes = boot["root_entries"] * 32
        root_end = self._root_at + -(-self._root_bytes // boot["sector"]) * boot["sector"]
        self._data, self._cluster_bytes = root_end, boot["cluster"] * boot["sector"]
        total = (boot["total16"] or boot["total32"]) * boot["sector"]
        clusters = (total - root_end) // self._cluster_bytes
        # the number of clusters alone decides which kind it is
        self._bits = 12 if clusters < 4085 else 16 if clusters < 65525 else 32
        self._root_cluster = boot["root_cluster"] if self._bits == 32 else 0
        if not 0 < root_end <= total <= source.size:
            raise FormatError(what=f"{where}: the FAT file system ends outside", to_do="the image is cut short")

    def list(self, path: str = "") -> list[Entry]:
        """The entries of a directory, by a path such as EFI/BOOT in any case. Raises FormatError where it is none."""
        data = (
            self._chain(self._root_cluster)
            if self._root_cluster
            else read(self.source, self._root_at, self._root_bytes)
        )
        for part in (p for p in path.split("/") if p):
            found = next((e for e in _entries(data) if e.directory and e.name == part.upper()), None)
            if found is None:
                raise FormatError(what=f"{self.source}: there is no directory {path}", to_do="nothing can boot from it")
            data = self._chain(found.cluster)
        return list(_entries(data))

    def head(self, entry: Entry, length: int) -> bytes:
        """The first bytes of a file, as many as it has up to `length`. Raises FormatError for a damaged table."""
        return self._chain(entry.cluster, length)[: min(length, entry.size)]

    def _chain(self, cluster: int, enough: int = MOST_CLUSTERS << 16) -> bytes:
        parts: list[bytes] = []
        end = {12: 0xFF8, 16: 0xFFF8, 32: 0x0FFFFFF8}[self._bits]
        while 2 <= cluster < end and len(parts) < MOST_CLUSTERS and len(parts) * self._cluster_bytes < enough:
            at = self._data + (cluster - 2) * self._cluster_bytes
            if at + self._cluster_bytes > self.source.size:
                raise FormatError(what=f"{self.source}: cluster {cluster} is outside", to_do="the table is damaged")
            parts.append(read(self.source, at, self._cluster_bytes))
            cluster = self._next(cluster)
        return b"".join(parts)

    def _next(self, cluster: int) -> int:
        if self._bits == 12:
            pair = int.from_bytes(read(self.source, self._table + cluster * 3 // 2, 2), "little")
            return pair >> 4 if cluster % 2 else pair & 0xFFF
        width = self._bits // 8
        value = int.from_bytes(read(self.source, self._table + cluster * width, width), "little")
        return value & 0x0FFFFFFF


def _entries(data: bytes) -> Iterator[Entry]:
    for at in range(0, len(data) - 31, 32):
        row = data[at : at + 32]
        if row[0] == 0:
            return
        if row[0] == 0xE5 or row[11] & VOLUME_LABEL:  # deleted; a label, or a part of a long name
            continue
        name = row[:8].decode("ascii", "replace").rstrip()
        ending = row[8:11].decode("ascii", "replace").rstrip()
        cluster = int.from_bytes(row[20:22], "little") << 16 | int.from_bytes(row[26:28], "little")
        size = int.from_bytes(row[28:32], "little")
        yield Entry(f"{name}.{ending}" if ending else name, bool(row[11] & DIRECTORY), cluster, size)
