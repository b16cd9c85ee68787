"""The files on a volume: what every reader of a file system gives."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import PurePosixPath

from ..core.errors import StripeError
from ..core.formats.inodes import Kind as Kind
from ..core.ranges import Range

DEEPEST = 200
"""Folders inside one another: of more, it is a ring, or made to be one."""


class FilesError(StripeError):
    template = "{what}"
    remedy = "{to_do}"


@dataclass(frozen=True)
class Entry:
    """A file or folder.

    path      from the file system's root, without a leading slash
    size      in bytes; modified: seconds since 1970, 0 where it is not told
    places    where its content stands on the volume, in bytes; none where it stands beside its name
    known     whether that is known: nothing can be said of the bytes of a file that nobody can find
    """

    path: PurePosixPath
    kind: Kind
    size: int
    modified: int
    inode: int
    places: tuple[Range, ...] = ()
    known: bool = True


class FileSystem:
    """One file system on a volume.

    start   where it begins on the volume, in bytes
    unread  ranges of the volume that were asked for and could not be read, or are structures whose own sums do not
            hold; grows
    pending  whether its log holds changes that were not yet written to their places: it was not unmounted
    """

    pending = False

    def __init__(self, start: int) -> None:
        self.start, self.unread = start, list[Range]()

    def lookup(self, path: PurePosixPath) -> Entry:
        """The entry at a path. Raises FilesError."""
        raise NotImplementedError

    def folder(self, entry: Entry) -> Iterator[Entry]:
        """What a folder holds, by name; what was deleted is left out. What cannot be read is left out as well."""
        raise NotImplementedError

    def read(self, entry: Entry, step: int = 4 << 20) -> Iterator[bytes]:
        """A file's content, piece by piece. Raises FilesError where its own structures do not say where it is."""
        raise NotImplementedError

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
