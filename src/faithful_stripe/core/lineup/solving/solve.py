"""Solving a pile: samples, evidence, hypotheses, proof, verdict, in that order."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from ...ranges import total
from ..document.four_verdicts import Reason
from ..document.known import OPEN, Given, concerned, only_as_given, with_start
from ..document.lineup_document import Lineup, Solution
from ..document.told_facts import Note, Remark, Settle, Settles
from ..evidence.membership import CHECKS, PLAIN_SHARE
from ..full_pass.soundness import FULL_BYTES, tested
from ..hypotheses.pile_table import (
    STOCK_BYTES,
    WEAK_SHARE,
    Table,
    clusters,
    lay_out,
    loose_images,
)
from ..reading.samples import Pile, Tell, silent
from ..structures.anchors import Anchors
from ..structures.superblock_scan import find_heads
from ..verdict.missing_slot import PARITY_LEVELS
from ..verdict.volume_reading import MARGIN_NATS, TOTAL_NATS
from .cluster import Cluster
from .grown import begun_in_front, with_former
from .one_array import solve_cluster
from .parity_moves import with_parity_moves
from .part_copies import without_part_copies
from .recounted import with_other_parity
from .slices import with_slices
from .span import conclude_span
from .starts_apart import moved, moved_back, starts_apart
from .sureness import as_measured, standing_in, surer

FIRST_BYTES = 12 << 20
"""What is read of a pile with plenty of data at first: when that makes everything certain, no more is."""

FIRST_SHARE = 0.07
"""Of the time for a search, what may be used up by the end of that: a doubt is for more reading, not for layouts that
are less likely. An ext4 of 8 GiB was left at "probable" when the time was spent on what little had been read. Chosen:
where a first look is enough, it took 1 to 2.5 seconds."""

STOPPED, STOPPED_EARLY, GAVE_UP = (Note(one) for one in (Remark.STOPPED, Remark.STOPPED_EARLY, Remark.GAVE_UP))


def solve(pile: Pile, tell: Tell = silent, full: bool = False) -> Solution:
    """Find the arrays in a pile, and test what was found by reading all of it, where that is asked for or little.

    tell  is told what is being looked at, for a person who waits
    full  whether everything that holds data is read in any case
    """
    found = _begun(pile, tell) or _recounted(pile, tell) or find_arrays(pile, tell)
    if not stopped(found) and not found.parities:
        try:
            found = with_slices(pile, found, lambda part: find_arrays(part, tell), tell)
            found = with_former(pile, found, tell)
            found = with_other_parity(pile, found, lambda part: find_arrays(part, tell), tell)
            if not found.parities:
                found = with_parity_moves(pile, found, tell)
        except KeyboardInterrupt:
            found = replace(found, notes=(*found.notes, STOPPED))
    if pile.effort.gave_up and not _certain(found):
        found = replace(found, notes=(*found.notes, GAVE_UP))
    if stopped(found):
        return found
    held = sum(total(pile.data(image)) for image in range(len(pile)))
    made = list(found.arrays)
    try:
        for number, array in enumerate(made):
            if (full or held <= FULL_BYTES) and array.strength != "undecided":
                sources = [None if n is None else pile.sources[list(pile.names).index(n)] for n in array.seated]
                made[number], read = tested(array, sources, tell, seal=True)
                pile.bytes_read += read
    except KeyboardInterrupt:
        found = replace(found, notes=(*found.notes, STOPPED))
    return replace(found, arrays=tuple(as_measured(array) for array in made), bytes_read=pile.bytes_read)


def _begun(pile: Pile, tell: Tell) -> Solution | None:
    """The arrays of a pile that had begun to grow."""
    try:
        return begun_in_front(pile, lambda part: find_arrays(part, tell), tell) if pile.given is None else None
    except KeyboardInterrupt:
        return None


def _recounted(pile: Pile, tell: Tell) -> Solution | None:
    """What all images of a pile make, or all but one, where they have P and a second parity that is not ours."""
    try:
        found = with_other_parity(
            pile, Solution((), tuple(pile.names)), lambda part: find_arrays(part, tell), tell, False
        )
    except KeyboardInterrupt:
        return None
    return found if found.arrays or found.parities else None


def solve_given(pile: Pile, given: Given, tell: Tell = silent, full: bool = False) -> Solution:
    """The same, with what a person knows of an array held against it.

    Where the images by themselves say so, too, that is the answer. Where they do not, they are searched once more with
    it fixed; what comes of that is at most probable, and both are told.
    """
    free = solve(pile, tell, full)
    one = concerned(given, free.arrays)
    differ = given.differences(one) if one is not None else ()
    if (one is not None and not differ) or stopped(free):
        settled = tuple(with_start(a, given) if a is one and not differ else a for a in free.arrays)
        return replace(free, arrays=settled, given=given, differences=differ)
    tell("once more, with what is given")
    closed = given.order and OPEN not in given.order  # then no other image takes part
    some = [i for i, name in enumerate(pile.names) if not closed or name in given.order]
    held = solve(Pile([pile.names[i] for i in some], [pile.sources[i] for i in some], given=given), tell, full)
    read = free.bytes_read + held.bytes_read
    other = concerned(given, held.arrays)
    if other is None or given.differences(other):
        left = given.differences(one) if one is not None else ()
        return replace(free, given=given, differences=left, unmet=True, bytes_read=read)
    arrays = tuple(only_as_given(a, given) if a is other else a for a in held.arrays)
    told = differ if one is not None and one.verdicts.placing != "undecided" else ()
    unused = held.unused + tuple(name for i, name in enumerate(pile.names) if i not in some)
    return replace(held, arrays=arrays, unused=unused, given=given, differences=told, bytes_read=read)


def find_arrays(pile: Pile, tell: Tell = silent) -> Solution:
    """The arrays in a pile by what samples of it tell."""
    try:
        found = without_part_copies(pile, lambda part: _by_samples(part, tell), stopped, tell)
    except KeyboardInterrupt:
        return Solution((), tuple(pile.names), pile.bytes_read, (STOPPED_EARLY,))
    return found or _by_samples(pile, tell)


def _by_samples(pile: Pile, tell: Tell) -> Solution:
    if sum(b - a for image in range(len(pile)) for a, b in pile.data(image)) > STOCK_BYTES:
        with pile.effort.within(FIRST_SHARE):
            found = solve_within(pile, tell, FIRST_BYTES)
        if stopped(found) or (_certain(found) and not any(a.stale for a in found.arrays)):
            return found if stopped(found) else _and_the_rest(pile, found, tell)
        if found.arrays and not pile.effort.left():
            return found
        first = found
        pile.effort.gave_up = False  # what was left untried is tried with more
        try:
            tell("more is read")
            found = solve_within(pile, tell, STOCK_BYTES)
        except KeyboardInterrupt:
            return replace(first, notes=(*first.notes, STOPPED))
        if stopped(found) and not found.arrays:  # what the first part told is the best that is known
            return replace(first, notes=(*first.notes, STOPPED)) if first.arrays else found
    else:
        found = solve_within(pile, tell, STOCK_BYTES)
    if _certain(found) or stopped(found) or (found.arrays and not pile.effort.left()):
        return found
    try:
        more = find_heads(pile, STOCK_BYTES, tell)
    except KeyboardInterrupt:
        return replace(found, notes=(*found.notes, STOPPED))
    if not more:
        return found
    tell("what stands beside the heads that were found is read, too")
    again = solve_within(pile, tell, STOCK_BYTES)
    return again if again.arrays or not stopped(again) else found


def _certain(found: Solution) -> bool:
    return bool(found.arrays) and all(a.strength == "certain" for a in found.arrays)


def stopped(found: Solution) -> bool:
    """Whether the search was ended before its end."""
    return bool({STOPPED, STOPPED_EARLY} & set(found.notes))


def _and_the_rest(pile: Pile, found: Solution, tell: Tell) -> Solution:
    """What was found first, and the arrays that the images left over make, looked at closely."""
    rest = [i for i in range(len(pile)) if pile.names[i] in found.unused and pile.data(i)]
    if len(rest) < 2:
        return found
    tell("more is read of what is left over")
    left = Pile([pile.names[i] for i in rest], [pile.sources[i] for i in rest], effort=pile.effort)
    more = solve_within(left, tell, STOCK_BYTES)
    pile.bytes_read += left.bytes_read
    used = {m for a in more.arrays for m in [*a.members, *a.stale]}
    return Solution(
        found.arrays + more.arrays, tuple(n for n in found.unused if n not in used), pile.bytes_read,
        found.notes + more.notes, found.trace + more.trace,
    )  # fmt: skip


def solve_within(pile: Pile, tell: Tell, budget: int, moved_already: bool = False) -> Solution:
    """The arrays in a pile by what about `budget` bytes of it tell.

    moved_already  whether the images are seen from where their data start
    """
    try:
        table = lay_out(pile, tell, budget)
    except KeyboardInterrupt:
        return Solution((), tuple(pile.names), pile.bytes_read, (STOPPED_EARLY,))
    found = _on_the_table(table, tell, budget, moved_already)
    firm = [g for g in table.groups if g.closing >= FIRM_SHARE * g.blocks and not g.until]
    open_ = all(a.strength == "undecided" for a in found.arrays)
    if len(firm) == len(table.groups) or not open_ or stopped(found) or pile.given or not pile.effort.left():
        return found
    table.note("evidence", "those that are related in a part of the places only may belong elsewhere: without them")
    again = _on_the_table(replace(table, groups=firm, shared={}, best=None), tell, budget, moved_already)
    if _surer(again, found):
        return again
    notes = (*found.notes, STOPPED) if stopped(again) else found.notes
    return replace(found, bytes_read=pile.bytes_read, notes=notes, trace=tuple(table.trace))


FIRM_SHARE = 0.75
"""Of the places at which a group holds data, those at which it closes where it is no matter of doubt. One that closes
less often, or as far as somewhere only, may be what is left of another array of some of its members."""


def _surer(one: Solution, other: Solution) -> bool:
    """Whether a solution has an answer where another one has none, or no answer that speaks much more clearly."""
    best = max((a.best for a in other.arrays), default=0.0)
    return any(a.strength != "undecided" or a.best > best + MARGIN_NATS for a in one.arrays)


def _on_the_table(table: Table, tell: Tell, budget: int, moved_already: bool) -> Solution:
    """The arrays that what is on the table tells of."""
    pile = table.pile
    found: list[Lineup] = []
    taken: set[int] = set()
    notes: list[Note] = []

    def keep(made: Lineup, mine: Iterable[int] = range(len(pile))) -> None:
        """An answer that is undecided takes those images only that were its own, and with them whole groups on which
        nothing says that they are not the rest of it: not what it was filled up with."""
        found.append(made)
        seated = {pile.names.index(m) for m in [*made.members, *made.stale] if m is not None}
        named = {i for a in table.anchors if not a.ground.guessed for i in a.image.tolist()}
        rest = [set(g.images) for g in table.groups if seated >= set(g.images) and not named & set(g.images)]
        own = set(mine).union(*rest)
        taken.update(seated & own if made.strength == "undecided" else seated)

    try:
        waiting = clusters(table)
        while waiting:
            images, grounds = waiting.pop(0)
            table.best = None
            twin = _by_itself(table, images - taken, grounds, taken)
            if twin is not None:
                keep(twin)
                waiting.insert(0, (images - taken, grounds))
                continue
            made = solve_cluster(Cluster(table, images - taken, grounds, taken))
            beyond = made is not None and made.strength == "undecided" and not _names(pile, images) >= set(made.members)
            if made is not None and beyond and pile.effort.left():
                again = solve_cluster(Cluster(table, images - taken, grounds, taken, alone=True))
                made = again if again is not None and _better(again, made) else made
            if made is not None and (_doubtful(made) or _too_many(table, made)) and pile.effort.left():
                again = _related_alone(table, images - taken, grounds, taken)
                fine = again is not None and not _doubtful(again)
                made = again if again is not None and fine and (_doubtful(made) or surer(again, made)) else made
            unsure = not moved_already and (made is None or made.strength != "certain")
            if unsure and pile.effort.left():
                apart = _apart(table, images - taken, grounds, taken, tell, budget)
                made = apart if apart is not None and (made is None or surer(apart, made)) else made
            if made is not None:
                before = len(taken)
                keep(made, images)
                left = images - taken
                if len(taken) > before and any(set(g.images) <= left for g in table.groups):
                    waiting.insert(0, (left, grounds))  # another array that bears the same file system
        for made in _spans_left(table, taken):
            keep(made)
        found[:] = _perhaps_striped(found)
        rest = loose_images(table, taken)
        if len(rest) > (2 if found else 1):
            grounds = [a for a in table.anchors if a.ground.bound() and a.ground.bound() <= set(rest)]
            made = solve_cluster(Cluster(table, set(rest), grounds, taken))
            if made is not None and (made.strength != "undecided" or not found):
                keep(made)
    except KeyboardInterrupt:
        notes.append(STOPPED)
        if table.best is not None and not taken & {pile.names.index(m) for m in table.best.members if m is not None}:
            keep(table.best)
    found[:] = _each_in_one(found)
    seated = {m for a in found for m in [*a.members, *a.stale]}
    unused = tuple(name for name in pile.names if name not in seated)
    if pile.unreadable:
        notes.append(Note(Remark.UNREADABLE, count=pile.unreadable))
    return Solution(tuple(found), unused, pile.bytes_read, tuple(notes), tuple(table.trace))


def _each_in_one(found: Sequence[Lineup]) -> list[Lineup]:
    """The arrays, each image in one of them: where an undecided one was filled up with what is found to be another's,
    those places are empty."""
    made: list[Lineup] = []
    for array in sorted(found, key=lambda a: a.strength == "undecided"):
        others = {m for a in made for m in (*a.members, *a.stale)}
        if array.strength == "undecided" and others & {m for m in array.members if m}:
            array = replace(array, members=tuple(None if m in others else m for m in array.members))
        made.append(array)
    return sorted(made, key=lambda a: [b.best for b in found].index(a.best))


def _by_itself(table: Table, images: set[int], grounds: Sequence[Anchors], taken: set[int]) -> Lineup | None:
    """The certain lineup of a group that closes by itself and has room for all of a file system that others bear, too:
    volumes that were copied from array to array. Spans have no room for it."""
    closed = [
        g for g in table.groups
        if set(g.images) <= images and g.kind in ("sum", "two") and not g.until and g.closing >= PLAIN_SHARE * g.blocks
    ]  # fmt: skip
    for group in closed if not table.pile.given else []:
        if set(group.images) == images:
            continue
        theirs = [a for a in grounds if not a.ground.bound() or a.ground.bound() & set(group.images)]
        need = max((a.ground.size for a in theirs if not a.ground.guessed), default=0)
        members = len(group.images) - CHECKS[group.kind]
        room = members * min(table.pile.sources[i].size for i in group.images)
        if need and need <= room:
            made = solve_cluster(Cluster(table, set(group.images), theirs, taken, alone=True))
            if made is not None and made.strength == "certain":
                return made
    return None


def _doubtful(made: Lineup) -> bool:
    """Whether nothing came of a cluster: no decision, or an array with parity of which half the members are missing."""
    gone = sum(m is None for m in made.members)
    return made.strength == "undecided" or (
        made.geometry.layout.level in PARITY_LEVELS and 2 * gone >= len(made.members)
    )


def _too_many(table: Table, made: Lineup) -> bool:
    """Whether an answer that is not certain counts more images to one span than those whose parity closes without
    them."""
    inside = {table.pile.names.index(m) for m in made.members if m is not None}
    closed = [set(g.images) for g in table.groups if g.kind in ("sum", "two") and g.closing >= WEAK_SHARE * g.blocks]
    single = made.geometry.layout.level in PARITY_LEVELS and made.geometry.layout.spans == 1
    return made.strength != "certain" and single and any(images < inside for images in closed)


def _related_alone(table: Table, images: set[int], grounds: Sequence[Anchors], taken: set[int]) -> Lineup | None:
    """The lineup of the related images of a cluster; others that bear the same file system may be copies of a part of
    the volume."""
    related = {i for g in table.groups if set(g.images) <= images for i in g.images}
    if not related or related == images:
        return None
    theirs = [a for a in grounds if a.ground.table or not a.ground.bound() or a.ground.bound() & related]
    made = solve_cluster(Cluster(table, related, theirs, taken, alone=True))
    if made is None or _doubtful(made):  # beside others that are related, too
        made = solve_cluster(Cluster(table, related, theirs, taken))
    return made


def _apart(
    table: Table, images: set[int], grounds: Sequence[Anchors], taken: set[int], tell: Tell, budget: int
) -> Lineup | None:  # fmt: skip
    """The lineup of images whose data start at different places, where their structures say so."""
    files = [g for g in grounds if not g.ground.table]
    starts = sorted({s for g in grounds for s in g.ground.starts})
    grouped = {i for g in table.groups for i in g.images}
    apart = starts_apart(images, files, starts) if images - grouped else {}
    if not apart:
        return None
    table.note("evidence", f"data start so many bytes later on some than on others: {sorted(apart.values())}")
    pile = moved(table.pile, apart)
    arrays = solve_within(pile, tell, budget, True).arrays
    table.pile.bytes_read += pile.bytes_read
    names, others = _names(table.pile, apart), _names(table.pile, taken) - {None}
    free = [a for a in arrays if not others & {*a.members, *a.stale}]
    best = max(free, key=lambda a: len(names & set(a.members)), default=None)
    return moved_back(best, table.pile, apart) if best is not None else None


def _spans_left(table: Table, taken: set[int]) -> Iterator[Lineup]:
    """Spans of which only one image bears structures of a file system: it is larger than that image."""
    tables = [a for a in table.anchors if a.ground.table]
    for anchors in table.anchors:
        bound = anchors.ground.bound()
        if len(bound) == 1 and not bound & taken and not anchors.ground.table and not anchors.ground.guessed:
            made = conclude_span(table, bound, [anchors], tables, taken)
            if made is not None and made.strength != "undecided":
                yield made
                return


def _perhaps_striped(found: list[Lineup]) -> list[Lineup]:
    """Several mirrors of one size on which nothing stands in its place may be the sets of one RAID 10 as well."""
    alike = [
        a for a in found
        if a.geometry.layout.level == "RAID1" and a.strength == "probable" and not standing_in(a, ("anchors",))
    ]  # fmt: skip
    shapes = Counter((a.geometry.members, a.geometry.member_bytes[0] >> 24) for a in alike)
    return [
        replace(a, verdicts=a.verdicts.doubted(Reason.RIVAL), settle=Settles(Settle.PERHAPS_SETS))
        if a in alike and shapes[a.geometry.members, a.geometry.member_bytes[0] >> 24] > 1 else a
        for a in found
    ]  # fmt: skip


def _better(alone: Lineup, wider: Lineup) -> bool:
    """Whether an answer over fewer images takes the place of an undecided one over more of them."""
    doubtful = alone.strength != "undecided" and wider.best < 2 * TOTAL_NATS
    return alone.strength == "certain" or doubtful or alone.best > wider.best


def _names(pile: Pile, images: Iterable[int]) -> set[str | None]:
    return {None, *(pile.names[i] for i in images)}
