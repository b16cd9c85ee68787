"""Images that are copies of a part of a volume which the others hold: a backup, or a drive from before the array was.

Such an image bears the volume's own file system, and everything on it stands somewhere else in the pile, too. Found
without it, the volume says so: all that stands on it stands there as well, at one distance, from strip to strip.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from ...ranges import total
from ..document.lineup_document import Lineup, Solution
from ..document.told_facts import Note, Remark
from ..evidence.sampled_places import SECTOR
from ..evidence.shifted_copies import LEAST_FILLED, MOST_REPEATS, sector_sums
from ..reading.samples import BLOCK, LOOK_BYTES, LOOK_CHUNK, Pile, Tell

PROBES, LEAST_PROBES = 96, 24
"""Sectors of an image that are looked for on the others, spread over its data, and how many must be like no other."""

LIKELY_SHARE, MORE_THAN_MOST = 0.6, 1.5
"""Of those, the share that must stand on others, as what is on a missing member does not; and how much larger it
is than that of half of the images, as files are kept twice, too."""

FOUND_SHARE = 0.9
"""The share that must stand at one distance in the volume, or where a member is missing: a few may be damaged since."""

LEAST_SEEN, LEAST_REACH = 0.3, 1 << 20
"""The share that must be seen there at least, however many members are missing; and over how many bytes of the image
where no strip tells."""

LEAST_MEMBERS = 2
"""Members on which they must stand where the volume is striped: the strip of one may be a second copy of anything."""

Int64 = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Copied:
    """An image whose sectors stand on others, too.

    told    how many sectors were looked for that are no pattern; probes: where all stand on the image, int64 (n,)
    offset  of those found: on the image, and on which other one they stand where; int64 arrays of one length
    """

    image: int
    told: int
    probes: Int64
    offset: Int64
    other: Int64
    there: Int64


def without_part_copies(
    pile: Pile, search: Callable[[Pile], Solution], stopped: Callable[[Solution], bool], tell: Tell
) -> Solution | None:  # fmt: skip
    """The arrays of a pile without the images that are copies of a part of them; None where there are none, or where
    what is found without them does not show it. What a person stopped is what is known."""
    copied = copied_from_others(pile, tell) if len(pile) > 2 and pile.given is None else []
    rest = [i for i in range(len(pile)) if i not in {one.image for one in copied}]
    if not copied or len(rest) < 2:
        return None
    tell("some images may be copies of a part of what the others hold: without them")
    part = Pile([pile.names[i] for i in rest], [pile.sources[i] for i in rest], effort=pile.effort)
    with pile.effort.within(HALF):
        found = search(part)
    pile.bytes_read += part.bytes_read
    others = tuple(pile.names[one.image] for one in copied)
    if stopped(found):
        return replace(found, unused=(*found.unused, *others), bytes_read=pile.bytes_read)
    notes = []
    for one in copied:
        ranges = (shown for array in found.arrays if (shown := _in_one_piece(pile, array, one)) is not None)
        where = next(ranges, None)
        if where is None:
            return None
        notes.append(Note(Remark.PART_COPY, (pile.names[one.image],), where))
    if any(array.strength == "undecided" for array in found.arrays):
        return None
    return replace(found, unused=(*found.unused, *others), bytes_read=pile.bytes_read, notes=(*found.notes, *notes))


HALF = 0.5
"""Of the time for a search, what may be used up by one without them."""


def copied_from_others(pile: Pile, tell: Tell) -> list[Copied]:
    """Images nearly all of which stands on others, elsewhere than on themselves: mates of a mirror, and members that
    parity makes alike, hold the same at the same place. All of a pile is read for it; of a larger one, nothing."""
    if sum(total(pile.data(image)) for image in range(len(pile))) > LOOK_BYTES:
        return []
    unreadable = pile.unreadable  # of what cannot be read, that counts which the samples lack, and once
    probes = [_probes(pile, image) for image in range(len(pile))]
    keys = np.concatenate([sums for _offsets, sums in probes])
    owner = np.concatenate([np.full(len(sums), image) for image, (_offsets, sums) in enumerate(probes)])
    own = np.concatenate([offsets for offsets, _sums in probes])
    order = np.argsort(keys, kind="stable")
    keys, owner, own = keys[order], owner[order], own[order]
    hits = _hits(pile, keys, tell)
    pile.unreadable = unreadable
    found, shares = [], []
    for image in range(len(pile)):
        mine = np.flatnonzero(owner == image)
        which, other, there = [], [], []
        told = elsewhere = 0
        for probe in mine.tolist():
            first, last = (int(np.searchsorted(hits[2], keys[probe], side)) for side in ("left", "right"))
            if last - first > MOST_REPEATS:
                continue  # a pattern
            images, offsets = hits[0][first:last], hits[1][first:last]
            told += 1
            images, offsets = images[images != image], offsets[images != image]
            elsewhere += len(images) > 0 and not (offsets == own[probe]).any()
            which += [probe] * len(images)
            other += images.tolist()
            there += offsets.tolist()
        numbers = np.array(which, np.int64)
        shares.append(elsewhere / max(1, told))
        if told >= LEAST_PROBES and shares[-1] >= LIKELY_SHARE:
            where = np.array(other, np.int64), np.array(there, np.int64)
            found.append(Copied(image, told, own[mine], own[numbers], *where))
    usual = float(np.median(shares)) if shares else 0.0
    return [one for one in found if shares[one.image] >= MORE_THAN_MOST * usual]


def _probes(pile: Pile, image: int) -> tuple[Int64, npt.NDArray[np.uint64]]:
    """Sectors of an image that hold something, one of a block: where they stand, and their sums."""
    blocks = np.concatenate([np.arange(a, b, BLOCK, dtype=np.int64) for a, b in pile.data(image)] or [_NONE])
    chosen = blocks[np.unique(np.linspace(0, len(blocks) - 1, PROBES).astype(np.int64))] if len(blocks) else blocks
    where, sums = [], []
    for at in chosen.tolist():
        sectors = pile.stretch(image, at, BLOCK).reshape(-1, SECTOR)
        filled = np.flatnonzero((sectors != 0).sum(axis=1) > LEAST_FILLED)
        if len(filled):
            where.append(at + int(filled[len(filled) // 2]) * SECTOR)
            sums.append(sector_sums(sectors[filled[len(filled) // 2]][None])[0])
    return np.array(where, np.int64), np.array(sums, np.uint64)


def _hits(pile: Pile, keys: npt.NDArray[np.uint64], tell: Tell) -> tuple[Int64, Int64, npt.NDArray[np.uint64]]:
    """Every sector of the pile whose sum is one of some: its image, its offset, and the sum, by which they ascend."""
    images, offsets, sums = [_NONE], [_NONE], [np.empty(0, np.uint64)]
    tell("whether some images are copies of others")
    for image in range(len(pile)):
        for low, high in pile.data(image):
            for at in range(low, high, LOOK_CHUNK):
                told = sector_sums(pile.stretch(image, at, min(high, at + LOOK_CHUNK) - at).reshape(-1, SECTOR))
                rows = np.flatnonzero(np.isin(told, keys))
                images.append(np.full(len(rows), image, np.int64))
                offsets.append(at + rows * SECTOR)
                sums.append(told[rows])
    found = np.concatenate(sums)
    order = np.argsort(found, kind="stable")
    return np.concatenate(images)[order], np.concatenate(offsets)[order], found[order]


_NONE = np.empty(0, np.int64)


def _in_one_piece(pile: Pile, array: Lineup, one: Copied) -> int | None:
    """From which byte of a volume on an image is a copy of it, if nearly all that stands on the image stands there at
    one distance, over more than one strip; None where that is not so."""
    made = array.geometry
    position = {pile.names.index(name): p for p, name in enumerate(array.seated) if name is not None}
    inside = np.isin(one.other, list(position))
    members = np.array([position[i] for i in one.other[inside].tolist()], np.int64)
    if not len(members):
        return None
    address = made.to_volume(members, one.there[inside])
    offset = one.offset[inside]
    offset, members, address = (x[address >= 0] for x in (offset, members, address))
    values, counts = np.unique(address - offset, return_counts=True)
    if not len(values):
        return None
    distance = int(values[counts.argmax()])
    right = address - offset == distance
    found = np.isin(one.probes, offset[right])
    rest = one.probes[~found] + distance
    rest = rest[(rest >= 0) & (rest < made.volume_bytes)]
    gone = [p for p, name in enumerate(array.seated) if name is None]
    lost = int(np.isin(made.to_member(rest)[0], gone).sum()) if gone and len(rest) else 0
    if found.sum() < LEAST_SEEN * one.told or found.sum() + lost < FOUND_SHARE * one.told:
        return None
    if made.layout.level in ("RAID1", "SPAN"):
        wide = int(np.ptp(offset[right])) >= LEAST_REACH
    else:
        wide = len(np.unique(members[right])) >= LEAST_MEMBERS and int(np.ptp(offset[right])) > made.strip_bytes
    return max(0, distance) if wide else None
