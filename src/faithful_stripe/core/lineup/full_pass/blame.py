"""Blame: which member is at fault where rows do not match, decided region by region, or left open.

Two equations single a member out by algebra. One equation only says that somebody is: then it is told by what stands
there. Zeros or a pattern where the others tell that something belongs are an area that a copy could not read; and where
one member is out of date, what the others compute for it is like the rest of the array, while for all others it is a
mixture. A region is decided by its own bytes; that a member is at fault elsewhere only tips the scales.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import groupby, pairwise

import numpy as np
import numpy.typing as npt

from ...arrays import codes, gf256
from ...arrays.engine import SECTOR
from ...arrays.geometry import Geometry
from ...arrays.layout import Group
from ...arrays.parity import combine_many
from ...arrays.rebuild import locate, times
from ...source import BlockSource, BlockSourceError
from ..document.row_map import Fault, Why
from ..evidence.byte_pairs import ANYTHING, Pairs, best_pairs
from ..reading.samples import BLOCK
from .fault_chain import TURN_NEAR, TURN_TOUCHING, Link, posteriors
from .fault_likelihood import accounts

Bytes2D = npt.NDArray[np.uint8]
Floats = npt.NDArray[np.float64]

REGION_GAP = 256 << 10
"""Pieces of one group of members no further apart than this, in bytes of a member, are one stretch."""

LEAD_NATS, OWN_NATS = 7.5, 2.0
"""By which one member must lead all others at a piece for it to be laid at it, and by which what stands in its own
stretch must speak for that member more than for most: nothing is laid at one for what is elsewhere alone."""

RIVAL_SHARE = 0.03
"""Of all that is at fault, what another member must be for what stands at a run to have to tell the two apart."""

LEARNED_BYTES, LEARNED_ROWS = 2 << 20, 24
"""Of so many bytes of a member, so many rows teach: of the first stretch, the second, the fourth, ..., and of each
sixteenth; and all the first ones."""

SUSPECT_NATS = 8.0
"""For a member that the samples call out of date."""

BLANK_SHARE, LEAST_USUAL = 1 / 3, 0.004
"""How often what is at fault is blank, and the least share of blank sectors that is counted with elsewhere."""

LEAST_ALONE = 0.0005
"""The least share of places at which one member alone is blank that is counted with."""

OLD_NATS = 14.0
"""From which on a member counts as out of date by what its own structures say."""

END_NATS = 4.5
"""For a member that is blank, by each end at which a piece that does not match ends just where that does, amid a strip:
nothing else ends so."""

RUN_NATS, PLACE_NATS = 6.0, 4.0
"""The most that one run says by being blank, and one piece by what its bytes are like: where that told members apart,
it was right in 95 of 100 pieces when measured."""

SEVERAL_NATS = 2.0
"""By which what stands at a place says less of several members at fault there than of the likeliest one, unless they
are blank together."""

LEAST_PART = 0.25
"""Of a run, the share along which a member is blank at least where that says something of it."""

FULL = 2
"""Members that hold something and add up to zero, so many at least, are an array by themselves."""

LEAST_SHARE = 0.8
"""Of the pieces of a stretch, those at which the others add up by themselves where a member takes no part in it."""

WEIGHED, SAMPLED, TAUGHT = 64, 600, 32
"""Pieces of a stretch that are weighed, blocks that teach what the array's bytes are like, fewest that can."""

MOST_PIECES, PIECES_READ, PLACES = 32, 2, 4
"""Pieces into which one run is divided, those whose bytes are looked at, and places of a piece at which they are."""

MOST_TOLD = 1 << 20
"""Bytes of a run that are looked at."""


@dataclass(frozen=True)
class Run:
    """Sectors [start, end) of the strips of one group, in bytes, in which it does not match.

    row     the group's first row, counted from the start of the data; group: its number in the period
    erased  cells that are missing there
    """

    row: int
    group: int
    start: int
    end: int
    erased: frozenset[int]


@dataclass
class _Looked:
    """A run with what stands there: uint8 (cells, bytes), and what its one equation leaves: uint8 (bytes,)."""

    run: Run
    cells: Bytes2D
    coefficients: tuple[int, ...]
    sums: npt.NDArray[np.uint8]


@dataclass
class _Piece:
    """A part of a run at which the same members are blank.

    run     of its own extent; looked: the run it is of; low, high: where it stands in what was looked at of that, bytes
    cells   that take part, and the member of each
    empty   members that are blank there
    """

    run: Run
    looked: _Looked
    low: int
    high: int
    cells: tuple[int, ...]
    members_of_cells: tuple[int, ...]
    empty: frozenset[int]

    @property
    def members(self) -> frozenset[int]:
        return frozenset(self.members_of_cells)

    @property
    def first(self) -> bool:
        """Whether its run begins with it: what stands before it matches."""
        return self.run.start == self.looked.run.start

    @property
    def last(self) -> bool:
        return self.run.end == self.looked.run.end

    @property
    def sums(self) -> npt.NDArray[np.uint8]:
        return self.looked.sums[self.low : self.high]

    def held(self, cell: int) -> npt.NDArray[np.uint8]:
        return self.looked.cells[cell, self.low : self.high]


@dataclass
class Judge:
    """Learns from a pass what the array's bytes are like, and lays faults at members."""

    made: Geometry
    members: Sequence[BlockSource | None]
    suspects: Mapping[int, float] = field(default_factory=dict)
    behind: frozenset[int] = frozenset()
    _blocks: list[npt.NDArray[np.uint8]] = field(default_factory=list)
    _blank: int = 0
    _seen: int = 0
    _full: Counter[int] = field(default_factory=Counter)
    _single: Counter[int] = field(default_factory=Counter)
    _rows: int = 0
    _other: list[tuple[int, int]] = field(default_factory=list)
    _left: list[_Piece] = field(default_factory=list)
    apart: list[tuple[int, int, int]] = field(default_factory=list)
    """(first row, row after the last, member) of stretches that do not match, and do without that member."""

    @property
    def _sizes(self) -> tuple[int, ...]:
        """For how long a piece, in bytes, it is known how often one member alone is blank."""
        return tuple(dict.fromkeys((SECTOR, min(BLOCK, self.made.strip_bytes), self.made.strip_bytes)))

    def learn(self, blocks: Sequence[Bytes2D], first: int, gone: frozenset[int]) -> None:
        """Keep a few blocks of data strips, and count how many sectors are blank: however much is read at once."""
        pattern, strip = self.made.pattern, self.made.strip_bytes
        begin, self._rows = self._rows, self._rows + len(blocks[0])
        stretch = max(1, LEARNED_BYTES // strip)
        for row in range(len(blocks[0])):
            number, within = divmod(begin + row, stretch)
            seldom = begin + row >= LEARNED_ROWS and within % max(1, stretch // LEARNED_ROWS)
            if seldom or (number & (number + 1) and (number + 1) % 16):
                continue  # ever more rarely
            cells = [b[row] for b in blocks]
            if sum(bool(c.any()) for c in cells) < 2:
                continue
            sector = (row * 7919) % max(1, strip // SECTOR) * SECTOR
            for group in pattern.groups if pattern.unit_rows == 1 else ():
                if group.cells[0][0] == (first + row) % pattern.rows and not group.members & gone:
                    for size in self._sizes:
                        at = sector // size * size
                        empty = sum(not cells[who][at : at + size].any() for who in group.members)
                        self._full[size] += not empty
                        self._single[size] += empty == 1
            for who, cell in enumerate(cells):
                if who in gone:
                    continue
                at = (row * 7919 + who * 104729) % max(1, strip // BLOCK) * BLOCK
                block = cell[at : at + BLOCK]
                self._seen += len(block) // SECTOR
                self._blank += int((~block.reshape(-1, SECTOR).any(axis=1)).sum())
                data = pattern.index[(first + row) % pattern.rows, who] >= 0
                if data and block.any() and len(self._blocks) < 4 * SAMPLED:
                    self._blocks.append(block.copy())

    def other_layout(self, member: int, row: int) -> None:
        """A row that adds up only because a member takes no part in it."""
        self._other.append((row, member))

    def other_rows(self) -> list[tuple[int, int, int]]:
        """(first row, row after the last, member) of stretches in which a member takes no part."""
        found: list[tuple[int, int, int]] = []
        period = self.made.pattern.rows
        for row, member in sorted(self._other):
            if found and row - found[-1][1] <= 4 * period:
                found[-1] = (found[-1][0], row + 1, found[-1][2])
            else:
                found.append((row, row + 1, member))
        return [(max(0, a - period), min(self.made.rows, b + period), m) for a, b, m in found]

    def decide(self, runs: Sequence[Run]) -> tuple[list[Fault], list[Run]]:
        """Faults of members, and the runs that stay open."""
        faults: list[Fault] = []
        open_: list[_Looked] = []
        still: list[Run] = []
        self._left = []
        for one in runs:
            seen = self._look(one)
            if isinstance(seen, _Looked):
                open_.append(seen)
            elif seen is None:
                still.append(one)
            else:
                faults += seen
        chains = [chain for looked in self._chains(open_) for chain in self._without_apart(looked)]
        if not chains:
            return faults, still + [piece.run for piece in self._left]
        likely, rare = self._taught()
        known = np.zeros(len(self.members))
        for who, nats in self.suspects.items():
            known[who] = max(SUSPECT_NATS, nats)
        links_of = [self._links(chain, likely, rare) for chain in chains]
        told_of, shares = posteriors(links_of, known)
        for chain, links, told in zip(chains, links_of, told_of, strict=True):
            for piece, led in zip(chain, self._led(chain, links, told, known, shares), strict=True):
                if led is None:
                    self._left.append(piece)
                else:
                    faults += self._laid(piece.run, led, Why.BLANK if led in piece.empty else Why.OUT_OF_DATE)
        for piece in self._left:
            away = piece.members & self.behind
            if len(away) == 1:  # nothing there speaks for another one, and the others were written together
                faults += self._laid(piece.run, min(away), Why.AWAY)
            else:
                still.append(piece.run)
        return faults, still

    # one run ------------------------------------------------------------------------------------

    def _group(self, run: Run) -> Group:
        return self.made.pattern.groups[run.group]

    def _offset(self, run: Run, cell: int) -> tuple[int, int]:
        """(member, offset on it) of a cell's strip."""
        row, who = self._group(run).cells[cell]
        first = min(r for r, _ in self._group(run).cells)
        return who, self.made.start_bytes[who] + (run.row - first + row) * self.made.strip_bytes

    def _look(self, run: Run) -> list[Fault] | _Looked | None:
        """The faults of a run where algebra tells them; what stands there where one equation is left; None for a run
        that stays open."""
        group = self._group(run)
        length = min(run.end - run.start, MOST_TOLD)
        cells = np.zeros((len(group.cells), length), np.uint8)
        erased = set(run.erased)
        for cell in range(len(group.cells)):
            owner, at = self._offset(run, cell)
            source = self.members[owner]
            if cell not in erased:
                try:
                    assert source is not None
                    source.read_into(at + run.start, cells[cell])
                except BlockSourceError:
                    cells[cell] = 0
                    erased.add(cell)
        checks = codes.remaining(group.checks, frozenset(erased))
        if not checks:
            return []  # what cannot be read is computed from all the others
        sums = np.empty((len(checks), 1, length), np.uint8)
        combine_many(list(sums), list(cells[:, None, :]), checks)
        left = sums[:, 0]
        if not left.any():
            return []
        if len(checks) > 1:
            liar = locate(checks, left)
            if liar is None:
                return None
            blank = _plain(cells[liar])
            return self._laid(run, self._offset(run, liar)[0], Why.BLANK if blank else Why.LOCATED, True)
        return _Looked(run, cells, checks[0], left[0])

    def _laid(self, run: Run, member: int, why: Why, proven: bool = False) -> list[Fault]:
        cell = next(c for c, (_row, who) in enumerate(self._group(run).cells) if who == member)
        _who, at = self._offset(run, cell)
        return [Fault(member, at + run.start, at + run.end, why, proven)]

    # stretches -----------------------------------------------------------------------------------

    def _pieces(self, looked: _Looked) -> list[_Piece]:
        """A run in pieces, at each of which the same members are blank where something is due of them."""
        run, group = looked.run, self._group(looked.run)
        cells = [c for c, k in enumerate(looked.coefficients) if k]
        members = [group.cells[c][1] for c in cells]
        plain = np.stack([_plain_sectors(looked.cells[c]) for c in cells])
        count = plain.shape[1]
        edges = [0, *(np.flatnonzero((plain[:, 1:] != plain[:, :-1]).any(axis=0)) + 1).tolist(), count]
        if len(edges) > MOST_PIECES + 1:
            edges = np.unique(np.linspace(0, count, MOST_PIECES + 1).astype(int)).tolist()
        made = []
        for a, b in pairwise(edges):
            low, high = a * SECTOR, run.end - run.start if b == count else b * SECTOR
            blank = np.array(members)[plain[:, a:b].all(axis=1)].tolist()
            part = replace(run, start=run.start + low, end=run.start + high)
            last = min(b * SECTOR, len(looked.sums))
            made.append(_Piece(part, looked, low, last, tuple(cells), tuple(members), frozenset(blank)))
        return made

    def _chains(self, looked: Sequence[_Looked]) -> list[list[_Piece]]:
        """The pieces of the runs of the same members, in the order in which they stand."""
        found: dict[frozenset[int], list[_Piece]] = {}
        for one in sorted(looked, key=lambda x: (x.run.row, x.run.start)):
            who = self._group(one.run).members if self.made.pattern.unit_rows == 1 else frozenset({one.run.group})
            found.setdefault(who, []).extend(self._pieces(one))
        return list(found.values())

    def _place(self, piece: _Piece) -> tuple[int, int]:
        """Where a piece begins and ends on its members, in bytes from the start of the data."""
        at = piece.run.row * self.made.strip_bytes
        return at + piece.run.start, at + piece.run.end

    def _without_apart(self, chain: Sequence[_Piece]) -> list[list[_Piece]]:
        """A chain but for the stretches in which the others add up without one member: they are an array by themselves,
        and nobody's fault."""
        kept: list[_Piece] = []
        for stretch in self._stretches(chain):
            outside: Counter[int] = Counter()
            chosen = stretch[:: max(1, len(stretch) // WEIGHED)]
            for piece in chosen:
                outside.update(self._outside(piece))
            alone = next((who for who, count in outside.items() if count >= LEAST_SHARE * len(chosen)), None)
            if alone is None:
                kept += stretch
            else:
                self.apart.append((stretch[0].run.row, stretch[-1].run.row + 1, alone))
                self._left += stretch
        return [kept] if kept else []

    def _stretches(self, chain: Sequence[_Piece]) -> list[list[_Piece]]:
        found: list[list[_Piece]] = []
        end = -REGION_GAP - 1
        for piece in chain:
            begin, after = self._place(piece)
            if begin - end > REGION_GAP:
                found.append([])
            found[-1].append(piece)
            end = after
        return found

    def _outside(self, piece: _Piece) -> list[int]:
        """The members without which the others, some of which hold something, add up at a piece."""
        held = [piece.held(c) for c in piece.cells]
        plain = [_plain(h) for h in held]
        found = []
        for position, c in enumerate(piece.cells):
            due = held[position] ^ times(gf256.inverse(piece.looked.coefficients[c]), piece.sums)
            others = len(plain) - 1 - sum(p for o, p in enumerate(plain) if o != position)
            if not due.any() and others >= FULL:
                found.append(piece.members_of_cells[position])
        return found

    def _led(
        self, chain: Sequence[_Piece], links: Sequence[Link], told: Floats, known: Floats, shares: Floats
    ) -> Iterator[int | None]:  # fmt: skip
        """The member at which each piece of a chain is laid; None for nobody.

        shares  how often each member is at fault: of those that are, what stands at the run itself must tell
        """
        count, begins = len(self.members), [i for i, link in enumerate(links) if link.turn >= 1.0]
        said = np.array([link.nats[:count] for link in links])
        for low, high in pairwise([*begins, len(links)]):
            own = said[low:high].sum(axis=0) + known
            own -= np.median(own[np.isfinite(own)])
            for _run, pieces in groupby(range(low, high), key=lambda i: id(chain[i].looked)):
                there = list(pieces)
                here = said[there].sum(axis=0) + known
                for i in there:
                    first, second = np.argsort(-told[i])[:2].tolist()
                    led = first < count and told[i, first] - told[i, second] >= LEAD_NATS and own[first] >= OWN_NATS
                    others = [m for m in range(count) if m != first and shares[m] >= RIVAL_SHARE] if led else []
                    yield first if led and all(here[first] - here[m] >= OWN_NATS for m in others) else None

    def _links(self, chain: Sequence[_Piece], likely: Pairs | None, rare: float) -> list[Link]:
        """What stands at each piece of a chain, said of each member, and last of several at once."""
        made: list[Link] = []
        end = -REGION_GAP - 1
        for stretch in self._stretches(chain):
            runs = [list(pieces) for _run, pieces in groupby(stretch, key=lambda piece: id(piece.looked))]
            step = max(1, len(runs) // WEIGHED)
            for number, pieces in enumerate(runs):
                told = self._said(pieces, likely, rare, number % step == 0)
                for position, (piece, nats) in enumerate(zip(pieces, told, strict=True)):
                    begin, after = self._place(piece)
                    fresh = not number and not position
                    made.append(Link(nats, 1.0 if fresh else TURN_TOUCHING if begin == end else TURN_NEAR))
                    end = after
        return made

    def _said(self, pieces: Sequence[_Piece], likely: Pairs | None, rare: float, weighed: bool) -> list[Floats]:
        """What stands at the pieces of one run says of each member's being at fault, and last of several at once, in
        nats. What is blank from piece to piece says it once, and of the bytes those of the longest pieces are looked
        at: facts of one strip are nearly one."""
        count, who = len(self.members), list(pieces[0].members_of_cells)
        found = [np.full(count + 1, -np.inf) for _piece in pieces]
        for nats in found:
            nats[who] = 0.0
            nats[count] = -SEVERAL_NATS
        if not weighed:
            return found
        aged = any(self.suspects.get(m, 0.0) >= OLD_NATS for m in who)
        # of two copies both are like the rest of the array: what their own structures say of their age tells more
        if not aged or len(who) > 2:
            longest = sorted(range(len(pieces)), key=lambda i: pieces[i].low - pieces[i].high)[:PIECES_READ]
            for i in longest:
                found[i][who] += self._like(pieces[i], likely, rare)
        for member in who:
            for blank, stretch in groupby(range(len(pieces)), key=lambda i: member in pieces[i].empty):
                there = list(stretch)
                if blank:
                    found[there[0]][member] += self._blank_nats([pieces[i] for i in there], member)
        for piece, nats in zip(pieces, found, strict=True):
            if len(piece.empty) > 1:
                nats[count] += min(2 * RUN_NATS, float(np.sort(nats[who])[-2:].sum()))
        return found

    def _blank_nats(self, pieces: Sequence[_Piece], member: int) -> float:
        """What it says of a member that it is blank all along some pieces of a run."""
        first, last = pieces[0], pieces[-1]
        length, whole = last.run.end - first.run.start, first.looked.run.end - first.looked.run.start
        if length < LEAST_PART * whole:
            return 0.0
        size = max((s for s in self._sizes if s <= length), default=SECTOR)
        usual = max(LEAST_USUAL, (self._blank + 1) / (self._seen + 2))
        seen = self._full[size] + self._single[size] + 2
        alone = max(LEAST_ALONE, (self._single[size] + 1) / seen / max(2, self.made.members))
        share = alone if all(len(piece.empty) == 1 for piece in pieces) else usual
        ends = self._ends(first.run.start - SECTOR, first, member, first.first)
        ends += self._ends(last.run.end, last, member, last.last)
        return min(RUN_NATS, float(np.log(BLANK_SHARE / share))) + END_NATS * ends

    def _ends(self, inner: int, piece: _Piece, member: int, edge: bool) -> int:
        """Whether what is blank on a member ends where its run does, amid a strip: nothing else ends so.

        inner  where the sector beyond stands in the strip, in bytes; edge: whether the run ends there
        """
        if not edge or self.made.pattern.unit_rows > 1 or not 0 <= inner < self.made.strip_bytes:
            return 0
        sector = np.zeros(SECTOR, np.uint8)
        at = self.made.start_bytes[member] + piece.run.row * self.made.strip_bytes
        source = self.members[member]
        try:
            assert source is not None
            source.read_into(at + inner, sector)
        except BlockSourceError:
            return 0
        return int(not _plain(sector))

    def _taught(self) -> tuple[Pairs | None, float]:
        if len(self._blocks) < TAUGHT:
            return None, 0.0
        blocks = np.stack(self._blocks[:: max(1, len(self._blocks) // SAMPLED)])
        likely = best_pairs(blocks[::2], blocks[1::2], BLOCK)
        noise = float((likely.each(blocks).mean(axis=1) < ANYTHING).mean())
        return likely, float(np.log(max(noise, 1e-4)))

    def _like(self, piece: _Piece, likely: Pairs | None, rare: float) -> Floats:
        """What the bytes of a piece say of each cell, in nats behind the likeliest."""
        if likely is None or any(piece.looked.coefficients[c] != 1 for c in piece.cells):
            return np.zeros(len(piece.cells))
        parity = np.array([c >= self._group(piece.run).data for c in piece.cells])
        told = np.zeros(len(piece.cells))
        last = max(piece.low, piece.high - BLOCK)
        for at in np.unique(np.linspace(piece.low, last, PLACES).astype(int) // SECTOR * SECTOR).tolist():
            here = slice(at, min(at + BLOCK, piece.high))
            held, sums = piece.looked.cells[list(piece.cells), here], piece.looked.sums[here]
            told += accounts(likely, held, sums, parity, np.array([_plain(h) for h in held]), rare)
        behind: Floats = np.maximum(told - told.max(), -PLACE_NATS)
        return behind


def _plain_sectors(data: npt.NDArray[np.uint8]) -> npt.NDArray[np.bool_]:
    """Which sectors hold zeros, one byte, or a pattern of at most 64 bytes."""
    whole = np.zeros(-(-len(data) // SECTOR) * SECTOR, np.uint8)
    whole[: len(data)] = data
    sectors = whole.reshape(-1, SECTOR)
    found: npt.NDArray[np.bool_] = (sectors[:, :-64] == sectors[:, 64:]).all(axis=1)
    return found


def _plain(data: npt.NDArray[np.uint8]) -> bool:
    """Whether every sector holds the same: zeros, one byte, or a pattern."""
    if not len(data) or (data == data[0]).all():
        return True
    sectors = data[: len(data) // SECTOR * SECTOR].reshape(-1, SECTOR)
    repeats = bool((data[:448] == data[64:512]).all()) if len(data) >= SECTOR else False
    return repeats and bool((sectors == sectors[0]).all())
