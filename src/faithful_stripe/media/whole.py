"""Files that appear complete or not at all: written beside, synced, renamed, the folder synced."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from ..core.ranges import total
from ..core.source import BlockSource, WritableSource
from .image import ImageFile, MediaError, create_sparse, media_error

CHUNK = 4 << 20


@contextmanager
def new_image(path: Path, size: int) -> Iterator[ImageFile]:
    """A new sparse image that gets its name only when the block ends well; refuses an existing file."""
    refuse_existing(path)
    beside = path.with_name(f".{path.name}.part")
    beside.unlink(missing_ok=True)
    create_sparse(beside, size)
    try:
        with ImageFile(beside, writable=True) as image:
            yield image
            image.flush()
        os.link(beside, path)  # unlike a rename, a link never replaces a file that appeared meanwhile
    except OSError as reason:
        raise media_error(path, reason) from reason
    finally:
        beside.unlink(missing_ok=True)
    sync_folder(path.parent)


def refuse_existing(path: Path) -> None:
    """Raise MediaError when something has this name already."""
    if path.exists():
        raise MediaError(path=path, what="it exists already", to_do="choose another name; nothing is overwritten")


def write_text(path: Path, text: str, *, replace: bool = False) -> None:
    """Write a whole text file; without `replace` an existing one is refused (MediaError)."""
    if not replace:
        refuse_existing(path)
    beside = path.with_name(f".{path.name}.part")
    try:
        with open(beside, "w", encoding="utf-8") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        os.replace(beside, path)
        sync_folder(path.parent)
    except OSError as reason:
        beside.unlink(missing_ok=True)
        raise media_error(path, reason) from reason


def sync_folder(folder: Path) -> None:
    """Make a rename in `folder` durable."""
    fd = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)


def copy_data(
    source: BlockSource,
    start: int,
    size: int,
    target: WritableSource,
    tell: Callable[[int, int], None] | None = None,
) -> int:
    """Copy the data of source[start, start + size) to the start of `target`, leaving holes as holes.

    tell    called with (bytes of data copied, bytes of data in all)
    result  bytes of data copied
    """
    ranges = list(source.data_ranges(start, start + size))
    whole, done = total(ranges), 0
    for a, b in ranges:
        for at in range(a, b, CHUNK):
            buffer = bytearray(min(CHUNK, b - at))
            source.read_into(at, buffer)
            if any(buffer):
                target.write(at - start, buffer)
            done += len(buffer)
            if tell:
                tell(done, whole)
    return done


def sha256(source: BlockSource, start: int = 0, size: int | None = None) -> str:
    """SHA-256 of source[start, start + size), holes counted as the zeros they read as; hexadecimal."""
    end = source.size if size is None else start + size
    digest, zeros, at = hashlib.sha256(), bytes(CHUNK), start
    for a, b in [*source.data_ranges(start, end), (end, end)]:
        for gap in range(at, a, CHUNK):
            digest.update(zeros[: min(CHUNK, a - gap)])
        for place in range(a, b, CHUNK):
            buffer = bytearray(min(CHUNK, b - place))
            source.read_into(place, buffer)
            digest.update(buffer)
        at = b
    return digest.hexdigest()
