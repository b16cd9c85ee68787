"""Extracting: a recovered volume, a part or a partition of it, written to a new sparse file that can be gone on with.

What cannot be read is left as zeros and listed. Until all is written, the file has another name, and a note beside it
says how far it is sound; the same command goes on from there.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import asdict, dataclass, field
from pathlib import Path

from ..core.formats import gpt, mbr
from ..core.formats.declared import FormatError
from ..core.ranges import total, union
from ..core.source import BlockSource, BlockSourceError
from ..media.image import ImageFile, create_sparse, media_error
from ..media.whole import refuse_existing, sync_folder, write_text
from .copying import HASH_BYTES, parse_range
from .errors import WorkError

CHUNK = 4 << 20
KEPT_BYTES = 256 << 20
"""After so many bytes what is written is made durable and noted."""

SECTOR = 512
AHEAD = 4


@dataclass(frozen=True)
class Extract:
    """A finished extraction: sizes in bytes.

    sha256      of the whole file, "" where it was not computed
    resumed     how far an earlier attempt had come
    unreadable  (volume offset, length) of what could not be read and is zeros in the file
    map         the text file that lists them, "" where there are none
    """

    file: str
    start: int
    size: int
    data: int
    sha256: str
    resumed: int = 0
    unreadable: tuple[tuple[int, int], ...] = ()
    map: str = ""


class Interrupted(WorkError):
    """Stopped by hand: what was written is kept, and the same command goes on from there."""


@dataclass
class _Note:
    """What is known of an unfinished file."""

    what: str
    done: int = 0
    data: int = 0
    unreadable: list[tuple[int, int]] = field(default_factory=list)


def partitions(source: BlockSource) -> list[tuple[int, int]]:
    """(start, length) in bytes of the partitions of a volume, in the order of its table; none without one."""
    try:
        found = gpt.table(source)
    except (FormatError, BlockSourceError):
        found = None
    if found is not None:
        return [(p.start, p.length) for p in found.partitions]
    return [(e.start, e.length) for e in mbr.entries(source)]


def place_of(source: BlockSource, wanted: str | None, partition: int | None) -> tuple[int, int]:
    """(start, length) of what is wanted: a range, a partition (from 1), or all. Raises WorkError, SizeError."""
    if partition is None:
        return parse_range(wanted, source.size)
    if wanted is not None:
        raise WorkError(what="--range and --partition exclude each other", to_do="name one of them")
    known = partitions(source)
    if partition > len(known):
        has = f"it has {len(known)}" if known else "it has no partition table"
        raise WorkError(what=f"there is no partition {partition} on the volume", to_do=has)
    start, length = known[partition - 1]
    if start + length > source.size:
        what = f"partition {partition} ends at byte {start + length}, past the volume's {source.size}"
        raise WorkError(what=what, to_do="take what there is of it with --range")
    return start, length


def extract(
    source: BlockSource, identity: str, file: Path, start: int, length: int, tell: Callable[[int, int], None]
) -> Extract:
    """Write source[start, start + length) to a new file, or go on with one that was left unfinished.

    identity  says which volume this is: an unfinished file of another one is not gone on with
    tell      called with (bytes of data copied, bytes of data in all)

    Raises MediaError, Interrupted.
    """
    refuse_existing(file)
    part, beside = file.with_name(f".{file.name}.part"), file.with_name(f".{file.name}.progress")
    what = hashlib.sha256(f"{identity}\n{start}\n{length}".encode()).hexdigest()
    note = _kept(part, beside, what, length)
    resumed = note.done
    if not resumed:
        part.unlink(missing_ok=True)
        create_sparse(part, length)
    digest = _Digest(length)
    with ImageFile(part, writable=True) as target, digest:
        digest.skip(target, resumed)
        try:
            _copy(source, target, note, start, length, lambda: _keep(target, beside, note), digest, tell)
        except KeyboardInterrupt:
            _keep(target, beside, note)
            done = f"stopped after {note.done} of {length} bytes"
            raise Interrupted(what=done, to_do="the same command goes on from there") from None
        target.flush()
    listed = union(note.unreadable)
    described = file.with_name(f"{file.name}.unreadable.txt") if listed else None
    if described:
        described.unlink(missing_ok=True)
        write_text(described, _map(listed, start))
    try:
        os.link(part, file)
    except OSError as reason:
        raise media_error(file, reason) from reason
    part.unlink()
    beside.unlink(missing_ok=True)
    sync_folder(file.parent)
    where = tuple((start + a, b - a) for a, b in listed)
    return Extract(
        str(file), start, length, note.data, digest.result(), resumed, where, str(described) if described else ""
    )


def _copy(
    source: BlockSource, target: ImageFile, note: _Note, start: int, length: int, keep: Callable[[], None],
    digest: _Digest, tell: Callable[[int, int], None],
) -> None:  # fmt: skip
    whole = total(source.data_ranges(start, start + length))
    since = 0
    for at, size in _chunks(source, start + note.done, start + length):
        buffer = bytearray(size)
        for a, b in _read(source, at, buffer):
            note.unreadable.append((at - start + a, at - start + b))
        digest.zeros_until(at - start)
        digest.add(buffer)
        if any(buffer):
            target.write(at - start, buffer)
        note.done, note.data, since = at - start + size, note.data + size, since + size
        tell(note.data, whole)
        if since >= KEPT_BYTES:
            keep()
            since = 0
    note.done = length
    digest.zeros_until(length)


def _chunks(source: BlockSource, start: int, end: int) -> Iterator[tuple[int, int]]:
    for a, b in source.data_ranges(start, end):
        for at in range(a, b, CHUNK):
            yield at, min(CHUNK, b - at)


def _read(source: BlockSource, at: int, buffer: bytearray) -> list[tuple[int, int]]:
    """Fill the buffer; (from, to) in it of what cannot be read, which is left as zeros. Halves until a sector."""
    view = memoryview(buffer)
    try:
        source.read_into(at, view)
        return []
    except BlockSourceError:
        size = len(buffer)
    view[:] = bytes(size)
    if size <= SECTOR:
        return [(0, size)]
    middle = max(SECTOR, size // 2 // SECTOR * SECTOR)
    found = []
    for first, last in ((0, middle), (middle, size)):
        half = bytearray(last - first)
        found += [(first + a, first + b) for a, b in _read(source, at + first, half)]
        view[first:last] = half
    return found


class _Digest:
    """SHA-256 of a file as it is written in order, in a thread of its own; not of one that is too large."""

    def __init__(self, size: int) -> None:
        self._sum = hashlib.sha256() if size <= HASH_BYTES else None
        self._at = 0
        self._pool = ThreadPoolExecutor(1)
        self._waiting: list[Future[None]] = []

    def __enter__(self) -> _Digest:
        return self

    def __exit__(self, kind: object, *_why: object) -> None:
        self._pool.shutdown(wait=True, cancel_futures=kind is not None)

    def add(self, data: bytes | bytearray) -> None:
        """The next bytes of the file."""
        self._at += len(data)
        if self._sum is None:
            return
        self._waiting.append(self._pool.submit(self._sum.update, data))
        if len(self._waiting) > AHEAD:
            self._waiting.pop(0).result()

    def zeros_until(self, end: int) -> None:
        """A hole up to this offset."""
        zeros = bytes(CHUNK)
        while self._at < end:
            self.add(zeros[: min(CHUNK, end - self._at)])

    def skip(self, written: ImageFile, end: int) -> None:
        """What an earlier attempt has written."""
        while self._at < end and self._sum is not None:
            buffer = bytearray(min(CHUNK, end - self._at))
            written.read_into(self._at, buffer)
            self.add(buffer)
        self._at = end

    def result(self) -> str:
        """Hexadecimal; "" where it was not computed."""
        return self._sum.hexdigest() if self._sum is not None else ""


def _keep(target: ImageFile, beside: Path, note: _Note) -> None:
    target.flush()
    write_text(beside, json.dumps(asdict(note)), replace=True)


def _kept(part: Path, beside: Path, what: str, length: int) -> _Note:
    """What an earlier attempt at the same thing left; a fresh note where there is none."""
    try:
        told = json.loads(beside.read_text("utf-8"))
        note = _Note(told["what"], told["done"], told["data"], [(int(a), int(b)) for a, b in told["unreadable"]])
        sound = note.what == what and 0 <= note.done <= length and part.stat().st_size == length
    except (OSError, ValueError, TypeError, KeyError):
        sound = False
    return note if sound else _Note(what)


def _map(listed: list[tuple[int, int]], start: int) -> str:
    lines = ["# What could not be read, and is zeros in the file. In bytes: on the volume, in the file, how many."]
    lines += [f"{start + a}\t{a}\t{b - a}" for a, b in listed]
    return "\n".join(lines) + "\n"
