"""How many members there are, where no structure tells: data that go on from the end of a row in the next one."""

import random
from itertools import pairwise

import numpy as np
import pytest

from faithful_stripe.core.arrays.layout import layout
from faithful_stripe.core.lineup.hypotheses.seam_tables import Tables, chained, round_nats
from faithful_stripe.core.lineup.verdict.volume_reading import MARGIN_NATS
from faithful_stripe.work.lineup import solve_images

from .cutting import pile, right
from .slicer import Spec

LAYOUT = layout("RAID50", 8, "parity-0", "restart", spans=2)


def seams(next_row, noise=0.6, rows=24):
    """Tables of an array of eight in order: 2 nats where a strip follows at once, less by 1.5 for one that is further
    on, and `next_row` where a row ends."""
    rng = np.random.default_rng(3)
    index = LAYOUT.pattern().index
    same, onward = (rng.normal(-0.5, noise, (rows, 8, 8)) for _ in range(2))
    for row in range(rows):
        strips = index[row % len(index)]
        order = [int(member) for member in np.argsort(strips) if strips[member] >= 0]
        for a, b in pairwise(order):
            same[row, a, b] += 2.5
        onward[row, order[-1], :] = rng.normal(-0.5, noise, 8)
        onward[row, order[-1], :] += next_row + 0.5
    return Tables(np.arange(rows), same, onward, np.zeros((rows, 8)))


@pytest.mark.parametrize(("next_row", "told"), [(2.0, True), (-0.5, False), (0.5, False)])
def test_rows_go_on_where_strips_do(next_row, told):
    assert (round_nats(LAYOUT, seams(next_row), range(8)) >= MARGIN_NATS) is told


def test_where_neighbours_look_like_any_others_nothing_is_told():
    made = seams(2.0)
    flat = Tables(made.rows, np.full_like(made.same, 1.0), made.onward, made.natural)
    assert round_nats(LAYOUT, flat, range(8)) == 0.0
    few = Tables(made.rows[:2], made.same[:2], made.onward[:2], made.natural[:2])
    assert round_nats(LAYOUT, few, range(8)) == 0.0
    assert round_nats(LAYOUT, made, [0, None, 2, None, 4, None, 6, None]) == 0.0


@pytest.mark.parametrize("count", [1, 2, 9, 30])
def test_columns_that_go_on_best_are_put_one_after_another(count):
    """From any other order it is far to that of many members; pairs that go on by chance close no circle."""
    rng = np.random.default_rng(count)
    order = rng.permutation(count)
    gain = rng.normal(-0.5, 0.4, (12, count, count))
    for a, b in pairwise(order.tolist()):
        gain[:, a, b] += 2
    gain[:, order[-1], order[0]] += 3  # which would close one
    made = Tables(np.arange(12), gain, gain, np.zeros((12, count)))
    found = chained(made)
    turned = np.roll(order, -list(order).index(found[0]))
    assert list(found) == turned.tolist() and sorted(found) == list(range(count))


def test_a_striped_set_beside_a_drive_of_the_same_volume_cut_otherwise_is_counted(observatory, tmp_path):
    """What is proven in row after row has no room for one more: it was "how many members there are"."""
    case = pile(tmp_path, observatory, Spec("RAID0", 3, 16384))
    (tmp_path / "other").mkdir()
    other = pile(tmp_path / "other", observatory, Spec("RAID0", 4, 65536))
    stranger = tmp_path / "zz.img"
    other.images[1].rename(stranger)
    solution = solve_images([*case.images, stranger])
    array = next(a for a in solution.arrays if len(a.members) == 3)
    assert right(case, array) and array.strength == "certain"


@pytest.mark.long
def test_a_mate_beside_a_striped_set_may_be_one_of_its_members(observatory, tmp_path):
    """A mirror of the second member, no longer the same all over: the three are the half of a striped mirror."""
    case = pile(tmp_path, observatory, Spec("RAID0", 3, 16384))
    mate = tmp_path / "zz.img"
    data = np.fromfile(case.images[0], np.uint8)
    rng = random.Random(2)
    for at in range(0, len(data) - 16384, 16384):
        if rng.random() < 0.4:
            data[at : at + 16384] = np.frombuffer(rng.randbytes(16384), np.uint8)
    data.tofile(mate)
    assert all(a.verdict != "certain" for a in solve_images([*case.images, mate]).arrays)


@pytest.mark.long
def test_spans_are_counted_by_data_that_go_on_from_row_to_row(volumes, tmp_path):
    case = pile(tmp_path, volumes / "log.img", Spec("RAID50", 8, 16384, "parity-0", "restart", spans=2))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.strength == "probable" and array.signs.counted
