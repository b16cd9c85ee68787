"""File systems as a kernel leaves them: journals in use, indexed directories, files deleted and rewritten."""

import os
import random
import shutil
from pathlib import Path

import pytest

from faithful_stripe.core.formats import ext4
from faithful_stripe.core.lineup.document.age import Unit
from faithful_stripe.core.lineup.document.four_verdicts import Reason, Sure
from faithful_stripe.core.lineup.structures.volume_walk import prove_ext4
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import solve_images

from . import used
from .cutting import pile, right
from .piles import folder_of_files
from .slicer import Spec, cut

pytestmark = [
    pytest.mark.long,
    pytest.mark.skipif(not used.usable(), reason="file systems are mounted: it needs root and loop devices"),
]
RAID5 = Spec("RAID5", 5, 65536, "parity-N", "continuation")


@pytest.fixture(scope="module")
def volume(tmp_path_factory):
    """Volumes by kind of file system, each made once."""
    place, made = tmp_path_factory.mktemp("used"), dict[str, Path]()
    files = used.files_of(folder_of_files(random.Random(4), place / "files", 16 << 20))

    def make(kind):
        if kind not in made:
            made[kind] = used.made_and_used(place / kind, kind, 48 << 20, files, random.Random(kind))
        return made[kind]

    return make


@pytest.mark.parametrize("kind", ["ext4", "ext4-1k", "ext4-no-journal", "xfs"])
def test_a_used_file_system_is_certain_in_everything(volume, kind, tmp_path):
    case = pile(tmp_path, volume(kind), RAID5)
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.verdicts.certain, array.verdicts


@pytest.mark.parametrize(("around", "reason"), [
    ("gpt4096", Reason.TABLE), ("logical", Reason.TABLE), ("lvm", Reason.LABEL), ("mbr-odd", Reason.TABLE),
])  # fmt: skip
def test_what_states_where_the_volume_begins_pins_it(volume, around, reason, tmp_path):
    whole = used.around(tmp_path / "whole", around, volume("ext4"), random.Random(2))
    (tmp_path / "pile").mkdir()
    case = pile(tmp_path / "pile", whole, RAID5)
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.verdicts.certain and array.verdicts.start.reason is reason


@pytest.mark.parametrize("around", ["zeroed table", "wiped front", "unknown store"])
def test_a_start_that_nothing_states_is_never_certain_and_wrong(volume, around, tmp_path):
    whole = used.around(tmp_path / "whole", around, volume("ext4"), random.Random(2))
    (tmp_path / "pile").mkdir()
    case = pile(tmp_path / "pile", whole, RAID5)
    (array,) = solve_images(case.images).arrays
    assert right(case, array) or Sure.CERTAIN not in (array.verdicts.start.sure, array.verdicts.order.sure)


def test_journals_backups_and_index_roots_are_known(volume):
    """The walk reads every inode that was ever used, by the newest descriptors, and takes no index for entries."""
    with ImageFile(volume("ext4")) as image:
        fs = ext4.Ext4(image)
        proof = prove_ext4(image, 0)
        journal = fs.sb.journal
        indexed = [i for i, _good in fs.inodes() if i.is_directory and i.indexed]
    assert proof.held["inodes"] > 600 and "inodes" not in proof.failed and "directory blocks" not in proof.failed
    assert indexed and journal and all(a < b <= fs.sb.size for a, b in journal)
    with ImageFile(volume("ext4")) as image:
        head = bytearray(1024)
        image.read_into(journal[0][0], head)
    assert head[:4] == b"\xc0\x3b\x39\x98"  # the journal's own mark stands where the superblock says


def test_a_member_that_was_away_is_older_where_nothing_else_tells(volume, tmp_path):
    """Striped: no redundancy could say so, but everything that was written since is on the others."""
    early = tmp_path / "early.img"
    shutil.copy(volume("btrfs"), early)
    late = tmp_path / "late.img"
    shutil.copy(early, late)
    with used.mounted(late, "btrfs") as place:
        for day in range(12):
            for number in range(150):
                (place / f"{day}-{number}").write_bytes(random.Random(number).randbytes(900))
            os.sync()
    spec = Spec("RAID0", 3, 16384)
    piles = [[tmp_path / f"{volume.stem}-{n}" for n in range(3)] for volume in (early, late)]
    for whole, images in zip((early, late), piles, strict=True):
        cut(whole, spec, images)
    (sound,) = solve_images(piles[1]).arrays
    assert sound.verdicts.currency.sure is Sure.UNTESTABLE
    (stale,) = solve_images([piles[1][0], piles[0][1], piles[1][2]]).arrays
    told = stale.verdicts.currency
    assert (told.sure, told.reason, told.images) == (Sure.UNDECIDED, Reason.OLDER, (str(piles[0][1]),))
    assert not stale.verdicts.certain
    (age,) = [a for a in stale.ages if a.older]
    assert age.member == 1 and age.unit is Unit.GENERATION and age.behind >= 12
