"""Outdated copies: images that look like a member and make no parity group close, where that member does."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from ...ranges import union
from ..reading.samples import BLOCK, Pile
from .membership import CHECKS, LEAST_CLOSING, LEAST_SHARE, PARITY_KINDS, Membership
from .parity_groups import memberships, or_twins
from .sampled_places import MOST_ALIKE, Place, Survey, places_of, survey_at

COMPARED_BYTES, CHUNK = 256 << 20, 1 << 20

RELATED_SHARE = 0.5
"""Of the places at which an image differs from one that it looks like, those at which it may be related to others and
be an outdated copy all the same."""


def look_alikes(taken: Survey) -> list[tuple[int, int]]:
    """Pairs of images that hold the same at many places: mirrors, or a member beside its outdated copy. Where many hold
    the same, as what is filled with one word does, it says nothing of any two."""
    filled = np.asarray(taken.sketches.any(axis=2))
    for row in np.flatnonzero(filled.sum(axis=1) > MOST_ALIKE).tolist():
        _word, which, count = np.unique(taken.sketches[row], axis=0, return_inverse=True, return_counts=True)
        filled[row] &= count[which.reshape(-1)] <= MOST_ALIKE
    found = []
    for a in range(taken.sketches.shape[1]):
        for b in range(a + 1, taken.sketches.shape[1]):
            either = filled[:, a] | filled[:, b]
            same = (taken.sketches[:, a] == taken.sketches[:, b]).all(axis=1) & filled[:, a] & filled[:, b]
            if same.sum() >= LEAST_CLOSING and same.sum() >= LEAST_SHARE * either.sum():
                found.append((a, b))
    return found


def differences(pile: Pile, a: int, b: int, most: int = 48) -> npt.NDArray[np.int64]:
    """Offsets of blocks at which two images differ, spread over all there are in what is compared: int64 (n,)."""
    found: list[int] = []
    left = COMPARED_BYTES
    for start, end in union([*pile.data(a), *pile.data(b)]):
        for at in range(start, min(end, start + left), CHUNK):
            stop = min(at + CHUNK, end, pile.sources[a].size, pile.sources[b].size)
            count = (stop - at) // BLOCK
            if count > 0:
                other = (pile.blocks(a, at, count) != pile.blocks(b, at, count)).any(axis=1)
                found += (at + np.flatnonzero(other) * BLOCK).tolist()
        left -= end - start
        if left <= 0:
            break
    return np.array(found[:: max(1, len(found) // most)], np.int64)


def without_outdated(pile: Pile, taken: Survey) -> tuple[list[Place], list[Membership], dict[int, int]]:
    """Places, groups, and the images that are outdated copies of a member: outdated -> member.

    Of two look-alikes one is outdated when the other one makes a parity group close, and it is itself none of its
    members: in sparse rows, parity is a copy of the only data there are.
    """
    places = places_of(taken)
    groups = memberships(places)
    outdated: dict[int, int] = {}
    neighbours = {frozenset(pair) for g in groups if g.kind == "chain" for pair in pairwise(g.order)}
    for pair in look_alikes(taken):
        if any(i in outdated for i in pair) or frozenset(pair) in neighbours:
            continue
        best: tuple[float, int] | None = None
        unlike = survey_at(pile, differences(pile, *pair))
        apart = places_of(unlike, outdated)
        for old, kept in (pair, pair[::-1]):
            made = memberships(places_of(taken, [*outdated, old]))
            group = next((g for g in made if kept in g.images and g.kind in PARITY_KINDS), None)
            if group is None or len(group.images) < 3 or _belongs(old, group, apart, places):
                continue
            # where the two differ, the present one closes
            there = [p for p in places_of(unlike, [*outdated, old]) if p.filled & set(group.images)]
            right = sum(
                p.filled & set(group.images) == {i for r in p.relations for i in r.images} & set(group.images)
                for p in there
            )
            worth = group.closing / group.blocks + right / max(1, len(there))
            if best is None or worth > best[0]:
                best = (worth, old)
        already = [g for g in groups if set(pair) <= set(g.images) and g.kind == "sum" and g.closing >= 0.9 * g.blocks]
        if best is not None and not already:
            old = best[1]
            outdated[old] = pair[0] if old == pair[1] else pair[1]
    if outdated:
        places = places_of(taken, outdated)
        groups = memberships(places)
    return places, or_twins(groups, places), outdated


def _belongs(image: int, group: Membership, apart: Sequence[Place], places: Sequence[Place]) -> bool:
    """Whether an image that looks like one of a group is a member of it, too, and no copy of that one.

    Where the two differ and the others close, a copy is related to nobody. One that holds nothing there is an equation
    more than the group has, at the places where it is the same; a member is none.

    apart  places at which the two differ
    """
    others = frozenset(group.images) - {image}

    def equations(place: Place, images: frozenset[int]) -> int:
        return sum(len(r.basis) for r in place.within(images))

    held = [p for p in apart if image in p.filled and equations(p, others)]
    if held:
        return sum(any(image in r.images for r in p.relations) for p in held) > RELATED_SHARE * len(held)
    most = CHECKS[group.kind]
    there = [p for p in places if image in p.filled and equations(p, others) <= most]
    return sum(equations(p, others | {image}) > most for p in there) < LEAST_CLOSING
