"""Search for the start: the best orders of the layouts worth trying, wherever data and file system may begin.

A search ranks orders for given starts of the data on the members and given places of the file system in the volume.
Where neither is known it is made again, with what the one before has shown."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from ..hypotheses.assignment import Hypothesis, make_ballot
from ..hypotheses.candidate import Candidate, candidates
from ..hypotheses.options import with_borders
from ..hypotheses.pile_table import USUAL_STARTS, anything_before, guessed_starts
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
from ..structures.partition_starts import COMMON_STARTS
from .cluster import Cluster, Way

KEPT = 60
"""Of the orders that a search ranks, those that are kept."""

MOST_EXPLAINED, NEARLY_EXPLAINED = 0.6, 0.95
"""Of the structures that state their address, the share that stands right under the best answer, where a better one is
hardly to be looked for: others are copies, and parity. Of fewer than nearly all, a file system may begin elsewhere."""

LIKELY_NATS, MOST_LIKELY = 20.0, 3
"""How far behind the best a candidate may be to be looked at once more with it, and how many are."""


def likely_starts(cluster: Cluster) -> list[int]:
    """Where the data may begin on the members, the likeliest first, by what stands on them and what is given."""
    table, images, groups = cluster.table, cluster.images, cluster.groups
    together = set(images)
    if cluster.mirrored:  # other mirrors of the same array show its start, too
        together |= {
            i for g in table.groups if g.kind == "copies" and not set(g.images) & cluster.taken for i in g.images
        }
    usual = guessed_starts(table, together, groups)
    given = table.pile.given
    if given is not None and given.start >= 0:
        usual = [given.start, *usual]
    loose = images - {i for g in groups for i in g.images}
    if loose and groups:  # what lost members shows its start, too
        usual = list(dict.fromkeys(sorted([guessed_starts(table, loose, [])[0], usual[0]]) + usual))
    return usual


@dataclass
class StartSearch:
    """What is known so far of where it begins.

    options  layouts worth trying; usual: starts of the data on members, the likeliest first, in bytes
    entries  the layouts that are still looked at; bases: places of the file system in the volume, in bytes
    found    the best orders, the best first
    """

    cluster: Cluster
    options: list[Candidate]
    usual: list[int]
    entries: list[Entry] = field(default_factory=list)
    bases: list[int] = field(default_factory=list)
    found: list[Hypothesis] = field(default_factory=list)

    def _search(self, entries: Sequence[Entry], bases: Sequence[int], usual: Sequence[int]) -> list[Hypothesis]:
        cluster = self.cluster
        return search(entries, bases, usual, cluster.way is Way.ODD, cluster.table.tell)[:KEPT]

    def look(self) -> None:
        """The first search; and again, where its best order leaves structures unexplained."""
        cluster, primary = self.cluster, self.cluster.primary
        table = cluster.table
        used, _kept = split(primary)
        self.options, self.usual = with_borders(table, self.options, cluster.groups, self.usual)
        self.entries = [entry_of(table, candidate, make_ballot(candidate, used)) for candidate in self.options]
        self.bases = bases_of(primary, cluster.starts)
        into_rows = bases_into_rows(primary, cluster.starts, max(o.positions for o in self.options))
        if not anything_before(table, cluster.images, ROUND):
            self.bases += into_rows
        self.found = self._search(self.entries, self.bases, self.usual)
        if into_rows and self.found and into_rows[0] not in self.bases and self._explained() < MOST_EXPLAINED:
            # what stands before the file system is no whole number of rows
            self.bases += into_rows
            self.found = self._search(self._likely(), self.bases, self.usual)
        odd_place = self.found and (self.found[0].start not in USUAL_STARTS or self._explained() < NEARLY_EXPLAINED)
        if primary is not None and not cluster.starts and odd_place:
            self._where_partitions_begin()

    def _where_partitions_begin(self) -> None:
        """A table that is gone may have had the file system begin where partitions do."""
        more = [b for b in COMMON_STARTS if b not in self.bases]
        there, likely = list(dict.fromkeys([*self.usual, *moved_starts(self.found[0], more)])), self._likely()
        if more:
            looked_at = [entry.reader.candidate for entry in likely]
            rest = [h for h in self.found if not any(h.candidate is one for one in looked_at)]
            self.found = self._search(likely, self.bases + more, there) + rest
        self.bases += more

    @property
    def used_images(self) -> set[int]:
        """The images that take part in the best order."""
        if not self.found:
            return self.cluster.images
        best = self.found[0]
        return {i for c in best.order if c is not None for i in best.candidate.columns[c]}

    def look_around(self) -> None:
        """With starts and places that the best order hints at."""
        primary = self.cluster.primary
        if primary is not None and self.found and self.found[0].candidate.phase >= 0:
            self._rows_further_on()
        if primary is not None and self.found and self.found[0].start not in USUAL_STARTS and not primary.ground.table:
            self._from_usual_starts()
        if primary is None and self.found:
            self._by_those_that_take_part()

    def _rows_further_on(self) -> None:
        primary = self.cluster.primary
        base = None if primary is None else base_of_order(self.found[0], primary)
        if base is not None and base not in self.bases:
            shifted = row_shifts(self.found[0], base)
            self.bases = list(dict.fromkeys([*self.bases, base, *(b for _s, b in shifted)]))
            self.usual = list(dict.fromkeys([*self.usual, *(s for s, _b in shifted)]))
            self.found = search(self._likely(), self.bases, self.usual, self.cluster.way is Way.ODD)[:KEPT]

    def _from_usual_starts(self) -> None:
        """The same places with the ground further on in the volume, and data that start where they usually do."""
        first = self.found[0]
        least = first.start % first.strip
        more = [b for s in dict.fromkeys((*self.usual, *USUAL_STARTS, least)) for b in moved_bases(first, s)]
        self.entries = self._likely()
        # beside those that are known: scores of one search only are comparable, and another place stays a rival
        there = list(dict.fromkeys([*(h.base for h in self.found), *more]))
        again = search(self.entries, there, self.usual, self.cluster.way is Way.ODD)[:KEPT] if more else self.found
        known = any((h.start, h.base) == (first.start, first.base) for h in again)
        self.found = again if known else [*again, *self.found]

    def _by_those_that_take_part(self) -> None:
        """Where nothing states an address, where data start is seen on the images that take part."""
        table, groups, best = self.cluster.table, self.cluster.groups, self.found[0]
        columns = tuple(sorted(best.candidate.columns[c] for c in best.order if c is not None))
        taking_part = {i for c in columns for i in c}
        own, striped = guessed_starts(table, taking_part, groups), best.candidate.level == "RAID0"
        if len(columns) == len(best.candidate.columns) or (own == self.usual and not striped):
            return
        self.usual = own
        left_out = STRANGER_NATS * (len(best.candidate.columns) - len(columns)) * striped
        those = [replace(best.candidate, columns=columns)]
        if striped and not groups:  # the same ones, as what is left of an array with parity
            those += [c for c in candidates(taking_part, ()) if c.level != "RAID0"]
        again = search([entry_of(table, c, make_ballot(c, None)) for c in those], self.bases, self.usual)[:KEPT]
        self.found = [replace(h, score=h.score - left_out) for h in again] + self.found

    def ranked(self) -> list[Hypothesis]:
        """The orders that were found, the likeliest first, by how usual their shapes and places are as well."""
        cluster = self.cluster
        known = [*cluster.files, *cluster.tables]
        weighed = (with_prior(cluster.table, h, known, cluster.starts, self.usual) for h in self.found)
        return sorted(weighed, key=lambda h: -h.score)

    def _explained(self) -> float:
        """The share of the structures that stand right under the best order, of those that do under any."""
        best = self.found[0]
        entry = next(e for e in self.entries if e.reader.candidate is best.candidate)
        most = int(entry.ballot.count.sum())
        return best.facts / most if most else 1.0

    def _likely(self) -> list[Entry]:
        return likely_entries(self.entries, self.found)


def likely_entries(entries: Sequence[Entry], found: Sequence[Hypothesis]) -> list[Entry]:
    """The entries whose candidates are behind the best hypotheses, and those of other levels over the same columns:
    with the file system taken to begin elsewhere, every one of them is wrong, and which is the least is chance."""
    near = [h.candidate for h in found if h.score > found[0].score - LIKELY_NATS]
    first = [set(columns) for columns in list(dict.fromkeys(candidate.columns for candidate in near))[:MOST_LIKELY]]
    return [e for e in entries if set(e.reader.candidate.columns) in first]
