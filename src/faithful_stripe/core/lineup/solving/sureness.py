"""Sureness: which of two answers is the surer one, which is refuted, and which is no surer than was measured."""

from __future__ import annotations

from dataclasses import replace

from ..document.calibration import MOST_APART, measured
from ..document.four_verdicts import Sure
from ..document.lineup_document import Lineup
from ..document.told_facts import What
from ..verdict.volume_reading import MARGIN_NATS


def as_measured(array: Lineup) -> Lineup:
    """An order that is likely but not proven is probable only where, of those on such signs, enough were right when
    that was measured. Strips of any size are looked for where it is not (`second_looks.ways_left`)."""
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


LEAST_AGAINST = 4


def refuted(made: Lineup) -> bool:
    """Whether more of what was read in the volume speaks against an answer than for it."""
    if made.strength == "certain":
        return False
    proof, against, failing = (
        sum(e.count for e in made.evidence if e.kind == kind) for kind in ("proof", "against", "failing")
    )
    hold, fail = (sum(e.count for e in made.evidence if e.what is what) for what in (What.FILES, What.FILES_FAIL))
    return (
        against + failing > max(LEAST_AGAINST, proof)
        or fail > max(LEAST_AGAINST, 4 * hold)
        or (made.signs is not None and made.signs.elsewhere > MOST_APART)
    )


def standing_in(answer: Lineup, kinds: tuple[str, ...] = ("anchors", "pages")) -> int:
    """How many structures stand where an answer puts them; "pages" only count up, and their size is a guess."""
    return sum(e.count for e in answer.evidence if e.kind in kinds)
