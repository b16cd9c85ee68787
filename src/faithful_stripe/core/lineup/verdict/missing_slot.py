"""Gaps: a member beside a missing one, which of the two places is its own.

In almost empty rows parity is a copy of the only data there are. Structures on it then vote for the place of the data,
which is that of the missing member. Either way the volume holds the structures where they belong, read or computed, so
they tell nothing there, and what the borders of strips say decides.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ...errors import StripeError
from ..hypotheses.as_volume import rebuilt
from ..hypotheses.assignment import Floats, Hypothesis, assign, make_ballot, role_votes, votes_of
from ..hypotheses.equivalence import same_answer
from ..hypotheses.pile_table import Table
from ..hypotheses.placement import hits_of
from ..hypotheses.seam_tables import Scorer, parity_votes
from ..hypotheses.search import mates_of
from ..hypotheses.votes import add_algebra, joint, reader_of
from ..structures.anchors import Anchors
from .volume_reading import MARGIN_NATS, Findings, read_volume

PARITY_LEVELS = ("RAID4", "RAID5", "RAID6", "RAID50", "RAID60")

MOST_GAPS, GAP_NATS = 4, 8.0
"""Missing places that are looked at; what votes may still mean for the place of one member."""

COMPARED, SECTOR = 240, 512

LEAST_GAIN = 3.0

LOST_NATS = 3.0
"""What a strip says against an exchange that leaves a structure on it nowhere; all there are on one are one fact."""

Placed = Sequence[tuple[Anchors, int]]


@dataclass(frozen=True)
class Judged:
    """A hypothesis with what was read in its volume; `total` is the evidence of both, in nats."""

    h: Hypothesis
    findings: Findings
    total: float


def exchanges(h: Hypothesis) -> list[Hypothesis]:
    """The hypothesis with one member exchanged with a missing one of its span, in every way."""
    gaps = [p for p, c in enumerate(h.order) if c is None]
    k = h.layout.span_members
    found = []
    for gap in gaps[:MOST_GAPS] if h.candidate.level in PARITY_LEVELS else []:
        for position in range(gap // k * k, gap // k * k + k):
            if h.order[position] is not None:
                order = list(h.order)
                order[gap], order[position] = order[position], None
                found.append(replace(h, order=tuple(order)))
    return found


def better_in_gaps(table: Table, best: Judged, placed: Placed, kept: Placed) -> list[Judged]:
    """The best answer, or one exchange of it that reads better though its structures vote for another place; then the
    first is given, too."""
    whole = len(_reproduced(table, best.h, placed))
    if not whole:
        return [best]
    told = _borders(table, best.h)
    found = [best]
    for other in exchanges(best.h):
        gain = _borders(table, other) - told
        if gain <= LEAST_GAIN or len(_reproduced(table, other, placed)) < whole:
            continue
        findings = read_volume(other, table.pile, placed, kept, table.carved)
        gain += min(0.0, findings.nats - best.findings.nats)
        if gain > LEAST_GAIN:
            found.append(Judged(other, findings, best.total + gain))
    return sorted(found, key=lambda j: -j.total)


def moved_to_gaps(table: Table, best: Judged, placed: Placed, kept: Placed) -> list[Judged]:
    """The exchanges at which the volume reads as well: votes leave no more than a small lead over them. What the volume
    holds under the best one, and would hold nowhere after the exchange, cannot be the copy of anything; nor does a copy
    change by which factor Q counts a member."""
    found: list[Judged] = []
    others = exchanges(best.h)
    if not others:
        return found
    whole = _reproduced(table, best.h, placed)
    ballot = add_algebra(table, best.h.candidate, make_ballot(best.h.candidate, None))
    roles = role_votes(best.h.layout, best.h.strip, best.h.start, ballot)
    told = _borders(table, best.h)
    for other in others:
        findings = read_volume(other, table.pile, placed, kept, table.carved)
        lost = _cells(best.h, whole - _reproduced(table, other, placed))
        counted = voted(roles, best.h.order) - voted(roles, other.order)
        reads = best.findings.nats - findings.nats
        borders = told - _borders(table, other)
        behind = max(GAP_NATS, reads + counted + LOST_NATS * lost + borders)
        if behind < MARGIN_NATS and not same_answer(best.h, other):
            found.append(Judged(other, findings, best.total - behind))
    return found


def told(table: Table, h: Hypothesis, placed: Placed) -> float:
    """What structures, relations and borders say for an order: nats, comparable under one geometry."""
    ballot = add_algebra(table, h.candidate, joint(h.candidate, placed)[0])
    hit, position = hits_of(h.layout, h.strip, h.start, 0, ballot.facts)
    votes = votes_of(h.layout, h.strip, h.start, 0, ballot, position, hit)
    return _borders(table, h) + voted(votes, h.order)


def voted(votes: Floats, order: Sequence[int | None]) -> float:
    """What the votes, (columns, positions) nats, give an order."""
    return float(sum(votes[c, p] for p, c in enumerate(order) if c is not None))


def by_every_fact(table: Table, best: Judged, placed: Placed, kept: Placed) -> Judged | None:
    """The order that wins under the same strip and start once the facts that were kept out for the proof vote, too,
    where it is another one and more speaks for it: a proof by a part that was chosen out of luck is none."""
    h = best.h
    if not kept:
        return None
    ballot = add_algebra(table, h.candidate, joint(h.candidate, placed, whole=True)[0])
    own, found = -np.inf, list[tuple[float, Hypothesis]]()
    for chosen in h.candidate.layouts:
        hit, position = hits_of(chosen, h.strip, h.start, 0, ballot.facts)
        votes = votes_of(chosen, h.strip, h.start, 0, ballot, position, hit)
        order, score = assign(votes, h.candidate)
        found.append((score, replace(h, layout=chosen, order=order, runner_up=-np.inf)))
        if chosen == h.layout:
            own = voted(votes, h.order)
    score, other = max(found, key=lambda f: f[0])
    if score <= own + LEAST_GAIN or same_answer(other, h):
        return None
    findings = read_volume(other, table.pile, placed, kept, table.carved)
    gain = score - own + findings.nats - best.findings.nats
    gain += _borders(table, other) + _pairs(table, other) - _borders(table, h) - _pairs(table, h)
    return Judged(replace(other, score=h.score + gain), findings, best.total + gain)


def _borders(table: Table, h: Hypothesis) -> float:
    """What the borders of strips, and how natural they look, say for an order: nats."""
    made = reader_of(table, h.candidate).tables(h.strip, h.start)
    if made is None or not len(made.rows):
        return 0.0
    none = len(h.candidate.columns)
    natural = parity_votes(h.layout, made)
    places = sum(float(natural[c, p]) for p, c in enumerate(h.order) if c is not None)
    order = np.array([[none if c is None else c for c in h.order]], np.int64)
    return places + float(Scorer(h.layout, made)(order)[0])


def _pairs(table: Table, h: Hypothesis) -> float:
    """What places that are equal on two members say for an order, where the level has such pairs: nats."""
    reader = reader_of(table, h.candidate)
    worth = mates_of(reader, h.layout, h)
    none = len(h.candidate.columns)
    return 0.0 if worth is None else float(worth(np.array([[none if c is None else c for c in h.order]], np.int64))[0])


def _cells(h: Hypothesis, found: set[tuple[int, int]]) -> int:
    """In how many strips of members structures stand: (image, offset) each."""
    return len({(image, (offset - h.start) // h.strip) for image, offset in found})


def _reproduced(table: Table, h: Hypothesis, placed: Placed) -> set[tuple[int, int]]:
    """The structures, (image, offset) each, that the volume holds at their address, read or computed."""
    volume = rebuilt(h, table.pile)
    found: set[tuple[int, int]] = set()
    block = np.zeros(SECTOR, np.uint8)
    for anchors, base in placed:
        for i in range(0, len(anchors), max(1, len(anchors) // COMPARED)):
            image, offset, at = int(anchors.image[i]), int(anchors.offset[i]), int(anchors.address[i]) + base
            if not 0 <= at <= volume.size - SECTOR or image not in h.candidate.images:
                continue
            try:
                volume.read_into(at, block)
            except StripeError:
                continue
            there = table.pile.stretch(image, offset // SECTOR * SECTOR, SECTOR)
            if (block == there).all():
                found.add((image, offset))
    return found
