"""Files read by a well-kept general library: ext2 to 4, NTFS, FAT and exFAT.

An optional extra: `pip install 'faithful-stripe[files]'`. The library asks for bytes of the volume; where those cannot
be read it gets zeros, and the place is noted, so that a file that lies there is never given as whole.
"""

from __future__ import annotations

import importlib
from collections.abc import Iterator
from pathlib import PurePosixPath
from typing import Any

from ..core.formats import ext4
from ..core.ranges import Range, union
from ..core.source import BlockSource
from .filesystems import Entry, FilesError, FileSystem, Kind
from .forgiving import read_forgiving

EXTRA = "pip install 'faithful-stripe[files]'"
RECOVER = 0x4
"""Of the features of ext that say what must be understood: the journal holds changes."""
NTFS_RECORDS = 24
"""The first records of the file table, which NTFS keeps for itself."""
EXFAT_NAMES = ("$ALLOC_BITMAP", "$UPCASE_TABLE")
"""What the library calls the two tables that exFAT keeps in its root."""


class LibraryFiles(FileSystem):
    """A file system that the library reads. Raises FilesError where there is none that can be read.

    start   where it begins on the volume, in bytes; length: of what it may take there
    """

    def __init__(self, volume: BlockSource, start: int, length: int, what: str) -> None:
        try:
            library = importlib.import_module("pytsk3")
        except ImportError as reason:
            raise FilesError(what="the library that reads file systems is not installed", to_do=EXTRA) from reason
        super().__init__(start)
        self._library = library
        self._image = _image(library, volume, self)
        try:
            self._system = library.FS_Info(self._image, offset=start)
        except OSError as reason:
            to_do = "read it from `lineup serve` or `lineup extract` with a system that knows it"
            raise FilesError(
                what=f"{what} is not read here: ext, XFS, btrfs, NTFS, FAT and exFAT are", to_do=to_do
            ) from reason
        self._block = int(self._system.info.block_size)
        self.pending = self._recovers(volume)

    def _recovers(self, volume: BlockSource) -> bool:
        """Whether it is an ext file system whose superblock says that its journal is to be played back."""
        head = read_forgiving(volume, self.start + ext4.SUPER_OFFSET, ext4.SUPERBLOCK.size, self.unread)
        if len(head) < ext4.SUPERBLOCK.size:
            return False
        found = ext4.SUPERBLOCK.read(head)
        return bool(found["magic"] == ext4.MAGIC and found["incompat"] & RECOVER)

    def lookup(self, path: PurePosixPath) -> Entry:
        """The entry at a path. Raises FilesError."""
        try:
            found = self._system.open("/" + str(path) if str(path) != "." else "/")
        except OSError as reason:
            raise FilesError(what=f"there is no {path} in it", to_do="list what there is: lineup files") from reason
        return self._entry(found, path)

    def folder(self, entry: Entry) -> Iterator[Entry]:
        """What a folder holds, by name; what was deleted is left out. What cannot be read is left out as well."""
        try:
            listed = list(self._system.open_dir(inode=entry.inode))
        except OSError:
            return
        found: dict[str, Entry] = {}
        for item in listed:
            name = bytes(item.info.name.name or b"").decode("utf-8", "surrogateescape")
            alive = item.info.meta is not None and int(item.info.name.flags) & int(self._library.TSK_FS_NAME_FLAG_ALLOC)
            if name in ("", ".", "..") or "/" in name or not alive or self._own(item.info.meta, entry.path / name):
                continue
            found[name] = self._entry(item, entry.path / name)
        yield from (found[name] for name in sorted(found))

    def _own(self, meta: Any, path: PurePosixPath) -> bool:
        """Whether it is no file of a person: one of the first records of NTFS, or one that the library only shows."""
        library = self._library
        ntfs = self._system.info.ftype == library.TSK_FS_TYPE_NTFS and int(meta.addr) < NTFS_RECORDS
        exfat = self._system.info.ftype == library.TSK_FS_TYPE_EXFAT and str(path) in EXFAT_NAMES
        return ntfs or exfat or meta.type in (library.TSK_FS_META_TYPE_VIRT, library.TSK_FS_META_TYPE_VIRT_DIR)

    def read(self, entry: Entry, step: int = 4 << 20) -> Iterator[bytes]:
        """A file's content, piece by piece. Raises FilesError where its own structures do not say where it is."""
        file, at = self._system.open_meta(inode=entry.inode), 0
        while at < entry.size:
            try:
                piece = file.read_random(at, min(step, entry.size - at))
            except OSError as reason:
                raise FilesError(what=f"{entry.path}: its structures are damaged", to_do="copy the others") from reason
            if not piece:
                raise FilesError(what=f"{entry.path}: {entry.size - at} bytes are nowhere", to_do="copy the others")
            yield piece
            at += len(piece)

    def _entry(self, item: Any, path: PurePosixPath) -> Entry:
        library, meta = self._library, item.info.meta
        kinds = {
            library.TSK_FS_META_TYPE_REG: Kind.FILE, library.TSK_FS_META_TYPE_DIR: Kind.FOLDER,
            library.TSK_FS_META_TYPE_VIRT_DIR: Kind.FOLDER, library.TSK_FS_META_TYPE_LNK: Kind.LINK,
        }  # fmt: skip
        kind = kinds.get(meta.type, Kind.OTHER)
        places = self._places(item) if kind is Kind.FILE else ()
        found = places if places is not None else ()
        return Entry(path, kind, int(meta.size), int(meta.mtime or 0), int(meta.addr), found, places is not None)

    def _places(self, item: Any) -> tuple[Range, ...] | None:
        """Where a file's content stands; None where its structures do not say."""
        library = self._library
        skipped = int(library.TSK_FS_ATTR_RUN_FLAG_SPARSE) | int(library.TSK_FS_ATTR_RUN_FLAG_FILLER)
        content = (library.TSK_FS_ATTR_TYPE_DEFAULT, library.TSK_FS_ATTR_TYPE_NTFS_DATA)
        found = []
        try:
            for attribute in item:
                if attribute.info.type not in content or attribute.info.name:
                    continue
                found += [
                    (self.start + int(r.addr) * self._block, self.start + (int(r.addr) + int(r.len)) * self._block)
                    for r in attribute if not int(r.flags) & skipped
                ]  # fmt: skip
        except OSError:
            return None
        return tuple(union(found))


def _image(library: Any, volume: BlockSource, system: FileSystem) -> Any:
    """The volume as the library reads images."""

    class Volume(library.Img_Info):  # type: ignore[misc]
        def __init__(self) -> None:
            super().__init__(url="", type=library.TSK_IMG_TYPE_EXTERNAL)

        def close(self) -> None:
            pass

        def get_size(self) -> int:
            return volume.size

        def read(self, offset: int, size: int) -> bytes:
            return read_forgiving(volume, offset, size, system.unread)

    return Volume()
