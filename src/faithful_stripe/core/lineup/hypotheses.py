"""Hypotheses: for every strip, rotation and start the anchors vote image against position; the best
assignment is the order. No permutation is ever tried one by one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.optimize import linear_sum_assignment

from ..arrays.geometry import STRIP_LEAST, STRIP_MOST, Geometry, geometry
from ..arrays.layout import P_CELL
from ..arrays.levels import LEVELS
from .anchors import Anchors
from .samples import BLOCK, Pile

Floats = npt.NDArray[np.float64]

ZERO_WEIGHT = 2.0
"""Nats against a position that would put parity into an empty cell of a row that is not empty."""


@dataclass(frozen=True)
class Hypothesis:
    """A lineup that might be: `order` holds image indices by position, None for a missing member.

    base   where the file system starts in the volume, in bytes
    start  where data start on the members, in bytes
    score  evidence for it in nats: one term per (image, row) in which anchors stand where it says
    runner_up  the score of the best other order under the same geometry
    """

    level: str
    strip: int
    rotation: str | None
    data: str | None
    start: int
    base: int
    order: tuple[int | None, ...]
    score: float
    runner_up: float
    cells: int

    def geometry(self, member_bytes: int) -> Geometry:
        return geometry(
            self.level, len(self.order), self.strip, member_bytes=member_bytes, start_bytes=self.start,
            rotation=self.rotation, data=self.data,
        )  # fmt: skip


@dataclass(frozen=True)
class EmptyCells:
    """Where images are empty: bool (images, blocks), over the blocks in which any of them is not.

    block  int64 (blocks,): block number on the members
    """

    images: tuple[int, ...]
    block: npt.NDArray[np.int64]
    empty: npt.NDArray[np.bool_]


def strips() -> list[int]:
    """The strip sizes that are tried."""
    return [1 << p for p in range(STRIP_LEAST.bit_length() - 1, STRIP_MOST.bit_length())]


def empty_cells(pile: Pile, images: Sequence[int], budget: int = 64 << 20) -> EmptyCells:
    """Read where each image of a group holds only zeros."""
    filled: list[set[int]] = []
    for image in images:
        rows: set[int] = set()
        for offsets, _blocks in pile.scan(image, budget // len(images)):
            rows.update((offsets // BLOCK).tolist())
        filled.append(rows)
    every = np.array(sorted(set().union(*filled)), np.int64)
    empty = np.array([[b not in rows for b in every.tolist()] for rows in filled], bool).reshape(len(images), -1)
    return EmptyCells(tuple(images), every, empty)


def hypotheses(
    level: str, images: Sequence[int], missing: int, anchors: Anchors, bases: Sequence[int], cells: EmptyCells | None
) -> Iterator[Hypothesis]:
    """Every geometry of a level over these images (and so many missing), each with its best order.

    anchors  of one file system; those in other images are left out
    bases    where that file system may start in the volume
    cells    empty cells of the images, for parity levels
    """
    n = len(images) + missing
    column = np.full(max(images) + 1, -1, np.int64)
    column[list(images)] = np.arange(len(images))
    inside = np.isin(anchors.image, images)
    who, offset, address = column[anchors.image[inside]], anchors.offset[inside], anchors.address[inside]
    if n < LEVELS[level].least or not len(who):
        return
    reach = int(max(offset.max(), address.max())) + 2 * STRIP_MOST * n
    for rotation, data, _q in LEVELS[level].layouts:
        for strip in strips():
            made = geometry(level, n, strip, member_bytes=reach, rotation=rotation, data=data)
            for base in bases:
                position, where = made.to_member(address + base)
                for start in _starts(offset - where):
                    hits = where + start == offset
                    if not hits.any():
                        continue
                    row = (offset[hits] - start) // strip
                    votes, counted = _votes(who[hits], position[hits], row, len(images), n)
                    if cells is not None:
                        votes -= ZERO_WEIGHT * _conflicts(made, cells, start)
                    order, score, runner_up = _assign(votes)
                    named = tuple(None if i is None else images[i] for i in order)
                    yield Hypothesis(
                        level, strip, made.layout.rotation, made.layout.data, start, base, named,
                        score, runner_up, counted,
                    )  # fmt: skip


def _starts(shifts: npt.NDArray[np.int64]) -> list[int]:
    """Where data may start: at 0, and at the shift that most anchors agree on."""
    sound = shifts[(shifts > 0) & (shifts % 512 == 0)]
    if not len(sound):
        return [0]
    values, counts = np.unique(sound, return_counts=True)
    most = int(values[np.argmax(counts)])
    return [0, most] if counts.max() > len(shifts) / 2 else [0]


def _votes(
    who: npt.NDArray[np.int64], position: npt.NDArray[np.int64], row: npt.NDArray[np.int64], images: int, n: int
) -> tuple[Floats, int]:
    """(images, n) nats: for each row in which anchors of an image stand at that position, 1 + ln(count).

    Many anchors in one strip are hardly more than one fact; many strips are many.
    """
    span = int(row.max()) + 1
    keys, counts = np.unique((who * n + position) * span + row, return_counts=True)
    votes = np.zeros(images * n)
    np.add.at(votes, keys // span, (1 + np.log(counts)) * np.log(max(n, 2)))
    return votes.reshape(images, n), len(keys)


def _conflicts(made: Geometry, cells: EmptyCells, start: int) -> Floats:
    """(images, n): rows in which the image's strip is empty, the row is not, and the position would hold P."""
    strip_blocks = made.strip_bytes // BLOCK
    inside = cells.block >= start // BLOCK
    row = (cells.block[inside] - start // BLOCK) // strip_blocks
    rows, first = np.unique(row, return_index=True)
    if not len(rows):
        return np.zeros((len(cells.images), made.members))
    empty = np.logical_and.reduceat(cells.empty[:, inside], first, axis=1)
    parity = made.pattern.index[rows % made.pattern.rows] == P_CELL
    conflicts: Floats = empty.astype(float) @ parity.astype(float)
    return conflicts


def _assign(votes: Floats) -> tuple[list[int | None], float, float]:
    """The best assignment of images to positions, its score, and the score of the best other one."""
    n = votes.shape[1]
    row, column = linear_sum_assignment(votes, maximize=True)
    score = float(votes[row, column].sum())
    order: list[int | None] = [None] * n
    for i, p in zip(row.tolist(), column.tolist(), strict=True):
        order[p] = i
    others = [-np.inf]
    if n > 1:
        for i, p in zip(row.tolist(), column.tolist(), strict=True):
            barred = votes.copy()
            barred[i, p] = -1e9
            again = linear_sum_assignment(barred, maximize=True)
            others.append(float(barred[again].sum()))
    return order, score, max(others)


def same_answer(a: Hypothesis, b: Hypothesis) -> bool:
    """Whether two hypotheses put every volume byte in the same place."""
    if (a.level, len(a.order), a.start) != (b.level, len(b.order), b.start):
        return False
    if a.level != "RAID1" and a.strip != b.strip:
        return False
    cells = []
    for h in (a, b):
        index = h.geometry(h.strip * 64).pattern.index
        cells.append({image: index[:, p].tolist() for p, image in enumerate(h.order)})
    return cells[0] == cells[1]


def rank(found: list[Hypothesis]) -> tuple[Hypothesis, Hypothesis | None, float]:
    """The best hypothesis, the best different one, and the score of the best different answer of all.

    The last is also taken over other orders under the best geometry.
    """
    ordered = sorted(found, key=lambda h: -h.score)
    best = ordered[0]
    other = next((h for h in ordered[1:] if not same_answer(best, h)), None)
    return best, other, max(best.runner_up, other.score if other else -np.inf)


def swapped(best: Hypothesis) -> Hypothesis | None:
    """The best hypothesis with two members exchanged: what a proof must be able to refuse."""
    known = [p for p, image in enumerate(best.order) if image is not None]
    if len(known) < 2:
        return None
    order = list(best.order)
    order[known[0]], order[known[1]] = order[known[1]], order[known[0]]
    return replace(best, order=tuple(order))
