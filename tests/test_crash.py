"""Kills at random moments: nothing acknowledged is lost, and every bench opens. The long run is in benchmarks/."""

import pytest
from benchmarks.crash import Crashing


@pytest.mark.parametrize("level", ["RAID5", "RAID6", "RAID10"])
def test_killed_at_random_moments(tmp_path, level):
    crashing = Crashing(tmp_path, seed=3, level=level)
    for _ in range(20):
        crashing.kill_once()
    assert crashing.counts["acknowledged"] >= 3 and crashing.counts["interrupted writes"] >= 1
    assert crashing.counts["power cuts"] >= 4
