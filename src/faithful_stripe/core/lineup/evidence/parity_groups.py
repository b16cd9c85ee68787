"""Parity groups: which images belong together, by the linear relations among what stands at one offset.

Each sampled place votes. A real group closes on most of the places in which it holds data, a chance one on almost
none. Mirrors are relations of two; the pairs of a RAID 1E hold in a part of the rows each and form a chain.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations

import numpy as np

from .chains import as_piece, chains_of
from .membership import FULL_CLOSING, FULL_SHARE, LEAST_CLOSING, LEAST_SHARE, PARITY_KINDS, PLAIN_SHARE, Membership
from .relation_kinds import group_kind, kind_of, sparse_kind
from .sampled_places import Place
from .twin_volumes import hidden_groups

LEAST_TAKING_PART = 3
"""Places at which a member holds something, and they close."""

LEAST_BEFORE, SURE_BEFORE, SURE_AFTER = 12, 0.85, 0.1
"""Where a group ends to close: places before, the share of them at which it closes, and of those behind."""

ALONE_SHARE = 0.2
"""Of the places before a group's border, those at which others may hold something for it to be alone there; and of
those behind, those at which they may hold nothing."""


def memberships(places: list[Place]) -> list[Membership]:
    """The groups, disjoint, the best supported first."""
    found = _chosen(_candidates(places), places)
    filled = {i for p in places for i in p.filled} if found else set[int]()
    for number, group in enumerate(found):
        found[number] = _extended(group, places, filled - {i for g in found for i in g.images})
    return found


def or_twins(groups: list[Membership], places: list[Place]) -> list[Membership]:
    """The groups; where there are none, those that hide behind another array with the same volume."""
    return groups or _chosen(hidden_groups(places), places)


def _extended(group: Membership, places: Sequence[Place], others: set[int]) -> Membership:
    """A group of parity with those that hold next to nothing, and without whom it does not close where they do hold
    something. That they are related to its members there, at one place or two, is no chance; and where they hold
    something and it closes without them, they are none of its members."""
    least = {"sum": 1, "two": 2}.get(group.kind, 0)
    for image in sorted(others) if least and not group.until else ():
        images = frozenset(group.images)
        wider, needed, alone = images | {image}, 0, 0
        for place in places:
            if image not in place.filled or place.unread & wider or any(image in same for same in place.alike):
                continue
            held, together = place.filled & images, place.filled & wider
            own, joint = place.within(images), place.within(wider)
            closes = held == {i for r in own for i in r.images} and sum(len(r.basis) for r in own) >= least
            with_it = together == {i for r in joint for i in r.images} and sum(len(r.basis) for r in joint) >= least
            if held and closes:
                alone += not any(image in r.images for r in joint)
            elif held and len(together) > 2:
                needed += with_it
        if needed and not alone:
            more = tuple(sorted(wider))
            group = replace(group, images=more, closing=group.closing + needed)
    return group


def _chosen(candidates: Sequence[frozenset[int]], places: list[Place]) -> list[Membership]:
    """Of sets of images, those that are groups, disjoint, the best supported first."""
    sound = [m for images in candidates if (m := tested(images, places)) is not None]
    chains = chains_of(places)
    sound += chains
    if chains:  # two neighbours of which the others are missing share every other row, too
        sound = [as_piece(m) if m.kind == "copies" and m.closing < PLAIN_SHARE * m.blocks else m for m in sound]
    chained = {frozenset(c.images) for c in chains}
    sound = [m for m in sound if m.kind != "copies" or not any(set(m.images) <= c for c in chained)]
    sound = [m for m in sound if not _several(m, sound) and not _part(m, sound)]
    # a few may close alone as far as the others hold nothing
    sound = [m for m in sound if not m.until or not any(set(m.images) < set(other.images) for other in sound)]
    sound = [m for m in sound if not m.until or not _alone_before(m, places)]
    # beside whole copies of one another, a copy of a part is none of them
    copies = [m for m in sound if m.kind == "copies" and not m.until]
    sound = [
        m for m in sound
        if not (m.until and m.kind == "copies" and any(set(c.images) < set(m.images) for c in copies))
    ]  # fmt: skip
    # behind its border such a group goes on without one of its members
    partly = [m for m in sound if m.until and m.kind == "two"]
    sound = [
        m for m in sound
        if not (m.kind == "two less one" and any(set(m.images) < set(p.images) and len(p.images) == len(m.images) + 1
                                                 for p in partly))
    ]  # fmt: skip
    taken: set[int] = set()
    found = []
    for candidate in sorted(sound, key=_rank):
        if not taken & set(candidate.images):
            taken |= set(candidate.images)
            found.append(candidate)
    return found


def _alone_before(group: Membership, places: Sequence[Place]) -> bool:
    """Whether a group closes as far as nobody else holds anything, and no further: in rows with one strip of data
    parity is a copy of it, whoever else is a member."""
    images = set(group.images)
    there = [p for p in places if p.filled & images]
    crowded = [
        [bool(p.filled - images) for p in there if (p.offset < group.until) is before] for before in (True, False)
    ]
    before, behind = (sum(some) / max(1, len(some)) for some in crowded)
    return before < ALONE_SHARE and behind > 1 - ALONE_SHARE


def _rank(group: Membership) -> tuple[bool, float, int, int]:
    """The best supported first; those that close in a region only after all others."""
    return bool(group.until), -round(group.closing / group.blocks, 1), -len(group.images), -group.closing


def _part(less: Membership, sound: Sequence[Membership]) -> bool:
    """Whether a group that seems to lack a member is only a part of one that has it: leave one member of P and Q out,
    and the others still close, also where that one could not be read."""
    wholes = [m for m in sound if m.kind == "two" and set(less.images) < set(m.images)]
    return less.kind == "two less one" and any(m.closing >= PLAIN_SHARE * less.closing for m in wholes)


def _several(whole: Membership, sound: Sequence[Membership]) -> bool:
    """Whether a group is only the union of others that close by themselves, the spans of a nested array, or holds two
    of them: of one span, no two without a common member close."""
    images = set(whole.images)
    inside = [m for m in sound if m.kind in PARITY_KINDS and len(m.images) > 2 and set(m.images) < images]
    parts = [set(m.images) for m in inside if m.closing >= 0.9 * min(m.blocks, whole.closing)]
    return whole.kind in PARITY_KINDS and any(one.isdisjoint(other) for one, other in combinations(parts, 2))


def _candidates(places: list[Place]) -> list[frozenset[int]]:
    """Sets of images that are often related, and their unions where they share a member. More equations than any span
    has are those of a pattern, which anybody may share."""
    counts: Counter[frozenset[int]] = Counter()
    for place in places:
        counts.update(frozenset(r.images) for r in place.relations if kind_of(r) != "more")
    common = [(s, c) for s, c in counts.most_common(300) if c >= 2]
    found = {s for s, _c in common}
    for seed, _count in common[:40]:
        union = set(seed)
        for other, count in common:
            if count >= 3 and union & other and not (len(other) == 2 and len(seed) > 2 and not other <= union):
                union |= other
        found.add(frozenset(union))
    found |= set(_linked(places))
    return sorted(found, key=lambda s: (-len(s), sorted(s)))


def _linked(places: Sequence[Place]) -> list[frozenset[int]]:
    """Images that relations link, whoever takes part in each: where hardly anything is written, other members hold
    something in every row, and no set of them is met twice."""
    often = Counter(i for place in places for i in {i for r in place.relations for i in r.images})
    linked: list[set[int]] = []
    for relation in (r for place in places for r in place.relations):
        some = {i for i in relation.images if often[i] >= LEAST_TAKING_PART}
        for other in [one for one in linked if one & some]:
            some |= other
            linked.remove(other)
        if some:
            linked.append(some)
    return [frozenset(some) for some in linked if len(some) > 2]


def tested(images: frozenset[int], places: Sequence[Place], bounds: tuple[int, int] | None = None) -> Membership | None:
    """The group of these images, as the places show it; None where they do not close.

    bounds  from where to where on the images the array's data are known to stand: all of it should close
    """
    closes: list[bool] = []
    whole: list[bool] = []
    offsets: list[int] = []
    scarce: list[bool] = []
    independent: list[int] = []
    partly: Counter[str] = Counter()
    taking_part: Counter[int] = Counter()
    noisy = packed = lonely = 0
    kinds: Counter[str] = Counter()
    behind: Counter[str] = Counter()
    for place in places:
        filled = place.filled & images
        if not filled:
            continue
        within = place.within(images)
        if any(images <= same for same in place.alike):
            continue  # the same on all says nothing of parity: a controller's metadata, or a pattern
        covered = set().union(*(r.images for r in within))
        if place.unread & images:
            continue  # one of them could not be read there: it says nothing, for or against
        if filled == images and filled <= place.noise:
            noisy += not covered  # noise on all: never initialized, most likely
            packed += filled == covered
        # where it alone of all the pile holds something, that is another time's, or another array's
        lonely += len(place.filled) == 1 < len(images) - 1
        closes.append(filled == covered)
        whole.append(filled == images)
        # where one of them has ended, an equation is gone
        independent.append(sum(len(r.basis) for r in within) + bool(place.ended & images))
        scarce.append(len(filled) <= max(1, len(images) // 4))
        offsets.append(place.offset)
        if filled == covered:
            taking_part.update(covered)
        if filled == covered and len(within) == 1 and len(covered) > min(2, len(images) - 1):
            if place.silent & images:  # behind its end somebody is missing who is not before it
                behind[kind_of(within[0])] += 1
            else:
                (kinds if covered == images else partly)[kind_of(within[0])] += 1
    if end := _border(closes):
        return _tested_until(images, places, bounds, offsets[end])
    closing = sum(closes)
    noisy = noisy if packed < closing / 2 else 0  # unless the data themselves look like noise
    least = FULL_SHARE if packed >= max(FULL_CLOSING, closing / 2) else LEAST_SHARE
    if closing < LEAST_CLOSING or closing < least * (len(closes) - noisy - lonely):
        return None
    if min(taking_part[i] for i in images) < max(LEAST_TAKING_PART, 0.02 * closing):
        return None  # somebody in it hardly ever holds anything when they close
    kind = group_kind(len(images), kinds) if kinds else sparse_kind(partly or behind)
    if kind == "two":  # a member that holds zeros where it should not leaves one relation of two
        closes = [c and n >= 2 for c, n in zip(closes, independent, strict=True)]
        if end := _border(closes):
            return _tested_until(images, places, bounds, offsets[end])
        closing = sum(closes)
        if closing < LEAST_CLOSING:
            return None
    if kind == "copies":  # one that holds nothing where the others do is none
        closes = [c and w for c, w in zip(closes, whole, strict=True)]
        closing = sum(closes)
        if closing < LEAST_CLOSING or closing < LEAST_SHARE * (len(closes) - noisy):
            return None
    first, last = closes.index(True), len(closes) - closes[::-1].index(True)
    # before and after, members may carry what is not the array's: but then all of them do
    open_at = tuple(
        o
        for i, (o, c, few) in enumerate(zip(offsets, closes, scarce, strict=True))
        if not c and (first <= i < last or few or (bounds is not None and bounds[0] <= o < bounds[1]))
    )
    lonely = lonely if kind != "copies" else 0
    return Membership(tuple(sorted(images)), kind, closing, len(closes) - noisy - lonely, open_at) if kind else None


def _tested_until(
    images: frozenset[int], places: Sequence[Place], bounds: tuple[int, int] | None, until: int
) -> Membership | None:
    """The group of these images as far as it closes."""
    made = tested(images, [p for p in places if p.offset < until], bounds)
    return replace(made, until=until) if made is not None else None


def _border(closes: Sequence[bool]) -> int:
    """How many places there are before the one from which on a group closes no more; 0 where it closes all along, or
    nowhere."""
    count = len(closes)
    if count < 2 * LEAST_BEFORE:
        return 0
    held = np.concatenate([[0], np.cumsum(closes)])
    before = held[1:count] / np.arange(1, count)
    after = (held[count] - held[1:count]) / np.arange(count - 1, 0, -1)
    good = (before >= SURE_BEFORE) & (after <= SURE_AFTER)
    good &= (held[1:count] >= LEAST_BEFORE) & (np.arange(count - 1, 0, -1) >= LEAST_BEFORE)
    if not good.any():
        return 0
    return int(np.argmax(np.where(good, before - after, -1.0))) + 1
