"""Pages of unknown formats: blocks that begin with the same mark and carry a counter that steps with their place.

Nothing of the format is known beforehand. A mark that many sectors begin with is looked for, then a number behind it
that grows by one for every so many bytes inside single images; that number times the step is a page's address.
"""

from __future__ import annotations

from collections import Counter

import numpy as np
import numpy.typing as npt

from .ground import SECTOR, Ground, Int64, Stock, numbers

LEAST_PAGES, LEAST_SHARE = 32, 0.9
STEPS = tuple(SECTOR << i for i in range(8))
FIELDS = tuple(range(4, 64, 4))
WIPED = 1 << 20


def heads(stock: Stock) -> list[Ground]:
    """One ground for each kind of counted pages."""
    found = []
    for mark in _marks(stock):
        made = _ground(stock, mark)
        if made is not None:
            found.append(made)
    return found


def search(stock: Stock, ground: Ground) -> None:
    """Nothing more: `heads` adds the anchors."""


def _marks(stock: Stock) -> list[int]:
    """Values of four bytes that many sectors begin with, and that are not text or a pattern."""
    counts: Counter[int] = Counter()
    for piece in stock:
        first = np.ascontiguousarray(piece.sectors[:, :4]).view("<u4")[:, 0]
        values, number = np.unique(first, return_counts=True)
        few = number >= 2
        counts.update(dict(zip(values[few].tolist(), number[few].tolist(), strict=True)))
    good = [m for m, c in counts.most_common(12) if c >= LEAST_PAGES and len(set(m.to_bytes(4, "little"))) > 2]
    return good[:4]


def _ground(stock: Stock, mark: int) -> Ground | None:
    rows: list[tuple[int, Int64, npt.NDArray[np.uint8]]] = []
    for piece in stock:
        first = np.ascontiguousarray(piece.sectors[:, :4]).view("<u4")[:, 0]
        hit = np.flatnonzero(first == mark)
        if len(hit):
            rows.append((piece.image, piece.offset + hit * SECTOR, piece.sectors[hit, :72]))
    for field in FIELDS:
        for kind in ("<u4", ">u4"):
            step = _step(rows, field, kind)
            if step:
                return _anchors(rows, field, kind, step, mark)
    return None


def _step(rows: list[tuple[int, Int64, npt.NDArray[np.uint8]]], field: int, kind: str) -> int:
    """Bytes per count, where neighbours within a stretch agree on it; else 0."""
    steps: Counter[int] = Counter()
    pairs = 0
    for _image, offsets, records in rows:
        gap, grown = np.diff(offsets), np.diff(numbers(records, field, kind))
        pairs += len(gap)
        good = (grown > 0) & (gap % np.maximum(grown, 1) == 0)
        values, number = np.unique(gap[good] // grown[good], return_counts=True)
        steps.update(dict(zip(values.tolist(), number.tolist(), strict=True)))
    if not steps:
        return 0
    step, count = steps.most_common(1)[0]
    # at the borders of strips the counter jumps: small strips have many
    return step if step in STEPS and count >= LEAST_PAGES // 2 and count >= 0.3 * pairs else 0


def _anchors(
    rows: list[tuple[int, Int64, npt.NDArray[np.uint8]]], field: int, kind: str, step: int, mark: int
) -> Ground | None:
    values = np.concatenate([numbers(records, field, kind) for _i, _o, records in rows])
    low, high = np.quantile(values, 0.002), np.quantile(values, 0.998)
    if (high - low) * step > 1 << 50 or len(np.unique(values)) < 0.2 * len(values):
        return None
    first = int(values[values >= low].min())
    ground = Ground(b"PAGES%d" % mark, f"counted pages of {step} bytes", weak=("page",), facts=first, guessed=True)
    ground.head = True
    # counted from the volume's start, or, where the count begins higher, from the first page there is; but where the
    # members' heads are wiped the first pages are gone
    wiped = min(int(offsets.min()) for _i, offsets, _r in rows) >= WIPED
    from_first = first if first * step > WIPED and not wiped else 0
    for image, offsets, records in rows:
        count = numbers(records, field, kind)
        good = (count >= low) & (count <= high)
        ground.add("page", image, offsets[good], (count[good] - from_first) * step)
    return ground
