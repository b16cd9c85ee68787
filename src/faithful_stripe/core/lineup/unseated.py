"""An image that takes no part in an answer although it holds, byte for byte, what a missing member of it must hold.

What a missing member holds follows from the others by the redundancy, whatever the level. An image that holds that is
the member: nothing else does. It is seated, and the answer judged with it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..errors import StripeError
from .gaps import Judged, Placed
from .hypotheses import MISSING_NATS, Hypothesis
from .membership import LEAST_CLOSING
from .table import Table
from .verdict import final_geometry, read_volume, rebuilt

TRIED, PIECE, SECTOR = 96, 4096, 512
"""Rows of an image that are held against what is computed, and how many bytes of each."""

SAME_SHARE = 0.9
"""Of what an image holds there, the share that must be as computed: the rest may be unreadable or out of date."""


@dataclass(frozen=True)
class Unseated:
    """An image and the position that it fits; `same` and `other`: rows in which it holds what is computed, or not."""

    image: int
    position: int
    same: int
    other: int


def unseated(table: Table, h: Hypothesis) -> list[Unseated]:
    """Images that fit a missing position each, the best for each position and image."""
    made, members = final_geometry(h, table.pile)
    gaps = [p for p, image in enumerate(members) if image is None]
    others = set(range(len(table.pile))) - {i for i in members if i is not None} - set(table.outdated)
    if not gaps or not others or not made.redundant or h.cast.level == "RAID10":
        return []
    found = [fit for image in others for gap in gaps if (fit := _fit(table, h, image, gap)) is not None]
    chosen: list[Unseated] = []
    for fit in sorted(found, key=lambda f: (f.other, -f.same)):
        if all(fit.image != c.image and fit.position != c.position for c in chosen):
            chosen.append(fit)
    return chosen


def _fit(table: Table, h: Hypothesis, image: int, position: int) -> Unseated | None:
    """How an image holds up at a missing position; None where it does not fit."""
    volume, strip = rebuilt(h, table.pile), h.strip
    end = h.start + volume.geometry.member_bytes[position]
    rows = sorted({row for a, b in table.pile.data(image) for row in _rows(max(a, h.start), min(b, end), h)})
    same = other = 0
    for row in rows if len(rows) <= TRIED else [rows[i] for i in np.linspace(0, len(rows) - 1, TRIED).astype(int)]:
        own = table.pile.stretch(image, h.start + row * strip, strip)
        filled = np.flatnonzero(own)
        if not filled.size:
            continue
        begin = int(filled[0]) // SECTOR * SECTOR
        piece = own[begin : begin + PIECE]
        computed = np.empty(piece.size, np.uint8)
        try:
            volume.compute(position, row, begin, computed)
        except StripeError:
            continue
        if np.array_equal(computed, piece):
            same += 1
        else:
            other += 1
    fits = same >= LEAST_CLOSING and same >= SAME_SHARE * (same + other)
    return Unseated(image, position, same, other) if fits else None


def _rows(begin: int, end: int, h: Hypothesis) -> range:
    """The rows that a range of an image touches, no more of them than are tried."""
    first, last = (begin - h.start) // h.strip, -(-(end - h.start) // h.strip)
    return range(first, last, max(1, (last - first) // TRIED)) if end > begin else range(0)


def seated(h: Hypothesis, fit: Unseated) -> Hypothesis:
    """A hypothesis with one more image, at its position."""
    cast = replace(h.cast, columns=(*h.cast.columns, (fit.image,)))
    order = (*h.order[: fit.position], len(cast.columns) - 1, *h.order[fit.position + 1 :])
    return replace(h, cast=cast, order=order)


def with_unseated(table: Table, best: Judged, placed: Placed, kept: Placed) -> Judged:
    """The answer with every image seated that holds what a missing member must hold."""
    h = best.h
    for fit in unseated(table, h):
        h = seated(h, fit)
        says = f"position {fit.position}: {fit.same} rows are what the others' redundancy gives, {fit.other} are not"
        table.note("hypotheses", f"{table.pile.names[fit.image]} takes {says}")
    if h is best.h:
        return best
    findings = read_volume(h, table.pile, placed, kept, table.carved)
    taken = best.h.cast.missing - h.cast.missing
    return Judged(h, findings, best.total + findings.nats - best.findings.nats + MISSING_NATS * taken)
