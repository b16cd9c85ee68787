"""Rings: images whose blocks stand again on another image, a fixed distance further on: the rows of an offset RAID 1E.

A row of that layout is followed by the same row moved right by one member, so every block of one member in every other
row is found again on its neighbour, one strip further; and none of the rows between. That gives the strip, and the
members' order but for where it begins. What a file system keeps twice is found again at some distance as well, but not
every block, nor in every other row.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from ...arrays.geometry import STRIP_MOST
from ..reading.samples import BLOCK, PIECE
from ..structures.ground import Stock
from .membership import LEAST_CLOSING, Membership
from .sampled_places import SECTOR, noise_values

MOST_REPEATS = 6
"""Blocks that stand in more places than this are patterns and say nothing."""

AGAIN_SHARE, TURN_SHARE = 0.5, 0.9
"""Of the blocks in every other row, those that are found again: others were never written, or are out of date. And of
all that are found again, those in such rows."""

LEAST_FILLED = 8
"""Bytes of a sector that are not zero, at least."""

LEAST_ROWS = 3
"""Rows of which something stands again: two may be a stretch that was copied."""


def rings(stock: Stock, among: set[int]) -> list[Membership]:
    """The rings, or parts of one, among some images of the pile."""
    blocks = _blocks(stock, among)
    counts = Counter({key: c for key, c in _matches(blocks).items() if key[2] > 0}) if blocks else Counter()
    steps: Counter[int] = Counter()
    for (_a, _b, step), count in counts.items():
        steps[step] += count
    strip, total = steps.most_common(1)[0] if steps else (0, 0)
    if total < 2 * LEAST_CLOSING or strip % BLOCK or strip > STRIP_MOST:
        return []
    after: dict[int, int] = {}
    for (a, b, step), count in counts.most_common():
        if step == strip and count >= LEAST_CLOSING // 2 and a not in after and b not in after.values():
            after[a] = b
    paths = _paths(after) if after else []
    order = tuple(i for path in paths for i in path)
    if len(order) < 3:
        return []
    again, told = _in_turns(blocks, after, strip)
    if not told or again < AGAIN_SHARE * told:
        return []
    kind = "ring" if len(paths) == 1 and after.get(order[-1]) == order[0] else "open ring"
    return [Membership(tuple(sorted(order)), kind, again, told, (), order, strip)]


def _in_turns(blocks: dict[int, Blocks], after: dict[int, int], strip: int) -> tuple[int, int]:
    """How many blocks in every other row stand again on the next image, of all there whose place there was read;
    (0, 0) where more than a few of those that do stand in the rows between. Rows that hold noise alone, none of which
    stands again, were never written, and say nothing."""
    where, found, noise = [], [], []
    for image, onward in after.items():
        mine, theirs = blocks[image], blocks[onward]
        at = np.minimum(np.searchsorted(theirs.offset, mine.offset + strip), len(theirs.offset) - 1)
        read = (theirs.offset[at] == mine.offset + strip) & mine.filled
        where.append(mine.offset[read])
        found.append((mine.total[read] == theirs.total[at[read]]) & theirs.filled[at[read]])
        noise.append(mine.noise[read])
    offset = np.concatenate(where)
    turn = offset % (2 * strip) // BLOCK
    again, row = np.concatenate(found), strip // BLOCK
    counts = np.bincount(turn[again], minlength=2 * row)
    sums = np.concatenate([[0], np.cumsum(np.tile(counts, 2))])
    first = int((sums[row : 3 * row] - sums[: 2 * row]).argmax())  # data start anywhere within two rows
    inside = (turn - first) % (2 * row) < row
    if (again & inside).sum() < TURN_SHARE * again.sum():
        return 0, 0
    _rows, number = np.unique((offset // BLOCK - first) // (2 * row), return_inverse=True)
    holding = np.bincount(number[inside & again], minlength=len(_rows)) > 0
    written = np.bincount(number[inside & ~np.concatenate(noise)], minlength=len(_rows)) > 0
    told = inside & (holding | written)[number]
    return (int((again & inside).sum()), int(told.sum())) if holding.sum() >= LEAST_ROWS else (0, 0)


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


@dataclass(frozen=True)
class Blocks:
    """Blocks of an image that were read: where, ascending, bytes; the sum of one sector of each, which lies inside one
    strip wherever data start; whether that is filled, and with no pattern, and whether it is noise. Arrays of one
    length."""

    offset: npt.NDArray[np.int64]
    total: npt.NDArray[np.uint64]
    filled: npt.NDArray[np.bool_]
    noise: npt.NDArray[np.bool_]


_WEIGHTS = np.random.default_rng(5).integers(1, 1 << 63, SECTOR // 8, dtype=np.uint64) | np.uint64(1)


def sector_sums(sectors: npt.NDArray[np.uint8]) -> npt.NDArray[np.uint64]:
    """A sum of each sector, uint8 (n, 512), by which equal ones are known: uint64 (n,)."""
    return np.asarray((np.ascontiguousarray(sectors).view(np.uint64) * _WEIGHTS).sum(axis=1, dtype=np.uint64))


def _blocks(stock: Stock, among: set[int]) -> dict[int, Blocks]:
    parts: dict[int, list[Blocks]] = {}
    for piece in stock:
        if piece.image not in among:
            continue
        count = min(PIECE, len(piece.data)) // BLOCK
        sectors = np.ascontiguousarray(piece.data[: count * BLOCK].reshape(count, BLOCK)[:, :SECTOR])
        sums = sector_sums(sectors)
        filled = (sectors != 0).sum(axis=1) > LEAST_FILLED
        noise = (np.diff(np.sort(sectors, axis=1), axis=1) != 0).sum(axis=1) + 1 >= noise_values(SECTOR)
        parts.setdefault(piece.image, []).append(Blocks(piece.offset + np.arange(count) * BLOCK, sums, filled, noise))
    found = {}
    for image, some in parts.items():
        offset, first = np.unique(np.concatenate([one.offset for one in some]), return_index=True)
        kept = zip(*((s.total, s.filled, s.noise) for s in some), strict=True)
        found[image] = Blocks(offset, *(np.concatenate(part)[first] for part in kept))
    if not found:
        return found
    values, repeats = np.unique(np.concatenate([b.total[b.filled] for b in found.values()]), return_counts=True)
    patterns = values[repeats > MOST_REPEATS]
    return {i: replace(b, filled=b.filled & ~np.isin(b.total, patterns)) for i, b in found.items()}


def _matches(blocks: dict[int, Blocks]) -> Counter[tuple[int, int, int]]:
    """How often a filled block of one image stands on another, by (image, other image, distance in bytes)."""
    image = np.concatenate([np.full(int(b.filled.sum()), i) for i, b in blocks.items()])
    offset = np.concatenate([b.offset[b.filled] for b in blocks.values()])
    total = np.concatenate([b.total[b.filled] for b in blocks.values()])
    order = np.argsort(total, kind="stable")
    image, offset, total = image[order], offset[order], total[order]
    _values, first, repeats = np.unique(total, return_index=True, return_counts=True)
    found: Counter[tuple[int, int, int]] = Counter()
    for start, count in zip(first[repeats > 1].tolist(), repeats[repeats > 1].tolist(), strict=True):
        for i in range(start, start + count):
            for j in range(start, start + count):
                if image[i] != image[j] and offset[j] >= offset[i]:
                    found[int(image[i]), int(image[j]), int(offset[j] - offset[i])] += 1
    return found
