"""What a volume tells of the places of its strips: on how many members, and in how many rows, something that was cut
states its own address. It is read from the volume before it is cut and from what was done, never from an answer."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.lineup.structures.standing import structures_on
from faithful_stripe.media.image import ImageFile

from .slicer import Spec, places

STRIPS = 100_000
"""Of a volume, those that are looked at."""


@dataclass(frozen=True)
class Told:
    """Positions of which something is told, and the rows in which it stands; of a mirror or a pair, all copies."""

    positions: frozenset[int] = frozenset()
    rows: frozenset[int] = frozenset()


def told(volume: Path, spec: Spec, wiped: int = 0) -> Told:
    """What a volume tells of an array.

    wiped  up to which offset of its members everything was overwritten
    """
    with ImageFile(volume) as image:
        found = structures_on(Pile(["volume"], [image]))
        size = image.size
    strips = {int(offset) // spec.strip for a in found.anchors for offset in a.offset.tolist()}
    cells = places(spec, min(STRIPS, size // spec.strip + 1))
    here = [(m, at) for k in strips for m, at in cells.get(k, ()) if at >= wiped]
    return Told(frozenset(m for m, _at in here), frozenset((at - spec.start) // spec.strip for _m, at in here))
