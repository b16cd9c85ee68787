"""Groups are hypotheses, too: images that are related in a part of the places may be members of something else."""

import numpy as np
import pytest

from faithful_stripe.core.lineup.document.lineup_document import Solution
from faithful_stripe.core.lineup.solving import second_looks
from faithful_stripe.core.lineup.solving import solve as solving
from faithful_stripe.core.lineup.solving.solve import STOPPED
from faithful_stripe.work.lineup import solve_images

from .cutting import pile, right
from .slicer import Spec

STRIP = 16384


def made_anew(observatory, tmp_path):
    """One of four gone, and parity of the others written over their first rows: as far as that they are related."""
    case = pile(tmp_path, observatory, Spec("RAID5", 4, STRIP, "parity-N", "restart"), gone=(0,))
    data = [np.fromfile(path, np.uint8).reshape(-1, STRIP) for path in case.images]
    for row in range(len(data[0]) // 40):
        parity = 2 - row % 3
        data[parity][row] = np.bitwise_xor.reduce([d[row] for n, d in enumerate(data) if n != parity])
    for path, rows in zip(case.images, data, strict=True):
        rows.tofile(path)
    return case


def test_an_array_that_was_made_anew_of_three_of_its_members_is_not_an_array_of_three(observatory, tmp_path):
    """The answer was an array of three, under which nothing stood where it belongs."""
    case = made_anew(observatory, tmp_path)
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.strength != "undecided"


@pytest.mark.long
def test_who_stops_the_second_look_is_told_that_it_was_stopped(observatory, tmp_path, monkeypatch):
    case, looks, once = made_anew(observatory, tmp_path), [], solving._on_the_table

    def look(table, *rest):
        looks.append(table)
        return once(table, *rest) if len(looks) == 1 else Solution((), tuple(table.pile.names), 0, (STOPPED,))

    monkeypatch.setattr(solving, "_on_the_table", look)
    monkeypatch.setattr(second_looks, "with_unseen", lambda groups: [])  # by which the first look finds it, too
    solution = solve_images(case.images)
    assert len(looks) == 2 and STOPPED in solution.notes and solution.arrays
