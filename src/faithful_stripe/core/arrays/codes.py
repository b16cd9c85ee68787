"""Check equations and their solution: which cells of a group follow from which others.

Every redundancy of every level is a group of cells (strips that belong together) with linear check
equations over GF(2^8): a mirror of two is `a + b = 0`, P is `d0 + d1 + ... + P = 0`, Q is
`g^e0 d0 + g^e1 d1 + ... + Q = 0`. Reading a lost strip, computing parity on a write, rebuilding a member
and checking consistency are all one question to these equations; no level has code of its own.
"""

from __future__ import annotations

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
