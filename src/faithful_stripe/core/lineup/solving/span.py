"""Concatenated members: SPAN, one after the other, told by structures that keep one distance from their addresses.

On a striped member the distance between where a structure stands and where it says it belongs changes with every strip;
on a member of a span it is the same from end to end. That distance is the member's place in the volume, and the
members' own sizes must fill the volume between one place and the next.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import islice, pairwise, product

from ...arrays.engine import Array
from ..document.alternative import Alike, Alternative
from ..document.four_verdicts import Reason, Sure, Verdict, Verdicts
from ..document.lineup_document import Lineup
from ..document.told_facts import Evidence, Settle, Settles, What
from ..hypotheses.pile_table import Table
from ..hypotheses.votes import bases_of
from ..structures.anchors import Anchors
from ..structures.standing import Structures, standing
from ..verdict.volume_reading import MARGIN_NATS, TOTAL_NATS, walked
from .span_chain import (
    MOST_TAIL,
    USUAL_TAILS,
    Chain,
    Ground,
    files_over_edges,
    fillings,
    fits_exactly,
    geometry_of,
    journals_only,
    unplaced,
)
from .span_places import LEAST_CELLS, LEAST_IN_ALL, Placed, placed_on, placings, unbroken

LATEST_START = 64 << 20

MOST_CHOICES = 24
"""Choices among the places of all images that are looked at."""


def conclude_span(
    table: Table, images: set[int], files: Sequence[Anchors], tables: Sequence[Anchors], taken: set[int]
) -> Lineup | None:
    """The lineup of images that are one volume one after the other; None where they are anything else.

    files   file systems that are on the images
    tables  partition tables that are
    """
    for anchors in files:
        options = [some for i in sorted(images) if (some := placings(anchors, i))]
        found = [some[0] for some in options]
        if not found:
            continue
        far = max(one.cells for one in found) >= LEAST_CELLS and sum(one.cells for one in found) >= LEAST_IN_ALL
        striped = {int(i) for i in anchors.image if int(i) in images} - {one.image for one in found}
        if len(striped) > len(found):
            continue
        partial: Lineup | None = None
        for chosen in islice(product(*options), MOST_CHOICES):
            made = _begun(table, anchors, list(chosen), far, files, tables, images, taken)
            if made is not None and None not in made.members:
                return made
            partial = partial or made
        if partial is not None:
            return partial
    return None


def _begun(
    table: Table, anchors: Anchors, found: list[Placed], far: bool, files: Sequence[Anchors],
    tables: Sequence[Anchors], images: set[int], taken: set[int],
) -> Lineup | None:  # fmt: skip
    """The lineup where the images have the distances that one file system gives them, wherever in the volume it starts.

    far  whether they hold so far apart on some image that there are no strips
    """
    starts = sorted({s for t in tables for s in t.ground.starts})
    first = min(found, key=lambda one: one.distance)
    told = [t for t in tables if (t.image == first.image).any()]
    began = {int(d) for t in told for d in t.offset[t.image == first.image] - t.address[t.image == first.image]}
    for base in sorted(bases_of(anchors, starts), key=lambda b: b not in starts):
        if began and -(first.distance + base) not in began:
            continue  # the table stands at the volume's start
        if not far and not unbroken(table, anchors, found, max(0, -(first.distance + base))):
            continue
        joined, grounds = _joined(found, (anchors, base), files, tables, images)
        made = _chained(table, grounds, joined, taken)
        if made is not None:
            return made
    return None


def _joined(
    found: Sequence[Placed], first: Ground, files: Sequence[Anchors], tables: Sequence[Anchors], images: set[int]
) -> tuple[list[Placed], list[Ground]]:
    """What one file system places and what else in the same volume does, distances from the first one's start; and
    these with their starts.

    Each other file system starts where a partition table says; a table in which the first one starts is the volume's
    own: the second of a GPT stands at its end, on a member that may hold nothing else that states an address. All agree
    on images that both place; what shares none stands behind all that is known, or is a table.
    """
    anchors, base = first
    joined, grounds = list(found), [first]
    starts = sorted({s for t in tables for s in t.ground.starts})
    others = [(a, starts) for a in files if a is not anchors and not a.ground.guessed]
    others += [(t, [0]) for t in tables if base in t.ground.starts]
    for other, possible in others:
        # one that is on none of these images is of another array: many partitions start at the same place
        placed = [one for i in sorted(images) if (one := placed_on(other, i)) is not None]
        for start in possible if placed else []:
            known = {one.image: one.distance for one in joined}
            moved = [replace(one, distance=one.distance + start - base) for one in placed]
            agreed = all(known.get(one.image, one.distance) == one.distance for one in moved)
            taken = {at for a, at in grounds if not a.ground.table}
            reached = any(one.image in known for one in moved) or start > max(taken) or other.ground.table
            if agreed and reached and start not in taken:
                joined += [one for one in moved if one.image not in known]
                grounds.append((other, start))
                break
    return joined, grounds


def _chained(table: Table, grounds: Sequence[Ground], found: Sequence[Placed], taken: set[int]) -> Lineup | None:
    """The members in the order of their distances, when their sizes fill the volume from one to the next; where they
    leave a gap, images that no structure places and that fill it, or a missing one."""
    base = grounds[0][1]
    ranked = sorted(found, key=lambda one: one.distance)
    start = -(ranked[0].distance + base)
    if not 0 <= start <= LATEST_START or start % 512:
        return None
    own = [source.size // 512 * 512 - start for source in table.pile.sources]
    edges = [one.distance + base + start for one in ranked]
    lengths = [b - a for a, b in pairwise(edges)]
    tails = [own[one.image] - length for one, length in zip(ranked, lengths, strict=False)]
    if any(tail > MOST_TAIL for tail in tails):
        return None  # two images of the same bytes, or something else
    known = sorted(tail for tail in tails if tail >= 0)
    end = max(edges[-1] + 512, *(at + a.ground.size for a, at in grounds))
    free = unplaced(table, grounds, ranked, taken)
    best: list[tuple[int, int, Chain]] = []
    for tail in [known[len(known) // 2]] if known else USUAL_TAILS:
        for chain in fillings(ranked, edges, end, own, free, tail):
            if not journals_only(grounds, chain, {one.image for one in ranked}, start):
                continue
            made = geometry_of(chain, start)
            whole = sum(image is not None for image, _size in chain)
            spanning = files_over_edges(table, made, chain)
            best.append((whole - len(chain), spanning, chain))
            if not any(image in free or image is None for image, _size in chain):
                break  # every place is told: nothing to choose
    best = [b for b in best if sum(image is not None for image, _size in b[2]) > 1]
    if not best:
        return None
    best.sort(key=lambda b: (-b[0], -b[1]))
    alone = len(best) == 1 or best[0][:2] != best[1][:2]
    _whole, spanning, chain = best[0]
    fitting = spanning > 0 or bool(known) or fits_exactly(chain, own, {one.image for one in ranked})
    return _concluded(table, grounds, start, chain, ranked, spanning, alone and fitting)


def _concluded(
    table: Table, grounds: Sequence[Ground], start: int, chain: Chain, placed: Sequence[Placed], spanning: int,
    alone: bool,
) -> Lineup:  # fmt: skip
    """Read the volume, and say how sure that is.

    spanning  files that hold over the borders of members
    alone     whether no other order of the images fits as well, and what members keep at their end is known
    """
    pile, made = table.pile, geometry_of(chain, start)
    members = [image for image, _size in chain]
    volume = Array(made, [None if i is None else pile.sources[i] for i in members], name="rebuilt volume")
    proof = walked(volume, grounds)
    held = standing(made, members, Structures(tuple(a for a, _b in grounds), tuple(b for _a, b in grounds)))
    words = " and ".join(a.ground.words for a, _base in grounds)
    anchors, base = grounds[0]
    evidence = [
        Evidence("anchors", held, What.STANDING_IN_SPAN, name=words),
        *(Evidence("proof", c, What.CORRECT, name=kind) for kind, c in proof.held.items()),
        *(Evidence("failing", c, What.WRONG, name=kind) for kind, c in proof.failed.items()),
    ]
    if spanning:
        evidence.append(Evidence("proof", spanning, What.FILES_OVER_TWO))
    complete = None not in members
    sound = complete and proof.failures <= 0.03 * max(1, proof.passes)
    fills = all(at + a.ground.size <= made.volume_bytes for a, at in grounds)
    told = {one.image: one.nats for one in placed}
    total, lead = sum(told.values()), min(told.get(i, 0.0) for i in members if i is not None)
    inferred = any(i not in told for i in members)
    declared = not base or any(base in a.ground.starts for a in table.anchors)
    sure = sound and fills and complete and not inferred and total > TOTAL_NATS and lead > MARGIN_NATS
    ordered = sure and not anchors.ground.guessed
    start = (
        declared and anchors.ground.head and (made.start_bytes[0] < 4096 or any(a.ground.table for a, _b in grounds))
    )
    sure = ordered and start
    settle = None if sure else Settle.SPAN_FAILING
    if not complete:
        settle = Settle.SPAN_LACKS
    if not sure and sound:
        settle = Settle.SPAN_BY_SIZE
        if not inferred and ordered:
            settle = Settle.SPAN_START
        elif not inferred:
            settle = Settle.SPAN_FEW
    return Lineup(
        geometry=made,
        members=tuple(None if i is None else pile.names[i] for i in members),
        verdicts=Verdicts(
            Verdict(Sure.CERTAIN, Reason.PROVEN)
            if ordered
            else Verdict(Sure.PROBABLE if sound and fills and (alone or not inferred) else Sure.UNDECIDED, Reason.FEW),
            Verdict(Sure.CERTAIN, Reason.HEAD if not base else Reason.TABLE)
            if start
            else Verdict(Sure.PROBABLE, Reason.NOTHING_SAYS),
        ),
        best=total,
        next=max(0.0, total - lead),
        evidence=tuple(evidence),
        alternatives=() if alone else (Alternative(Alike.OTHER_IMAGES),),
        settle=None if settle is None else Settles(settle),
    )
