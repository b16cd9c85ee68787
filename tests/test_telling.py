"""The ground of the measures: whether what a volume tells is enough, held against layouts that it must tell apart."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from .slicer import Spec, places
from .telling import ROTATIONS, fits, rivals, told

STRIP = 16384
TURNING = [Spec("RAID5", n, STRIP, *r, start=MIB) for MIB in (0, 1 << 20) for n in (3, 4, 7) for r in ROTATIONS]
ALL = [*TURNING, Spec("RAID4", 5, STRIP, "fixed-N"), Spec("RAID0", 4, STRIP), Spec("RAID50", 8, STRIP, *ROTATIONS[1],
       spans=2)]  # fmt: skip


@given(st.sampled_from(ALL), st.data())
def test_what_fits_another_layout_fits_it_cell_by_cell(spec, data):
    """Of a rival that fits there is an order of its members that puts all that is told where it stands; of one that
    does not, there is none, or it is the layout itself."""
    blocks = spec.members * 6 * STRIP // 4096
    some = [4096 * b for b in data.draw(st.lists(st.integers(0, blocks), min_size=1, max_size=12, unique=True))]
    other = data.draw(st.sampled_from(list(rivals(spec))))
    pairs = set()
    mine, theirs = (places(s, max(some) // s.strip + 1) for s in (spec, other))
    for a in some:
        ((m, at),), ((p, there),) = mine[a // spec.strip], theirs[a // other.strip]
        pairs.add((m, p) if at + a % spec.strip == there + a % other.strip else (m, -1 - p))
    seated = all(p >= 0 for _m, p in pairs) and len({m for m, _p in pairs}) == len({p for _m, p in pairs}) == len(pairs)
    assert fits(spec, other, some) <= seated  # no more than seats allow; fewer where the two are one layout


@pytest.mark.parametrize("spec", ALL)
def test_all_strips_of_a_few_turns_tell_every_layout_apart(spec):
    whole = [4096 * b for b in range(spec.members**2 * 2 * STRIP // 4096)]
    assert not [other for other in rivals(spec) if fits(spec, other, whole)]
    first = [a for a in whole if a < STRIP]
    assert [other for other in rivals(spec) if fits(spec, other, first)]


def test_where_parity_is_a_copy_either_may_be_taken_for_the_other():
    """Strip 0 alone in its row, and both of the fifth: with the first row's two exchanged, another data order fits."""
    spec = Spec("RAID5", 3, STRIP, "parity-N", "continuation")
    other = replace(spec, data="restart")
    assert fits(spec, other, [0, 8 * STRIP, 9 * STRIP], {0}) and not fits(spec, other, [0, 8 * STRIP, 9 * STRIP])


def test_a_volume_that_is_in_few_rows_leaves_its_rotation_open(volumes):
    """A small FAT in rows of 8 MiB; the same one in rows of 32 KiB."""
    wide = Spec("RAID5", 5, 2 << 20, "parity-N", "restart")
    assert told(volumes / "fat32.img", wide).rival is not None
    assert told(volumes / "fat32.img", replace(wide, strip=8192)).rival is None
