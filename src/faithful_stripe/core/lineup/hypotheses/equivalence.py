"""Sameness: which hypotheses are one answer, by where they put bytes, whatever their names."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from .assignment import Hypothesis, Int64
from .placement import locate


def volume_map(h: Hypothesis, addresses: Int64) -> npt.NDArray[np.int64]:
    """Where volume bytes stand under a hypothesis: (copies, addresses, 2) of column (-1 missing) and offset."""
    order = np.array([-1 if c is None else c for c in h.order], np.int64)
    found = []
    for copy in range(h.layout.pattern().places.shape[0]):
        position, where = locate(h.layout, h.strip, addresses, copy)
        found.append(np.stack([order[position], where + h.start], axis=1))
    return np.stack(found)


def same_parity(a: Hypothesis, b: Hypothesis) -> bool:
    """Whether P and Q stand on the same images under two hypotheses of one strip and start, row by row."""
    one, other = a.layout.pattern(), b.layout.pattern()
    marked = []
    for h, pattern in ((a, one), (b, other)):
        names = np.array([-1 if c is None else min(h.candidate.columns[c]) for c in h.order], np.int64)
        rows = np.resize(pattern.index, (int(np.lcm(one.rows, other.rows)), pattern.index.shape[1]))
        row, position = np.nonzero((rows < 0) & (names >= 0))
        marked.append(set(zip(row.tolist(), names[position].tolist(), rows[row, position].tolist(), strict=True)))
    return marked[0] == marked[1]


def same_answer(a: Hypothesis, b: Hypothesis) -> bool:
    """Whether two hypotheses put every volume byte in the same place."""
    if a is b:
        return True
    if a.candidate.missing and a.layout.q_exponent != b.layout.q_exponent:
        return False  # the same places, but what is computed for a missing member is not the same
    if a.candidate.missing and a.layout.q_place and b.layout.q_place and a.strip == b.strip and not same_parity(a, b):
        return False  # nor where P is taken for Q
    step = 4096 if (a.strip | b.strip) % 4096 == 0 else 512
    addresses = np.arange(0, max(a.strip * a.layout.pattern().strips, 64 * step) * 2, step, dtype=np.int64)
    if len(addresses) > 60_000:
        addresses = addresses[:: len(addresses) // 60_000 + 1]
    named = []
    for h in (a, b):
        found = volume_map(h, addresses)
        images = np.array([*(min(c) for c in h.candidate.columns), -1], np.int64)
        found[..., 0] = images[found[..., 0]]
        missing = found[..., 0] < 0
        # where a missing one would have it says nothing; which copy comes first neither
        named.append(np.sort(np.where(missing, -1, found[..., 1] * 4096 + found[..., 0]), axis=0))
    if named[0].shape != named[1].shape:
        return False
    return bool((named[0] == named[1]).all())
