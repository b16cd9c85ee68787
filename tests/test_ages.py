"""Ages: how old members are by what their structures say, where nothing else could tell."""

import os
import shutil
import subprocess

import numpy as np
import pytest

from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.document.age import OLDER_NATS, Age, Unit
from faithful_stripe.core.lineup.evidence.ages import ages_of, copies_compared
from faithful_stripe.core.lineup.structures.anchors import facts_of
from faithful_stripe.core.lineup.structures.ground import Ground

from .slicer import Spec, cut

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


def copies(newest):
    """Two copies of a file system: blocks of one structure each, whose ages on the two `newest` gives."""
    ground = Ground(b"tide", "tide", STRIP * 40, True)
    for block in range(40):
        for image, when in enumerate(newest(block)):
            ground.add("inode", image, block * STRIP, block * STRIP)
            ground.add_ages("log-number", image, block * STRIP, block * STRIP, when)
    return copies_compared(0, (0, 1), [(facts_of(ground), 0)])


def test_the_copy_that_was_written_last_is_told_by_what_stands_at_the_same_place():
    assert [age.older for age in copies(lambda b: (100, 100 + (b % 4 == 0)))] == [True, False]
    assert [age.older for age in copies(lambda b: (100 + (b == 7), 100))] == [False, False]  # one block is one write
    assert copies(lambda b: (100 + (b < 5), 100 + (b > 30))) == ()  # both were written while they were apart
    assert copies(lambda _b: (100, 100)) == () or not any(a.older for a in copies(lambda _b: (100, 100)))


@pytest.fixture
def written_on(fstripe):
    """An ext4, and the same after another program wrote to it: files added and changed."""
    files = fstripe.folder / "files"
    files.mkdir()
    for n in range(60):
        (files / f"f{n}.txt").write_text(f"gauge {n}\n" * 400 * (n % 7 + 1))
    old, new = fstripe.folder / "old.img", fstripe.folder / "new.img"
    subprocess.run(
        ["mke2fs", "-q", "-t", "ext4", "-O", "metadata_csum", "-b", "4096", "-d", files, old, "24M"],
        check=True,
        env=os.environ | {"E2FSPROGS_FAKE_TIME": "1780000000"},  # some months before what is written next
    )
    shutil.copy(old, new)
    lines = [f"write {files}/f{n}.txt late{n}\nsif f{n}.txt ctime 20301201\n" for n in range(0, 60, 4)]
    subprocess.run(["debugfs", "-w", "-f", "-", new], input="".join(lines), text=True, check=True, capture_output=True)
    return old, new


EXT_TOOLS = pytest.mark.skipif(
    not all(map(shutil.which, ("debugfs", "mke2fs"))), reason="needs the tools of ext file systems"
)


@EXT_TOOLS
@pytest.mark.parametrize("first", ["old.img", "new.img"])
def test_the_stale_half_of_a_mirror_is_named_and_the_other_handed_over(fstripe, written_on, first):
    _old, new = written_on
    second = "new.img" if first == "old.img" else "old.img"
    told = fstripe("lineup", "solve", first, second, "--full", "--json", "--out", "found.toml").json
    assert told["arrays"][0]["stale"] == ["old.img"] and told["arrays"][0]["spans"][0].count(None) == 1
    assert fstripe("lineup", "extract", "found.toml", "got.img").status == 3
    assert (fstripe.folder / "got.img").read_bytes() == new.read_bytes()


@EXT_TOOLS
def test_the_stale_half_of_mirrors_that_are_striped_is_named_and_the_other_handed_over(fstripe, written_on):
    """RAID 10 of four: one of each pair was away while the others were written."""
    old, new = written_on
    for name, volume in (("old", old), ("new", new)):
        (fstripe.folder / name).mkdir()
        cut(volume, Spec("RAID10", 4, 8192, copies=2), [fstripe.folder / name / f"{n}.img" for n in range(4)])
    away = ("1", "2")
    names = [f"{'old' if str(n) in away else 'new'}/{n}.img" for n in range(4)]
    told = fstripe("lineup", "solve", *names[::-1], "--full", "--json", "--out", "found.toml").json
    (array,) = told["arrays"]
    assert array["verdicts"]["order"]["verdict"] == "certain" and array["level"] == "RAID10"
    assert array["verdicts"]["currency"]["verdict"] == "contradicted"
    behind = {n for n in names if n.startswith("old") and (old_differs(fstripe.folder, n))}
    assert set(array["stale"]) == behind and len(behind) > 1
    assert fstripe("lineup", "extract", "found.toml", "got.img").status == 3
    assert (fstripe.folder / "got.img").read_bytes()[: new.stat().st_size] == new.read_bytes()


def old_differs(folder, name):
    """Whether an image of the time before holds something else than its successor."""
    return (folder / name).read_bytes() != (folder / name.replace("old", "new")).read_bytes()


@EXT_TOOLS
def test_one_write_tells_which_half_was_away_by_the_superblock_and_the_folder(fstripe, written_on):
    """No place that was looked at differed, so nobody asked; what was handed over mixed the two."""
    old, _new = written_on
    late = fstripe.folder / "late.img"
    shutil.copy(old, late)
    lines = "write files/f9.txt late\nsif <2> ctime 20301201\n"
    subprocess.run(
        ["debugfs", "-w", "-f", "-", late], input=lines, text=True, check=True, capture_output=True, cwd=fstripe.folder
    )
    told = fstripe("lineup", "solve", "old.img", "late.img", "--full", "--json", "--out", "found.toml").json
    assert told["arrays"][0]["stale"] == ["old.img"]
    assert fstripe("lineup", "extract", "found.toml", "got.img").status == 3
    assert (fstripe.folder / "got.img").read_bytes() == late.read_bytes()
