"""Where the volume begins: a claim of its own, whatever the order.

A file system whose head stands on a row boundary fits a volume that begins there, with the members turned to fit, as
well as one that begins rows earlier with something in front of it. Rows in front that hold data and close are rows of
the volume; only what states where the volume begins pins it: a partition table, a label or header on the first bytes
that a member has, or a first row before which there is no room for another.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ...arrays.engine import SECTOR
from ...arrays.geometry import Geometry
from ...ranges import clip
from ..document.four_verdicts import Reason, Sure, Verdict
from ..evidence.sampled_places import Place, places_of, survey_at
from ..hypotheses.assignment import Hypothesis
from ..hypotheses.equivalence import same_answer
from ..hypotheses.pile_table import LABEL_BYTES, USUAL_STARTS, Table, anything_before
from ..hypotheses.standing_facts import held_facts
from ..reading.samples import BLOCK
from ..structures.anchors import Anchors
from ..structures.partition_starts import COMMON_STARTS
from .missing_slot import PARITY_LEVELS

MOST_LOOKED, BEFORE_BYTES = 384, 256 << 20
"""Places in front of a start that are looked at, and how far in front of it on each member."""

LEAST_CLOSED = 2

FRONT_BYTES = 8 << 20
"""A table that stands so near the front of what seems to be the volume is not a copy inside a file."""

Placed = Sequence[tuple[Anchors, int]]


@dataclass(frozen=True)
class Begin:
    """Where the volume begins.

    h        the hypothesis, its start moved where the data say so
    shift    by how many bytes of the volume it begins earlier now
    verdict  of the start; settled: whether another start would leave the order as it is
    """

    h: Hypothesis
    shift: int
    verdict: Verdict
    settled: bool


def begin_of(table: Table, h: Hypothesis, placed: Placed) -> Begin:
    """Judge where the volume of a hypothesis begins, and move that to the front of the data which belong to it."""
    if h.candidate.level == "SPAN":
        raise ValueError("a span has no rows")
    before = places_before(table, h)
    speaks = _redundant(h)
    closed = [p for p in before if _closes(h, p)] if speaks else [p for p in before if _filled(h, p)]
    closed = [p for p in closed if speaks or p.offset >= LABEL_BYTES]
    stated = _by_second_table(table, h)
    if stated is not None and stated.shift and not any(p.offset < stated.h.start for p in closed):
        return replace(stated, settled=not _others(stated.h, further_on(placed, stated)))
    shift = 0
    if len(closed) >= LEAST_CLOSED or any(len(_filled(h, p)) > 2 for p in closed if speaks):
        first = min(p.offset for p in closed)
        moved = _earliest(h, first)
        if moved is None:
            return Begin(h, 0, Verdict(Sure.UNDECIDED, Reason.DATA_BEFORE, count=h.start - first), False)
        h, shift = moved
        placed = [(a, base + shift) for a, base in placed]
    pinned = _pinned(table, h, placed, closed)
    if pinned is None and not shift and _headed(h, placed) and (moved := _as_partitioned(h)):
        h, shift = moved
        placed = [(a, base + shift) for a, base in placed]
    if pinned is not None and pinned.sure is Sure.CERTAIN:
        return Begin(h, shift, pinned, True)
    if pinned is None and not shift and stated is not None and not stated.shift:
        pinned = stated.verdict
    unstated = Sure.UNDECIDED if _may_be_wiped(table, h, placed) else Sure.PROBABLE
    return Begin(h, shift, pinned or Verdict(unstated, Reason.NOTHING_SAYS), not _others(h, placed))


def further_on(placed: Placed, begin: Begin) -> list[tuple[Anchors, int]]:
    """The grounds in a volume that begins earlier than it was taken to: so much further on, but for a table that stands
    where it says from there."""
    return [
        (a, base if a.ground.table and held_facts(begin.h, a, base)[0] else base + begin.shift) for a, base in placed
    ]


def _by_second_table(table: Table, h: Hypothesis) -> Begin | None:
    """Where the volume begins by the second head of a partition table whose first one is gone: it states its own place
    in the volume. One in a file would have the volume begin later, not earlier. It is no more than probable: nothing
    else is left of that table."""
    pattern = h.layout.pattern()
    row = pattern.strips * h.strip // pattern.rows
    made, column = _as_seated(h)
    for anchors in table.anchors:
        if not anchors.ground.table or anchors.ground.head:
            continue
        for image, offset, address in zip(anchors.image, anchors.offset, anchors.address, strict=True):
            at = int(made.to_volume(column[int(image)], offset)) if int(image) in column else -1
            rows, rest = divmod(int(address) - at, row)
            moved = ((h, 0) if not rows else shifted(h, rows)) if at >= 0 and rows >= 0 and not rest else None
            if moved is not None and held_facts(moved[0], anchors, 0)[0]:
                return Begin(moved[0], moved[1], Verdict(Sure.PROBABLE, Reason.SECOND_TABLE), False)
    return None


def _as_partitioned(h: Hypothesis) -> tuple[Hypothesis, int] | None:
    """Where data would start at a place of no custom, and what stands there at one where partitions begin, were it a
    usual one: the same hypothesis from there on. A table that is gone says nothing any more; custom does."""
    if h.start in (0, *USUAL_STARTS):
        return None
    for start in sorted({0, *USUAL_STARTS}):
        rows, rest = divmod(h.start - start, h.strip)
        moved = shifted(h, rows) if rows > 0 and not rest else None
        if moved is not None and moved[1] in COMMON_STARTS:
            return moved
    return None


def _may_be_wiped(table: Table, h: Hypothesis, placed: Placed) -> bool:
    """Whether the volume may as well begin in another row, with zeros over what stood there. It may where nothing
    states that it begins here, unless its first row is filled, as a row is where redundancy can tell, and it is the
    first there is room for, or of custom and a label in front of it was not wiped; and where a file system's head does,
    but a start of custom is rows away, over nothing on any member: rather than a place of no custom, or than one from
    which the head stands where a partition would. A label far in front of it says nothing of what stood between. A file
    system where a partition begins by custom is head enough for a start of custom."""
    usual, images = h.start in USUAL_STARTS, set(_seated(h))
    headed, ahead = _headed(h, placed), anything_before(table, images, h.start)
    if not headed and not (usual and _headed(h, placed, COMMON_STARTS)):
        if not (h.start < h.strip or (ahead and usual)):
            return True
        if _redundant(h) and h.candidate.level != "RAID1E":  # whose copies may stand in the next row
            return not _first_row_closes(table, h)
        return not anything_before(table, images, h.start + h.strip, h.start)
    if (ahead and h.start <= max(USUAL_STARTS)) or not headed or h.start < h.strip:
        return False
    rowed = replace(h, strip=SECTOR) if h.candidate.level == "RAID1" else h  # its rows are any sectors
    rows = [divmod(h.start - start, rowed.strip) for start in USUAL_STARTS if start < h.start]
    moved = [shifted(rowed, count) for count, rest in rows if not rest]
    return any(m is not None and (not usual or m[1] in COMMON_STARTS) for m in moved)


def _headed(h: Hypothesis, placed: Placed, bases: Sequence[int] = (0,)) -> bool:
    """Whether something that states its address begins with the volume, or at one of some other places in it."""
    return any(not a.ground.guessed and base in bases and held_facts(h, a, base)[0] for a, base in placed)


def places_before(table: Table, h: Hypothesis) -> list[Place]:
    """What stands in front of a start on the members: relations at places that hold data, spread over them."""
    images = sorted(_seated(h))
    low = max(0, h.start - BEFORE_BYTES)
    blocks: set[int] = set()
    for image in images:
        for a, b in clip(table.pile.data(image), low, h.start // BLOCK * BLOCK):
            step = max(BLOCK, (b - a) // MOST_LOOKED // BLOCK * BLOCK)
            blocks |= set(range(a // BLOCK * BLOCK, b, step))
    offsets = np.array(sorted(o for o in blocks if o + BLOCK <= h.start), np.int64)
    if len(offsets) > MOST_LOOKED:
        offsets = offsets[np.unique(np.linspace(0, len(offsets) - 1, MOST_LOOKED).astype(np.int64))]
    phase = h.start % BLOCK
    offsets = offsets + phase if phase else offsets
    offsets = offsets[offsets + BLOCK <= h.start]
    return places_of(survey_at(table.pile, offsets), table.outdated) if len(offsets) else []


def _as_seated(h: Hypothesis) -> tuple[Geometry, dict[int, int]]:
    """The geometry of members without an end, and the position of each image that has a seat."""
    count = h.layout.members
    made = Geometry(h.layout, h.strip, (h.start,) * count, (1 << 60,) * count)
    return made, {i: p for p, c in enumerate(h.order) if c is not None for i in h.candidate.columns[c]}


def _filled(h: Hypothesis, place: Place) -> frozenset[int]:
    return place.filled & _seated(h)


def _seated(h: Hypothesis) -> frozenset[int]:
    """The images that have a seat: a candidate may hold others, which say nothing of this volume."""
    return frozenset(i for c in h.order if c is not None for i in h.candidate.columns[c])


def _closes(h: Hypothesis, place: Place) -> bool:
    """Whether the members add up at a place as they do in the array: those that hold something are related."""
    images = _seated(h)
    filled = place.filled & images
    alike = any(len(images & same) > 2 for same in place.alike)
    if alike and h.candidate.level in PARITY_LEVELS:
        return False  # the same on many: what a controller writes on each
    covered = {i for r in place.relations if set(r.images) <= images for i in r.images}
    return len(filled) >= 2 and filled == covered


def _redundant(h: Hypothesis) -> bool:
    """Whether relations would show that a row belongs to the array."""
    if h.candidate.level in PARITY_LEVELS:
        k, most = h.layout.span_members, 2 if h.layout.q_place else 1
        gone = [sum(c is None for c in h.order[i : i + k]) for i in range(0, len(h.order), k)]
        return all(count < most for count in gone)
    if h.candidate.level in ("RAID10", "RAID1"):
        return any(len(images) > 1 for images in h.candidate.columns) or h.candidate.level == "RAID1"
    return h.candidate.level == "RAID1E" and not h.candidate.missing


def shifted(h: Hypothesis, rows: int) -> tuple[Hypothesis, int] | None:
    """The hypothesis that puts the same bytes after one another, with the volume's first row so many rows earlier, and
    how many bytes of the volume that is; None where no order of the members does."""
    pattern = h.layout.pattern()
    period, strips = pattern.rows, pattern.strips
    ahead, odd = divmod(rows * strips, period)
    start = h.start - rows * h.strip
    if odd or start < 0:
        return None

    def told(first: int, less: int) -> list[tuple[int, ...]]:
        row = first + np.arange(period)
        index = pattern.index[row % period]
        number = np.where(index >= 0, (row // period * strips)[:, None] + index - less, index - (1 << 40))
        return [tuple(column) for column in number.T.tolist()]

    seats: dict[tuple[int, ...], list[int]] = {}
    for p, signature in enumerate(told(0, 0)):
        seats.setdefault(signature, []).append(p)  # those of a mirror are alike: each is given once
    turned = [there.pop(0) if (there := seats.get(signature)) else None for signature in told(rows, ahead)]
    if None in turned or (h.layout.counts_positions and turned != sorted(p or 0 for p in turned)):
        return None
    order = tuple(h.order[p] for p in turned if p is not None)
    return replace(h, start=start, order=order), ahead * h.strip


def begins_elsewhere(h: Hypothesis, other: Hypothesis) -> bool:
    """Whether another hypothesis puts the same bytes after one another, and has the volume begin in another row."""
    rows, rest = divmod(h.start - other.start, h.strip)
    moved = shifted(h, rows) if rows and not rest and h.strip == other.strip else None
    return moved is not None and same_answer(moved[0], other)


def _earliest(h: Hypothesis, first: int) -> tuple[Hypothesis, int] | None:
    """The hypothesis with the earliest start there is room for, at least as early as some place."""
    most = h.start // h.strip
    least = max(1, -(-(h.start - first) // h.strip))
    period = h.layout.pattern().rows
    for rows in [*range(most, max(least, most - period) - 1, -1), *range(least, min(most, least + period) + 1)]:
        moved = shifted(h, rows)
        if moved is not None:
            return moved
    return None


def _others(h: Hypothesis, placed: Placed) -> bool:
    """Whether the volume may as well begin in another row with the members in another order."""
    row = h.layout.pattern().strips * h.strip // h.layout.pattern().rows
    tried = [(h.start - s) // h.strip for s in (h.start % h.strip, *USUAL_STARTS) if (h.start - s) % h.strip == 0]
    tried += [-(base // row) for _a, base in placed if base % row == 0]
    found = [shifted(h, rows) for rows in tried if rows]
    return any(other is not None and other[0].order != h.order for other in found)


def _pinned(table: Table, h: Hypothesis, placed: Placed, closed: Sequence[Place]) -> Verdict | None:
    """What pins the start; None where nothing does."""
    no_room = h.start < h.strip
    if _elsewhere(table, h, placed):
        return Verdict(Sure.UNDECIDED, Reason.TABLE_ELSEWHERE)
    inside = [p for p in closed if p.offset < h.start]
    for anchors, base in placed:
        ground = anchors.ground
        if ground.guessed or base or not held_facts(h, anchors, base)[0]:
            continue
        if not ground.head and not (ground.table and no_room):
            continue
        if ground.table and ground.words != "LVM physical volume":
            if not inside:
                return Verdict(Sure.CERTAIN, Reason.TABLE)
        elif no_room:
            return Verdict(Sure.CERTAIN, Reason.LABEL if ground.table or ground.facts == "encrypted" else Reason.HEAD)
    if no_room and not inside and _first_row_closes(table, h):
        return Verdict(Sure.CERTAIN, Reason.FIRST_ROW)
    if inside:
        return Verdict(Sure.UNDECIDED, Reason.DATA_BEFORE, count=h.start - min(p.offset for p in inside))
    return None


def _elsewhere(table: Table, h: Hypothesis, placed: Placed) -> bool:
    """Whether a partition table is on the members that does not stand where the volume would begin, nor anywhere in a
    file system that does."""
    images = _seated(h)
    tables = [a for a in table.anchors if a.ground.table and a.ground.head and set(a.image.tolist()) & images]
    if not tables or any(held_facts(h, a, 0)[0] for a in tables):
        return False
    inside = max((base + a.ground.size for a, base in placed if not a.ground.table), default=0)
    made, column = _as_seated(h)
    for anchors in tables:
        for image, offset in zip(anchors.image.tolist(), anchors.offset.tolist(), strict=True):
            at = int(made.to_volume(column[image], offset)) if image in column else -1
            if offset < h.start or (0 <= at < min(FRONT_BYTES, inside or FRONT_BYTES)):
                return True
    return False


def _first_row_closes(table: Table, h: Hypothesis) -> bool:
    """Whether the first row that a member has room for holds data of the array."""
    if not _redundant(h):
        return False
    offsets = np.arange(h.start, h.start + h.strip - BLOCK + 1, BLOCK, dtype=np.int64)[:16]
    found = places_of(survey_at(table.pile, offsets), table.outdated)
    return sum(_closes(h, p) and len(_filled(h, p)) > 1 for p in found) >= 1
