"""Junctions: the evidence of continuity about a layout, strip and start, as tables in which any order is looked up.

For sampled rows, the end of every column's strip is compared with the start of every column's strip in the same row
and in the next. A hypothesis makes some of these junctions and cuts others; what it gains by that over images that
were never cut is its evidence, so that halves and multiples of the strip lose by themselves.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from ...arrays.layout import Layout
from ..evidence.seam_model import SIDE, Continuity
from ..reading.samples import BLOCK, Blocks

Floats = npt.NDArray[np.float64]
Read = Callable[[int, int], Blocks]
"""(offset, length) -> uint8 (columns, length)."""

SAMPLED_ROWS = 48

JUNCTION_WEIGHT = 0.5
"""Junctions of one row are not quite independent: files end, and the model errs alike on all of them."""

COUNTED = 96
"""A mean gain is multiplied by this many borders, however many there are: sums would reward small strips."""


@dataclass(frozen=True, eq=False)
class Tables:
    """Continuity at sampled borders of one strip size and start.

    rows      int64 (n,): the rows
    same      float (n, columns, columns): a column's end in the row to a column's start in the same row
    onward    likewise to a column's start in the next row; the diagonal is what the images themselves do there
    natural   float (n, columns): how natural a column's bytes look in the row
    """

    rows: npt.NDArray[np.int64]
    same: Floats
    onward: Floats
    natural: Floats


def tables(model: Continuity, read: Read, strip: int, start: int, rows: Sequence[int]) -> Tables:
    """Compare the columns at the borders of these rows. Reads two stretches of 2 x SIDE bytes per row and column."""
    same, onward, natural, used = [], [], [], []
    for row in rows:
        first = read(start + row * strip, max(SIDE, BLOCK if strip >= BLOCK else SIDE))
        border = read(start + (row + 1) * strip - SIDE, 2 * SIDE)
        heads, ends = model.side(first[:, :SIDE], True), model.side(border[:, :SIDE], False)
        following = model.side(border[:, SIDE:], True)
        same.append(model.score(ends, heads))
        onward.append(model.score(ends, following))
        natural.append(model.natural(first))
        used.append(row)
    n = len(natural[0]) if natural else 0
    empty = np.zeros((0, n, n))
    return Tables(
        np.array(used, np.int64), np.array(same) if same else empty, np.array(onward) if onward else empty,
        np.array(natural) if natural else np.zeros((0, n)),
    )  # fmt: skip


def steps(chosen: Layout) -> list[list[tuple[int, int, bool]]]:
    """Per row of the period: (position, next position, whether in the next row) for strips that follow one another
    in the volume, where that is in the same row or the next."""
    pattern = chosen.pattern()
    places = pattern.places
    found: list[list[tuple[int, int, bool]]] = [[] for _ in range(pattern.rows)]
    for strip in range(pattern.strips):
        onward = (strip + 1) % pattern.strips
        wrap = pattern.rows if onward == 0 else 0
        for copy in range(places.shape[0]):
            row, position = places[copy, strip].tolist()
            for other in range(places.shape[0]):
                next_row, next_position = places[other, onward].tolist()
                if next_row + wrap in (row, row + 1):
                    found[row].append((position, next_position, next_row + wrap == row + 1))
                    break
    return found


class Scorer:
    """Scores orders under one layout from the tables: what any two columns gain on two positions is summed once."""

    def __init__(self, chosen: Layout, made: Tables) -> None:
        self.positions = chosen.members
        pattern = chosen.pattern()
        self.columns = made.natural.shape[1]
        follow = steps(chosen)
        per = self.columns + 1  # the last stands for a missing column
        sums = np.zeros((2 * pattern.rows, per, per))
        terms: list[tuple[int, int, int]] = []
        junctions = 0
        for phase in range(pattern.rows):
            rows = made.rows % pattern.rows == phase
            if not rows.any():
                continue
            junctions += int(rows.sum()) * len(follow[phase])
            sums[2 * phase, :-1, :-1] = made.same[rows].sum(axis=0)
            sums[2 * phase + 1, :-1, :-1] = made.onward[rows].sum(axis=0)
            terms += [(2 * phase + onward, a, b) for a, b, onward in follow[phase]]
        met = np.array(sorted(terms, key=lambda t: t[1:]), np.int64).reshape(-1, 3)
        pair, begins = np.unique(met[:, 1] * self.positions + met[:, 2], return_index=True)
        self._from, self._to = np.divmod(pair, self.positions)
        self._pair = np.arange(len(pair))
        self._gains = np.add.reduceat(sums[met[:, 0]], begins, axis=0) if len(pair) else np.zeros((0, per, per))
        self.junctions = junctions
        cuts = np.einsum("rii->ri", made.onward)
        self._cut = float(cuts.mean()) if cuts.size else 0.0
        self._scale = JUNCTION_WEIGHT * min(COUNTED, junctions) / max(1, junctions)

    def __call__(self, orders: npt.NDArray[np.int64]) -> Floats:
        """Nats that orders gain over images that were never cut: from (n, positions) of columns, the number of
        columns standing for a missing one, to (n,)."""
        made = self._gains[self._pair, orders[:, self._from], orders[:, self._to]].sum(axis=1)
        gain: Floats = self._scale * (made - self._cut * self.junctions)
        return gain


def chained(made: Tables) -> tuple[int, ...]:
    """The columns one after another, as strips in a row go on best: the likeliest pair of neighbours first, then each
    next one that fits. Wherever parity stands, neighbours stay neighbours; from here it is not far to the best order,
    from any other it may be too far for steps that each gain something."""
    count = made.natural.shape[1]
    gain = made.same.sum(axis=0)
    after: dict[int, int] = {}
    run = np.arange(count)
    for a, b in (divmod(pair, count) for pair in np.argsort(-gain, axis=None, kind="stable").tolist()):
        if a not in after and b not in after.values() and run[a] != run[b]:
            after[a] = b
            run[run == run[b]] = run[a]
    order = [next(c for c in range(count) if c not in after.values())] if count else []
    while len(order) < count:
        order.append(after[order[-1]])
    return tuple(order)


def round_nats(chosen: Layout, made: Tables, order: Sequence[int | None]) -> float:
    """Nats that the strip after a row's last is the next row's first, over that others, of members that are not there,
    stand between them.

    order  columns by position, None for a missing one

    What follows at once is as like as strips that do so in a row, else as those that are one apart in it: the
    likelihood ratio of two normal distributions of one spread.
    """
    near, far, turns = list[float](), list[float](), list[float]()
    follow = steps(chosen)
    for row, same, onward in zip(made.rows.tolist(), made.same, made.onward, strict=True):
        next_of = dict[int, int]()
        for position, following, later in follow[row % len(follow)]:
            a, b = order[position], order[following]
            if a is None or b is None:
                continue
            if later:
                turns.append(float(onward[a, b]))
            else:
                next_of[a] = b
        near += [float(same[a, b]) for a, b in next_of.items()]
        far += [float(same[a, next_of[b]]) for a, b in next_of.items() if b in next_of]
    near, far, turns = ([gain for gain in some if gain] for some in (near, far, turns))  # zeros say nothing
    if min(len(near), len(far)) < LEAST_COMPARED or not turns:
        return 0.0
    here, there = float(np.mean(near)), float(np.mean(far))
    if here - there < LEAST_APART:
        return 0.0
    spread = float(np.var(near) + np.var(far)) / 2 + LEAST_SPREAD
    middle = (here + there) / 2
    return JUNCTION_WEIGHT * sum((gain - middle) * (here - there) / spread for gain in turns)


LEAST_COMPARED, LEAST_APART, LEAST_SPREAD = 16, 0.5, 0.25
"""Borders of each kind that must be there to tell them from one another; nats by which those that follow at once must
be more alike; and the least that the nats of one kind are taken to vary by (nats squared)."""


def parity_votes(chosen: Layout, made: Tables) -> Floats:
    """(columns, positions) nats: where a column looks less natural than its row, parity may stand."""
    pattern = chosen.pattern()
    votes = np.zeros((made.natural.shape[1], chosen.members))
    if not (pattern.index < 0).any() or not len(made.rows):
        return votes
    below = made.natural.mean(axis=1, keepdims=True) - made.natural
    spread = below.std() + 1e-6
    weight = np.clip(below / spread, -2, 2)
    parity = (pattern.index[made.rows % pattern.rows] < 0).astype(float)
    found: Floats = weight.T @ parity * 0.5
    return found


Worth = Callable[[npt.NDArray[np.int64]], Floats]


def improve(
    order: Sequence[int], worth: Worth, spans: int = 1, rounds: int = 30
) -> tuple[tuple[int, ...], float, float]:
    """Climb from an order by exchanging two, moving a run, turning all round, and exchanging whole spans.

    Returns the order, its worth, and the worth of the best other one next to it.
    """
    best = np.array(order, np.int64)
    value = float(worth(best[None])[0])
    second = -np.inf
    for _ in range(rounds):
        near = best[_moves(len(order), spans)]
        near = near[(near != best).any(axis=1)]  # two missing ones exchanged are the same order
        if not len(near):
            break
        scores = worth(near)
        top = int(np.argmax(scores))
        second = float(scores[top])
        if second <= value + 1e-9:
            break
        best, value = near[top], second
    return tuple(best.tolist()), value, second


@lru_cache(maxsize=64)
def _moves(n: int, spans: int) -> npt.NDArray[np.int64]:
    """Permutations of positions, one step each: (moves, n)."""
    start = list(range(n))
    found = []
    for a in range(n):
        for b in range(a + 1, n):
            other = start.copy()
            other[a], other[b] = other[b], other[a]
            found.append(other)
    for turn in range(1, n):
        found.append(start[turn:] + start[:turn])
    for length in (1, 2, 3, 5) if n > 8 else (1, 2, 3):
        for a in range(n - length + 1):
            rest = start[:a] + start[a + length :]
            found += [rest[:b] + start[a : a + length] + rest[b:] for b in range(len(rest) + 1) if b != a]
    k = n // spans
    for s in range(spans if spans > 1 else 0):
        for t in range(s + 1, spans):
            other = start.copy()
            other[s * k : s * k + k], other[t * k : t * k + k] = start[t * k : t * k + k], start[s * k : s * k + k]
            found.append(other)
        for turn in range(1, k):
            inner = start[s * k : s * k + k]
            found.append(start[: s * k] + inner[turn:] + inner[:turn] + start[s * k + k :])
    return np.unique(np.array(found, np.int64), axis=0)
