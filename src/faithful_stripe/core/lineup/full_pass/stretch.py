"""Bytes of a volume as a pass hands them on: one stretch after another, in the pieces that stand on the members."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

Bytes = npt.NDArray[np.uint8]

BLOCK = 4096
"""Whether there is anything in it is looked at by blocks of so many bytes, counted from the volume's first."""


@dataclass(frozen=True)
class Stretch:
    """Bytes of a volume from `at` on, uint8 pieces that follow one another. They are good until the next stretch but
    one is handed on.

    full  whether every block in it holds something; False where nobody looked
    """

    at: int
    pieces: Sequence[Bytes]
    full: bool = False

    @cached_property
    def end(self) -> int:
        return self.at + sum(piece.size for piece in self.pieces)

    def within(self, low: int, high: int) -> Stretch:
        """The part of it in [low, high) of the volume."""
        if low <= self.at and self.end <= high:
            return self
        low, at, cut = max(low, self.at), self.at, list[Bytes]()
        for piece in self.pieces:
            a, b = max(low, at), min(high, at + piece.size)
            if a < b:
                cut.append(piece[a - at : b - at])
            at += piece.size
        return Stretch(low, cut, self.full and low % BLOCK == 0)

    def moved(self, by: int) -> Stretch:
        """The same bytes at another place: of the file they are written to."""
        return replace(self, at=self.at + by, full=self.full and by % BLOCK == 0)


Sink = Callable[[Stretch], None]
"""Is told the stretches of a volume in order."""
