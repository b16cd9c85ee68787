"""Blame: which member is at fault where rows do not match, decided piece by piece, or left open.

Two equations single a member out by algebra. One equation only says that somebody is: then it is told by what stands
there (`fault_evidence`), along the drives (`fault_chain`). Zeros or a pattern where the others tell that something
belongs are an area that a copy could not read; and where one member is out of date, what the others compute for it is
like the rest of the array, while for all others it is a mixture.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import groupby, pairwise

import numpy as np
import numpy.typing as npt

from ...arrays import codes, gf256
from ...arrays.geometry import Geometry
from ...arrays.layout import Group
from ...arrays.parity import combine_many
from ...arrays.rebuild import locate, times
from ...source import BlockSource, BlockSourceError
from ..document.row_map import Fault, Why
from .fault_chain import Link, posteriors
from .fault_evidence import Evidence
from .fault_pieces import Looked, Piece, Run, pieces_of, plain, stretches
from .learned_bytes import Learned

Floats = npt.NDArray[np.float64]

LEAD_NATS, OWN_NATS = 7.5, 2.0
"""By which one member must lead all others at a piece for it to be laid at it, and by which what stands in its own
stretch must speak for that member more than for most: nothing is laid at one for what is elsewhere alone."""

RIVAL_SHARE = 0.03
"""Of all that is at fault, what another member must be for what stands at a run to have to tell the two apart."""

ALONE_SHARE = 0.97
"""Of all that is at fault, what one member must be for a run to be laid at it that was not looked at, where only one of
those before and behind it is."""

SUSPECT_NATS = 8.0
"""For a member that the samples call out of date."""

MOSTLY_BLANK = 0.8
"""Of what is laid at a member at one run, the share that is blank where that is the reason."""

FULL = 2
"""Members that hold something and add up to zero, so many at least, are an array by themselves."""

LEAST_SHARE = 0.8
"""Of the pieces of a stretch, those at which the others add up by themselves where a member takes no part in it."""

MOST_WEIGHED, TRIED = 1 << 13, 64
"""Strips of runs that are looked at, and pieces of a stretch at which it is tried whether the others do without a
member."""

MOST_TOLD = 1 << 20
"""Bytes of a run that are looked at."""


@dataclass
class Judge:
    """Learns from a pass what the array's bytes are like, and lays faults at members."""

    made: Geometry
    members: Sequence[BlockSource | None]
    suspects: Mapping[int, float] = field(default_factory=dict)
    behind: frozenset[int] = frozenset()
    _other: list[tuple[int, int]] = field(default_factory=list)
    _left: list[Piece] = field(default_factory=list)
    apart: list[tuple[int, int, int]] = field(default_factory=list)
    """(first row, row after the last, member) of stretches that do not match, and do without that member."""

    def __post_init__(self) -> None:
        self.learned = Learned(self.made)

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
        open_: list[Looked] = []
        still: list[Run] = []
        self._left = []
        single = {r for r in runs if len(codes.remaining(self._group(r).checks, r.erased)) == 1}
        sampled, between = self._sampled(stretches(tuple(single), self.made))
        # of the others, one equation may be left where a member turns out to be unreadable
        others = stretches([r for r in runs if r not in single], self.made)
        those = [(r, -1 - number) for number, some in enumerate(others) for r in some]
        for one, number in [*those, *((r, number) for number, some in enumerate(sampled) for r in some)]:
            seen = self._look(one, number)
            if isinstance(seen, Looked):
                open_.append(seen)
            elif seen is None:
                still.append(one)
            else:
                faults += seen
        chains = [chain for looked in self._chains(open_) for chain in self._without_apart(looked)]
        laid_of: dict[Run, list[tuple[int, Why] | None]] = {}
        shares = np.zeros(len(self.members))
        if chains:
            evidence = Evidence(self.made, self.members, self.suspects, self.learned)
            known = np.zeros(len(self.members))
            for who, nats in self.suspects.items():
                known[who] = max(SUSPECT_NATS, nats)
            links_of = [evidence.links(chain) for chain in chains]
            told_of, shares = posteriors(links_of, known)
            for chain, links, told in zip(chains, links_of, told_of, strict=True):
                laid = zip(chain, self._led(chain, links, told, known, shares), strict=True)
                for (_run, led), some in groupby(laid, key=lambda both: (id(both[0].looked), both[1])):
                    pieces = [piece for piece, _led in some]
                    if led is None:
                        self._left += pieces
                    laid_of.setdefault(pieces[0].looked.run, []).append(self._as_laid(pieces, led, faults))
        left = [(piece.run, piece.members) for piece in self._left]
        for run, before, behind in between:
            beside = {*laid_of.get(before, [None]), *laid_of.get(behind, [None])}
            led_by = {led[0] for led in beside if led is not None}
            alone = len(led_by) == 1 and (None not in beside or shares[min(led_by)] >= ALONE_SHARE)
            found = next(led for led in beside if led is not None) if alone else None
            group = self._group(run)
            missing = {group.cells[cell][1] for cell in run.erased}  # what does not match beside it is another's fault
            if found is not None and found[0] not in missing:
                faults += self._laid(run, *found)
            else:
                left.append((run, group.members))
        for run, members in left:
            away = members & self.behind
            if len(away) == 1:  # nothing there speaks for another one, and the others were written together
                faults += self._laid(run, min(away), Why.AWAY)
            else:
                still.append(run)
        return faults, still

    def _as_laid(self, pieces: Sequence[Piece], led: int | None, faults: list[Fault]) -> tuple[int, Why] | None:
        """Lay pieces of one run, one after the other, at a member; who that is, and why."""
        if led is None:
            return None
        whole = replace(pieces[0].run, end=pieces[-1].run.end)
        blank = sum(piece.run.end - piece.run.start for piece in pieces if led in piece.empty)
        why = Why.BLANK if blank >= MOSTLY_BLANK * (whole.end - whole.start) else Why.OUT_OF_DATE
        faults += self._laid(whole, led, why)
        return led, why

    def _sampled(self, near: Sequence[Sequence[Run]]) -> tuple[list[list[Run]], list[tuple[Run, Run, Run]]]:
        """Of stretches of runs, those that are looked at; and those between two of them, each with the two: they are
        laid where both are."""
        strips = sum(len(runs) * len(self._group(runs[0]).cells) for runs in near)
        step = max(1, -(-strips // MOST_WEIGHED))
        chosen = [[*range(0, len(runs) - 1, step), len(runs) - 1] for runs in near]
        between = [
            (runs[i], runs[a], runs[b])
            for runs, some in zip(near, chosen, strict=True) for a, b in pairwise(some) for i in range(a + 1, b)
        ]  # fmt: skip
        return [[runs[i] for i in some] for runs, some in zip(near, chosen, strict=True)], between

    # one run ------------------------------------------------------------------------------------

    def _group(self, run: Run) -> Group:
        return self.made.pattern.groups[run.group]

    def _offset(self, run: Run, cell: int) -> tuple[int, int]:
        """(member, offset on it) of a cell's strip."""
        row, who = self._group(run).cells[cell]
        first = min(r for r, _ in self._group(run).cells)
        return who, self.made.start_bytes[who] + (run.row - first + row) * self.made.strip_bytes

    def _look(self, run: Run, stretch: int) -> list[Fault] | Looked | None:
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
            blank = plain(cells[liar])
            return self._laid(run, self._offset(run, liar)[0], Why.BLANK if blank else Why.LOCATED, True)
        return Looked(run, stretch, cells, checks[0], left[0])

    def _laid(self, run: Run, member: int, why: Why, proven: bool = False) -> list[Fault]:
        cell = next(c for c, (_row, who) in enumerate(self._group(run).cells) if who == member)
        _who, at = self._offset(run, cell)
        return [Fault(member, at + run.start, at + run.end, why, proven)]

    # stretches -----------------------------------------------------------------------------------

    def _chains(self, looked: Sequence[Looked]) -> list[list[Piece]]:
        """The pieces of the runs of the same members, in the order in which they stand."""
        found: dict[tuple[int, ...], list[Piece]] = {}
        for one in sorted(looked, key=lambda x: (x.run.row, x.run.start)):
            found.setdefault(one.run.group_key(self.made), []).extend(pieces_of(one, self._group(one.run)))
        return list(found.values())

    def _without_apart(self, chain: Sequence[Piece]) -> list[list[Piece]]:
        """A chain but for the stretches in which the others add up without one member: they are an array by themselves,
        and nobody's fault."""
        kept: list[Piece] = []
        for _number, some in groupby(chain, key=lambda piece: piece.looked.stretch):
            stretch = list(some)
            outside: Counter[int] = Counter()
            chosen = stretch[:: max(1, len(stretch) // TRIED)]
            for piece in chosen:
                outside.update(self._outside(piece))
            alone = next((who for who, count in outside.items() if count >= LEAST_SHARE * len(chosen)), None)
            if alone is None:
                kept += stretch
            else:
                self.apart.append((stretch[0].run.row, stretch[-1].run.row + 1, alone))
                self._left += stretch
        return [kept] if kept else []

    def _outside(self, piece: Piece) -> list[int]:
        """The members without which the others, some of which hold something, add up at a piece."""
        held = [piece.held(c) for c in piece.cells]
        flat = [plain(h) for h in held]
        found = []
        for position, c in enumerate(piece.cells):
            due = held[position] ^ times(gf256.inverse(piece.looked.coefficients[c]), piece.sums)
            others = len(flat) - 1 - sum(p for o, p in enumerate(flat) if o != position)
            if not due.any() and others >= FULL:
                found.append(piece.members_of_cells[position])
        return found

    def _led(
        self, chain: Sequence[Piece], links: Sequence[Link], told: Floats, known: Floats, shares: Floats
    ) -> Iterator[int | None]:  # fmt: skip
        """The member at which each piece of a chain is laid; None for nobody.

        shares  how often each member is at fault: of those that are, what stands at the run itself must tell
        """
        count, begins = len(self.members), [i for i, link in enumerate(links) if link.turn >= 1.0 or not i]
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
