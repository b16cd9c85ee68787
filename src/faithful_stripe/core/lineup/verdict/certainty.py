"""Certainty: what an answer must show beside its lead and its proof before it is called certain."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from ...arrays.geometry import Geometry
from ...arrays.layout import Q_CELL
from ..evidence.membership import LEAST_CLOSING
from ..evidence.sampled_places import Place
from ..hypotheses.assignment import Hypothesis
from ..hypotheses.candidate import later_turns
from ..hypotheses.pile_table import Table
from ..hypotheses.placement import KEY
from ..hypotheses.seam_tables import round_nats
from ..hypotheses.standing_facts import fits, held_facts, says_nothing
from ..hypotheses.votes import chosen, reader_of
from ..structures.anchors import Anchors
from .beside_members import held_by, mates_of, named_outside, others_filled
from .missing_slot import PARITY_LEVELS, Judged
from .volume_reading import MARGIN_NATS, read_volume

LEAST_TOLD, FITTING = 8, 0.6
LEAST_OWN, OWN_FITTING, GUESSED_FITTING = 3, 0.5, 0.8
"""Of so many addresses that something states, this share must hold what says so for an answer to be certain; and of
those that are stated on one member. Of what was guessed to count up: nothing else does, not even by halves, but the sum
of an odd number of pages."""


def fits_most(h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> bool:
    """Whether most of what states an address stands there; a file system that is whole on one image of a striped array
    stands right in its first strip only, which proves nothing."""
    real = [(a, base) for a, base in placed if not a.ground.guessed]
    count = h.layout.members
    made = Geometry(h.layout, h.strip, (h.start,) * count, (1 << 60,) * count)

    def told(position: int | None) -> tuple[int, int]:
        column = None if position is None else h.order[position]
        parts = [a for a, _base in real]
        if position is not None and column is not None:  # where it holds parity, a copy of something may stand
            images = h.candidate.columns[column]
            parts = [chosen(a, np.isin(a.image, images) & (made.to_volume(position, a.offset) >= 0)) for a in parts]
        counts = [held_facts(h, part, base, a) for part, (a, base) in zip(parts, real, strict=True)]
        lone = 0 if position is None else sum(_no_copies(h, a, position) for a, _base in real)
        return sum(c[0] for c in counts), sum(c[1] for c in counts) + lone

    held, stated = told(None)
    own = [told(position) for position, c in enumerate(h.order) if c is not None]
    whole = stated < LEAST_TOLD or held >= FITTING * stated
    return whole and all(s < LEAST_OWN or right >= OWN_FITTING * s for right, s in own) and _counts_up(h, placed, made)


def _no_copies(h: Hypothesis, anchors: Anchors, position: int) -> int:
    """How many places where a member holds Q hold what states an address, and no other member holds the same there. Q
    is a copy of what stands alone in its row and counts once, and that stands on a data member; P may be the sum of an
    odd number of structures, which looks like one."""
    column, pattern = h.order[position], h.layout.pattern()
    if h.candidate.missing or column is None or not h.layout.q_place:
        return 0
    mine = np.isin(anchors.image, h.candidate.columns[column])
    others = set(zip(anchors.offset[~mine].tolist(), anchors.address[~mine].tolist(), strict=True))
    row = (anchors.offset - h.start) // h.strip % pattern.rows
    here = mine & (anchors.offset >= h.start) & (pattern.index[row, position] == Q_CELL)
    told = zip(anchors.offset[here].tolist(), anchors.address[here].tolist(), strict=True)
    return len({offset for offset, address in told if (offset, address) not in others})


def mirrored_within(h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> int:
    """How many structures of known file systems stand at one place of two members of a stripe without redundancy: one
    of the two is the other's mate, or parity of rows that hold little else."""
    if h.candidate.level != "RAID0":
        return 0
    column = {i: c for c in h.order if c is not None for i in h.candidate.columns[c]}
    count = 0
    for anchors, _base in placed:
        who = np.array([column.get(i, -1) for i in anchors.image.tolist()], np.int64)
        inside = (who >= 0) & (anchors.offset >= h.start) & (not anchors.ground.guessed)
        told = np.unique(np.stack([anchors.offset, anchors.address, who])[:, inside], axis=1)
        pairs, held = np.unique(told[:2], axis=1, return_counts=True)
        count += len(np.unique(pairs[0, held > 1]))
    return count


MOST_MIRRORED = 1
"""Of such places, those that an earlier use of the drives may have left."""


def _counts_up(h: Hypothesis, placed: Sequence[tuple[Anchors, int]], made: Geometry) -> bool:
    """Whether on every member nearly all that counts up does so where the member holds data."""
    for anchors, base in placed:
        for position, column in enumerate(h.order if anchors.ground.guessed else ()):
            if column is not None:
                here = np.isin(anchors.image, h.candidate.columns[column]) & (
                    made.to_volume(position, anchors.offset) >= 0
                )
                offset, address = anchors.offset[here], anchors.address[here] + base
                who = np.full(len(offset), column, np.int64)
                right = len(np.unique(offset[fits(h, who, offset, address)]))
                stated = len(np.unique(offset))
                if stated >= LEAST_OWN and right < GUESSED_FITTING * stated:
                    return False
    return True


def only_guessed(h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> bool:
    """Whether nothing but what was guessed to count up tells an order whose parity cannot be tested, for a member is
    missing: sums of what counts up may count up, too, and who holds which is then told by nothing else."""
    untested = h.candidate.missing > 0 and h.candidate.level in PARITY_LEVELS and not h.layout.q_place
    return untested and all(anchors.ground.guessed for anchors, _base in placed)


def anchored(h: Hypothesis, column: int, placed: Sequence[tuple[Anchors, int]]) -> int:
    """How many structures of the placed grounds stand where they should on a column, and on no other at the same
    offset: of two that are alike one is the parity of a nearly empty row, and either could be."""
    count = 0
    for anchors, base in placed:
        mine = np.isin(anchors.image, h.candidate.columns[column])
        who = np.full(int(mine.sum()), column, np.int64)
        offset, address = anchors.offset[mine], anchors.address[mine]
        right = fits(h, who, offset, address + base)
        same = np.isin(anchors.offset, offset[right]) & ~mine
        others = set(zip(anchors.offset[same].tolist(), anchors.address[same].tolist(), strict=True))
        count += sum(pair not in others for pair in zip(offset[right].tolist(), address[right].tolist(), strict=True))
    return count


def displaced(h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> int:
    """How many superblocks stand among the data of members where they do not belong, though they name their file system
    and their place: what stood there belongs to another time, or to another shape of the array."""
    column = {i: c for c in h.order if c is not None for i in h.candidate.columns[c]}
    count = 0
    for anchors, base in placed:
        parts = [part for part in anchors.ground.found if part[0] == SUPERBLOCK]
        if not parts:
            continue
        image, offset, address = (np.concatenate([part[i] for part in parts]) for i in (1, 2, 3))
        inside = np.isin(image, list(column)) & (offset >= h.start)
        some = Anchors(anchors.ground, image[inside], offset[inside], address[inside], np.ones(inside.sum(), np.int64))
        telling = chosen(some, ~says_nothing(h, some, base))
        who = np.array([column[i] for i in telling.image.tolist()], np.int64)
        place = who * KEY + telling.offset
        right = fits(h, who, telling.offset, telling.address + base) if len(who) else np.zeros(0, bool)
        count += len(np.setdiff1d(place, place[right]))  # one may belong at either of two addresses
    return count


SUPERBLOCK = "superblock"

LEAST_STATED, MOST_ELSEWHERE, STATED_NATS = 24, 0.02, 60.0
"""Structures that state their address and stand right, the share of them that may stand elsewhere, and the lead over
every other order: where too few were found to keep some out of the search, so many that could each have spoken against
it are a proof as well. Of 24 such answers over random piles (seeds 711 to 761) all were right, none with a structure
elsewhere, and with leads in which what is contrary did not count yet. The share is chosen: one of a hundred may be
parity of a head, which looks like that of another file system."""


@dataclass(frozen=True)
class Standing:
    """How many structures that state an address stand where they say (right), and how many do not (contrary); of known
    file systems alone, how many do (known), and how many stand elsewhere."""

    right: int
    contrary: int
    known: int
    elsewhere: int

    @property
    def nearly_all(self) -> int:
        """How many of known file systems do; 0 where too many stand elsewhere."""
        return self.known if self.elsewhere <= MOST_ELSEWHERE * self.known else 0

    @property
    def share_elsewhere(self) -> float:
        """The share of all that stand elsewhere than they say, 0 to 1."""
        return self.contrary / max(1, self.right + self.contrary)


def standing_of(h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> Standing:
    """Which structures of all grounds stand where they say under a hypothesis."""
    told = [(held_facts(h, anchors, base), anchors.ground.guessed) for anchors, base in placed]
    known = [counts for counts, guessed in told if not guessed]
    right, held = sum(counts[0] for counts, _guessed in told), sum(right for right, _tested in known)
    tested, known_tested = sum(counts[1] for counts, _guessed in told), sum(tested for _right, tested in known)
    return Standing(right, tested - right, held, known_tested - held)


def untold(table: Table, h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> list[list[int]]:
    """Columns of which nothing says that they stand where they should: no structure, and no relation that tells roles.
    One that is left over may be the last member, or its data may start elsewhere: each by itself. So may a mirror set:
    that its mates are equal does not say where they belong. Of images that add up to zero, the last one has no other
    place, but of several any may stand in another's: they are one list."""
    related = {i: g for g in table.groups for i in g.images}
    found = list[list[int]]()
    summed: dict[tuple[int, ...], list[int]] = {}
    for c in h.order:
        if c is None or anchored(h, c, placed):
            continue
        groups = {related[i].images: related[i].kind for i in h.candidate.columns[c] if i in related}
        if set(groups.values()) <= {"copies"}:
            found.append([c])
        elif set(groups.values()) == {"sum"}:
            summed.setdefault(next(iter(groups)), []).append(c)
    return found + [columns for columns in summed.values() if len(columns) > 1]


def unsure(table: Table, judged: Judged, placed: Sequence[tuple[Anchors, int]]) -> list[int]:
    """Columns that may stand elsewhere: neither structures nor relations tell their places, nor does the volume. Where
    two of one relation are exchanged, what is read in it, checksums over many strips, must refuse that."""
    found = list[int]()
    for columns in untold(table, judged.h, placed):
        pairs = list(combinations(columns, 2))
        if not judged.findings.holds or not 0 < len(pairs) <= MOST_EXCHANGES:
            found += columns
            continue
        own = read_volume(judged.h, table.pile, placed, [], table.carved).nats
        near = [pair for pair in pairs if own - _read_with(table, judged.h, pair, placed) <= MARGIN_NATS]
        found += [c for c in columns if any(c in pair for pair in near)]
    return found


def _read_with(
    table: Table, h: Hypothesis, pair: tuple[int, int], placed: Sequence[tuple[Anchors, int]]
) -> float:  # fmt: skip
    """What is read in the volume with two columns exchanged, in nats."""
    other = dict(zip(pair, pair[::-1], strict=True))
    order = tuple(c if c is None else other.get(c, c) for c in h.order)
    return read_volume(replace(h, order=order), table.pile, placed, [], table.carved).nats


MOST_EXCHANGES = 15
"""Exchanges under which the volume is read: all of six members. Of more members, structures tell."""


CLOSED = ("sum", "two", "ring")
"""Relations of images that no other image could take part in."""


def counted(table: Table, h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> bool:
    """Whether something tells how many members there are: a relation that is closed, where nobody lies beside its
    members who may be of another span; or structures in two units of rows or more, of which the second is where it is
    for that number alone (what stands in the first is there for any); or data that go on from row to row."""
    if h.candidate.level in ("RAID1", "SPAN"):
        return True
    # of those with a seat: a candidate may hold some that have none
    used = {i for c in h.order if c is not None for i in h.candidate.columns[c]}
    closed = any(g.kind in CLOSED and set(g.images) >= used for g in table.groups)
    if not h.candidate.missing and closed and not others_filled(table, used):
        # before parity has come round to each, one of those that lie beside may be a member, too, and hold nothing
        beside = set(range(len(table.pile))) - used - set(table.outdated)
        if not beside or rows_told(table, h) >= h.layout.members:
            return True
    related = {i for g in table.groups for i in g.images}
    pattern = h.layout.pattern()
    unit = pattern.strips * pattern.unit_rows // pattern.rows * h.strip
    column = {i: c for c in h.order if c is not None for i in h.candidate.columns[c]}
    seen: dict[tuple[int, int], set[int]] = {}
    for anchors, base in placed:
        mine = np.isin(anchors.image, list(column))
        who = np.array([column[i] for i in anchors.image[mine].tolist()], np.int64)
        address = anchors.address[mine] + base
        right = fits(h, who, anchors.offset[mine], address) if len(who) else np.zeros(0, bool)
        for c, number, image in zip(
            who[right].tolist(), (address[right] // unit).tolist(), anchors.image[mine][right].tolist(), strict=True
        ):
            seen.setdefault((c, number), set()).add(image)
    # on one mate alone it may as well be the second copy of something in another row, as a RAID 1E has it
    told = len({number for (c, number), images in seen.items() if images >= set(h.candidate.columns[c])}) > 1
    outside = set[int]() if used <= related else named_outside(table, used, placed)  # of those related, all are known
    if outside and (not told or mates_of(used, outside, placed)):
        return False
    return told or goes_round(table, h)


def goes_round(table: Table, h: Hypothesis) -> bool:
    """Whether the data go on from the end of each row at the beginning of the next one: nobody stands between."""
    made = reader_of(table, h.candidate).tables(h.strip, h.start)
    return made is not None and round_nats(h.layout, made, h.order) >= MARGIN_NATS


def shape_open(table: Table, h: Hypothesis, doubt: bool) -> bool:
    """Whether the data reach too few rows to tell a layout from another one of more members: the first strips of any
    array are copies of one another, or stand alone. Somebody who might be the rest is missing, or lies beside them.

    doubt  whether another answer is nearly as good, or nothing tells how many members there are
    """
    if h.candidate.level in ("RAID1", "SPAN"):
        return False
    members = h.candidate.positions * h.candidate.copies
    sizes = {table.pile.sources[i].size for i in h.candidate.images}
    known = set(h.candidate.images) | set(table.outdated)
    beside = [i for i in range(len(table.pile)) if i not in known and table.pile.sources[i].size in sizes]
    held, blank = held_by(table, h.candidate.images)
    crowded = sum(held[i] <= blank for i in beside) > members // 2
    thin = 2 * rows_told(table, h) < members
    return (thin and len(h.candidate.images) < members) or (crowded and (thin or doubt))


def rows_told(table: Table, h: Hypothesis) -> int:
    """In how many rows, of those that were sampled, more than one strip of data is filled."""
    pattern, images = h.layout.pattern(), set(h.candidate.images)
    redundant = max(len(g.checks) for g in pattern.groups) if h.candidate.level in PARITY_LEVELS else 0
    copies = h.layout.copies
    least = max(2, copies + 1 if copies > 1 else 2 + redundant - h.candidate.missing)
    rows = {(p.offset - h.start) // h.strip for p in table.places if len(p.filled & images) >= least}
    return len(rows)


def rows_stated(h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> int:
    """In how many rows something states its address and stands where it says."""
    column = {i: c for c in h.order if c is not None for i in h.candidate.columns[c]}
    rows = set[int]()
    for anchors, base in placed:
        inside = np.isin(anchors.image, list(column))
        who = np.array([column[i] for i in anchors.image[inside].tolist()], np.int64)
        offset, address = anchors.offset[inside], anchors.address[inside] + base
        rows |= set(((offset[fits(h, who, offset, address)] - h.start) // h.strip).tolist())
    return len(rows)


def strangely_related(table: Table, h: Hypothesis) -> bool:
    """Whether members are related in many places in a way that the hypothesis has no room for: they are members of
    something else, such as parity that is a copy of the only data there are, or a span that closes by itself."""
    span_of: dict[int, int] = {}
    column: dict[int, int] = {}
    for position, c in enumerate(h.order):
        for image in () if c is None else h.candidate.columns[c]:
            span_of[image], column[image] = position // h.layout.span_members, c or 0
    checks = max(len(g.checks) for g in h.layout.pattern().groups) if h.candidate.level in PARITY_LEVELS else 0
    if not checks and h.candidate.level not in ("RAID0", "RAID10"):
        return False
    where = [p for p in table.places if p.filled & set(column)]

    def strange(place: Place, related: frozenset[int]) -> bool:
        if not checks:
            return len({column[i] for i in related}) > 1
        spans = {span_of[i] for i in related}
        if len(spans) > 1:  # what fills two strips alike
            return False
        # each equation frees one of those that hold something; a member that is missing may hold zeros here
        there = sum(span_of.get(i) in spans for i in place.filled)
        return len(related) <= there - checks

    found = own = runs = 0
    before = False
    for place in where:
        related = [frozenset(r.images) for r in place.relations if set(r.images) <= set(column)]
        odd = any(strange(place, images) for images in related)
        found, own, runs = found + odd, own + (bool(related) and not odd), runs + (odd and not before)
        before = odd
    # where its own relations hold at more places, the others are of what was written over a part of it, or of two
    # strips that are filled alike; and what counts up is related to itself, all along one table of it
    spread = runs >= LEAST_CLOSING or 2 * found >= len(where)
    return found >= LEAST_CLOSING and found >= STRANGE_SHARE * len(where) and found > own and spread


STRANGE_SHARE = 0.05
"""Of the places in which members hold something, those at which two may hold the same by chance."""


def turns_later(table: Table, h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> bool:
    """Whether all that stands right under a RAID 4 does so as well if parity moves on behind it, and data
    stand in the rows where it is elsewhere then."""
    images = {i for c in h.order if c is not None for i in h.candidate.columns[c]}
    last = max((p.offset for p in table.places if p.filled & images), default=0)
    own = sum(held_facts(h, anchors, base)[0] for anchors, base in placed)
    for other in later_turns(h.layout) if h.candidate.level == h.layout.level else ():
        if (last - h.start) // h.strip < other.turn_rows:
            continue  # all data stand in the same places
        turned = replace(h, candidate=replace(h.candidate, level=other.level, layouts=(other,)), layout=other)
        if sum(held_facts(turned, anchors, base)[0] for anchors, base in placed) >= own:
            return True
    return False
