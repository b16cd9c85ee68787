"""Placing: under every strip, base and start of a layout at once, which structures stand where they say they belong.

What all of them together could be worth at most is known before any order is looked for: nearly all the places that
are no good are left at that.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from ...arrays.layout import Layout

Floats = npt.NDArray[np.float64]
Int64 = npt.NDArray[np.int64]
Flags = npt.NDArray[np.bool_]

CELL_BYTES = 16 << 10
"""Facts of one column within so many bytes are one vote: many in one strip are hardly more than one fact. The grid is
the images' own, so that the same facts weigh the same under every start."""

FACT_NATS = 2.0

AT_ONCE = 1 << 20
"""Facts times places that are looked at together: as many as stay in the second-level cache are the fastest."""

SHIFTS = 3
"""Starts that most facts agree on: so many are tried beside the usual ones."""

KEY = 1 << 44
"""Above any offset on an image, in bytes: two numbers in one."""


@dataclass(frozen=True, eq=False)
class Facts:
    """Structures that state their address. Arrays of one length.

    who, offset, address, count    a structure at this offset of a column belongs at that address
    """

    who: Int64
    offset: Int64
    address: Int64
    count: Int64

    def __len__(self) -> int:
        return len(self.who)

    @cached_property
    def _by_cell(self) -> tuple[Int64, Int64, Int64, Int64]:
        """(facts sorted by cell, where each cell begins among them, the column of each cell, the cell of each fact)."""
        _key, first, cell = np.unique(
            self.who * KEY + self.offset // CELL_BYTES, return_index=True, return_inverse=True
        )
        order = np.argsort(cell, kind="stable")
        begins = np.searchsorted(cell[order], np.arange(len(first)))
        return order, begins.astype(np.int64), self.who[first], cell.astype(np.int64)

    def most(self, hit: Flags) -> Floats:
        """(places,) nats: what the facts that fit are worth if every column stands where they say; hit: bool (places,
        facts)."""
        order, begins, _who, _cell = self._by_cell
        if not len(order):
            return np.zeros(len(hit))
        counts: Floats = np.add.reduceat((hit[:, order] * self.count[order]).astype(np.float64), begins, axis=1)
        each: Floats = FACT_NATS * np.where(counts > 0, 1 + np.log(np.maximum(counts, 1)), 0.0)
        worth: Floats = each.sum(axis=1)
        return worth

    def votes(self, columns: int, members: int, position: Int64, hit: Flags) -> Floats:
        """(columns, members) nats by the facts that fit, each at its position: those of one cell are one vote."""
        _order, begins, who, cell = self._by_cell
        told = cell[hit] * members + position[hit]
        counts = np.bincount(told, weights=self.count[hit], minlength=len(begins) * members)
        found = np.flatnonzero(counts)
        where = who[found // members] * members + found % members
        worth = FACT_NATS * (1 + np.log(counts[found]))
        votes = np.zeros(columns * members)
        np.add.at(votes, where, worth)
        return votes.reshape(columns, members)


@dataclass(frozen=True, eq=False)
class Places:
    """Strips, bases and starts of one layout, a row each, with what fits there: bool and position, (places, facts)."""

    strip: Int64
    base: Int64
    start: Int64
    hit: Flags
    position: Int64


def locate(chosen: Layout, strip: int | Int64, volume: Int64, copy: int = 0) -> tuple[Int64, Int64]:
    """(position, offset from the start of data) of volume bytes; strips as one number, or as an array that goes with
    theirs."""
    pattern = chosen.pattern()
    number = volume // strip
    period = number // pattern.strips
    place = pattern.places[copy, number - period * pattern.strips]
    return place[..., 1], (period * pattern.rows + place[..., 0]) * strip + (volume - number * strip)


def hits_of(chosen: Layout, strip: int, start: int, base: int, facts: Facts) -> tuple[Flags, Int64]:
    """Which facts fit the start, and on which position each then stands (of the copy that fits)."""
    hit, position = _hits(chosen, np.array([strip]), np.array([start]), np.array([base]), facts)
    return hit[0], position[0]


def _hits(chosen: Layout, strip: Int64, start: Int64, base: Int64, facts: Facts) -> tuple[Flags, Int64]:
    fits = np.zeros((len(strip), len(facts)), bool)
    place = np.zeros((len(strip), len(facts)), np.int64)
    for copy in range(chosen.pattern().places.shape[0]):
        position, where = locate(chosen, strip[:, None], facts.address + base[:, None], copy)
        hit = (where + start[:, None] == facts.offset) & (where >= 0)
        place = np.where(hit & ~fits, position, place)
        fits |= hit
    return fits, place


def places(
    chosen: Layout, sizes: Sequence[int], facts: Facts, bases: Sequence[int], starts: Sequence[int], phase: int = -1,
    only: int = -1, untold: bool = False,
) -> Iterator[Places]:  # fmt: skip
    """The places that facts support, several at once, in the order of the strips, then the bases, then the starts.

    bases   where the ground of the facts may start in the volume, in bytes; negative: so many strips into a row
    starts  where data usually start; phase: of the start within a strip, where it is known; only: the start that is
            known
    untold  whether the usual starts are tried though no fact supports them
    """
    pairs = [(s, at) for s in sizes for base in bases if (at := _base(chosen, s, base)) is not None]
    step = max(1, AT_ONCE // (len(facts) + 1))
    for first in range(0, len(pairs), step):
        part = pairs[first : first + step]
        strip, base = (np.array([p[i] for p in part], np.int64) for i in (0, 1))
        told = _starts(chosen, strip, base, facts, starts, untold or phase >= 0)
        triples = [
            (s, b, start)
            for (s, b), found in zip(part, told, strict=True)
            for start in found
            if (phase < 0 or (start - phase) % s == 0) and only in (-1, start)
        ]
        for begin in range(0, len(triples), step):
            some = np.array(triples[begin : begin + step], np.int64).reshape(-1, 3)
            hit, position = _hits(chosen, some[:, 0], some[:, 2], some[:, 1], facts)
            good = hit.any(axis=1)
            if untold or phase >= 0:
                good |= np.isin(some[:, 2], np.array(starts, np.int64))
            yield Places(some[good, 0], some[good, 1], some[good, 2], hit[good], position[good])


def _base(chosen: Layout, strip: int, base: int) -> int | None:
    """A base in bytes; None where it is so many strips into a row that there is no such row."""
    if base >= 0:
        return base
    pattern = chosen.pattern()
    return -base * strip if -base < pattern.strips // pattern.rows else None


def _starts(
    chosen: Layout, strip: Int64, base: Int64, facts: Facts, starts: Sequence[int], untold: bool
) -> list[list[int]]:
    """For each pair of strip and base, where data may start: the usual places that any fact supports, and the shifts
    that most facts agree on."""
    found: list[dict[int, None]] = [{} for _ in strip]
    for copy in range(chosen.pattern().places.shape[0]):
        _position, where = locate(chosen, strip[:, None], facts.address + base[:, None], copy)
        shift = facts.offset - where
        sound = (shift >= 0) & (shift % 512 == 0)
        row = np.nonzero(sound)[0]
        values, counts = np.unique(row * KEY + shift[sound], return_counts=True)
        owner, value = np.divmod(values, KEY)
        edges = np.searchsorted(owner, np.arange(len(strip) + 1))
        for n, known in enumerate(found):
            mine, often = value[edges[n] : edges[n + 1]], counts[edges[n] : edges[n + 1]]
            known.update((s, None) for s in starts if len(mine) and s in mine)
            known.update((v, None) for v in mine[np.argsort(-often, kind="stable")[:SHIFTS]].tolist())
            if untold:
                known.update((s, None) for s in starts)
    return [list(known) for known in found]
