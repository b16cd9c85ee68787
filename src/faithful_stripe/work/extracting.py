"""Extracting: a recovered volume, a part or a partition of it, written to a new sparse file that can be gone on with.

Every row is tested as it is read. Where a member is at fault, its bytes are computed from the others; where rows do not
add up and nothing tells who is at fault, what stands there is written and said; what cannot be read is left as zeros
and listed. Until all is written, the file has another name, and a note beside it says how far it is sound; the same
command goes on from there.
"""

from __future__ import annotations

import hashlib
import json
import os
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt
from blake3 import blake3

from ..core.formats import gpt, mbr
from ..core.formats.declared import FormatError
from ..core.lineup.document import Lineup
from ..core.lineup.patches import patches
from ..core.lineup.rowmap import RowMap
from ..core.lineup.samples import Tell, silent
from ..core.lineup.soundness import tested
from ..core.ranges import Range, clip, subtract, total, union
from ..core.source import BlockSource, BlockSourceError
from ..media.image import ImageFile, create_sparse, media_error
from ..media.whole import refuse_existing, sync_folder, write_text
from .copying import parse_range
from .errors import WorkError

CHUNK = 4 << 20
KEPT_BYTES = 1 << 30
"""After so many bytes what is written is made durable and noted."""

SECTOR = 512
HOLE = 4096
"""Zeros are left as holes in blocks of this size."""

PLAIN_BYTES = 64 << 20
"""Files no larger than this get their SHA-256 as well: of a large one, it alone would take longer than all the rest."""

AHEAD = 4
"""Pieces that may wait to be written while the next ones are read and tested."""

Data = npt.NDArray[np.uint8]


@dataclass(frozen=True)
class Extract:
    """A finished extraction: sizes in bytes.

    blake3      of the whole file, read back, holes as the zeros they read as
    sha256      likewise, "" where it was not computed
    resumed     how far an earlier attempt had come
    mended      (volume offset, length) of what was computed because a member is at fault there
    open        likewise of what does not add up, and nothing tells whether it is right
    unreadable  likewise of what could not be read and is zeros in the file
    map         the text file that lists all these, and which member is at fault where
    """

    file: str
    start: int
    size: int
    data: int
    blake3: str
    sha256: str
    resumed: int = 0
    mended: tuple[tuple[int, int], ...] = ()
    open: tuple[tuple[int, int], ...] = ()
    unreadable: tuple[tuple[int, int], ...] = ()
    map: str = ""


class Interrupted(WorkError):
    """Stopped by hand: what was written is kept, and the same command goes on from there."""


@dataclass
class _Note:
    """What is known of an unfinished file."""

    what: str
    done: int = 0


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
    found: Lineup, members: list[BlockSource | None], identity: str, file: Path, start: int, length: int,
    tell: Tell = silent, plain: bool = False,
) -> tuple[Extract, Lineup]:  # fmt: skip
    """Write the volume's bytes [start, start + length) to a new file, or go on with one that was left unfinished; and
    the lineup with the map of the rows that were read.

    members   by position as in `found.seated`
    identity  says which volume this is: an unfinished file of another one is not gone on with
    tell      is told what is being done, and how much of it, of how much
    plain     whether the SHA-256 of the whole file is computed however large it is

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
    with ImageFile(part, writable=True) as target:
        with _Writer(target, start, length, note, beside) as writer:
            try:
                made, _read = tested(found, members, tell, writer.take, (start, start + length))
                writer.settle()
                mended, unreadable = _mend(made, members, target, start, length)
            except KeyboardInterrupt:
                writer.keep()
                done = f"stopped after {note.done} of {length} bytes"
                raise Interrupted(what=done, to_do="the same command goes on from there") from None
        target.flush()
    assert made.rowmap is not None
    listed = _listed(made.rowmap, mended, unreadable, start, length)
    described = file.with_name(f"{file.name}.map.txt") if listed else None
    if described:
        described.unlink(missing_ok=True)
        write_text(described, _map_text(made, listed, start))
    try:
        os.link(part, file)
    except OSError as reason:
        raise media_error(file, reason) from reason
    part.unlink()
    beside.unlink(missing_ok=True)
    sync_folder(file.parent)
    with ImageFile(file) as written:
        fast, sha256 = digests(written, plain or length <= PLAIN_BYTES, tell)
        data = total(written.data_ranges())
    said = {word: tuple((a, b - a) for a, b in ranges) for word, ranges in listed.items()}
    return Extract(
        str(file), start, length, data, fast, sha256, resumed, said.get("mended", ()), said.get("open", ()),
        said.get("unreadable", ()), str(described) if described else "",
    ), made  # fmt: skip


def digests(image: BlockSource, plain: bool, tell: Tell = silent) -> tuple[str, str]:
    """(BLAKE3, SHA-256 or "") of a file, read back: what stands as a hole counts as the zeros that it reads as."""
    fast, slow = blake3(max_threads=blake3.AUTO), hashlib.sha256() if plain else None
    zeros, at = bytes(CHUNK), 0
    buffer = bytearray(CHUNK)
    for a, b in [*image.data_ranges(), (image.size, image.size)]:
        for gap in range(at, a, CHUNK):
            piece = memoryview(zeros)[: min(CHUNK, a - gap)]
            fast.update(piece)
            if slow:
                slow.update(piece)
        for place in range(a, b, CHUNK):
            piece = memoryview(buffer)[: min(CHUNK, b - place)]
            image.read_into(place, piece)
            fast.update(piece)
            if slow:
                slow.update(piece)
            tell("reading back what was written", place >> 20, image.size >> 20)
        at = b
    return fast.hexdigest(), slow.hexdigest() if slow else ""


class _Writer:
    """Takes the volume's bytes as they are read, and writes those that are wanted and not there yet, without zeros, in
    a thread of its own. Use as a context manager."""

    def __init__(self, target: ImageFile, start: int, length: int, note: _Note, beside: Path) -> None:
        self.target, self.start, self.length, self.note, self.beside = target, start, length, note, beside
        self.since = 0
        self._pool = ThreadPoolExecutor(1)
        self._waiting: list[Future[None]] = []

    def __enter__(self) -> _Writer:
        return self

    def __exit__(self, *_why: object) -> None:
        self._pool.shutdown(wait=True)

    def take(self, at: int, data: Data) -> None:
        low = max(self.start, at)
        high = min(self.start + self.length, at + data.size)
        if low >= high or high - self.start <= self.note.done:
            return
        self._waiting.append(self._pool.submit(self._write, low - self.start, data.reshape(-1)[low - at : high - at]))
        while len(self._waiting) > AHEAD:
            self._waiting.pop(0).result()
        self.since += high - low
        if self.since >= KEPT_BYTES:
            self.keep()

    def _write(self, at: int, data: Data) -> None:
        write_filled(self.target, at, data)
        self.note.done = at + data.size

    def settle(self) -> None:
        """Return once all that was taken is written."""
        while self._waiting:
            self._waiting.pop(0).result()

    def keep(self) -> None:
        """Make durable what is written, and note how far that is."""
        self.settle()
        self.target.flush()
        write_text(self.beside, json.dumps(asdict(self.note)), replace=True)
        self.since = 0


def write_filled(target: ImageFile, at: int, data: Data) -> None:
    """Write bytes but for the blocks of zeros among them, which stay holes."""
    first = -at % HOLE
    head, rest = data[:first], data[first:]
    if head.any():
        target.write(at, np.ascontiguousarray(head))
    count = len(rest) // HOLE
    if count:
        blocks = rest[: count * HOLE].reshape(count, HOLE)
        filled = np.bitwise_or.reduce(blocks.view(np.uint64), axis=1) != 0
        edges = np.flatnonzero(np.diff(np.concatenate([[False], filled, [False]]).astype(np.int8)))
        for a, b in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
            target.write(at + first + a * HOLE, rest[a * HOLE : b * HOLE])
    tail = rest[count * HOLE :]
    if tail.any():
        target.write(at + first + count * HOLE, np.ascontiguousarray(tail))


def _mend(
    made: Lineup, members: list[BlockSource | None], target: ImageFile, start: int, length: int
) -> tuple[list[Range], list[Range]]:  # fmt: skip
    """Write what has to be computed over what stood on a member at fault; what was, and what could not be read."""
    assert made.rowmap is not None
    mended: list[Range] = []
    unreadable: list[Range] = []
    for patch in patches(made.geometry, members, made.rowmap, (start, start + length)):
        target.write(patch.at - start, patch.data)
        mended.append((patch.at, patch.end))
        unreadable += patch.unreadable
    return subtract(union(mended), union(unreadable)), union(unreadable)


def _kept(part: Path, beside: Path, what: str, length: int) -> _Note:
    """What an earlier attempt at the same thing left; a fresh note where there is none."""
    try:
        told = json.loads(beside.read_text("utf-8"))
        note = _Note(told["what"], told["done"])
        sound = note.what == what and 0 <= note.done <= length and part.stat().st_size == length
    except (OSError, ValueError, TypeError, KeyError):
        sound = False
    return note if sound else _Note(what)


def _listed(
    rowmap: RowMap, mended: list[Range], unreadable: list[Range], start: int, length: int
) -> dict[str, list[Range]]:  # fmt: skip
    """Ranges of the volume by what is to be said of them; none where all is as it stands on the members."""
    open_at = subtract(clip(rowmap.open, start, start + length), unreadable)
    found = {"mended": mended, "open": open_at, "unreadable": unreadable}
    return {word: ranges for word, ranges in found.items() if ranges} | ({"": []} if rowmap.faults else {})


def _map_text(made: Lineup, listed: dict[str, list[Range]], start: int) -> str:
    """The map beside the file, for people and programs: what, where on the volume, where in the file, how much."""
    assert made.rowmap is not None
    lines = [
        "# What in this file is not simply what stood on the members. In bytes: state, on the volume, in the file, how",
        "# many. mended: computed from the other members; open: the row does not add up, and nothing tells which",
        "# member is at fault, so this may be wrong; unreadable: zeros. Then where which image is not used, and why.",
    ]
    for word, ranges in listed.items():
        lines += [f"{word}\t{a}\t{a - start}\t{b - a}" for a, b in ranges]
    for fault in made.rowmap.faults:
        image = made.seated[fault.member]
        lines.append(f"image\t{image}\t{fault.start}\t{fault.end - fault.start}\t{fault.why.value}")
    return "\n".join(lines) + "\n"
