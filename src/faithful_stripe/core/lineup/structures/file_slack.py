"""Ends of files: what stands behind a file's last byte is zero up to the end of its block, and the block stands where
the metadata say. How far it is filled tells the file: few files of one file system end alike.

This binds plain contents of any kind, spread over all members, to addresses: where structures are few, it is what there
is most of.
"""

from __future__ import annotations

import numpy as np

from .ground import END, Ground, Stock

MOST_PHASES, LEAST_SHARE = 2, 0.25
"""Places of blocks on the images' own grid: how many are tried, and the share of structures that agree on one."""

LEAST_ENDS, TIMES_CHANCE, MOST_CHANCE = 3, 2.5, 0.12
"""Ends on one image: so many, and so many times what chance gives, or they count for nothing; and the chance of a block
to end like some file at which they do not, either."""

MOST_ALIKE = 4
"""Blocks of one image that are filled alike."""

CLEAR = 8
"""Zeros at the end of a block that ends a file, at least: a byte that is zero by chance is common."""


def search(stock: Stock, ground: Ground) -> None:
    """Blocks that end as a file of this ground does, and as no other one of it."""
    step = ground.filled
    if not ground.ends or not ground.found or not step:
        return
    origin, address = (np.concatenate([getattr(e, name) for e in ground.ends]) for name in ("image", "address"))
    address, inverse = np.unique(address, return_inverse=True)
    lowest, highest = (np.full(len(address), fill, np.int64) for fill in (1 << 40, -1))
    np.minimum.at(lowest, inverse, origin)
    np.maximum.at(highest, inverse, origin)
    start = (address - 1 - ground.grid) // step * step + ground.grid
    filled = address - start
    kinds, first, count = np.unique(filled, return_index=True, return_counts=True)
    alone = (count == 1) & (kinds <= step - CLEAR)
    of_filled = np.full(step + 1, -1, np.int64)
    of_filled[kinds[alone]] = first[alone]
    chance = float(alone.sum()) / step
    if chance > MOST_CHANCE:
        return
    bound = ground.bound()
    holder, place, _address = ground.arrays()
    for image in sorted({piece.image for piece in stock}):
        ends, at = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
        for phase in _phases(ground, step):
            known = (place[holder == image] - phase) // step * step + phase  # blocks with other structures
            for piece in stock.of(image):
                offsets, blocks = piece.grid(phase, step)
                short = np.flatnonzero(~blocks[:, -CLEAR:].any(axis=1) & ~np.isin(offsets, known))
                ends.append(step - np.argmax(blocks[short, ::-1] != 0, axis=1))
                at.append(offsets[short])
        end, offset = np.concatenate(ends), np.concatenate(at)
        _kinds, inverse, count = np.unique(end, return_inverse=True, return_counts=True)
        few = count[inverse] <= MOST_ALIKE  # what is filled alike again and again is a format of its own
        file = of_filled[end]
        own = (lowest[file] == image) & (highest[file] == image) & (image not in bound)
        good = (file >= 0) & few & ~own  # what a stranger says of itself is no member's
        if good.sum() >= max(LEAST_ENDS, TIMES_CHANCE * chance * (count <= MOST_ALIKE).sum()):
            ground.add(END, image, offset[good], start[file[good]])


def _phases(ground: Ground, step: int) -> list[int]:
    """How far past a multiple of their size the images' blocks begin, as the other structures show: strips are whole
    blocks, so that it is one number for all members whose data start alike."""
    _image, offset, address = ground.arrays()
    values, counts = np.unique((offset - address + ground.grid) % step, return_counts=True)
    ranked = np.argsort(-counts, kind="stable")[:MOST_PHASES]
    return [int(values[i]) for i in ranked if counts[i] >= LEAST_SHARE * counts.sum()]
