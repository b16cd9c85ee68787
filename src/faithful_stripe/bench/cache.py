"""A drive's volatile write cache: what was written since the last flush may be gone after a cut of power.

The image always holds the newest bytes. Before a sector is changed for the first time since a flush, its old
bytes go to an undo file beside the state; a flush empties that file. A cut of power puts the old bytes of some of
those sectors back, each sector for itself, as drives may write their caches out in any order.
"""

from __future__ import annotations

import os
import random
import struct
from collections.abc import Iterator
from pathlib import Path

from ..core.ranges import Range, clip, subtract, union, widen
from ..media.image import ImageFile
from ..media.parts import Parts

SECTOR = 512
MOST = 1 << 24
"""Bytes of one record."""
_HEAD = struct.Struct("<QI?")  # offset, length, whether these bytes were a hole (no bytes follow then)


class WriteCache:
    """The cache of one drive, over its image and its undo file."""

    def __init__(self, image: ImageFile | Parts, path: Path) -> None:
        self.image, self.path = image, path
        self._fd = -1
        self._touched: list[Range] | None = None

    def before_change(self, offset: int, length: int) -> None:
        """Keep the old bytes of sectors that are about to change for the first time since the last flush."""
        touched = self._load()
        fresh = subtract(widen([(offset, offset + length)], SECTOR), touched)
        if not fresh:
            return
        if self._fd < 0:
            self._fd = os.open(self.path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o644)
        for start, end in fresh:
            data = clip(self.image.data_ranges(start, end), start, end)
            for a, b, hole in [*((*r, True) for r in subtract([(start, end)], data)), *((*r, False) for r in data)]:
                for at in range(a, b, MOST):
                    self._append(at, min(MOST, b - at), hole)
        self._touched = union([*touched, *fresh])

    def _append(self, at: int, length: int, hole: bool) -> None:
        record = bytearray(_HEAD.pack(at, length, hole))
        if not hole:
            old = bytearray(length)
            self.image.read_into(at, old)
            record += old
        view = memoryview(record)
        while view:
            view = view[os.write(self._fd, view) :]

    def flush(self) -> None:
        """Everything written is on the medium now."""
        if self._touched is None and not self.path.exists():
            return
        self._touched = []
        if self.path.exists():
            os.truncate(self.path, 0)

    def lose_power(self, rng: random.Random) -> int:
        """Put the old bytes of some unflushed sectors back; how many sectors were lost."""
        lost = 0
        for at, length, old in list(self._records()):
            for inner in range(0, length, SECTOR):
                if rng.random() < 0.5:
                    lost += 1
                    if old is None:
                        self.image.discard(at + inner, SECTOR)
                    else:
                        self.image.write(at + inner, old[inner : inner + SECTOR])
        self.flush()
        return lost

    def close(self) -> None:
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1

    def _load(self) -> list[Range]:
        if self._touched is None:
            self._touched = union((at, at + length) for at, length, _old in self._records())
        return self._touched

    def _records(self) -> Iterator[tuple[int, int, bytes | None]]:
        """The whole records; a torn last one belongs to a change that never happened, and so does what follows bytes
        that are no record of this drive."""
        if not self.path.exists():
            return
        data = self.path.read_bytes()
        at = 0
        while at + _HEAD.size <= len(data):
            offset, length, hole = _HEAD.unpack_from(data, at)
            at += _HEAD.size
            if length > MOST or offset + length > self.image.size or (offset | length) % SECTOR:
                return
            if not hole and at + length > len(data):
                return
            yield offset, length, None if hole else data[at : at + length]
            at += 0 if hole else length
