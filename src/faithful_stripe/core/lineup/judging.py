"""Judging: the best hypotheses read as volumes, the best of them checked everywhere, and the verdict."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations

import numpy as np

from ..arrays.engine import Array
from ..source import BlockSourceError
from .anchors import Anchors
from .ballots import base_under, entry_of, joint, with_prior
from .cast import Cast, layouts_of
from .certainty import anchored, fits_most, only_guessed, pinned, untold
from .document import Evidence, Lineup
from .gaps import GAP_NATS, PARITY_LEVELS, Judged, better_in_gaps, moved_to_gaps, told
from .hypotheses import MISSING_NATS, Hypothesis, make_ballot
from .membership import Membership, places_of, survey_at, tested
from .outdated import culprit, unread
from .rows import broken_rows
from .sameness import same_answer, same_parity
from .samples import BEST
from .search import search
from .table import Table
from .verdict import (
    MARGIN_NATS,
    PROBABLE_NATS,
    TOTAL_NATS,
    Findings,
    exchanged,
    final_geometry,
    held_facts,
    read_volume,
    rebuilt,
    without_tail,
    words,
)

MOST_READ = 10
"""Different hypotheses whose volumes are read."""

COMPUTED_BLOCKS = 32

UNTOLD_NATS = 20.0

FEW_ROWS = 0.15
"""So many rows may fail for sectors that could not be read; more do where somebody does not belong."""

CHECKED_BYTES, LEAST_ROWS = 160 << 20, 32
"""How much of an array is read to see whether its parity is right everywhere, and how many rows at least."""

KIND_WORDS = {
    "sum": "members of one parity group",
    "two": "members of one group with P and Q",
    "two less one": "members of one group with P and Q, one of which is missing",
    "copies": "copies of one another",
    "ring": "neighbours that hold the same a strip further on (RAID 1E)",
    "open ring": "neighbours that hold the same a strip further on, but for a gap (RAID 1E)",
    "chain": "neighbours that share every other row (RAID 1E)",
}


def conclude(
    table: Table, found: Sequence[Hypothesis], files: Sequence[Anchors], tables: Sequence[Anchors],
    starts: Sequence[int],
) -> Lineup:  # fmt: skip
    """Vote once more with every ground at its place in the volume, read the best ones, and say how sure the best is."""
    first = found[0]
    placed = [(a, base) for a in [*files, *tables] if (base := base_under(first, a, starts)) is not None]
    candidates = [h for h in found if _survives(h)] or list(found)
    first = candidates[0]
    _ballot, kept = joint(first.cast, placed)
    if len(placed) > 1 or first.base:
        several = list({id(h.cast): h.cast for h in found[:40]}.values())[:3]
        entries = [entry_of(table, cast, joint(cast, placed)[0]) for cast in several]
        odd = bool(first.strip & (first.strip - 1))
        again = search(entries, [0], [first.start, 0], odd, table.tell)[:60]
        weighed = [with_prior(table, h, [*files, *tables], [0], [first.start]) for h in again]
        candidates = [h for h in weighed if _survives(h)] or weighed
    candidates.sort(key=lambda h: -h.score)
    judged = judge(table, candidates, placed, kept)
    judged = [*better_in_gaps(table, judged[0], placed, kept), *judged[1:]]
    best = judged[0]
    for one in judged[:5]:
        table.note("hypotheses", f"{words(one.h, table.pile)}; with what was read in it {one.total:.0f}")
    inside = extent(best.h, placed)
    groups = [checked(table, best.h, g, inside) for g in table.groups if set(g.images) <= set(best.h.cast.images)]
    open_at = sorted({o for g in groups for o in g.open if o >= best.h.start})
    stale: tuple[int, ...] = ()
    if open_at and best.h.cast.level in PARITY_LEVELS:
        blamed, shown = culprit(
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
            order = tuple(
                None if c is not None and blamed in best.h.cast.columns[c] else c for c in best.h.order
            )  # what is read without it is what will be handed over
            less = replace(best.h, order=order)
            findings = read_volume(less, table.pile, placed, kept, table.carved)
            judged[0] = Judged(less, findings, best.total - best.findings.nats + findings.nats)
            if not shown:  # the same with that member in it
                judged.insert(1, Judged(best.h, best.findings, judged[0].total - GAP_NATS))
    stale += tuple(old for old, new in table.outdated.items() if new in best.h.cast.images)
    judged += moved_to_gaps(table, judged[0], placed, kept)
    return finish(table, [judged[0], *sorted(judged[1:], key=lambda j: -j.total)], open_at, stale, placed, groups)


def _survives(h: Hypothesis) -> bool:
    """Whether no span lacks more members than it survives: of what else lacks some there would be no volume."""
    if h.cast.level not in PARITY_LEVELS:
        return True
    k, most = h.layout.span_members, 2 if h.layout.q_place else 1
    return all(sum(c is None for c in h.order[i : i + k]) <= most for i in range(0, len(h.order), k))


def judge(
    table: Table,
    candidates: Sequence[Hypothesis],
    placed: Sequence[tuple[Anchors, int]],
    kept: Sequence[tuple[Anchors, int]],
) -> list[Judged]:
    """The best different hypotheses with what was read in their volumes, the best in all first."""
    judged: list[Judged] = []
    for h in candidates[:120]:
        if len(judged) >= MOST_READ or (judged and h.score < judged[0].h.score - 60):
            break
        if not any(same_answer(h, other.h) for other in judged):
            findings = read_volume(h, table.pile, placed, kept, table.carved)
            untold = UNTOLD_NATS * (h.cast.level == "RAID1E" and not findings.rows)  # two copies, and nobody has both
            judged.append(Judged(h, findings, h.score + findings.nats + natural_nats(table, h) - untold))
            best_words = words(max(judged, key=lambda j: j.total).h, table.pile)
            table.tell(f"{BEST}{best_words[:100]}", len(judged), min(MOST_READ, len(candidates)))
    judged.sort(key=lambda j: -j.total)
    # somebody in it does not belong where rows do not add up: who, if leaving one out makes them
    if judged[0].findings.broken_rows > FEW_ROWS * judged[0].findings.rows:
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
                if other.score + findings.nats > whole and findings.rows:
                    judged.append(Judged(other, findings, other.score + findings.nats))
        judged.sort(key=lambda j: -j.total)
    judged[0] = refined(table, plainest(judged[0], candidates), placed, kept)
    best = judged[0].h
    near = [h for h in (exchanged(best), spans_exchanged(table, best, placed)) if h is not None]
    for other in near:
        findings = read_volume(other, table.pile, placed, kept, table.carved)
        own = best.score + told(table, other, placed) - told(table, best, placed)
        # no other order has more than the second
        judged.append(Judged(other, findings, min(best.runner_up, own) + findings.nats))
    top, rest = judged[0], sorted(judged[1:], key=lambda j: -j.total)
    return [top, *rest]


def spans_exchanged(table: Table, best: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> Hypothesis | None:
    """The hypothesis with two whole spans exchanged of which least says that they do not stand so: what a proof must be
    able to refuse, too."""
    k, spans = best.layout.span_members, best.layout.spans
    found = []
    for a, b in combinations(range(spans if best.cast.level in PARITY_LEVELS else 1), 2):
        order = list(best.order)
        order[a * k : a * k + k], order[b * k : b * k + k] = order[b * k : b * k + k], order[a * k : a * k + k]
        found.append(replace(best, order=tuple(order)))
    return max(found, key=lambda h: told(table, h, placed), default=None)


MOST_WEAK, ROUNDS = 8, 4


def refined(
    table: Table, best: Judged, placed: Sequence[tuple[Anchors, int]], kept: Sequence[tuple[Anchors, int]]
) -> Judged:
    """Where what was read speaks against the best order: columns on which no structure stands exchanged, two at a
    time, as long as the volume reads better."""
    for _ in range(ROUNDS):
        failing = best.findings.proof.failures or best.findings.broken > best.findings.files
        weak = [p for p, c in enumerate(best.h.order) if c is not None and not anchored(best.h, c, placed)]
        if not failing or not 2 <= len(weak) <= MOST_WEAK or not np.isfinite(best.h.runner_up):
            return best
        found = [best]
        for a, b in combinations(weak, 2):
            order = list(best.h.order)
            order[a], order[b] = order[b], order[a]
            h = replace(best.h, order=tuple(order))
            findings = read_volume(h, table.pile, placed, kept, table.carved)
            # structures and relations say at least this much less for it
            worse = best.h.score - best.h.runner_up
            found.append(Judged(h, findings, best.total - worse - best.findings.nats + findings.nats))
        better = max(found, key=lambda j: j.total)
        if better is best:
            return best
        best = better
    return best


def plainest(judged: Judged, candidates: Sequence[Hypothesis]) -> Judged:
    """The same answer in its plainest words: with fewer missing members (RAID 4 without its parity is RAID 0), in the
    layout that its level lists first (parity first or last is the same for RAID 4, but for the positions' names)."""

    def rank(h: Hypothesis) -> tuple[int, int]:
        return h.cast.missing, h.cast.layouts.index(h.layout)

    best = judged.h
    alike = [h for h in candidates if rank(h) < rank(best) and h.layout.q_exponent == best.layout.q_exponent]
    same = [h for h in alike if same_answer(h, best) and same_parity(h, best)]
    if not same:
        return judged
    return replace(judged, h=replace(min(same, key=rank), score=judged.h.score, runner_up=judged.h.runner_up))


def natural_nats(table: Table, h: Hypothesis) -> float:
    """Whether what is computed for missing members looks like what the others hold: nats for or against."""
    if not h.cast.missing or h.cast.level not in PARITY_LEVELS:
        return 0.0
    reader = entry_of(table, h.cast, make_ballot(h.cast, None)).reader
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


def extent(h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> tuple[int, int]:
    """From where to where on the members the data stand, as far as file systems tell, in bytes."""
    size = max((base + a.ground.size for a, base in placed if not a.ground.starts), default=0)
    pattern = h.layout.pattern()
    return h.start, h.start + size // (h.strip * pattern.strips) * h.strip * pattern.rows


def checked(table: Table, best: Hypothesis, group: Membership, inside: tuple[int, int]) -> Membership:
    """A group with the places at which it does not close after all, looked for in as many rows as can be read; sectors
    that could not be read when the images were made left out."""
    if group.kind not in ("sum", "two", "two less one") or best.cast.level not in PARITY_LEVELS:
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


def finish(
    table: Table, judged: Sequence[Judged], open_at: Sequence[int], stale: tuple[int, ...],
    placed: Sequence[tuple[Anchors, int]], groups: Sequence[Membership],
) -> Lineup:  # fmt: skip
    """The verdict in words and numbers."""
    best, findings = judged[0].h, judged[0].findings
    rival = judged[1] if len(judged) > 1 else None
    next_score = rival.total if rival else 0.0
    evidence: list[Evidence] = []
    for g in groups:
        says = f"places at which {len(g.images)} images are related as {KIND_WORDS[g.kind]}, of {g.blocks}"
        evidence.append(Evidence("membership", g.closing, says))
    kinds = "; ".join(
        f"{a.ground.words}: " + ", ".join(f"{c} {k}" for k, c in a.ground.kinds.items()) for a, _ in placed
    )
    standing = sum(held_facts(best, anchors, base)[0] for anchors, base in placed)
    if standing:
        says = f"structures that state their own address stand where this lineup puts them ({kinds})"
        evidence.append(Evidence("anchors", standing, says))
    evidence += findings.evidence()
    total = judged[0].total
    lead = total - next_score
    enough = lead > MARGIN_NATS and total > TOTAL_NATS
    likely = lead > PROBABLE_NATS and total > PROBABLE_NATS
    unsure = [table.names(best.cast.columns[c]) for c in untold(table, best, placed)]
    told = pinned(table, best, placed) and fits_most(best, placed) and not unsure
    outdone = any(_reads_better(j.findings, findings) for j in judged[1:])
    told &= not only_guessed(best, placed)
    certain = findings.holds and enough and not open_at and told and not outdone
    likely &= not findings.contradicted and _survives(best)  # else there is no volume
    verdict = "certain" if certain and likely else "probable" if likely else "undecided"
    alternatives = []
    if lead < MARGIN_NATS and rival is not None:
        alternatives.append(words(rival.h, table.pile))
    made, members = final_geometry(best, table.pile)
    made = without_tail(made, best, table.pile, table.places, extent(best, placed)[1])
    names = table.pile.names
    return Lineup(
        geometry=made,
        members=tuple(None if i is None or i in stale else names[i] for i in members),
        verdict=verdict,
        best=total,
        next=max(0.0, next_score),
        evidence=tuple(evidence),
        alternatives=tuple(alternatives),
        stale=tuple(names[i] for i in stale),
        settle="" if certain else _settle(findings, lead, len(open_at), unsure),
    )


def _reads_better(other: Findings, best: Findings) -> bool:
    """Whether more holds in another answer's volume, where file systems are walked, and less fails."""
    return other.proof.failures < best.proof.failures and other.proof.passes >= best.proof.passes


def _settle(findings: Findings, lead: float, open_places: int, unsure: Sequence[str]) -> str:
    if open_places:
        return (
            f"parity does not close at {open_places} sampled places: a member is out of date, or they were never "
            "initialized"
        )
    if findings.contradicted:
        return "checksums fail under the best answer: a member may be missing, stale or foreign"
    if lead <= MARGIN_NATS:
        return f"another answer is only {max(0.0, lead):.0f} nats behind: more structures that state their address"
    if unsure:
        return f"nothing on {', '.join(unsure)} says where it belongs: it stands where a place was left"
    return "too little was found: more data on the volume, or the controller's own configuration"


def members_only(table: Table, group: Membership) -> Lineup:
    """Membership known, order not."""
    level = "RAID6" if group.kind.startswith("two") else "RAID5"
    chosen = layouts_of(level, len(group.images) + (group.kind == "two less one"))[0]
    columns = tuple((i,) for i in group.images)
    order = (*range(len(columns)), *(None,) * (chosen.members - len(columns)))
    made, members = final_geometry(
        Hypothesis(Cast(level, (chosen,), columns), chosen, 64 << 10, 0, 0, order, 0.0), table.pile
    )
    says = f"places at which {len(group.images)} images are related as {KIND_WORDS[group.kind]}, of {group.blocks}"
    return Lineup(
        geometry=made,
        members=tuple(None if i is None else table.pile.names[i] for i in members),
        verdict="undecided",
        best=0.0,
        next=0.0,
        evidence=(Evidence("membership", group.closing, says),),
        alternatives=("any order, strip size and rotation of these members",),
        settle="nothing on them states its own address: a known file's contents or the controller's configuration",
    )
