"""The full pass: every row that holds data is read once, its equations are tested, and faults are laid at a member.

Sampling proves an order; only this proves that each member is up to date and each byte what it was. Whoever copies the
volume out reads these bytes anyway: `sink` is given them in the volume's order as they come, before faults are known;
what has to be computed instead is named in the map, and read once more through `rowmap.opened`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from ...arrays.alike import Alike, tests_of
from ...arrays.engine import SECTOR, data_rows
from ...arrays.geometry import Concatenation, Geometry
from ...arrays.layout import P_CELL
from ...arrays.parity import combine_many, recover
from ...arrays.rebuild import cell_plans
from ...ranges import Range, clip, total, union, widen
from ...source import BlockSource
from ..document.custody import SPAN_BYTES, Sealing
from ..document.row_map import Fault, RowMap, Shorter, State, Why, as_long
from ..reading.row_reader import Rows, fill_readable, holding, rows_of
from ..reading.samples import Tell, silent
from .blame import Judge
from .fault_pieces import Run
from .stretch import BLOCK, Sink, Stretch

Bytes2D = npt.NDArray[np.uint8]
Flags = npt.NDArray[np.bool_]
Member = BlockSource | None

LEAST_PIECE = 16 << 10
"""Strips smaller than this are put together before they are handed on."""

CHUNK_BYTES, LEAST_CHUNK = 2 << 20, 128 << 10
"""Bytes of all members that are read at once, and of each of them at least; and at least one unit of rows. Read, tested
and handed on while they are in the second-level cache, they are twice as fast as from memory."""

MOST_RUNS = 60_000
"""Stretches that do not match: of more, the rest is open without a look at who is at fault."""

LEAST_DISTINCT = 3
"""A parity strip that is empty beside so many different data strips is no parity, though the row adds up."""

UNLIKE_SHARE = 0.2
"""Of the bytes of two strips, those that differ at least where they are no records of one kind."""


def full_pass(
    made: Geometry, members: Sequence[Member], suspects: Mapping[int, float] | None = None, sink: Sink | None = None,
    tell: Tell = silent, part: Range | None = None, sealing: Sealing | None = None,
    behind: frozenset[int] = frozenset(),
) -> RowMap:  # fmt: skip
    """Read everything that holds data on the members and test it.

    suspects  members of which something else says that they are out of date, and with how many nats
    behind    members that are known to have been away while the others were written
    part      only rows with some of these bytes of the volume
    sealing   is given what is read of each member
    """
    whole = as_long(made, members)
    if isinstance(made, Concatenation):
        return _one_by_one(made, whole, sink, tell, part, sealing)
    return _Pass(made, whole, suspects or {}, sink, tell, sealing, behind).run(part)


def _one_by_one(
    made: Concatenation, members: Sequence[Member], sink: Sink | None, tell: Tell, part: Range | None,
    sealing: Sealing | None,
) -> RowMap:  # fmt: skip
    """A span: nothing in it can be tested; it is only read."""
    done, faults, edge = 0, list[Fault](), 0
    first, last = part or (0, made.volume_bytes)
    held = []
    for m, s, size in zip(members, made.start_bytes, made.member_bytes, strict=True):
        low, high = max(0, first - edge), min(size, last - edge)
        data = m.data_ranges(s + low, s + high) if m is not None and low < high else ()
        rows = widen(((a - s, b - s) for a, b in data), SPAN_BYTES)  # whole rows, as they are sealed
        held.append(clip(rows, low, high))
        edge += size
    whole, at = sum(total(r) for r in held), 0
    for number, (member, start, size) in enumerate(zip(members, made.start_bytes, made.member_bytes, strict=True)):
        for a, b in held[number]:
            for place in range(a, b, CHUNK_BYTES):
                block = np.zeros(min(CHUNK_BYTES, b - place), np.uint8)
                assert member is not None
                bad = fill_readable(member, start + place, block)
                faults += [Fault(number, x, y, Why.UNREADABLE) for x, y in bad]
                done += block.size
                tell("reading all that holds data", done >> 20, whole >> 20)
                if sealing:
                    _seal(sealing, number, place, block, bool(bad))
                if sink:
                    sink(Stretch(at + place, [block]))
        at += size
    count = {State.UNPROTECTED: sum(len(r) > 0 for r in held)}
    return RowMap(count, tuple(faults), (), (), done)


def _seal(sealing: Sealing, member: int, place: int, block: npt.NDArray[np.uint8], bad: bool) -> None:
    """Have the rows of a member of a span sealed; `place` in its data, in bytes. What is only a part of a row is none
    that could be sealed."""
    row, last = place // SPAN_BYTES, -(-(place + block.size) // SPAN_BYTES)
    ends = place + block.size == sealing.made.member_bytes[member]
    if bad or place % SPAN_BYTES or (block.size % SPAN_BYTES and not ends):
        sealing.unread(member, row, last)
        return
    rows = np.zeros((last - row, SPAN_BYTES), np.uint8)
    rows.reshape(-1)[: block.size] = block
    sealing.take(member, row, rows, np.asarray(rows.any(axis=1)))


def rows_with(made: Geometry, part: Range | None) -> Range:
    """The rows (first, one past the last) that a pass over a part of the volume, in bytes, reads."""
    if part is None:
        return 0, made.rows
    unit = made.pattern.unit_rows
    per_unit = made.pattern.strips * unit // made.pattern.rows * made.strip_bytes
    return part[0] // per_unit * unit, min(made.rows, -(-part[1] // per_unit) * unit)


@dataclass
class _Row:
    """What was noted of rows: (first, last) ranges by state, before faults are known."""

    sound: list[Range] = field(default_factory=list)
    unprotected: list[Range] = field(default_factory=list)
    broken: list[Range] = field(default_factory=list)


class _Pass:
    def __init__(
        self, made: Geometry, members: Sequence[Member], suspects: Mapping[int, float], sink: Sink | None, tell: Tell,
        sealing: Sealing | None, behind: frozenset[int],
    ) -> None:  # fmt: skip
        self.made, self.members, self.sink, self.tell, self.sealing = made, list(members), sink, tell, sealing
        self.pattern, self.strip = made.pattern, made.strip_bytes
        self.gone = frozenset(i for i, m in enumerate(members) if m is None)
        self.judge = Judge(made, self.members, suspects, behind)
        self.noted = _Row()
        self.runs: list[Run] = []
        self._room = np.empty(0, np.uint8)
        self.too_many: list[Run] = []
        self.unread: list[Fault] = []
        self.read = 0

    def run(self, part: Range | None) -> RowMap:
        unit = self.pattern.unit_rows
        size = max(LEAST_CHUNK, CHUNK_BYTES // len(self.members))
        step = max(1, size // (self.strip * unit)) * unit
        first, last = rows_with(self.made, part)
        rows = data_rows(self.made, self.members, first, last)
        ranges = union((a // unit * unit, min(-(-b // unit) * unit, self.made.rows // unit * unit)) for a, b in rows)
        whole, done = total(ranges), 0
        for rows_read in rows_of(self.made, self.members, ranges, step):
            self._chunk(rows_read)
            done += rows_read.last - rows_read.first
            self.tell("testing every row that holds data", done, whole)
        return self._conclude()

    def _chunk(self, rows: Rows) -> None:
        """Test rows that were read, and hand them on."""
        for who, lost in rows.lost.items():
            start, size = self.made.start_bytes[who] + rows.first * self.strip, rows.blocks[who].size
            self.read -= total(lost)
            member = self.members[who]
            short = isinstance(member, Shorter) and start + size > member.source.size
            why = Why.ABSENT if short else Why.UNREADABLE
            self.unread += [Fault(who, a, b, why, self._spare(who) > 1) for a, b in lost]
        self.read += sum(b.size for b, m in zip(rows.blocks, self.members, strict=True) if m is not None)
        gone = self.gone | rows.ended
        fine = [self._holding(block) for block in rows.blocks]
        filled = np.stack([some.any(axis=1) for some in fine], axis=1)
        if self.sealing:
            for who, member in enumerate(self.members):
                if who in rows.lost:
                    self.sealing.unread(who, rows.first, rows.last)
                elif member is not None:
                    self.sealing.take(who, rows.first, rows.blocks[who], filled[:, who])
        self._test(rows.blocks, filled, rows.first, rows.last, gone)
        if len(rows.lost) > 1:
            self._undetermined(rows, gone)
        self.judge.learned.learn(rows.blocks, rows.first, gone)
        if self.sink:
            full = self.strip % BLOCK == 0 and all(some.all() for who, some in enumerate(fine) if who not in gone)
            self._hand_on(rows.blocks, rows.first, rows.last, gone, full)

    def _spare(self, member: int) -> int:
        """How many equations the groups of a member have beyond what is missing in them, at least."""
        groups = [g for g in self.pattern.groups if member in g.members]
        return min(len(g.checks) - len(g.members & self.gone) for g in groups)

    # testing ------------------------------------------------------------------------------------

    def _test(self, blocks: list[Bytes2D], filled: Flags, first: int, last: int, gone: frozenset[int]) -> None:
        pattern, count = self.pattern, last - first
        broken, untold = np.zeros(count, bool), np.zeros(count, bool)
        for alike in tests_of(pattern, gone):
            for rows in alike.rows(first, count):
                if not alike.checks:
                    untold[rows.start :: rows.step] = True
                    continue
                sums = self._sums(alike, blocks, rows)
                wrong: Flags = np.asarray(sums.max(axis=2).any(axis=0))
                for index in np.flatnonzero(wrong).tolist():
                    row = first + rows[index]
                    broken[rows[index]] = True
                    number = alike.group(row)
                    erased = frozenset(c for c, (_, who) in enumerate(pattern.groups[number].cells) if who in gone)
                    self._note(row, number, sums[:, index], erased)
        if pattern.unit_rows == 1 and not filled.all():
            self._empty_parity(blocks, filled, first, ~broken, gone)
        any_data = filled.any(axis=1)
        for word, flags in (
            ("broken", broken), ("unprotected", untold & ~broken & any_data), ("sound", ~untold & ~broken & any_data)
        ):  # fmt: skip
            getattr(self.noted, word).extend((first + a, first + b) for a, b in _stretches(flags))

    def _undetermined(self, rows: Rows, gone: frozenset[int]) -> None:
        """Note the sectors where more members of a group cannot be read than it has equations: they are open though it
        matches with zeros in their places, as other bytes would."""
        pattern, count = self.pattern, rows.last - rows.first
        unread = {who: np.zeros(count * self.strip // SECTOR, bool) for who in rows.lost if who not in gone}
        for who, flags in unread.items():
            first = self.made.start_bytes[who] + rows.first * self.strip
            for a, b in rows.lost[who]:
                flags[(a - first) // SECTOR : -(-(b - first) // SECTOR)] = True
        for number, group in enumerate(pattern.groups):
            erased = frozenset(cell for cell, (_row, who) in enumerate(group.cells) if who in gone)
            parts = [
                unread[who].reshape(count, -1)[(row - rows.first) % pattern.rows :: pattern.rows]
                for row, who in group.cells if who in unread
            ]  # fmt: skip
            if len(parts) + len(erased) <= len(group.checks):
                continue
            begin = (group.cells[0][0] - rows.first) % pattern.rows + rows.first
            lost = np.sum(parts, axis=0) + len(erased) > len(group.checks)
            for index, sectors in enumerate(lost):
                row = begin + index * pattern.rows
                for a, b in _stretches(sectors):
                    self.too_many.append(Run(row, number, a * SECTOR, b * SECTOR, erased))
                    self.noted.broken.append((row, row + 1))

    def _sums(self, alike: Alike, blocks: list[Bytes2D], rows: range) -> npt.NDArray[np.uint8]:
        """What is left of equations in rows: uint8 (equations, rows, bytes), good until the next are asked for."""
        shape = len(alike.checks), len(rows), self.strip
        size = len(alike.checks) * len(rows) * self.strip
        if self._room.size < size:
            self._room = np.empty(size, np.uint8)
        sums = self._room[:size].reshape(shape)
        cells = [blocks[who][rows.start + row :: rows.step][: len(rows)] for row, who in alike.cells]
        if rows.step == 1:  # they follow one another: larger pieces, fewer calls
            combine_many(list(sums.reshape(len(sums), 1, -1)), [cell.reshape(1, -1) for cell in cells], alike.checks)
        else:
            combine_many(list(sums), cells, alike.checks)
        return sums

    def _note(self, row: int, group: int, sums: Bytes2D, erased: frozenset[int]) -> None:
        """The sectors of a row in which a group does not match, in stretches."""
        sectors: Flags = np.asarray(sums.reshape(len(sums), -1, SECTOR).any(axis=(0, 2)))
        for a, b in _stretches(sectors):
            run = Run(row, group, a * SECTOR, b * SECTOR, erased)
            (self.runs if len(self.runs) < MOST_RUNS else self.too_many).append(run)

    def _empty_parity(
        self, blocks: list[Bytes2D], filled: Flags, first: int, matching: Flags, gone: frozenset[int]
    ) -> None:
        """Rows that add up although the strip that should hold parity is empty beside several different data strips:
        they are rows of another layout, in which that member takes no part."""
        pattern = self.pattern
        for group in pattern.groups:
            p = next((who for row, who in group.cells if pattern.index[row, who] == P_CELL), None)
            if p is None or group.data < LEAST_DISTINCT or group.members & gone:
                continue
            here = np.arange((group.cells[0][0] - first) % pattern.rows, len(filled), pattern.rows)
            data = [who for row, who in group.cells if pattern.index[row, who] >= 0]
            suspect = ~filled[here, p] & matching[here]
            if suspect.any():
                suspect &= filled[here][:, data].sum(axis=1) >= LEAST_DISTINCT
            for index in here[suspect].tolist():
                strips = [blocks[who][index] for who in data if filled[index, who]]
                if len({s.tobytes() for s in strips}) >= LEAST_DISTINCT and (len(strips) % 2 or _unlike(*strips[:2])):
                    self.judge.other_layout(p, first + index)

    # handing on ---------------------------------------------------------------------------------

    def _holding(self, block: Bytes2D) -> Flags:
        """Which pieces of a member's rows hold something, (rows, pieces): blocks, where strips have whole ones."""
        size = BLOCK if self.strip % BLOCK == 0 else self.strip
        return holding(block.reshape(-1, size)).reshape(len(block), -1)

    def _hand_on(self, blocks: list[Bytes2D], first: int, last: int, gone: frozenset[int], full: bool) -> None:
        """The rows' data in the volume's order; what is missing is computed where it follows.

        full  whether every block of the members that are there holds something
        """
        assert self.sink is not None
        pattern = self.pattern
        for who in gone:
            for phase, plan in enumerate(cell_plans(pattern, gone, who)):
                begin = (phase - first) % pattern.rows
                if plan is None or begin >= last - first:
                    continue
                rows = blocks[who][begin :: pattern.rows]
                strips = [blocks[w][begin + r - phase :: pattern.rows][: len(rows)] for r, w in plan.sources]
                recover([rows], strips, plan.stages)
        per_unit = pattern.strips * pattern.unit_rows // pattern.rows
        count = (last - first) // pattern.unit_rows * per_unit
        number = first // pattern.unit_rows * per_unit
        index = (number + np.arange(count)) % pattern.strips
        period = (number + np.arange(count)) // pattern.strips
        row = period * pattern.rows + pattern.places[0, index, 0] - first
        who = pattern.places[0, index, 1]
        at = number * self.strip
        if self.strip >= LEAST_PIECE:
            room = max(0, self.made.volume_bytes - at)
            whole, rest = divmod(room, self.strip)
            strips = [blocks[w][r] for w, r in zip(who.tolist(), row.tolist(), strict=True)]
            full = full and all(self._holding(blocks[who]).all() for who in gone)
            self.sink(Stretch(at, strips if whole >= count else [*strips[:whole], strips[whole][:rest]], full))
            return
        out = np.empty((count, self.strip), np.uint8)
        for member in np.unique(who).tolist():
            mine = who == member
            out[mine] = blocks[member][row[mine]]
        self.sink(Stretch(at, [out.reshape(-1)[: max(0, self.made.volume_bytes - at)]]))

    # concluding ---------------------------------------------------------------------------------

    def _conclude(self) -> RowMap:
        self.tell("who is at fault where rows do not match")
        faults, still = self.judge.decide(self.runs)
        still = [*still, *self.too_many]
        strip, made = self.strip, self.made
        open_at = list[Range]()
        open_rows, mended_rows = set[int](), set[int]()
        for run in still:
            group = self.pattern.groups[run.group]
            period = run.row // self.pattern.rows
            for row, who in group.cells[: group.data]:
                at = made.cell_offset(period, row, who)
                volume = int(made.to_volume(who, at))
                if volume >= 0:  # what is missing is computed from this row
                    open_at.append((volume + run.start, volume + run.end))
            open_rows.add(run.row)
        smaller = self.judge.other_rows()
        for first, last, _member in smaller:
            open_rows |= set(range(first, last))
            open_at += made.row_ranges([(first, last)])
        for fault in [*faults, *self.unread]:
            row = (fault.start - made.start_bytes[fault.member]) // strip
            mended_rows |= set(range(row, -(-(fault.end - made.start_bytes[fault.member]) // strip)))
        faults = _joined([*faults, *self.unread])
        made_map = self._map(faults, union(open_at), open_rows, mended_rows)
        return replace(made_map, smaller=tuple(sorted({*smaller, *self.judge.apart})))

    def _map(self, faults: list[Fault], open_at: list[Range], open_rows: set[int], mended_rows: set[int]) -> RowMap:
        states: list[tuple[int, int, State]] = []
        held = union([*self.noted.sound, *self.noted.unprotected, *self.noted.broken])
        untold = _flags(self.noted.unprotected)
        counts = dict.fromkeys(State, 0)
        for first, last in held:
            for row in range(first, last):
                state = (
                    State.OPEN if row in open_rows else State.UNPROTECTED if untold(row)
                    else State.MENDED if row in mended_rows else State.SOUND
                )  # fmt: skip
                counts[state] += 1
                if states and states[-1][1] == row and states[-1][2] is state:
                    states[-1] = (states[-1][0], row + 1, state)
                else:
                    states.append((row, row + 1, state))
        return RowMap(counts, tuple(faults), tuple(open_at), tuple(states), self.read)


def _unlike(a: npt.NDArray[np.uint8], b: npt.NDArray[np.uint8]) -> bool:
    """Whether two strips have little in common: an even number of records that differ in their number alone may add up
    to nothing."""
    return float((a != b).mean()) > UNLIKE_SHARE


def _flags(ranges: Sequence[Range]) -> Callable[[int], bool]:
    """Whether a row is in one of the ranges."""
    joined = union(ranges)
    starts = np.array([a for a, _b in joined], np.int64)
    ends = np.array([b for _a, b in joined], np.int64)

    def inside(row: int) -> bool:
        at = int(np.searchsorted(starts, row, side="right")) - 1
        return at >= 0 and row < int(ends[at])

    return inside


def _joined(faults: Sequence[Fault]) -> list[Fault]:
    """Faults of one member and reason that touch, as one."""
    found: list[Fault] = []
    for fault in sorted(faults, key=lambda f: (f.member, f.start)):
        last = found[-1] if found else None
        same = last is not None and (last.member, last.why, last.proven) == (fault.member, fault.why, fault.proven)
        if last is not None and same and fault.start <= last.end:
            found[-1] = replace(last, end=max(last.end, fault.end))
        else:
            found.append(fault)
    return found


def _stretches(flags: Flags) -> Iterator[Range]:
    """(first, one past the last) of the stretches that are true."""
    if flags.all() or not flags.any():  # by far the most are
        yield from [(0, len(flags))] if flags.any() else []
        return
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flags, [False]]).astype(np.int8)))
    yield from zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True)
