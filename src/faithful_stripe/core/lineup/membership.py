"""Membership by linear algebra: which images add up to zero, block by block.

Over GF(2) the dependencies among the images' blocks at one offset are exactly the parity groups (mirrors
are dependencies of two). Each sampled block votes; a real group closes on most of the blocks in which it
holds data, a chance one on almost none.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace
from functools import reduce
from operator import xor

import numpy as np
import numpy.typing as npt

from .samples import Blocks, Pile

SAMPLES = 1500
LEAST_BLOCKS, LEAST_SHARE = 8, 0.4
"""A group must close on this many blocks, and on this share of those in which two members hold data."""


@dataclass(frozen=True)
class Membership:
    """One parity group or set of mirrors.

    images    indices into the pile, ascending
    mirrors   whether all are copies of one another
    closing   sampled blocks on which it closes, of `blocks` in which a member holds data (a parity group's blocks
              that are the same on all members are left out)
    open      blocks on which it does not, between the first and the last on which it does: before and
              after, members may carry what is not the array's
    """

    images: tuple[int, ...]
    mirrors: bool
    closing: int
    blocks: int
    open: int = 0


def sketch(blocks: Blocks) -> npt.NDArray[np.uint64]:
    """64 bytes of each block that keep every XOR relation: uint64 (n, 8) from uint8 (n, 4096).

    The 64 pieces of a block are rotated by their index and added; the map is linear over GF(2), so
    blocks that add up to zero have sketches that do, and others agree by chance once in 2^512.
    """
    words = blocks.view(np.uint64).reshape(len(blocks), 64, 8)
    turn = np.arange(64, dtype=np.uint64)[:, None]
    turned = words << turn | words >> (np.uint64(64) - turn) % np.uint64(64)
    turned[:, 0] = words[:, 0]
    result: npt.NDArray[np.uint64] = np.bitwise_xor.reduce(turned, axis=1)
    return result


def memberships(pile: Pile) -> list[Membership]:
    """The groups in a pile, disjoint, the best supported first."""
    table = _sketches(pile)
    if not table:
        return []
    counts: Counter[int] = Counter()
    for held in table:
        counts.update(_circuits(held))
    tested = [m for mask, _votes in counts.most_common(200) if (m := _test(mask, table))]
    taken: set[int] = set()
    found = []
    for candidate in sorted(_with_mirror_sets(tested), key=lambda m: (-m.closing / m.blocks, -m.closing)):
        if not taken & set(candidate.images):
            taken |= set(candidate.images)
            found.append(candidate)
    return found


def _sketches(pile: Pile) -> list[dict[int, int]]:
    """Per sampled block: image -> sketch as a number, for the images that hold something there."""
    table = []
    for offset in pile.places(SAMPLES).tolist():
        holders = pile.holding(offset)
        numbers = sketch(pile.column(offset, holders))
        held = {i: int.from_bytes(n.tobytes(), "little") for i, n in zip(holders, numbers, strict=True)}
        table.append({i: n for i, n in held.items() if n})
    return [held for held in table if held]


def _circuits(held: dict[int, int]) -> list[int]:
    """Dependencies among one block's sketches, as bit masks of images, by Gaussian elimination."""
    basis: dict[int, tuple[int, int]] = {}
    found = []
    for image, value in held.items():
        mask = 1 << image
        while value:
            top = value.bit_length()
            if top not in basis:
                basis[top] = (value, mask)
                break
            value, mask = value ^ basis[top][0], mask ^ basis[top][1]
        else:
            found.append(mask)
    return found


def _test(mask: int, table: list[dict[int, int]]) -> Membership | None:
    images = tuple(i for i in range(mask.bit_length()) if mask >> i & 1)
    closes = []
    for held in table:
        values = [held[i] for i in images if i in held]
        # the same on all of them says nothing of parity: a controller's metadata, or a pattern
        same = len(values) == len(images) > 2 and len(set(values)) == 1
        if values and not same:
            closes.append(reduce(xor, values) == 0)
    closing, blocks = sum(closes), len(closes)
    if closing < LEAST_BLOCKS or closing < LEAST_SHARE * blocks:
        return None
    inside = closes[closes.index(True) : len(closes) - closes[::-1].index(True)]
    return Membership(images, len(images) == 2, closing, blocks, inside.count(False))


def _with_mirror_sets(tested: list[Membership]) -> list[Membership]:
    """Pairs that share an image joined into one set of mirrors."""
    sets: list[Membership] = []
    for pair in (m for m in tested if m.mirrors):
        joined = pair
        for other in [s for s in sets if set(s.images) & set(joined.images)]:
            sets.remove(other)
            joined = replace(
                joined,
                images=tuple(sorted({*joined.images, *other.images})),
                closing=min(joined.closing, other.closing),
                blocks=max(joined.blocks, other.blocks),
                open=max(joined.open, other.open),
            )
        sets.append(joined)
    return [m for m in tested if not m.mirrors] + sets
