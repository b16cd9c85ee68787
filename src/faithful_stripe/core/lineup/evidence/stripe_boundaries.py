"""Borders: with P and Q the algebra says who plays which role at a place, and where that changes a row ends.

Between two places with different roles the border is found by halving. All borders are a whole number of strips apart,
which gives the strip size, and where rows begin within it, without a single structure of a file system.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from math import gcd

import numpy as np

from ..reading.samples import Pile
from .field_algebra import roles, sketch
from .sampled_places import SECTOR, Place, Survey, places_of

MOST_BORDERS, LEAST_BORDERS = 16, 5
"""Borders that are looked for, and fewest that tell the strip size."""

LEAST_STRIP = 4096
INSPECTED = 4

NEAR = 8
"""Sectors on each side of the middle that are tried where it tells nothing."""

Roles = tuple[int, ...]


def strip_and_phase(pile: Pile, places: Sequence[Place], images: Sequence[int], members: int) -> tuple[int, int] | None:
    """The strip size of a group with P and Q and where a strip begins, in bytes; None where the places do not tell. Few
    borders leave the size open: then a negative multiple of it is given, or 0.

    members  of the group, a missing one counted
    """
    told = [(p.offset, r) for p in places if (r := _roles(p, images, members)) is not None]
    pairs = [
        (b[0] - a[0], a, b) for a, b in pairwise(told) if a[1] != b[1] and b[0] - a[0] >= SECTOR
    ]  # fmt: skip
    found = []
    for _gap, before, after in sorted(pairs)[:MOST_BORDERS]:
        border = _border(pile, images, members, before, after)
        if border is not None:
            found.append(border)
    if not found:
        return None
    strip, sure = 0, len(found) >= LEAST_BORDERS
    for border in found[1:]:
        strip = gcd(strip, abs(border - found[0]))
    for border in found[:INSPECTED] if sure else []:
        strip, seen = _divided(pile, images, members, border, strip)
        sure = sure and seen
    if strip % LEAST_STRIP or (not strip and sure):
        return None
    return (strip, found[0] % strip) if sure else (-strip, found[0])


def _divided(pile: Pile, images: Sequence[int], members: int, border: int, strip: int) -> tuple[int, bool]:
    """The strip size, smaller where roles change within what was taken for one strip, and whether it was seen where
    they do: rows that do not tell who is who may lie between."""
    step = max(LEAST_STRIP, strip // 16 // LEAST_STRIP * LEAST_STRIP)
    last: tuple[int, Roles] | None = None
    for offset in range(border, border + strip, step):
        here = _roles_at(pile, images, members, offset)
        if here is not None and last is not None and here != last[1]:
            inner = _border(pile, images, members, last, (offset, here))
            return (gcd(strip, inner - border), True) if inner is not None else (strip, False)
        last = (offset, here) if here is not None else last
    return strip, True


def _roles(place: Place, images: Sequence[int], members: int) -> Roles | None:
    """The role of each image at a place, where there is one answer and all take part."""
    for relation in place.relations:
        if set(relation.images) == set(images):
            answers = roles(relation, members)
            return tuple(answers[0][i] for i in images) if len(answers) == 1 else None
    return None


def _border(
    pile: Pile, images: Sequence[int], members: int, before: tuple[int, Roles], after: tuple[int, Roles]
) -> int | None:
    """The offset between two places at which the roles change, to a sector; None where something is in the way."""
    low, high = before[0], after[0]
    while high - low > SECTOR:
        middle, here = _told_near(pile, images, members, low, high)
        if here is None:
            return None
        if here == before[1]:
            low = middle
        else:
            high = middle
    return high


def _told_near(pile: Pile, images: Sequence[int], members: int, low: int, high: int) -> tuple[int, Roles | None]:
    """The place between two others, as near to their middle as can be, that tells the roles."""
    sectors = (high - low) // SECTOR
    for step in range(min(2 * NEAR, sectors - 1)):
        index = sectors // 2 + (step + 1) // 2 * (1 if step % 2 else -1)
        here = _roles_at(pile, images, members, low + index * SECTOR) if 0 < index < sectors else None
        if here is not None:
            return low + index * SECTOR, here
    return low, None


def _roles_at(pile: Pile, images: Sequence[int], members: int, offset: int) -> Roles | None:
    data = np.zeros((len(pile), SECTOR), np.uint8)
    for image in images:
        if offset + SECTOR <= pile.sources[image].size:
            data[image] = pile.stretch(image, offset, SECTOR)
    taken = Survey(np.array([offset]), sketch(data)[None], np.zeros((1, len(pile)), bool))
    found = places_of(taken)
    return _roles(found[0], images, members) if found else None
