"""Standing: which structures on the images stand where a lineup puts them; what a claim is tried by, and drawn as."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from ...arrays.geometry import Geometry
from ...ranges import Range
from ..reading.samples import Pile, Tell, silent
from .anchors import Anchors, find_anchors
from .ground import read_stock
from .partition_starts import COMMON_STARTS

SEARCHED_BYTES = 96 << 20
"""How much of the images is searched for structures."""

Int64 = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Structures:
    """The structures on some images that state their own address.

    anchors  one set for each file system or partition table
    starts   where a partition table says that file systems start, in bytes of the volume
    """

    anchors: tuple[Anchors, ...]
    starts: tuple[int, ...]


def structures_on(pile: Pile, tell: Tell = silent) -> Structures:
    """Search the images of a pile."""
    found = [a for a in find_anchors(read_stock(pile, SEARCHED_BYTES), tell) if not a.ground.guessed]
    starts = {s for a in found for s in a.ground.starts}
    return Structures(tuple(found), tuple(sorted(starts)))


def standing(
    made: Geometry, images: Sequence[int | None], known: Structures, part: Range | None = None
) -> int:  # fmt: skip
    """How many addresses hold what says that it belongs there, each file system where most of it stands.

    images  of the pile by position; None for a missing one
    part    of the volume, in bytes, that is looked at; None for all of it
    """
    low, high = part or (0, made.volume_bytes)
    found = 0
    for anchors in known.anchors:
        right = [_right(made, images, anchors, base) for base in _bases(anchors, known)]
        found += max(int(((at >= low) & (at < high)).sum()) for at in right)
    return found


def rows_told(
    made: Geometry, other: Geometry, images: Sequence[int | None], known: Structures
) -> tuple[Int64, Int64]:  # fmt: skip
    """The rows of structures that stand right in one of two layouts only: in the first, and in the other, which has the
    first members of it. int64, a number for each structure on a member that both have: what stands right on another may
    be a copy of a part of the volume.

    images  of the pile by position in the first; None for a missing one
    """
    found: tuple[list[Int64], list[Int64]] = ([], [])
    for anchors in known.anchors:
        best: tuple[Int64, Int64] = (np.empty(0, np.int64), np.empty(0, np.int64))
        for base in _bases(anchors, known):
            sides = ([best[0][:0]], [best[0][:0]])
            for position, image in enumerate(images[: other.members]):
                mine = anchors.image == (-1 if image is None else image)
                offset, address = anchors.offset[mine], anchors.address[mine] + base
                first = made.to_volume(position, offset) == address
                second = other.to_volume(position, offset) == address
                row = (offset - made.start_bytes[position]) // made.strip_bytes
                sides[0].append(row[first & ~second])
                sides[1].append(row[second & ~first])
            told = np.concatenate(sides[0]), np.concatenate(sides[1])
            best = max(best, told, key=lambda s: len(s[0]) + len(s[1]))
        for side, rows in zip(found, best, strict=True):
            side.append(rows)
    none = [np.empty(0, np.int64)]
    return np.concatenate(none + found[0]), np.concatenate(none + found[1])


def evidence_map(made: Geometry, images: Sequence[int | None], count: int, known: Structures) -> Int64:
    """(images, positions) structures of each image that would stand right at each position, every file system where
    most of it stands in the lineup as it is. count: images of the pile."""
    table = np.zeros((count, made.members), np.int64)
    for anchors in known.anchors:
        base = max(_bases(anchors, known), key=lambda b: len(_right(made, images, anchors, b)))
        for image in range(count):
            mine = anchors.image == image
            offset, address = anchors.offset[mine], anchors.address[mine] + base
            for position in range(made.members if len(offset) else 0):
                hit = made.to_volume(position, offset) == address
                table[image, position] += len(np.unique(address[hit]))
    return table


def _bases(anchors: Anchors, known: Structures) -> list[int]:
    return [0] if anchors.ground.table else sorted({*COMMON_STARTS, *known.starts})


def _right(made: Geometry, images: Sequence[int | None], anchors: Anchors, base: int) -> Int64:
    found = [np.empty(0, np.int64)]
    for position, image in enumerate(images):
        if image is not None:
            mine = anchors.image == image
            address = anchors.address[mine] + base
            found.append(address[made.to_volume(position, anchors.offset[mine]) == address])
    return np.unique(np.concatenate(found))
