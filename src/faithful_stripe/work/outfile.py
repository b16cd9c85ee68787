"""The file that a recovered volume is written to: locked, sparse, hashed as it grows, durable, and gone on with.

Until all is written it has another name, and nobody else may write it; a note beside it says how far it is sound, with
the hash of what stands there. What is hashed is read back from the file.
"""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from blake3 import blake3

from ..core.lineup.full_pass.stretch import BLOCK, Stretch
from ..core.lineup.reading.row_reader import holding
from ..core.lineup.reading.samples import Tell, silent
from ..core.source import BlockSource, read
from ..media.image import ImageFile, MediaError, media_error
from ..media.whole import give_name, refuse_existing, sync_folder, write_text

CHUNK = 4 << 20
SYNC_BYTES, KEPT_BYTES = 64 << 20, 256 << 20
"""After so many bytes writing them to the disk is begun, and after so many it is noted how far the file is sound."""

Data = npt.NDArray[np.uint8]


class Digest:
    """The hashes of a file from its start on, read back as far as is wanted: what stands as a hole counts as the zeros
    that it reads as.

    plain  whether SHA-256 is computed beside BLAKE3
    """

    def __init__(self, image: BlockSource, plain: bool) -> None:
        self.image, self.done = image, 0
        self._fast, self._slow = blake3(max_threads=blake3.AUTO), hashlib.sha256() if plain else None
        self._buffer, self._zeros = bytearray(CHUNK), bytes(CHUNK)

    def upto(self, end: int, tell: Tell = silent) -> str:
        """Go on to a place; the BLAKE3 of all before it."""
        ranges = list(self.image.data_ranges(self.done, end)) if self.done < end else []
        for a, b in [*ranges, (end, end)]:
            for gap in range(self.done, a, CHUNK):
                self._add(memoryview(self._zeros)[: min(CHUNK, a - gap)])
            for place in range(max(a, self.done), b, CHUNK):
                piece = memoryview(self._buffer)[: min(CHUNK, b - place)]
                self.image.read_into(place, piece)
                self._add(piece)
                tell("reading back what was written", place >> 20, self.image.size >> 20)
            self.done = max(self.done, b)
        return self._fast.hexdigest()

    @property
    def plain(self) -> str:
        """The SHA-256 of all so far; "" where it is not computed."""
        return self._slow.hexdigest() if self._slow else ""

    def _add(self, piece: memoryview) -> None:
        self._fast.update(piece)
        if self._slow:
            self._slow.update(piece)


class OutFile:
    """The unfinished file of a recovered volume. Use as a context manager; `finish` gives it its name.

    what     says what is written: an unfinished file of something else is begun anew
    length   bytes that it will have
    plain    whether its SHA-256 is computed too
    resumed  how far an earlier attempt had come, in bytes that still hash to what they did

    Raises MediaError: the name is taken, somebody else writes it, or there is no room.
    """

    def __init__(self, file: Path, what: str, length: int, plain: bool = False) -> None:
        refuse_existing(file)
        self.file, self.what, self.length = file, what, length
        self.part, self.beside = file.with_name(f".{file.name}.part"), file.with_name(f".{file.name}.progress")
        self._lock = _locked(self.part, file)
        try:
            _sized(self._lock, length, file)
            self.image = ImageFile(self.part, writable=True)
        except BaseException:
            os.close(self._lock)
            raise
        self.plain = plain
        self._digest = Digest(self.image, plain)
        self.resumed = self.done = self._kept()
        _sized(self._lock, self.resumed, file)  # what was written behind it is nobody's
        _sized(self._lock, length, file)
        if not self.resumed:
            self._digest = Digest(self.image, plain)
        self._taken = 0
        self._since = self._noted = 0
        self._writing, self._syncing, self._hashing = (ThreadPoolExecutor(1) for _ in range(3))
        self._waiting: list[Future[Any]] = []
        self._written: tuple[Future[None], int, int] | None = None

    def __enter__(self) -> OutFile:
        return self

    def __exit__(self, *_why: object) -> None:
        for pool in (self._writing, self._syncing, self._hashing):
            pool.shutdown(wait=True)
        self.image.close()
        os.close(self._lock)

    def take(self, stretch: Stretch) -> None:
        """Write a stretch, `at` counted in the file, in order, but for zeros; what lies outside of the file is left
        out, and what an earlier attempt wrote is held against it.

        It is written while the caller goes on, and must stand until the next call returns.
        """
        if stretch.at < self.resumed:
            self._again(stretch)
        low, high = max(0, stretch.at, self.resumed), min(self.length, stretch.end)
        if low >= high:
            return
        self._wait_written()
        written = self._writing.submit(write_filled, self.image, stretch.within(low, high))
        self._written = written, high, high - low

    def _wait_written(self) -> None:
        """Wait for what is being written; then it may be made durable, and hashed."""
        if self._written is None:
            return
        (written, high, size), self._written = self._written, None
        written.result()
        self._since += size
        self._noted += size
        self.done = high
        if self._since >= SYNC_BYTES:
            self._since = 0
            self._later(self._syncing.submit(self.image.flush))
            self._later(self._hashing.submit(self._digest.upto, high))
        if self._noted >= KEPT_BYTES:
            self._noted = 0
            self._later(self._hashing.submit(self._keep, high))

    def _again(self, stretch: Stretch) -> None:
        """Hold what an earlier attempt wrote against what is read now, and put that in its place: an image may have
        been another one then, where nobody looked."""
        self._empty(stretch.at)
        low, high = max(0, stretch.at), min(self.resumed, stretch.end)
        if low < high:
            held = b"".join(piece.tobytes() for piece in stretch.within(low, high).pieces)
            if read(self.image, low, high - low) != held:
                self.overwrite(low, held)
            self._taken = high

    def _empty(self, end: int) -> None:
        """Leave nothing of an earlier attempt where there are no data now, up to a place."""
        end = min(end, self.resumed)
        if self._taken < end and any(self.image.data_ranges(self._taken, end)):
            self.overwrite(self._taken, bytes(1))
            self.image.discard(self._taken, end - self._taken)
        self._taken = max(self._taken, end)

    def keep(self) -> None:
        """Make durable what is written, and note how far that is."""
        self._wait_written()
        self._later(self._hashing.submit(self._keep, self.done))
        self._settle()

    def overwrite(self, at: int, data: bytes | bytearray) -> None:
        """Put other bytes over what was written: what was hashed with the old ones is hashed anew."""
        self._settle()
        self.image.write(at, data)
        if at < self._digest.done:  # most are overwritten before any is hashed again
            self._digest = Digest(self.image, self.plain)

    def finish(self, tell: Tell = silent) -> tuple[str, str]:
        """Give the file its name; (BLAKE3, SHA-256 or "") of what it holds, read back."""
        self._empty(self.resumed)
        self._settle()
        self._later(self._syncing.submit(self.image.flush))
        fast = self._digest.upto(self.length, tell)
        self._settle()
        try:
            give_name(self.part, self.file)
            named = os.stat(self.file, follow_symlinks=False)
        except OSError as reason:
            raise media_error(self.file, reason) from reason
        ours = os.fstat(self._lock)
        if (named.st_dev, named.st_ino) != (ours.st_dev, ours.st_ino):
            raise MediaError(path=self.file, what="somebody else gave this name to another file", to_do="look at it")
        self.beside.unlink(missing_ok=True)
        sync_folder(self.file.parent)
        return fast, self._digest.plain

    def _later(self, future: Future[Any]) -> None:
        for old in [f for f in self._waiting if f.done()]:
            old.result()  # whoever failed says so soon
            self._waiting.remove(old)
        self._waiting.append(future)

    def _settle(self) -> None:
        self._wait_written()
        while self._waiting:
            self._waiting.pop(0).result()

    def _keep(self, end: int) -> None:
        told = self._digest.upto(end)
        self.image.flush()
        note = {"what": self.what, "bytes": end, "blake3": told}
        write_text(self.beside, json.dumps(note), replace=True)

    def _kept(self) -> int:
        """How much of what an earlier attempt left at the same thing can be gone on with: all of it, or nothing."""
        try:
            told = json.loads(self.beside.read_text("utf-8"))
            end = told["bytes"]
            if told["what"] != self.what or type(end) is not int or not 0 < end <= self.length:
                return 0
            return end if self._digest.upto(end) == told["blake3"] else 0
        except (OSError, ValueError, TypeError, KeyError, RecursionError):
            return 0


def write_filled(target: ImageFile, stretch: Stretch) -> None:
    """Write a stretch, but for the blocks of zeros in it, which stay holes."""
    if stretch.full:
        target.write_all(stretch.at, stretch.pieces)
        return
    waiting: list[Data] = []
    begin = end = at = stretch.at
    for piece in stretch.pieces:
        for a, b in _filled(at, piece):
            if end != at + a:
                target.write_all(begin, waiting)
                waiting, begin = [], at + a
            waiting.append(piece[a:b])
            end = at + b
        at += piece.size
    target.write_all(begin, waiting)


def _filled(at: int, data: Data) -> list[tuple[int, int]]:
    """Where a piece at byte `at` of a file holds something: ranges in it, by whole blocks of the file."""
    first = min(-at % BLOCK, data.size)
    count = (data.size - first) // BLOCK
    ranges = [(0, first)] if first and data[:first].any() else []
    if count:
        blocks = holding(data[first : first + count * BLOCK].reshape(count, BLOCK))
        if blocks.all():
            ranges.append((first, first + count * BLOCK))
        else:
            edges = np.flatnonzero(np.diff(np.concatenate([[False], blocks, [False]]).astype(np.int8))).tolist()
            ranges += [(first + a * BLOCK, first + b * BLOCK) for a, b in zip(edges[::2], edges[1::2], strict=True)]
    end = first + count * BLOCK
    return [*ranges, (end, data.size)] if end < data.size and data[end:].any() else ranges


def _locked(part: Path, file: Path) -> int:
    """The unfinished file, open and ours alone."""
    while True:
        try:
            fd = os.open(part, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK, 0o644)
        except OSError as reason:
            raise media_error(file, reason) from reason
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            named, ours = os.stat(part, follow_symlinks=False), os.fstat(fd)
        except BlockingIOError:
            os.close(fd)
            what, to_do = "another command is writing it", "wait for that one, or choose another name"
            raise MediaError(path=file, what=what, to_do=to_do) from None
        except FileNotFoundError:
            os.close(fd)  # it got its name, or was given up, just now
            refuse_existing(file)
            continue
        except OSError as reason:
            os.close(fd)
            raise media_error(file, reason) from reason
        if (named.st_dev, named.st_ino) == (ours.st_dev, ours.st_ino):
            try:
                refuse_existing(file)
            except MediaError:
                os.close(fd)
                raise
            return fd
        os.close(fd)


def _sized(fd: int, length: int, file: Path) -> None:
    try:
        os.ftruncate(fd, length)
    except OSError as reason:
        raise media_error(file, reason) from reason
