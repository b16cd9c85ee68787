"""Anchors: structures that state their own address, each an equation between (image, offset) and a volume address.

They are what decides an order, wherever there are any; many of them in one strip are hardly more than one fact.
"""

from __future__ import annotations

from dataclasses import dataclass
from types import ModuleType

import numpy as np
import numpy.typing as npt

from ..reading.samples import Tell, silent
from . import btrfs_anchors as btrfs
from . import ext_anchors as ext
from . import fat_anchors as fat
from . import file_slack as ends
from . import ntfs_anchors as ntfs
from . import numbered_pages as counted
from . import partition_tables as table
from . import swap_anchors as swap
from . import volume_labels as labels
from . import xfs_anchors as xfs
from .ground import Ground, Stock

Int64 = npt.NDArray[np.int64]

FACT_BYTES = 4096
"""Anchors of one image closer than this that say the same are one fact."""

MOST_FACTS = 20_000

KNOWN_SHARE = 0.5
"""Of the structures of a guessed file system, those that are a known one's as well: then it is that one."""

SIZE_FACTOR = 4
"""No file system is so many times larger than all images together."""


@dataclass(frozen=True, eq=False)
class Anchors:
    """The facts of one ground: arrays of one length.

    image, offset, address  int64: where it stands, and where it says it belongs, bytes from the ground's start
    count                   int64: how many structures say so
    """

    ground: Ground
    image: Int64
    offset: Int64
    address: Int64
    count: Int64

    def __len__(self) -> int:
        return len(self.image)


KNOWN: tuple[ModuleType, ...] = (ext, xfs, btrfs, ntfs, fat, swap, labels)
FAMILIES: tuple[ModuleType, ...] = (*KNOWN, counted)


def find_anchors(stock: Stock, tell: Tell = silent, guess: bool = True) -> list[Anchors]:
    """The anchors of every file system and partition table in the stock, the one with most facts first.

    guess  whether structures of unknown formats are looked for as well
    """
    found: list[Ground] = table.heads(stock)
    whole = sum(source.size for source in stock.pile.sources)
    families = FAMILIES if guess else KNOWN
    for number, family in enumerate(families):
        name = family.__name__.rsplit(".", 1)[-1]
        tell(f"structures of {name} that state their own address", number, len(families))
        for ground in family.heads(stock):
            if ground.size > SIZE_FACTOR * whole:
                continue  # the parity of two heads looks like one, but for its numbers
            family.search(stock, ground)
            ends.search(stock, ground)
            found.append(ground)
    named = {i for ground in found if not ground.guessed and not ground.table for i in ground.bound()}
    found = [g for g in found if g.key != ext.LISTS or not (named & images_of(g) or _known(g, found))]
    made = [facts_of(ground) for ground in found]
    return sorted((a for a in made if len(a)), key=lambda a: -len(a))


def images_of(ground: Ground) -> set[int]:
    """Images on which some structure of a ground is."""
    return set(ground.arrays()[0].tolist())


def _known(lists: Ground, found: list[Ground]) -> bool:
    """Whether most structures of a guessed ground are those of another one."""
    mine = set(zip(*(part.tolist() for part in lists.arrays()[:2]), strict=True))
    theirs = (
        set(zip(*(part.tolist() for part in g.arrays()[:2]), strict=True))
        for g in found if g is not lists and not g.guessed
    )  # fmt: skip
    return any(len(mine & other) > KNOWN_SHARE * len(mine) for other in theirs)


def facts_of(ground: Ground) -> Anchors:
    """A ground's anchors, those that say the same within FACT_BYTES counted as one: the first on the image, whichever
    was found first."""
    image, offset, address = ground.arrays()
    by_place = np.lexsort((offset, image))
    image, offset, address = image[by_place], offset[by_place], address[by_place]
    keys = np.stack([image, offset // FACT_BYTES, offset - address], axis=1)
    _values, first, count = np.unique(keys, axis=0, return_index=True, return_counts=True)
    if len(first) > MOST_FACTS:
        chosen = np.linspace(0, len(first) - 1, MOST_FACTS).astype(np.int64)
        first, count = first[chosen], count[chosen]
    return Anchors(ground, image[first], offset[first], address[first], count.astype(np.int64))
