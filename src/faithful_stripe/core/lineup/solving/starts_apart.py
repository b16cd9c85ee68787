"""Members whose data start at different places: told by their structures, each member's by its own.

Under the right layout and strip, every structure of one member stands the same distance behind where its address puts
it, and that distance is where the member's data start. The images are then looked at from there on, as if all began
alike, and everything else is found and proven as ever.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from ...arrays.layout import Layout
from ...source import BlockSource, Window
from ..document.lineup_document import Lineup
from ..hypotheses.assignment import strips
from ..hypotheses.candidate import layouts_of
from ..hypotheses.placement import CELL_BYTES, locate
from ..hypotheses.votes import bases_of
from ..reading.samples import Pile
from ..structures.anchors import Anchors

Int64 = npt.NDArray[np.int64]

LEAST_FACTS, LEAST_GAIN, LEAST_SHARE = 12, 2, 0.5
"""Fewest places that state an address, by how many more of them must fit with starts apart, and what share of all; what
is found so is solved and proven like anything else."""

MOST_IMAGES = 16
LATEST = 1 << 30


def starts_apart(images: set[int], files: Sequence[Anchors], starts: Sequence[int]) -> dict[int, int]:
    """How much later than on the first of them data start on each image, in bytes; nothing where they start alike.

    files   file systems on the images; starts: where partition tables say that file systems start
    """
    for anchors in files:
        mine = np.isin(anchors.image, sorted(images))
        who, image = np.unique(anchors.image[mine], return_inverse=True)
        if anchors.ground.guessed or not 2 <= len(who) <= MOST_IMAGES or mine.sum() < LEAST_FACTS:
            continue
        offset, address = anchors.offset[mine], anchors.address[mine]
        best: tuple[int, dict[int, int]] = (0, {})
        alike = 0
        for layout in _layouts(len(who)):
            for strip in strips():
                for base in bases_of(anchors, starts):
                    told = _places(layout, strip, image, offset, address + base)
                    together, apart, shifts = _agreed(told, len(who))
                    alike = max(alike, together)
                    if apart > best[0]:
                        best = apart, {int(w): s for w, s in zip(who, shifts, strict=True)}
        places = len(np.unique(np.stack([image, offset // CELL_BYTES]), axis=1).T)
        if best[0] >= max(alike + LEAST_GAIN, LEAST_SHARE * places):
            first = min(best[1].values())
            found = {i: s - first for i, s in best[1].items()}
            if max(found.values()) > 0:
                return found
    return {}


def _layouts(count: int) -> list[Layout]:
    """The layouts that so many members, or those that are left of more, may have."""
    found = list(layouts_of("RAID0", count))
    for level, gone in (("RAID5", 0), ("RAID5", 1), ("RAID6", 0), ("RAID6", 1), ("RAID6", 2), ("RAID4", 0)):
        if count + gone >= (4 if level == "RAID6" else 3):
            found += [c for c in layouts_of(level, count + gone) if not c.counts_positions]
    for level in ("RAID50", "RAID60"):
        if count % 2 == 0 and count >= (6 if level == "RAID50" else 8):
            found += [c for c in layouts_of(level, count, 2) if not c.counts_positions]
    return found


def _places(layout: Layout, strip: int, image: Int64, offset: Int64, address: Int64) -> Int64:
    """Distinct (image, position, start, cell) that facts speak for: int64 (n, 4)."""
    position, where = locate(layout, strip, address)
    start = offset - where
    good = (start >= 0) & (start < LATEST) & (start % 512 == 0)
    rows = np.stack([image, position, start, offset // CELL_BYTES], axis=1)[good]
    return np.unique(rows, axis=0) if len(rows) else rows


def _agreed(places: Int64, images: int) -> tuple[int, int, list[int]]:
    """How many places agree when all start alike; when each has a start of its own, less one for each that differs, for
    any one agrees with itself; and those starts."""
    if not len(places):
        return 0, 0, []
    keys, counts = np.unique(places[:, :3], axis=0, return_counts=True)
    values, number = np.unique(keys[:, 2], return_inverse=True)
    per_start = np.zeros((len(values), images), np.int64)
    np.maximum.at(per_start, (number, keys[:, 0]), counts)
    alike = per_start.sum(axis=1)
    shifts: list[int] = []
    taken: set[int] = set()
    apart = 0
    for image in range(images):
        mine = np.flatnonzero(keys[:, 0] == image)
        if not len(mine):
            return int(alike.max()), 0, []
        top = mine[int(counts[mine].argmax())]
        if int(keys[top, 1]) in taken:
            return int(alike.max()), 0, []
        taken.add(int(keys[top, 1]))
        shifts.append(int(keys[top, 2]))
        apart += int(counts[top])
    _start, often = np.unique(shifts, return_counts=True)
    return int(alike.max()), apart - (images - int(often.max())), shifts


def moved(pile: Pile, apart: dict[int, int]) -> Pile:
    """The pile with each of these images seen from where its data start, but for what all have in common."""
    sources: list[BlockSource] = [
        Window(source, apart[i], source.size - apart[i]) if apart.get(i) else source
        for i, source in enumerate(pile.sources)
    ]  # fmt: skip
    return Pile(pile.names, sources, effort=pile.effort)


def moved_back(found: Lineup, pile: Pile, apart: dict[int, int]) -> Lineup:
    """A lineup found over the moved images, as one over the images themselves."""
    later = [0 if name is None else apart.get(list(pile.names).index(name), 0) for name in found.members]
    made = found.geometry
    starts = tuple(start + more for start, more in zip(made.start_bytes, later, strict=True))
    return replace(found, geometry=replace(made, start_bytes=starts))
