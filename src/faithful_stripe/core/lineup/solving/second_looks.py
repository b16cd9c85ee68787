"""Second looks: layouts that are looked at only where the usual ones leave a doubt, and which answer is kept."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from ..document.lineup_document import Lineup
from ..evidence.membership import PARITY_KINDS
from ..hypotheses.candidate import Candidate, with_unseen
from ..hypotheses.options import PLENTY_FACTS
from ..verdict.beside_answers import beside_another
from ..verdict.volume_reading import TOTAL_NATS
from .cluster import Cluster, Way
from .grown import grew
from .rare import beside_usual, q_does_not_match, takes_its_place
from .sureness import as_measured, refuted, surer

LESS_LIKELY = 0.6
"""Of the time for a search, what may be used up by the end of one over odd strips or rare layouts: members whose data
start in different places are looked for after them."""

SAYS = {Way.UNSEEN: "with members that hold nothing", Way.RARE: "the layouts that are rare"}

Solve = Callable[[Cluster], Lineup | None]


def looked_again(cluster: Cluster, made: Lineup, options: Sequence[Candidate], solve: Solve) -> Lineup | None:
    """The answer of another look that takes the place of a usual one; None where none does.

    options  the layouts that were looked at; solve: finds the lineup of a cluster
    """
    if cluster.way is not Way.USUAL:
        return None
    effort = cluster.table.pile.effort
    for way in ways_left(cluster, made, options):
        if not effort.left():
            return None
        if way in SAYS:
            cluster.table.tell(SAYS[way])
        with effort.within(LESS_LIKELY):
            other = solve(cluster.by(way))
        if other is not None and not refuted(other) and (kept := _kept(cluster, way, other, made)) is not None:
            return kept
    return None


def ways_left(cluster: Cluster, made: Lineup, options: Sequence[Candidate]) -> Iterator[Way]:
    """Which other ways an answer leaves room for, in the order in which they are looked at."""
    primary, undecided = cluster.primary, made.strength == "undecided"
    plenty = primary is not None and len(primary) >= PLENTY_FACTS
    if undecided and plenty and with_unseen(cluster.groups):
        yield Way.UNSEEN
    poor = plenty and (made.best < TOTAL_NATS or as_measured(made).strength == "undecided")
    blind = primary is None and undecided and not cluster.mirrored
    doubtful = blind or (primary is not None and (poor or refuted(made)))
    if doubtful and any(not o.strip for o in options):
        yield Way.ODD
    related = any(g.kind in PARITY_KINDS for g in cluster.groups)
    unsure = made.strength != "certain" or q_does_not_match(cluster.table, made)
    if (related or plenty) and unsure and not grew(cluster.table.pile, made):
        yield Way.RARE


def _kept(cluster: Cluster, way: Way, other: Lineup, made: Lineup) -> Lineup | None:
    """Another answer as it stands beside the usual one; None where that is the better one."""
    if way is Way.RARE:
        replaces = takes_its_place(cluster.table, other, made)
        return beside_usual(cluster.table, other, made) if replaces else None
    if way is Way.ODD and refuted(made):
        return other
    return beside_another(other, made) if surer(other, made) else None
