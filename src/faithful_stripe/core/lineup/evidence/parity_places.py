"""Where parity stands on images that add up to zero, without any layout: which image holds it, and for how long.

What is computed from several blocks of data is unlike any of them: by the pairs that bytes make it is, of a row, the
least like the rest. Row after row that tells where parity stands, and how it moves on, whatever the rule by which it
does; an order of the members follows from that alone only where a layout moves so.

Its numbers are chosen: so that over ntfs, ext4, xfs, text and log volumes cut in turns of several kinds, no finding was
wrong; where little tells, there is none.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from ..reading.samples import BLOCK, Blocks, Pile
from .byte_pairs import best_pairs, natural

LEAST_IMAGES = 3

SPANS = ((4 << 20, BLOCK), (96 << 20, 8 * BLOCK))
"""How much of the images is looked at, in bytes, and how far apart: what moves on soon shows near, and later, far."""

LEAST_TELLING, CLOSING_SHARE = 96, 0.9
"""Places that must tell, at least, and the share of those with three filled images at which they must add up."""

LEAST_APART = 0.3
"""Nats of a byte by which a block must be less like the rest than the next one: packed data are like nothing, too."""

LEAST_STANDING, AGREE_SHARE, TURN_SHARE = 3, 0.9, 0.85
"""How many places must tell of each stay of parity, on average; the share of them that must name the same image; and of
stays a whole turn apart, some of which are told by one place or two."""

MOST_STAYS, LEAST_TURNS = 64, 3
"""Stays of a turn: two for each of the most members that an array has; and how often a turn must come."""

ODD_PARTS = (1, 3, 5, 7)
"""By how much a stay may be longer than a power of two, in bytes: so many rows of strips that are one."""

Votes = tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]
"""(places,) offsets on the images, and which of them is the least like the rest there."""


@dataclass(frozen=True)
class ParityPlaces:
    """How parity moves: it stands so many bytes on each of these images, by their indices, and then begins again.

    agreeing  places that say so, of `places` that tell
    """

    stay_bytes: int
    images: tuple[int, ...]
    agreeing: int
    places: int


def parity_places(pile: Pile, images: Sequence[int]) -> ParityPlaces | None:
    """How parity moves on images that add up to zero; None where they do not, or where nothing tells."""
    if len(images) < LEAST_IMAGES:
        return None
    for span, apart in SPANS:
        found = _votes(pile, images, span, apart)
        made = None if found is None or len(found[0]) < LEAST_TELLING else _moving(*found, len(images))
        if made is not None:
            stay, turn, agreeing, places = made
            return ParityPlaces(stay, tuple(images[who] for who in turn), agreeing, places)
    return None


def _votes(pile: Pile, images: Sequence[int], span: int, apart: int) -> Votes | None:
    """Which image holds parity at places of one stretch, where that can be told; None where they do not add up."""
    held, offsets = list[Blocks](), list[int]()
    first = _first_filled(pile, images)
    for offset in range(first, min(first + span, min(pile.sources[i].size for i in images) - BLOCK), apart):
        blocks = pile.column(offset, images)
        if len({row.tobytes() for row in blocks if row.any()}) >= LEAST_IMAGES:
            held.append(blocks)
            offsets.append(offset)
    data = np.stack(held) if len(held) >= LEAST_TELLING else np.zeros((0, len(images), BLOCK), np.uint8)
    if not len(data):
        return None
    closes = ~np.bitwise_xor.reduce(data, axis=1).any(axis=1)
    if closes.mean() < CLOSING_SHARE:
        return None
    data = data[closes]
    taught = data.reshape(-1, BLOCK)
    likely = best_pairs(taught[::2], taught[1::2], BLOCK)
    told = natural(taught, likely, BLOCK).reshape(data.shape[:2])
    told[~data.any(axis=2)] = np.inf  # a strip of zeros is no parity of a row that is filled
    least, next_one = np.sort(told, axis=1)[:, :2].T
    tells = next_one - least >= LEAST_APART
    return np.array(offsets, np.int64)[closes][tells], told[tells].argmin(axis=1)


def _first_filled(pile: Pile, images: Sequence[int]) -> int:
    """Where all but one of the images, at least, first hold data for as long as the nearer stretch, or most of it."""
    ranges = [pile.data(i) for i in images]
    edges = sorted({start // BLOCK * BLOCK for some in ranges for start, _end in some})
    best, most = 0, -1
    for edge in edges[:: max(1, len(edges) // 256)]:
        held = sorted(
            sum(max(0, min(end, edge + SPANS[0][0]) - max(start, edge)) for start, end in some) for some in ranges
        )[1]
        if held > most:
            best, most = edge, held
    return best


def _moving(
    offsets: npt.NDArray[np.int64], who: npt.NDArray[np.int64], count: int
) -> tuple[int, list[int], int, int] | None:  # fmt: skip
    """The longest stay under which nearly all places of each name one image, the images of a turn, and how many places
    agree, of how many; None where there is none, or where parity never moves."""
    reach = int(offsets[-1] - offsets[0])
    powers = [BLOCK << n for n in range(20)]
    stays = sorted({part * power for part in ODD_PARTS for power in powers}, reverse=True)
    for stay in (s for s in stays if 2 * LEAST_TURNS * s <= reach):
        for phase in range(0, stay, max(BLOCK, stay // 8 // BLOCK * BLOCK)):
            number = (offsets - phase) // stay
            stands = np.unique(number)
            if len(who) < LEAST_STANDING * len(stands):
                return None  # nor does it tell of shorter ones
            votes = np.zeros((len(stands), count), np.int64)
            np.add.at(votes, (np.searchsorted(stands, number), who), 1)
            if votes.max(axis=1).sum() < AGREE_SHARE * len(who):
                continue
            turn = _turn(stands, votes.argmax(axis=1))
            if turn is not None:
                expected = np.array(turn)[number % len(turn)]
                agreeing = int((expected == who).sum())
                if agreeing >= AGREE_SHARE * len(who):
                    return stay, turn, agreeing, len(who)
    return None


def _turn(stands: npt.NDArray[np.int64], names: npt.NDArray[np.int64]) -> list[int] | None:
    """The images of the shortest turn that comes again and again; None where none does, or one image holds parity for
    more than half of it: then it does not move, and data that look like it are counted with it."""
    for length in range(2, min(MOST_STAYS, len(stands) // LEAST_TURNS) + 1):
        votes: dict[int, Counter[int]] = {}
        for number, name in zip((stands % length).tolist(), names.tolist(), strict=True):
            votes.setdefault(number, Counter())[name] += 1
        agreeing = sum(v.most_common(1)[0][1] for v in votes.values())
        if len(votes) == length and agreeing >= TURN_SHARE * len(names):
            turn = [votes[n].most_common(1)[0][0] for n in range(length)]
            return turn if max(Counter(turn).values()) <= length / 2 else None
    return None
