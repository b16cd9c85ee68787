"""Options: which images, as what level, are worth trying together; what lies about counted in or left out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations

import numpy as np

from ...arrays.geometry import STRIP_LEAST
from ..evidence.membership import PARITY_KINDS, Membership
from ..evidence.stripe_boundaries import strip_and_phase
from ..structures.anchors import Anchors
from .assignment import strips
from .candidate import Candidate, candidates, layouts_of
from .pile_table import WEAK_SHARE, Table, loose_images


def options_of(
    table: Table, images: set[int], grounds: Sequence[Anchors], taken: set[int], alone: bool = False
) -> list[Candidate]:
    """The candidates worth trying: these images, and these with what is like them and has no structures of its own."""
    groups = [g for g in table.groups if set(g.images) <= images]
    found = candidates(images, groups)
    if all(g.closing < WEAK_SHARE * g.blocks for g in groups) and (groups or not found):
        found += candidates(images, ())  # relations that hold in a part of the places may be those of almost empty rows
    bound = {i for a in grounds for i in a.ground.bound()} & images
    related = {i for g in groups for i in g.images}
    named = {i for a in grounds if not a.ground.guessed for i in a.ground.bound()}
    if groups and related < images and not named & (images - related):
        found += candidates(related, groups)  # on the others is only what looks like structures
    if groups and not any(bound <= set(c.images) for c in found):  # the same file system on more than what is related
        found += candidates(images, ())
    if not groups:
        for less in _without_few(images, bound, grounds):
            found += candidates(less, ())
    if alone:
        return found
    kinds = {g.kind for g in groups}
    shape = {len(g.images) + (g.kind == "two less one") for g in groups}
    alike = [
        g for g in table.groups
        if g not in groups and not set(g.images) & taken
        and (shape == {len(g.images) + (g.kind == "two less one")} or (kinds == {g.kind} and g.kind in IN_PIECES))
        and (g.kind in kinds or "sum" not in kinds | {g.kind})
    ]  # fmt: skip
    alike = [g for g in alike if not _of_another(table, grounds, g)]
    for chosen in _choices(alike):
        found += candidates(images | {i for g in chosen for i in g.images}, [*groups, *chosen])
    theirs = _of_others(table, grounds)
    extra = [i for i in loose_images(table, taken) if i not in images and i not in theirs]
    loose = images - {i for g in groups for i in g.images}
    if loose == images:
        found += _some_of(images, max(2, len(images) - 3))
    if grounds and loose:
        found += _with_whole_spans(table, images, loose, extra, grounds, taken)
    copies = [g for g in groups if g.kind == "copies"]
    other_spans = bool(shape) and not copies and len(extra) >= max(shape) - 2
    neighbours = kinds and kinds <= {"chain", "ring", "open ring"}  # of whom one may share too little to be seen
    if extra and ((grounds and loose) or copies or neighbours or other_spans):
        sizes = [table.pile.sources[i].size for i in images]
        middle = float(np.median(sizes))
        close = [i for i in extra if abs(table.pile.sources[i].size - middle) < middle / 16]
        if loose == images and len(close) > 1:  # striped, with some of what lies about: who belongs is found on the way
            found += _some_of(images | set(close), len(images))
        for some in _subsets(close, groups):
            whole = len(some) == len(close)
            found += [c for c in candidates(images | some, groups) if shape or whole or c.layouts[0].spans == 1]
            if alike:
                found += candidates(images | some | {i for g in alike for i in g.images}, groups + alike)
    return found


IN_PIECES = ("copies", "chain")
"""Kinds of groups of which one array may have several of unequal size: its mirror sets, and what is left of a chain
without a member."""

MOST_LEFT_OUT = 3
MOST_ALIKE = 4


def _of_another(table: Table, grounds: Sequence[Anchors], group: Membership) -> bool:
    """Whether another file system names members of a group."""
    others = [a for a in table.anchors if not any(a is g for g in grounds) and not a.ground.table]
    return any(len(a.ground.bound() & set(group.images)) > 1 for a in others if not a.ground.guessed)


LEAST_THEIRS = 8
"""Structures of another file system that make an image another array's."""


def _of_others(table: Table, grounds: Sequence[Anchors]) -> set[int]:
    """Images that bear plenty of a file system which none of these bears: nothing else is filled up with them."""
    found: set[int] = set()
    for other in table.anchors:
        if other.ground.guessed or other.ground.table or any(other is g for g in grounds):
            continue
        images, counts = np.unique(other.image, return_counts=True)
        found |= set(images[counts >= LEAST_THEIRS].tolist())
    return found if any(not g.ground.guessed for g in grounds) else set()


def _choices(groups: Sequence[Membership]) -> list[tuple[Membership, ...]]:
    """All groups first, then every choice of a few."""
    if not groups:
        return []
    most = len(groups) if len(groups) <= MOST_ALIKE else 0
    return [tuple(groups), *(c for n in range(most - 1, 0, -1) for c in combinations(groups, n))]


def _without_few(images: set[int], bound: set[int], grounds: Sequence[Anchors]) -> list[set[int]]:
    """The images without one, or some, of those on which there are fewest structures, and none that names the file
    system: such ones may be of another. And without those that only another file system names."""
    counts = Counter(i for a in grounds if not a.ground.table for i in a.image.tolist())
    doubtful = sorted(images - bound, key=lambda i: (counts[i], i))[: min(MOST_LEFT_OUT, len(images) - 2)]
    if not counts:
        return []
    fewest = [set(doubtful[:n]) for n in range(1, len(doubtful) + 1)]
    single = [{i} for i in doubtful[1:]]
    files = [a for a in grounds if not a.ground.table and a.ground.bound()][:MOST_LEFT_OUT]
    foreign = [{i for b in files if b is not a for i in b.ground.bound()} - a.ground.bound() for a in files]
    sets = [images - some for some in fewest + single] + [images - some for some in foreign if some]
    return [some for some in sets if len(some) > 1]


def with_borders(
    table: Table, options: list[Candidate], groups: Sequence[Membership], usual: list[int]
) -> tuple[list[Candidate], list[int]]:
    """The candidates with P and Q, and the usual starts, with what the borders of their rows tell: where parity moves
    on after several rows only, roles stay where they are for so many strips."""
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
            rows = max(c.pattern().rows // c.turn_rows for o in options for c in o.layouts)
            starts += [s for s in range(phase, phase + rows * strip, strip) if starts[0] == phase or s < starts[0]]
        fitted = [
            one for o in options
            for one in (_by_turn(o, strip, phase, -min(0, told[0])) if o.level in ("RAID6", "RAID60") else [o])
        ]  # fmt: skip
        return fitted, list(dict.fromkeys(starts))
    return options, usual


def _by_turn(option: Candidate, length: int, phase: int, gap: int) -> list[Candidate]:
    """A candidate with the strip that follows from how long roles stay where they are, for each number of rows at a
    turn among its layouts.

    length  in bytes; 0 where it is not known
    """
    turns = sorted({c.turn_rows for c in option.layouts})
    return [
        replace(
            option, layouts=tuple(c for c in option.layouts if c.turn_rows == turn), strip=length // turn, phase=phase,
            gap=gap,
        )
        for turn in turns if not length % (turn * STRIP_LEAST)
    ]  # fmt: skip


def _some_of(images: set[int], least: int) -> list[Candidate]:
    """Striped over some of the images, at least so many: who belongs is found on the way."""
    every = tuple((i,) for i in sorted(images))
    return [Candidate("RAID0", layouts_of("RAID0", n), every) for n in range(least, len(every))]


MOST_CHOICES = 15
PLENTY_FACTS = 16


def _with_whole_spans(
    table: Table, images: set[int], loose: set[int], extra: Sequence[int], grounds: Sequence[Anchors], taken: set[int]
) -> list[Candidate]:
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
    found: list[Candidate] = []
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
            found += candidates(spans | some, fitting)
    return found


def _subsets(items: Sequence[int], groups: Sequence[Membership]) -> list[set[int]]:
    """All of them first; up to three of them also in every choice, more where they may be one span that lost members,
    beside whole ones."""
    if not items:
        return []
    if len(items) <= 3:
        return [set(c) for n in range(len(items), 0, -1) for c in combinations(items, n)]
    found = [set(items)]
    left = {len(g.images) - (2 if g.kind == "two" else 1) for g in groups if g.kind in PARITY_KINDS}
    if len(left) == 1 and 1 < (count := left.pop()) < len(items):
        found += [set(c) for c in combinations(items, count)][:MOST_CHOICES]
    return found
