"""A disk image in a file as a block source: sparse, exact, read-only unless asked otherwise."""

from __future__ import annotations

import ctypes
import errno
import os
import stat
from collections.abc import Iterator, Sequence
from pathlib import Path
from types import TracebackType

from ..core.errors import StripeError
from ..core.ranges import Range
from ..core.source import Buffer, ReadOnlySource, Unreadable, check_bounds

_PUNCH_HOLE = 0x02 | 0x01  # FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE of linux/falloc.h
_MOST_PIECES = 1024  # IOV_MAX of limits.h
_libc = ctypes.CDLL(None, use_errno=True)


class MediaError(StripeError):
    template = "{path}: {what}"
    remedy = "{to_do}"


class TruncatedImage(MediaError):
    template = "{path}: the image holds {found} bytes, expected {expected}"
    remedy = "it was cut short: take it out of use, or copy it again from its drive"


class ImageFile:
    """An image file or block device. Use as a context manager, or `close` it.

    writable       False opens it read-only; nothing can change it then
    expected_size  raise TruncatedImage when the file is not exactly that long
    """

    def __init__(self, path: Path, *, writable: bool = False, expected_size: int | None = None) -> None:
        self.path = Path(path)
        self.writable = writable
        try:
            # without waiting: a pipe that nobody writes to is refused below
            flags = (os.O_RDWR if writable else os.O_RDONLY) | os.O_CLOEXEC | os.O_NONBLOCK
            self._fd = os.open(self.path, flags)
        except OSError as reason:
            raise media_error(self.path, reason) from reason
        mode = os.fstat(self._fd).st_mode
        if not (stat.S_ISREG(mode) or stat.S_ISBLK(mode)):
            os.close(self._fd)
            raise MediaError(path=self.path, what="neither a file nor a block device", to_do="name an image")
        self._size = os.lseek(self._fd, 0, os.SEEK_END)
        if expected_size is not None and self._size != expected_size:
            os.close(self._fd)
            raise TruncatedImage(path=self.path, found=self._size, expected=expected_size)

    def __str__(self) -> str:
        return self.path.name

    def __enter__(self) -> ImageFile:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1

    @property
    def size(self) -> int:
        return self._size

    @property
    def identity(self) -> str:
        """Which file it is on this machine: device and inode."""
        told = os.fstat(self._fd)
        return f"{os.major(told.st_dev)}:{os.minor(told.st_dev)}:{told.st_ino}"

    @property
    def written(self) -> int:
        """When somebody last wrote to the file, in nanoseconds; 0 for a device, which does not tell."""
        told = os.fstat(self._fd)
        return told.st_mtime_ns if stat.S_ISREG(told.st_mode) else 0

    @property
    def serial(self) -> str:
        """The serial number of the drive, where it is a block device whose driver tells it; else ""."""
        told = os.fstat(self._fd)
        if not stat.S_ISBLK(told.st_mode):
            return ""
        place = Path(f"/sys/dev/block/{os.major(told.st_rdev)}:{os.minor(told.st_rdev)}")
        for name in ("serial", "device/serial", "device/vpd_pg80"):
            try:
                raw = (place / name).read_bytes()
            except OSError:
                continue
            text = (raw[4:] if name.endswith("80") else raw).decode("ascii", "ignore").strip("\0 \n")
            if text:
                return text
        return ""

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        check_bounds(self, self._size, offset, len(view))
        at = 0
        while at < len(view):
            try:
                count = os.preadv(self._fd, [view[at:]], offset + at)
            except OSError as reason:
                raise Unreadable(source=self, offset=offset + at, length=len(view) - at) from reason
            if count == 0:
                raise Unreadable(source=self, offset=offset + at, length=len(view) - at)
            at += count

    def write(self, offset: int, data: Buffer) -> None:
        view = memoryview(data).cast("B")
        self._check_writable()
        check_bounds(self, self._size, offset, len(view))
        at = 0
        while at < len(view):
            try:
                at += os.pwrite(self._fd, view[at:], offset + at)
            except OSError as reason:
                raise media_error(self.path, reason) from reason

    def write_all(self, offset: int, pieces: Sequence[Buffer]) -> None:
        """Write pieces that follow one another from `offset` on, with as few calls as that takes."""
        views = [memoryview(piece).cast("B") for piece in pieces]
        self._check_writable()
        check_bounds(self, self._size, offset, sum(map(len, views)))
        for first in range(0, len(views), _MOST_PIECES):
            some = views[first : first + _MOST_PIECES]
            size = sum(map(len, some))
            try:
                done = os.pwritev(self._fd, some, offset)
            except OSError as reason:
                raise media_error(self.path, reason) from reason
            if done < size:  # rarely: whoever wrote a part says why with the next call
                self.write(offset + done, b"".join(some)[done:])
            offset += size

    def discard(self, offset: int, length: int) -> None:
        self._check_writable()
        check_bounds(self, self._size, offset, length)
        if length == 0 or _punch(self._fd, offset, length):
            return
        zeros = bytes(1 << 20)
        for at in range(offset, offset + length, len(zeros)):
            self.write(at, zeros[: min(len(zeros), offset + length - at)])

    def flush(self) -> None:
        if self.writable:
            try:
                os.fdatasync(self._fd)
            except OSError as reason:
                raise media_error(self.path, reason) from reason

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = self._size if end is None else min(end, self._size)
        at = start
        while at < stop:
            try:
                first = os.lseek(self._fd, at, os.SEEK_DATA)
            except OSError as reason:
                if reason.errno == errno.ENXIO:
                    return
                yield at, stop  # a device or file system that knows no holes
                return
            if first >= stop:
                return
            at = min(os.lseek(self._fd, first, os.SEEK_HOLE), stop)
            yield first, at

    def _check_writable(self) -> None:
        if not self.writable:
            raise ReadOnlySource(source=self)


def create_sparse(path: Path, size: int) -> None:
    """Make a new file of `size` bytes that takes no space. Raises MediaError where it exists or does not fit."""
    try:
        fd = os.open(path, os.O_CREAT | os.O_EXCL | os.O_RDWR | os.O_CLOEXEC, 0o644)
    except OSError as reason:
        raise media_error(path, reason) from reason
    try:
        os.ftruncate(fd, size)
    except OSError as reason:
        path.unlink()
        raise media_error(path, reason) from reason
    finally:
        os.close(fd)


def _punch(fd: int, offset: int, length: int) -> bool:
    result = _libc.fallocate(fd, _PUNCH_HOLE, ctypes.c_int64(offset), ctypes.c_int64(length))
    return bool(result == 0)


_WORDS = {
    errno.ENOENT: ("there is no such file", "check the name"),
    errno.EEXIST: ("it exists already", "choose another name; nothing is overwritten"),
    errno.EACCES: ("permission denied", "check who may read and write it"),
    errno.EROFS: ("the file system is read-only", "choose a place that can be written"),
    errno.ENOSPC: ("no space left there", "free some space or choose another place"),
    errno.EFBIG: ("larger than this file system allows", "choose a file system with larger files"),
    errno.EISDIR: ("it is a folder", "name a file"),
    errno.ENOTDIR: ("a part of the path is not a folder", "check the path"),
}


def words_for(reason: OSError) -> tuple[str, str]:
    """(what is wrong, what to do) of an error of the host's."""
    return _WORDS.get(reason.errno or 0, (os.strerror(reason.errno or 0), "check the path and the disk"))


def media_error(path: Path, reason: OSError) -> MediaError:
    what, to_do = words_for(reason)
    return MediaError(path=path, what=what, to_do=to_do)
