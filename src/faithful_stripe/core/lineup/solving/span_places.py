"""Where images stand in a volume whose members follow one another: each at one distance, told by structures.

On a striped member the distance between where a structure stands and where it says it belongs changes with every strip;
on a member of a span it is the same from end to end, and is the member's place in the volume.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from ...arrays.geometry import STRIP_MOST
from ..hypotheses.assignment import strips
from ..hypotheses.pile_table import Table
from ..hypotheses.placement import CELL_BYTES, FACT_NATS
from ..structures.anchors import Anchors
from ..structures.carved_files import length_if_sound

Int64 = npt.NDArray[np.int64]

LEAST_CELLS, LEAST_IN_ALL = 2, 3
"""Places of a member, further apart than any strip is long, at which the same distance holds: there are no strips.
And such places on all members."""

LEAST_CROSSED = 2
"""Borders of strips of each size over which something whole lies."""

AGREED, AGREED_OF_SEVERAL, MOSTLY_TWICE = 0.55, 0.8, 0.7
"""Of a member's structures; copies in a journal stand elsewhere. Of those that may belong at several addresses, where a
file system keeps two copies, nearly all: a distance that suits one strip for the first suits others for the second."""

MOST_DISTANCES = 8
"""Places that one image may have by what it states."""

MOST_FILES = 40
"""Files on one image whose own checksum is asked."""

APART_BYTES = 1 << 20
"""Structures of one image that are so far from one another are places of their own; and borders of strips that are no
larger are looked at one by one."""


@dataclass(frozen=True)
class Placed:
    """An image with the one distance between where its structures stand and where they belong.

    cells  how many places far from one another agree on it; nats: what they say
    reach  from the first of its structures to the last, in bytes
    """

    image: int
    distance: int
    cells: int
    nats: float
    reach: int


def unstriped(files: Sequence[Anchors], images: set[int]) -> set[int]:
    """Images on which a file system stands as it is, from one place to others further away than any strip is long."""
    placed = [one for a in files if not a.ground.guessed for i in images if (one := placed_on(a, i)) is not None]
    return {one.image for one in placed if one.cells >= LEAST_CELLS and one.reach >= STRIP_MOST}


def whole_on(files: Sequence[Anchors], image: int) -> bool:
    """Whether an image bears most of a file system at its one distance; a set of a striped array bears its share."""
    for anchors in files:
        one = placed_on(anchors, image)
        if one is not None:
            here = (anchors.image == image) & (anchors.address - anchors.offset == one.distance)
            if len(np.unique(anchors.address[here])) > AGREED * len(np.unique(anchors.address)):
                return True
    return False


def placed_on(anchors: Anchors, image: int) -> Placed | None:
    """An image with its distance, where one holds all over it; the largest of those that are as likely."""
    return next(iter(placings(anchors, image)), None)


def placings(anchors: Anchors, image: int) -> list[Placed]:
    """An image with each distance that holds all over it, the largest first: a lone boot sector is rather the copy at
    the end, and a lone superblock may be that of any group."""
    mine = anchors.image == image
    if not mine.any():
        return []
    distance, offset = anchors.address[mine] - anchors.offset[mine], anchors.offset[mine]
    values, counts = np.unique(distance, return_counts=True)
    several = len(np.unique(offset)) < MOSTLY_TWICE * int(mine.sum())
    found = []
    for best in values[counts == counts.max()][::-1][:MOST_DISTANCES].tolist():
        copies = anchors.ground.in_journal(offset + best) & (distance != best)
        here, told = np.unique(offset[distance == best]), np.unique(offset[~copies])
        if len(here) < (AGREED_OF_SEVERAL if several else AGREED) * len(told):
            continue
        apart, last = 0, -2 * APART_BYTES
        for at in here.tolist():
            if at - last > APART_BYTES:
                apart, last = apart + 1, at
        _cell, size = np.unique(here // CELL_BYTES, return_counts=True)
        nats = FACT_NATS * float((1 + np.log(size)).sum())
        found.append(Placed(image, best, apart, nats, int(here[-1] - here[0])))
    return found


def unbroken(table: Table, anchors: Anchors, found: Sequence[Placed], start: int) -> bool:
    """Whether what is whole on the images lies over borders of strips of every size: between structures at the same
    distance there is none, nor in a file whose own checksum holds as it stands."""
    whole: list[tuple[int, int]] = []
    for one in found:
        mine = (anchors.image == one.image) & (anchors.address - anchors.offset == one.distance)
        whole += [(a, b) for a, b in pairwise(np.unique(anchors.offset[mine]).tolist()) if b - a <= APART_BYTES // 2]
        for c in [c for c in table.carved if c.image == one.image][:MOST_FILES]:
            length = length_if_sound(table.pile.sources[one.image], c.offset, c.kind)
            whole.append((c.offset, c.offset + length))
    ranges = np.array(whole, np.int64).reshape(-1, 2) - start
    usual = [strip for strip in strips() if strip <= APART_BYTES]
    return all(int(((ranges[:, 1] - 1) // s > ranges[:, 0] // s).sum()) >= LEAST_CROSSED for s in usual)
