"""The kernel over whole strips: sums of strips with coefficients in GF(2^8), cache-blocked, in NumPy.

One function serves P, Q and every reconstruction. A sum c0*s0 + c1*s1 + ... is evaluated bit by bit of
the coefficients, highest first: double the accumulator in the field, then add (XOR) the strips whose
coefficient has that bit. For P all coefficients are 1 and nothing is ever doubled; for Q of up to eight
data strips each strip is added once (Horner's rule, as in H. P. Anvin, "The mathematics of CTRL-6").

NumPy's loops over bytes use the widest vector registers there are, as they do over 64-bit words; bytes need
fewer passes for the doubling.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from .codes import Stages

Bytes = npt.NDArray[np.uint8]
Bytes2D = npt.NDArray[np.uint8]

_ZERO, _REDUCE = np.int8(0), np.uint8(0x1D)

BLOCK_BYTES = 128 * 1024
"""Bytes of one strip handled at a time: a call into NumPy is worth its price, and a dozen blocks fit in the
second-level cache."""

Rows = Sequence[Sequence[int]]
"""Coefficients 0..255: one row per result, one column per strip."""


def combine(out: Bytes2D, strips: Sequence[Bytes2D], coefficients: Sequence[int]) -> None:
    """Store the sum of `coefficients[i] * strips[i]` over GF(2^8) in `out`.

    out, strips   uint8, shape (rows, bytes), the last axis contiguous; `out` may not overlap a strip
    coefficients  0..255, one per strip

    No strips give zeros.

    >>> out = np.empty((1, 2), np.uint8)
    >>> combine(out, [np.array([[1, 2]], np.uint8), np.array([[4, 2]], np.uint8)], [1, 1]); out
    array([[5, 0]], dtype=uint8)
    """
    combine_many([out], strips, [coefficients])


def combine_many(outs: Sequence[Bytes2D], strips: Sequence[Bytes2D], coefficients: Rows) -> None:
    """Several sums over the same strips (P and Q, say), each block of the strips read from memory once."""
    plans = [_plan(row) for row in coefficients]
    shape = outs[0].shape
    step = min(BLOCK_BYTES, shape[1])
    flags, reduced = np.empty(step, np.bool_), np.empty(step, np.uint8)
    for row in range(shape[0]):
        for at in range(0, shape[1], step):
            blocks = [strip[row, at : at + step] for strip in strips]
            for out, plan in zip(outs, plans, strict=True):
                _sum(out[row, at : at + step], blocks, plan, flags, reduced)


def recover(outs: Sequence[Bytes2D], strips: Sequence[Bytes2D], plan: Stages) -> None:
    """Lost strips from those in `plan.cells`: uint8 (rows, bytes) each, `outs` in the order they were wanted."""
    if all(row.count(1) == 1 and sum(row[: len(plan.syndromes)]) == sum(row) == 1 for row in plan.finish):
        combine_many(outs, strips, [plan.syndromes[row.index(1)] for row in plan.finish])
        return
    shape = outs[0].shape
    step = min(BLOCK_BYTES, shape[1])
    flags, reduced = np.empty(step, np.bool_), np.empty(step, np.uint8)
    syndromes = [np.empty(step, np.uint8) for _ in plan.syndromes]
    first, second = [_plan(row) for row in plan.syndromes], [_plan(row) for row in plan.finish]
    for row in range(shape[0]):
        for at in range(0, shape[1], step):
            blocks = [strip[row, at : at + step] for strip in strips]
            sums = [syndrome[: len(blocks[0])] for syndrome in syndromes]
            for out, steps in zip(sums, first, strict=True):
                _sum(out, blocks, steps, flags, reduced)
            results = [out[row, at : at + step] for out in outs]
            for target, steps in zip(results, second, strict=True):
                _sum(target, sums + results, steps, flags, reduced)


def _plan(coefficients: Sequence[int]) -> list[list[int]]:
    """For each bit from the highest one used down to bit 0: the strips to be added there."""
    top = max(coefficients, default=0).bit_length()
    return [[i for i, c in enumerate(coefficients) if c >> bit & 1] for bit in reversed(range(top))]


def _sum(acc: Bytes, blocks: list[Bytes], plan: list[list[int]], flags: npt.NDArray[np.bool_], reduced: Bytes) -> None:
    if not plan:
        acc[...] = 0
        return
    started = False
    for adds in plan:
        todo = list(adds)
        if started:
            _double(acc, flags[: acc.shape[0]], reduced[: acc.shape[0]])
        elif len(todo) >= 2:
            np.bitwise_xor(blocks[todo[0]], blocks[todo[1]], out=acc)
            todo, started = todo[2:], True
        else:
            acc[...] = blocks[todo.pop()]
            started = True
        for i in todo:
            np.bitwise_xor(acc, blocks[i], out=acc)


def _double(acc: Bytes, flags: npt.NDArray[np.bool_], reduced: Bytes) -> None:
    """Multiply every byte by g in place: shift left by adding it to itself, and where a bit fell out add 0x1D."""
    np.less(acc.view(np.int8), _ZERO, out=flags)
    np.multiply(flags.view(np.uint8), _REDUCE, out=reduced)
    np.add(acc, acc, out=acc)
    np.bitwise_xor(acc, reduced, out=acc)
