"""Search: the best orders of one candidate, by structures that state their address, by relations and by continuity."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, field, replace
from functools import reduce
from itertools import product

import numpy as np
import numpy.typing as npt

from ...arrays.layout import Layout
from ..evidence.sampled_places import Place
from ..evidence.seam_model import Continuity
from ..reading.samples import BLOCK, Blocks, Pile, Tell, silent
from ..structures.ground import Stock
from .assignment import (
    FORBIDDEN,
    MISSING_NATS,
    Ballot,
    Hypothesis,
    assign,
    finished,
    hypotheses,
    odd_strips,
    seated,
    strips,
    votes_of,
)
from .candidate import Candidate
from .placement import KEY, hits_of
from .seam_tables import SAMPLED_ROWS, Scorer, Tables, chained, improve, parity_votes, tables

Floats = npt.NDArray[np.float64]
Bytes1D = npt.NDArray[np.uint8]

SEEDS, SEED_NATS = 14, 30.0
"""How many geometries are looked at more closely, and how far behind the best one they may be."""

CLEAR_NATS = 60.0
"""A lead by which structures and relations alone decide; continuity is not asked then."""

TAUGHT_BLOCKS, TAUGHT_OF_PIECE = 360, 16
LEAST_ROWS, LEAST_BORDERS = 3, 8
"""Rows that hold something, and borders of strips in them, that are enough to judge a strip by."""

ODD_BELOW = 0.5
"""Strips that are not powers of two are tried where fewer of the facts than this fit."""

MATE_NATS = 1.0

BROKEN_OFF = -0.5
"""Mean nats for going on at borders where images do break off: elsewhere they go on."""

FEW_FACTS = 16
"""So few structures that fit leave the layout open."""

MOST_ODD = 4
"""Candidates for which strips of any size are tried by content alone."""

CUT_ERROR = 0.7
"""Nats by which the mean over the few borders that are looked at first may be wrong."""


@dataclass
class Shared:
    """What was computed for some columns, for every candidate over them."""

    tables: dict[tuple[int, int, int], Tables] = field(default_factory=dict)
    models: dict[int, Continuity] = field(default_factory=dict)
    voted: dict[Hashable, list[Hypothesis]] = field(default_factory=dict)


@dataclass
class Reader:
    """The columns of a candidate as they are read: mirrors by the first that can be, the one that is missing computed
    where the others add up to it."""

    pile: Pile
    stock: Stock
    places: Sequence[Place]
    candidate: Candidate
    shared: Shared

    @property
    def computed(self) -> bool:
        """Whether the missing column is the sum of the others."""
        return self.candidate.missing == 1 and self.candidate.level in ("RAID4", "RAID5")

    def read(self, offset: int, length: int) -> Blocks:
        """uint8 (columns, length), a computed one last."""
        rows = []
        for images in self.candidate.columns:
            source = self.pile.sources[images[0]]
            inside = max(0, min(length, source.size - offset)) if offset >= 0 else 0
            row = np.zeros(length, np.uint8)
            if inside:
                row[:inside] = self.pile.stretch(images[0], offset, inside)
            rows.append(row)
        if self.computed:
            rows.append(reduce(np.bitwise_xor, rows))
        return np.array(rows, np.uint8)

    def model(self, start: int) -> Continuity:
        """Continuity taught on blocks of these columns, on the grid of this start: the same ones, in the same order,
        however the images are named and listed."""
        phase = start % BLOCK
        if phase not in self.shared.models:
            images = {images[0] for images in self.candidate.columns}
            blocks: list[Bytes1D] = []  # as they stand in the stock: copies of all would be as large as that
            for piece in self.stock:
                if piece.image in images:
                    count = min(TAUGHT_OF_PIECE, (len(piece.data) - phase) // BLOCK)
                    grid = piece.data[phase : phase + count * BLOCK].reshape(count, BLOCK)
                    blocks += [block for block in grid if block.any()]
            blocks.sort(key=lambda block: zlib.crc32(block.tobytes()))
            chosen = blocks[:TAUGHT_BLOCKS]  # any of them, by what they hold
            self.shared.models[phase] = Continuity(np.array(chosen) if chosen else np.zeros((0, BLOCK), np.uint8))
        return self.shared.models[phase]

    def rows(self, strip: int, start: int, most: int) -> list[int]:
        """Rows in which several columns hold something, spread evenly."""
        images = {i for column in self.candidate.columns for i in column}
        least = min(2, len(self.candidate.columns))
        found = {
            (p.offset - start) // strip for p in self.places if p.offset >= start and len(p.filled & images) >= least
        }
        # chosen by where they stand on the image, so that a start some rows later looks at the same borders
        return sorted(sorted(found, key=lambda row: zlib.crc32(b"%d" % (start + row * strip)))[:most])

    def tables(self, strip: int, start: int, most: int = SAMPLED_ROWS) -> Tables | None:
        """Continuity at the borders of this strip and start; None where the model cannot judge."""
        model = self.model(start)
        if not model.usable:
            return None
        period = max(chosen.pattern().rows for chosen in self.candidate.layouts)
        count = most if 3 * period <= most else 96
        key = (strip, start, count)
        if key not in self.shared.tables:
            self.shared.tables[key] = tables(model, self.read, strip, start, self.rows(strip, start, count))
        return self.shared.tables[key]


@dataclass
class Entry:
    """A candidate with its evidence, and the geometries that the evidence alone suggests."""

    reader: Reader
    ballot: Ballot
    hints: Sequence[Sequence[int]] = ()
    seeds: list[Hypothesis] = field(default_factory=list)

    @property
    def words(self) -> str:
        """What is being tried, for a person."""
        candidate = self.reader.candidate
        gone = f", {candidate.missing} missing" if candidate.missing else ""
        members = candidate.positions * candidate.copies
        return f"order of {len(candidate.images)} images as {candidate.level} of {members}{gone}"

    @property
    def votes(self) -> bool:
        return bool(len(self.ballot.who) or len(self.ballot.role_who))


def search(
    entries: Sequence[Entry], bases: Sequence[int], starts: Sequence[int], odd: bool = False, tell: Tell = silent,
    continued: bool = False,
) -> list[Hypothesis]:  # fmt: skip
    """Hypotheses of all candidates, the best first. Their scores are comparable with those of another search only
    where both ask what continues from strip to strip.

    bases   where the ground of the facts may start in the volume, in bytes; negative: so many strips into a row
    starts  where data may start when no structure tells
    odd     whether strips that are not powers of two are tried in any case
    continued  whether that is asked even where structures alone are clear
    """
    voting = [e for e in entries if e.votes]
    for number, entry in enumerate(voting):
        tell(entry.words, number, len(voting))
        if number and not entry.reader.pile.effort.left_for_rivals():
            voting = voting[:number]
            break
        entry.seeds = _by_votes(entry, bases, starts)
    if (
        voting
        and (odd or max(_explained(e) for e in voting) < ODD_BELOW)
        and voting[0].reader.pile.effort.left_for_rivals()
    ):
        for entry in voting:
            entry.seeds = sorted(entry.seeds + _by_votes(entry, bases, starts, True), key=lambda h: -h.score)
    seeds = sorted((h for e in entries for h in e.seeds), key=lambda h: -h.score)
    if seeds:
        top = seeds[0]
        entry = next(e for e in entries if e.reader.candidate is top.candidate)
        top = finished(top, entry.ballot)
        place = (top.layout, top.strip, top.start - top.base)
        rest = next((h.score for h in seeds[1:] if (h.layout, h.strip, h.start - h.base) != place), -np.inf)
        if not continued and top.score - max(rest, top.runner_up) > CLEAR_NATS:
            return [top, *seeds[1:40]]
        found = list[Hypothesis]()
        for number, entry in enumerate(entries):
            tell(f"{entry.words}, by what continues from strip to strip", number, len(entries))
            if found and not entry.reader.pile.effort.left_for_rivals():
                break
            chosen = [h for h in entry.seeds if h.score > top.score - SEED_NATS][:SEEDS]
            found += [_climb(entry, h) for h in chosen]
        return sorted(found + _siblings(entries, found), key=lambda h: -h.score)
    found = list[Hypothesis]()
    for number, entry in enumerate(entries):
        tell(f"{entry.words}, by what continues from strip to strip", number, len(entries))
        if found and not entry.reader.pile.effort.left_for_rivals():
            break
        found += [_climb(entry, h) for h in _blind(entry.reader, starts, odd and number < MOST_ODD)]
    return sorted(found, key=lambda h: -h.score)


def _siblings(entries: Sequence[Entry], found: Sequence[Hypothesis]) -> list[Hypothesis]:
    """The other layouts under the strip and start of the best hypothesis: where structures are few, they say no less of
    those, and which are looked at would be a matter of chance."""
    best = max(found, key=lambda h: h.score, default=None)
    if best is None or best.facts > FEW_FACTS:
        return []
    known = {
        (id(h.candidate), h.layout) for h in found if (h.strip, h.start, h.base) == (best.strip, best.start, best.base)
    }
    made = []
    for entry in entries:
        candidate = entry.reader.candidate
        if not entry.reader.pile.effort.left_for_rivals():
            break
        if candidate.strip in (0, best.strip) and best.strip and candidate.gap % best.strip == 0:
            order = (*range(len(candidate.columns)), *(None,) * candidate.missing)[: candidate.positions]
            made += [
                _climb(entry, Hypothesis(candidate, chosen, best.strip, best.start, best.base, order, 0.0))
                for chosen in candidate.layouts if (id(candidate), chosen) not in known
            ]  # fmt: skip
    return made


def _by_votes(entry: Entry, bases: Sequence[int], starts: Sequence[int], odd: bool = False) -> list[Hypothesis]:
    """Geometries by votes; odd: of strips that are not powers of two, where the candidate leaves the strip open."""
    candidate, ballot = entry.reader.candidate, entry.ballot
    # roles tell a start as well as addresses do, and where those are all in a journal, alone
    usual = starts if candidate.phase >= 0 or not len(ballot.who) or len(ballot.role_who) else (0,)
    if odd and (candidate.strip or not len(ballot.who)):
        return []
    known, key = entry.reader.shared.voted, (candidate, ballot.key, tuple(bases), tuple(usual), odd)
    if key not in known:  # what was looked for once is met again where a search is widened
        sizes = odd_strips() if odd else [candidate.strip] if candidate.strip else strips()
        known[key] = hypotheses(candidate, ballot, bases, usual, sizes)
    return [replace(h, candidate=candidate) for h in known[key]]


def _explained(entry: Entry) -> float:
    """The share of the structures that fit the best geometry so far; one that may belong at several addresses fits at
    one of them. 1 where nothing states an address."""
    ballot = entry.ballot
    _place, first = np.unique(ballot.who * KEY + ballot.offset, return_index=True)
    most = int(ballot.count[first].sum())
    return entry.seeds[0].facts / most if most and entry.seeds else 0.0 if most else 1.0


def _blind(reader: Reader, starts: Sequence[int], odd: bool = False) -> list[Hypothesis]:
    """Geometries to climb in where nothing votes: strips at whose borders the images themselves break off; odd: of all
    sizes, not of the powers of two alone."""
    cuts: dict[tuple[int, int], float] = {}
    usual = [reader.candidate.strip] if reader.candidate.strip else strips()
    for sizes, where, rows in ((usual, starts, 24), (odd_strips(), starts[:1], 12)):
        for start, strip in product(where, sizes):
            made = reader.tables(strip, start, rows)
            if made is not None and len(made.rows) >= LEAST_ROWS:
                columns = made.natural.shape[1] - (1 if reader.computed else 0)
                diagonal = np.einsum("rii->ri", made.onward)[:, :columns]
                judged = diagonal[diagonal != 0]
                cuts[strip, start] = float(judged.mean()) if len(judged) >= LEAST_BORDERS else 9.0
        if not odd or reader.candidate.strip or min(cuts.values(), default=0.0) < BROKEN_OFF:
            break  # at every border of some strip the images break off: no other size need be looked at
    if not cuts:
        return []
    least, most = min(cuts.values()), max(cuts.values())
    order = tuple(range(len(reader.candidate.columns)))
    padded = order + (None,) * reader.candidate.missing
    return [
        Hypothesis(reader.candidate, chosen, strip, start, 0, padded, 0.0)
        for (strip, start), cut in cuts.items() if cut <= least + max(CUT_ERROR, 0.4 * (most - least))
        for chosen in reader.candidate.layouts
    ]  # fmt: skip


def _climb(entry: Entry, seed: Hypothesis) -> Hypothesis:
    """The best order that continuity and votes together find under a seed's geometry."""
    reader, ballot = entry.reader, entry.ballot
    candidate, chosen = seed.candidate, seed.layout
    votes = np.zeros((len(candidate.columns), chosen.members))
    if len(ballot.who) or len(ballot.role_who) or len(ballot.zero_who):
        hit, position = hits_of(chosen, seed.strip, seed.start, seed.base, ballot.facts)
        votes = votes_of(chosen, seed.strip, seed.start, seed.base, ballot, position, hit)
    made = reader.tables(seed.strip, seed.start)
    scorer: Scorer | None = None
    if made is not None and len(made.rows):
        votes = votes + parity_votes(chosen, made)[: len(candidate.columns)]
        scorer = Scorer(chosen, made)
    mates = mates_of(reader, chosen, seed)
    worth = _worth(candidate, votes, scorer, mates)
    none = len(candidate.columns)
    begin, _score = assign(votes, candidate)
    orders = [tuple(none if c is None else c for c in order) for order in (begin, seed.order[: chosen.members])]
    orders += [tuple(h) for h in entry.hints if len(h) == chosen.members]
    if made is not None and len(made.rows) and seed.facts <= FEW_FACTS and none <= chosen.members:
        run = [c for c in chained(made) if c < none]  # what is computed for a missing one has no seat
        orders.append((*run, *(none,) * (chosen.members - none)))
    best: tuple[tuple[int, ...], float, float] | None = None
    for order in dict.fromkeys(orders):
        spare = tuple(c for c in range(none) if c not in order) if none > chosen.members else ()
        climbed = improve(order + spare, worth, chosen.spans)
        if best is None or climbed[1] > best[1]:
            best = climbed
    assert best is not None
    charge = MISSING_NATS * candidate.missing
    final = tuple(None if c == none else c for c in best[0][: chosen.members])
    return replace(seed, order=final, score=best[1] - charge, runner_up=best[2] - charge)


def _worth(
    candidate: Candidate, votes: Floats, scorer: Scorer | None, mates: Callable[[npt.NDArray[np.int64]], Floats] | None
) -> Callable[[npt.NDArray[np.int64]], Floats]:
    n = votes.shape[1]
    padded = np.concatenate([seated(votes, candidate), np.zeros((1, n))])
    for position, column in enumerate(candidate.seats):
        padded[-1, position] = FORBIDDEN if column >= 0 else 0.0
    group = np.full(len(padded), -1, np.int64)
    for g, columns in enumerate(candidate.groups):
        group[list(columns)] = g
    span = np.arange(n) // (n // max(1, candidate.layouts[0].spans))
    split = len(candidate.groups) > 1 or candidate.layouts[0].spans > 1

    def worth(orders: npt.NDArray[np.int64]) -> Floats:
        orders = orders[:, :n]  # what follows are columns that take no part
        score: Floats = padded[orders, np.arange(n)].sum(axis=1)
        if scorer is not None:
            score = score + scorer(orders)
        if mates is not None:
            score = score + mates(orders)
        if split and candidate.groups:
            for g in range(len(candidate.groups)):
                where = np.where(group[orders] == g, span, -1)
                inside = np.where(where >= 0, where, where.max(axis=1, keepdims=True))
                score = score + FORBIDDEN * (inside != where.max(axis=1, keepdims=True)).any(axis=1)
        return score

    return worth


def mates_of(reader: Reader, chosen: Layout, seed: Hypothesis) -> Callable[[npt.NDArray[np.int64]], Floats] | None:
    """RAID 1E: pairs that are equal at a place should be copies of one another in that row."""
    if chosen.level != "RAID1E" or chosen.data != "adjacent":
        return None
    pattern = chosen.pattern()
    column = {images[0]: c for c, images in enumerate(reader.candidate.columns)}
    none = len(column)
    counts = np.zeros((pattern.rows, none + 1, none + 1))
    total = 0
    for place in reader.places:
        for relation in place.relations:
            if (
                len(relation.images) == 2
                and relation.plain
                and set(relation.images) <= set(column)
                and place.offset >= seed.start
            ):
                a, b = (column[i] for i in relation.images)
                phase = (place.offset - seed.start) // seed.strip % pattern.rows
                counts[phase, a, b] += 1
                counts[phase, b, a] += 1
                total += 1
    pairs = [
        (row, a, b) for row in range(pattern.rows) for a in range(chosen.members) for b in range(a + 1, chosen.members)
        if pattern.index[row, a] == pattern.index[row, b]
    ]  # fmt: skip
    rows, first, second = (np.array([p[i] for p in pairs], np.int64) for i in range(3))
    scale = MATE_NATS * min(total, 80) / max(1, total)

    def worth(orders: npt.NDArray[np.int64]) -> Floats:
        # what is equal where other strips should stand speaks against it as much
        found: Floats = scale * (2 * counts[rows, orders[:, first], orders[:, second]].sum(axis=1) - total)
        return found

    return worth
