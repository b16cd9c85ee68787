"""The controller's write journal: closes the write hole between data and parity.

Before a group of strips is changed, its record is in the journal; a killed process leaves either the old
journal or a whole record behind. Opening the bench replays what is there, which is harmless to repeat.

A record is a line of JSON (kind, volume, pieces, CRC-32 of the payload) followed by the payload:
`content` holds the bytes of a guarded group write (partial, or degraded), to be stored again as they are;
`intent` names a range that was being overwritten: the copies and parity of its groups are computed again.
"""

from __future__ import annotations

import json
import os
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..core.arrays.engine import Array, DataLost, GroupWrite
from ..core.ranges import widen
from ..core.shape import fits
from ..core.source import Buffer

HEAD = {"kind": str, "volume": int, "pieces": [[int]], "length": int, "crc": int}
MOST = 1 << 30
"""Bytes of one record's payload."""
FILE, HELD = "nvram.journal", "nvram.held"


@dataclass(frozen=True)
class Record:
    """One replayable record; `pieces` are (member, offset, length) in the payload's order."""

    kind: str
    volume: int
    pieces: tuple[tuple[int, int, int], ...]
    payload: bytes


class Journal:
    """The journal file of one bench."""

    def __init__(self, folder: Path) -> None:
        self.path, self._held = folder / FILE, folder / HELD

    def write(self, array: Array, volume: int, offset: int, data: Buffer) -> None:
        """Store `data` in the array so that a kill at any moment tears no strip but those written."""
        view = memoryview(data).cast("B")
        with open(self.path, "wb", buffering=0) as file:
            _append(file.fileno(), Record("intent", volume, ((0, offset, len(view)),), b""))
            for step in array.plan_writes(offset, view):
                if step.guarded:
                    _append(file.fileno(), _content(volume, step))
                array.apply(step)
        array.flush()  # a cut of power after this loses nothing; until then the journal has it
        self.clear()

    def discard(self, array: Array, volume: int, offset: int, length: int) -> None:
        """Make a range read as zeros, as safely as `write`."""
        span = array.geometry.strip_bytes * array.geometry.pattern.group_strips
        first, last = -(-offset // span) * span, (offset + length) // span * span
        if first >= last:
            self.write(array, volume, offset, bytes(length))
            return
        if offset < first:
            self.write(array, volume, offset, bytes(first - offset))
        with open(self.path, "wb", buffering=0) as file:
            _append(file.fileno(), Record("intent", volume, ((0, first, last - first),), b""))
            array.discard(first, last - first)
        array.flush()
        self.clear()
        if last < offset + length:
            self.write(array, volume, last, bytes(offset + length - last))

    def clear(self) -> None:
        """Forget every record: all of them are on the drives."""
        if self.path.exists():
            os.truncate(self.path, 0)

    def keep(self, held: list[Record]) -> None:
        """Forget every record but those of volumes that cannot be used now: they wait in a file of their own."""
        if held or self._held.exists():
            new = self._held.with_suffix(".new")
            with open(new, "wb", buffering=0) as file:
                for record in held:
                    _append(file.fileno(), record)
            os.replace(new, self._held)
        self.clear()

    @property
    def empty(self) -> bool:
        """Whether no write was interrupted."""
        return not any(path.exists() and path.stat().st_size for path in (self._held, self.path))

    def records(self) -> Iterator[Record]:
        """The whole records in order, held ones first; a torn last one, and what follows it, was never acted upon."""
        for path in (self._held, self.path):
            if path.exists() and path.stat().st_size:
                yield from self._read(path)

    def _read(self, path: Path) -> Iterator[Record]:
        with open(path, "rb") as file:
            while line := file.readline():
                try:
                    head = json.loads(line)
                except (ValueError, RecursionError):
                    return
                if not fits(head, HEAD) or not 0 <= head["length"] <= MOST or head["kind"] not in ("content", "intent"):
                    return
                payload = file.read(head["length"])
                if len(payload) != head["length"] or zlib.crc32(payload) != head["crc"]:
                    return
                yield Record(head["kind"], head["volume"], tuple(map(tuple, head["pieces"])), payload)


def sound(record: Record, array: Array) -> bool:
    """Whether a record can be one of this array: its pieces lie inside it, and its payload is theirs."""
    if any(len(piece) != 3 or min(piece) < 0 for piece in record.pieces):
        return False
    if record.kind == "intent":
        return all(offset + length <= array.size for _member, offset, length in record.pieces)
    made = array.geometry
    ends = [start + length for start, length in zip(made.start_bytes, made.member_bytes, strict=True)]
    inside = all(member < len(ends) and offset + length <= ends[member] for member, offset, length in record.pieces)
    return inside and sum(length for _m, _o, length in record.pieces) == len(record.payload)


def replay(record: Record, array: Array) -> None:
    """Bring the array to a consistent state after an interrupted write."""
    if record.kind == "content":
        at, pieces = 0, []
        for member, offset, length in record.pieces:
            pieces.append((member, offset, np.frombuffer(record.payload, np.uint8, length, at)))
            at += length
        array.apply(GroupWrite(tuple(pieces), True))
        return
    for _member, offset, length in record.pieces:
        close_parity(array, offset, length)


def close_parity(array: Array, offset: int, length: int) -> None:
    """Compute the parity and copies of every group that a range touches again, from the data as it stands.

    A group that has lost a member is left alone: what its lost strip reads as follows from the others. So is one
    whose data cannot be read: there is nothing to compute its parity from.
    """
    span = array.geometry.strip_bytes * array.geometry.pattern.group_strips
    buffer = bytearray(span)
    first, last = offset // span, -(-(offset + length) // span)
    for start, end in widen(array.data_ranges(first * span, min(array.size, last * span)), span):
        for number in range(start // span, end // span):
            if array.whole(number):
                try:
                    array.read_into(number * span, buffer)
                except DataLost:
                    continue
                array.write(number * span, buffer)


def _content(volume: int, step: GroupWrite) -> Record:
    pieces = tuple((member, offset, len(piece)) for member, offset, piece in step.pieces)
    return Record("content", volume, pieces, b"".join(piece.tobytes() for _m, _o, piece in step.pieces))


def _append(fd: int, record: Record) -> None:
    head = {
        "kind": record.kind,
        "volume": record.volume,
        "pieces": record.pieces,
        "length": len(record.payload),
        "crc": zlib.crc32(record.payload),
    }
    data = json.dumps(head).encode() + b"\n" + record.payload
    while data:
        data = data[os.write(fd, data) :]
