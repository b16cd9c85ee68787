"""Ballots: the evidence on the table as it concerns one candidate, and where a file system may start in its volume."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import permutations, product

import numpy as np

from ...arrays.geometry import Geometry
from ..evidence.field_algebra import roles
from ..evidence.membership import CHECKS
from ..structures.anchors import Anchors
from ..structures.partition_starts import COMMON_STARTS
from .as_volume import final_layout
from .assignment import Ballot, Hypothesis, make_ballot
from .candidate import Candidate
from .pile_table import LABEL_BYTES, USUAL_STARTS, Table, anything_before
from .search import Entry, Reader, Shared
from .standing_facts import held_facts

DECLARED_NATS, UNDECLARED_NATS, LEFT_OUT_NATS = 6.0, 8.0, 2.0
"""For a file system that starts where a partition table says; against one that starts in the middle of the volume with
no table; against each place with the array's data before its start."""

LEAST_AGREED = 0.3

NO_TABLE_NATS = 20.0
LATE_NATS = 6.0
STRANGER_NATS = 6.0
"""Against a start before which data stand, and for which only the file system's own place speaks, and against each
mirror set that is left out; and against each image of a striped array's kind that is left out."""

ROUND = 1 << 20

START_NATS = 3.0
"""For a start at 0: most arrays have it, and nothing else tells a start from a file system's place in the volume."""


def entry_of(table: Table, candidate: Candidate, ballot: Ballot) -> Entry:
    """A candidate ready for the search."""
    return Entry(reader_of(table, candidate), add_algebra(table, candidate, ballot), chain_hints(table, candidate))


def reader_of(table: Table, candidate: Candidate) -> Reader:
    """What reads the rows of a candidate."""
    computed = candidate.missing == 1 and candidate.level in ("RAID4", "RAID5")
    shared = table.shared.setdefault((candidate.columns, computed), Shared())
    return Reader(table.pile, table.stock, table.places, candidate, shared)


def chain_hints(table: Table, candidate: Candidate) -> list[list[int]]:
    """Orders that the pairs of a RAID 1E suggest: along the chain, and back."""
    column = {images[0]: c for c, images in enumerate(candidate.columns)}
    paths = [[column[i] for i in g.order] for g in table.groups if g.order and set(g.order) <= set(column)]
    if candidate.level != "RAID1E" or not paths:
        return []
    if candidate.strip:
        known = [*range(len(candidate.columns)), *[len(candidate.columns)] * candidate.missing]
        return [known[turn:] + known[:turn] for turn in range(len(known))]
    none = len(candidate.columns)
    pieces = paths + [[c] for c in range(none) if not any(c in p for p in paths)]
    pieces += [[none]] * candidate.missing
    if len(pieces) > 4:
        pieces = [[c for p in pieces for c in p]]
    found: list[list[int]] = []
    for order in permutations(pieces):
        for turned in product((1, -1), repeat=len(order)):
            found.append([c for piece, way in zip(order, turned, strict=True) for c in piece[::way]])
    return [list(f) for f in dict.fromkeys(map(tuple, found))]


def add_algebra(table: Table, candidate: Candidate, ballot: Ballot) -> Ballot:
    """The ballot with what the relations say of roles, and of empty cells."""
    groups = [g for g in table.groups if set(g.images) <= set(candidate.images)]
    column = {i: c for c, images in enumerate(candidate.columns) for i in images}
    role: list[tuple[int, int, int, float]] = []
    zero: list[tuple[int, int, int]] = []
    two = any(g.kind in ("two", "two less one") for g in groups)
    sets = [frozenset(g.images) for g in groups] if candidate.groups else [frozenset(candidate.images)]
    checks = {part: max((CHECKS.get(g.kind, 0) for g in groups if set(g.images) <= part), default=0) for part in sets}
    nested_unknown = candidate.layouts[0].spans > 1 and not candidate.groups
    parity = candidate.level not in ("RAID0", "RAID10", "RAID1E", "RAID1")
    for place in table.places if parity else ():
        for images in sets:
            inside = place.within(images)
            if two and candidate.level in ("RAID6", "RAID60"):
                for relation in inside if len(inside) == 1 and len(inside[0].images) > 2 else ():
                    answers = roles(relation, candidate.layouts[0].span_members)
                    for answer in answers if len(answers) <= 4 else ():
                        role += [(column[i], place.offset, r, 1 / len(answers)) for i, r in answer.items()]
            filled = place.filled & images
            closed = not candidate.groups or filled == set().union(*(r.images for r in inside))
            # with fewer equations than hold elsewhere somebody was not written, or not read: empty is no role there
            missed = sum(len(r.basis) for r in inside) < checks[images]
            if filled and closed and not missed and not nested_unknown:
                whole = len(inside) == 1 and inside[0].plain and set(inside[0].images) == filled
                odd = len(filled) if whole and len(filled) % 2 else 0
                zero += [(column[i], place.offset, odd) for i in images - filled if i in column]
    return replace(
        ballot,
        role_who=np.array([r[0] for r in role], np.int64), role_offset=np.array([r[1] for r in role], np.int64),
        role=np.array([r[2] for r in role], np.int64), role_weight=np.array([r[3] for r in role], np.float64),
        zero_who=np.array([z[0] for z in zero], np.int64), zero_offset=np.array([z[1] for z in zero], np.int64),
        zero_others=np.array([z[2] for z in zero], np.int64),
    )  # fmt: skip


def split(anchors: Anchors | None) -> tuple[Anchors | None, Anchors | None]:
    """Facts to search with, and, where there are plenty, facts kept out for the proof: a quarter of the 64 KiB.

    Chosen by what they say and by where they stand, never by which image comes first: what stands twice in a row, as
    data and as its parity, is either kept out twice or not at all.
    """
    if anchors is None:
        return None, None
    place, address = (part.astype(np.uint64) // np.uint64(64 << 10) for part in (anchors.offset, anchors.address))
    out = (place * np.uint64(0x9E3779B97F4A7C15) + address * np.uint64(0xC2B2AE3D27D4EB4F)) >> np.uint64(62) == 0
    if len(anchors) < 80 or out.all() or not out.any():
        return anchors, None
    return chosen(anchors, ~out), chosen(anchors, out)


def chosen(a: Anchors, rows: np.ndarray) -> Anchors:
    return Anchors(a.ground, a.image[rows], a.offset[rows], a.address[rows], a.count[rows])


def joint(
    candidate: Candidate, placed: Sequence[tuple[Anchors, int]], whole: bool = False
) -> tuple[Ballot, list[tuple[Anchors, int]]]:
    """One ballot over all grounds, addresses in the volume; and the facts that are kept out for the proof.

    whole  whether none are
    """
    parts, kept = [], []
    for anchors, base in placed:
        used, out = (anchors, None) if whole else split(anchors)
        assert used is not None
        ballot = make_ballot(candidate, used)
        parts.append(replace(ballot, address=ballot.address + base, quiet=ballot.quiet + base))
        if out is not None:
            kept.append((out, base))
    if not parts:
        return make_ballot(candidate, None), kept
    every = parts[0]
    if len(parts) > 1:
        every = replace(
            every,
            who=np.concatenate([p.who for p in parts]),
            offset=np.concatenate([p.offset for p in parts]),
            address=np.concatenate([p.address for p in parts]),
            count=np.concatenate([p.count for p in parts]),
            quiet=np.concatenate([p.quiet for p in parts]),
        )
    return every, kept


def bases_into_rows(anchors: Anchors | None, starts: Sequence[int], widest: int) -> list[int]:
    """Where a ground may start within a row, in strips as `hypotheses` takes them, when the volume's head is gone and
    with it whatever table there was: rows before it then only move the start."""
    if anchors is None or anchors.ground.table or anchors.ground.guessed or starts:
        return []
    return [-strips for strips in range(1, widest)]


def bases_of(anchors: Anchors | None, starts: Sequence[int]) -> list[int]:
    """Where a ground may start in the volume."""
    if anchors is None or anchors.ground.table:
        return [0]
    if starts:
        return sorted({0, *starts})
    return [0] if anchors.ground.head else list(COMMON_STARTS)


def base_under(h: Hypothesis, anchors: Anchors, starts: Sequence[int]) -> int | None:
    """Where a ground starts in the volume of a hypothesis: the place at which most of its facts hold."""
    if anchors.ground.table:
        return 0
    options = sorted({h.base, 0, *starts, *COMMON_STARTS})
    scored = [(held_facts(h, anchors, base)[0], -i, base) for i, base in enumerate(options)]
    count, _i, base = max(scored)
    return base if count else None


def base_of_order(h: Hypothesis, anchors: Anchors) -> int | None:
    """Where a ground starts in the volume of a hypothesis whose order something else has told: the place that most of
    its facts agree on."""
    chosen, members = final_layout(h)
    made = Geometry(chosen, h.strip, (h.start,) * len(members), (1 << 60,) * len(members))
    differences = [
        made.to_volume(p, anchors.offset[anchors.image == i]) - anchors.address[anchors.image == i]
        for p, i in enumerate(members) if i is not None
    ]  # fmt: skip
    shifts = np.concatenate(differences)
    shifts = shifts[(shifts >= 0) & (shifts % 512 == 0)]
    if not len(shifts):
        return None
    values, counts = np.unique(shifts, return_counts=True)
    top = int(counts.argmax())
    return int(values[top]) if counts[top] >= max(3, LEAST_AGREED * len(anchors)) else None


def row_shifts(h: Hypothesis, base: int) -> list[tuple[int, int]]:
    """(start, base) some rows further on or back at which the ground would start at a round place of the volume: the
    same members read alike from there, in another order."""
    pattern = h.layout.pattern()
    found = []
    for rows in range(-2 * pattern.rows, 2 * pattern.rows + 1):
        start = h.start + rows * h.strip
        strips, odd = divmod(rows * pattern.strips, pattern.rows)
        there = base - strips * h.strip
        if rows and start >= 0 and there >= 0 and not odd and is_round(there):
            found.append((start, there))
    return found[:6]


def is_round(base: int) -> bool:
    """Whether partitions usually start there."""
    return base % ROUND == 0 or base in COMMON_STARTS


def moved_bases(h: Hypothesis, start: int) -> list[int]:
    """Where the ground may start in the volume if data began at `start` on the same members: in the same order, and at
    round places less than a row away, to which another order leads."""
    rows, rest = divmod(h.start - start, h.strip)
    pattern = h.layout.pattern()
    strips, odd = divmod(rows * pattern.strips, pattern.rows)
    if rest or rows <= 0:
        return []
    there, row = h.base + strips * h.strip, pattern.strips * h.strip // pattern.rows
    first = -(-max(0, there - row) // ROUND) * ROUND
    near = [b for b in range(first, there + row, ROUND) if (b - there) % h.strip == 0]
    return ([] if odd else [there]) + near[:4]


def moved_starts(h: Hypothesis, bases: Sequence[int]) -> list[int]:
    """Where data would begin if the ground, whose head stays where it is on its member, started at another place of the
    volume: so many rows earlier."""
    pattern = h.layout.pattern()
    row = pattern.strips * h.strip // pattern.rows
    head = h.start + max(0, h.base) // row * h.strip + max(0, h.base) % h.strip
    return [start for b in bases if (start := head - b // row * h.strip - b % h.strip) >= 0]


def with_prior(
    table: Table, h: Hypothesis, grounds: Sequence[Anchors], starts: Sequence[int], usual: Sequence[int]
) -> Hypothesis:
    """With what speaks for its start: a partition table that says so, the usual places, no data of the array before."""
    part = {i for c in h.order if c is not None for i in h.candidate.columns[c]}
    nats = 2 * START_NATS if h.start == usual[0] else START_NATS / 3 if h.start == 0 else 0.0
    if not anything_before(table, part, ROUND):
        # data may start where they are first seen, or the members' heads are wiped: what stands in its place tells
        nats = 0.0 if grounds and not h.facts else nats / 2
    whole = set(h.candidate.images)
    if h.start not in (*usual, *USUAL_STARTS) and _filled_before(table, h.start, part):
        nats -= LATE_NATS
    nats -= STRANGER_NATS * max(0, len(h.candidate.columns) - h.layout.members) * (h.candidate.level == "RAID0")
    nats -= LATE_NATS * sum(g.kind == "copies" and set(g.images) <= whole - part for g in table.groups)
    if h.base:
        undeclared = UNDECLARED_NATS
        pattern = h.layout.pattern()
        front = h.start + max(0, h.base) // (h.strip * pattern.strips) * h.strip * pattern.rows
        if h.start >= ROUND or anything_before(table, part, max(front, h.start + h.strip), h.start):
            undeclared = NO_TABLE_NATS  # the volume's head was not wiped, and holds no partition table
        elif is_round(h.base):
            undeclared *= 0.5 if h.start < h.strip or h.start in (*usual, *USUAL_STARTS) else 0.75
        nats += DECLARED_NATS if h.base in starts else -undeclared
    elif grounds and starts and any(not g.ground.table for g in grounds):
        nats -= 2 * DECLARED_NATS  # a table is there, and none of its partitions begins with the volume
    for ground in grounds:
        if ground.ground.table:
            nats += 2 * DECLARED_NATS * min(2, held_facts(h, ground, 0)[0])
    nats -= LEFT_OUT_NATS * min(8, before(table, h))
    return replace(h, score=h.score + nats, runner_up=h.runner_up + nats)  # another order begins where this one does


def _filled_before(table: Table, start: int, images: set[int]) -> bool:
    """Whether some of the images hold more than a label before an offset."""
    return any(LABEL_BYTES <= p.offset < start and p.filled & images for p in table.places)


def before(table: Table, h: Hypothesis) -> int:
    """Places before the start at which the images of a hypothesis are related as they are after it, or, striped ones,
    hold something."""
    images = {i for c in h.order if c is not None for i in h.candidate.columns[c]}
    count = 0
    striped = h.candidate.level == "RAID0"
    for place in table.places:
        if place.offset >= h.start:
            break
        if striped:
            count += place.offset >= LABEL_BYTES and len(place.filled & images) >= 2
        else:
            count += any(len(r.images) >= 2 and set(r.images) <= images for r in place.relations)
    return count
