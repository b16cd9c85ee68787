"""Layouts that are rare: when they are looked at, and when one of them takes the place of a usual answer."""

from __future__ import annotations

from ..document.lineup_document import Lineup
from ..evidence.row_tests import test_rows
from ..hypotheses.pile_table import Table
from ..verdict.volume_reading import MARGIN_NATS

TESTED_ROWS, MOST_BROKEN = 48, 0.25
"""Rows that are tested under both answers, and the share that may be broken under the one that holds."""


def takes_its_place(table: Table, other: Lineup, made: Lineup) -> bool:
    """Whether an answer in a rare layout is the better one: clearly more speaks for it, or as much, and the rows match
    under it and not under the usual one. Where others of its kind explain the data as well, it is undecided, and so is
    the usual one then, of which less is true."""
    if other.best > made.best + MARGIN_NATS:
        return True
    return other.strength != "undecided" and _broken(table, other) <= MOST_BROKEN < _broken(table, made)


def q_does_not_match(table: Table, made: Lineup) -> bool:
    """Whether the data may stand right under an answer with P and Q, and yet many rows do not match: Q is counted
    otherwise then, or there is none."""
    return bool(made.geometry.layout.q_place) and _broken(table, made) > MOST_BROKEN


def _broken(table: Table, array: Lineup) -> float:
    """The share of rows that do not match under an answer; 0 where none can be tested."""
    number = {name: i for i, name in enumerate(table.pile.names)}
    sources = [None if m is None else table.pile.sources[number[m]] for m in array.members]
    tested, broken = test_rows(array.opened(sources), TESTED_ROWS)
    return broken / tested if tested else 0.0
