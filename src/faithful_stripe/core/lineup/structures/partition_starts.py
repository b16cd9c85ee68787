"""Where file systems usually start in a volume, and where its own partition tables say that they do."""

from __future__ import annotations

from ..reading.samples import Pile
from .ground import SECTOR, Piece, Stock
from .partition_tables import heads

COMMON_STARTS = (0, 63 * SECTOR, 1 << 20)
"""Where file systems start in a volume when no partition table says: bare, and the two usual first partitions."""

HEAD_BYTES = 32 << 10


def partition_starts(pile: Pile) -> set[int]:
    """Starts of partitions, in bytes of the volume, from every table at the head of an image."""
    pieces = [Piece(i, 0, pile.stretch(i, 0, HEAD_BYTES)) for i, s in enumerate(pile.sources) if s.size >= HEAD_BYTES]
    return {start for ground in heads(Stock(pile, pieces)) for start in ground.starts}
