"""Refining: members that hardly anything places, or on which all fails, exchanged while the volume reads better."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations

import numpy as np

from ..hypotheses.as_volume import final_geometry
from ..hypotheses.assignment import Hypothesis
from ..hypotheses.pile_table import Table
from ..structures.anchors import Anchors
from .certainty import anchored
from .missing_slot import PARITY_LEVELS, Judged, told
from .volume_reading import Findings, read_volume

MOST_WEAK, ROUNDS = 8, 4
FEW_STANDING = 3
"""Structures that stand right on a column, so few of which may do so by chance: as copies, or parity."""


LEAST_EXPLAINED, EXPLAINED_SHARE = 3, 0.5
"""Wrong structures of a member, so many and of such a share, that stand on another one at the same place."""


def explained(table: Table, h: Hypothesis, findings: Findings) -> list[tuple[int, int]]:
    """Pairs of positions whose exchange would explain what fails: what belongs there stands, at the same place, on the
    other member."""
    made, members = final_geometry(h, table.pile)
    seats = {i: p for p, c in enumerate(h.order) if c is not None for i in h.candidate.columns[c]}
    tally: dict[tuple[int, int], int] = {}
    failed: dict[int, int] = {}
    for one in findings.proof.wrong:
        if not 0 <= one.address <= made.volume_bytes - one.length:
            continue
        who, at = (int(x) for x in made.to_member(one.address))
        image = members[who]
        if image is None:
            continue
        seat = seats[image]
        failed[seat] = failed.get(seat, 0) + 1
        for other, column in enumerate(h.order):
            source = (
                table.pile.sources[h.candidate.columns[column][0]] if column is not None and other != seat else None
            )
            if source is not None and at + one.length <= source.size:
                data = table.pile.stretch(h.candidate.columns[column or 0][0], at, one.length).tobytes()
                if one.fits(data):
                    tally[seat, other] = tally.get((seat, other), 0) + 1
    sure = [
        pair for pair, count in tally.items()
        if count >= LEAST_EXPLAINED and count >= EXPLAINED_SHARE * failed[pair[0]]
    ]  # fmt: skip
    return sorted(sure, key=lambda pair: -tally[pair])


def scarce(h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> list[int]:
    """Positions of the columns on which hardly any structure stands, those with fewest first."""
    standing = {p: anchored(h, c, placed) for p, c in enumerate(h.order) if c is not None}
    return sorted((p for p, count in standing.items() if count <= FEW_STANDING), key=lambda p: standing[p])


def refined(
    table: Table, best: Judged, placed: Sequence[tuple[Anchors, int]], kept: Sequence[tuple[Anchors, int]]
) -> Judged:
    """Where what was read speaks against the best order: columns exchanged of which that would explain what fails, and
    those on which hardly any structure stands, two at a time, as long as the volume reads better."""
    for _ in range(ROUNDS):
        failing = best.findings.failures or best.findings.broken
        pairs = [*explained(table, best.h, best.findings), *combinations(scarce(best.h, placed)[:MOST_WEAK], 2)]
        if not failing or not np.isfinite(best.h.runner_up):
            return best
        found = [best]
        for a, b in dict.fromkeys(pairs):
            order = list(best.h.order)
            order[a], order[b] = order[b], order[a]
            h = replace(best.h, order=tuple(order))
            findings = read_volume(h, table.pile, placed, kept, table.carved)
            # structures and relations say at least this much less for it
            worse = best.h.score - best.h.runner_up
            found.append(Judged(h, findings, best.total - worse - best.findings.nats + findings.nats))
        better = max(found, key=lambda j: j.total)
        if better is best:
            return best
        best = better
    return best


def spans_exchanged(table: Table, best: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> Hypothesis | None:
    """The hypothesis with two whole spans exchanged of which least says that they do not stand so: what a proof must be
    able to refuse, too."""
    k, spans = best.layout.span_members, best.layout.spans
    found = []
    for a, b in combinations(range(spans if best.candidate.level in PARITY_LEVELS else 1), 2):
        order = list(best.order)
        order[a * k : a * k + k], order[b * k : b * k + k] = order[b * k : b * k + k], order[a * k : a * k + k]
        found.append(replace(best, order=tuple(order)))
    return max(found, key=lambda h: told(table, h, placed), default=None)
