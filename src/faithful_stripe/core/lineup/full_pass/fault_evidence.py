"""Fault evidence: what stands at rows that do not match says of each member's being at fault."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import groupby

import numpy as np
import numpy.typing as npt

from ...arrays.engine import SECTOR
from ...arrays.geometry import Geometry
from ...source import BlockSource, BlockSourceError
from ..reading.samples import BLOCK
from .fault_chain import TURN_NEAR, TURN_TOUCHING, Link
from .fault_likelihood import accounts
from .fault_pieces import Piece, plain
from .learned_bytes import Learned

Floats = npt.NDArray[np.float64]

BLANK_SHARE = 1 / 3
"""How often what is at fault is blank."""

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

RUNS_TOGETHER = 24
"""Runs of one stretch after which it is taken for another one: what is far off speaks for it as for any other."""

MOST_BLANK = 2
"""Members that are blank at one place at most for that to say something of them."""

PIECES_READ, PLACES = 2, 4
"""Pieces of a run whose bytes are looked at, and places of a piece at which they are."""


class Evidence:
    """Weighs what stands on the members, by what the array's data are like.

    suspects  members of which something else says that they are out of date, and with how many nats
    """

    def __init__(
        self, made: Geometry, members: Sequence[BlockSource | None], suspects: Mapping[int, float], learned: Learned
    ) -> None:
        self.made, self.members, self.suspects, self.learned = made, members, suspects, learned
        self.likely, self.rare = learned.taught()

    def links(self, chain: Sequence[Piece]) -> list[Link]:
        """What stands at each piece of a chain, said of each member, and last of several at once."""
        made: list[Link] = []
        end, together = -1, 0
        before: int | None = None
        for _run, some in groupby(chain, key=lambda piece: id(piece.looked)):
            pieces = list(some)
            fresh = pieces[0].looked.stretch != before or together == RUNS_TOGETHER
            together = 1 if fresh else together + 1
            for position, (piece, nats) in enumerate(zip(pieces, self._said(pieces), strict=True)):
                begin, after = piece.place(self.made.strip_bytes)
                touching = TURN_TOUCHING if begin == end else TURN_NEAR
                made.append(Link(nats, 1.0 if fresh and not position else touching))
                end, before = after, piece.looked.stretch
        return made

    def _said(self, pieces: Sequence[Piece]) -> list[Floats]:
        """What stands at the pieces of one run says of each member's being at fault, and last of several at once, in
        nats. What is blank from piece to piece says it once, and of the bytes those of the longest pieces are looked
        at: facts of one strip are nearly one."""
        count, who = len(self.members), list(pieces[0].members_of_cells)
        found = [np.full(count + 1, -np.inf) for _piece in pieces]
        for nats in found:
            nats[who] = 0.0
            nats[count] = -SEVERAL_NATS
        aged = any(self.suspects.get(m, 0.0) >= OLD_NATS for m in who)
        # of two copies both are like the rest of the array: what their own structures say of their age tells more
        if not aged or len(who) > 2:
            longest = sorted(range(len(pieces)), key=lambda i: pieces[i].low - pieces[i].high)[:PIECES_READ]
            for i in longest:
                found[i][who] += self._like(pieces[i])
        for member in who:
            for blank, stretch in groupby(range(len(pieces)), key=lambda i: member in pieces[i].empty):
                there = list(stretch)
                if blank and max(len(pieces[i].empty) for i in there) <= MOST_BLANK:  # in a sparse row all are
                    found[there[0]][member] += self._blank_nats([pieces[i] for i in there], member)
        for piece, nats in zip(pieces, found, strict=True):
            if 1 < len(piece.empty) <= MOST_BLANK:
                nats[count] += min(2 * RUN_NATS, float(np.sort(nats[who])[-2:].sum()))
        return found

    def _blank_nats(self, pieces: Sequence[Piece], member: int) -> float:
        """What it says of a member that it is blank all along some pieces of a run."""
        first, last = pieces[0], pieces[-1]
        length, whole = last.run.end - first.run.start, first.looked.run.end - first.looked.run.start
        if length < LEAST_PART * whole:
            return 0.0
        single = all(len(piece.empty) == 1 for piece in pieces)
        share = self.learned.alone(length) if single else self.learned.usual
        ends = self._ends(first.run.start - SECTOR, first, member, first.first)
        ends += self._ends(last.run.end, last, member, last.last)
        return min(RUN_NATS, float(np.log(BLANK_SHARE / share))) + END_NATS * ends

    def _ends(self, inner: int, piece: Piece, member: int, edge: bool) -> int:
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
        return int(not plain(sector))

    def _like(self, piece: Piece) -> Floats:
        """What the bytes of a piece say of each cell, in nats behind the likeliest."""
        if self.likely is None or any(piece.looked.coefficients[c] != 1 for c in piece.cells):
            return np.zeros(len(piece.cells))
        parity = np.array([c >= self.made.pattern.groups[piece.run.group].data for c in piece.cells])
        told = np.zeros(len(piece.cells))
        last = max(piece.low, piece.high - BLOCK)
        for at in np.unique(np.linspace(piece.low, last, PLACES).astype(int) // SECTOR * SECTOR).tolist():
            here = slice(at, min(at + BLOCK, piece.high))
            held, sums = piece.looked.cells[list(piece.cells), here], piece.looked.sums[here]
            told += accounts(self.likely, held, sums, parity, np.array([plain(h) for h in held]), self.rare)
        behind: Floats = np.maximum(told - told.max(), -PLACE_NATS)
        return behind
