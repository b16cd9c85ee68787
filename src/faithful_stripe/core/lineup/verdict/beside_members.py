"""Images that lie beside an answer's members: how much they hold, and what they say of the volume's file systems."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence

import numpy as np

from ...errors import StripeError
from ...source import read
from ..evidence.membership import LEAST_CLOSING
from ..hypotheses.as_volume import rebuilt
from ..hypotheses.assignment import Hypothesis
from ..hypotheses.pile_table import Table
from ..structures.anchors import Anchors
from ..structures.ground import SECTOR

BLANK_SHARE = 0.25
"""What an image holds at most, of what the members do, to be as good as blank."""


def others_filled(table: Table, used: set[int]) -> bool:
    """Whether an image that takes no part, and is no old copy of one that does, holds about as much as the members."""
    held, least = held_by(table, used)
    others = set(range(len(table.pile))) - used - set(table.outdated)
    return any(held[i] > least for i in others)


def held_by(table: Table, members: Collection[int]) -> tuple[Counter[int], float]:
    """At how many places each image holds something, and at how many at most one that is as good as blank beside
    these members; beside nobody, none is."""
    held = Counter(i for p in table.places for i in p.filled)
    return held, BLANK_SHARE * float(np.median([held[i] for i in members])) if members else 0.0


def named_outside(table: Table, used: set[int], placed: Sequence[tuple[Anchors, int]]) -> set[int]:
    """Images that take no part, and are no old copies of one that does, which bear structures that name a file system
    of the volume."""
    found = set[int]()
    for anchors, _base in placed:
        ground = anchors.ground
        named = Counter(i for kind, image, _o, _a in ground.found if kind not in ground.weak for i in image.tolist())
        if not ground.guessed:
            found |= {i for i, n in named.items() if n > 1 and i not in used and i not in table.outdated}
    return found


def mates_of(used: set[int], outside: set[int], placed: Sequence[tuple[Anchors, int]]) -> bool:
    """Whether an image beside the members has, where it stands on a member, as much of what a file system says: it may
    be its mate. What has it elsewhere was cut in another way, and where rows are counted it has no place among them."""
    for anchors, _base in placed:
        facts = np.stack([anchors.offset, anchors.address], axis=1)
        inside = np.isin(anchors.image, list(used))
        known = {tuple(fact) for fact in facts[inside].tolist()}
        for image in outside:
            theirs = {tuple(fact) for fact in facts[anchors.image == image].tolist()}
            if theirs and len(theirs & known) >= MATE_SHARE * len(theirs):
                return True
    return False


MATE_SHARE = 0.5
"""Of the structures on an image, how many stand at the same place on a member where it may be its mate."""


def gainsaid(table: Table, h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> bool:
    """Whether an image that takes no part bears the volume's file system, or its counted pages, and what it states is
    not there in the volume in most places: whatever was cut from the same volume, in whatever way, agrees with it; a
    member that was left out does not. Where the volume has nothing, for a member is missing, it says nothing."""
    used = {i for c in h.order if c is not None for i in h.candidate.columns[c]}
    outside = named_outside(table, used, placed)
    for anchors, _base in placed:
        if anchors.ground.guessed:
            outside |= set(anchors.image.tolist()) - used - set(table.outdated)
    if not outside:
        return False
    volume = rebuilt(h, table.pile)
    for image in outside:
        same = other = 0
        for anchors, base in placed:
            for offset, address in _spread(anchors, image):
                if not 0 <= address + base <= volume.size - SECTOR or anchors.ground.in_journal(np.array([address]))[0]:
                    continue
                try:
                    there = read(volume, address + base, SECTOR)
                except StripeError:
                    continue
                agrees = there == table.pile.stretch(image, offset, SECTOR).tobytes()
                same, other = same + agrees, other + (not agrees)
        if other >= LEAST_CONTRARY and other > same:
            return True
    return False


def parity_beside(table: Table, h: Hypothesis) -> bool:
    """Whether an image that takes no part in a stripe without redundancy adds up to zero with its members wherever both
    hold something, as far as it does, and with more than one of them: it is their parity, or was. What was cut from the
    same volume in another way is like a member here and there."""
    if h.candidate.level != "RAID0":
        return False
    used = {i for c in h.order if c is not None for i in h.candidate.columns[c]}
    for image in set(range(len(table.pile))) - used - set(table.outdated):
        both = [p for p in table.places if image in p.filled and p.filled & used]
        with_it = [
            {i for r in p.relations if image in r.images and set(r.images) <= used | {image} for i in r.images}
            for p in both
        ]
        last = max((n for n, images in enumerate(with_it) if images), default=-1)
        closing = [images for images in with_it if images]
        everywhere = len(closing) >= max(LEAST_CLOSING, CLOSING_SHARE * (last + 1))
        if everywhere and len(set[int]().union(*closing)) > 2:
            return True
    return False


CLOSING_SHARE = 0.75
"""Of the places at which an image and members hold something, those at which it is related to them where it is, or was,
one of them."""


def _spread(anchors: Anchors, image: int) -> list[tuple[int, int]]:
    """(offset, address) of some structures of an image that state one address alone, spread over all of them."""
    mine = anchors.image == image
    offset, first, number = np.unique(anchors.offset[mine], return_index=True, return_counts=True)
    told = np.stack([offset, anchors.address[mine][first]], axis=1)[number == 1]
    some = np.unique(np.linspace(0, len(told) - 1, min(MOST_COMPARED, len(told))).astype(np.int64))
    return [(int(o), int(a)) for o, a in told[some].tolist()]


LEAST_CONTRARY, MOST_COMPARED = 3, 32
"""Structures of an image beside the members that must not be in the volume, and how many are held against it."""
