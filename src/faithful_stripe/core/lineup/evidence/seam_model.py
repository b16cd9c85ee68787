"""Continuity: how well the bytes after a cut go on from those before it, by a model that teaches itself.

It is taught on the two halves of single blocks, which always lie inside one strip, against halves from elsewhere.
Features: byte pairs over the cut, the mix of bytes on both sides, steps of 16-bit numbers, and counters: decimal
numbers that begin lines, and binary ones that follow a mark which the content repeats. Zeros are neutral: that zeros
follow zeros says nothing.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from ..reading.samples import BLOCK, Blocks
from .byte_pairs import best_pairs, natural

Floats = npt.NDArray[np.float64]

SIDE = 2048
"""Bytes on each side of a cut that are looked at."""

NEAR = 256
NATURAL = 768
"""Bytes of a block by which it is judged how natural it looks."""

MOST_NATS, LEAST_NATS = 3.0, -2.0
"""A cut that goes on well is worth at most the first; one that does not may be the end of a file: the second."""

_LINE_NUMBER = re.compile(rb"\n(\d{1,18})[^\d\n]")


@dataclass(frozen=True, eq=False)
class Side:
    """One side of many cuts, ready to be compared.

    near   uint8 (n, NEAR): the bytes next to the cut
    mix    float (n, 32): how often each group of 8 byte values occurs within SIDE, as square roots of shares
    key    float (n,): the counter nearest to the cut, NaN where there is none
    empty  bool (n,): only zeros next to the cut
    """

    near: Blocks
    mix: Floats
    key: Floats
    empty: npt.NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.near)


class Continuity:
    """The taught model. `score` gives nats for or against that one side goes on from another.

    blocks  uint8 (n, BLOCK): blocks of the content, none of which crosses a strip
    """

    def __init__(self, blocks: Blocks, seed: int = 7) -> None:
        rng = np.random.default_rng(seed)
        blocks = blocks[(blocks != 0).mean(axis=1) > 0.02]
        self.taught = len(blocks)
        self.usable = False
        if self.taught < 24:
            self.taught = 0
            return
        self.marks = _marks(blocks)
        self.step = _usual_step(blocks, self.marks)
        self._one = _pair_table(blocks[::2], 1)
        self._two = _pair_table(blocks[::2], 2)
        self._pairs = best_pairs(blocks[::2], blocks[1::2], NATURAL)
        features, truth = self._junctions(blocks[::2], rng)
        if len(truth) < 60:
            return
        self.weights, self.bias = _logistic(features, truth)
        # checked on blocks that taught nothing: a model that misjudges true neighbours must not judge
        features, truth = self._junctions(blocks[1::2], rng)
        raw = features @ self.weights + self.bias
        good, bad = raw[truth > 0], raw[truth == 0]
        self.separation = float((good > np.median(bad)).mean()) if len(good) and len(bad) else 0.0
        self.usable = self.separation > 0.7

    def _junctions(self, blocks: Blocks, rng: np.random.Generator) -> tuple[Floats, Floats]:
        """Features of true junctions (the halves of one block) and of three times as many false ones, and which."""
        lefts, rights = self.side(blocks[:, :SIDE], False), self.side(blocks[:, SIDE:], True)
        n = len(blocks)
        left, right = np.tile(np.arange(n), 4), np.concatenate([np.arange(n), *(rng.permutation(n) for _ in range(3))])
        truth = (np.arange(4 * n) < n).astype(float)
        keep = ~(lefts.empty[left] | rights.empty[right]) & ((truth > 0) | (left != right))
        return self._features(_take(lefts, left[keep]), _take(rights, right[keep])), truth[keep]

    def side(self, content: Blocks, after: bool) -> Side:
        """Prepare uint8 (n, SIDE): what stands before cuts, or after them."""
        near = content[:, :NEAR] if after else content[:, -NEAR:]
        n = len(content)
        groups = (content >> 3).astype(np.int64) + 32 * np.arange(n)[:, None]
        mix = np.bincount(groups.reshape(-1), minlength=32 * n).reshape(n, 32)
        share = np.sqrt(mix / max(1, content.shape[1]))
        key = np.array([_key(row.tobytes(), self.marks, after) for row in content], float)
        edge = content[:, :32] if after else content[:, -32:]
        return Side(np.ascontiguousarray(near), share, key, np.asarray(~edge.any(axis=1)))

    def score(self, left: Side, right: Side) -> Floats:
        """Nats that `right` goes on from `left`, of all pairs: float (len(left), len(right))."""
        a = np.repeat(np.arange(len(left)), len(right))
        b = np.tile(np.arange(len(right)), len(left))
        raw = self._features(_take(left, a), _take(right, b)) @ self.weights + self.bias
        raw = np.clip(raw, LEAST_NATS, MOST_NATS)
        raw[left.empty[a] | right.empty[b]] = 0.0
        return raw.reshape(len(left), len(right))

    def natural(self, blocks: Blocks) -> Floats:
        """How natural blocks look by their byte pairs: mean nats per byte over chance, 0 for zeros."""
        return natural(blocks, self._pairs, NATURAL)

    def _features(self, left: Side, right: Side) -> Floats:
        one = self._one[left.near[:, -1], right.near[:, 0]]
        two = self._two[left.near[:, -2], right.near[:, 0]] + self._two[left.near[:, -1], right.near[:, 1]]
        mix = (left.mix * right.mix).sum(axis=1)
        end = left.near[:, -2:].copy().view("<i2")[:, 0].astype(float)
        start = right.near[:, :2].copy().view("<i2")[:, 0].astype(float)
        before = left.near[:, -4:-2].copy().view("<i2")[:, 0].astype(float)
        jump = np.log2(1 + np.abs(start - end)) / 16
        usual = np.log2(1 + np.abs(end - before)) / 16
        gap = right.key - left.key
        known = ~np.isnan(gap)
        gap = np.where(known, gap, 0)
        follows = known & (gap > 0) & (gap <= 8 * self.step)
        against = known & ~follows
        return np.stack(
            [one, two, mix, mix * mix, jump - usual, jump, follows.astype(float), against.astype(float)], axis=1
        )


def _take(side: Side, rows: npt.NDArray[np.int64]) -> Side:
    return Side(side.near[rows], side.mix[rows], side.key[rows], side.empty[rows])


def _pair_table(blocks: Blocks, gap: int) -> Floats:
    """Log P(b | a) / P(b) of bytes `gap` apart: (256, 256)."""
    keys = blocks[:, :-gap].astype(np.int64) << 8 | blocks[:, gap:]
    counts = np.bincount(keys.reshape(-1), minlength=65536).reshape(256, 256).astype(float)
    counts[0, 0] = min(counts[0, 0], counts[0, 1:].sum() + counts[1:, 0].sum())
    total = counts.sum()
    row, column = counts.sum(axis=1, keepdims=True), counts.sum(axis=0, keepdims=True)
    expected = row * column / max(total, 1)
    table: Floats = np.log(
        (counts + 2 * expected / (1 + expected) + 0.05) / (expected + 2 * expected / (1 + expected) + 0.05)
    )
    return np.clip(table, -3, 3)


def _marks(blocks: Blocks) -> tuple[bytes, ...]:
    """Strings of four bytes that a good part of the blocks hold and that numbers may follow."""
    counts: Counter[bytes] = Counter()
    for block in blocks[:: max(1, len(blocks) // 64)]:
        data = block.tobytes()
        counts.update({data[i : i + 4] for i in range(BLOCK - 8)})
    least = 0.3 * min(len(blocks), 64)
    found = [m for m, c in counts.most_common(40) if c >= least and len(set(m)) > 2 and not m.isalnum()]
    return tuple(m for m in found if _counts_up(blocks, m))[:2]


def _counts_up(blocks: Blocks, mark: bytes) -> bool:
    """Whether the 32-bit number after the mark grows from one mark to the next, inside blocks."""
    up = down = 0
    for block in blocks[:200]:
        values = _binary_keys(block.tobytes(), mark)
        for a, b in pairwise(values):
            up, down = up + (0 < b - a <= 4096), down + (not 0 < b - a <= 4096)
    return up >= 12 and down <= 0.05 * up


def _binary_keys(data: bytes, mark: bytes) -> list[int]:
    found, at = [], data.find(mark)
    while at >= 0 and at + 8 <= len(data):
        found.append(int.from_bytes(data[at + 4 : at + 8], "little"))
        at = data.find(mark, at + 1)
    return found


def _key(data: bytes, marks: Sequence[bytes], after: bool) -> float:
    """The counter nearest to the cut: the first one after it, or the last one before it."""
    for mark in marks:
        values = _binary_keys(data, mark)
        if values:
            return float(values[0] if after else values[-1])
    numbers = _LINE_NUMBER.findall(data)
    return float(numbers[0] if after else numbers[-1]) if numbers else float("nan")


def _usual_step(blocks: Blocks, marks: Sequence[bytes]) -> float:
    """The usual distance of a counter before a cut and the next one after it."""
    steps = []
    for block in blocks[:: max(1, len(blocks) // 300)]:
        a, b = _key(block[:SIDE].tobytes(), marks, False), _key(block[SIDE:].tobytes(), marks, True)
        if b > a:
            steps.append(b - a)
    return float(np.median(steps)) if len(steps) >= 8 else 1.0


def _logistic(features: Floats, truth: Floats) -> tuple[Floats, float]:
    """Weights and bias of a logistic model, classes weighted alike, by Newton's method with a ridge."""
    mean, spread = features.mean(axis=0), features.std(axis=0) + 1e-6
    x = np.concatenate([(features - mean) / spread, np.ones((len(features), 1))], axis=1)
    weight = np.where(truth > 0, 0.5 / max(1.0, truth.sum()), 0.5 / max(1.0, (1 - truth).sum())) * len(truth)
    beta = np.zeros(x.shape[1])
    ridge = np.eye(x.shape[1])
    ridge[-1, -1] = 1e-6
    for _ in range(12):
        p = 1 / (1 + np.exp(-np.clip(x @ beta, -30, 30)))
        gradient = x.T @ (weight * (truth - p)) - ridge @ beta
        hessian = (x * (weight * p * (1 - p))[:, None]).T @ x + ridge
        beta = beta + np.linalg.solve(hessian, gradient)
    weights = beta[:-1] / spread
    return weights, float(beta[-1] - (weights * mean).sum())
