"""Rows of copies, tested by a part of each strip: the share that differs tells, whatever the strip measures."""

from contextlib import ExitStack
from itertools import pairwise

import numpy as np
import pytest

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.evidence import row_tests
from faithful_stripe.core.lineup.evidence.outdated_copies import without_outdated
from faithful_stripe.core.lineup.evidence.sampled_places import noise_values, survey
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.source import MemorySource, Unreadable
from faithful_stripe.media.image import ImageFile

KIB, ROWS = 1024, 6
FEW = 3 * 512  # a few sectors that could not be read


def rows_of_copies(members, strip, lost=()):
    made = geometry("RAID10", len(members), strip, member_bytes=ROWS * strip, odd_strips=True)
    sources = [None if n in lost else MemorySource(ROWS * strip) for n in range(len(members))]
    for source, held in zip(sources, members, strict=True):
        if source:
            source.write(0, held)
    found = row_tests.test_copies(Array(made, sources), 64)
    return found.tested, found.broken


def pairs(strip):
    """The members of two mirrors, of words, that agree: uint8 (4, bytes)."""
    rng = np.random.default_rng(strip)
    return np.repeat(rng.integers(97, 123, (2, ROWS * strip), np.uint8), 2, axis=0)


@pytest.mark.parametrize("strip", [4 * KIB, 24 * KIB, 80 * KIB, 1024 * KIB])
def test_rows_of_copies_differ_where_more_than_a_few_sectors_do(strip):
    """Strips of one piece, of no power of two, and of more than are looked at."""
    members = pairs(strip)
    assert rows_of_copies(members, strip) == (ROWS, 0)
    members[1, 2 * strip : 2 * strip + FEW] ^= 1
    assert rows_of_copies(members, strip) == (ROWS, 0)
    for row, share in ((3, 1.0), (5, 0.9)):  # all of a strip, and most of it, on one of each pair
        members[1 if row == 3 else 2, row * strip : row * strip + int(share * strip)] ^= 1
    assert rows_of_copies(members, strip) == (ROWS, 2)


def test_a_quarter_of_a_long_strip_that_differs_is_seen_wherever_it_stands():
    strip = 1024 * KIB
    for quarter in range(4):
        members = pairs(strip)
        at = 4 * strip + quarter * strip // 4
        members[3, at : at + strip // 4] ^= 1
        assert rows_of_copies(members, strip) == (ROWS, 1)


def test_a_pair_that_lacks_one_is_not_tested_and_the_other_one_is():
    members = pairs(16 * KIB)
    members[3] ^= 1
    assert rows_of_copies(members, 16 * KIB, lost=(2,)) == (ROWS, 0)
    assert rows_of_copies(members, 16 * KIB, lost=(0,)) == (ROWS, ROWS)
    assert rows_of_copies(members, 16 * KIB, lost=(0, 2)) == (0, 0)


@pytest.mark.parametrize(
    ("hurt", "broken", "unexplained"),
    [({1: [0, 5]}, 2, 0), ({1: [0, 1]}, 1, 0), ({1: [0], 3: [4]}, 2, 1), ({1: [0, 2, 4, 6, 5]}, 4, 4), ({}, 0, 0)],
)
def test_rows_that_differ_by_one_members_damage_are_told_from_a_wrong_order(hurt, broken, unexplained):
    """RAID 1E: each row of a member is copied to one neighbour, or from the other. One that is damaged in more than
    half of its rows may as well be in another's place."""
    strip = 16 * KIB
    made = geometry("RAID1E", 5, strip, member_bytes=8 * strip, data="offset")
    members = [MemorySource(8 * strip) for _ in range(5)]
    Array(made, members).write(0, np.random.default_rng(1).integers(97, 123, made.volume_bytes, np.uint8).tobytes())
    for member, rows in hurt.items():
        for row in rows:
            members[member].write(row * strip, b"pattern " * (strip // 8))
    found = row_tests.test_copies(Array(made, members), 64)
    assert (found.tested, found.broken, found.unexplained) == (4, broken, unexplained)


@pytest.mark.parametrize("length", [512, 4096])
def test_noise_is_what_holds_nearly_as_many_byte_values_as_draws_do(length):
    rng, least = np.random.default_rng(length), noise_values(length)
    held = [len(np.unique(rng.integers(0, 256, length, np.uint8))) for _ in range(400)]
    assert min(held) >= least > max(held) - (40 if length == 512 else 3)
    assert all(len(np.unique(rng.integers(0, 230, length, np.uint8))) < least for _ in range(20 if length > 512 else 0))


class Failing(MemorySource):
    """A drive whose second row cannot be read."""

    def read_into(self, offset, buffer):
        if offset // (16 * KIB) == 1:
            raise Unreadable(source=str(self), length=len(buffer), offset=offset)
        super().read_into(offset, buffer)


def test_rows_that_cannot_be_read_are_not_tested(monkeypatch):
    """They counted as rows that hold."""
    monkeypatch.setitem(globals(), "MemorySource", Failing)
    assert rows_of_copies(pairs(16 * KIB), 16 * KIB) == (ROWS - 1, 0)


def test_neighbours_that_share_every_other_row_are_not_compared_block_by_block(monkeypatch, tmp_path):
    """RAID 1E: each drive looks like the next one in half of its rows, by design, and none is a copy."""
    strip, names = 64 * KIB, [f"m{n}" for n in range(5)]
    rng, rows = np.random.default_rng(1), 60
    made = geometry("RAID1E", 5, strip, member_bytes=rows * strip, data="adjacent")
    members = [np.zeros(rows * strip, np.uint8) for _ in names]
    for number in range(made.volume_bytes // strip):
        data = rng.integers(97, 123, strip, np.uint8)
        for copy in range(2):
            member, at = (int(x) for x in made.to_member(number * strip, copy))
            members[member][at : at + strip] = data
    compared = []
    monkeypatch.setattr(
        "faithful_stripe.core.lineup.evidence.outdated_copies.differences",
        lambda pile, *pair: compared.append(pair) or np.zeros(0, np.int64),
    )
    for name, held in zip(names, members, strict=True):
        held.tofile(tmp_path / name)
    with ExitStack() as stack:
        pile = Pile(names, [stack.enter_context(ImageFile(tmp_path / name)) for name in names])
        _places, groups, outdated = without_outdated(pile, survey(pile))
    assert {g.kind for g in groups} == {"chain"} and not outdated
    (order,) = {g.order for g in groups}
    assert not {frozenset(p) for p in compared} & {frozenset(p) for p in pairwise(order)}
