"""The files on a volume, read by a well-kept general library: ext2 to 4, NTFS, FAT and exFAT.

An optional extra: `pip install 'faithful-stripe[files]'`. The library asks for bytes of the volume; where those cannot
be read it gets zeros, and the place is noted, so that a file that lies there is never given as whole.
"""

from __future__ import annotations

import importlib
from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum
from pathlib import PurePosixPath
from typing import Any

from ..core.errors import StripeError
from ..core.ranges import Range, union
from ..core.source import BlockSource, Unreadable

EXTRA = "pip install 'faithful-stripe[files]'"
SECTOR = 512
NTFS_RECORDS = 24
"""The first records of the file table, which NTFS keeps for itself."""
EXFAT_NAMES = ("$ALLOC_BITMAP", "$UPCASE_TABLE")
"""What the library calls the two tables that exFAT keeps in its root."""
DEEPEST = 200
"""Folders inside one another: of more, it is a ring, or made to be one."""


class FilesError(StripeError):
    template = "{what}"
    remedy = "{to_do}"


class Kind(StrEnum):
    """What an entry is."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"
    OTHER = "other"


@dataclass(frozen=True)
class Entry:
    """A file or folder.

    path      from the file system's root, without a leading slash
    size      in bytes; modified: seconds since 1970, 0 where it is not told
    places    where its content stands on the volume, in bytes; none where it stands beside its name
    """

    path: PurePosixPath
    kind: Kind
    size: int
    modified: int
    inode: int
    places: tuple[Range, ...] = ()


class FileSystem:
    """One file system on a volume. Raises FilesError where there is none that can be read.

    start   where it begins on the volume, in bytes; length: of what it may take there
    unread  ranges of the volume that were asked for and could not be read; grows
    """

    def __init__(self, volume: BlockSource, start: int, length: int, what: str) -> None:
        try:
            library = importlib.import_module("pytsk3")
        except ImportError as reason:
            raise FilesError(what="the library that reads file systems is not installed", to_do=EXTRA) from reason
        self._library, self.start, self.unread = library, start, list[Range]()
        self._image = _image(library, volume, self)
        try:
            self._system = library.FS_Info(self._image, offset=start)
        except OSError as reason:
            to_do = "read it from `lineup serve` or `lineup extract` with a system that knows it"
            raise FilesError(what=f"{what} is not read here: ext, NTFS, FAT and exFAT are", to_do=to_do) from reason
        self._block = int(self._system.info.block_size)

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

    def walk(self, entry: Entry) -> Iterator[Entry]:
        """An entry and all that is in it."""
        yield entry
        yield from self._below(entry, {entry.inode})

    def _below(self, entry: Entry, above: set[int]) -> Iterator[Entry]:
        if entry.kind is not Kind.FOLDER or len(above) > DEEPEST:
            return
        for one in self.folder(entry):
            yield one
            if one.kind is Kind.FOLDER and one.inode not in above:
                yield from self._below(one, above | {one.inode})

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
        return Entry(path, kind, int(meta.size), int(meta.mtime or 0), int(meta.addr), places)

    def _places(self, item: Any) -> tuple[Range, ...]:
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
            return ()
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
            out = bytearray(max(0, min(size, volume.size - offset)))
            try:
                volume.read_into(offset, out)
            except Unreadable:
                view = memoryview(out)
                for at in range(0, len(out), SECTOR):
                    try:
                        volume.read_into(offset + at, view[at : at + SECTOR])
                    except Unreadable:
                        view[at : at + SECTOR] = bytes(len(view[at : at + SECTOR]))
                        system.unread = union([*system.unread, (offset + at, offset + min(at + SECTOR, len(out)))])
            return bytes(out)

    return Volume()
