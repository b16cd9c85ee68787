"""An array drawn: which strip of the volume, or P, or Q, stands where, row by row and member by member."""

from __future__ import annotations

from dataclasses import dataclass

from ..core.arrays.layout import P_CELL, Q_CELL, UNUSED
from ..core.lineup.document.lineup_document import Lineup

WORDS = {P_CELL: "P", Q_CELL: "Q", UNUSED: "spare"}


@dataclass(frozen=True)
class Row:
    """One row of strips: where it begins on the first member, in bytes, and a word for every member's cell.

    former  whether it stands in the layout that an array had before it grew; its strips in brackets are read elsewhere
    """

    number: int
    offset: int
    cells: tuple[str, ...]
    former: bool = False


def pieces(found: Lineup) -> list[dict[str, int]]:
    """The members of a span: from which byte of the volume each holds how many, at which byte of the image."""
    made, at = found.geometry, 0
    table = []
    for start, length in zip(made.start_bytes, made.member_bytes, strict=True):
        table.append({"from": at, "length": length, "at": start})
        at += length
    return table


def rows(found: Lineup, first: int, count: int) -> list[Row]:
    """Rows of the array from `first` on, at most as many as there are: strips of the volume, "P", "Q", "spare"; "-" on
    members that take no part yet."""
    made = found.geometry
    drawn = []
    for number in range(first, min(first + count, made.rows)):
        old = found.former is not None and number >= found.former.row
        zone = found.zones[-1 if old else 0]
        pattern = zone.geometry.pattern
        period, inside = divmod(number, pattern.rows)
        cells = ["-"] * made.members
        for position, value in zip(zone.positions, pattern.index[inside].tolist(), strict=True):
            strip = value + period * pattern.strips
            read = strip * made.strip_bytes >= zone.volume[0]
            cells[position] = WORDS.get(value) or (str(strip) if read else f"({strip})")
        drawn.append(Row(number, made.start_bytes[0] + number * made.strip_bytes, tuple(cells), old))
    return drawn
