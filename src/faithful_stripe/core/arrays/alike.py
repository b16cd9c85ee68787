"""Which groups of an array ask the same of the same members: whole stretches of rows can be tested at once."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from . import codes
from .codes import Checks
from .layout import Cell, Pattern


@dataclass(frozen=True)
class Alike:
    """Groups whose equations are the same, member by member.

    period  rows after which all repeats
    groups  the number of each, by the row of the period in which it begins
    cells   (rows behind the first, member)
    checks  what is left of their equations where members are gone; one column per cell
    """

    period: int
    groups: dict[int, int]
    cells: tuple[Cell, ...]
    checks: Checks

    def rows(self, first: int, count: int) -> Iterator[range]:
        """Of `count` rows from `first` on, counted from there: those in which such groups begin."""
        if len(self.groups) == self.period:
            yield range(count)
            return
        for phase in self.groups:
            if (phase - first) % self.period < count:
                yield range((phase - first) % self.period, count, self.period)

    def group(self, row: int) -> int:
        """The number of the one that begins in a row."""
        return self.groups[row % self.period]


@lru_cache(maxsize=1024)
def tests_of(pattern: Pattern, gone: frozenset[int]) -> tuple[Alike, ...]:
    """The equations of all groups that are left where members are gone: of RAID 5 all in one, of RAID 6 by row, as Q
    counts each member otherwise there."""
    found: dict[tuple[tuple[Cell, ...], Checks], dict[int, int]] = {}
    for number, group in enumerate(pattern.groups):
        erased = frozenset(cell for cell, (_row, who) in enumerate(group.cells) if who in gone)
        checks = codes.remaining(group.checks, erased) if erased else group.checks
        first = min(row for row, _who in group.cells)
        order = sorted(range(len(group.cells)), key=lambda cell: (group.cells[cell][1], group.cells[cell][0]))
        cells = tuple((group.cells[cell][0] - first, group.cells[cell][1]) for cell in order)
        same = cells, tuple(tuple(row[cell] for cell in order) for row in checks)
        found.setdefault(same, {})[first] = number
    return tuple(Alike(pattern.rows, groups, *same) for same, groups in found.items())
