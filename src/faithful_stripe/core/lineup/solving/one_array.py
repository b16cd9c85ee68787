"""One array: the lineup of images that belong together, from the candidates worth trying to a judged answer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ..document.calibration import measured
from ..document.four_verdicts import Sure
from ..document.lineup_document import Lineup
from ..hypotheses.assignment import Hypothesis, make_ballot
from ..hypotheses.candidate import candidates, rare_layouts, with_unseen
from ..hypotheses.fixed_points import candidates_given
from ..hypotheses.options import PLENTY_FACTS, options_of, with_borders
from ..hypotheses.pile_table import (
    USUAL_STARTS,
    Table,
    anything_before,
    guessed_starts,
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
    moved_starts,
    row_shifts,
    split,
    with_prior,
)
from ..structures.anchors import Anchors
from ..structures.partition_starts import COMMON_STARTS
from ..verdict.finishing import beside_another, members_only
from ..verdict.volume_reading import FILES_FAIL, FILES_HOLD, MARGIN_NATS, TOTAL_NATS
from ..verdict.weighing import conclude
from .grown import grew
from .mirrors import conclude_mirror
from .rare import beside_usual, q_does_not_match, takes_its_place
from .span import conclude_span
from .span_places import unstriped, whole_on


def as_measured(array: Lineup) -> Lineup:
    """An order that is likely but not proven is probable only where, of those on such signs, enough were right when
    that was measured. What is looked for until then does not depend on it."""
    verdicts = array.verdicts
    if array.chance is None or verdicts.order.sure is not Sure.PROBABLE or array.chance >= measured().least:
        return array
    order, start = (replace(one, sure=Sure.UNDECIDED) for one in (verdicts.order, verdicts.start))
    return replace(array, verdicts=replace(verdicts, order=order, start=start))


def surer(other: Lineup, made: Lineup) -> bool:
    """Whether another lineup of images is clearly the better one: certain, or no less sure with more evidence."""
    order = ("undecided", "probable", "certain")
    no_less = order.index(other.strength) > 0 or made.strength == "undecided"
    return other.strength == "certain" or (no_less and other.best > made.best + MARGIN_NATS)


def refuted(made: Lineup) -> bool:
    """Whether more of what was read in the volume speaks against an answer than for it."""
    if made.strength == "certain":
        return False
    proof, against, failing = (
        sum(e.count for e in made.evidence if e.kind == kind) for kind in ("proof", "against", "failing")
    )
    hold, fail = (sum(e.count for e in made.evidence if e.says == says) for says in (FILES_HOLD, FILES_FAIL))
    return against + failing > max(LEAST_AGAINST, proof) or fail > max(LEAST_AGAINST, 4 * hold)


LEAST_AGAINST = 4


def solve_cluster(
    table: Table, images: set[int], grounds: Sequence[Anchors], taken: set[int], alone: bool = False,
    odd: bool = False, rare: bool = False, unseen: bool = False,
) -> Lineup | None:  # fmt: skip
    """The lineup of images that belong together.

    alone   without what else lies about
    odd     strips need not be powers of two
    rare    in the layouts that are rare, and in no others
    unseen  with members that hold nothing where anything stands, and only so
    """
    given, effort = table.pile.given, table.pile.effort
    effort.untried = False
    groups = [g for g in table.groups if set(g.images) <= images]
    table.tell(f"order of {len(images)} images that belong together")
    files = [g for g in sorted(grounds, key=lambda a: (a.ground.guessed, -len(a))) if not g.ground.table]
    tables = [g for g in grounds if g.ground.table]
    starts = sorted({s for g in tables for s in g.ground.starts})
    in_turn = given is None or given.level in (None, "SPAN")
    one_by_one = conclude_span(table, images, files, tables, taken) if not groups and in_turn else None
    if one_by_one is not None and one_by_one.strength != "undecided":
        return one_by_one
    mirrors = [g for g in groups if g.kind == "copies"]
    whole = unstriped(files, images) if mirrors or not groups else set()
    named = [a for a in files if not a.ground.guessed]
    alike = next((g for g in mirrors if set(g.images) <= whole and whole_on(named, g.images[0])), None)
    if alike is not None and images > set(alike.images):  # a mirror by itself, whatever else bears the same
        return solve_cluster(table, set(alike.images), grounds, taken, True, odd, rare, unseen)
    whole = whole if not groups else set()
    if whole and len(images - whole) < 2:
        return one_by_one
    if whole:  # they are no members of what is striped
        theirs = [a for a in grounds if a.ground.table or a.ground.bound() - whole]
        return solve_cluster(table, images - whole, theirs, taken, alone, odd, rare, unseen) or one_by_one
    options = options_of(table, images, grounds, taken, alone)
    if given is not None:
        options = candidates_given(given, options, images, groups, table.pile.names)
    if unseen:
        options = with_unseen(groups)
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
    odd_place = found and (found[0].start not in USUAL_STARTS or _explained(entries, found[0]) < NEARLY_EXPLAINED)
    if primary is not None and not starts and odd_place:
        # a table that is gone may have had the file system begin where partitions do
        more = [b for b in COMMON_STARTS if b not in bases]
        there, likely = list(dict.fromkeys([*usual, *moved_starts(found[0], more)])), _likely(entries, found)
        if more:
            looked_at = [entry.reader.candidate for entry in likely]
            rest = [h for h in found if not any(h.candidate is one for one in looked_at)]
            found = search(likely, bases + more, there, odd, table.tell)[:60] + rest
        bases += more
    used_images = (
        {i for c in found[0].order if c is not None for i in found[0].candidate.columns[c]} if found else images
    )
    theirs = [a for a in grounds if not a.ground.bound() or a.ground.bound() & used_images]
    if len(theirs) < len(grounds):  # a file system that is only on images which take no part is another's
        return solve_cluster(table, used_images, theirs, taken, True, odd, rare, unseen)
    if primary is not None and found and found[0].candidate.phase >= 0:
        base = base_of_order(found[0], primary)
        if base is not None and base not in bases:
            shifted = row_shifts(found[0], base)
            bases = list(dict.fromkeys([*bases, base, *(b for _s, b in shifted)]))
            usual = list(dict.fromkeys([*usual, *(s for s, _b in shifted)]))
            found = search(_likely(entries, found), bases, usual, odd)[:60]
    if primary is not None and found and found[0].start not in USUAL_STARTS and not primary.ground.table:
        # the same places with the ground further on in the volume, and data that start where they usually do
        least = found[0].start % found[0].strip
        more = [b for s in dict.fromkeys((*usual, *USUAL_STARTS, least)) for b in moved_bases(found[0], s)]
        entries = _likely(entries, found)
        # beside those that are known: scores of one search only are comparable, and another place stays a rival
        there = list(dict.fromkeys([*(h.base for h in found), *more]))
        again = search(entries, there, usual, odd)[:60] if more else found
        known = any((h.start, h.base) == (found[0].start, found[0].base) for h in again)
        found = again if known else [*again, *found]
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
    made = _concluded(table, ranked, files, tables, starts, usual[0])
    plenty = primary is not None and len(primary) >= PLENTY_FACTS
    poor = made is not None and plenty and (made.best < TOTAL_NATS or as_measured(made).strength == "undecided")
    mirrored = bool(groups) and all(g.kind == "copies" for g in groups)
    blind = primary is None and made is not None and made.strength == "undecided" and not mirrored
    doubtful = blind or (primary is not None and (poor or (made is not None and refuted(made))))
    open_ = made is not None and made.strength == "undecided" and plenty and not (odd or rare or unseen)
    if made is not None and open_ and with_unseen(groups) and effort.left():
        table.tell("with members that hold nothing")
        with effort.within(LESS_LIKELY):
            other = solve_cluster(table, images, grounds, taken, alone, unseen=True)
        if other is not None and not refuted(other) and surer(other, made):
            return beside_another(other, made)
    open_strip = any(not o.strip for o in options)
    if made is not None and open_strip and not (odd or rare or unseen) and doubtful and effort.left():
        with effort.within(LESS_LIKELY):
            other = solve_cluster(table, images, grounds, taken, alone, True)
        if other is not None and not refuted(other) and (surer(other, made) or refuted(made)):
            return other if refuted(made) else beside_another(other, made)
    related = any(g.kind in ("sum", "two", "two less one") for g in groups)
    tried = odd or rare or unseen or not (related or plenty) or not effort.left()
    unsure = made is not None and (made.strength != "certain" or q_does_not_match(table, made))
    if made is not None and not tried and unsure and not grew(table.pile, made):
        table.tell("the layouts that are rare")
        with effort.within(LESS_LIKELY):
            other = solve_cluster(table, images, grounds, taken, alone, False, True)
        if other is not None and not refuted(other) and takes_its_place(table, other, made):
            return beside_usual(table, other, made)
    if one_by_one is not None and (made is None or made.strength == "undecided"):
        return one_by_one
    if made is None and mirror is None and len(groups) == 1:
        return members_only(table, groups[0])
    several = sum(g.kind == "copies" for g in table.groups) > 1
    if mirror is not None and made is not None and made.strength != "undecided":
        weak = made.best < TOTAL_NATS and not several
        plain = standing_in(mirror) // len(mirror.members) > standing_in(made)  # every copy has its own
        return mirror if weak or plain else made
    wider = made is not None and several and made.best >= TOTAL_NATS
    return made if wider else mirror or made


def _concluded(
    table: Table, ranked: Sequence[Hypothesis], files: Sequence[Anchors], tables: Sequence[Anchors],
    starts: Sequence[int], usual: int,
) -> Lineup | None:  # fmt: skip
    """How sure the best hypothesis is: of a mirror, what speaks for a part of something larger is asked as well."""
    if not ranked:
        return None
    best = ranked[0].candidate
    group = next((g for g in table.groups if best.level == "RAID1" and set(g.images) == set(best.images)), None)
    if group is not None:
        return conclude_mirror(table, best, group, [*files, *tables], starts, usual)
    return conclude(table, ranked, files, tables, starts)


LESS_LIKELY = 0.6
"""Of the time for a search, what may be used up by the end of one over odd strips or rare layouts: members whose data
start in different places are looked for after them."""

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


def standing_in(answer: Lineup, kinds: tuple[str, ...] = ("anchors", "pages")) -> int:
    """How many structures stand where an answer puts them; "pages" only count up, and their size is a guess."""
    return sum(e.count for e in answer.evidence if e.kind in kinds)
