"""Learned bytes: what the data of an array are like, and how often they are blank, as a pass over it sees them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from ...arrays.engine import SECTOR
from ...arrays.geometry import Geometry
from ..evidence.byte_pairs import ANYTHING, Pairs, best_pairs
from ..reading.samples import BLOCK

Bytes2D = npt.NDArray[np.uint8]

LEARNED_BYTES, LEARNED_ROWS = 2 << 20, 24
"""Of so many bytes of a member, so many rows teach: of the first stretch, the second, the fourth, ..., and of each
sixteenth; and all the first ones."""

LEAST_USUAL, LEAST_ALONE = 0.004, 0.0005
"""The least share of blank sectors that is counted with, and of places at which one member alone is blank."""

SAMPLED, TAUGHT = 600, 32
"""Blocks that teach what the array's bytes are like, and fewest that can."""


@dataclass
class Learned:
    """What a pass has seen of an array's data."""

    made: Geometry
    _blocks: list[npt.NDArray[np.uint8]] = field(default_factory=list)
    _blank: int = 0
    _seen: int = 0
    _full: Counter[int] = field(default_factory=Counter)
    _single: Counter[int] = field(default_factory=Counter)
    _rows: int = 0

    @property
    def _sizes(self) -> tuple[int, ...]:
        """For how long a piece, in bytes, it is known how often one member alone is blank."""
        return tuple(dict.fromkeys((SECTOR, min(BLOCK, self.made.strip_bytes), self.made.strip_bytes)))

    def learn(self, blocks: Sequence[Bytes2D], first: int, gone: frozenset[int]) -> None:
        """Keep a few blocks of data strips, and count how many sectors are blank: however much is read at once."""
        pattern, strip = self.made.pattern, self.made.strip_bytes
        begin, self._rows = self._rows, self._rows + len(blocks[0])
        stretch = max(1, LEARNED_BYTES // strip)
        for row in range(len(blocks[0])):
            number, within = divmod(begin + row, stretch)
            seldom = begin + row >= LEARNED_ROWS and within % max(1, stretch // LEARNED_ROWS)
            if seldom or (number & (number + 1) and (number + 1) % 16):
                continue  # ever more rarely
            cells = [b[row] for b in blocks]
            if sum(bool(c.any()) for c in cells) < 2:
                continue
            sector = (row * 7919) % max(1, strip // SECTOR) * SECTOR
            for group in pattern.groups if pattern.unit_rows == 1 else ():
                if group.cells[0][0] == (first + row) % pattern.rows and not group.members & gone:
                    for size in self._sizes:
                        at = sector // size * size
                        empty = sum(not cells[who][at : at + size].any() for who in group.members)
                        self._full[size] += not empty
                        self._single[size] += empty == 1
            for who, cell in enumerate(cells):
                if who in gone:
                    continue
                at = (row * 7919 + who * 104729) % max(1, strip // BLOCK) * BLOCK
                block = cell[at : at + BLOCK]
                self._seen += len(block) // SECTOR
                self._blank += int((~block.reshape(-1, SECTOR).any(axis=1)).sum())
                data = pattern.index[(first + row) % pattern.rows, who] >= 0
                if data and block.any() and len(self._blocks) < 4 * SAMPLED:
                    self._blocks.append(block.copy())

    @property
    def usual(self) -> float:
        """The share of sectors that are blank."""
        return max(LEAST_USUAL, (self._blank + 1) / (self._seen + 2))

    def alone(self, length: int) -> float:
        """The share of places of about so many bytes at which a certain member is blank and no other is."""
        size = max((s for s in self._sizes if s <= length), default=SECTOR)
        seen = self._full[size] + self._single[size] + 2
        return max(LEAST_ALONE, (self._single[size] + 1) / seen / max(2, self.made.members))

    def taught(self) -> tuple[Pairs | None, float]:
        """What bytes are likely, None where too few were seen; and the log of the share of blocks like nothing."""
        if len(self._blocks) < TAUGHT:
            return None, 0.0
        blocks = np.stack(self._blocks[:: max(1, len(self._blocks) // SAMPLED)])
        likely = best_pairs(blocks[::2], blocks[1::2], BLOCK)
        noise = float((likely.each(blocks).mean(axis=1) < ANYTHING).mean())
        return likely, float(np.log(max(noise, 1e-4)))
