"""Which reader a file system is read by: XFS and btrfs by our own, the others by a well-kept general library."""

from __future__ import annotations

from ..core.formats.btrfs import MAGIC_AT as BTRFS_AT
from ..core.formats.btrfs import Btrfs
from ..core.formats.xfs import Xfs
from ..core.ranges import Range
from ..core.source import BlockSource
from .filesystems import FileSystem
from .forgiving import read_forgiving
from .library_files import LibraryFiles
from .own_files import OwnFiles


def opened(volume: BlockSource, start: int, length: int, what: str) -> FileSystem:
    """The file system at a place of a volume, by whoever reads it. Raises FilesError where nobody does.

    length  of what it may take there, in bytes; what: the place and what it holds, for an error
    """
    unread: list[Range] = []
    if read_forgiving(volume, start, 4, unread) == b"XFSB":
        return OwnFiles(volume, start, length, Xfs)
    if read_forgiving(volume, start + BTRFS_AT, 8, unread) == b"_BHRfS_M":
        return OwnFiles(volume, start, length, Btrfs)
    return LibraryFiles(volume, start, length, what)
