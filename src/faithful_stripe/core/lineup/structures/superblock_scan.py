"""Heads: superblocks, boot sectors and partition tables looked for in far more of a pile than is searched closely.

One of them is enough to know a file system's structures when they are met, and on large images the few copies that are
left where the first ones are gone stand where nobody looked.
"""

from __future__ import annotations

import numpy as np

from ..reading.samples import Pile, Tell
from . import partition_tables as table
from .anchors import KNOWN
from .ground import Piece, Stock, shares

HEADS_BYTES = 4 << 30
"""How much of a pile is looked through."""

MOST_HEADS = 64
"""Stretches with a head that are wanted of one image: copies in groups are alike."""


def find_heads(pile: Pile, known: int, tell: Tell) -> bool:
    """Want those stretches of a pile on which a head stands; whether there are any.

    known  bytes of the pile that were searched already (what `read_stock` was given)
    """
    found = False
    for image, (searched, share) in enumerate(zip(shares(pile, known), shares(pile, HEADS_BYTES), strict=True)):
        tell("looking for heads of file systems in all the rest", image, len(pile))
        wanted = pile.wanted.setdefault(image, set())
        for start in np.setdiff1d(pile.stretches(image, share), pile.stretches(image, searched)).tolist():
            if len(wanted) < MOST_HEADS and _has_head(pile, Piece(image, start, pile.piece(image, start))):
                wanted.add(start)
        found |= bool(wanted)
    return found


def _has_head(pile: Pile, piece: Piece) -> bool:
    stock = Stock(pile, [piece])
    return any(not ground.guessed for family in (table, *KNOWN) for ground in family.heads(stock))
