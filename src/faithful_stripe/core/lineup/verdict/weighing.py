"""Judging: the best hypotheses read as volumes, the best of them checked everywhere, and the verdict."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from ...arrays.engine import Array
from ...ranges import clip, total
from ...source import BlockSourceError
from ..document.four_verdicts import Reason, Sure, Verdict
from ..document.lineup_document import Lineup
from ..document.told_facts import Settle, Settles
from ..evidence.membership import PARITY_KINDS, Membership
from ..evidence.parity_groups import tested
from ..evidence.row_tests import broken_rows
from ..evidence.sampled_places import places_of, survey_at
from ..hypotheses.as_volume import exchanged, final_geometry, rebuilt, words
from ..hypotheses.assignment import MISSING_NATS, Hypothesis
from ..hypotheses.equivalence import same_answer, same_parity
from ..hypotheses.pile_table import Table
from ..hypotheses.search import search
from ..hypotheses.stale_member import culprit, unread
from ..hypotheses.votes import base_under, entry_of, joint, reader_of, with_prior
from ..reading.samples import BEST, BEYOND_SHARE, LEAST_BEYOND, Pile
from ..structures.anchors import Anchors
from .beside_answers import alike, beside_another, beside_untried
from .finishing import extent, finish, so_far, survives
from .missing_slot import PARITY_LEVELS, Judged, better_in_gaps, by_every_fact, moved_to_gaps, told
from .refining import refined, spans_exchanged
from .unseated import with_unseated
from .volume_reading import read_volume
from .volume_start import begin_of, begins_elsewhere, further_on

MOST_READ = 10
"""Different hypotheses whose volumes are read."""

NEAR_NATS = 60.0
"""How far behind the best a hypothesis of another place may be to have its volume read."""

COMPUTED_BLOCKS = 32

UNTOLD_NATS = 20.0

FEW_ROWS = 0.15
"""So many rows may fail for sectors that could not be read; more do where somebody does not belong."""

CHECKED_BYTES, LEAST_ROWS = 160 << 20, 32
"""How much of an array is read to see whether its parity is right everywhere, and how many rows at least."""


def conclude(
    table: Table, found: Sequence[Hypothesis], files: Sequence[Anchors], tables: Sequence[Anchors],
    starts: Sequence[int],
) -> Lineup:  # fmt: skip
    """The best of the hypotheses, and how sure it is; one that has the file system begin elsewhere is a rival, and is
    read as well where its score is not far behind: the next best one, and every other before an order is certain."""
    rivals, effort = _elsewhere(found), table.pile.effort
    made = _at_one_place(table, found, files, tables, starts, bool(rivals) and effort.left_for_rivals())
    for number, near in enumerate(rivals):
        if (number and made.verdicts.order.sure is not Sure.CERTAIN) or not effort.left_for_rivals():
            break
        theirs = _at_one_place(table, near, files, tables, starts, True)
        best, second = sorted((made, theirs), key=lambda one: -one.best)
        made = best if alike(best, second) else beside_another(best, second)
    return beside_untried(made) if effort.untried else made


def _elsewhere(found: Sequence[Hypothesis]) -> list[list[Hypothesis]]:
    """The hypotheses of each other place of the data and the file system, the best place first, where that is not far
    behind and has other bytes after one another."""
    first = found[0]
    known, others = [first], list[list[Hypothesis]]()
    for h in found:
        if h.score < first.score - NEAR_NATS or any((h.start, h.base) == (one.start, one.base) for one in known):
            continue
        if not any(begins_elsewhere(one, h) for one in known):
            known.append(h)
            others.append([other for other in found if (other.start, other.base) == (h.start, h.base)])
    return others


def _at_one_place(
    table: Table, found: Sequence[Hypothesis], files: Sequence[Anchors], tables: Sequence[Anchors],
    starts: Sequence[int], continued: bool = False,
) -> Lineup:  # fmt: skip
    """Vote once more with every ground at its place in the volume, read the best ones, and say how sure the best is."""
    first, grounds = found[0], [*files, *tables]
    placed = [(a, base) for a in grounds if (base := base_under(first, a, starts)) is not None]
    possible = [h for h in found if survives(h)] or list(found)
    first = possible[0]
    _ballot, kept = joint(first.candidate, placed)
    if len(placed) > 1 or first.base:
        several = list({id(h.candidate): h.candidate for h in found[:40]}.values())[:3]
        entries = [entry_of(table, candidate, joint(candidate, placed)[0]) for candidate in several]
        odd = bool(first.strip & (first.strip - 1))
        again = search(entries, [0], [first.start, 0], odd, table.tell, continued)[:60]
        weighed = [with_prior(table, h, grounds, [0], [first.start]) for h in again]
        possible = [h for h in weighed if survives(h)] or weighed or possible
    possible.sort(key=lambda h: -h.score)
    note_short(table, possible[0], placed)
    judged = judge(table, possible, placed, kept)
    judged[0] = with_unseated(table, judged[0], placed, kept)
    judged = [*better_in_gaps(table, judged[0], placed, kept), *judged[1:]]
    other, won = by_every_fact(table, judged[0], placed, kept), False
    if other is not None:
        won = other.total > judged[0].total
        judged = sorted([*judged, other], key=lambda j: -j.total)
        table.note("hypotheses", f"with every fact: {words(other.h, table.pile)}; {other.total:.0f}")
        judged[0] = with_unseated(table, judged[0], placed, kept)
    begin = begin_of(table, judged[0].h, placed)
    if begin.shift:  # the volume begins earlier: what stands in it stands so much further on
        placed, kept = further_on(placed, begin), further_on(kept, begin)
        findings = read_volume(begin.h, table.pile, placed, kept, table.carved)
        judged = [Judged(begin.h, findings, judged[0].total), *(j for j in judged[1:] if not same_answer(j.h, begin.h))]
        table.note("start", f"{begin.shift >> 10} KiB of the volume stand before what was found first")
        known, there = {id(a) for a, _base in placed}, [*starts, *(base for _a, base in placed)]
        if any(id(a) not in known and base_under(begin.h, a, there) is not None for a in grounds):
            return _at_one_place(
                table, [begin.h, *found], files, tables, there, continued
            )  # it has more to say from there
    best = judged[0]
    for one in judged[:5]:
        table.note("hypotheses", f"{words(one.h, table.pile)}; with what was read in it {one.total:.0f}")
    inside = extent(best.h, placed)
    groups = [checked(table, best.h, g, inside) for g in table.groups if set(g.images) <= set(best.h.candidate.images)]
    open_at = sorted({o for g in groups for o in g.open if o >= best.h.start})
    stale: tuple[int, ...] = ()
    if open_at and best.h.candidate.level in PARITY_LEVELS:
        blamed = culprit(
            table.pile,
            table.stock,
            table.places,
            best.h,
            groups,
            lambda h: read_volume(h, table.pile, placed, kept, table.carved).nats,
        )
        if blamed is not None:
            stale = (blamed,)
            open_at = []
            # that it is out of date is no doubt about its seat; what will be handed over is read without it
            order = tuple(None if c is not None and blamed in best.h.candidate.columns[c] else c for c in best.h.order)
            without = read_volume(replace(best.h, order=order), table.pile, placed, kept, table.carved)
            if without.nats > best.findings.nats:
                judged[0] = Judged(best.h, without, best.total - best.findings.nats + without.nats)
    seated = best.h.candidate.images
    beside = tuple(old for old, new in table.outdated.items() if new in seated and old not in seated)
    judged += moved_to_gaps(table, judged[0], placed, kept)
    ranked = [judged[0], *sorted(judged[1:], key=lambda j: -j.total)]
    made = finish(table, ranked, open_at, stale, beside, placed, groups, replace(begin, h=best.h))
    if won and made.verdicts.order.sure is Sure.CERTAIN:  # it depends on which facts were kept out
        verdicts = replace(made.verdicts, order=Verdict(Sure.PROBABLE, Reason.RIVAL))
        return replace(made, verdicts=verdicts, settle=Settles(Settle.RIVAL))
    return made


def note_short(table: Table, h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> None:
    """Where a file system is larger than what the shortest image leaves of the volume, and not than what the others do,
    or the others hold plenty behind its end: that image ends before the array does."""
    if h.candidate.level not in (*PARITY_LEVELS, "RAID10"):
        return
    need = max((base + a.ground.size for a, base in placed if not a.ground.guessed), default=0)
    pile, added = table.pile, set[int]()
    sizes = {i: pile.sources[i].size for c in h.order if c is not None for i in h.candidate.columns[c]}
    most = len(sizes) if h.candidate.level == "RAID10" else 2 if h.layout.q_place else 1
    for image in sorted(sizes, key=sizes.__getitem__)[:most]:
        if h.candidate.level == "RAID10" and not _mates(h, image) - pile.short:
            return
        if final_geometry(h, pile)[0].volume_bytes >= need and not _goes_on(pile, sizes, image):
            return
        pile.short.add(image)
        added.add(image)
    if final_geometry(h, pile)[0].volume_bytes < need:
        pile.short -= added


def _mates(h: Hypothesis, image: int) -> set[int]:
    """The other members of an image's mirror set."""
    sets = [set(h.candidate.columns[c]) for c in h.order if c is not None]
    return next(mates for mates in sets if image in mates) - {image}


def _goes_on(pile: Pile, sizes: Mapping[int, int], image: int) -> bool:
    """Whether the other members hold plenty of data behind the end of an image."""
    others = [i for i in sizes if i not in pile.short and i != image and sizes[i] > sizes[image]]
    if len(others) < len(sizes) - len(pile.short) - 1:
        return False
    beyond = sum(total(clip(pile.data(i), sizes[image], sizes[i])) for i in others)
    return beyond >= max(LEAST_BEYOND, BEYOND_SHARE * sum(total(pile.data(i)) for i in others))


def judge(
    table: Table,
    possible: Sequence[Hypothesis],
    placed: Sequence[tuple[Anchors, int]],
    kept: Sequence[tuple[Anchors, int]],
) -> list[Judged]:
    """The best different hypotheses with what was read in their volumes, the best in all first."""
    judged: list[Judged] = []
    for h in possible[:120]:
        if len(judged) >= MOST_READ or (judged and h.score < judged[0].h.score - NEAR_NATS):
            break
        if not any(same_answer(h, other.h) for other in judged):
            findings = read_volume(h, table.pile, placed, kept, table.carved)
            untold = UNTOLD_NATS * (
                h.candidate.level == "RAID1E" and not findings.copies.tested
            )  # two copies, and nobody has both
            judged.append(Judged(h, findings, h.score + findings.nats + natural_nats(table, h) - untold))
            top = max(judged, key=lambda j: j.total)
            table.best = so_far(table, top)
            best_words = words(top.h, table.pile)
            table.tell(f"{BEST}{best_words[:100]}", len(judged), min(MOST_READ, len(possible)))
    judged.sort(key=lambda j: -j.total)
    # somebody in it does not belong where rows do not match: who, if leaving one out makes them
    if judged[0].findings.copies.broken > FEW_ROWS * judged[0].findings.copies.tested:
        best = judged[0].h
        whole = judged[0].total
        for position, column in enumerate(best.order):
            if column is None:
                continue
            order = (*best.order[:position], None, *best.order[position + 1 :])
            variants = [order]
            for gap in (p for p, c in enumerate(best.order) if c is None):
                moved = list(order)
                moved[gap] = column
                variants.append(tuple(moved))
            for order in variants:
                gone = sum(c is None for c in order) - sum(c is None for c in best.order)
                other = replace(best, order=order, score=best.score - MISSING_NATS * gone)
                findings = read_volume(other, table.pile, placed, kept, table.carved)
                if other.score + findings.nats > whole and findings.copies.tested:
                    judged.append(Judged(other, findings, other.score + findings.nats))
        judged.sort(key=lambda j: -j.total)
    judged[0] = refined(table, plainest(judged[0], possible), placed, kept)
    best = judged[0].h
    near = [h for h in (exchanged(best), spans_exchanged(table, best, placed)) if h is not None]
    for other in near:
        findings = read_volume(other, table.pile, placed, kept, table.carved)
        own = best.score + told(table, other, placed) - told(table, best, placed)
        # no other order has more than the second
        judged.append(Judged(other, findings, min(best.runner_up, own) + findings.nats))
    top, rest = judged[0], sorted(judged[1:], key=lambda j: -j.total)
    return [top, *rest]


def plainest(judged: Judged, possible: Sequence[Hypothesis]) -> Judged:
    """The same answer in its plainest words: with fewer missing members (RAID 4 without its parity is RAID 0), in the
    layout that its level lists first (parity first or last is the same for RAID 4, but for the positions' names)."""

    def rank(h: Hypothesis) -> tuple[int, int]:
        return h.candidate.missing, h.candidate.layouts.index(h.layout)

    best = judged.h
    alike = [h for h in possible if rank(h) < rank(best) and h.layout.q_exponent == best.layout.q_exponent]
    same = [h for h in alike if same_answer(h, best) and same_parity(h, best)]
    if not same:
        return judged
    return replace(judged, h=replace(min(same, key=rank), score=judged.h.score, runner_up=judged.h.runner_up))


def natural_nats(table: Table, h: Hypothesis) -> float:
    """Whether what is computed for missing members looks like what the others hold: nats for or against."""
    if not h.candidate.missing or h.candidate.level not in PARITY_LEVELS:
        return 0.0
    reader = reader_of(table, h.candidate)
    model = reader.model(h.start)
    if not model.taught:
        return 0.0
    volume = rebuilt(h, table.pile)
    made = volume.geometry
    rows = reader.rows(h.strip, h.start, COMPUTED_BLOCKS)
    offsets = h.start + np.array(rows, np.int64) * h.strip
    lost: list[int] = []
    known: list[int] = []
    for position, member in enumerate(volume.members):
        at = made.to_volume(position, offsets)
        (known if member is not None else lost).extend(int(a) for a in at if a >= 0)
    if not known or not lost:
        return 0.0
    few = (chosen[:: max(1, len(chosen) // COMPUTED_BLOCKS)] for chosen in (known, lost))
    typical, computed = (model.natural(np.array([_block(volume, a) for a in chosen], np.uint8)) for chosen in few)
    level = float(typical.mean())
    computed = computed[computed != 0]
    return float(np.clip((computed - 0.5 * level) / (0.5 * level), -1, 1).sum()) if level > 0.05 else 0.0


def _block(volume: Array, at: int) -> np.ndarray:
    out = np.zeros(4096, np.uint8)
    with contextlib.suppress(BlockSourceError):
        volume.read_into(at, out)
    return out


def checked(table: Table, best: Hypothesis, group: Membership, inside: tuple[int, int]) -> Membership:
    """A group with the places at which it does not close after all, looked for in as many rows as can be read; sectors
    that could not be read when the images were made left out."""
    if group.kind not in PARITY_KINDS or best.candidate.level not in PARITY_LEVELS:
        return group
    volume = rebuilt(best, table.pile)
    checked_bytes = min(CHECKED_BYTES, table.budget)
    rows = max(LEAST_ROWS, checked_bytes // (best.strip * best.layout.members))
    _tested, broken = broken_rows(volume, rows)
    if not broken:
        return replace(group, open=())
    offsets: list[int] = []
    for row in broken[:: max(1, len(broken) // 48)]:
        first = best.start + row * best.strip
        offsets += range(first, first + best.strip, max(4096, best.strip // 16 // 4096 * 4096))
    extra = places_of(survey_at(table.pile, np.array(offsets, np.int64)), table.outdated)
    known = {p.offset for p in table.places}
    table.places = sorted([*table.places, *(p for p in extra if p.offset not in known)], key=lambda p: p.offset)
    made = tested(frozenset(group.images), table.places, inside) or group
    explained = unread(table.pile, made)
    return replace(made, open=tuple(o for o in made.open if o not in explained))
