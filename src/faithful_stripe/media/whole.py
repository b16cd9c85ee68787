"""Files that appear complete or not at all: written beside, synced, renamed, the folder synced."""

from __future__ import annotations

import errno
import fcntl
import hashlib
import os
import secrets
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
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
        give_name(beside, path)
    except OSError as reason:
        raise media_error(path, reason) from reason
    finally:
        beside.unlink(missing_ok=True)
    sync_folder(path.parent)


def refuse_existing(path: Path) -> None:
    """Raise MediaError when something has this name already."""
    if path.exists():
        raise MediaError(path=path, what="it exists already", to_do="choose another name; nothing is overwritten")


def write_text(path: Path, text: str, *, replace: bool = False, mode: int = 0o644) -> None:
    """Write a whole text file; without `replace` an existing one is refused (MediaError).

    mode  who may read it, before the user's mask: 0o600 for what nobody else is to see
    """
    if not replace:
        refuse_existing(path)
    beside = path.with_name(f".{path.name}.{secrets.token_hex(4)}.part")
    try:
        # a new name, and never through a link that somebody left there
        fd = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, mode)
    except OSError as reason:
        raise media_error(path, reason) from reason
    try:
        with os.fdopen(fd, "w", encoding="utf-8") as file:
            file.write(text)
            file.flush()
            os.fsync(fd)
        if replace:
            os.replace(beside, path)
        else:
            give_name(beside, path)
    except OSError as reason:
        raise media_error(path, reason) from reason
    finally:
        beside.unlink(missing_ok=True)
    sync_folder(path.parent)


def give_name(beside: Path, path: Path) -> None:
    """Give a finished file its name, unless another one has it: a file that appeared meanwhile is never replaced.

    The old name is gone afterwards. Raises OSError.
    """
    try:
        os.link(beside, path, follow_symlinks=False)
    except OSError as reason:
        if reason.errno not in (errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK):
            raise
        # a file system without links, such as on a stick: take the name first, then put the file in its place
        os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600))
        os.replace(beside, path)
    beside.unlink(missing_ok=True)


@contextmanager
def alone(path: Path) -> Iterator[None]:
    """Nobody else changes a file of this name meanwhile who asks the same way: whoever comes second waits.

    Raises MediaError where there is no such folder.
    """
    try:
        fd = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)  # a lock that leaves nothing behind
    except OSError as reason:
        raise media_error(path, reason) from reason
    try:
        with suppress(OSError):  # a file system without locks: as it was
            fcntl.flock(fd, fcntl.LOCK_EX)
        yield
    finally:
        os.close(fd)


def try_place(path: Path) -> None:
    """Raise MediaError unless a new file of this name can be written: before long work, not after it."""
    refuse_existing(path)
    beside = path.with_name(f".{path.name}.{secrets.token_hex(4)}.part")
    try:
        os.close(os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600))
        beside.unlink()
    except OSError as reason:
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
