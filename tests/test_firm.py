"""Groups are hypotheses, too: images that are related in a part of the places may be members of something else."""

import numpy as np

from faithful_stripe.work.lineup import solve_images

from .cutting import pile, right
from .slicer import Spec

STRIP = 16384


def test_an_array_that_was_made_anew_of_three_of_its_members_is_not_an_array_of_three(observatory, tmp_path):
    """One of four gone, and parity of the others written over their first rows: as far as that they are related, and
    the answer was an array of three under which nothing stood where it belongs."""
    case = pile(tmp_path, observatory, Spec("RAID5", 4, STRIP, "parity-N", "restart"), gone=(0,))
    data = [np.fromfile(path, np.uint8).reshape(-1, STRIP) for path in case.images]
    for row in range(len(data[0]) // 40):
        parity = 2 - row % 3
        data[parity][row] = np.bitwise_xor.reduce([d[row] for n, d in enumerate(data) if n != parity])
    for path, rows in zip(case.images, data, strict=True):
        rows.tofile(path)
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.strength != "undecided"
