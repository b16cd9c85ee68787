"""Tails: what stands at the end of members and is not their array's, such as what controllers write there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from ...arrays.geometry import STRIP_LEAST, Geometry
from ..evidence.sampled_places import Place
from ..reading.samples import BLOCK, Pile
from .as_volume import mirror_strip
from .assignment import Hypothesis

TAIL_BYTES = 64 << 20
"""How far from the end of the images what controllers write about the array may stand."""


MOST_BEHIND = 1 << 20
"""How far behind the end of a mirror's file system its images may end for it to fill them: a partition begins at a
whole MiB."""

LOOKED_AT = 24
"""Places between the data and what stands behind them that are looked at for a gap."""

LOOKED_BACK = 32
"""Places before the last at which members are related: where most of them are not, that others are not says nothing of
where the array ends."""


def without_tail(made: Geometry, h: Hypothesis, pile: Pile, places: Sequence[Place], end: int) -> Geometry:
    """The geometry without what stands at the end of the members and is not the array's: there they are not related.

    end  where data surely reach to on the members, in bytes
    """
    if not made.redundant or h.candidate.level == "RAID1E":  # whose copies are not at one offset
        return made
    images = _telling(h)
    related, unrelated, other = set[int](), set[int](), list[int]()
    sets = [images] if h.candidate.level == "RAID1" else [set(c) for c in h.candidate.columns if len(c) > 1]
    sets = sets if h.layout.rotation is None else []
    for place in places:
        filled = place.filled & images
        covered = {i for r in place.relations if set(r.images) <= images for i in r.images}
        if filled and filled == covered:
            related.add(place.offset)
        elif filled:
            unrelated.add(place.offset)
            if not any(len(filled & mates) == 1 for mates in sets):
                other.append(place.offset)  # one mate alone holds something: the other one went silent
    closing = max(related, default=made.start_bytes[0])
    before = [o in unrelated for o in sorted(related | unrelated) if o <= closing][-LOOKED_BACK:]
    if 2 * sum(before) > len(before):
        return made  # what is the array's is not related there either: a member fell silent, or is old
    least = min((pile.sources[i].size for i in images), default=0) - TAIL_BYTES
    first = min((o for o in other if o > max(closing, least, end - 1)), default=0)
    if not _empty_between(pile, images, closing, first):
        return made  # what follows upon the data without a gap may as well be data, and rows that do not match
    mirror = made.layout.level == "RAID1"
    unit = STRIP_LEAST if mirror else made.strip_bytes * made.pattern.unit_rows
    least_extent = -(-(end - made.start_bytes[0]) // unit) * unit  # nothing of what surely is the volume's is cut off
    extent = max((first - made.start_bytes[0]) // unit * unit, least_extent)
    if not first or extent < unit or extent >= min(made.member_bytes):
        return made
    strip = mirror_strip(extent) if mirror else made.strip_bytes
    return replace(made, strip_bytes=strip, member_bytes=(extent,) * made.members)


def filled(made: Geometry, pile: Pile, images: Sequence[int], end: int) -> Geometry | None:
    """A mirror's geometry up to the end of the file system that fills it, where its images end soon behind that, and
    differ there: what is there is the controller's, with whatever all copies of it say alike. None where not.

    end  of what is known to be in the volume, on the members, in bytes
    """
    extent = -(-(end - made.start_bytes[0]) // STRIP_LEAST) * STRIP_LEAST
    first, last = made.start_bytes[0] + extent, min(pile.sources[i].size for i in images)
    if extent <= 0 or not 0 < last - first <= MOST_BEHIND:
        return None
    behind = [pile.stretch(image, first, last - first) for image in images]
    if all(np.array_equal(behind[0], other) for other in behind[1:]):
        return None
    return replace(made, strip_bytes=mirror_strip(extent), member_bytes=(extent,) * made.members)


def _empty_between(pile: Pile, images: set[int], closing: int, first: int) -> bool:
    """Whether all images are empty at some place between the last at which they are related and one behind it."""
    for at in np.unique(
        np.linspace(closing + BLOCK, first - BLOCK, LOOKED_AT).astype(np.int64) // BLOCK * BLOCK
    ).tolist():
        if closing < at < first and not any(pile.stretch(image, at, BLOCK).any() for image in images):
            return True
    return False


def _telling(h: Hypothesis) -> set[int]:
    """The images of which relations would tell where they are members: not those of a span that has no redundancy left,
    nor a mirror's only one."""
    if h.candidate.level == "RAID10":
        return {i for images in h.candidate.columns if len(images) > 1 for i in images}
    k, most = h.layout.span_members, 2 if h.layout.q_place else 1
    spans = [h.order[at : at + k] for at in range(0, len(h.order), k)]
    if h.layout.rotation is None or not any(c is None for c in h.order):
        return set(h.candidate.images)
    whole = [c for span in spans if sum(c is None for c in span) < most for c in span if c is not None]
    return {i for c in whole for i in h.candidate.columns[c]}
