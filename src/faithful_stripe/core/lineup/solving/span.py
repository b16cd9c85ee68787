"""Concatenated members: SPAN, one after the other, told by structures that keep one distance from their addresses.

On a striped member the distance between where a structure stands and where it says it belongs changes with every strip;
on a member of a span it is the same from end to end. That distance is the member's place in the volume, and the
members' own sizes must fill the volume between one place and the next.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import islice, pairwise, permutations, product

import numpy as np
import numpy.typing as npt

from ...arrays.engine import Array
from ...arrays.geometry import STRIP_MOST, Concatenation
from ...arrays.layout import layout
from ..document.four_verdicts import Reason, Sure, Verdict, Verdicts
from ..document.lineup_document import Evidence, Lineup
from ..hypotheses.assignment import strips
from ..hypotheses.pile_table import Table
from ..hypotheses.placement import CELL_BYTES, FACT_NATS
from ..hypotheses.votes import bases_of
from ..structures.anchors import Anchors
from ..structures.carved_files import length_if_sound
from ..structures.standing import Structures, standing
from ..verdict.volume_reading import MARGIN_NATS, TOTAL_NATS, walked

Int64 = npt.NDArray[np.int64]

LEAST_CELLS, LEAST_IN_ALL = 2, 3
"""Places of a member, further apart than any strip is long, at which the same distance holds: there are no strips.
And such places on all members."""

LEAST_CROSSED = 2
"""Borders of strips of each size over which something whole lies."""

AGREED, AGREED_OF_SEVERAL, MOSTLY_TWICE = 0.55, 0.8, 0.7
"""Of a member's structures; copies in a journal stand elsewhere. Of those that may belong at several addresses, where a
file system keeps two copies, nearly all: a distance that suits one strip for the first suits others for the second."""

MOST_TAIL = 2 << 20
"""What a controller may keep at the end of a member."""

MOST_FILES = 40
LATEST_START = 64 << 20

USUAL_TAILS = (0, 4096, 33 * 512, 1 << 20)
"""Tried where no two members that structures place stand next to one another."""

MOST_UNPLACED, MOST_WAYS = 3, 60
"""Members in a row that no structure places, and ways to place them that are looked at."""

MOST_DISTANCES, MOST_CHOICES = 8, 24
"""Places that one image may have by what it states, and choices among those of all that are looked at."""

SILENT_SHARE = 0.9
"""Of what states an address on a member that no structure places: what stands in a journal there, which is copies."""

Ground = tuple[Anchors, int]
"""A file system's structures, and where it starts in the volume, in bytes."""

Chain = list[tuple[int | None, int]]
"""(image, its bytes of data) one after the other; None for a missing one."""

APART_BYTES = 1 << 20
"""Structures of one image that are so far from one another are places of their own; and borders of strips that are no
larger are looked at one by one."""


@dataclass(frozen=True)
class Placed:
    """An image with the one distance between where its structures stand and where they belong.

    cells  how many places far from one another agree on it; nats: what they say
    reach  from the first of its structures to the last, in bytes
    """

    image: int
    distance: int
    cells: int
    nats: float
    reach: int


def conclude_span(
    table: Table, images: set[int], files: Sequence[Anchors], tables: Sequence[Anchors], taken: set[int]
) -> Lineup | None:
    """The lineup of images that are one volume one after the other; None where they are anything else.

    files   file systems that are on the images
    tables  partition tables that are
    """
    for anchors in files:
        options = [some for i in sorted(images) if (some := _placings(anchors, i))]
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
        if not far and not _unbroken(table, anchors, found, max(0, -(first.distance + base))):
            continue
        joined, grounds = _with_tables(*_joined(found, (anchors, base), files, starts, images), tables, images)
        made = _chained(table, grounds, joined, taken)
        if made is not None:
            return made
    return None


def _joined(
    found: Sequence[Placed], first: Ground, files: Sequence[Anchors], starts: Sequence[int], images: set[int]
) -> tuple[list[Placed], list[Ground]]:
    """What one file system places and what the others in the same volume do, distances from the first one's start; and
    those file systems with their starts. Each other one starts where a partition table says, and agrees on images that
    both place."""
    anchors, base = first
    joined, grounds = list(found), [first]
    for other in files:
        theirs = [] if other is anchors or other.ground.guessed else [_placed(other, i) for i in sorted(images)]
        placed = [one for one in theirs if one is not None]
        for start in starts if placed else []:
            known = {one.image: one.distance for one in joined}
            moved = [replace(one, distance=one.distance + start - base) for one in placed]
            shared = [one for one in moved if one.image in known]
            agreed = all(known[one.image] == one.distance for one in shared)
            taken = {at for _a, at in grounds}
            if start not in taken and agreed and (shared or start > max(taken)):
                joined += [one for one in moved if one.image not in known]
                grounds.append((other, start))
                break
    return joined, grounds


def _with_tables(
    joined: list[Placed], grounds: list[Ground], tables: Sequence[Anchors], images: set[int]
) -> tuple[list[Placed], list[Ground]]:
    """And what the partition tables place in which these file systems start, as structures of the volume itself: the
    second of a GPT stands at its end, on a member that may hold nothing else that states an address."""
    base = grounds[0][1]
    joined, grounds = list(joined), list(grounds)
    for table in tables:
        if base not in table.ground.starts:
            continue
        known = {one.image: one.distance for one in joined}
        moved = [replace(one, distance=one.distance - base) for i in sorted(images) if (one := _placed(table, i))]
        # a table that is on none of these images is of another array: many partitions start at the same place
        if moved and all(known.get(one.image, one.distance) == one.distance for one in moved):
            joined += [one for one in moved if one.image not in known]
            grounds.append((table, 0))
    return joined, grounds


def unstriped(files: Sequence[Anchors], images: set[int]) -> set[int]:
    """Images on which a file system stands as it is, from one place to others further away than any strip is long."""
    placed = [one for a in files if not a.ground.guessed for i in images if (one := _placed(a, i)) is not None]
    return {one.image for one in placed if one.cells >= LEAST_CELLS and one.reach >= STRIP_MOST}


def whole_on(files: Sequence[Anchors], image: int) -> bool:
    """Whether an image bears most of a file system at its one distance; a set of a striped array bears its share."""
    for anchors in files:
        one = _placed(anchors, image)
        if one is not None:
            here = (anchors.image == image) & (anchors.address - anchors.offset == one.distance)
            if len(np.unique(anchors.address[here])) > AGREED * len(np.unique(anchors.address)):
                return True
    return False


def _placed(anchors: Anchors, image: int) -> Placed | None:
    """An image with its distance, where one holds all over it; the largest of those that are as likely."""
    return next(iter(_placings(anchors, image)), None)


def _placings(anchors: Anchors, image: int) -> list[Placed]:
    """An image with each distance that holds all over it, the largest first: a lone boot sector is rather the copy at
    the end, and a lone superblock may be that of any group."""
    mine = anchors.image == image
    if not mine.any():
        return []
    distance, offset = anchors.address[mine] - anchors.offset[mine], anchors.offset[mine]
    values, counts = np.unique(distance, return_counts=True)
    several = len(np.unique(offset)) < MOSTLY_TWICE * int(mine.sum())
    found = []
    for best in values[counts == counts.max()][::-1][:MOST_DISTANCES].tolist():
        copies = anchors.ground.in_journal(offset + best) & (distance != best)
        here, told = np.unique(offset[distance == best]), np.unique(offset[~copies])
        if len(here) < (AGREED_OF_SEVERAL if several else AGREED) * len(told):
            continue
        apart, last = 0, -2 * APART_BYTES
        for at in here.tolist():
            if at - last > APART_BYTES:
                apart, last = apart + 1, at
        _cell, size = np.unique(here // CELL_BYTES, return_counts=True)
        nats = FACT_NATS * float((1 + np.log(size)).sum())
        found.append(Placed(image, best, apart, nats, int(here[-1] - here[0])))
    return found


def _unbroken(table: Table, anchors: Anchors, found: Sequence[Placed], start: int) -> bool:
    """Whether what is whole on the images lies over borders of strips of every size: between structures at the same
    distance there is none, nor in a file whose own checksum holds as it stands."""
    whole: list[tuple[int, int]] = []
    for one in found:
        mine = (anchors.image == one.image) & (anchors.address - anchors.offset == one.distance)
        whole += [(a, b) for a, b in pairwise(np.unique(anchors.offset[mine]).tolist()) if b - a <= APART_BYTES // 2]
        for c in [c for c in table.carved if c.image == one.image][:MOST_FILES]:
            length = length_if_sound(table.pile.sources[one.image], c.offset, c.kind)
            whole.append((c.offset, c.offset + length))
    ranges = np.array(whole, np.int64).reshape(-1, 2) - start
    usual = [strip for strip in strips() if strip <= APART_BYTES]
    return all(int(((ranges[:, 1] - 1) // s > ranges[:, 0] // s).sum()) >= LEAST_CROSSED for s in usual)


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
    free = _unplaced(table, grounds, ranked, taken)
    best: list[tuple[int, int, Chain]] = []
    for tail in [known[len(known) // 2]] if known else USUAL_TAILS:
        for chain in _fillings(ranked, edges, end, own, free, tail):
            if not _silent(grounds, chain, {one.image for one in ranked}, start):
                continue
            made = _geometry(chain, start)
            whole = sum(image is not None for image, _size in chain)
            spanning = _files_over_edges(table, made, chain)
            best.append((whole - len(chain), spanning, chain))
            if not any(image in free or image is None for image, _size in chain):
                break  # every place is told: nothing to choose
    best = [b for b in best if sum(image is not None for image, _size in b[2]) > 1]
    if not best:
        return None
    best.sort(key=lambda b: (-b[0], -b[1]))
    alone = len(best) == 1 or best[0][:2] != best[1][:2]
    _whole, spanning, chain = best[0]
    fitting = spanning > 0 or bool(known) or _fits_exactly(chain, own, {one.image for one in ranked})
    return _concluded(table, grounds, start, chain, ranked, spanning, alone and fitting)


def _fits_exactly(chain: Chain, own: Sequence[int], placed: set[int]) -> bool:
    """Whether a place between others is filled to the byte by images of sizes that no placed one has: drives of one
    size would fill any."""
    usual = {own[image] for image in placed}
    last = max(at for at, (image, _size) in enumerate(chain) if image in placed)  # what follows need not fill anything
    inner = [image for image, _size in chain[:last] if image is not None and image not in placed]
    return any(own[image] not in usual for image in inner)


def _unplaced(table: Table, grounds: Sequence[Ground], ranked: Sequence[Placed], taken: set[int]) -> list[int]:
    """Images that hold something, that no structure of these file systems places, and that are of no other; on which
    something of theirs stands, those that may hold a journal."""
    mine = [a for a, _base in grounds]
    foreign = [a for a in table.anchors if not any(a is m for m in mine) and not a.ground.starts]
    others = {i for a in foreign for i in a.ground.bound()} | {i for g in table.groups for i in g.images}
    out = taken | others | {one.image for one in ranked}
    out |= {int(i) for a in mine if not a.ground.silent for i in a.image}
    return [i for i in range(len(table.pile)) if i not in out and table.pile.data(i)]


def _silent(grounds: Sequence[Ground], chain: Chain, placed: set[int], start: int) -> bool:
    """Whether what states an address on the members that are placed by their size alone stands in a journal there."""
    edge = 0
    for image, size in chain:
        for anchors, base in grounds if image is not None and image not in placed else ():
            mine = anchors.image == image
            at = anchors.offset[mine] - start + edge - base
            told = (anchors.address[mine] == at) | anchors.ground.in_journal(at)
            if told.sum() < SILENT_SHARE * len(told):
                return False
        edge += size
    return True


def _fillings(
    ranked: Sequence[Placed], edges: Sequence[int], end: int, own: Sequence[int], free: Sequence[int], tail: int
) -> Iterator[Chain]:
    """Every way to fill the volume, when members keep `tail` bytes at their end for something else."""
    choices: list[list[Chain]] = []
    for index, one in enumerate(ranked):
        last = index == len(ranked) - 1
        length = (end if last else edges[index + 1]) - edges[index]
        gap = length - (own[one.image] - tail)
        if not last and gap <= 0:
            choices.append([[(one.image, length)]])
            continue
        whole = own[one.image] - tail
        if last and gap <= 0:
            choices.append([[(one.image, whole)]])
            continue
        ways: list[Chain] = []
        for count in range(1, MOST_UNPLACED + 1):
            for some in permutations(free, count):
                sizes = [own[i] - tail for i in some]
                left = sum(sizes) - gap
                if (0 <= left <= MOST_TAIL and left < min(sizes)) if last else left == 0:
                    ways.append([(one.image, whole), *zip(some, sizes, strict=True)])
        choices.append(ways[:MOST_WAYS] or [[(one.image, whole), (None, gap)]])
    for combined in islice(product(*choices), MOST_WAYS):
        chain = [member for part in combined for member in part]
        images = [image for image, _size in chain if image is not None]
        if len(chain) > 1 and len(set(images)) == len(images) and all(size > 0 for _image, size in chain):
            yield chain


def _geometry(chain: Chain, start: int) -> Concatenation:
    count = len(chain)
    return Concatenation(layout("SPAN", count), 64 << 10, (start,) * count, tuple(size for _image, size in chain))


def _concluded(
    table: Table, grounds: Sequence[Ground], start: int, chain: Chain, placed: Sequence[Placed], spanning: int,
    alone: bool,
) -> Lineup:  # fmt: skip
    """Read the volume, and say how sure that is.

    spanning  files that hold over the borders of members
    alone     whether no other order of the images fits as well, and what members keep at their end is known
    """
    pile, made = table.pile, _geometry(chain, start)
    members = [image for image, _size in chain]
    volume = Array(made, [None if i is None else pile.sources[i] for i in members], name="rebuilt volume")
    proof = walked(volume, grounds)
    held = standing(made, members, Structures(tuple(a for a, _b in grounds), tuple(b for _a, b in grounds)))
    words = " and ".join(a.ground.words for a, _base in grounds)
    anchors, base = grounds[0]
    evidence = [
        Evidence("anchors", held, f"structures of {words} stand at one distance from their address"),
        *(Evidence("proof", c, f"{kind} correct in the rebuilt volume") for kind, c in proof.held.items()),
        *(Evidence("failing", c, f"{kind} wrong in the rebuilt volume") for kind, c in proof.failed.items()),
    ]
    if spanning:
        evidence.append(Evidence("proof", spanning, "files over two members whose own checksum holds"))
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
        declared and anchors.ground.head and (made.start_bytes[0] < 4096 or any(a.ground.starts for a, _b in grounds))
    )
    sure = ordered and start
    settle = "" if sure else "checksums fail in the volume: a member may be another one's"
    if not complete:
        settle = "a part of the volume is on no image: how many members that is, nothing tells"
    if not sure and sound:
        settle = "what stands where no structure does: a member's place is told by its size alone"
        if not inferred and ordered:
            settle = "where the volume starts: its first structures, or the controller's own configuration"
        elif not inferred:
            settle = "more structures that state their address: a member's place is told by few"
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
        alternatives=() if alone else ("other images, or the same ones in another order, fill the volume as well",),
        settle=settle,
    )


def _files_over_edges(table: Table, made: Concatenation, chain: Chain) -> int:
    """Files with a checksum of their own that lie over the border of two members and hold."""
    count = 0
    sources = table.pile.sources
    volume = Array(made, [None if i is None else sources[i] for i, _size in chain], name="rebuilt volume")
    position = {image: p for p, (image, _size) in enumerate(chain) if image is not None}
    near = [
        c for c in table.carved
        if c.image in position and made.start_bytes[0] + made.member_bytes[position[c.image]] - c.offset < 4 << 20
    ]  # fmt: skip
    for one in near[-MOST_FILES:]:
        at = int(made.to_volume(position[one.image], one.offset))
        length = length_if_sound(volume, at, one.kind) if at >= 0 else 0
        count += bool(length) and int(made.to_member(at + length - 1)[0]) != position[one.image]
    return count
