"""The kernel over whole strips: sums of strips with coefficients in GF(2^8), cache-blocked, in NumPy.

One function serves P, Q and every reconstruction. A sum c0*s0 + c1*s1 + ... is evaluated bit by bit of
the coefficients, highest first: double the accumulator in the field, then add (XOR) the strips whose
coefficient has that bit. For P all coefficients are 1 and nothing is ever doubled; for Q of up to eight
data strips each strip is added once (Horner's rule, as in H. P. Anvin, "The mathematics of RAID-6").
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

Bytes2D = npt.NDArray[np.uint8]

BLOCK_BYTES = 32 * 1024
"""Bytes of one strip handled at a time: accumulator, scratch and one operand stay in the first-level caches."""

_HIGH = np.uint64(0x8080808080808080)
_LOW7 = np.uint64(0x7F7F7F7F7F7F7F7F)
_REDUCE = np.uint64(0x1D)
_ONE, _SEVEN = np.uint64(1), np.uint64(7)


def combine(out: Bytes2D, strips: Sequence[Bytes2D], coefficients: Sequence[int]) -> None:
    """Store the sum of `coefficients[i] * strips[i]` over GF(2^8) in `out`.

    out, strips   uint8, shape (rows, bytes), the last axis contiguous; `out` may not overlap a strip
    coefficients  1..255, one per strip

    No strips give zeros. Rows of a multiple of 8 bytes are handled as 64-bit words.

    >>> out = np.empty((1, 2), np.uint8)
    >>> combine(out, [np.array([[1, 2]], np.uint8), np.array([[4, 2]], np.uint8)], [1, 1]); out
    array([[5, 0]], dtype=uint8)
    """
    if not strips:
        out[...] = 0
        return
    words = all(_word_aligned(a) for a in (out, *strips))
    kind: Any = np.uint64 if words else np.uint8
    target = out.view(kind)
    sources = [strip.view(kind) for strip in strips]
    step = BLOCK_BYTES // target.itemsize
    scratch = np.empty(min(step, target.shape[1]), kind)
    plan = _plan(coefficients)
    for row in range(target.shape[0]):
        for at in range(0, target.shape[1], step):
            accumulator = target[row, at : at + step]
            _sum(accumulator, [source[row, at : at + step] for source in sources], plan, scratch)


def _word_aligned(a: Bytes2D) -> bool:
    return a.shape[1] % 8 == 0 and a.strides[1] == 1 and a.strides[0] % 8 == 0 and a.ctypes.data % 8 == 0


def _plan(coefficients: Sequence[int]) -> list[list[int]]:
    """For each bit from the highest one used down to bit 0: the strips to be added there."""
    top = max(coefficients).bit_length()
    return [[i for i, c in enumerate(coefficients) if c >> bit & 1] for bit in reversed(range(top))]


def _sum(acc: npt.NDArray[Any], blocks: list[npt.NDArray[Any]], plan: list[list[int]], scratch: Any) -> None:
    started = False
    for adds in plan:
        todo = list(adds)
        if started:
            _double(acc, scratch[: acc.shape[0]])
        elif len(todo) >= 2:
            np.bitwise_xor(blocks[todo[0]], blocks[todo[1]], out=acc)
            todo, started = todo[2:], True
        elif todo:
            acc[...] = blocks[todo.pop()]
            started = True
        for i in todo:
            np.bitwise_xor(acc, blocks[i], out=acc)


def _double(acc: npt.NDArray[Any], scratch: npt.NDArray[Any]) -> None:
    """Multiply every byte by g in place: shift left, and where a bit fell out add 0x1D."""
    if acc.dtype == np.uint8:
        np.right_shift(acc, 7, out=scratch)
        np.multiply(scratch, np.uint8(0x1D), out=scratch)
        np.left_shift(acc, 1, out=acc)
    else:
        np.bitwise_and(acc, _HIGH, out=scratch)
        np.right_shift(scratch, _SEVEN, out=scratch)
        np.multiply(scratch, _REDUCE, out=scratch)
        np.bitwise_and(acc, _LOW7, out=acc)
        np.left_shift(acc, _ONE, out=acc)
    np.bitwise_xor(acc, scratch, out=acc)
