"""An array drawn: which strip of the volume, or P, or Q, stands where, row by row and member by member."""

from __future__ import annotations

from dataclasses import dataclass

from ..core.arrays.geometry import Geometry
from ..core.arrays.layout import P_CELL, Q_CELL, UNUSED
from ..core.lineup.document.lineup_document import Lineup


@dataclass(frozen=True)
class Row:
    """One row of strips: where it begins on the first member, in bytes, and a word for every member's cell."""

    number: int
    offset: int
    cells: tuple[str, ...]


def pieces(found: Lineup) -> list[dict[str, int]]:
    """The members of a span: from which byte of the volume each holds how many, at which byte of the image."""
    made, at = found.geometry, 0
    table = []
    for start, length in zip(made.start_bytes, made.member_bytes, strict=True):
        table.append({"from": at, "length": length, "at": start})
        at += length
    return table


def rows(geometry: Geometry, first: int, count: int) -> list[Row]:
    """Rows of the array from `first` on, at most as many as there are: strips of the volume, "P", "Q", "spare"."""
    pattern = geometry.pattern
    made = []
    for number in range(first, min(first + count, geometry.rows)):
        period, inside = divmod(number, pattern.rows)
        words = {P_CELL: "P", Q_CELL: "Q", UNUSED: "spare"}
        cells = [
            words.get(value) or str(value + period * pattern.strips)
            for value in (int(v) for v in pattern.index[inside])
        ]
        made.append(Row(number, geometry.start_bytes[0] + number * geometry.strip_bytes, tuple(cells)))
    return made
