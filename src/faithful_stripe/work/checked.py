"""A recovered volume that tests every row as it is asked for: what `lineup serve` gives its clients."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterator, Sequence

import numpy as np
import numpy.typing as npt

from ..core.lineup.document import Lineup
from ..core.lineup.passing import full_pass
from ..core.lineup.patches import patches
from ..core.ranges import Range, clip, subtract, union
from ..core.source import BlockSource, Buffer, Unreadable, check_bounds

Data = npt.NDArray[np.uint8]

CHUNK_BYTES, KEPT_CHUNKS = 4 << 20, 16
"""Bytes of the volume that are tested together, about, and how many such parts are kept."""


class CheckedVolume:
    """The volume of a lineup over its members, by position as in `found.seated`.

    told  called with ranges of the volume, in bytes, that do not add up and of which nothing tells whether they are
          right, before anybody gets them; each once
    """

    def __init__(
        self, found: Lineup, members: list[BlockSource | None], told: Callable[[list[Range]], None], name: str
    ) -> None:
        self.found, self.members, self.told, self.name = found, members, told, name
        geometry = found.geometry
        self._plain = found.opened(members)
        pattern = geometry.pattern
        unit = max(1, pattern.strips * pattern.unit_rows // pattern.rows) * geometry.strip_bytes
        self._chunk = max(1, CHUNK_BYTES // unit) * unit
        self._kept: OrderedDict[int, Data] = OrderedDict()
        self._bad: dict[int, list[Range]] = {}
        self._said: list[Range] = []

    def __str__(self) -> str:
        return self.name

    @property
    def size(self) -> int:
        return self.found.geometry.volume_bytes

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        return self._plain.data_ranges(start, end)

    def read_into(self, offset: int, buffer: Buffer) -> None:
        """Raises Unreadable, OutOfBounds."""
        out = np.frombuffer(memoryview(buffer).cast("B"), np.uint8)
        check_bounds(self, self.size, offset, out.size)
        at = offset
        while at < offset + out.size:
            number, inner = divmod(at, self._chunk)
            data = self._take(number)
            count = min(len(data) - inner, offset + out.size - at)
            bad = clip(self._bad.get(number, ()), at, at + count)
            if bad:
                raise Unreadable(source=self, offset=bad[0][0], length=bad[0][1] - bad[0][0])
            out[at - offset : at - offset + count] = data[inner : inner + count]
            at += count

    def _take(self, number: int) -> Data:
        if number in self._kept:
            self._kept.move_to_end(number)
            return self._kept[number]
        first = number * self._chunk
        data = np.zeros(min(self._chunk, self.size - first), np.uint8)

        def sink(at: int, pieces: Sequence[Data]) -> None:
            for piece in pieces:
                low, high = max(at, first), min(at + piece.size, first + data.size)
                if low < high:
                    data[low - first : high - first] = piece[low - at : high - at]
                at += piece.size

        made, part = self.found.geometry, (first, first + data.size)
        rowmap = full_pass(made, self.members, self.found.suspects, sink, part=part)
        bad: list[Range] = []
        for patch in patches(made, self.members, rowmap, part):
            data[patch.at - first : patch.end - first] = np.frombuffer(patch.data, np.uint8)
            bad += patch.unreadable
        self._bad[number] = bad
        fresh = subtract(clip(rowmap.open, *part), self._said)
        if fresh:
            self._said = union([*self._said, *fresh])
            self.told(fresh)
        self._kept[number] = data
        if len(self._kept) > KEPT_CHUNKS:
            old, _data = self._kept.popitem(last=False)
            self._bad.pop(old, None)
        return data
