"""Outdated members: which of a group's images does not belong to the present, where its parity does not close.

With P and Q the others still close without the one that is wrong. With one parity the volume is read once more with
each member left out and computed from the others: files and checksums that lie over the open places hold only without
the outdated one. Where neither tells, nobody is blamed.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import replace

from .hypotheses import Hypothesis
from .membership import Membership, Place

LEAST_PLACES = 3
LEAST_GAIN = 6.0
"""Nats by which the volume reads better without the blamed member than with it, and than without any other one."""


def culprit(
    places: Sequence[Place], best: Hypothesis, groups: Sequence[Membership], worth: Callable[[Hypothesis], float]
) -> int | None:
    """The image that is out of date, or None where nobody stands out.

    worth  what was read in a hypothesis's volume, in nats
    """
    for group in groups:
        if not group.open:
            continue
        blamed = _by_algebra(places, group)
        if blamed is None and group.kind == "sum":
            blamed = _by_reading(best, group, worth)
        if blamed is not None:
            return blamed
    return None


def _by_algebra(places: Sequence[Place], group: Membership) -> int | None:
    """Who takes no part where the others close, or holds something where all the others hold nothing."""
    counts: Counter[int] = Counter()
    where = set(group.open)
    members = set(group.images)
    for place in places:
        if place.offset not in where:
            continue
        if len(place.filled & members) == 1:
            counts.update(place.filled & members)
            continue
        covered = {i for r in place.relations if set(r.images) <= members for i in r.images}
        absent = (place.filled & members) - covered
        if covered and len(absent) == 1:
            counts[next(iter(absent))] += 1
        elif covered and not absent:
            counts.update(members - place.filled)
    if not counts:
        return None
    (first, count), *rest = counts.most_common(2)
    return first if count >= LEAST_PLACES and count >= 3 * (rest[0][1] if rest else 0) else None


def _by_reading(best: Hypothesis, group: Membership, worth: Callable[[Hypothesis], float]) -> int | None:
    whole = worth(best)
    without: dict[int, float] = {}
    for position, column in enumerate(best.order):
        if column is not None and best.cast.columns[column][0] in group.images:
            order = (*best.order[:position], None, *best.order[position + 1 :])
            without[best.cast.columns[column][0]] = worth(replace(best, order=order))
    ranked = sorted(without, key=lambda i: -without[i])
    if len(ranked) < 2:
        return None
    clear = without[ranked[0]] > max(whole, without[ranked[1]]) + LEAST_GAIN
    return ranked[0] if clear else None
