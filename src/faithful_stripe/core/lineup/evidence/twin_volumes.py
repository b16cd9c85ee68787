"""Twin volumes: groups hidden among the images of several arrays that hold the same, such as one copied to another.

What one array has in a row stands in a row of the other, too: all of their images are related at once, by more
equations than any group has, and no group's own relation is seen. It is there, at every place; so each small set of the
images is asked whether it closes by itself.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

from .relation_kinds import kind_of
from .sampled_places import Place

MOST_IMAGES, LEAST_IMAGES = 11, 3
"""Images of all the arrays, of which every set is tried; and of one."""

PROBED, MOST_FAILING = 16, 2
"""Places that are looked at, and how many of them a group may fail to close at."""

TANGLED_SHARE = 0.42
"""Of the places with relations, those at which there are more equations than any group has."""


def hidden_groups(places: Sequence[Place]) -> list[frozenset[int]]:
    """The least sets of images that close by themselves wherever all are entangled; none where hardly any are."""
    related = [place for place in places if place.relations]
    tangled = [place for place in related if any(kind_of(r) == "more" for r in place.relations)]
    if not tangled or len(tangled) < TANGLED_SHARE * len(related):
        return []
    images = sorted({i for p in tangled for r in p.relations if kind_of(r) == "more" for i in r.images})
    if len(images) > MOST_IMAGES:
        return []
    probed = tangled[:: max(1, len(tangled) // PROBED)][:PROBED]
    found: list[frozenset[int]] = []
    for size in range(LEAST_IMAGES, len(images)):
        for some in map(frozenset, combinations(images, size)):
            if not any(group <= some for group in found) and _closes(some, probed):
                found.append(some)
    return found


def _closes(images: frozenset[int], probed: Sequence[Place]) -> bool:
    """Whether what a set of images holds is related within the set, nearly everywhere, by one or two equations."""
    failing = 0
    for place in probed:
        filled = place.filled & images
        within = place.within(images)
        covered = {i for r in within for i in r.images}
        failing += len(filled) > 1 and (filled != covered or any(kind_of(r) == "more" for r in within))
        if failing > MOST_FAILING:
            return False
    return True
