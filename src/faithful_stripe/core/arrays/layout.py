"""Where strips stand in one period of rows: the definitions of every level, as cells and check equations.

The terms (rotation parity-0 and parity-N; data restart and continuation) are the RAID-level qualifiers of
the SNIA Common RAID Disk Data Format. A pattern repeats down the members; everything else about an array
(maps both ways, reads, writes, rebuilds, checks, margins) is derived from it.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
import numpy.typing as npt

from .codes import Checks
from .levels import GeometryError, level_named

P_CELL, Q_CELL, UNUSED = -1, -2, -3
"""What `Pattern.index` holds where no data strip stands (UNUSED only leaves the map `to_volume`)."""

Cell = tuple[int, int]
"""(row in the period, member)."""


@dataclass(frozen=True)
class Group:
    """Cells that belong together, and the equations between them.

    cells   data cells first, in logical order, then copies or P, Q
    data    how many of them are data
    checks  one row of coefficients per equation, one column per cell
    """

    cells: tuple[Cell, ...]
    data: int
    checks: Checks

    @property
    def members(self) -> frozenset[int]:
        return frozenset(member for _row, member in self.cells)


@dataclass(frozen=True, eq=False)
class Pattern:
    """One period of an array: `rows` rows of `members` cells.

    index   int64 (rows, members): the data strip's number in the period, or P_CELL, Q_CELL
    groups  every redundancy group; group g holds the data strips g*k .. g*k + k - 1 of the period
    """

    rows: int
    members: int
    index: npt.NDArray[np.int64]
    groups: tuple[Group, ...]

    @cached_property
    def strips(self) -> int:
        """Data strips in one period."""
        return int(self.index.max()) + 1

    @cached_property
    def places(self) -> npt.NDArray[np.int64]:
        """(copies, strips, 2): row and member of each copy of each data strip."""
        found: list[list[Cell]] = [[] for _ in range(self.strips)]
        for row in range(self.rows):
            for member in range(self.members):
                if self.index[row, member] >= 0:
                    found[self.index[row, member]].append((row, member))
        return np.array(found, np.int64).transpose(1, 0, 2)

    @cached_property
    def group_strips(self) -> int:
        """Data strips in each group."""
        return self.groups[0].data

    @cached_property
    def unit_rows(self) -> int:
        """Rows that must be handled together: 1 where every group lies in one row, else the period."""
        return 1 if all(len({row for row, _ in g.cells}) == 1 for g in self.groups) else self.rows

    @cached_property
    def sets(self) -> tuple[tuple[frozenset[int], int], ...]:
        """Distinct (members, failures they survive) of the groups: what the margin is counted over."""
        return tuple({(g.members, len(g.checks)) for g in self.groups})

    def strips_within(self, rows: int) -> int:
        """Data strips, counted from the start, of which every copy lies in the first `rows` rows."""
        whole, rest = divmod(rows, self.rows)
        ends = self.places[:, :, 0].max(axis=0) < rest
        return whole * self.strips + (len(ends) if ends.all() else int(np.argmin(ends)))


@dataclass(frozen=True)
class Rule:
    """Where P stands in row r of n members, and where data run from there.

    start, turn  P is at (n - start + turn * r) mod n
    data_after   restart: None, data fill the free places in ascending order;
                 continuation: data strip d is at (P + data_after + d) mod n
    """

    start: int
    turn: int
    data_after: int | None


PARITY_RULES: dict[tuple[str | None, str | None, str | None], Rule] = {
    ("parity-0", "restart", None): Rule(0, +1, None),
    ("parity-0", "continuation", None): Rule(0, +1, 1),
    ("parity-N", "restart", None): Rule(1, -1, None),
    ("parity-N", "continuation", None): Rule(1, -1, 1),
}


@dataclass(frozen=True)
class Layout:
    """The choice of a level and its qualifiers: everything about the strips but their size.

    members  in all spans together; the rest as in the lineup document
    """

    level: str
    members: int
    rotation: str | None = None
    data: str | None = None

    def pattern(self) -> Pattern:
        """The pattern of this layout. Raises GeometryError when there is no such layout."""
        return _pattern(self)


def layout(level: str, members: int, rotation: str | None = None, data: str | None = None) -> Layout:
    """A checked layout, defaults filled in from the level's row in `LEVELS`.

    Raises GeometryError: unknown level, too few members, unknown rotation or data order.
    """
    facts = level_named(level)
    if members < facts.least:
        raise GeometryError(
            what=f"{facts.name} needs at least {facts.least} drives, got {members}",
            to_do=f"name {facts.least - members} more, or choose a level that takes {members}",
        )
    for known in facts.rotations:
        if rotation in (None, known[0]) and data in (None, known[1]):
            return Layout(facts.name, members, known[0], known[1])
    allowed = ", ".join(f"{r} {d}" for r, d, _ in facts.rotations if r)
    raise GeometryError(
        what=f"{facts.name} has no layout {rotation} {data}", to_do=f"known: {allowed or 'none to choose'}"
    )


@lru_cache(maxsize=256)
def _pattern(chosen: Layout) -> Pattern:
    facts = level_named(chosen.level)
    if facts.parity:
        return _parity_pattern(chosen.members, PARITY_RULES[(chosen.rotation, chosen.data, None)])
    copies = chosen.members if facts.mirrored else 1
    return _copies_pattern([[member // copies for member in range(chosen.members)]])


def _parity_pattern(n: int, rule: Rule) -> Pattern:
    """n rows in which P visits every member once."""
    index = np.empty((n, n), np.int64)
    groups = []
    for row in range(n):
        p = (n - rule.start + rule.turn * row) % n
        if rule.data_after is None:
            places = [member for member in range(n) if member != p]
        else:
            places = [(p + rule.data_after + d) % n for d in range(n - 1)]
        index[row, p] = P_CELL
        index[row, places] = row * (n - 1) + np.arange(n - 1)
        cells = tuple((row, member) for member in (*places, p))
        groups.append(Group(cells, n - 1, ((1,) * n,)))
    return Pattern(n, n, index, tuple(groups))


def _copies_pattern(rows: list[list[int]]) -> Pattern:
    """Rows that state each cell's data strip outright; cells with the same number are copies."""
    index = np.array(rows, np.int64)
    groups = []
    for strip in range(int(index.max()) + 1):
        cells = tuple((int(row), int(member)) for row, member in np.argwhere(index == strip))
        checks = tuple(tuple(int(c in (0, copy)) for c in range(len(cells))) for copy in range(1, len(cells)))
        groups.append(Group(cells, 1, checks))
    return Pattern(len(rows), len(rows[0]), index, tuple(groups))
