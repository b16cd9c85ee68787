"""Slices: several arrays on the same images, one behind the other, each looked for where the others are not.

What stands on one slice says nothing of another, and what all slices say together fits no array. So where one was found
that ends before its images do, or of which what stands on it takes less, what is behind is searched by itself. Where
none is proven, the images are cut where a file system or a partition table begins at one place of them: both sides must
then be arrays by themselves, one of them proven, and not the same one.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ...arrays.geometry import Concatenation
from ...formats.ends import declared_end
from ...ranges import Range, clip, total
from ...source import BlockSource, Buffer, check_bounds
from ..document.four_verdicts import Reason, Sure, Verdict
from ..document.lineup_document import Lineup, Solution
from ..reading.samples import BLOCK, Pile, Tell
from ..structures.anchors import find_anchors
from ..structures.ground import read_stock

Search = Callable[[Pile], Solution]

HEAD_BYTES = 128 << 10
"""Structures that state an address below this stand on the first strip of what they belong to, or on copies of it."""

MOST_CUTS = 3
LEAST_SIDE = 256 << 10
"""Bytes of data on either side of a cut, or behind an array, of all images together: less is what controllers write."""

SEARCHED_BYTES = 24 << 20
COMPARED_STRIPS = 64


@dataclass
class Between:
    """An image of which only [low, high) is seen: zeros before, nothing behind."""

    source: BlockSource
    low: int
    high: int

    def __str__(self) -> str:
        return str(self.source)

    @property
    def size(self) -> int:
        return min(self.high, self.source.size)

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        check_bounds(self, self.size, offset, view.nbytes)
        hidden = min(max(0, self.low - offset), view.nbytes)
        view[:hidden] = bytes(hidden)
        if hidden < view.nbytes:
            self.source.read_into(offset + hidden, view[hidden:])

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        low, high = max(start, self.low), min(self.size, self.size if end is None else end)
        if low < high:
            yield from self.source.data_ranges(low, high)


def with_slices(pile: Pile, found: Solution, search: Search, tell: Tell) -> Solution:
    """What was found, and the arrays behind it on the same images; or, where that was nothing, the arrays on both sides
    of a place where they may be cut."""
    decided = [a for a in found.arrays if a.strength != "undecided"]
    for array in decided:
        if not pile.effort.left():
            break
        found = _behind(pile, found, array, search, tell)
    if (decided and all(a.verdicts.placing == "certain" for a in decided)) or len(pile) < 2:
        return found
    for cut in _cuts(pile, tell) if pile.effort.left() else ():
        sides = ((0, cut), (cut, max(s.size for s in pile.sources)))
        if any(_held(pile, low, high) < LEAST_SIDE for low, high in sides):
            continue
        if not pile.effort.left():
            break
        made = _cut_at(pile, found, cut, search, tell)
        if made is not None:
            return made
    return found


def _held(pile: Pile, low: int, high: int) -> int:
    """Bytes of data between two places of the images; 0 where fewer than two hold any."""
    held = [total(clip(pile.data(i), low, high)) for i in range(len(pile))]
    return sum(held) if sum(n > 0 for n in held) > 1 else 0


def _behind(pile: Pile, found: Solution, array: Lineup, search: Search, tell: Tell) -> Solution:
    """What was found, with the arrays that stand behind one of them on its images."""
    made = array.geometry
    if isinstance(made, Concatenation):
        return found
    reach = _reach(pile, array)
    ends = {
        pile.names.index(name): start + min(size, reach)
        for name, start, size in zip(array.seated, made.start_bytes, made.member_bytes, strict=True) if name is not None
    }  # fmt: skip
    left = {i: total(clip(pile.data(i), end, pile.sources[i].size)) for i, end in ends.items()}
    if sum(left.values()) < LEAST_SIDE or sum(n > 0 for n in left.values()) < 2:
        return found
    low = max(ends.values()) // BLOCK * BLOCK
    tell("what stands behind an array on its images is looked at")
    more = seen_between(pile, sorted(ends), low, max(s.size for s in pile.sources), search)
    after = [a for a in more.arrays if a.strength != "undecided" and min(a.geometry.start_bytes) >= low]
    behind = [a for a in after if not _same(array, a)]
    ended = {pile.names[i] for i, held in left.items() if held < made.strip_bytes}
    onward = next((a for a in after if a not in behind and _names(array) - _names(a) <= ended), None)
    if onward is not None and _names(array) - _names(onward):
        note = ("slices", f"without an image that ends there, an array continues behind byte {low} of its images")
        longer = _as_long_as(array, onward)
        whole = tuple(longer if a is array else a for a in found.arrays)
        return replace(found, arrays=whole, trace=(*found.trace, note))
    if not behind:
        return found
    note = ("slices", f"behind an array, from byte {low} of its images on, others stand: {len(behind)}")
    first = min(min(a.geometry.start_bytes) for a in behind)
    arrays = (_ending(a, first) if a is array else a for a in found.arrays)
    return replace(found, arrays=(*arrays, *map(_beginning_unknown, behind)), trace=(*found.trace, note, *more.trace))


def _reach(pile: Pile, array: Lineup) -> int:
    """How many bytes of each member what stands on the volume takes, by its own word; all where it says none."""
    made = array.geometry
    images = [None if n is None else pile.sources[pile.names.index(n)] for n in array.seated]
    end = declared_end(array.opened(images))
    if end is None or end > made.volume_bytes:
        return max(made.member_bytes)
    per_unit = made.pattern.strips * made.pattern.unit_rows // made.pattern.rows * made.strip_bytes
    return -(-end // per_unit) * made.pattern.unit_rows * made.strip_bytes


def _ending(array: Lineup, end: int) -> Lineup:
    """An array that ends, at the latest, where another one begins on its images."""
    made = array.geometry
    if isinstance(made, Concatenation):
        return array
    sizes = tuple(min(size, end - start) for start, size in zip(made.start_bytes, made.member_bytes, strict=True))
    return replace(array, geometry=replace(made, member_bytes=sizes), until=end)


def _cut_at(pile: Pile, found: Solution, cut: int, search: Search, tell: Tell) -> Solution | None:
    """The arrays on both sides of a place, where there are such by themselves and they are not one."""
    tell(f"cut at byte {cut}: what stands before and behind it is looked at")
    every = list(range(len(pile)))
    back = seen_between(pile, every, cut, max(s.size for s in pile.sources), search)
    behind = [a for a in back.arrays if a.strength != "undecided" and min(a.geometry.start_bytes) >= cut]
    if not behind:
        return None
    front = seen_between(pile, every, 0, cut, search)
    before = [a for a in front.arrays if a.strength != "undecided"]
    pairs = [(a, b) for a in before for b in behind if _shared(a, b)]
    proven = any(a.verdicts.order.sure is Sure.CERTAIN or b.verdicts.order.sure is Sure.CERTAIN for a, b in pairs)
    if not proven or any(_same(a, b) for a, b in pairs):
        return None
    arrays = (*(_ending(a, cut) for a in before), *map(_beginning_unknown, behind))
    used = {n for a in arrays for n in (*a.seated, *a.stale)}
    note = ("slices", f"two arrays share images, and meet at byte {cut} of them")
    return replace(
        found, arrays=arrays, unused=tuple(n for n in pile.names if n not in used), notes=front.notes + back.notes,
        trace=(*found.trace, note, *front.trace, *back.trace), bytes_read=pile.bytes_read,
    )  # fmt: skip


def seen_between(pile: Pile, images: Sequence[int], low: int, high: int, search: Search) -> Solution:
    """What stands between two places of some images."""
    part = Pile(
        [pile.names[i] for i in images], [Between(pile.sources[i], low, high) for i in images], effort=pile.effort
    )
    made = search(part)
    pile.bytes_read += part.bytes_read
    return made


def _cuts(pile: Pile, tell: Tell) -> list[int]:
    """Places of the images at which what stands there says that it is the head of something, the likeliest first."""
    votes: Counter[int] = Counter()
    for anchors in find_anchors(read_stock(pile, SEARCHED_BYTES), tell):
        if not anchors.ground.guessed:
            near = anchors.address < HEAD_BYTES
            places = np.unique(anchors.offset[near] - anchors.address[near])
            votes.update(int(at) for at in places if at > 0 and at % BLOCK == 0)
    return [at for at, _n in sorted(votes.items(), key=lambda v: (v[0] % (1 << 20) != 0, -v[1], v[0]))][:MOST_CUTS]


def _shared(a: Lineup, b: Lineup) -> bool:
    return len({n for n in a.seated if n} & {n for n in b.seated if n}) > 1


def _names(array: Lineup) -> set[str]:
    return {name for name in array.seated if name is not None}


def _as_long_as(array: Lineup, onward: Lineup) -> Lineup:
    """An array up to the end of the part of it that was found without members whose images end before."""
    made, other = array.geometry, onward.geometry
    end = min(start + size for start, size in zip(other.start_bytes, other.member_bytes, strict=True))
    return replace(array, geometry=replace(made, member_bytes=tuple(end - start for start in made.start_bytes)))


def _same(a: Lineup, b: Lineup) -> bool:
    """Whether one array goes on in the other, or in a part of its members: what stands on them from there on follows as
    it does in the other, whatever the two call it."""
    if not _shared(a, b):
        return False
    first, other = a.geometry, b.geometry
    if isinstance(other, Concatenation) or first.strip_bytes != other.strip_bytes or not _names(b) <= _names(a):
        return False
    strips = min(COMPARED_STRIPS, min(other.member_bytes) // other.strip_bytes)
    at = other.start_bytes[0] + np.arange(strips, dtype=np.int64) * other.strip_bytes
    apart: set[int] = set()
    for position, name in enumerate(b.seated):
        if name is not None:
            here = first.start_bytes[0] + (at - first.start_bytes[0]) // first.strip_bytes * first.strip_bytes
            long = replace(first, member_bytes=(1 << 60,) * first.members)
            mine, theirs = long.to_volume(a.seated.index(name), here), other.to_volume(position, at)
            if ((mine < 0) != (theirs < 0)).any():
                return False
            apart.update((mine - theirs)[mine >= 0].tolist())
    return len(apart) == 1


def _beginning_unknown(array: Lineup) -> Lineup:
    """An array behind another one: that its first row is the first there is room for says nothing there."""
    verdicts, start = array.verdicts, array.verdicts.start
    if start.sure is not Sure.CERTAIN or start.reason is Reason.TABLE:
        return array
    return replace(array, verdicts=replace(verdicts, start=Verdict(Sure.PROBABLE, Reason.NOTHING_SAYS)))
