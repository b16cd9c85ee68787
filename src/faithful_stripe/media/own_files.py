"""Files read by our own readers: XFS and btrfs, which no library fit for our licence reads."""

from __future__ import annotations

import importlib
import struct
from collections.abc import Iterator
from pathlib import PurePosixPath

from ..core.formats.btrfs import Btrfs, Unpack
from ..core.formats.declared import FormatError
from ..core.formats.inodes import DAMAGED, Inodes
from ..core.formats.xfs import Xfs
from ..core.ranges import Range, union
from ..core.source import BlockSource
from .filesystems import Entry, FilesError, FileSystem, Kind
from .forgiving import read_forgiving

ZSTD = 3
HURT = (FormatError, struct.error, ValueError, IndexError, OverflowError)
"""What readers raise of structures that are damaged: by their own sums, or because they lead nowhere."""


class OwnFiles(FileSystem):
    """A file system that one of our readers reads. Raises FilesError where its own structures do not say.

    start  where it begins on the volume, in bytes; length: of what it may take there
    """

    def __init__(self, volume: BlockSource, start: int, length: int, reader: type[Xfs] | type[Btrfs]) -> None:
        super().__init__(start)

        def read(at: int, size: int) -> bytes:
            held = read_forgiving(volume, start + at, max(0, min(size, length - at)), self.unread)
            return held.ljust(size, b"\0")

        try:
            self._inodes: Inodes = Btrfs(read, _unpackers()) if reader is Btrfs else Xfs(read)
        except HURT as reason:
            raise FilesError(
                what=f"its file system cannot be read: {_words(reason)}", to_do="look for a copy of it"
            ) from reason
        self.pending = self._inodes.pending

    def lookup(self, path: PurePosixPath) -> Entry:
        """The entry at a path. Raises FilesError."""
        try:
            entry = self._entry(self._inodes.root, PurePosixPath("."))
        except HURT as reason:
            self._note()
            raise FilesError(what=f"its first folder: {_words(reason)}", to_do="look for a copy of it") from reason
        for name in path.parts:
            found = next((e for e in self.folder(entry) if e.path.name == name), None)
            if found is None:
                raise FilesError(what=f"there is no {path} in it", to_do="list what there is: lineup files")
            entry = found
        return entry

    def folder(self, entry: Entry) -> Iterator[Entry]:
        """What a folder holds, by name; what cannot be read is left out, and noted as unread."""
        found: dict[str, Entry] = {}
        try:
            for raw, inode in self._inodes.names(entry.inode):
                name = raw.decode("utf-8", "surrogateescape")
                if name not in ("", ".", "..") and "/" not in name:
                    try:
                        found[name] = self._entry(inode, entry.path / name)
                    except HURT:
                        self._note()
        except HURT:
            self._note()
        yield from (found[name] for name in sorted(found))

    def read(self, entry: Entry, step: int = 4 << 20) -> Iterator[bytes]:
        """A file's content, piece by piece. Raises FilesError where its own structures do not say where it is."""
        try:
            yield from self._inodes.content(entry.inode, step)
        except HURT as reason:
            self._note()
            raise FilesError(what=f"{entry.path}: {_words(reason)}", to_do="copy the others") from reason

    def _entry(self, inode: int, path: PurePosixPath) -> Entry:
        told = self._inodes.stat(inode)
        places: tuple[Range, ...] = ()
        known = True
        if told.kind is Kind.FILE:
            try:
                places = tuple((self.start + a, self.start + b) for a, b in self._inodes.places(inode))
            except HURT:
                self._note()
                known = False
        return Entry(path, told.kind, told.size, told.modified, inode, places, known)

    def _note(self) -> None:
        """Structures whose own sums do not hold are as good as unread."""
        self.unread[:] = union([*self.unread, *((self.start + a, self.start + b) for a, b in self._inodes.hurt)])


def _words(reason: Exception) -> str:
    return reason.what if isinstance(reason, FormatError) else DAMAGED


def _unpackers() -> dict[int, Unpack]:
    """What else than zlib can be unpacked here."""
    try:
        zstandard = importlib.import_module("zstandard")
    except ImportError:
        return {}

    def unpack(data: bytes, size: int) -> bytes:
        try:
            return bytes(zstandard.ZstdDecompressor().decompressobj().decompress(data))[:size]
        except zstandard.ZstdError as reason:
            raise ValueError(str(reason)) from reason

    return {ZSTD: unpack}
