"""Likelihood: how likely bytes are by the pairs they make, as blocks of the same array teach it.

Text and most records show themselves in neighbouring bytes, numbers of 16 or 32 bits in bytes that far apart; which of
these distances says most is found on blocks that taught nothing.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from ..reading.samples import Blocks

Floats = npt.NDArray[np.float64]

GAPS = (1, 2, 4)

ANYTHING = float(-np.log(256.0))
"""Nats of a byte that may be any."""

PRIOR_PAIRS, ANY_SHARE = 64, 0.1
"""How many pairs the bytes' own frequencies weigh as much as, and the share of bytes that may be anything."""


@dataclass(frozen=True, eq=False)
class Pairs:
    """What a byte is, after the one `gap` before it: `table` is log P(byte | that one), float (256, 256)."""

    gap: int
    table: Floats

    def each(self, block: Blocks) -> Floats:
        """Log-likelihood of every byte of uint8 (..., n), each after the one `gap` before it, or after a zero."""
        before = np.zeros_like(block)
        before[..., self.gap :] = block[..., : -self.gap]
        found: Floats = self.table[before, block]
        return found


def pairs_of(blocks: Blocks, gap: int) -> Pairs:
    """The pairs of bytes `gap` apart in uint8 (blocks, bytes), smoothed."""
    keys = blocks[:, :-gap].astype(np.int64) << 8 | blocks[:, gap:]
    counts = np.bincount(keys.reshape(-1), minlength=1 << 16).reshape(256, 256).astype(np.float64)
    single = (counts.sum(axis=0) + 1) / (counts.sum() + 256)
    known = counts.sum(axis=1, keepdims=True)
    likely = (counts + PRIOR_PAIRS * single) / (known + PRIOR_PAIRS)
    return Pairs(gap, np.log((1 - ANY_SHARE) * likely + ANY_SHARE / 256))


def best_pairs(teaching: Blocks, judging: Blocks, bytes_read: int) -> Pairs:
    """Of the distances, the one whose pairs explain other blocks best.

    bytes_read  of each block of `judging`
    """
    return max((pairs_of(teaching, gap) for gap in GAPS), key=lambda p: float(natural(judging, p, bytes_read).mean()))


def natural(blocks: Blocks, pairs: Pairs, bytes_read: int) -> Floats:
    """Mean nats over chance of the first bytes of each block, pairs of zeros neutral: parity, of which the blocks hold
    a part, has pairs of its own, but many more of them than data, and is judged by the data's."""
    left, right = blocks[:, : bytes_read - pairs.gap], blocks[:, pairs.gap : bytes_read]
    over = pairs.table[left, right] - ANYTHING
    result: Floats = (over * ((left != 0) | (right != 0))).mean(axis=1)
    return result


def accounts(
    likely: Pairs, held: Blocks, differs: npt.NDArray[np.uint8], parity: npt.NDArray[np.bool_], rare: float
) -> Floats:  # fmt: skip
    """How well the bytes of one place are explained if each member in turn is the one at fault: nats (members,).

    held     uint8 (members, bytes); differs: uint8 (bytes,), what they add up to
    parity   which members hold parity there: it may be anything
    rare     log of the share of data that is like nothing (compressed, or encrypted)

    If it is m that is out of date, the others hold what they should, and the log-likelihood of the row differs from
    that of any other answer by log P(computed m) - log P(held m) + log P(held m, out of date), over the bytes that do
    not add up; what is out of date is either like the rest or, at worst, anything.
    """
    here = differs != 0
    most = ANYTHING * int(here.sum())
    told = np.full(len(held), most)
    for row in range(len(held)):
        each = likely.each(held[row])
        now = float(each[here].sum())
        if parity[row]:
            told[row] = max(told[row], now)
        elif not noisy(each, here):  # bytes among noise are noise
            due = float(likely.each(held[row] ^ differs)[here].sum())
            told[row] = max(due, most + rare) - max(now, most + rare) + max(now, most)
    return told


SECTOR = 512


def noisy(each: Floats, differs: npt.NDArray[np.bool_]) -> bool:
    """Whether the rest of a block, beside the bytes that do not match, is like nothing."""
    around = ~differs
    return int(around.sum()) >= SECTOR and float(each[around].mean()) < ANYTHING
