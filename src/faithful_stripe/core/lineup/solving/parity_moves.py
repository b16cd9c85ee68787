"""How parity moves on images that no decided array has: what is known of an array whose layout is not."""

from __future__ import annotations

from dataclasses import replace

from ..document.lineup_document import Solution
from ..document.told_facts import Note, Remark
from ..evidence.parity_places import LEAST_IMAGES, parity_places
from ..reading.samples import Pile, Tell


def with_parity_moves(pile: Pile, found: Solution, tell: Tell) -> Solution:
    """What was found, with a note of how parity moves on the images that are left: on all of them, or on those of which
    an undecided array is said to consist."""
    number = {name: i for i, name in enumerate(pile.names)}
    decided = {n for a in found.arrays if a.strength != "undecided" for n in (*a.seated, *a.stale)}
    free = [i for i, name in enumerate(pile.names) if name not in decided and pile.data(i)]
    doubtful = [sorted(number[n] for n in a.seated if n) for a in found.arrays if a.strength == "undecided"]
    for images in [free, *(some for some in doubtful if some != free)]:
        if len(images) < LEAST_IMAGES:
            continue
        tell("how parity moves")
        moves = parity_places(pile, images)
        if moves is not None:
            named = tuple(pile.names[i] for i in moves.images)
            return replace(found, notes=(*found.notes, Note(Remark.PARITY_MOVES, named, moves.stay_bytes)))
    return found
