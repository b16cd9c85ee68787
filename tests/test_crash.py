"""Kills at random moments: nothing acknowledged is lost, and every bench opens. The long run is in benchmarks/."""

import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from benchmarks.crash import Crashing

pytestmark = pytest.mark.long


@pytest.mark.parametrize("level", ["RAID5", "RAID6", "RAID10"])
def test_killed_at_random_moments(tmp_path, level):
    crashing = Crashing(tmp_path, seed=3, level=level)
    for _ in range(20):
        crashing.kill_once()
    assert crashing.counts["acknowledged"] >= 3 and crashing.counts["interrupted writes"] >= 1
    assert crashing.counts["power cuts"] >= 4


@pytest.mark.skipif(not shutil.which("cc"), reason="no C compiler here, which makes the library that counts the calls")
@pytest.mark.parametrize(("command", "step"), [("bench new --take", 23), ("stock add", 2), ("volume add", 31)])
def test_killed_and_failing_at_calls_that_change_files(command, step):
    """Every so many calls; `benchmarks/crash.py --every-write` takes them all."""
    script = Path(__file__).parents[1] / "benchmarks" / "crash.py"
    words = [sys.executable, script, "--every-write", command, "--step", str(step)]
    done = subprocess.run(words, capture_output=True, text=True, check=False, timeout=300, cwd=script.parents[1])
    assert done.returncode == 0 and f"{command}: killed" in done.stdout, done.stdout + done.stderr
