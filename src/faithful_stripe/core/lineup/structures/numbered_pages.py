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
AGREED, RISING = 0.45, 0.6
LEAST_STRIP = 4096


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
            steps, one_by_one = _steps(rows, field, kind)
            if not one_by_one:
                steps = _slopes(rows, field, kind, len(stock.pile)) or steps
            made = _anchors(rows, field, kind, steps, mark) if steps else None
            if made is not None:
                return made
    return None


def _steps(rows: list[tuple[int, Int64, npt.NDArray[np.uint8]]], field: int, kind: str) -> tuple[list[int], bool]:
    """Bytes per count, where neighbours within a stretch agree on it; and whether they do by counting one more: larger
    steps may be those from row to row."""
    steps: Counter[int] = Counter()
    plain: Counter[int] = Counter()
    pairs = 0
    for _image, offsets, records in rows:
        gap, grown = np.diff(offsets), np.diff(numbers(records, field, kind))
        pairs += len(gap)
        good = (grown > 0) & (gap % np.maximum(grown, 1) == 0)
        values, number = np.unique(gap[good] // grown[good], return_counts=True)
        steps.update(dict(zip(values.tolist(), number.tolist(), strict=True)))
        plain.update(gap[grown == 1].tolist())
    if not steps:
        return [], False
    step, count = steps.most_common(1)[0]
    # at the borders of strips the counter jumps: at most at every second page, where they hold two
    agreed = step in STEPS and count >= LEAST_PAGES // 2 and count >= AGREED * pairs
    return ([step], plain[step] >= AGREED * pairs) if agreed else ([], False)


def _slopes(rows: list[tuple[int, Int64, npt.NDArray[np.uint8]]], field: int, kind: str, images: int) -> list[int]:
    """What a count may be in bytes where strips hold a page or less: along an image it grows as fast as a row's
    data do, so for pages of that size a whole number of members hold data."""
    slopes = []
    for image in {image for image, _o, _r in rows}:
        offsets = np.concatenate([o for i, o, _r in rows if i == image])
        values = np.concatenate([numbers(r, field, kind) for i, _o, r in rows if i == image])
        if len(offsets) < LEAST_PAGES:
            continue
        order = np.argsort(offsets, kind="stable")
        offsets, values = offsets[order], values[order]
        half = len(offsets) // 2  # each against one far behind it, so that borders and outliers weigh little
        gap, grown = offsets[half:] - offsets[: len(offsets) - half], values[half:] - values[: len(values) - half]
        slopes.append(float(np.median(grown / np.maximum(gap, 1))))
        rising = float((np.diff(values) > 0).mean())
        if rising < RISING or slopes[-1] <= 0:
            return []
    if not slopes or max(slopes) > 1.1 * min(slopes):
        return []
    slope = float(np.median(slopes))
    found, apart = [], _apart(rows)
    for step in (s for s in STEPS if s >= max(LEAST_STRIP, apart)):
        members = slope * step
        if 1 < round(members) <= images and abs(members - round(members)) < 0.04 * members:
            found.append(step)
    return found


def _apart(rows: list[tuple[int, Int64, npt.NDArray[np.uint8]]]) -> int:
    """How far apart pages on one image are at least, in bytes. A page is no shorter: along one member that is its
    length or, where strips are shorter, lcm(strips of a page, strips of a row) / strips of a row * strip, no more than
    that. In a count of half as many bytes every other row, of half a strip, would hold pages without heads."""
    found = []
    for image in {image for image, _o, _r in rows}:
        offsets = np.unique(np.concatenate([o for i, o, _r in rows if i == image]))
        if len(offsets) >= LEAST_PAGES:
            found.append(int(np.gcd.reduce(np.diff(offsets))))
    return int(np.median(found)) if found else 0


def _first(values: Int64, low: int) -> int:
    """The lowest count that is one of a run: a single one further down is something else, or of another time."""
    counts = np.unique(values)
    runs = counts[:-1][np.diff(counts) == 1]
    return int(runs.min()) if len(runs) else low


def _anchors(
    rows: list[tuple[int, Int64, npt.NDArray[np.uint8]]], field: int, kind: str, steps: list[int], mark: int
) -> Ground | None:
    values = np.concatenate([numbers(records, field, kind) for _i, _o, records in rows])
    low, high = np.quantile(values, 0.002), np.quantile(values, 0.998)
    step = min(steps)
    if (high - low) * step > 1 << 50 or len(np.unique(values)) < 0.2 * len(values):
        return None
    first = _first(values, int(low))
    sizes = " or ".join(str(s) for s in steps)
    ground = Ground(b"PAGES%d" % mark, f"counted pages of {sizes} bytes", weak=("page",), facts=first, guessed=True)
    ground.head = True
    # counted from the volume's start, or, where the count begins higher, from the first page there is; but where the
    # members' heads are wiped the first pages are gone
    wiped = min(int(offsets.min()) for _i, offsets, _r in rows) >= WIPED
    from_first = first if first * step > WIPED and not wiped else 0
    for image, offsets, records in rows:
        count = numbers(records, field, kind)
        good = (count >= min(low, first)) & (count <= high)
        for size in steps:
            ground.add("page", image, offsets[good], (count[good] - from_first) * size)
    return ground
