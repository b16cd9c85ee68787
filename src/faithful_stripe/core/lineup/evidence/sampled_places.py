"""Sampled places: at which offsets the images hold something, and which relations hold among them there.

Blocks are sketched to a few bytes by a map that keeps sums and multiples, so that what adds up adds up in the sketches.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from functools import cache

import numpy as np
import numpy.typing as npt

from ..reading.row_reader import repeating
from ..reading.samples import BLOCK, Pile
from .field_algebra import Relation, inside, null_spaces, relations, sketch

SAMPLE_BLOCKS, LEAST_PLACES = 6144, 192
"""Blocks that are sketched in all, and fewest places whatever the number of images."""

NOWHERE: npt.NDArray[np.int64] = np.empty(0, np.int64)

BATCH, SECTOR = 128, 512


MOST_ALIKE = 3
"""Of so many images that hold the same at a place, some may be copies of one another; more are filled with one word."""


@cache
def noise_values(length: int) -> int:
    """Byte values that so many bytes of noise hold at least: those of `length` draws from 256, less by 4.5 times their
    spread, and by one. Mean and variance are those of the occupancy problem (Feller, vol. 1, IV.2 and IX.9)."""
    one, two = 256 * (255 / 256) ** length, 256 * 255 * (254 / 256) ** length
    return math.floor(256 - one - 4.5 * math.sqrt(max(0.0, two + one - one * one))) - 1


@dataclass(frozen=True)
class Place:
    """What is known of one offset: which images hold something there, and the relations among them.

    alike   those that all hold the same, four or more, whose relations are left out; noise: those that look like noise
    silent  images whose data end before it; ended: those that end themselves
    unread  those that hold one short word over and over that is hardly ever related to anybody: what a copy of a drive
            has where the drive could not be read
    """

    offset: int
    filled: frozenset[int]
    relations: tuple[Relation, ...]
    alike: tuple[frozenset[int], ...] = ()
    noise: frozenset[int] = frozenset()
    silent: frozenset[int] = frozenset()
    ended: frozenset[int] = frozenset()
    unread: frozenset[int] = frozenset()

    def within(self, images: frozenset[int]) -> list[Relation]:
        """The relations among some images alone."""
        return [part for r in self.relations if not images.isdisjoint(r.images) for part in inside(r, images)]


@dataclass(frozen=True, eq=False)
class Survey:
    """The pile's data, sampled: int64 (places,) offsets, uint8 (places, images, 64) sketches of what is there, and
    bool (places, images): whether it looks like noise; int64 (images,): where the data of each end, and where it does
    itself, where that is known; bool (places, images): whether there is one short word over and over, where it is.
    """

    offsets: npt.NDArray[np.int64]
    sketches: npt.NDArray[np.uint8]
    noise: npt.NDArray[np.bool_]
    ends: npt.NDArray[np.int64] = field(default_factory=lambda: NOWHERE)
    sizes: npt.NDArray[np.int64] = field(default_factory=lambda: NOWHERE)
    words: npt.NDArray[np.bool_] = field(default_factory=lambda: np.zeros((0, 0), np.bool_))


def survey(pile: Pile, filled: npt.NDArray[np.int64] = NOWHERE, most: int = SAMPLE_BLOCKS) -> Survey:
    """Read and sketch about `most` blocks, spread evenly over the data of all images.

    filled  offsets of blocks known to hold something: images that are not sparse may be mostly zeros
    """
    wanted = max(LEAST_PLACES, most // max(1, len(pile)))
    taken = survey_at(pile, pile.places(wanted), True)
    known = int(taken.sketches.any(axis=(1, 2)).sum())
    if known < wanted // 2 and len(filled) > known:
        chosen = filled[np.unique(np.linspace(0, len(filled) - 1, min(wanted, len(filled))).astype(np.int64))]
        return survey_at(pile, chosen, True)
    return taken


def survey_at(pile: Pile, offsets: npt.NDArray[np.int64], sectors: bool = False) -> Survey:
    """Read and sketch the blocks at these offsets of every image.

    sectors  sketch one sector of each block, the one that most images fill: a block may lie across the border of two
             strips where data start at an odd place, a sector never does
    """
    offsets = offsets.copy()
    sketches = np.zeros((len(offsets), len(pile), 64), np.uint8)
    noise, words = (np.zeros((len(offsets), len(pile)), bool) for _ in range(2))
    for row, offset in enumerate(offsets.tolist()):
        holders = [i for i in pile.holding(offset) if offset + BLOCK <= pile.sources[i].size]
        if holders:
            blocks = pile.column(offset, holders)
            if sectors:
                one = int(np.argmax(blocks.reshape(len(blocks), -1, SECTOR).any(axis=2).sum(axis=0)))
                offsets[row] += one * SECTOR
                looked_at = blocks[:, one * SECTOR : one * SECTOR + SECTOR]
            else:
                looked_at = blocks
            sketches[row, holders] = sketch(looked_at)
            words[row, holders] = repeating(looked_at)
            values = (np.arange(len(blocks))[:, None] * 256 + blocks).reshape(-1)
            counts = np.bincount(values, minlength=256 * len(blocks)).reshape(-1, 256)
            kinds = (counts > 0).sum(axis=1)
            noise[row, holders] = kinds >= noise_values(BLOCK)
            if (kinds == 1).all():  # filled with one byte each: a pattern, any of which is a multiple of any other
                sketches[row] = 0
    ends = np.array([max((end for _start, end in pile.data(i)), default=0) for i in range(len(pile))], np.int64)
    return Survey(offsets, sketches, noise, ends, np.array([source.size for source in pile.sources], np.int64), words)


def places_of(taken: Survey, left_out: Iterable[int] = ()) -> list[Place]:
    """The relations at each place, some images left out."""
    found, words = [], list[dict[int, bytes]]()
    for at in range(0, len(taken.offsets), BATCH):
        sketches = taken.sketches[at : at + BATCH].copy()
        sketches[:, list(left_out)] = 0
        for row, space in enumerate(null_spaces(sketches)):
            zero = ~sketches[row].any(axis=1)
            filled = frozenset(np.flatnonzero(~zero).tolist())
            if filled:
                parts, alike = _sound(relations(space, zero), sketches[row])
                noise = frozenset(np.flatnonzero(taken.noise[at + row]).tolist())
                offset = int(taken.offsets[at + row])
                silent, ended = (
                    frozenset(np.flatnonzero(known <= offset).tolist()) for known in (taken.ends, taken.sizes)
                )
                found.append(Place(offset, filled, parts, alike, noise, silent, ended))
                repeating = np.flatnonzero(taken.words[at + row]).tolist() if len(taken.words) else ()
                words.append({i: sketches[row, i].tobytes() for i in repeating if i in filled})
    return _with_unread(found, words)


def _with_unread(places: list[Place], words: Sequence[dict[int, bytes]]) -> list[Place]:
    """The places, with those at which an image says nothing. A word that is written there is, by far mostly, related to
    what others hold, whatever it is; what a copy has instead of what it could not read is related to nothing.

    words  by place: the images that hold one word over and over there, and which
    """
    often, alone = Counter[tuple[int, bytes]](), Counter[tuple[int, bytes]]()
    for place, held in zip(places, words, strict=True):
        often.update(held.items())
        related = {i for r in place.relations for i in r.images}.union(*place.alike)
        alone.update((i, word) for i, word in held.items() if i not in related)
    fills = {key for key, n in alone.items() if n >= LEAST_FILLED and n >= FILLED_SHARE * often[key]}
    if not fills:
        return places
    return [
        replace(place, unread=frozenset(i for i, word in held.items() if (i, word) in fills))
        for place, held in zip(places, words, strict=True)
    ]


LEAST_FILLED, FILLED_SHARE = 6, 0.9
"""At how many places an image holds one word, at least, and in what share of them it is related to nobody, where it
holds it for what could not be read."""


def _sound(
    found: list[Relation], sketches: npt.NDArray[np.uint8]
) -> tuple[tuple[Relation, ...], tuple[frozenset[int], ...]]:
    """The relations that say something, and the images of those that do not: four or more that hold the same."""
    kept: list[Relation] = []
    alike: list[frozenset[int]] = []
    for relation in found:
        same = bool((sketches[list(relation.images)] == sketches[relation.images[0]]).all())
        if same and len(relation.images) > MOST_ALIKE:
            alike.append(frozenset(relation.images))
        else:
            kept.append(relation)
    return tuple(kept), tuple(alike)
