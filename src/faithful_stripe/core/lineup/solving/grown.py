"""Arrays that were growing when that stopped: rows before a border stand in the layout with the added members, rows
behind it in the one without them.

While an array grows, its volume is copied from the former layout into the new one, from the front. What was copied last
is still where it was: just before the border the volume's bytes stand twice, once in each layout, at places that
have nothing to do with one another. Nothing but a growth does that, and where it ends is the border.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import permutations

import numpy as np
import numpy.typing as npt

from ...arrays.geometry import Geometry
from ...arrays.levels import GeometryError
from ...ranges import Range, clip, total, union
from ...source import BlockSource, BlockSourceError
from ..document.former import Former, resized, without
from ..document.four_verdicts import Reason, Sure, Verdict
from ..document.lineup_document import Lineup, Solution
from ..document.told_facts import Evidence, What
from ..reading.samples import BLOCK, Pile, Tell
from ..structures.standing import Structures, rows_told, structures_on
from .slices import Search, seen_between

GROWING = ("RAID0", "RAID10", "RAID4", "RAID5", "RAID6")
"""Levels of arrays that controllers grow."""

MOST_ADDED = 3
"""Members that are added at once, at most."""

SAMPLES, CONFIRMED = 512, 256
"""Places of the volume that are looked at, and those just before a border that was found."""

LEAST_ROWS, LEAST_STRUCTURES = 4, 8
"""Rows in which the added members take no part, and structures that stand right in the former layout only there, and in
the new one only before, until they tell where the layouts meet."""

LEAST_ON_EACH = 2
"""Different blocks on each member that must stand in both layouts for the order to be proven by them."""

LEAST_TWICE, MOST_OTHER = 12, 0.2
"""Different blocks on former members that stand in both layouts before it is a growth, and the share of blocks before
the border that may differ: a volume in use is written to while it grows."""

MOST_TRIED = 8
"""Borders that are tried in a pair of layouts."""

EXACT_ROWS = 64
"""Rows that are looked at one by one in the end."""

GLANCES, LEAST_PLACES = 64, 8
"""Places of an image that are looked at for whether they add up, and how many must say something."""

SHORT_OF_ALL, LEAST_WHOLE, MOST_ADD_UP = 0.8, 3, 0.9
"""An image ends early that holds nothing behind this share of the others; how many others there must be at least; and
the share of places that must add up."""

KIND = "grown"
"""The kind of evidence that speaks for it."""


def with_former(pile: Pile, found: Solution, tell: Tell) -> Solution:
    """The arrays, those that were growing with both of their layouts; of one that was found in its former layout, the
    images that were added to it are among those that belong to none."""
    arrays, unused, known = list(found.arrays), list(found.unused), _Known(pile)
    for number, array in enumerate(arrays):
        if array.former is not None or array.geometry.layout.level not in GROWING:
            continue
        tell("whether it was growing")
        grown = next((g for one in _wider(pile, array, unused) if (g := _grown(known, one))), None)
        if grown is not None:
            arrays[number] = grown
            unused = [name for name in unused if name not in grown.members]
    return replace(found, arrays=tuple(arrays), unused=tuple(unused), bytes_read=pile.bytes_read)


def begun_in_front(pile: Pile, search: Search, tell: Tell) -> Solution | None:
    """What a pile of which some images end long before the others says in front of where they end, if the others add up
    without them behind it: arrays that had begun to grow. None where that is not so, or nothing comes of it.

    What stands behind is in another layout, and what both say together fits none.
    """
    border = _alone_behind(pile)
    if border is None:
        return None
    tell("some images end before the others, which match without them: what stands before is looked at")
    front = seen_between(pile, range(len(pile)), 0, border, search)
    arrays, known = [], _Known(pile)
    for array in front.arrays:
        if array.geometry.layout.level not in GROWING:
            return None
        there = [pile.sources[pile.names.index(name)].size for name in array.seated if name is not None]
        start_bytes = array.geometry.start_bytes
        made = resized(array.geometry, start_bytes, [min(there) - start for start in start_bytes])
        whole = replace(array, geometry=made)
        grown = next((g for one in _wider(pile, whole, ()) if (g := _grown(known, one))), None)
        if grown is None or grown.strength == "undecided":
            return None
        arrays.append(grown)
    note = ("slices", f"an array was growing, and had come to about byte {border} of its images")
    return replace(front, arrays=tuple(arrays), trace=(*front.trace, note)) if arrays else None


def _alone_behind(pile: Pile) -> int | None:
    """Where some images hold the last they hold, if all of them add up before it and the others alone behind it."""
    ends = [max((b for _a, b in pile.data(i)), default=0) for i in range(len(pile))]
    most = max(ends, default=0)
    whole = [i for i, end in enumerate(ends) if end > SHORT_OF_ALL * most]
    border = max((end for i, end in enumerate(ends) if i not in whole), default=0)
    if len(whole) < LEAST_WHOLE or not 0 < border <= SHORT_OF_ALL * most:
        return None
    held = {i: [at for at in _spread(pile.data(i), GLANCES) if pile.blocks(i, at, 1).any()] for i in range(len(pile))}
    behind = sorted({at for i in whole for at in held[i] if at >= border})
    before = sorted({at for i in held if i not in whole for at in held[i]})
    return border if _add_up(pile, whole, behind) and _add_up(pile, list(held), before) else None


def _add_up(pile: Pile, images: Sequence[int], places: Sequence[int]) -> bool:
    """Whether what some images hold adds up to nothing, at most of the places at which two of them hold something."""
    told = []
    for at in places[:: max(1, len(places) // GLANCES)]:
        cells = pile.column(at, [i for i in images if at + BLOCK <= pile.sources[i].size])
        if cells.any(axis=1).sum() > 1:
            told.append(not np.bitwise_xor.reduce(cells).any())
    return len(told) >= LEAST_PLACES and sum(told) >= MOST_ADD_UP * len(told)


def grew(pile: Pile, array: Lineup) -> bool:
    """Whether members were being added to an array, of those that it has."""
    growing, known = array.geometry.layout.level in GROWING, _Known(pile)
    return growing and any(_grown(known, one) is not None for one in _wider(pile, array, ()))


def _wider(pile: Pile, array: Lineup, unused: Sequence[str]) -> Iterator[tuple[Lineup, int]]:
    """An array as it may be now, and how many members it had before; as it was found first."""
    step = array.geometry.layout.copies if array.geometry.layout.level == "RAID10" else 1
    for added in range(step, MOST_ADDED * step + 1, step):
        if array.geometry.members - added >= 2:
            yield array, array.geometry.members - added
    free = [name for name in unused if pile.data(pile.names.index(name))]
    for added in (step, 2 * step):
        for names in permutations(free, added) if len(free) ** added <= MOST_TRIED**2 else ():
            wider = _with_more(pile, array, names)
            if wider is not None:
                yield wider, array.geometry.members


def _with_more(pile: Pile, array: Lineup, names: Sequence[str]) -> Lineup | None:
    made = array.geometry
    start = made.start_bytes[-1]
    sizes = [pile.sources[pile.names.index(name)].size - start for name in names]
    starts = [*made.start_bytes, *(start for _name in names)]
    try:
        more = resized(made, starts, [*made.member_bytes, *sizes])
    except GeometryError:
        return None
    return replace(array, geometry=more, members=(*array.members, *names))


@dataclass
class _Known:
    """A pile, and the structures on it, which are looked for once and only where that may tell something."""

    pile: Pile

    @cached_property
    def structures(self) -> Structures | None:
        """None where the search has taken long already."""
        return structures_on(self.pile) if self.pile.effort.left() else None


@dataclass
class _Twice:
    """A volume in two layouts over the same images, to be compared block by block."""

    new: Geometry
    old: Geometry
    images: Sequence[BlockSource | None]
    read: int = 0

    def block(self, made: Geometry, at: int) -> npt.NDArray[np.uint8] | None:
        """A block of the volume as it stands on a member; None where that cannot be read."""
        member, offset = (int(x) for x in made.to_member(at))
        image, data = self.images[member], np.empty(BLOCK, np.uint8)
        if image is None or offset + data.size > image.size:
            return None
        try:
            image.read_into(offset, data)
        except BlockSourceError:
            return None
        self.read += data.size
        return data

    def alike(self, at: int) -> tuple[bool, bytes] | None:
        """Whether a block of the volume is the same in both layouts, and what it is; None where it says nothing."""
        if at + BLOCK > min(self.new.volume_bytes, self.old.volume_bytes):
            return None
        here, there = self.block(self.new, at), self.block(self.old, at)
        if here is None or there is None or not (here.any() or there.any()):
            return None
        return bool((here == there).all()), here.tobytes()

    def row(self, number: int) -> bool | None:
        """Whether what a row holds is the same in both; None where it says nothing."""
        per_row, strip = self.per_row(self.new), self.new.strip_bytes
        told = None
        for at in range(number * per_row, (number + 1) * per_row, strip):
            one = self.alike(at) or self.alike(at + strip // BLOCK // 2 * BLOCK)
            if one is not None and not one[0]:
                return False
            told = told or (one is not None)
        return told or None

    @staticmethod
    def per_row(made: Geometry) -> int:
        return made.pattern.strips // made.pattern.rows * made.strip_bytes


def _grown(known: _Known, wider: tuple[Lineup, int]) -> Lineup | None:
    """An array with its former layout, where it was growing."""
    array, before = wider
    pile, made = known.pile, array.geometry
    try:
        old = without(made, range(before))
    except GeometryError:
        return None
    images = [None if n is None else pile.sources[pile.names.index(n)] for n in array.seated]
    twice = _Twice(made, old, images)
    meeting = _twice_there(twice) or _told_by_structures(known, array, old)
    pile.bytes_read += twice.read
    if meeting is None:
        return None
    evidence = Evidence(KIND, meeting.count, meeting.what, images=before, row=meeting.row)
    found = replace(array, former=Former(old, tuple(range(before)), meeting.row), evidence=(*array.evidence, evidence))
    return _as_proven(found, meeting)


def _as_proven(array: Lineup, meeting: _Meeting) -> Lineup:
    """An array with what the meeting of its layouts proves: no order but the right one, from no start but the right
    one, puts blocks of every member in their place in both layouts. How Q counts takes no part in that."""
    order, start = array.verdicts.order, array.verdicts.start
    bare = array.geometry.layout.rotation is None  # without parity an added member may be empty where others are not
    if meeting.untold and bare:
        order = Verdict(Sure.UNDECIDED, Reason.RIVAL)
    elif order.sure is Sure.CERTAIN and (meeting.untold or (None in array.members and not meeting.proves)):
        # where a member is missing, parity tests no row of the wider layout: a copy of a part of the volume lay beside
        order = Verdict(Sure.PROBABLE, Reason.RIVAL)
    if not meeting.proves:
        return replace(array, verdicts=replace(array.verdicts, order=order))
    proven = Verdict(Sure.CERTAIN, Reason.TWICE, count=meeting.count)
    order = order if order.sure is Sure.CERTAIN or order.reason is Reason.Q_RULE else proven
    start = start if start.sure is Sure.CERTAIN else proven
    whole = order.sure is Sure.CERTAIN
    return replace(
        array, verdicts=replace(array.verdicts, order=order, start=start), settle=None if whole else array.settle,
        alternatives=() if whole else array.alternatives,
    )  # fmt: skip


@dataclass(frozen=True)
class _Meeting:
    """Where two layouts meet.

    row     the first one that still stands in the former layout; count: facts that say so; what: they are
    untold  whether rows that hold data stand between, of which nothing says in which layout
    proves  whether blocks of every member stand where both layouts put them, and none elsewhere
    """

    row: int
    count: int
    what: What
    untold: bool = False
    proves: bool = False


def _told_by_structures(known: _Known, array: Lineup, old: Geometry) -> _Meeting | None:
    """Where the added members hold the last they hold, if structures behind it stand right in the former layout only,
    and before it in the new one. Where a volume is nearly empty, nothing may stand twice."""
    pile, made = known.pile, array.geometry
    rows = [
        _rows_held(pile, name, start, made.strip_bytes)
        for name, start in zip(array.seated, made.start_bytes, strict=True)
    ]
    border = max((int(held[-1]) + 1 for held in rows[old.members :] if len(held)), default=0)
    behind = np.unique(np.concatenate([held[held >= border] for held in rows[: old.members]]))
    if not border or len(behind) < LEAST_ROWS or known.structures is None:
        return None
    images = [pile.names.index(n) if n is not None else None for n in array.seated]
    new_only, old_only = rows_told(made, old, images, known.structures)
    count, wrong = int((old_only >= border).sum()), int((new_only >= border).sum())
    before, early = int((new_only < border).sum()), int((old_only < border).sum())
    if min(count, before) < LEAST_STRUCTURES or wrong > MOST_OTHER * count or early > MOST_OTHER * before:
        return None
    untold = bool((behind < int(old_only[old_only >= border].min())).any())
    return _Meeting(border, count, What.FORMER_STRUCTURES, untold)


def _rows_held(pile: Pile, name: str | None, start: int, strip: int) -> npt.NDArray[np.int64]:
    """The rows in which an image holds data, ascending."""
    ranges = [] if name is None else pile.data(pile.names.index(name))
    rows = [np.arange(max(0, a - start) // strip, -(-(b - start) // strip)) for a, b in ranges if b > start]
    return np.unique(np.concatenate(rows)) if rows else np.empty(0, np.int64)


def _twice_there(twice: _Twice) -> _Meeting | None:
    """Where what stands in both layouts ends."""
    per_row = twice.per_row(twice.new)
    share = twice.per_row(twice.old) / per_row
    held = _held(twice)
    told = [(at // per_row, one) for at in _spread(held, SAMPLES) if (one := twice.alike(at)) is not None]
    hits = [row for row, (same, _data) in told if same]
    for row in hits[: -MOST_TRIED - 1 : -1]:
        above = min((r for r, (same, _d) in told if not same and r > row), default=twice.new.rows)
        border = _exactly(twice, row, above)
        just_before = clip(held, (int(border * share) + 1) * per_row, border * per_row)
        count, proves = _confirmed(twice, just_before)
        if count >= LEAST_TWICE:
            return _Meeting(border, count, What.TWICE_THERE, proves=proves)
    return None


def _held(twice: _Twice) -> list[Range]:
    """Where the volume in its new layout holds data, in whole rows."""
    held = list[Range]()
    per_row, strip = twice.per_row(twice.new), twice.new.strip_bytes
    for image, start in zip(twice.images, twice.new.start_bytes, strict=True):
        for a, b in image.data_ranges(start, start + twice.new.rows * strip) if image is not None else ():
            held.append(((a - start) // strip * per_row, -(-(b - start) // strip) * per_row))
    return union(held)


def _spread(ranges: Sequence[Range], count: int) -> list[int]:
    """Blocks spread over ranges, each somewhere in its share of them."""
    whole = total(ranges)
    rng = np.random.default_rng(whole)
    wanted = np.sort((np.arange(count) + rng.random(count)) * whole / count).astype(np.int64)
    edges = np.cumsum([0, *(b - a for a, b in ranges)])
    found = []
    for at in wanted.tolist() if whole else ():
        index = int(np.searchsorted(edges, at, side="right")) - 1
        found.append((ranges[index][0] + at - int(edges[index])) // BLOCK * BLOCK)
    return list(dict.fromkeys(found))


def _exactly(twice: _Twice, low: int, high: int) -> int:
    """The first row from which on the layouts hold something else; empty rows are the same. low: a row in which they
    are the same; high: one in which they are not, or that there is not."""
    while high - low > EXACT_ROWS:
        middle = (low + high) // 2
        told = next((t for row in range(middle, min(high, middle + 16)) if (t := twice.row(row)) is not None), None)
        low, high = (low, middle) if told is False else (middle, high)
    return next((row for row in range(low + 1, high) if twice.row(row) is False), high)


def _confirmed(twice: _Twice, ranges: Sequence[Range]) -> tuple[int, bool]:
    """How many blocks that are like no other stand in both layouts, of what is just before a border, where all must, 0
    where too many do not; and whether none does not, and every member has some of them in either layout.

    A growth writes over what its members held before: on those the blocks must stand. An image that was taken for an
    added member may be a copy of a part of the volume, and is where two layouts meet by chance."""
    told = [(at, one) for at in _spread(ranges, CONFIRMED) if (one := twice.alike(at))]
    often = Counter(data for _at, (_alike, data) in told)  # what repeats stands in any two layouts
    same = [at for at, (alike, data) in told if alike and often[data] == 1]
    wrong = sum(not alike for _at, (alike, _d) in told)
    places = np.array(same, np.int64)
    written_over = twice.new.to_member(places)[0] < twice.old.members
    if written_over.sum() < LEAST_TWICE or wrong > MOST_OTHER * len(told):
        return 0, False
    covered = all(
        np.bincount(made.to_member(places)[0], minlength=made.members).min() >= LEAST_ON_EACH
        for made in (twice.new, twice.old)
    )
    return len(same), covered and not wrong
