"""Ages: how old members are by what their structures say, where nothing else could tell."""

import numpy as np
import pytest

from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.ages import OLDER_NATS, Age, Unit, ages_of
from faithful_stripe.core.lineup.anchors import facts_of
from faithful_stripe.core.lineup.marks.ground import Ground

STRIP, STRIPS = 4096, 300


def written(when):
    """One structure in every strip of three striped members, as old as `when` tells of its strip."""
    shape = geometry("RAID0", 3, STRIP, member_bytes=STRIP * STRIPS // 3)
    ground = Ground(b"tide", "tide", STRIP * STRIPS, True)
    for strip in range(STRIPS):
        offset = strip // 3 * STRIP
        ground.add("inode", strip % 3, offset, strip * STRIP)
        ground.add_ages("seconds", strip % 3, offset, strip * STRIP, when(strip))
    return ages_of(shape, (0, 1, 2), [(facts_of(ground), 0)])


def test_a_member_that_dropped_out_is_older():
    told = written(lambda strip: 1000 + (strip if strip % 3 != 1 else min(strip, 200)))
    older = [age for age in told if age.older]
    assert [(age.member, age.unit, age.behind, age.newer) for age in older] == [(1, Unit.SECONDS, 99, 66)]
    assert Age.from_document(older[0].as_document()).nats == pytest.approx(older[0].nats, abs=0.1)


def test_a_few_strips_that_are_newer_elsewhere_say_nothing():
    told = written(lambda strip: 1000 + (strip if strip % 3 != 1 else min(strip, 280)))
    assert 0 < max(age.nats for age in told) < OLDER_NATS


def test_many_structures_of_one_strip_are_one_fact():
    shape = geometry("RAID0", 3, STRIP, member_bytes=STRIP * 4)
    ground = Ground(b"tide", "tide", STRIP * 12, True)
    for strip in range(3):
        places = strip * STRIP + np.arange(0, STRIP, 64)
        ground.add("inode", strip, np.arange(0, STRIP, 64), places)
        ground.add_ages("seconds", strip, np.arange(0, STRIP, 64), places, np.full(64, 5000 if strip != 1 else 10))
    told = ages_of(shape, (0, 1, 2), [(facts_of(ground), 0)])
    assert [age.strips for age in told] == [1, 1, 1]
    assert not any(age.older for age in told)


def test_what_stands_elsewhere_tells_nothing():
    shape = geometry("RAID0", 3, STRIP, member_bytes=STRIP * 4)
    ground = Ground(b"tide", "tide", STRIP * 12, True)
    ground.add("inode", 0, 0, 0)
    ground.add_ages("seconds", 0, 0, STRIP, 5)  # a copy in a journal
    assert ages_of(shape, (0, 1, 2), [(facts_of(ground), 0)]) == ()
