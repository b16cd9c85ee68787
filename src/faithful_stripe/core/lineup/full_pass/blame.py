"""Blame: which member is at fault where rows do not match, decided region by region, or left open.

Two equations single a member out by algebra. One equation only says that somebody is: then it is told by what stands
there. Zeros or a pattern where the others tell that something belongs are an area that a copy could not read; and where
one member is out of date, what the others compute for it is like the rest of the array, while for all others it is a
mixture. A region is decided by its own bytes; that a member is at fault elsewhere only tips the scales.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

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
from ..evidence.byte_pairs import ANYTHING, Pairs, accounts, best_pairs
from ..reading.samples import BLOCK

Bytes2D = npt.NDArray[np.uint8]
Floats = npt.NDArray[np.float64]

REGION_GAP = 256 << 10
"""Runs of one group of members no further apart than this, in bytes of a member, are one region."""

LEAD_NATS = 14.0
"""By which the account of one member must lead all others' for a region to be laid at it."""

LEARNED_BYTES, LEARNED_ROWS = 2 << 20, 24
"""Of so many bytes of a member, so many rows teach: of the first stretch, the second, the fourth, ..., and of each
sixteenth; and all the first ones."""

SUSPECT_NATS, AGAIN_NATS = 8.0, 6.0
"""For a member that the samples call out of date, and for one that is at fault in another region."""

BLANK_SHARE, LEAST_USUAL = 1 / 3, 0.004
"""How often what is at fault is blank, and the least share of blank sectors that is counted with elsewhere."""

BORDER_NATS = 9.0
"""For a member that is blank just where a region is that does not match, and holds something before and behind it."""

RUN_NATS, PLACE_NATS = 6.0, 8.0
"""The most that one run says by being blank, and by what its bytes are like."""

TELLING_NATS, LEAST_SHARE = 2.0, 0.8
"""By which a run speaks for one member, and the share of such runs that must speak for the one that is blamed."""

FULL = 2
"""Members that hold something and add up to zero, so many at least, are an array by themselves."""

WEIGHED, SAMPLED, TAUGHT = 64, 600, 32
"""Runs of a region that are weighed, blocks that teach what the array's bytes are like, fewest that can."""

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
class Judge:
    """Learns from a pass what the array's bytes are like, and lays faults at members."""

    made: Geometry
    members: Sequence[BlockSource | None]
    suspects: Mapping[int, float] = field(default_factory=dict)
    behind: frozenset[int] = frozenset()
    _blocks: list[npt.NDArray[np.uint8]] = field(default_factory=list)
    _blank: int = 0
    _seen: int = 0
    _full: int = 0
    _single: int = 0
    _rows: int = 0
    _other: list[tuple[int, int]] = field(default_factory=list)
    apart: list[tuple[int, int, int]] = field(default_factory=list)
    """(first row, row after the last, member) of stretches that do not match, and do without that member."""

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
                    empty = sum(not cells[who][sector : sector + SECTOR].any() for who in group.members)
                    self._full += not empty
                    self._single += empty == 1
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
        for one in runs:
            told = self._look(one)
            if isinstance(told, _Looked):
                open_.append(told)
            elif told is None:
                still.append(one)
            else:
                faults += told
        regions = self._regions(open_)
        if not regions:
            return faults, still
        likely, rare = self._taught()
        blamed: Counter[int] = Counter(dict.fromkeys(self.suspects, 0))
        undecided = regions
        for _round in range(3):
            waiting, undecided = undecided, []
            for region in waiting:
                who, blank = self._weigh(region, likely, rare, blamed)
                if who is None:
                    undecided.append(region)
                    continue
                blamed[who] += 1
                why = Why.BLANK if blank else Why.OUT_OF_DATE
                faults += [f for looked in region for f in self._laid(looked.run, who, why)]
            if len(undecided) == len(waiting):
                break
        for looked in (looked for region in undecided for looked in region):
            taking_part = {self._group(looked.run).cells[c][1] for c, k in enumerate(looked.coefficients) if k}
            away = taking_part & self.behind
            if len(away) == 1:  # nothing there speaks for another one, and the others were written together
                faults += self._laid(looked.run, away.pop(), Why.AWAY)
            else:
                still.append(looked.run)
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

    # regions ------------------------------------------------------------------------------------

    def _regions(self, looked: Sequence[_Looked]) -> list[list[_Looked]]:
        """Runs of the same members that stand near one another."""
        found: list[list[_Looked]] = []
        last: dict[frozenset[int], list[_Looked]] = {}
        strip = self.made.strip_bytes
        for one in sorted(looked, key=lambda x: (x.run.row, x.run.start)):
            who = self._group(one.run).members if self.made.pattern.unit_rows == 1 else frozenset({one.run.group})
            before = last.get(who)
            at = one.run.row * strip + one.run.start
            if before is not None and at - (before[-1].run.row * strip + before[-1].run.end) <= REGION_GAP:
                before.append(one)
            else:
                last[who] = [one]
                found.append(last[who])
        return found

    def _taught(self) -> tuple[Pairs | None, float]:
        if len(self._blocks) < TAUGHT:
            return None, 0.0
        blocks = np.stack(self._blocks[:: max(1, len(self._blocks) // SAMPLED)])
        likely = best_pairs(blocks[::2], blocks[1::2], BLOCK)
        noise = float((likely.each(blocks).mean(axis=1) < ANYTHING).mean())
        return likely, float(np.log(max(noise, 1e-4)))

    def _weigh(
        self, region: Sequence[_Looked], likely: Pairs | None, rare: float, blamed: Counter[int]
    ) -> tuple[int | None, bool]:
        """The member a region is laid at, None for nobody, and whether it is blank there."""
        usual = max(LEAST_USUAL, (self._blank + 1) / (self._seen + 2))
        alone = max(LEAST_USUAL, (self._single + 1) / (self._full + self._single + 2) / max(2, self.made.members))
        account: dict[int, float] = {}
        blank: Counter[int] = Counter()
        first: Counter[int] = Counter()
        outside: Counter[int] = Counter()
        chosen = region[:: max(1, len(region) // WEIGHED)]
        for looked in chosen:
            group = self._group(looked.run)
            cells = [c for c, k in enumerate(looked.coefficients) if k]
            plain = {c: _plain(looked.cells[c]) for c in cells}
            aged = any(self.suspects.get(who, 0.0) >= LEAD_NATS for _row, who in group.cells)
            # of two copies both are like the rest of the array: what their own structures say of their age tells more
            like = np.zeros(len(cells)) if aged and len(cells) == 2 else self._like(looked, cells, likely, rare)
            said_here: dict[int, float] = {}
            for position, c in enumerate(cells):
                who = group.cells[c][1]
                due = looked.cells[c] ^ times(gf256.inverse(looked.coefficients[c]), looked.sums)
                empty = plain[c] and not _plain(due)
                share = alone if sum(plain.values()) == 1 else usual
                said = np.log(BLANK_SHARE / share) if empty else np.log((1 - BLANK_SHARE) / (1 - share))
                blank[who] += empty
                outside[who] += not due.any() and len(cells) - 1 - sum(p for o, p in plain.items() if o != c) >= FULL
                said_here[who] = min(RUN_NATS, float(said)) + float(like[position])
                account[who] = account.get(who, 0.0) + said_here[who]
            told = sorted(said_here, key=lambda w: -said_here[w])
            if len(told) > 1 and said_here[told[0]] - said_here[told[1]] > TELLING_NATS:
                first[told[0]] += 1
        for who, count in outside.items():
            if count >= LEAST_SHARE * len(chosen):  # the others add up by themselves
                self.apart.append((region[0].run.row, region[-1].run.row + 1, who))
                return None, False
        for who, count in blank.items():
            if count == len(chosen) and self._ends_there(region, who):
                account[who] += BORDER_NATS
        for who in account:
            known = max(SUSPECT_NATS, self.suspects[who]) if who in self.suspects else 0.0
            account[who] += known or (AGAIN_NATS if blamed[who] else 0.0)
        ranked = sorted(account, key=lambda w: -account[w])
        if len(ranked) < 2 or account[ranked[0]] - account[ranked[1]] < LEAD_NATS:
            return None, False
        if first[ranked[0]] < LEAST_SHARE * first.total():
            return None, False  # others are at fault in a part of it
        return ranked[0], blank[ranked[0]] >= 0.8 * len(chosen)

    def _ends_there(self, region: Sequence[_Looked], member: int) -> bool:
        """Whether what is blank on a member begins and ends where the region does, and not where strips do: nothing
        else ends so."""
        strip = self.made.strip_bytes
        first, last = region[0].run, region[-1].run
        if first.start == 0 or last.end == strip or self.made.pattern.unit_rows > 1:
            return False
        source = self.members[member]
        at = self.made.start_bytes[member]
        for row, inner in ((first.row, first.start - SECTOR), (last.row, last.end)):
            sector = np.zeros(SECTOR, np.uint8)
            try:
                assert source is not None
                source.read_into(at + row * strip + inner, sector)
            except BlockSourceError:
                return False
            if _plain(sector):
                return False
        return True

    def _like(self, looked: _Looked, cells: Sequence[int], likely: Pairs | None, rare: float) -> Floats:
        """What the bytes of a run say of each cell, in nats behind the likeliest."""
        if likely is None or any(looked.coefficients[c] != 1 for c in cells):
            return np.zeros(len(cells))
        group = self._group(looked.run)
        parity = np.array([c >= group.data for c in cells])
        held = looked.cells[cells][:, :BLOCK]
        told = accounts(likely, held, looked.sums[:BLOCK], parity, rare)
        behind: Floats = np.maximum(told - told.max(), -PLACE_NATS)
        return behind


def _plain(data: npt.NDArray[np.uint8]) -> bool:
    """Whether every sector holds the same: zeros, one byte, or a pattern."""
    if not len(data) or (data == data[0]).all():
        return True
    sectors = data[: len(data) // SECTOR * SECTOR].reshape(-1, SECTOR)
    repeats = bool((data[:448] == data[64:512]).all()) if len(data) >= SECTOR else False
    return repeats and bool((sectors == sectors[0]).all())
