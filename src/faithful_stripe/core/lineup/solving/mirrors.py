"""Mirrors: copies of one another, whose order means nothing and cannot be told."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from ...arrays.geometry import STRIP_MOST
from ...ranges import clip
from ..document.alternative import Alike, Alternative
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

LEAST_PLAIN, PLAIN_OF = 8, 0.5
"""Structures that must stand where a plain mirror puts them, and the share of those that say where they stand."""

MOST_LOOKED = 64
"""Blocks of a range that are compared."""


@dataclass(frozen=True)
class _Found:
    """What stands on copies: where their data start, by the structures that agree most on it.

    h       start as they say, or as is usual; held: structures that stand right so, of `tested`
    placed  what states addresses, and where in the volume its own addresses begin
    """

    h: Hypothesis
    held: int
    tested: int
    placed: list[tuple[Anchors, int]]

    @property
    def real(self) -> int:
        """Where the last file system ends, in bytes of the volume."""
        return max((base + a.ground.size for a, base in self.placed if not a.ground.guessed), default=0)

    @property
    def size(self) -> int:
        """Where the last of all that is known ends."""
        return max((base + a.ground.size for a, base in self.placed), default=0)


@dataclass(frozen=True)
class _Doubts:
    """What keeps copies from being a plain mirror.

    larger  what stands on them is larger than they are; alone: it may be one strip, and others lie beside
    untold  nothing tells where their data begin; split: it does not read as a plain mirror
    differ  they are not equal, and none is known to be older
    other   something else: little stands on them, or what is read contradicts them
    """

    larger: bool
    alone: bool
    untold: bool
    split: bool
    differ: bool
    other: bool

    def settle(self, begin: Verdict) -> Settles | None:
        """What would settle it. begin: how sure its start is"""
        sure = not (self.other or self.larger or self.alone)
        told = (
            (self.split, Settle.PERHAPS_STRIPED),
            (self.differ, Settle.WRITTEN_LAST),
            (self.untold, Settle.EMPTY_HEADS),
            (self.larger, Settle.LARGER),
            (self.alone, Settle.BESIDE),
            (sure and begin.sure is Sure.UNDECIDED, Settle.START),
            (not sure, Settle.READABLE),
        )
        return next((Settles(what) for doubted, what in told if doubted), None)

    def verdicts(self, begin: Verdict, held: int) -> Verdicts:
        """How sure order and start are. held: structures that stand right"""
        sure = not (self.other or self.larger or self.alone)
        open_ = self.split or self.untold or self.larger or self.alone
        doubted = Verdict(
            Sure.UNDECIDED if open_ else Sure.PROBABLE, Reason.UNCOUNTED if self.alone else Reason.FEW, count=held
        )
        if self.untold:
            begin = Verdict(Sure.UNDECIDED, Reason.NOTHING_SAYS)
        elif not sure and begin.sure is Sure.CERTAIN:  # it is one of the volume with these members
            begin = replace(begin, sure=Sure.PROBABLE)
        return Verdicts(Verdict(Sure.CERTAIN, Reason.PROVEN) if sure else doubted, begin)


def conclude_mirror(
    table: Table, candidate: Candidate, group: Membership, grounds: Sequence[Anchors], starts: Sequence[int], usual: int
) -> Lineup:
    """Copies of one another: RAID 1. Their order cannot be told and does not matter."""
    found = _standing_on(table, candidate, grounds, starts, usual)
    begin = begin_of(table, replace(found.h, base=0), found.placed)
    if begin.shift:  # what stands in front is the volume's, too: its verdict is of that start
        h = replace(found.h, start=begin.h.start)
        found = replace(found, h=h, placed=further_on(found.placed, begin))
    h, pile, images = found.h, table.pile, sorted(candidate.images)
    findings = read_volume(h, pile, found.placed, [], table.carved)
    made, members = final_geometry(h, pile)
    made = filled(made, pile, images, h.start + found.real) or without_tail(
        made, h, pile, table.places, h.start + found.size
    )
    evidence = [Evidence("membership", group.closing, What.COPIES_EQUAL, group.blocks), *findings.evidence()]
    if found.held:
        kind = "pages" if all(a.ground.guessed for a, _base in found.placed) else "anchors"  # see `_perhaps_striped`
        evidence.append(Evidence(kind, found.held, What.STANDING_IN_MIRROR, found.tested))
    # whether places that were looked at differ or not: what was written while one was away may be little
    ages = copies_compared(h.start, [c[0] for c in candidate.columns], found.placed)
    older = {candidate.columns[a.member][0] for a in ages if a.older}
    stale = tuple(pile.names[i] for i in sorted(older)) if len(older) < len(candidate.columns) else ()
    unlike = findings.contradicted or bool(begin.shift or group.until)
    doubts = _doubts(table, candidate, found, bool(grounds), unlike, bool(group.open) and not stale)
    return Lineup(
        geometry=made,
        members=tuple(None if i is None or pile.names[i] in stale else pile.names[i] for i in members),
        verdicts=doubts.verdicts(begin.verdict, found.held),
        best=float(group.closing + found.held),
        next=0.0,
        evidence=tuple(evidence),
        alternatives=(Alternative(Alike.ANY_ORDER),),
        stale=stale,
        settle=doubts.settle(begin.verdict),
        seats=tuple((name, p) for p, i in enumerate(members) if i is not None and (name := pile.names[i]) in stale),
        ages=ages,
    )


def _standing_on(
    table: Table, candidate: Candidate, grounds: Sequence[Anchors], starts: Sequence[int], usual: int
) -> _Found:  # fmt: skip
    order = tuple(range(len(candidate.columns)))
    found = _Found(Hypothesis(candidate, candidate.layouts[0], 64 << 10, usual, 0, order, 0.0), 0, 0, [])
    for anchors in grounds:
        options = []
        for base in _bases_given(table, anchors) or bases_of(anchors, starts):
            shifts = anchors.offset - anchors.address - base
            values, counts = np.unique(shifts[(shifts >= 0) & (shifts % 512 == 0)], return_counts=True)
            for i in np.argsort(-counts)[:3].tolist():
                h = replace(found.h, start=int(values[i]), base=base)
                options.append((*held_facts(h, anchors, base), -h.start, h))
        if options:
            held, tested, _start, h = max(options, key=lambda o: (o[0], o[3].base in starts, not o[3].base, o[2]))
            found.placed.append((anchors, h.base))
            if held > found.held:
                found = replace(found, h=h, held=held, tested=tested)
    return found


def _doubts(
    table: Table, candidate: Candidate, found: _Found, known: bool, unlike: bool, differ: bool
) -> _Doubts:  # fmt: skip
    """What keeps copies from being a plain mirror.

    known   whether anything on them states addresses
    unlike  whether what is read contradicts them, or they are not equal all along; differ: see `_Doubts`
    """
    start, images = found.h.start, candidate.images
    whole = max(table.pile.sources[i].size for i in images) - start
    fills = found.size >= FILLED * whole and not _another_pair(table, images, found.placed, start)
    alone = not fills and _may_be_one_strip(table, sorted(images), start)
    larger = found.real > whole
    larger |= any(_goes_on_elsewhere(table, images, anchors) for anchors, _base in found.placed)
    larger |= any(_copy_elsewhere(table, images, anchors, base + start) for anchors, base in found.placed)
    apart = displaced(found.h, found.placed) > 0  # another strip of something larger begins there
    plain = found.held >= LEAST_PLAIN and found.held >= PLAIN_OF * found.tested and not apart
    split = apart or (known and not (plain and not larger) and found.tested >= LEAST_PLAIN)
    untold = not found.held and not anything_before(table, set(images), ROUND)
    return _Doubts(larger, alone, untold, split, differ, not plain or unlike)


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
