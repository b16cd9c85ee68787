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
from ..structures.ground import within

Floats = npt.NDArray[np.float64]
Int64 = npt.NDArray[np.int64]
Flags = npt.NDArray[np.bool_]

CELL_BYTES = 16 << 10
"""Facts of one column within so many bytes are one vote: many in one strip are hardly more than one fact. The grid is
the images' own, so that the same facts weigh the same under every start."""

FACT_NATS = 2.0

CONTRARY_NATS = 2.0
"""Against a seat, for each cell whose structure belongs elsewhere. Over random piles (seeds 711 to 761, 300 right
answers) 1 of 100 such places were contrary under the right answers, and 32 of 100 under their next rivals:
ln(0.32 / 0.01) = 3.5 nats; as cells beside one another are not quite independent, no more is taken than for one that
agrees."""

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
    quiet   (n, 2): addresses, from one to before another, where copies of structures stand and say nothing: journals
    """

    who: Int64
    offset: Int64
    address: Int64
    count: Int64
    quiet: Int64

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

    @cached_property
    def _structures(self) -> _Structures:
        place = self.who * KEY + self.offset
        _cell, first = np.unique(self.who * KEY + self.offset // CELL_BYTES, return_index=True)
        chosen = np.sort(place[first])
        facts = np.flatnonzero(np.isin(place, chosen))
        owner = np.searchsorted(chosen, place[facts])
        order = np.argsort(owner, kind="stable")
        columns, begins = np.unique(chosen // KEY, return_index=True)
        return _Structures(
            chosen % KEY, self.address[facts[order]], owner[order],
            np.searchsorted(owner[order], np.arange(len(chosen))), columns, begins,
        )  # fmt: skip

    def contrary(self, columns: int, chosen: Layout, strip: int, start: int, base: int) -> Floats:
        """(columns, members) nats against each column at each position: structures that would stand among the data
        where they do not belong. Where the position holds parity, before the start and in a journal they say
        nothing."""
        votes = np.zeros((columns, chosen.members))
        if not len(self):
            return votes
        told, pattern = self._structures, chosen.pattern()
        row, rest = np.divmod(told.offset - start, strip)
        turn, phase = np.divmod(row, pattern.rows)
        number = pattern.index[phase]
        address = (number + (turn * pattern.strips)[:, None]) * strip + (rest - base)[:, None]
        against = told.address[:, None] != address[told.owner]
        if len(told.owner) > len(told.offset):
            against = np.logical_and.reduceat(against, told.first, axis=0)
        against &= (number >= 0) & (row >= 0)[:, None]
        against &= ~within(address, self.quiet.tolist())
        votes[told.columns] = CONTRARY_NATS * np.add.reduceat(against, told.begins, axis=0, dtype=np.float64)
        return votes


@dataclass(frozen=True, eq=False)
class _Structures:
    """One structure of each cell, sorted by column and offset.

    offset           where each one stands
    address, owner   the addresses that they state, most one, some several; and whose each is
    first            where the addresses of each begin
    columns, begins  the columns that hold any, and where each one's structures begin
    """

    offset: Int64
    address: Int64
    owner: Int64
    first: Int64
    columns: Int64
    begins: Int64


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
