"""Ages: the times, generations and log numbers in a file system's structures, compared member by member.

Where no redundancy is left to say whether a member is up to date, these are what remains: a drive that dropped out
holds nothing newer than that moment, while the others go on. Structures of one strip are written together and are one
fact. If all members are up to date, the newest strips are spread over them as all strips are; how unlikely it is that
none of the newest k is on a member that holds the share p of them, (1 - p)^k, is what speaks against it. Ages that
agree prove nothing: a member that was away for a short while, or while little was written, looks the same.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from ...arrays.geometry import Concatenation, Geometry
from ..document.age import Age, Unit

if TYPE_CHECKING:
    from ..structures.anchors import Anchors

Int64 = npt.NDArray[np.int64]


COPY_NATS, CELL_BYTES = 7.0, 4096
"""What a structure says that is newer on another copy, at the same place: copies are written together, but for what a
loss of power breaks off, and then that one is older, too. Those of one block are one fact."""


def ages_of(made: Geometry, images: Sequence[int | None], placed: Sequence[tuple[Anchors, int]]) -> tuple[Age, ...]:
    """The ages of the members by position, by the file system that tells most; none where none tells anything.

    images  of the pile by position; None for a missing one
    placed  the anchors of each file system, and where it starts in the volume, in bytes
    """
    if isinstance(made, Concatenation):
        return ()  # one member after the other is filled
    best: tuple[Unit, Int64, Int64] | None = None
    for anchors, base in placed:
        for unit in Unit:
            told = _strips(made, images, anchors, base, unit)
            if told is not None and (best is None or len(told[0]) > len(best[1])):
                best = (unit, *told)
    return _compared(*best) if best is not None else ()


def _strips(
    made: Geometry, images: Sequence[int | None], anchors: Anchors, base: int, unit: Unit
) -> tuple[Int64, Int64] | None:
    """(member, newest age) of each strip with structures that stand right."""
    members, strips, ages = [], [], []
    for known, image, offset, address, when in anchors.ground.ages:
        if known != unit.value or image not in images:
            continue
        position = images.index(image)
        right = (made.to_volume(position, offset) == address + base) & (when > 0)
        members.append(np.full(int(right.sum()), position, np.int64))
        strips.append((offset[right] - made.start_bytes[position]) // made.strip_bytes)
        ages.append(when[right])
    if not sum(len(m) for m in members):
        return None
    member, strip, age = (np.concatenate(x) for x in (members, strips, ages))
    order = np.lexsort((-age, strip, member))  # the newest of a strip first
    member, strip, age = member[order], strip[order], age[order]
    first = np.concatenate([[True], (np.diff(member) != 0) | (np.diff(strip) != 0)])
    return member[first], age[first]


def _compared(unit: Unit, member: Int64, age: Int64) -> tuple[Age, ...]:
    found = []
    newest = int(age.max())
    for who in np.unique(member).tolist():
        mine = member == who
        latest = int(age[mine].max())
        newer = int((age[~mine] > latest).sum())
        share = float(mine.mean())
        each = -np.log1p(-share) if share < 1 else 0.0
        found.append(Age(who, unit, latest, newest - latest, int(mine.sum()), newer, float(newer * each)))
    return tuple(found)


def copies_compared(start: int, images: Sequence[int], placed: Sequence[tuple[Anchors, int]]) -> tuple[Age, ...]:
    """The ages of copies of one another, structure by structure; none where nothing is told, or where each of them has
    something that is newer: then both were written while they were apart.

    start   where data start on each of them, in bytes; placed: the file systems, and where each begins in the volume
    """
    return _mates([(who, image, lambda offset: offset - start) for who, image in enumerate(images)], placed)


def mates_compared(
    made: Geometry, images: Sequence[int | None], placed: Sequence[tuple[Anchors, int]]
) -> tuple[Age, ...]:  # fmt: skip
    """The same of the members of each mirror set of a striped array, by position; of sets that tell nothing, none."""
    width = made.layout.copies
    found: list[Age] = []
    for first in range(0, made.members, width):
        there = [(p, i) for p, i in enumerate(images[first : first + width], first) if i is not None]
        found += _mates([(p, i, partial(made.to_volume, p)) for p, i in there], placed) if len(there) > 1 else ()
    return tuple(found)


Mate = tuple[int, int, Callable[[Int64], Int64]]
"""A copy: its position, its image, and where in the volume its offsets stand, in bytes."""


def _mates(mates: Sequence[Mate], placed: Sequence[tuple[Anchors, int]]) -> tuple[Age, ...]:
    found: list[Age] = []
    for anchors, base in placed:
        for unit in Unit:
            told = [_by_address(anchors, base, unit, image, at) for _who, image, at in mates]
            ages = [_beside(who, mate[0], told, unit) for who, mate in enumerate(mates)]
            if sum(a.newer for a in ages) > sum(a.newer for a in found):
                found = ages
    return tuple(found) if any(a.newer == 0 for a in found) else ()


def _by_address(
    anchors: Anchors, base: int, unit: Unit, image: int, at: Callable[[Int64], Int64]
) -> dict[int, int]:  # fmt: skip
    """The newest age of the structures of an image that stand where they belong, by their address."""
    made: dict[int, int] = {}
    for known, whose, offset, address, when in anchors.ground.ages:
        if known != unit.value or whose != image:
            continue
        right = (at(offset) == address + base) & (when > 0)
        for place, age in zip(address[right].tolist(), when[right].tolist(), strict=True):
            made[place] = max(age, made.get(place, 0))
    return made


def _beside(who: int, position: int, told: Sequence[dict[int, int]], unit: Unit) -> Age:
    """How old one copy is beside the others."""
    mine, newest = told[who], max((max(t.values(), default=0) for t in told), default=0)
    latest = max(mine.values(), default=0)
    newer = {at // CELL_BYTES for t in told for at, age in t.items() if at in mine and age > mine[at]}
    cells = {at // CELL_BYTES for at in mine}
    return Age(position, unit, latest, newest - latest, len(cells), len(newer), COPY_NATS * len(newer))
