"""Layouts that are rare: when they are looked at, and when one of them takes the place of a usual answer."""

from __future__ import annotations

from ..document.ledger import Kind
from ..document.lineup_document import Lineup
from ..document.row_map import opened
from ..evidence.row_tests import rows_by_what_is_left, test_rows
from ..hypotheses.pile_table import Table
from ..verdict.beside_answers import beside_another
from ..verdict.volume_reading import MARGIN_NATS

TESTED_ROWS, MOST_BROKEN, FEWER = 48, 0.25, 4
"""Rows that are tested under both answers; the share of them that may be broken before it says anything of the layout;
and how many times fewer must be under the other one: damage breaks half as many of rows half as long."""


STATED = (Kind.ADDRESSES, Kind.WALKED, Kind.KEPT_OUT, Kind.DIRECTORIES, Kind.FILES)
"""What structures state, and not how bytes go on: of that, so many layouts explain some part better by chance."""


LEAST_NAMED = 8
"""Structures that name their file system, from which on what they state tells a rare layout from a usual one."""


def takes_its_place(table: Table, other: Lineup, made: Lineup) -> bool:
    """Whether an answer in a rare layout is the better one: it is proven, and no more rows fail under it; or structures
    of a file system state clearly more for it, or the rows match under it and not under the usual one; with more
    members missing than in a decided one, as much more for each. Where others of its kind explain the data as well, it
    is undecided, and so is the usual one then, of which less is true."""
    if other.strength == "certain":  # by what structures state: that is no word on how Q is counted
        return _broken(table, other) <= _broken(table, made)
    more = max(0, other.members.count(None) - made.members.count(None))
    lead = MARGIN_NATS * (1 + more * (made.strength != "undecided"))
    named = any(len(a) >= LEAST_NAMED for a in table.anchors if not a.ground.guessed)
    if named and _stated(other) > _stated(made) + lead:
        return True
    if more or other.strength == "undecided" or (usual := _broken(table, made)) <= MOST_BROKEN:
        return False
    return FEWER * _broken(table, other) <= usual


def beside_usual(table: Table, other: Lineup, made: Lineup) -> Lineup:
    """An answer in a rare layout, no surer than its lead over the usual one allows: two searches found them, and
    each leads over the rivals in its own. Where rows tell the two apart, the usual one is none."""
    usual = _broken(table, made)
    return other if usual and FEWER * _broken(table, other) <= usual else beside_another(other, made)


def _stated(array: Lineup) -> float:
    return sum(entry.nats for entry in array.ledger if entry.kind in STATED)


def q_does_not_match(table: Table, made: Lineup) -> bool:
    """Whether the data may stand right under an answer with P and Q, and yet many rows do not match: Q is counted
    otherwise then, or there is none."""
    return bool(made.geometry.layout.q_place) and _broken(table, made) > MOST_BROKEN


def _broken(table: Table, array: Lineup) -> float:
    """The share of rows that do not match under an answer; 0 where none can be tested."""
    number = {name: i for i, name in enumerate(table.pile.names)}
    sources = [None if m is None else table.pile.sources[number[m]] for m in array.members]
    volume = opened(array.geometry, sources, array.rowmap)
    tested, broken = test_rows(volume, TESTED_ROWS)
    if not tested:
        tested, broken = rows_by_what_is_left(volume, TESTED_ROWS)
    return broken / tested if tested else 0.0
