"""Solving a pile: samples, evidence, hypotheses, proof, verdict, in that order."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from ...ranges import total
from ..document.calibration import measured
from ..document.four_verdicts import Reason, Sure
from ..document.known import OPEN, Given, concerned, only_as_given
from ..document.lineup_document import Lineup, Solution
from ..full_pass.soundness import FULL_BYTES, tested
from ..hypotheses.assignment import Hypothesis, make_ballot
from ..hypotheses.candidate import candidates, rare_layouts
from ..hypotheses.fixed_points import candidates_given
from ..hypotheses.options import PLENTY_FACTS, options_of, with_borders
from ..hypotheses.pile_table import (
    STOCK_BYTES,
    USUAL_STARTS,
    WEAK_SHARE,
    Table,
    anything_before,
    clusters,
    guessed_starts,
    lay_out,
    loose_images,
)
from ..hypotheses.search import Entry, search
from ..hypotheses.votes import (
    ROUND,
    STRANGER_NATS,
    base_of_order,
    bases_into_rows,
    bases_of,
    entry_of,
    moved_bases,
    row_shifts,
    split,
    with_prior,
)
from ..reading.samples import Pile, Tell, silent
from ..structures.anchors import Anchors
from ..structures.partition_starts import COMMON_STARTS
from ..structures.superblock_scan import find_heads
from ..verdict.finishing import members_only
from ..verdict.missing_slot import PARITY_LEVELS
from ..verdict.volume_reading import FILES_FAIL, FILES_HOLD, MARGIN_NATS, TOTAL_NATS
from ..verdict.weighing import conclude
from .grown import begun_in_front, grew, with_former
from .mirrors import conclude_mirror
from .rare import q_does_not_match, takes_its_place
from .recounted import with_other_parity
from .slices import with_slices
from .span import conclude_span, unstriped, whole_on
from .starts_apart import moved, moved_back, starts_apart

FIRST_BYTES = 12 << 20
"""What is read of a pile with plenty of data at first: when that makes everything certain, no more is."""

STOPPED = "stopped before its end: what was known until then is above"
GAVE_UP = "it took long, so less likely layouts were not tried: what is known helps (--level, --strip, --start, --not)"
STOPPED_EARLY = "stopped while the images were read: nothing is known yet"


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


def as_measured(array: Lineup) -> Lineup:
    """An order that is likely but not proven is probable only where, of those on such signs, enough were right when
    that was measured. What is looked for until then does not depend on it."""
    verdicts = array.verdicts
    if array.chance is None or verdicts.order.sure is not Sure.PROBABLE or array.chance >= measured().least:
        return array
    order, start = (replace(one, sure=Sure.UNDECIDED) for one in (verdicts.order, verdicts.start))
    return replace(array, verdicts=replace(verdicts, order=order, start=start))


def solve_given(pile: Pile, given: Given, tell: Tell = silent, full: bool = False) -> Solution:
    """The same, with what a person knows of an array held against it.

    Where the images by themselves say so, too, that is the answer. Where they do not, they are searched once more with
    it fixed; what comes of that is at most probable, and both are told.
    """
    free = solve(pile, tell, full)
    one = concerned(given, free.arrays)
    differ = given.differences(one) if one is not None else ()
    if (one is not None and not differ) or stopped(free):
        return replace(free, given=given, differences=differ)
    tell("once more, with what is given")
    closed = given.order and OPEN not in given.order  # then no other image takes part
    some = [i for i, name in enumerate(pile.names) if not closed or name in given.order]
    held = solve(Pile([pile.names[i] for i in some], [pile.sources[i] for i in some], given=given), tell, full)
    read = free.bytes_read + held.bytes_read
    other = concerned(given, held.arrays)
    if other is None or given.differences(other):
        left = given.differences(one) if one is not None else ()
        return replace(free, given=given, differences=left, unmet=True, bytes_read=read)
    arrays = tuple(only_as_given(a) if a is other else a for a in held.arrays)
    told = differ if one is not None and one.verdicts.placing != "undecided" else ()
    unused = held.unused + tuple(name for i, name in enumerate(pile.names) if i not in some)
    return replace(held, arrays=arrays, unused=unused, given=given, differences=told, bytes_read=read)


def find_arrays(pile: Pile, tell: Tell = silent) -> Solution:
    """The arrays in a pile by what samples of it tell."""
    if sum(b - a for image in range(len(pile)) for a, b in pile.data(image)) > STOCK_BYTES:
        found = solve_within(pile, tell, FIRST_BYTES)
        if stopped(found) or (_certain(found) and not any(a.stale for a in found.arrays)):
            return found if stopped(found) else _and_the_rest(pile, found, tell)
        if found.arrays and not pile.effort.left():
            return found
        first = found
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
    found: list[Lineup] = []
    taken: set[int] = set()
    notes: list[str] = []

    def keep(made: Lineup, mine: Iterable[int] = range(len(pile))) -> None:
        """An answer that is undecided takes those images only that were its own, not what it was filled up with."""
        found.append(made)
        seated = {pile.names.index(m) for m in [*made.members, *made.stale] if m is not None}
        taken.update(seated & set(mine) if made.strength == "undecided" else seated)

    try:
        for images, grounds in clusters(table):
            table.best = None
            made = solve_cluster(table, images - taken, grounds, taken)
            beyond = made is not None and made.strength == "undecided" and not _names(pile, images) >= set(made.members)
            if made is not None and beyond and pile.effort.left():
                again = solve_cluster(table, images - taken, grounds, taken, alone=True)
                made = again if again is not None and _better(again, made) else made
            if made is not None and (_doubtful(made) or _too_many(table, made)) and pile.effort.left():
                again = _related_alone(table, images - taken, grounds, taken)
                fine = again is not None and not _doubtful(again)
                made = again if again is not None and fine and (_doubtful(made) or _surer(again, made)) else made
            unsure = not moved_already and (made is None or made.strength != "certain")
            if unsure and pile.effort.left():
                apart = _apart(table, images - taken, grounds, taken, tell, budget)
                made = apart if apart is not None and (made is None or _surer(apart, made)) else made
            if made is not None:
                keep(made, images)
        for made in _spans_left(table, taken):
            keep(made)
        found[:] = _perhaps_striped(found)
        rest = loose_images(table, taken)
        if len(rest) > (2 if found else 1):
            grounds = [a for a in table.anchors if a.ground.bound() and a.ground.bound() <= set(rest)]
            made = solve_cluster(table, set(rest), grounds, taken)
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
        notes.append(f"{pile.unreadable} blocks could not be read")
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
    theirs = [a for a in grounds if a.ground.starts or not a.ground.bound() or a.ground.bound() & related]
    made = solve_cluster(table, related, theirs, taken, alone=True)
    if made is None or _doubtful(made):  # beside others that are related, too
        made = solve_cluster(table, related, theirs, taken)
    return made


def _apart(
    table: Table, images: set[int], grounds: Sequence[Anchors], taken: set[int], tell: Tell, budget: int
) -> Lineup | None:  # fmt: skip
    """The lineup of images whose data start at different places, where their structures say so."""
    files = [g for g in grounds if not g.ground.starts]
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
    tables = [a for a in table.anchors if a.ground.starts]
    for anchors in table.anchors:
        bound = anchors.ground.bound()
        if len(bound) == 1 and not bound & taken and not anchors.ground.starts and not anchors.ground.guessed:
            made = conclude_span(table, bound, [anchors], tables, taken)
            if made is not None and made.strength != "undecided":
                yield made
                return


def _perhaps_striped(found: list[Lineup]) -> list[Lineup]:
    """Several mirrors of one size on which nothing stands in its place may be the sets of one RAID 10 as well."""
    alike = [
        a for a in found
        if a.geometry.layout.level == "RAID1" and a.strength == "probable" and not _standing(a, ("anchors",))
    ]  # fmt: skip
    shapes = Counter((a.geometry.members, a.geometry.member_bytes[0] >> 24) for a in alike)
    settle = (
        "other mirrors of the same size are here, too: they may be sets of one RAID 10; what is known of the server"
    )
    return [
        replace(a, verdicts=a.verdicts.doubted(Reason.RIVAL), settle=settle)
        if a in alike and shapes[a.geometry.members, a.geometry.member_bytes[0] >> 24] > 1 else a
        for a in found
    ]  # fmt: skip


def _surer(other: Lineup, made: Lineup) -> bool:
    """Whether another lineup of images is clearly the better one."""
    order = ("undecided", "probable", "certain")
    return order.index(other.strength) > 0 and (other.strength == "certain" or other.best > made.best + MARGIN_NATS)


def _refuted(made: Lineup) -> bool:
    """Whether more of what was read in the volume speaks against an answer than for it."""
    if made.strength == "certain":
        return False
    proof, against, failing = (
        sum(e.count for e in made.evidence if e.kind == kind) for kind in ("proof", "against", "failing")
    )
    hold, fail = (sum(e.count for e in made.evidence if e.says == says) for says in (FILES_HOLD, FILES_FAIL))
    return against + failing > max(LEAST_AGAINST, proof) or fail > max(LEAST_AGAINST, 4 * hold)


LEAST_AGAINST = 4


def _better(alone: Lineup, wider: Lineup) -> bool:
    """Whether an answer over fewer images takes the place of an undecided one over more of them."""
    doubtful = alone.strength != "undecided" and wider.best < 2 * TOTAL_NATS
    return alone.strength == "certain" or doubtful or alone.best > wider.best


def _names(pile: Pile, images: Iterable[int]) -> set[str | None]:
    return {None, *(pile.names[i] for i in images)}


def solve_cluster(
    table: Table, images: set[int], grounds: Sequence[Anchors], taken: set[int], alone: bool = False,
    odd: bool = False, rare: bool = False,
) -> Lineup | None:  # fmt: skip
    """The lineup of images that belong together.

    alone  without what else lies about
    odd    strips need not be powers of two
    rare   in the layouts that are rare, and in no others
    """
    given = table.pile.given
    groups = [g for g in table.groups if set(g.images) <= images]
    table.tell(f"order of {len(images)} images that belong together")
    files = [g for g in sorted(grounds, key=lambda a: (a.ground.guessed, -len(a))) if not g.ground.starts]
    tables = [g for g in grounds if g.ground.starts]
    starts = sorted({s for g in tables for s in g.ground.starts})
    in_turn = given is None or given.level in (None, "SPAN")
    one_by_one = conclude_span(table, images, files, tables, taken) if not groups and in_turn else None
    if one_by_one is not None and one_by_one.strength != "undecided":
        return one_by_one
    whole = unstriped(files, images) if all(g.kind == "copies" for g in groups) else set()
    named = [a for a in files if not a.ground.guessed]
    alike = next((g for g in groups if set(g.images) <= whole and whole_on(named, g.images[0])), None)
    if alike is not None and images > set(alike.images):  # a mirror by itself, whatever else bears the same
        return solve_cluster(table, set(alike.images), grounds, taken, True, odd, rare)
    whole = whole if not groups else set()
    if whole and len(images - whole) < 2:
        return one_by_one
    if whole:  # they are no members of what is striped
        theirs = [a for a in grounds if a.ground.starts or a.ground.bound() - whole]
        return solve_cluster(table, images - whole, theirs, taken, alone, odd, rare) or one_by_one
    options = options_of(table, images, grounds, taken, alone)
    if given is not None:
        options = candidates_given(given, options, images, groups, table.pile.names)
    if rare:
        options = [replace(o, layouts=layouts) for o in options if (layouts := rare_layouts(o.layouts))]
    if not options:
        return None
    together = set(images)
    if groups and all(g.kind == "copies" for g in groups):  # other mirrors of the same array show its start, too
        together |= {i for g in table.groups if g.kind == "copies" and not set(g.images) & taken for i in g.images}
    usual = guessed_starts(table, together, groups)
    if given is not None and given.start >= 0:
        usual = [given.start, *usual]
    loose = images - {i for g in groups for i in g.images}
    if loose and groups:  # what lost members shows its start, too
        usual = list(dict.fromkeys(sorted([guessed_starts(table, loose, [])[0], usual[0]]) + usual))
    mirror: Lineup | None = None
    if options[0].level == "RAID1":
        mirror = conclude_mirror(table, options[0], groups[0], grounds, starts, usual[0])
        options = [o for o in options if o.level != "RAID1"]
        if mirror.strength == "certain" or not options:
            return mirror
    primary = next(iter([*files, *tables]), None)
    used, _kept = split(primary)
    options, usual = with_borders(table, options, groups, usual)
    entries = [entry_of(table, candidate, make_ballot(candidate, used)) for candidate in options]
    bases = bases_of(primary, starts)
    into_rows = bases_into_rows(primary, starts, max(o.positions for o in options))
    if not anything_before(table, images, ROUND):
        bases += into_rows
    found = search(entries, bases, usual, odd, table.tell)[:60]
    if into_rows and found and into_rows[0] not in bases and _explained(entries, found[0]) < MOST_EXPLAINED:
        # what stands before the file system is no whole number of rows
        bases += into_rows
        found = search(_likely(entries, found), bases, usual, odd, table.tell)[:60]
    if primary is not None and found and not starts and _explained(entries, found[0]) < NEARLY_EXPLAINED:
        # a table that is gone may have had the file system begin where partitions do
        more = [b for b in COMMON_STARTS if b not in bases]
        found += search(_likely(entries, found), more, usual)[:60] if more else []
        found.sort(key=lambda h: -h.score)
        bases += more
    used_images = (
        {i for c in found[0].order if c is not None for i in found[0].candidate.columns[c]} if found else images
    )
    theirs = [a for a in grounds if not a.ground.bound() or a.ground.bound() & used_images]
    if len(theirs) < len(grounds):  # a file system that is only on images which take no part is another's
        return solve_cluster(table, used_images, theirs, taken, True, odd, rare)
    if primary is not None and found and found[0].candidate.phase >= 0:
        base = base_of_order(found[0], primary)
        if base is not None and base not in bases:
            shifted = row_shifts(found[0], base)
            bases = list(dict.fromkeys([*bases, base, *(b for _s, b in shifted)]))
            usual = list(dict.fromkeys([*usual, *(s for s, _b in shifted)]))
            found = search(_likely(entries, found), bases, usual)[:60]
    if primary is not None and found and found[0].start not in USUAL_STARTS and not primary.ground.starts:
        # the same places with the ground further on in the volume, and data that start where they usually do
        least = found[0].start % found[0].strip
        more = [b for s in dict.fromkeys((*usual, *USUAL_STARTS, least)) for b in moved_bases(found[0], s)]
        entries = _likely(entries, found)
        # beside the one that is known: scores of one search only are comparable
        found = [*search(entries, list(dict.fromkeys([found[0].base, *more])), usual)[:60], *found] if more else found
    if primary is None and found:  # where data start is seen on the images that take part
        best = found[0]
        columns = tuple(sorted(best.candidate.columns[c] for c in best.order if c is not None))
        own = guessed_starts(table, {i for c in columns for i in c}, groups)
        if len(columns) < len(best.candidate.columns) and (own != usual or best.candidate.level == "RAID0"):
            usual = own
            candidate = replace(best.candidate, columns=columns)
            left_out = STRANGER_NATS * (len(best.candidate.columns) - len(columns)) * (best.candidate.level == "RAID0")
            those = [candidate]
            if best.candidate.level == "RAID0" and not groups:  # the same ones, as what is left of an array with parity
                those += [c for c in candidates({i for c in columns for i in c}, ()) if c.level != "RAID0"]
            again = search([entry_of(table, c, make_ballot(c, None)) for c in those], bases, usual)[:60]
            found = [replace(h, score=h.score - left_out) for h in again] + found
    ranked = sorted((with_prior(table, h, files + tables, starts, usual) for h in found), key=lambda h: -h.score)
    made = conclude(table, ranked, files, tables, starts) if ranked else None
    plenty = primary is not None and len(primary) >= PLENTY_FACTS
    poor = made is not None and plenty and (made.best < TOTAL_NATS or as_measured(made).strength == "undecided")
    mirrored = bool(groups) and all(g.kind == "copies" for g in groups)
    blind = primary is None and made is not None and made.strength == "undecided" and not mirrored
    doubtful = blind or (primary is not None and (poor or (made is not None and _refuted(made))))
    open_strip = any(not o.strip for o in options)
    if made is not None and open_strip and not odd and not rare and doubtful and table.pile.effort.left():
        other = solve_cluster(table, images, grounds, taken, alone, True)
        if other is not None and not _refuted(other) and (_surer(other, made) or _refuted(made)):
            return other
    related = any(g.kind in ("sum", "two", "two less one") for g in groups)
    tried = odd or rare or not (related or plenty) or not table.pile.effort.left()
    unsure = made is not None and (made.strength != "certain" or q_does_not_match(table, made))
    if made is not None and not tried and unsure and not grew(table.pile, made):
        table.tell("the layouts that are rare")
        other = solve_cluster(table, images, grounds, taken, alone, False, True)
        if other is not None and not _refuted(other) and takes_its_place(table, other, made):
            return other
    if one_by_one is not None and (made is None or made.strength == "undecided"):
        return one_by_one
    if made is None and mirror is None and len(groups) == 1:
        return members_only(table, groups[0])
    several = sum(g.kind == "copies" for g in table.groups) > 1
    if mirror is not None and made is not None and made.strength != "undecided":
        weak = made.best < TOTAL_NATS and not several
        plain = _standing(mirror) // len(mirror.members) > _standing(made)  # every copy has its own
        return mirror if weak or plain else made
    wider = made is not None and several and made.best >= TOTAL_NATS
    return made if wider else mirror or made


MOST_EXPLAINED, NEARLY_EXPLAINED = 0.6, 0.95
"""Of the structures that state their address, the share that stands right under the best answer, where a better one is
hardly to be looked for: others are copies, and parity. Of fewer than nearly all, a file system may begin elsewhere."""


def _explained(entries: Sequence[Entry], best: Hypothesis) -> float:
    """The share of the structures that stand right under a hypothesis, of those that do under any."""
    entry = next(e for e in entries if e.reader.candidate is best.candidate)
    most = int(entry.ballot.count.sum())
    return best.facts / most if most else 1.0


LIKELY_NATS, MOST_LIKELY = 20.0, 3
"""How far behind the best a candidate may be to be looked at once more with it, and how many are."""


def _likely(entries: Sequence[Entry], found: Sequence[Hypothesis]) -> list[Entry]:
    """The entries whose candidates are behind the best hypotheses, and those of other levels over the same columns:
    with the file system taken to begin elsewhere, every one of them is wrong, and which is the least is chance."""
    near = [h.candidate for h in found if h.score > found[0].score - LIKELY_NATS]
    first = [set(columns) for columns in list(dict.fromkeys(candidate.columns for candidate in near))[:MOST_LIKELY]]
    return [e for e in entries if set(e.reader.candidate.columns) in first]


def _standing(answer: Lineup, kinds: tuple[str, ...] = ("anchors", "pages")) -> int:
    """How many structures stand where an answer puts them; "pages" only count up, and their size is a guess."""
    return sum(e.count for e in answer.evidence if e.kind in kinds)
