"""An image that takes no part in an answer although it holds, byte for byte, what a missing member of it must hold.

What a missing member holds follows from the others by the redundancy, whatever the level. An image that holds that is
the member: nothing else does. It is seated, and the answer judged with it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import islice

import numpy as np
import numpy.typing as npt

from ...errors import StripeError
from ..evidence.membership import LEAST_CLOSING
from ..evidence.row_tests import differs
from ..evidence.sampled_places import SECTOR
from ..hypotheses.as_volume import final_geometry, rebuilt
from ..hypotheses.assignment import MISSING_NATS, Hypothesis
from ..hypotheses.pile_table import Table
from .missing_slot import Judged, Placed
from .volume_reading import read_volume

TRIED, LOOKED_AT, PIECE = 96, 768, 4096
"""Pieces of an image that are held against what is computed, spread over its data, and how many bytes each has; so many
are looked at for those that tell."""

LEAST_ALONE = 1
"""So many pieces are enough of an image that holds nothing else: what stands on it of its array is little. A piece of
one byte over and over is none: anybody may hold that."""

SAME_SHARE = 0.9
"""Of what an image holds there, the share that must be as computed: the rest may be unreadable or out of date."""


@dataclass(frozen=True)
class Unseated:
    """An image and the position that it fits; `same` and `other`: pieces in which it holds what is computed, or not,
    where what is computed can be relied on."""

    image: int
    position: int
    same: int
    other: int

    @property
    def whole(self) -> bool:
        """Whether it may take the seat; else it was hurt, or is an old copy, or holds a part only."""
        return self.same >= SAME_SHARE * (self.same + self.other)


def unseated(table: Table, h: Hypothesis) -> list[Unseated]:
    """Images that fit a missing position each, the best for each position and image."""
    made, members = final_geometry(h, table.pile)
    gaps = [p for p, image in enumerate(members) if image is None]
    others = set(range(len(table.pile))) - {i for i in members if i is not None}
    if not gaps or not others or not made.redundant or h.candidate.level == "RAID10":
        return []
    fits = (_fit(table, h, image, gap) for image in others for gap in gaps)
    found = [fit for fit in fits if fit and not (fit.other and _rather_old(table, h, fit))]
    whole = [fit for fit in found if fit.whole]
    chosen: list[Unseated] = []
    for fit in sorted(whole, key=lambda f: (f.other, -f.same)):
        if all(fit.image != c.image and fit.position != c.position for c in chosen):
            chosen.append(fit)
    # beside a member an old copy of it may lie, and which is which is not told
    taken, used = {c.position for c in chosen}, {c.image for c in chosen}
    table.fits_as_well = {fit.image for fit in found if fit.position in taken} - used
    return chosen


def _fit(table: Table, h: Hypothesis, image: int, position: int) -> Unseated | None:
    """How an image holds up at a missing position; None where it holds nothing that it must."""
    volume, strip = rebuilt(h, table.pile), h.strip
    heard = min(table.pile.data(i)[-1][1] for column in h.candidate.columns for i in column if table.pile.data(i))
    same = other = 0
    for at, own in _pieces(table, h, image, volume.geometry.member_bytes[position]):
        if same + other == TRIED:
            break
        computed = np.empty(own.size, np.uint8)
        if h.start + at + own.size > heard or differs(volume, position, at // strip, at % strip // SECTOR * SECTOR):
            continue  # somebody else fell silent before that, or the row was never written whole
        try:
            volume.compute(position, at // strip, at % strip, computed)
        except StripeError:
            continue
        if np.array_equal(computed, own):
            same += bool((own != own[0]).any())
        else:
            other += 1
    return Unseated(image, position, same, other) if same >= (LEAST_CLOSING if other else LEAST_ALONE) else None


def _rather_old(table: Table, h: Hypothesis, fit: Unseated) -> bool:
    """Whether what was taken for an old copy of another member is like that in no smaller share than it is like what
    the missing one must hold."""
    if fit.image not in table.outdated:
        return False
    successor, length = table.outdated[fit.image], final_geometry(h, table.pile)[0].member_bytes[fit.position]
    pieces = islice(_pieces(table, h, fit.image, length), TRIED)
    like = [np.array_equal(own, table.pile.stretch(successor, h.start + at, own.size)) for at, own in pieces]
    return sum(like) * (fit.same + fit.other) >= fit.same * len(like)


def _pieces(table: Table, h: Hypothesis, image: int, length: int) -> Iterator[tuple[int, npt.NDArray[np.uint8]]]:
    """Pieces of an image's data area that hold something, spread over it: (offset in the area, bytes)."""
    piece = min(PIECE, h.strip)
    end = h.start + length
    held = [(max(a, h.start) - h.start, min(b, end) - h.start) for a, b in table.pile.data(image)]
    counts = [max(0, b - 1) // piece - a // piece + 1 if b > a else 0 for a, b in held]
    edges = np.cumsum([0, *counts])
    spread = np.unique(np.linspace(0, edges[-1] - 1, min(LOOKED_AT, int(edges[-1]))).astype(np.int64))
    turns = LOOKED_AT // TRIED
    for number in np.concatenate([spread[turn::turns] for turn in range(turns)]).tolist():
        which = int(np.searchsorted(edges, number, "right")) - 1
        at = (held[which][0] // piece + number - int(edges[which])) * piece
        own = table.pile.stretch(image, h.start + at, piece)
        if own.any():
            yield at, own


def seated(h: Hypothesis, fit: Unseated) -> Hypothesis:
    """A hypothesis with one more image, at its position."""
    columns = h.candidate.columns
    if (fit.image,) not in columns:  # else it is one that had no seat
        columns = (*columns, (fit.image,))
    order = (*h.order[: fit.position], columns.index((fit.image,)), *h.order[fit.position + 1 :])
    return replace(h, candidate=replace(h.candidate, columns=columns), order=order)


def with_unseated(table: Table, best: Judged, placed: Placed, kept: Placed) -> Judged:
    """The answer with every image seated that holds what a missing member must hold."""
    h, fits = best.h, unseated(table, best.h)
    for fit in fits:
        h = seated(h, fit)
        says = f"position {fit.position}: {fit.same} pieces are what the others' redundancy gives, {fit.other} are not"
        table.note("hypotheses", f"{table.pile.names[fit.image]} takes {says}")
    if h is best.h:
        return best
    made = final_geometry(best.h, table.pile)[0]
    reach = made.start_bytes[0] + made.member_bytes[0]
    # one that ends before the others do takes nothing from the volume: it is missing there
    table.pile.short |= {fit.image for fit in fits if table.pile.sources[fit.image].size < reach}
    findings = read_volume(h, table.pile, placed, kept, table.carved)
    taken = best.h.candidate.missing - h.candidate.missing
    return Judged(h, findings, best.total + findings.nats - best.findings.nats + MISSING_NATS * taken)
