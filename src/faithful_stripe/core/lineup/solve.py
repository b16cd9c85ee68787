"""Solving a pile: samples, evidence, hypotheses, proof, verdict, in that order."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import replace
from itertools import combinations

import numpy as np

from .anchors import Anchors
from .ballots import (
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
from .borders import strip_and_phase
from .cast import Cast, casts, layouts_of
from .concatenated import conclude_span, unstriped
from .document import Lineup, Solution
from .hypotheses import make_ballot, strips
from .judging import conclude, members_only
from .membership import Membership
from .mirrors import conclude_mirror
from .samples import Pile, Tell, silent
from .search import search
from .table import (
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
from .verdict import TOTAL_NATS

FIRST_BYTES = 12 << 20
"""What is read of a pile with plenty of data at first: when that makes everything certain, no more is."""


def solve(pile: Pile, tell: Tell = silent) -> Solution:
    """Find the arrays in a pile.

    tell  is told what is being looked at, for a person who waits
    """
    if sum(b - a for image in range(len(pile)) for a, b in pile.data(image)) > 4 * STOCK_BYTES:
        found = solve_within(pile, tell, FIRST_BYTES)
        stopped = any("stopped by hand" in note for note in found.notes)
        if stopped or (found.arrays and all(a.verdict == "certain" and not a.stale for a in found.arrays)):
            return found if stopped else _and_the_rest(pile, found, tell)
        tell("more is read")
    return solve_within(pile, tell, STOCK_BYTES)


def _and_the_rest(pile: Pile, found: Solution, tell: Tell) -> Solution:
    """What was found first, and the arrays that the images left over make, looked at closely."""
    rest = [i for i in range(len(pile)) if pile.names[i] in found.unused and pile.data(i)]
    if len(rest) < 2:
        return found
    tell("more is read of what is left over")
    left = Pile([pile.names[i] for i in rest], [pile.sources[i] for i in rest])
    more = solve_within(left, tell, STOCK_BYTES)
    pile.bytes_read += left.bytes_read
    used = {m for a in more.arrays for m in [*a.members, *a.stale]}
    return Solution(
        found.arrays + more.arrays, tuple(n for n in found.unused if n not in used), pile.bytes_read,
        found.notes + more.notes, found.trace + more.trace,
    )  # fmt: skip


def solve_within(pile: Pile, tell: Tell, budget: int) -> Solution:
    """The arrays in a pile by what about `budget` bytes of it tell."""
    try:
        table = lay_out(pile, tell, budget)
    except KeyboardInterrupt:
        note = "stopped by hand while the images were read: nothing is known yet"
        return Solution((), tuple(pile.names), pile.bytes_read, (note,))
    found: list[Lineup] = []
    taken: set[int] = set()
    notes: list[str] = []
    try:
        for images, grounds in clusters(table):
            made = solve_cluster(table, images - taken, grounds, taken)
            if made is not None and made.verdict == "undecided" and not _names(pile, images) >= set(made.members):
                again = solve_cluster(table, images - taken, grounds, taken, alone=True)
                made = again if again is not None and _better(again, made) else made
            if made is not None:
                found.append(made)
                taken |= {pile.names.index(m) for m in [*made.members, *made.stale] if m is not None}
    except KeyboardInterrupt:
        notes.append("stopped by hand: what was known until then is above")
    found = _perhaps_striped(found)
    rest = [] if notes else loose_images(table, taken)
    if len(rest) > (2 if found else 1):
        grounds = [a for a in table.anchors if a.ground.bound() and a.ground.bound() <= set(rest)]
        made = solve_cluster(table, set(rest), grounds, taken)
        if made is not None and (made.verdict != "undecided" or not found):
            found.append(made)
            taken |= {pile.names.index(m) for m in made.members if m is not None}
    unused = tuple(pile.names[i] for i in range(len(pile)) if i not in taken)
    if pile.unreadable:
        notes.append(f"{pile.unreadable} blocks could not be read")
    return Solution(tuple(found), unused, pile.bytes_read, tuple(notes), tuple(table.trace))


def _perhaps_striped(found: list[Lineup]) -> list[Lineup]:
    """Several mirrors of one size on which nothing stands in its place may be the sets of one RAID 10 as well."""
    alike = [
        a for a in found
        if a.geometry.layout.level == "RAID1" and a.verdict == "probable" and not _standing(a, ("anchors",))
    ]  # fmt: skip
    shapes = Counter((a.geometry.members, a.geometry.member_bytes[0] >> 24) for a in alike)
    settle = (
        "other mirrors of the same size are here, too: they may be sets of one RAID 10; what is known of the server"
    )
    return [
        replace(a, verdict="undecided", settle=settle)
        if a in alike and shapes[a.geometry.members, a.geometry.member_bytes[0] >> 24] > 1 else a
        for a in found
    ]  # fmt: skip


def _refuted(made: Lineup) -> bool:
    """Whether more of what was read in the volume speaks against an answer than for it."""
    proof, against = (sum(e.count for e in made.evidence if e.kind == kind) for kind in ("proof", "against"))
    return made.verdict != "certain" and against > max(LEAST_AGAINST, proof)


LEAST_AGAINST = 4


def _better(alone: Lineup, wider: Lineup) -> bool:
    """Whether an answer over fewer images takes the place of an undecided one over more of them."""
    doubtful = alone.verdict != "undecided" and wider.best < 2 * TOTAL_NATS
    return alone.verdict == "certain" or doubtful or alone.best > wider.best


def _names(pile: Pile, images: Iterable[int]) -> set[str | None]:
    return {None, *(pile.names[i] for i in images)}


def options_of(
    table: Table, images: set[int], grounds: Sequence[Anchors], taken: set[int], alone: bool = False
) -> list[Cast]:
    """The casts worth trying: these images, and these with what is like them and has no structures of its own."""
    groups = [g for g in table.groups if set(g.images) <= images]
    found = casts(images, groups)
    if all(g.closing < WEAK_SHARE * g.blocks for g in groups) and (groups or not found):
        found += casts(images, ())  # relations that hold in a part of the places may be those of almost empty rows
    bound = {i for a in grounds for i in a.ground.bound()} & images
    if groups and not any(bound <= set(c.images) for c in found):  # the same file system on more than what is related
        found += casts(images, ())
    if not groups:
        for less in _without_few(images, bound, grounds):
            found += casts(less, ())
    if alone:
        return found
    kinds = {g.kind for g in groups}
    shape = {len(g.images) + (g.kind == "two less one") for g in groups}
    alike = [
        g for g in table.groups
        if g not in groups and not set(g.images) & taken
        and (shape == {len(g.images) + (g.kind == "two less one")} or kinds == {g.kind} == {"copies"})
        and (g.kind in kinds or "sum" not in kinds | {g.kind})
    ]  # fmt: skip
    if alike:
        wider = images | {i for g in alike for i in g.images}
        found += casts(wider, groups + alike)
    extra = [i for i in loose_images(table, taken) if i not in images]
    loose = images - {i for g in groups for i in g.images}
    if loose == images:
        found += _some_of(images, max(2, len(images) - 3))
    if grounds and loose:
        found += _with_whole_spans(table, images, loose, extra, grounds, taken)
    copies = [g for g in groups if g.kind == "copies"]
    other_spans = bool(shape) and not copies and len(extra) >= max(shape) - 2
    if extra and ((grounds and loose) or copies or other_spans):
        sizes = [table.pile.sources[i].size for i in images]
        middle = float(np.median(sizes))
        close = [i for i in extra if abs(table.pile.sources[i].size - middle) < middle / 16]
        if loose == images and len(close) > 1:  # striped, with some of what lies about: who belongs is found on the way
            found += _some_of(images | set(close), len(images))
        for some in _subsets(close, groups):
            whole = len(some) == len(close)
            found += [c for c in casts(images | some, groups) if shape or whole or c.layouts[0].spans == 1]
            if alike:
                found += casts(images | some | {i for g in alike for i in g.images}, groups + alike)
    return found


MOST_LEFT_OUT = 3


def _without_few(images: set[int], bound: set[int], grounds: Sequence[Anchors]) -> list[set[int]]:
    """The images without one, or some, of those on which there are fewest structures, and none that names the file
    system: such ones may be of another. And without those that only another file system names."""
    counts = Counter(i for a in grounds if not a.ground.starts for i in a.image.tolist())
    doubtful = sorted(images - bound, key=lambda i: (counts[i], i))[: min(MOST_LEFT_OUT, len(images) - 2)]
    if not counts:
        return []
    fewest = [set(doubtful[:n]) for n in range(1, len(doubtful) + 1)]
    single = [{i} for i in doubtful[1:]]
    files = [a for a in grounds if not a.ground.starts and a.ground.bound()][:MOST_LEFT_OUT]
    foreign = [{i for b in files if b is not a for i in b.ground.bound()} - a.ground.bound() for a in files]
    sets = [images - some for some in fewest + single] + [images - some for some in foreign if some]
    return [some for some in sets if len(some) > 1]


def _with_borders(
    table: Table, options: list[Cast], groups: Sequence[Membership], usual: list[int]
) -> tuple[list[Cast], list[int]]:
    """The casts with P and Q, and the usual starts, with what the borders of their rows tell."""
    for group in groups:
        if group.kind not in ("two", "two less one"):
            continue
        told = strip_and_phase(table.pile, table.places, group.images, len(group.images) + (group.kind != "two"))
        if told is None:
            continue
        strip, phase = max(0, told[0]), told[1]
        if strip:
            table.note("evidence", f"rows end every {strip >> 10} KiB, from byte {phase} on: roles change there")
        sizes = [strip] if strip else [s for s in strips() if told[0] % s == 0]
        starts: list[int] = []
        for size in sizes[::-1]:
            nearest = usual[0] - (usual[0] - phase) % size
            starts += [*([nearest] if nearest >= 0 else []), phase % size]
            starts += [s for s in usual if (s - phase) % size == 0]
        if strip:  # roles tell the first row of a period, too
            rows = max(c.pattern().rows for o in options for c in o.layouts)
            starts += [s for s in range(phase, phase + rows * strip, strip) if starts[0] == phase or s < starts[0]]
        fitted = [
            replace(o, strip=strip, phase=phase, gap=-min(0, told[0])) if o.level in ("RAID6", "RAID60") else o
            for o in options
        ]
        return fitted, list(dict.fromkeys(starts))
    return options, usual


def _some_of(images: set[int], least: int) -> list[Cast]:
    """Striped over some of the images, at least so many: who belongs is found on the way."""
    every = tuple((i,) for i in sorted(images))
    return [Cast("RAID0", layouts_of("RAID0", n), every) for n in range(least, len(every))]


MOST_CHOICES = 15
PLENTY_FACTS = 16


def _with_whole_spans(
    table: Table, images: set[int], loose: set[int], extra: Sequence[int], grounds: Sequence[Anchors], taken: set[int]
) -> list[Cast]:
    """A file system on images that close no relation, as the spans that lost members, beside spans that are whole and
    on which no other file system is."""
    others = [a for a in table.anchors if not any(a is g for g in grounds)]
    inside = [g for g in table.groups if set(g.images) <= images]
    free = [
        g for g in table.groups
        if not set(g.images) & (images | taken) and not any(len(a.ground.bound() & set(g.images)) > 1 for a in others)
    ]  # fmt: skip
    if sum(len(a) for a in grounds) >= PLENTY_FACTS:  # of which some would stand on every span
        free = []
    found: list[Cast] = []
    for kinds in ({"sum"}, {"two", "two less one"}, {"copies"}):
        fitting = [g for g in inside + free if g.kind in kinds]
        shapes = {len(g.images) + (g.kind == "two less one") for g in fitting}
        if len(shapes) != 1 or any(g.kind not in kinds for g in inside):
            continue
        spans = {i for g in fitting for i in g.images}
        per_span = 1 if "copies" in kinds else shapes.pop() - (2 if "two" in kinds else 1)
        less = len(loose) // per_span * per_span
        more = -len(loose) % per_span
        choices = [set(c) for c in combinations(sorted(loose), less)][:MOST_CHOICES] if less else []
        choices += [loose | set(c) for c in combinations(extra, more)][:MOST_CHOICES] if more else []
        if "copies" in kinds and 0 < len(extra) <= MOST_LEFT_OUT:  # left of sets, and strangers: some take no part
            choices.append(loose | set(extra))
        for some in choices:
            found += casts(spans | some, fitting)
    return found


def _subsets(items: Sequence[int], groups: Sequence[Membership]) -> list[set[int]]:
    """All of them first; up to three of them also in every choice, more where they may be one span that lost members,
    beside whole ones."""
    if not items:
        return []
    if len(items) <= 3:
        return [set(c) for n in range(len(items), 0, -1) for c in combinations(items, n)]
    found = [set(items)]
    left = {len(g.images) - (2 if g.kind == "two" else 1) for g in groups if g.kind in ("sum", "two", "two less one")}
    if len(left) == 1 and 1 < (count := left.pop()) < len(items):
        found += [set(c) for c in combinations(items, count)][:MOST_CHOICES]
    return found


def solve_cluster(
    table: Table, images: set[int], grounds: Sequence[Anchors], taken: set[int], alone: bool = False, odd: bool = False
) -> Lineup | None:
    """The lineup of images that belong together; alone: without what else lies about; odd: strips need not be powers
    of two."""
    groups = [g for g in table.groups if set(g.images) <= images]
    table.tell(f"order of {len(images)} images that belong together")
    files = [g for g in sorted(grounds, key=lambda a: (a.ground.guessed, -len(a))) if not g.ground.starts]
    tables = [g for g in grounds if g.ground.starts]
    starts = sorted({s for g in tables for s in g.ground.starts})
    one_by_one = conclude_span(table, images, files, tables, taken) if not groups else None
    if one_by_one is not None and one_by_one.verdict != "undecided":
        return one_by_one
    whole = unstriped(files, images) if not groups else set()
    if whole and len(images - whole) < 2:
        return one_by_one
    if whole:  # they are no members of what is striped
        theirs = [a for a in grounds if a.ground.starts or a.ground.bound() - whole]
        return solve_cluster(table, images - whole, theirs, taken, alone, odd) or one_by_one
    options = options_of(table, images, grounds, taken, alone)
    if not options:
        return None
    together = set(images)
    if groups and all(g.kind == "copies" for g in groups):  # other mirrors of the same array show its start, too
        together |= {i for g in table.groups if g.kind == "copies" and not set(g.images) & taken for i in g.images}
    usual = guessed_starts(table, together, groups)
    loose = images - {i for g in groups for i in g.images}
    if loose and groups:  # what lost members shows its start, too
        usual = list(dict.fromkeys(sorted([guessed_starts(table, loose, [])[0], usual[0]]) + usual))
    mirror: Lineup | None = None
    if options[0].level == "RAID1":
        mirror = conclude_mirror(table, options[0], groups[0], grounds, starts, usual[0])
        options = [o for o in options if o.level != "RAID1"]
        if mirror.verdict == "certain" or not options:
            return mirror
    primary = next(iter([*files, *tables]), None)
    used, _kept = split(primary)
    options, usual = _with_borders(table, options, groups, usual)
    entries = [entry_of(table, cast, make_ballot(cast, used)) for cast in options]
    bases = bases_of(primary, starts)
    if not anything_before(table, images, ROUND):
        bases += bases_into_rows(primary, starts, max(o.positions for o in options))
    found = search(entries, bases, usual, odd, table.tell)[:60]
    used_images = {i for c in found[0].order if c is not None for i in found[0].cast.columns[c]} if found else images
    theirs = [a for a in grounds if not a.ground.bound() or a.ground.bound() & used_images]
    if len(theirs) < len(grounds):  # a file system that is only on images which take no part is another's
        return solve_cluster(table, used_images, theirs, taken, True, odd)
    if primary is not None and found and found[0].cast.phase >= 0:
        base = base_of_order(found[0], primary)
        if base is not None and base not in bases:
            shifted = row_shifts(found[0], base)
            bases = list(dict.fromkeys([*bases, base, *(b for _s, b in shifted)]))
            usual = list(dict.fromkeys([*usual, *(s for s, _b in shifted)]))
            found = search([e for e in entries if e.reader.cast is found[0].cast], bases, usual)[:60]
    if primary is not None and found and found[0].start not in USUAL_STARTS and not primary.ground.starts:
        # the same places with the ground further on in the volume, and data that start where they usually do
        least = found[0].start % found[0].strip
        more = [b for s in dict.fromkeys((*usual, *USUAL_STARTS, least)) for b in moved_bases(found[0], s)]
        entries = [e for e in entries if e.reader.cast is found[0].cast]
        # beside the one that is known: scores of one search only are comparable
        found = [*search(entries, list(dict.fromkeys([found[0].base, *more])), usual)[:60], *found] if more else found
    if primary is None and found:  # where data start is seen on the images that take part
        best = found[0]
        columns = tuple(sorted(best.cast.columns[c] for c in best.order if c is not None))
        own = guessed_starts(table, {i for c in columns for i in c}, groups)
        if len(columns) < len(best.cast.columns) and (own != usual or best.cast.level == "RAID0"):
            usual = own
            cast = replace(best.cast, columns=columns)
            left_out = STRANGER_NATS * (len(best.cast.columns) - len(columns)) * (best.cast.level == "RAID0")
            those = [cast]
            if best.cast.level == "RAID0" and not groups:  # the same ones, as what is left of an array with parity
                those += [c for c in casts({i for c in columns for i in c}, ()) if c.level != "RAID0"]
            again = search([entry_of(table, c, make_ballot(c, None)) for c in those], bases, usual)[:60]
            found = [replace(h, score=h.score - left_out) for h in again] + found
    ranked = sorted((with_prior(table, h, files + tables, starts, usual) for h in found), key=lambda h: -h.score)
    made = conclude(table, ranked, files, tables, starts) if ranked else None
    if made is not None and not odd and primary is not None and _refuted(made):
        other = solve_cluster(table, images, grounds, taken, alone, True)
        if other is not None and not _refuted(other):
            return other
    if one_by_one is not None and (made is None or made.verdict == "undecided"):
        return one_by_one
    if made is None and mirror is None and len(groups) == 1:
        return members_only(table, groups[0])
    several = sum(g.kind == "copies" for g in table.groups) > 1
    if mirror is not None and made is not None and made.verdict != "undecided":
        weak = made.best < TOTAL_NATS and not several
        plain = _standing(mirror) // len(mirror.members) > _standing(made)  # every copy has its own
        return mirror if weak or plain else made
    wider = made is not None and several and made.best >= TOTAL_NATS
    return made if wider else mirror or made


def _standing(answer: Lineup, kinds: tuple[str, ...] = ("anchors", "pages")) -> int:
    """How many structures stand where an answer puts them; "pages" only count up, and their size is a guess."""
    return sum(e.count for e in answer.evidence if e.kind in kinds)
