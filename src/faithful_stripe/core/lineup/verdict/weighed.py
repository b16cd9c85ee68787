"""What an answer's score consists of: its ledger, made from the evidence anew, entry by entry."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..document.ledger import Entry, Kind, Ledger, total
from ..hypotheses.assignment import MISSING_NATS, Hypothesis, empty_votes, make_ballot, role_votes
from ..hypotheses.pile_table import Table
from ..hypotheses.placement import hits_of
from ..hypotheses.standing_facts import held_facts
from ..hypotheses.votes import add_algebra, split
from ..structures.anchors import Anchors
from .missing_slot import Judged

LEAST_NATS = 0.05
"""What weighs less is left out."""


def ledger_of(table: Table, judged: Judged, placed: Sequence[tuple[Anchors, int]]) -> Ledger:
    """The entries of an answer: what the search counted for its order, all else that it weighed, what was read in its
    volume. They add up to its total.

    placed  the anchors of each file system in it, with where each starts in the volume; the first one was searched by
    """
    h, findings = judged.h, judged.findings
    found = [*_searched(table, h, placed), *findings.entries()]
    searched = [e for e in found if e.kind in SEARCHED]
    rest = h.score - total(tuple(searched))
    computed = judged.total - h.score - findings.nats
    found.insert(len(searched), Entry(Kind.SEAMS, rest))
    found.append(Entry(Kind.COMPUTED, computed))
    return tuple(e for e in found if abs(e.nats) >= LEAST_NATS or e.agree or e.contrary)


SEARCHED = (Kind.ADDRESSES, Kind.ROLES, Kind.EMPTY, Kind.MISSING)


def _searched(table: Table, h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> list[Entry]:
    """What the votes say of each member in its place."""
    primary, base = placed[0] if placed else (None, h.base)
    used, _kept = split(primary)
    ballot = add_algebra(table, h.candidate, make_ballot(h.candidate, used))
    hit, position = hits_of(h.layout, h.strip, h.start, base, ballot.facts)
    votes = ballot.facts.votes(ballot.columns, h.layout.members, position, hit)
    votes -= ballot.facts.contrary(ballot.columns, h.layout, h.strip, h.start, base)
    held = tested = 0
    if placed:
        held, tested = held_facts(h, *placed[0])
    roles = role_votes(h.layout, h.strip, h.start, ballot)
    empty = empty_votes(h.layout, h.strip, h.start, ballot)
    return [
        Entry(Kind.ADDRESSES, _at(votes, h), held, tested - held),
        Entry(Kind.ROLES, _at(roles, h), len(ballot.role_who)),
        Entry(Kind.EMPTY, -_at(empty, h)),
        Entry(Kind.MISSING, -MISSING_NATS * h.candidate.missing),
    ]


def _at(votes: np.ndarray, h: Hypothesis) -> float:
    """What (columns, positions) votes say of an order."""
    return float(sum(votes[c, p] for p, c in enumerate(h.order) if c is not None))
