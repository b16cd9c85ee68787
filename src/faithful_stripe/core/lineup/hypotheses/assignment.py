"""Hypotheses: for every layout, strip and start the evidence votes column against position; the best assignment is
the order. No permutation is ever tried one by one."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, fields, replace
from functools import cached_property, lru_cache
from heapq import heappush, heapreplace
from itertools import combinations

import numpy as np
import numpy.typing as npt

from ...arrays.geometry import STRIP_LEAST, STRIP_MOST
from ...arrays.layout import P_CELL, Q_CELL, Layout
from ..evidence.field_algebra import P_ROLE, Q_ROLE
from ..structures.anchors import Anchors
from .candidate import Candidate
from .placement import Facts, Places, hits_of, places

Floats = npt.NDArray[np.float64]
Int64 = npt.NDArray[np.int64]

ZERO_NATS, ROLE_NATS = 1.5, 1.5
EMPTY_NATS = 25.0
"""Against parity that is empty where three strips add up, or any odd number, and no fewer by themselves: of two, one
may be a copy, and an even number of records that differ in their number alone may add up to nothing. It must outweigh
the sum of an odd number of inode records, which looks like an inode record."""

MISSING_NATS = 3.0
"""What a hypothesis is charged for each member that it says is missing: it has less to be wrong about."""

FORBIDDEN = -1e9


@dataclass(frozen=True, eq=False)
class Ballot:
    """The evidence about one candidate, columns instead of images. Arrays of one length within each group of fields.

    who, offset, address, count    facts: a structure at this offset of a column belongs at that address
    role_who, role_offset, role, role_weight   what the algebra says a column holds there: P_ROLE, Q_ROLE, an exponent
                                   (weight: one over the number of answers)
    zero_who, zero_offset          a column is empty there and another of its group is not: hardly parity
    zero_others                    how many of its group add up there, where that is an odd number; else 0
    quiet                          (n, 2): addresses, from one to before another, at which copies of structures stand
    """

    columns: int
    who: Int64
    offset: Int64
    address: Int64
    count: Int64
    role_who: Int64
    role_offset: Int64
    role: Int64
    role_weight: Floats
    zero_who: Int64
    zero_offset: Int64
    zero_others: Int64
    quiet: Int64

    @cached_property
    def facts(self) -> Facts:
        """What states an address."""
        return Facts(self.who, self.offset, self.address, self.count, self.quiet)

    @cached_property
    def key(self) -> bytes:
        """The same for two ballots of which all evidence is the same."""
        told = [getattr(self, one.name) for one in fields(self) if one.name != "columns"]
        return hashlib.blake2b(b"".join(b"%d:" % len(part) + part.tobytes() for part in told)).digest()

    @cached_property
    def _empty(self) -> dict[tuple[int, int], tuple[Int64, Floats, Int64, Int64]]:
        return {}

    def empty_cells(self, strip: int, start: int) -> tuple[Int64, Floats, Int64, Int64]:
        """(row, nats against parity there) of each cell that is empty in a row that is not, column by column; which
        columns these are, and where each one's begin. The same for every layout."""
        known, key = self._empty, (strip, start)
        if key not in known:
            if len(known) >= MOST_GRIDS:
                known.clear()
            inside = self.zero_offset >= start
            row = (self.zero_offset[inside] - start) // strip
            who = self.zero_who[inside]
            _key, first, which = np.unique(who * (1 << 40) + row, return_index=True, return_inverse=True)
            others = np.zeros(len(first), np.int64)
            np.maximum.at(others, which, self.zero_others[inside])
            columns, begins = np.unique(who[first], return_index=True)
            known[key] = row[first], np.where(others > 2, EMPTY_NATS, ZERO_NATS), columns, begins
        return known[key]

    @cached_property
    def told(self) -> float:
        """What roles are worth together, each in its place."""
        return float(self.role_weight.sum())


MOST_GRIDS = 256
"""Strips and starts of which the empty cells are kept: a search has a few dozen."""


@dataclass(frozen=True)
class Hypothesis:
    """A lineup that might be.

    order      columns of the candidate by position, None for a missing one
    start      where data start on the members, in bytes
    base       where the ground starts in the volume, in bytes
    score      evidence for it in nats; runner_up: of the best other order under the same geometry
    facts      how many anchors stand where it says
    """

    candidate: Candidate
    layout: Layout
    strip: int
    start: int
    base: int
    order: tuple[int | None, ...]
    score: float
    runner_up: float = 0.0
    facts: int = 0


def strips() -> list[int]:
    """The strip sizes that are tried first: the powers of two."""
    return [1 << p for p in range(STRIP_LEAST.bit_length() - 1, STRIP_MOST.bit_length())]


def odd_strips() -> list[int]:
    """Strips that are not powers of two: tried where those explain too little."""
    small = range(3 * 4096, 128 << 10, 4096)
    large = range(128 << 10, 1 << 20, 32 << 10)
    largest = range(1 << 20, STRIP_MOST, 256 << 10)
    return [s for s in (*small, *large, *largest) if s & (s - 1)]


def make_ballot(candidate: Candidate, anchors: Anchors | None) -> Ballot:
    """The facts of one ground as they concern a candidate."""
    column = {image: c for c, images in enumerate(candidate.columns) for image in images}
    none, empty, quiet = np.empty(0, np.int64), np.empty(0, np.float64), np.empty((0, 2), np.int64)
    if anchors is None or not len(anchors):
        return Ballot(len(candidate.columns), none, none, none, none, none, none, none, empty, none, none, none, quiet)
    table = np.full(max(int(anchors.image.max()), *column) + 1, -1, np.int64)
    table[list(column)] = list(column.values())
    who = table[anchors.image]
    inside = who >= 0
    return Ballot(
        len(candidate.columns), who[inside], anchors.offset[inside], anchors.address[inside], anchors.count[inside],
        none, none, none, empty, none, none, none, np.array(anchors.ground.silent, np.int64).reshape(-1, 2),
    )  # fmt: skip


def hypotheses(
    candidate: Candidate, ballot: Ballot, bases: Sequence[int], starts: Sequence[int], sizes: Sequence[int]
) -> list[Hypothesis]:
    """The best order of a candidate under every layout, strip, base and start, the best first; those of the `KEPT` best
    places, and as many more as were met on the way.

    bases  where the ground of the facts may start in the volume, in bytes; negative: so many strips into a row
    """
    best: list[tuple[float, int, Hypothesis, Floats]] = []  # a heap, the least first
    number = 0
    for chosen in candidate.layouts:
        known: dict[tuple[int, int], Floats] = {}  # what relations say does not depend on where the ground starts
        for some in _places(chosen, candidate, ballot, bases, starts, sizes):
            most = ballot.facts.most(some.hit)
            for one in np.argsort(-most, kind="stable").tolist():
                strip, start, base = int(some.strip[one]), int(some.start[one]), int(some.base[one])
                floor = best[0][0] + MISSING_NATS * candidate.missing if len(best) == KEPT else -np.inf
                if most[one] + ROLE_NATS * ballot.told < floor:
                    break
                if (strip, start) not in known:
                    known[strip, start] = relation_votes(chosen, strip, start, ballot)
                told = known[strip, start]
                if most[one] + float(told.max(axis=1).clip(0).sum()) < floor:
                    continue
                hit = some.hit[one]
                votes = told + ballot.facts.votes(ballot.columns, chosen.members, some.position[one], hit)
                if float(votes.max(axis=1).clip(0).sum()) < floor:
                    continue
                order, score = assign(votes, candidate)
                score -= MISSING_NATS * candidate.missing
                if len(best) == KEPT and score <= best[0][0]:
                    continue
                facts = int(ballot.count[hit].sum())
                made = Hypothesis(candidate, chosen, strip, start, base, order, score, -np.inf, facts)
                (heappush if len(best) < KEPT else heapreplace)(best, (score, -number - one, made, votes))
            number += len(most)
    ranked = sorted(best, key=lambda b: (-b[0], -b[1]))
    judged = [_against(made, votes, ballot) for _score, _number, made, votes in ranked]
    return sorted(judged, key=lambda h: -h.score)


def _against(h: Hypothesis, votes: Floats, ballot: Ballot) -> Hypothesis:
    """The best order when what stands where it does not belong has its say, too."""
    contrary = ballot.facts.contrary(ballot.columns, h.layout, h.strip, h.start, h.base)
    order, score = assign(votes - contrary, h.candidate)
    return replace(h, order=order, score=score - MISSING_NATS * h.candidate.missing)


KEPT = 96
"""Places of one candidate of which an order is looked for in any case: far more than are looked at more closely."""


def finished(h: Hypothesis, ballot: Ballot) -> Hypothesis:
    """With the score of the best other order, and the number of facts that hold."""
    hit, position = hits_of(h.layout, h.strip, h.start, h.base, ballot.facts)
    votes = votes_of(h.layout, h.strip, h.start, h.base, ballot, position, hit)
    held = hit & (np.array([-1 if c is None else c for c in h.order])[position] == ballot.who)
    second = second_best(votes, h.candidate, h.order) - MISSING_NATS * h.candidate.missing
    return replace(h, runner_up=second, facts=int(ballot.count[held].sum()))


def _places(
    chosen: Layout,
    candidate: Candidate,
    ballot: Ballot,
    bases: Sequence[int],
    starts: Sequence[int],
    sizes: Sequence[int],
) -> Iterator[Places]:
    """The bases and starts that facts support under each strip, and, where the phase is known or roles are, the usual
    starts whether they do or not."""
    fitting = [s for s in sizes if candidate.gap % s == 0]
    if len(ballot.facts):
        yield from places(
            chosen, fitting, ballot.facts, bases, starts, candidate.phase, candidate.start, bool(len(ballot.role_who))
        )
        return
    pairs = np.array([(s, start) for s in fitting for start in starts], np.int64).reshape(-1, 2)
    none = np.empty((len(pairs), 0))
    yield Places(pairs[:, 0], np.zeros(len(pairs), np.int64), pairs[:, 1], none.astype(bool), none.astype(np.int64))


def votes_of(
    chosen: Layout, strip: int, start: int, base: int, ballot: Ballot, position: Int64, hit: npt.NDArray[np.bool_]
) -> Floats:
    """(columns, positions) nats for each column at each position."""
    told = ballot.facts.votes(ballot.columns, chosen.members, position, hit)
    told -= ballot.facts.contrary(ballot.columns, chosen, strip, start, base)
    return relation_votes(chosen, strip, start, ballot) + told


def relation_votes(chosen: Layout, strip: int, start: int, ballot: Ballot) -> Floats:
    """(columns, positions) nats by the roles that relations spell, and against parity where a cell is empty."""
    votes = np.zeros((ballot.columns, chosen.members))
    if len(ballot.role_who):
        votes += role_votes(chosen, strip, start, ballot)
    if len(ballot.zero_who):
        votes -= empty_votes(chosen, strip, start, ballot)
    return votes


def role_votes(chosen: Layout, strip: int, start: int, ballot: Ballot) -> Floats:
    pattern = chosen.pattern()
    table = _role_table(chosen)
    inside = ballot.role_offset >= start
    phase = (ballot.role_offset[inside] - start) // strip % pattern.rows
    role = ballot.role[inside]
    code = np.where(role == P_ROLE, 0, np.where(role == Q_ROLE, 1, role + 2))
    who, weight = ballot.role_who[inside], ballot.role_weight[inside]
    known = code < table.shape[2]
    votes = np.zeros((ballot.columns, chosen.members))
    for span in range(table.shape[0]):
        position = np.full(len(code), -1, np.int64)
        position[known] = table[span, phase[known], code[known]]
        good = position >= 0
        cell = who[good] * chosen.members + position[good]
        told = np.bincount(cell, weights=ROLE_NATS * weight[good], minlength=votes.size)
        votes += told.reshape(votes.shape)
    return votes


@lru_cache(maxsize=512)
def _role_table(chosen: Layout) -> Int64:
    """(spans, rows, codes): the position that plays a role in a row; codes are P, Q, then exponents."""
    pattern = chosen.pattern()
    k = chosen.span_members
    table = np.full((chosen.spans, pattern.rows, chosen.members + 2), -1, np.int64)
    for row in range(pattern.rows):
        for span in range(chosen.spans):
            cells = pattern.index[row, span * k : span * k + k]
            data = sorted((int(v), m) for m, v in enumerate(cells) if v >= 0)
            places = [m for _v, m in data]
            for m, exponent in zip(places, chosen.exponents(places), strict=True):
                table[span, row, 2 + exponent] = span * k + m
            for code, mark in enumerate((P_CELL, Q_CELL)):
                if (cells == mark).any():
                    table[span, row, code] = span * k + int(np.argmax(cells == mark))
    return table


def empty_votes(chosen: Layout, strip: int, start: int, ballot: Ballot) -> Floats:
    """(columns, positions): cells that are empty in a row that is not, where the position would hold parity."""
    row, nats, columns, begins = ballot.empty_cells(strip, start)
    votes = np.zeros((ballot.columns, chosen.members))
    if len(row):
        parity = _parity_cells(chosen)
        votes[columns] = np.add.reduceat(nats[:, None] * parity[row % len(parity)], begins, axis=0)
    return votes


@lru_cache(maxsize=512)
def _parity_cells(chosen: Layout) -> Floats:
    """(rows, members): 1 where a cell holds parity, else 0."""
    index = chosen.pattern().index
    parity: Floats = ((index == P_CELL) | (index == Q_CELL)).astype(np.float64)
    return parity


def matched(votes: Floats) -> tuple[Int64, Int64]:
    """(rows, positions) int64: each row's position, so that what they are worth together is the most."""
    from scipy.optimize import linear_sum_assignment  # noqa: PLC0415 - half a second, for a search alone

    rows, positions = linear_sum_assignment(votes, maximize=True)
    return rows, positions


def assign(votes: Floats, candidate: Candidate) -> tuple[tuple[int | None, ...], float]:
    """The best assignment of columns to positions and its score; known groups stay together in one span."""
    n = votes.shape[1]
    votes = seated(votes, candidate)
    masked = (
        _masked(votes, candidate)
        if len(candidate.groups) > 1 or (candidate.groups and candidate.layouts[0].spans > 1)
        else votes
    )
    rows, positions = matched(masked)
    order: list[int | None] = [None] * n
    for column, position in zip(rows.tolist(), positions.tolist(), strict=True):
        order[position] = column
    return tuple(order), float(masked[rows, positions].sum())


def seated(votes: Floats, candidate: Candidate) -> Floats:
    """The votes with the seats that are given barred to others, and their columns barred elsewhere."""
    if not candidate.seats:
        return votes
    held = votes.copy()
    for position, column in enumerate(candidate.seats):
        if column == -1:
            continue
        worth = held[column, position] if column >= 0 else 0.0
        held[:, position] = FORBIDDEN
        if column >= 0:
            held[column, :] = FORBIDDEN
            held[column, position] = worth
    return held


def _masked(votes: Floats, candidate: Candidate) -> Floats:
    """The votes with every group kept to the span that suits it best, and the free columns to the others: a group is
    worth in a span what it gains there less what the free columns would."""
    k = candidate.layouts[0].span_members
    spans = candidate.layouts[0].spans
    gain = np.zeros((len(candidate.groups), spans))
    for g, columns in enumerate(candidate.groups):
        for s in range(spans):
            part = votes[np.ix_(columns, range(s * k, s * k + k))]
            gain[g, s] = part[matched(part)].sum()
    loose = sorted(set(range(votes.shape[0])) - {c for columns in candidate.groups for c in columns})
    for s in range(spans if loose else 0):
        part = votes[np.ix_(loose, range(s * k, s * k + k))]
        gain[:, s] -= part[matched(part)].sum()
    groups, where = matched(gain)
    masked = np.full_like(votes, FORBIDDEN)
    free = set(range(votes.shape[0]))
    for g, s in zip(groups.tolist(), where.tolist(), strict=True):
        cells = np.ix_(candidate.groups[g], range(s * k, s * k + k))
        masked[cells] = votes[cells]
        free -= set(candidate.groups[g])
    others = [s for s in range(spans) if s not in where.tolist()]
    for s in others:
        cells = np.ix_(sorted(free), range(s * k, s * k + k))
        masked[cells] = votes[cells]
    return masked


def second_best(votes: Floats, candidate: Candidate, order: Sequence[int | None]) -> float:
    """The score of the best assignment that differs from `order` somewhere."""
    others = [-np.inf]
    for position, column in enumerate(order):
        if column is None or votes.shape[1] < 2:
            continue
        barred = votes.copy()
        barred[column, position] = FORBIDDEN
        _made, score = assign(barred, candidate)
        if score > FORBIDDEN / 2:
            others.append(score)
    spans = candidate.layouts[0].spans
    k = len(order) // spans
    for a, b in combinations(range(spans), 2):  # whole spans exchanged: each still stands together
        other = list(order)
        other[a * k : a * k + k], other[b * k : b * k + k] = order[b * k : b * k + k], order[a * k : a * k + k]
        others.append(float(sum(votes[c, p] for p, c in enumerate(other) if c is not None)))
    return max(others)
