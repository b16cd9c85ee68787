"""Rings of a RAID 1E: told by blocks that stand again on the next member in every other row, and by nothing else."""

import random

import numpy as np
import pytest

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.evidence.shifted_copies import rings
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.lineup.structures.ground import read_stock
from faithful_stripe.core.source import MemorySource, read

KIB = 1 << 10


def members(level, count, strip, twice=0, start=0, shuffled=(), **more):
    """Members of an array full of noise, of which all is kept once more `twice` bytes further on."""
    rows = 60 if strip < 1 << 20 else 16
    shape = geometry(level, count, strip, member_bytes=rows * strip, start_bytes=start, odd_strips=True, **more)
    sources = [MemorySource(start + rows * strip, str(n)) for n in range(count)]
    rng, array = np.random.default_rng(count), Array(shape, sources)
    content = rng.integers(0, 256, array.size, np.uint8)
    for at in range(twice, array.size - twice, 2 * twice) if twice else ():
        content[at + twice : at + 2 * twice] = content[at : at + twice][: array.size - at - twice]
    array.write(0, content.tobytes())
    return [sources[i] for i in shuffled or range(count)]


def found(sources):
    pile = Pile([s.name for s in sources], sources)
    return rings(read_stock(pile, 256 << 20), set(range(len(sources))))


@pytest.mark.parametrize(("strip", "start"), [(12 * KIB, 0), (64 * KIB, 1 << 20), (320 * KIB, 65536), (2 << 20, 0)])
def test_a_ring_is_every_other_row_of_all_members(strip, start):
    order = list(range(5))
    random.Random(strip).shuffle(order)
    (ring,) = found(members("RAID1E", 5, strip, start=start, data="offset", shuffled=order))
    assert (ring.kind, ring.strip) == ("ring", strip) and ring.closing == ring.blocks > 0
    named = [order[i] for i in ring.order]
    turn = named.index(0)
    assert [*named[turn:], *named[:turn]] == list(range(5))


def test_what_a_file_system_keeps_twice_hides_no_ring():
    """Most blocks are found again at other distances, too: each pair of members at its own."""
    (ring,) = found(members("RAID1E", 5, 64 * KIB, twice=192 * KIB, data="offset"))
    assert ring.kind == "ring" and ring.strip == 64 * KIB and ring.closing == ring.blocks


def test_a_pattern_that_fills_whole_rows_hides_no_ring():
    """Every block of it stands again everywhere, in the rows between as well."""
    sources = members("RAID1E", 4, 64 * KIB, data="offset")
    for source in sources:
        for row in range(20, 40):
            source.write(row * 64 * KIB, b"\xff" * 64 * KIB)
    (ring,) = found(sources)
    assert ring.kind == "ring" and ring.closing == ring.blocks


@pytest.mark.parametrize("twice", [4, 5, 8, 16])
def test_what_is_kept_twice_on_a_striped_array_is_no_ring(twice):
    assert not found(members("RAID0", 3, 64 * KIB, twice=twice * 64 * KIB))


@pytest.mark.parametrize("size", [256, 700])
def test_stretches_that_stand_on_the_next_image_are_no_rows(size):
    """Each of three holds a part of a MiB of the one before, 1 MiB further on, and nothing else of it."""
    sources = members("RAID0", 3, 64 * KIB)
    for a, b in ((0, 1), (1, 2), (2, 0)):
        sources[b].write((1 << 20) + a * 4096, read(sources[a], a * 4096, size * KIB))
    assert not found(sources)


@pytest.mark.parametrize("fill", ["noise", "text"])
def test_rows_of_noise_of_which_nothing_stands_again_were_never_written(fill):
    """Half of the rows hold what the drives held before, on each its own: noise says nothing, text may be data."""
    sources, rng = members("RAID1E", 4, 64 * KIB, data="offset"), np.random.default_rng(7)
    for source in sources:
        old = rng.integers(*((0, 256) if fill == "noise" else (97, 123)), 36 * 64 * KIB, np.uint8)
        source.write(12 * 64 * KIB, old.tobytes())
    rings_found = found(sources)
    assert (len(rings_found) == 1) is (fill == "noise")
    for ring in rings_found:
        assert ring.kind == "ring" and ring.closing == ring.blocks
