"""Mirrors: copies of one another, whose order means nothing and cannot be told."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations

import numpy as np

from ...arrays.geometry import STRIP_MOST
from ...ranges import clip
from ..document.four_verdicts import Reason, Sure, Verdict, Verdicts
from ..document.lineup_document import Lineup
from ..document.told_facts import Evidence, Settle, Settles, What
from ..evidence.ages import copies_compared
from ..evidence.membership import Membership
from ..hypotheses.as_volume import final_geometry
from ..hypotheses.assignment import Hypothesis
from ..hypotheses.candidate import Candidate
from ..hypotheses.member_tails import filled, without_tail
from ..hypotheses.pile_table import Table, anything_before
from ..hypotheses.standing_facts import held_facts
from ..hypotheses.votes import ROUND, bases_of
from ..reading.samples import BLOCK, Pile
from ..structures.anchors import Anchors
from ..verdict.certainty import SUPERBLOCK, displaced
from ..verdict.volume_reading import read_volume
from ..verdict.volume_start import begin_of, further_on

FILLED = 0.8
"""The share of the members that a file system takes where the volume is no larger than one of them: that of a larger
array, were these only two of its members, would reach far beyond."""

MOST_LOOKED = 64
"""Blocks of a range that are compared."""


def conclude_mirror(
    table: Table, candidate: Candidate, group: Membership, grounds: Sequence[Anchors], starts: Sequence[int], usual: int
) -> Lineup:
    """Copies of one another: RAID 1. Their order cannot be told and does not matter."""
    order = tuple(range(len(candidate.columns)))
    start, held, tested = usual, 0, 0
    placed: list[tuple[Anchors, int]] = []
    best = Hypothesis(candidate, candidate.layouts[0], 64 << 10, 0, 0, order, 0.0)
    for anchors in grounds:
        options = []
        for base in _bases_given(table, anchors) or bases_of(anchors, starts):
            shifts = anchors.offset - anchors.address - base
            values, counts = np.unique(shifts[(shifts >= 0) & (shifts % 512 == 0)], return_counts=True)
            for i in np.argsort(-counts)[:3].tolist():
                h = replace(best, start=int(values[i]), base=base)
                options.append((*held_facts(h, anchors, base), -h.start, h))
        if options:
            one = max(options, key=lambda o: (o[0], o[3].base in starts, not o[3].base, o[2]))
            if one[0] > held:
                held, tested, start = one[0], one[1], one[3].start
                best = one[3]
            placed.append((anchors, one[3].base))
    begin = begin_of(table, replace(best, start=start, base=0), placed)
    if begin.shift:  # what stands in front is the volume's, too: its verdict is of that start
        start = begin.h.start
        placed = further_on(placed, begin)
    findings = read_volume(replace(best, start=start), table.pile, placed, [], table.carved)
    made, members = final_geometry(replace(best, start=start), table.pile)
    size = max((base + a.ground.size for a, base in placed), default=0)
    real = max((base + a.ground.size for a, base in placed if not a.ground.guessed), default=0)
    made = filled(made, table.pile, sorted(candidate.images), start + real) or without_tail(
        made, replace(best, start=start), table.pile, table.places, start + size
    )
    known = bool(grounds)
    equal_at = Evidence("membership", group.closing, What.COPIES_EQUAL, group.blocks)
    evidence = [equal_at, *findings.evidence()]
    if held:
        kind = "pages" if all(a.ground.guessed for a, _base in placed) else "anchors"  # see `_perhaps_striped`
        evidence.append(Evidence(kind, held, What.STANDING_IN_MIRROR, tested))
    equal = not group.open
    ages = copies_compared(start, [column[0] for column in candidate.columns], placed) if not equal else ()
    older = {candidate.columns[a.member][0] for a in ages if a.older}
    stale = tuple(table.pile.names[i] for i in sorted(older)) if len(older) < len(candidate.columns) else ()
    plain, pile = held >= 8 and held >= 0.5 * tested, table.pile
    whole = max(pile.sources[i].size for i in candidate.images) - start
    larger = real > whole
    fills = size >= FILLED * whole and not _another_pair(table, candidate.images, placed, start)
    alone = not fills and _may_be_one_strip(table, sorted(candidate.images), start)
    larger |= any(_goes_on_elsewhere(table, candidate.images, anchors) for anchors, _base in placed)
    larger |= any(_copy_elsewhere(table, candidate.images, anchors, base + start) for anchors, base in placed)
    plain = plain and not larger
    apart = displaced(replace(best, start=start), placed) > 0  # another strip of something larger begins there
    plain = plain and not apart
    sure = plain and not findings.contradicted and not begin.shift and not group.until and not alone
    split_up = apart or (known and not plain and tested >= 8)
    untold = not held and not anything_before(table, set(candidate.images), ROUND)
    settle = None if sure else Settle.READABLE
    if sure and begin.verdict.sure is Sure.UNDECIDED:
        settle = Settle.START
    if larger:
        settle = Settle.LARGER
    elif alone:
        settle = Settle.BESIDE
    if untold:
        settle = Settle.EMPTY_HEADS
    if split_up:
        settle = Settle.PERHAPS_STRIPED
    elif not equal and not stale:
        settle = Settle.WRITTEN_LAST
    return Lineup(
        geometry=made,
        members=tuple(None if i is None or table.pile.names[i] in stale else table.pile.names[i] for i in members),
        verdicts=Verdicts(
            Verdict(Sure.CERTAIN, Reason.PROVEN)
            if sure
            else Verdict(
                Sure.UNDECIDED if split_up or untold or larger or alone else Sure.PROBABLE,
                Reason.UNCOUNTED if alone else Reason.FEW,
                count=held,
            ),
            Verdict(Sure.UNDECIDED, Reason.NOTHING_SAYS)
            if untold
            else begin.verdict
            if sure or begin.verdict.sure is not Sure.CERTAIN
            else replace(begin.verdict, sure=Sure.PROBABLE),  # it is one of the volume with these members
        ),
        best=float(group.closing + held),
        next=0.0,
        evidence=tuple(evidence),
        alternatives=(
            "the members are interchangeable: any order gives the same volume; the strip size has no effect",
        ),
        stale=stale,
        settle=None if settle is None else Settles(settle),
        seats=tuple(
            (name, p) for p, i in enumerate(members) if i is not None and (name := table.pile.names[i]) in stale
        ),
        ages=ages,
    )


def _bases_given(table: Table, anchors: Anchors) -> list[int]:
    """Where a file system starts in the volume whose start on the members is given: it stands where it stands."""
    start = table.pile.given.start if table.pile.given is not None else -1
    values, counts = np.unique(anchors.offset - anchors.address, return_counts=True)
    shift = int(values[np.argmax(counts)]) if len(values) else -1
    return [shift - start] if 0 <= start <= shift else []


def _another_pair(
    table: Table, images: Sequence[int], placed: Sequence[tuple[Anchors, int]], start: int
) -> bool:  # fmt: skip
    """Whether copies of the same size lie beside these, and nothing stands right behind what may be the first strip:
    both may be sets of one array."""
    pile, mine = table.pile, set(images)
    sizes = {pile.sources[i].size for i in mine}
    beside = [g for g in table.groups if g.kind == "copies" and not mine & set(g.images)]
    if not any(sizes & {pile.sources[i].size for i in g.images} for g in beside):
        return False
    behind = [
        a.offset[(a.offset >= start + STRIP_MOST) & np.isin(a.image, images) & (a.offset - a.address == start + base)]
        for a, base in placed
    ]  # fmt: skip
    return not any(len(b) for b in behind)


def _goes_on_elsewhere(table: Table, images: Sequence[int], anchors: Anchors) -> bool:
    """Whether other images bear plenty of what counts on where these end: pages of an unknown format, of which these
    hold a part, as the first member of a span does."""
    if not anchors.ground.guessed:
        return False
    mine = np.isin(anchors.image, images)
    other = ~mine & ~np.isin(anchors.image, list(table.outdated))
    return len(np.setdiff1d(anchors.address[other], anchors.address[mine])) >= LEAST_ELSEWHERE


def _copy_elsewhere(table: Table, images: Sequence[int], anchors: Anchors, start: int) -> bool:
    """Whether a copy of a superblock stands on another image, and its own place on these is empty. start: of the file
    system on these, in bytes."""
    pile = table.pile
    for kind, image, _offset, address in anchors.ground.found:
        if kind == SUPERBLOCK:
            outside = ~np.isin(image, [*images, *table.outdated])
            for at in np.unique(address[outside]).tolist():
                place = (start + at) // BLOCK * BLOCK
                inside = [i for i in images if place + BLOCK <= pile.sources[i].size]
                if not any(pile.stretch(i, place, BLOCK).any() for i in inside):
                    return True
    return False


LEAST_ELSEWHERE = 8
"""Structures of the same kind on other images, with addresses that none here has."""


def _may_be_one_strip(table: Table, images: Sequence[int], start: int) -> bool:
    """Whether all that the copies hold may be one strip, and images of their size lie beside them: a larger array that
    holds data in its first strips only looks like that, too, as parity of the only data there are is a copy of them."""
    pile = table.pile
    sizes = {pile.sources[i].size for i in images}
    beside = any(i not in images and pile.sources[i].size in sizes for i in range(len(pile)))
    return beside and not _shared_behind(pile, images, start + STRIP_MOST)


def _shared_behind(pile: Pile, images: Sequence[int], border: int) -> bool:
    """Whether two copies hold the same behind a place: what a controller writes at the end differs from drive to
    drive."""
    for a, b in combinations(images, 2):
        both = [r for first, last in pile.data(a) for r in clip(pile.data(b), max(first, border), last)]
        for low, high in both:
            for at in range(-(-low // BLOCK) * BLOCK, high - BLOCK + 1, max(BLOCK, (high - low) // MOST_LOOKED)):
                block = pile.stretch(a, at, BLOCK)
                if block.any() and np.array_equal(block, pile.stretch(b, at, BLOCK)):
                    return True
    return False
