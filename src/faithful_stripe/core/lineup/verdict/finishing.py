"""Finishing: the four verdicts on the best hypothesis, their reasons, and their evidence in words and numbers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from ...arrays.engine import Array
from ..document.alternative import Alike, Alternative
from ..document.calibration import MOST_APART, Signs, chance
from ..document.four_verdicts import Reason, Sure, Verdict, Verdicts
from ..document.four_verdicts import placed as placed_as
from ..document.lineup_document import DISPLACED, Lineup
from ..document.told_facts import Evidence, Settle, Settles, What
from ..evidence.ages import ages_of, mates_compared
from ..evidence.membership import LEAST_CLOSING, PARITY_KINDS, Membership
from ..evidence.row_tests import test_sectors
from ..hypotheses.as_volume import alternative, final_geometry, final_layout, rebuilt
from ..hypotheses.assignment import Hypothesis
from ..hypotheses.candidate import Candidate, layouts_of
from ..hypotheses.member_tails import without_tail
from ..hypotheses.pile_table import Table
from ..structures.anchors import Anchors
from .beside_answers import close_rival
from .beside_members import gainsaid, parity_beside
from .certainty import (
    LEAST_STATED,
    MOST_MIRRORED,
    STATED_NATS,
    Standing,
    counted,
    displaced,
    fits_most,
    mirrored_within,
    only_guessed,
    rows_stated,
    rows_told,
    shape_open,
    standing_of,
    strangely_related,
    turns_later,
    unsure,
)
from .missing_slot import PARITY_LEVELS, Judged
from .refining import explained, scarce
from .volume_reading import MARGIN_NATS, MOST_BROKEN, PROBABLE_NATS, TOTAL_NATS, Findings
from .volume_start import Begin, begins_elsewhere
from .weighed import ledger_of


def related_as(group: Membership) -> Evidence:
    """That images are related, as evidence."""
    return Evidence("membership", group.closing, What.RELATED, group.blocks, group.kind, len(group.images))


def survives(h: Hypothesis) -> bool:
    """Whether no span lacks more members than it survives: of what else lacks some there would be no volume."""
    if h.candidate.level not in PARITY_LEVELS:
        return True
    k, most = h.layout.span_members, 2 if h.layout.q_place else 1
    return all(sum(c is None for c in h.order[i : i + k]) <= most for i in range(0, len(h.order), k))


def extent(h: Hypothesis, placed: Sequence[tuple[Anchors, int]]) -> tuple[int, int]:
    """From where to where on the members the data stand, as far as file systems tell, in bytes."""
    size = max((base + a.ground.size for a, base in placed), default=0)
    pattern = h.layout.pattern()
    return h.start, h.start - (-size // (h.strip * pattern.strips)) * h.strip * pattern.rows  # its last row, too


def finish(
    table: Table, judged: Sequence[Judged], open_at: Sequence[int], stale: tuple[int, ...], beside: tuple[int, ...],
    placed: Sequence[tuple[Anchors, int]], groups: Sequence[Membership], begin: Begin,
) -> Lineup:  # fmt: skip
    """The verdicts, with their evidence.

    stale   members that are out of date; beside: images that are out of date copies of members
    begin   where the volume begins, of the hypothesis with all its members
    """
    judged, begin, starts = _of_orders(judged, begin)
    best, findings = judged[0].h, judged[0].findings
    rival = judged[1] if len(judged) > 1 else None
    next_score = rival.total if rival else 0.0
    evidence: list[Evidence] = []
    for g in groups:
        evidence.append(related_as(g))
    kinds = "; ".join(
        f"{a.ground.words}: " + ", ".join(f"{c} {k}" for k, c in a.ground.kinds.items()) for a, _ in placed
    )
    standing = standing_of(best, placed)
    if standing.right:
        evidence.append(Evidence("anchors", standing.right, What.STANDING, name=kinds))
    evidence += findings.evidence()
    if moved := displaced(best, placed):
        evidence.append(Evidence(DISPLACED, moved, What.DISPLACED))
    total, lead = judged[0].total, judged[0].total - next_score
    left = [table.names(best.candidate.columns[c]) for c in unsure(table, judged[0], placed)]
    parity = [g for g in groups if g.kind in PARITY_KINDS and not g.until]
    by_groups = best.candidate.level in PARITY_LEVELS and not stale and not best.layout.spare  # it is in no relation
    looked = sum(g.blocks for g in parity) if by_groups else 0
    unexplained = 1 - sum(g.closing for g in parity) / looked if looked else 0.0
    verdicts = _verdicts(table, judged, placed, lead, left, begin, standing, unexplained)
    signs = signs_of(table, judged, placed, len(left), parity, begin, verdicts.order, standing)
    alternatives = [alternative(h, table.pile) for h in starts]
    if lead < MARGIN_NATS and rival is not None:
        alternatives.append(alternative(rival.h, table.pile))
    made, members = final_geometry(best, table.pile)
    ages = ages_of(made, final_layout(begin.h)[1], placed)
    if made.layout.level == "RAID10" and any(g.open for g in groups):
        mates = mates_compared(made, members, placed)
        older = {members[age.member] for age in mates if age.older}
        ages, stale = (mates, (*stale, *(i for i in older if i is not None))) if older else (ages, stale)
    if not any(g.until for g in groups):  # else somebody on whom something else stands is in it
        made = without_tail(made, best, table.pile, table.places, extent(best, placed)[1])
        if more := mirrored_behind(table, best, made.start_bytes[0] + made.member_bytes[0]):
            evidence.append(Evidence(DISPLACED, more, What.EQUAL_BEHIND))
    names = table.pile.names
    return Lineup(
        geometry=made,
        members=tuple(None if i is None or i in stale else names[i] for i in members),
        verdicts=verdicts,
        best=total,
        next=max(0.0, next_score),
        evidence=tuple(evidence),
        alternatives=tuple(alternatives),
        stale=tuple(names[i] for i in (*stale, *beside)),
        settle=_settle(verdicts, findings, lead, left),
        seats=seats_of(begin.h, stale, names),
        ages=ages,
        signs=signs,
        chance=chance(signs),
        ledger=ledger_of(table, judged[0], placed),
        rival=ledger_of(table, rival, placed) if rival else (),
    )


def _of_orders(judged: Sequence[Judged], begin: Begin) -> tuple[list[Judged], Begin, list[Hypothesis]]:
    """The best answer and those of another order; where the volume begins, with the doubt that those bring which have
    it begin in another row alone, and are nearly as good; and these."""
    best, others, near = judged[0], list[Judged](), list[Hypothesis]()
    for other in judged[1:]:
        if not begins_elsewhere(best.h, other.h):
            others.append(other)
            continue
        lead = best.total - other.total
        if lead > MARGIN_NATS or begin.verdict.sure is Sure.CERTAIN:
            continue
        same = final_layout(other.h)[1] == final_layout(best.h)[1]
        doubt = replace(begin.verdict, sure=Sure.UNDECIDED) if lead <= PROBABLE_NATS else begin.verdict
        begin = replace(begin, verdict=doubt, settled=begin.settled and same)
        near.append(other.h)
    return [best, *others], begin, near


def signs_of(
    table: Table, judged: Sequence[Judged], placed: Sequence[tuple[Anchors, int]], eliminated: int,
    groups: Sequence[Membership], begin: Begin, order: Verdict, standing: Standing,
) -> Signs:  # fmt: skip
    """What an answer stands on, in figures."""
    best, next_one = judged[0], judged[1].total if len(judged) > 1 else 0.0
    h, findings = best.h, best.findings
    members = final_layout(h)[1]
    seated = {i for i in members if i is not None}
    sizes = {table.pile.sources[i].size for i in seated}
    known = seated | set(table.outdated)
    return Signs(
        lead=best.total - next_one, total=best.total,
        members=len(members), missing=sum(i is None for i in members),
        beside=sum(table.pile.sources[i].size in sizes for i in range(len(table.pile)) if i not in known),
        rows=rows_told(table, h), eliminated=eliminated,
        failing=findings.failures + findings.tested - findings.held + findings.copies.broken + findings.unlinked,
        closing=sum(g.closing for g in groups) / max(1, sum(g.blocks for g in groups)),
        counted=counted(table, h, placed), pinned=begin.verdict.sure is Sure.CERTAIN,
        parity=h.candidate.level in PARITY_LEVELS, likely=order.sure is not Sure.UNDECIDED,
        stated=rows_stated(h, placed), elsewhere=standing.share_elsewhere,
    )  # fmt: skip


def mirrored_behind(table: Table, h: Hypothesis, end: int) -> int:
    """At how many places behind the end of a striped mirror only the members of one set hold the same: what a
    controller writes there it writes on all, or on each another; a last row may be filled in part."""
    if h.candidate.level != "RAID10":
        return 0
    sets = {frozenset(h.candidate.columns[c]) for c in h.order if c is not None and len(h.candidate.columns[c]) > 1}
    return sum(p.offset >= end and any(frozenset(r.images) in sets for r in p.relations) for p in table.places)


def _verdicts(
    table: Table, judged: Sequence[Judged], placed: Sequence[tuple[Anchors, int]], lead: float, left: Sequence[str],
    begin: Begin, standing: Standing, unexplained: float = 0.0,
) -> Verdicts:  # fmt: skip
    """Order and start: certain only where nothing is left to doubt.

    unexplained  the share of the rows looked at that do not match, where nobody was found to be at fault
    """
    best, findings, total = judged[0].h, judged[0].findings, judged[0].total
    # what was voted speaks for another one: that must be outweighed by as much as any other answer must
    against = max((j.h.score - best.score for j in judged[1:]), default=0.0)
    close = lead <= MARGIN_NATS + max(0.0, against)
    enough = not close and total > TOTAL_NATS
    likely = lead > PROBABLE_NATS and total > PROBABLE_NATS
    likely &= not findings.contradicted and survives(best)  # else there is no volume
    outdone = any(_reads_better(j.findings, findings) for j in judged[1:])
    exchange = (findings.files_fail and len(scarce(best, placed)) > 1) or explained(table, best, findings)
    proven = findings.holds or (
        lead >= STATED_NATS and not findings.speaks_against and standing.nearly_all >= LEAST_STATED
    )
    doubts = (
        (not enough, Reason.RIVAL if close else Reason.FEW),
        (not counted(table, best, placed), Reason.UNCOUNTED),
        (not proven, Reason.FAILING if findings.contradicted else Reason.FEW),
        (bool(left), Reason.ELIMINATION), (outdone or not fits_most(best, placed), Reason.FAILING),
        (findings.kept_fail, Reason.FAILING),
        (only_guessed(best, placed), Reason.GUESSED), (not q_holds(table, best), Reason.Q_RULE),
        (bool(exchange), Reason.EXCHANGE),
        (turns_later(table, best, placed), Reason.RIVAL),
        (mirrored_within(best, placed) > MOST_MIRRORED, Reason.FAILING),
        (bool(table.fits_as_well) or left_out(table, best) is not None, Reason.LEFT_OUT),
        (unexplained > UNEXPLAINED_SHARE, Reason.OPEN_ROWS),
        (not begin.settled, Reason.SHIFT),
    )  # fmt: skip
    reason = next((why for doubt, why in doubts if doubt), Reason.PROVEN)
    for open_, why in (
        (standing.share_elsewhere > MOST_APART, Reason.FAILING),
        (strangely_related(table, best), Reason.OPEN_ROWS),
        (gainsaid(table, best, placed) or parity_beside(table, best), Reason.LEFT_OUT),
        (shape_open(table, best, reason in (Reason.RIVAL, Reason.UNCOUNTED)), Reason.UNCOUNTED),
    ):
        if open_:
            likely, reason = False, why if reason is Reason.PROVEN else reason
    certain = likely and reason is Reason.PROVEN
    order = Verdict(Sure.CERTAIN if certain else Sure.PROBABLE if likely else Sure.UNDECIDED, reason)
    start = begin.verdict
    if not likely:
        start = replace(start, sure=Sure.UNDECIDED)
    elif start.sure is Sure.CERTAIN and not certain and reason is not Reason.Q_RULE:
        start = replace(start, sure=Sure.PROBABLE)  # it is one of the volume with these members
    return Verdicts(order, start)


def left_out(table: Table, h: Hypothesis) -> int | None:
    """An image that takes no part although it adds up with the members of a span that lacks one, in places."""
    if not h.candidate.missing or h.candidate.level not in PARITY_LEVELS:
        return None
    k, used = h.layout.span_members, {i for c in h.order if c is not None for i in h.candidate.columns[c]}
    others = set(range(len(table.pile))) - used - set(table.outdated)
    for at in range(0, len(h.order), k):
        columns = h.order[at : at + k]
        span = {i for c in columns if c is not None for i in h.candidate.columns[c]}
        for image in others if None in columns else ():
            together = span | {image}
            closing = 0
            for place in table.places:
                filled = place.filled & together
                covered = {i for r in place.relations if set(r.images) <= together for i in r.images}
                closing += image in covered and filled == covered and len(filled) > 2
            if closing >= LEAST_CLOSING:
                return image
    return None


def so_far(table: Table, best: Judged) -> Lineup:
    """The best of the hypotheses that were read, for when the search is stopped before it could be judged."""
    made, members = final_geometry(best.h, table.pile)
    return Lineup(
        geometry=made,
        members=tuple(None if i is None else table.pile.names[i] for i in members),
        verdicts=placed_as("undecided").doubted(Reason.STOPPED),
        best=best.total,
        next=max(0.0, best.h.runner_up if np.isfinite(best.h.runner_up) else 0.0),
        evidence=tuple(best.findings.evidence()),
        settle=Settles(Settle.STOPPED),
    )


def seats_of(whole: Hypothesis, stale: Sequence[int], names: Sequence[str]) -> tuple[tuple[str, int], ...]:
    """Where members that are out of date stand."""
    members = final_layout(whole)[1]
    return tuple((names[i], members.index(i)) for i in stale if i in members)


def q_holds(table: Table, h: Hypothesis) -> bool:
    """Whether Q is counted as the layout says, where P and Q can be tested: it matters once two members are gone."""
    if not h.layout.q_place or h.candidate.missing > 1:
        return True
    volume = rebuilt(h, table.pile)
    until = min((g.until for g in table.groups if g.until and set(g.images) <= set(h.candidate.images)), default=0)
    least = h.strip * h.layout.pattern().unit_rows
    if until - h.start > least:  # behind that, somebody holds something else
        size = (until - h.start) // h.strip * h.strip
        made = replace(volume.geometry, member_bytes=(size,) * h.layout.members)
        volume = Array(made, volume.members, name=volume.name)
    tested, broken = test_sectors(volume, Q_ROWS)
    return broken <= MOST_BROKEN * tested


Q_ROWS = 96
"""Rows in which Q is tried: some may be broken by damage, or because nobody initialized them."""


def _reads_better(other: Findings, best: Findings) -> bool:
    """Whether more holds in another answer's volume, where file systems are walked, and less fails."""
    return other.failures < best.failures and other.proof.passes >= best.proof.passes


UNEXPLAINED_SHARE = 0.4
"""Of the rows, those that may fail to match with nobody at fault where an order is certain: what is read through the
redundancy of more is read of a mixture. A third that nobody ever initialized is usual."""

SETTLED_BY = {
    Reason.OPEN_ROWS: Settle.OTHER_TIME,
    Reason.ELIMINATION: Settle.ELIMINATION,
    Reason.FAILING: Settle.FAILING,
    Reason.EXCHANGE: Settle.EXCHANGE,
    Reason.UNCOUNTED: Settle.COUNT,
    Reason.SHIFT: Settle.START,
    Reason.Q_RULE: Settle.Q_RULE,
    Reason.GUESSED: Settle.GUESSED,
}
"""What would settle an order that is doubted for a reason."""

PLENTY = 100


def _settle(verdicts: Verdicts, findings: Findings, lead: float, left: Sequence[str]) -> Settles | None:
    reason = verdicts.order.reason
    if verdicts.order.sure is Sure.CERTAIN:
        return Settles(Settle.START) if verdicts.start.sure is Sure.UNDECIDED else None
    if reason is Reason.RIVAL:
        return Settles(close_rival(lead))
    if (what := SETTLED_BY.get(reason)) is not None:
        return Settles(what, tuple(left) if what is Settle.ELIMINATION else ())
    return Settles(Settle.A_FILE if findings.proof.passes + findings.held >= PLENTY else Settle.MORE_DATA)


def members_only(table: Table, group: Membership) -> Lineup | None:
    """Membership known, order not; None where no layout has so many members."""
    level = "RAID6" if group.kind.startswith("two") else "RAID5"
    known = layouts_of(level, len(group.images) + (group.kind == "two less one"))
    if not known:  # more or fewer than any layout has
        return None
    chosen = known[0]
    columns = tuple((i,) for i in group.images)
    order = (*range(len(columns)), *(None,) * (chosen.members - len(columns)))
    made, members = final_geometry(
        Hypothesis(Candidate(level, (chosen,), columns), chosen, 64 << 10, 0, 0, order, 0.0), table.pile
    )
    return Lineup(
        geometry=made,
        members=tuple(None if i is None else table.pile.names[i] for i in members),
        verdicts=placed_as("undecided"),
        best=0.0,
        next=0.0,
        evidence=(related_as(group),),
        alternatives=(Alternative(Alike.ANY_LAYOUT),),
        settle=Settles(Settle.NO_ADDRESS),
    )
