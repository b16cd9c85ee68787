"""Rings: images whose blocks stand again on another image, a fixed distance further on: the rows of an offset RAID 1E.

A row of that layout is followed by the same row moved right by one member, so every block of one member is found again
on its neighbour, one strip further. That gives the strip, and the members' order but for where it begins.
"""

from __future__ import annotations

from collections import Counter

import numpy as np
import numpy.typing as npt

from ..reading.samples import BLOCK, PIECE
from ..structures.ground import Stock
from .parity_groups import LEAST_CLOSING, Membership
from .sampled_places import SECTOR

MOST_REPEATS = 6
"""Blocks that stand in more places than this are patterns and say nothing."""

MOST_STRIP = 1 << 20

LEAST_FILLED = 8
"""Bytes of a sector that are not zero, at least."""


def rings(stock: Stock, among: set[int]) -> list[Membership]:
    """The rings, or parts of one, among some images of the pile."""
    found = _pairs(stock, among)
    counts = Counter({key: c for key, c in found.items() if key[2] > 0})
    steps: Counter[int] = Counter()
    for (_a, _b, step), count in counts.items():
        steps[step] += count
    if not steps:
        return []
    strip, total = steps.most_common(1)[0]
    if total < 2 * LEAST_CLOSING or total < 0.5 * steps.total() or strip % BLOCK or strip > MOST_STRIP:
        return []
    after: dict[int, int] = {}
    for (a, b, step), count in counts.most_common():
        if step == strip and count >= LEAST_CLOSING // 2 and a not in after and b not in after.values():
            after[a] = b
    paths = _paths(after)
    order = tuple(i for path in paths for i in path)
    if len(order) < 3:
        return []
    kind = "ring" if len(paths) == 1 and after.get(order[-1]) == order[0] else "open ring"
    return [Membership(tuple(sorted(order)), kind, total, steps.total(), (), order, strip)]


def _paths(after: dict[int, int]) -> list[list[int]]:
    """The pieces in which neighbours follow one another; a closed ring begins at its least image."""
    starts = [a for a in after if a not in after.values()] or [min(after)]
    found = []
    seen: set[int] = set()
    for start in sorted(starts):
        path, at = [], start
        while at not in seen:
            seen.add(at)
            path.append(at)
            if at not in after:
                break
            at = after[at]
        found.append(path)
    return sorted(found, key=len, reverse=True)


def _pairs(stock: Stock, among: set[int]) -> dict[tuple[int, int, int], int]:
    """How often a sector of one image stands on another, by (image, other image, distance in bytes): one sector of each
    block, which lies inside one strip wherever data start."""
    rng = np.random.default_rng(5)
    weights = rng.integers(1, 1 << 63, SECTOR // 8, dtype=np.uint64) | np.uint64(1)
    images, offsets, sums = [], [], []
    for piece in stock:
        if piece.image not in among:
            continue
        count = min(PIECE, len(piece.data)) // BLOCK
        sectors = np.ascontiguousarray(piece.data[: count * BLOCK].reshape(count, BLOCK)[:, :SECTOR])
        rows = np.flatnonzero((sectors != 0).sum(axis=1) > LEAST_FILLED)
        images.append(np.full(len(rows), piece.image))
        offsets.append(piece.offset + rows * BLOCK)
        sums.append((sectors[rows].view(np.uint64) * weights).sum(axis=1, dtype=np.uint64))
    if not sums:
        return {}
    return _matches(np.concatenate(images), np.concatenate(offsets), np.concatenate(sums))


def _matches(
    image: npt.NDArray[np.int64], offset: npt.NDArray[np.int64], total: npt.NDArray[np.uint64]
) -> dict[tuple[int, int, int], int]:
    order = np.argsort(total, kind="stable")
    image, offset, total = image[order], offset[order], total[order]
    _values, first, repeats = np.unique(total, return_index=True, return_counts=True)
    found: Counter[tuple[int, int, int]] = Counter()
    for start, count in zip(first[repeats > 1].tolist(), repeats[repeats > 1].tolist(), strict=True):
        if count > MOST_REPEATS:
            continue
        for i in range(start, start + count):
            for j in range(start, start + count):
                if image[i] != image[j] and offset[j] >= offset[i]:
                    found[int(image[i]), int(image[j]), int(offset[j] - offset[i])] += 1
    return found
