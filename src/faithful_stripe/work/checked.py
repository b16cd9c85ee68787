"""A recovered volume that tests every row as it is asked for: what `lineup serve` gives its clients."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterator, Sequence

import numpy as np
import numpy.typing as npt

from ..core.arrays.geometry import Concatenation
from ..core.lineup.document.custody import NotAsJudged, Sealing
from ..core.lineup.document.lineup_document import Lineup
from ..core.lineup.full_pass.patches import patches
from ..core.lineup.full_pass.row_pass import rows_with
from ..core.lineup.full_pass.soundness import tested, tested_rows
from ..core.lineup.full_pass.stretch import Stretch
from ..core.ranges import Range, clip, subtract, union
from ..core.source import BlockSource, Buffer, Unreadable, check_bounds
from .errors import WorkError
from .places import used_of

Data = npt.NDArray[np.uint8]

CHUNK_BYTES, KEPT_CHUNKS = 4 << 20, 16
"""Bytes of the volume that are tested together, about, and how many such parts are kept."""


def volume_used(
    found: Lineup, members: list[BlockSource | None], pieces: Sequence[Range]
) -> list[Range]:  # fmt: skip
    """What is in use of ranges of the volume, by its file systems' own maps, each row of which is tested as it is read.

    Raises WorkError where they do not say, or are not known to be right.
    """
    told: list[Range] = []
    used = used_of(CheckedVolume(found, members, told.extend, "volume"), pieces)
    if told:
        what = "what is in use is not known: the rows of its own maps do not match"
        raise WorkError(what=what, to_do="extract without --used")
    return used


class Watched:
    """Images that nobody may write to while they are read."""

    def __init__(self, found: Lineup, members: Sequence[BlockSource | None]) -> None:
        self._there = [(str(n), m) for n, m in zip(found.seated, members, strict=True) if m is not None]
        self._then = [getattr(member, "written", 0) for _name, member in self._there]

    def check(self) -> None:
        """Raise NotAsJudged, naming the image, where somebody wrote to one."""
        for (name, member), then in zip(self._there, self._then, strict=True):
            if getattr(member, "written", 0) != then:
                raise NotAsJudged(image=name, where="somebody wrote to it while it was read")


class CheckedVolume:
    """The volume of a lineup over its members, by position as in `found.seated`.

    What was sealed when the lineup was judged is held against its seals before any byte of it is given.

    told  called with ranges of the volume, in bytes, that do not match and of which nothing tells whether they are
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
        self._watched = Watched(found, members)
        names = [n if m is not None else None for n, m in zip(found.seated, members, strict=True)]
        self._sealed = Sealing(geometry, names).rows if found.seals else 0
        self._proven: list[Range] = []

    def __str__(self) -> str:
        return self.name

    @property
    def size(self) -> int:
        return self.found.volume_bytes

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

    def _prove(self, part: Range) -> None:
        """Hold the rows of a part of the volume against their seals, once. Raises NotAsJudged."""
        made = self.found.geometry
        if isinstance(made, Concatenation):
            part = (0, self.size)
        else:
            per_row = made.volume_bytes // max(1, made.rows)
            first, last = rows_with(made, part)
            group, unit = self._sealed, made.pattern.unit_rows
            low, high = first // group * group - unit, (-(-last // group)) * group + unit
            part = (max(0, low * per_row), min(self.size, high * per_row))
        for fresh in subtract([part], self._proven):
            tested(self.found, self.members, part=fresh)
        self._proven = union([*self._proven, part])

    def _take(self, number: int) -> Data:
        self._watched.check()
        if number in self._kept:
            self._kept.move_to_end(number)
            return self._kept[number]
        first = number * self._chunk
        if self._sealed:
            self._prove((first, min(self.size, first + self._chunk)))
        data = np.zeros(min(self._chunk, self.size - first), np.uint8)

        def sink(stretch: Stretch) -> None:
            mine = stretch.within(first, first + data.size)
            if mine.pieces:
                data[mine.at - first : mine.end - first] = np.concatenate(mine.pieces)

        part = (first, first + data.size)
        rowmap = tested_rows(self.found, self.members, sink, part=part)
        bad: list[Range] = []
        for patch in patches(self.found, self.members, rowmap, part):
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
