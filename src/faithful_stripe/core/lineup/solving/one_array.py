"""One array: the lineup of images that belong together, from the candidates worth trying to a judged answer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ..document.lineup_document import Lineup
from ..hypotheses.assignment import Hypothesis
from ..hypotheses.candidate import Candidate, rare_layouts, with_unseen
from ..hypotheses.fixed_points import candidates_given
from ..hypotheses.options import options_of
from ..verdict.finishing import members_only
from ..verdict.volume_reading import TOTAL_NATS
from ..verdict.weighing import conclude
from .cluster import Cluster, Way
from .mirrors import conclude_mirror
from .second_looks import looked_again
from .span import conclude_span
from .span_places import unstriped, whole_on
from .start_search import StartSearch, likely_starts
from .sureness import standing_in


def solve_cluster(cluster: Cluster) -> Lineup | None:
    """The lineup of images that belong together; None where there is none to be thought of."""
    table = cluster.table
    table.pile.effort.untried = False
    table.tell(f"order of {len(cluster.images)} images that belong together")
    one_by_one = _one_after_another(cluster)
    if one_by_one is not None and one_by_one.strength != "undecided":
        return one_by_one
    whole = unstriped(cluster.files, cluster.images) if cluster.mirrors or not cluster.groups else set()
    if (lone := _lone_mirror(cluster, whole)) is not None:
        return solve_cluster(lone)
    if whole and not cluster.groups:
        rest = cluster.images - whole
        theirs = [a for a in cluster.grounds if a.ground.table or a.ground.bound() - whole]
        made = solve_cluster(cluster.only(rest, theirs, cluster.alone)) if len(rest) > 1 else None
        return made or one_by_one
    options = _options(cluster)
    if not options:
        return None
    usual, mirror = likely_starts(cluster), None
    if options[0].level == "RAID1":
        mirror = conclude_mirror(table, options[0], cluster.groups[0], cluster.grounds, cluster.starts, usual[0])
        options = [o for o in options if o.level != "RAID1"]
        if mirror.strength == "certain" or not options:
            return mirror
    found = StartSearch(cluster, options, usual)
    found.look()
    bound = [a for a in cluster.grounds if not a.ground.bound() or a.ground.bound() & found.used_images]
    if len(bound) < len(cluster.grounds):  # a file system that is only on images which take no part is another's
        return solve_cluster(cluster.only(found.used_images, bound))
    found.look_around()
    made = _concluded(cluster, found.ranked(), found.usual[0])
    if made is not None and (better := looked_again(cluster, made, found.options, solve_cluster)) is not None:
        return better
    if one_by_one is not None and (made is None or made.strength == "undecided"):
        return one_by_one
    if made is None and mirror is None and len(cluster.groups) == 1:
        return members_only(table, cluster.groups[0])
    return _mirror_or_more(cluster, mirror, made)


def _one_after_another(cluster: Cluster) -> Lineup | None:
    """The images as members of a span, where nothing relates them."""
    given = cluster.table.pile.given
    in_turn = given is None or given.level in (None, "SPAN")
    if cluster.groups or not in_turn:
        return None
    return conclude_span(cluster.table, cluster.images, cluster.files, cluster.tables, cluster.taken)


def _lone_mirror(cluster: Cluster, whole: set[int]) -> Cluster | None:
    """A mirror by itself, whatever else bears the same.

    whole  images on which all of a file system stands
    """
    named = [a for a in cluster.files if not a.ground.guessed]
    alike = next((g for g in cluster.mirrors if set(g.images) <= whole and whole_on(named, g.images[0])), None)
    if alike is None or not cluster.images > set(alike.images):
        return None
    return cluster.only(set(alike.images))


def _options(cluster: Cluster) -> list[Candidate]:
    """The layouts worth trying, in the way in which the lineup is sought."""
    pile = cluster.table.pile
    options = options_of(cluster.table, cluster.images, cluster.grounds, cluster.taken, cluster.alone)
    if pile.given is not None:
        options = candidates_given(pile.given, options, cluster.images, cluster.groups, pile.names)
    if cluster.way is Way.UNSEEN:
        options = with_unseen(cluster.groups)
    if cluster.way is Way.RARE:
        options = [replace(o, layouts=layouts) for o in options if (layouts := rare_layouts(o.layouts))]
    return options


def _concluded(cluster: Cluster, ranked: Sequence[Hypothesis], usual: int) -> Lineup | None:
    """How sure the best hypothesis is: of a mirror, what speaks for a part of something larger is asked as well."""
    if not ranked:
        return None
    table, best = cluster.table, ranked[0].candidate
    group = next((g for g in table.groups if best.level == "RAID1" and set(g.images) == set(best.images)), None)
    if group is not None:
        return conclude_mirror(table, best, group, [*cluster.files, *cluster.tables], cluster.starts, usual)
    return conclude(table, ranked, cluster.files, cluster.tables, cluster.starts)


def _mirror_or_more(cluster: Cluster, mirror: Lineup | None, made: Lineup | None) -> Lineup | None:
    """A mirror, or something larger of which it is a part."""
    several = sum(g.kind == "copies" for g in cluster.table.groups) > 1
    if mirror is not None and made is not None and made.strength != "undecided":
        weak = made.best < TOTAL_NATS and not several
        plain = standing_in(mirror) // len(mirror.members) > standing_in(made)  # every copy has its own
        return mirror if weak or plain else made
    wider = made is not None and several and made.best >= TOTAL_NATS
    return made if wider else mirror or made
