"""Inodes: what a reader of a file system gives of its files, whatever its structures look like."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from ..ranges import Range
from .declared import FormatError

DAMAGED = "its structures are damaged"
MOST_ZEROS = 4 << 20
"""How many bytes of a hole are given at a time."""


class Kind(StrEnum):
    """What an inode is."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"
    OTHER = "other"


KINDS = {0o100000: Kind.FILE, 0o040000: Kind.FOLDER, 0o120000: Kind.LINK}


def kind_of(mode: int) -> Kind:
    """What an inode is by its mode, as POSIX numbers types."""
    return KINDS.get(mode & 0o170000, Kind.OTHER)


@dataclass(frozen=True)
class Stat:
    """size in bytes; modified: seconds since 1970."""

    kind: Kind
    size: int
    modified: int


@dataclass(frozen=True)
class Extent:
    """A stretch of a file, in bytes: from `at` in the file; `place` where it stands on the file system, None where it
    is zeros."""

    at: int
    length: int
    place: int | None


Read = Callable[[int, int], bytes]
"""(offset in the file system, length) -> bytes; what cannot be read comes as zeros."""


class Inodes(Protocol):
    """A file system by its inodes. Methods raise FormatError where its structures do not say.

    root  the number of its first folder
    hurt  ranges of the file system, in bytes, of structures that are not what their own sums say; grows
    pending  whether its log holds changes that were not yet written to their places
    """

    root: int
    hurt: list[Range]
    pending: bool

    def stat(self, inode: int) -> Stat:
        """What an inode is."""

    def names(self, inode: int) -> Iterator[tuple[bytes, int]]:
        """The names in a folder, each with its inode; those in blocks that are damaged are left out."""

    def places(self, inode: int) -> list[Range]:
        """Where a file's content stands."""

    def content(self, inode: int, step: int) -> Iterator[bytes]:
        """A file's content, at most `step` bytes at a time."""


def pieces(read: Read, extents: Sequence[Extent], size: int, step: int) -> Iterator[bytes]:
    """The content of a file of `size` bytes from its extents, holes as zeros."""
    at = 0
    for extent in [*sorted(extents, key=lambda e: e.at), Extent(size, 0, None)]:
        begin = min(max(extent.at, at), size)
        for gap in range(at, begin, MOST_ZEROS):
            yield bytes(min(MOST_ZEROS, begin - gap))
        end = min(extent.at + extent.length, size)
        for place in range(begin, end, step):
            length = min(step, end - place)
            yield bytes(length) if extent.place is None else read(extent.place + place - extent.at, length)
        at = max(begin, end)


def damaged(what: str) -> FormatError:
    """For a structure that is not what it should be."""
    return FormatError(what=f"{what}: {DAMAGED}", to_do="copy the others")
