"""Chains: images of which each holds the same as a neighbour in a part of the rows, as the pairs of a RAID 1E do."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from .membership import FULL_CLOSING, LEAST_CLOSING, Membership
from .sampled_places import Place

ALIKE_SHARE = 0.05
"""Of the places at which images hold something, those at which some are alike at least where the others are taken for
rows that nobody ever wrote."""


def chains_of(places: Sequence[Place]) -> list[Membership]:
    """Images of which each equals its neighbour on one side in some rows, on the other side in others."""
    pairs: Counter[tuple[int, int]] = Counter()
    for place in places:
        for relation in place.relations:
            if len(relation.images) == 2 and relation.plain:
                pairs[relation.images[0], relation.images[1]] += 1
    # in rows that were never written the drives hold what they held before, each something else; where next to nothing
    # is alike, noise is what the volume holds
    paired = {i for pair in pairs for i in pair}
    written = theirs = [place for place in places if not place.filled.isdisjoint(paired)]
    if sum(bool(place.relations) for place in theirs) >= max(FULL_CLOSING, ALIKE_SHARE * len(theirs)):
        written = [place for place in theirs if place.relations or not place.filled <= place.noise]
    either = {p: sum(p[0] in place.filled or p[1] in place.filled for place in written) for p in pairs}
    edges = {p for p, c in pairs.items() if c >= LEAST_CLOSING and 0.25 <= c / max(1, either[p]) <= 0.8}
    near: dict[int, set[int]] = {}
    for a, b in edges:
        near.setdefault(a, set()).add(b)
        near.setdefault(b, set()).add(a)
    found = []
    for end in sorted(i for i, others in near.items() if len(others) == 1):
        path = [end]
        while True:
            onward = [b for b in near[path[-1]] if b not in path]
            if len(onward) != 1 or len(near[path[-1]]) > 2:
                break
            path.append(onward[0])
        if len(path) >= 3 and path[0] < path[-1] and len(near[path[-1]]) == 1:
            closing = sum(pairs[min(a, b), max(a, b)] for a, b in pairwise(path))
            blocks = sum(not place.filled.isdisjoint(path) for place in written)
            found.append(Membership(tuple(sorted(path)), "chain", closing, max(closing, blocks), (), tuple(path)))
    return found


def as_piece(pair: Membership) -> Membership:
    """A pair as a piece of a chain."""
    return replace(pair, kind="chain", order=pair.images) if len(pair.images) == 2 else pair
