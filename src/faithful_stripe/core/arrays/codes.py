"""Check equations and their solution: which cells of a group follow from which others.

Every redundancy of every level is a group of cells (strips that belong together) with linear check
equations over GF(2^8): a mirror of two is `a + b = 0`, P is `d0 + d1 + ... + P = 0`, Q is
`g^e0 d0 + g^e1 d1 + ... + Q = 0`. Reading a lost strip, computing parity on a write, rebuilding a member
and checking consistency are all one question to these equations; no level has code of its own.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from . import gf256

Checks = tuple[tuple[int, ...], ...]
"""Check equations: one row of coefficients (0..255) per equation, one column per cell of the group."""

Recipe = tuple[tuple[int, int], ...]
"""A cell as a sum over others: (cell, coefficient) pairs, coefficients never 0."""


@lru_cache(maxsize=4096)
def solve(checks: Checks, erased: frozenset[int]) -> dict[int, Recipe]:
    """Recipes over the cells that are left, for every erased cell that still follows from them.

    checks  the group's equations
    erased  indices of the cells that cannot be read
    result  erased cell -> recipe; a cell missing from the result is lost

    Gauss-Jordan elimination over the erased columns, equations taken in the order given, so that P
    answers before Q is touched and a mirror before the third copy.

    >>> solve(((1, 1, 1),), frozenset({1}))
    {1: ((0, 1), (2, 1))}
    """
    rows = [list(row) for row in checks]
    pivots: dict[int, int] = {}
    for column in sorted(erased):
        used = set(pivots.values())
        pivot = next((r for r in range(len(rows)) if r not in used and rows[r][column]), None)
        if pivot is None:
            continue
        scale = gf256.inverse(rows[pivot][column])
        rows[pivot] = [gf256.multiply(scale, value) for value in rows[pivot]]
        for r, row in enumerate(rows):
            if r != pivot and row[column]:
                factor = row[column]
                rows[r] = [a ^ gf256.multiply(factor, b) for a, b in zip(row, rows[pivot], strict=True)]
        pivots[column] = pivot
    recipes: dict[int, Recipe] = {}
    for column, r in pivots.items():
        others = [(cell, value) for cell, value in enumerate(rows[r]) if value and cell != column]
        if not any(cell in erased for cell, _ in others):
            recipes[column] = tuple(others)
    return recipes


@lru_cache(maxsize=4096)
def remaining(checks: Checks, erased: frozenset[int]) -> Checks:
    """The equations that still say something when some cells cannot be read: sums in which none of them takes part.

    >>> remaining(((1, 1, 1, 0), (1, 2, 0, 1)), frozenset({0}))
    ((0, 3, 1, 1),)
    """
    rows = [list(row) for row in checks]
    for column in sorted(erased):
        pivot = next((row for row in rows if row[column]), None)
        if pivot is None:
            continue
        rows.remove(pivot)
        scale = gf256.inverse(pivot[column])
        for row in rows:
            if row[column]:
                factor = gf256.multiply(row[column], scale)
                row[:] = [a ^ gf256.multiply(factor, b) for a, b in zip(row, pivot, strict=True)]
    return tuple(tuple(row) for row in rows if any(row))


@dataclass(frozen=True)
class Stages:
    """A reconstruction in two steps: syndromes over the cells that are left, then lost cells over syndromes.

    cells      the cells that are read, ascending
    syndromes  per equation used, coefficients over `cells`: the equation's own, cheap ones (1 for P, powers of g for Q)
    finish     per wanted cell, coefficients over the syndromes and then over the cells finished before it
               (once one of two lost data strips is known, the other is P's syndrome plus that one)

    With two lost data strips this costs half of what two full recipes with dense coefficients would.
    """

    cells: tuple[int, ...]
    syndromes: tuple[tuple[int, ...], ...]
    finish: tuple[tuple[int, ...], ...]


@lru_cache(maxsize=4096)
def stages(checks: Checks, erased: frozenset[int], wanted: tuple[int, ...]) -> Stages | None:
    """How the wanted cells follow from those that are not erased; None when one of them does not.

    >>> stages(((1, 1, 1),), frozenset({1}), (1,))
    Stages(cells=(0, 2), syndromes=((1, 1),), finish=((1, 0),))
    """
    # the same elimination as `solve`, with the equations themselves carried along as unknowns on the right
    count = len(checks)
    tagged = tuple((*row, *(int(i == r) for i in range(count))) for r, row in enumerate(checks))
    width = len(checks[0]) if checks else 0
    recipes = solve(tagged, erased)
    finish: list[list[int]] = []
    for at, cell in enumerate(wanted):
        if cell not in recipes:
            return None
        tags = dict(recipes[cell])
        dense = [tags.get(width + r, 0) for r in range(count)] + [0] * len(wanted)
        finish.append(min([dense, *_from_before(checks, erased, wanted[:at], cell, len(wanted))], key=_work))
    used = [r for r in range(count) if any(row[r] for row in finish)]
    cells = tuple(c for c in range(width) if c not in erased and any(checks[r][c] for r in used))
    return Stages(
        cells,
        tuple(tuple(checks[r][c] for c in cells) for r in used),
        tuple((*(row[r] for r in used), *row[count:]) for row in finish),
    )


def _from_before(
    checks: Checks, erased: frozenset[int], before: tuple[int, ...], cell: int, wanted: int
) -> list[list[int]]:
    """Single equations that give `cell` from its syndrome and cells finished before, as finish rows."""
    found = []
    for r, check in enumerate(checks):
        if check[cell] and all(not check[c] or c in before for c in erased - {cell}):
            scale = gf256.inverse(check[cell])
            others = [gf256.multiply(scale, check[c]) for c in before]
            row = [scale if i == r else 0 for i in range(len(checks))]
            found.append(row + others + [0] * (wanted - len(others)))
    return found


def _work(row: list[int]) -> int:
    """Doublings and additions that a row of coefficients takes, a doubling counting as four additions."""
    return 4 * max(0, max(row).bit_length() - 1) + sum(k.bit_count() for k in row)
