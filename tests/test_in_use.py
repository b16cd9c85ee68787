"""What is in use of a volume, by its file system's own maps: all files stand there, and what is in doubt is refused."""

import random
import shutil
import struct
import subprocess
from contextlib import suppress
from pathlib import PurePosixPath

import pytest

from faithful_stripe.core.formats.declared import FormatError
from faithful_stripe.core.formats.in_use import in_use
from faithful_stripe.core.ranges import clip, subtract, total, union
from faithful_stripe.core.source import MemorySource, Pieces, read
from faithful_stripe.media.filesystems import Kind
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.files import opened_files
from faithful_stripe.work.places import parts_of, used_of

from .piles import ext, folder_of_files
from .slicer import Spec, cut

KINDS = ["ext2", "ext4-nocsum", "fat12", "fat16", "fat32", "exfat", "ntfs", "xfs", "btrfs"]


def changed(path, *changes):
    """A volume in memory with bytes at places replaced."""
    with ImageFile(path) as image:
        made = MemorySource(image.size, path.name)
        for a, b in image.data_ranges():
            made.write(a, read(image, a, b - a))
    for at, data in changes:
        made.write(at, data)
    return made


def files_on(volume):
    """(path, size, content) of everything on a volume."""
    system = opened_files(volume, 0, volume.size, "it")
    entries = [e for e in system.walk(system.lookup(PurePosixPath("."))) if e.kind is not Kind.OTHER]
    assert not system.unread
    return [(e.path, e.size, b"".join(system.read(e)) if e.kind is Kind.FILE else b"") for e in entries]


def only(volume, ranges):
    made = MemorySource(volume.size, "what is in use")
    for a, b in ranges:
        made.write(a, read(volume, a, b - a))
    return made


@pytest.mark.parametrize("kind", KINDS)
def test_all_files_stand_in_what_is_in_use(kind, volumes):
    with ImageFile(volumes / f"{kind}.img") as volume:
        used = in_use(volume)
        assert used == union(used) and total(used) < volume.size and used[-1][1] <= volume.size
        files = files_on(volume)
        assert files == files_on(only(volume, used)) and any(size for _path, size, _data in files)


DOUBTS = {
    "ext not unmounted": ("ext2", [(0x43A, b"\0\0")]),
    "ext with a journal to be played back": ("ext4-nocsum", [(0x460, b"\xff")]),
    "NTFS whose file table is damaged": ("ntfs", None),
    "XFS whose group's head does not hold": ("xfs", [(512 + 40, b"\x77")]),
    "exFAT that was not unmounted": ("exfat", [(106, b"\x02")]),
}


@pytest.mark.parametrize("what", DOUBTS)
def test_what_cannot_be_relied_on_is_not_said(what, volumes):
    kind, changes = DOUBTS[what]
    volume = changed(volumes / f"{kind}.img", *(changes or ()))
    if changes is None:
        head = read(volume, 0, 64)
        first, cluster = struct.unpack_from("<Q", head, 48)[0], head[13] * struct.unpack_from("<H", head, 11)[0]
        volume.write(first * cluster + 6 * 1024 + 510, b"\0\0")
    with pytest.raises(FormatError, match="what is in use is not known"):
        in_use(volume)


def test_a_map_of_ext4_that_does_not_hold_is_not_relied_on(observatory):
    with ImageFile(observatory) as image:
        assert total(in_use(image)) < image.size
        raw = read(image, 4096, 64)
    block = struct.unpack_from("<I", raw, 0)[0]
    with pytest.raises(FormatError, match="map of group 0"):
        in_use(changed(observatory, (block * 4096 + 9, b"\x55")))


@pytest.mark.parametrize("kind", KINDS)
def test_no_damage_crashes_it(kind, volumes):
    rng, path = random.Random(kind), volumes / f"{kind}.img"
    with ImageFile(path) as image:
        places = [a for a, b in image.data_ranges() for a in range(a, min(b, a + (256 << 10)), 512)][:512]
    whole = changed(path)
    for _case in range(25):
        at = rng.choice(places) + rng.randrange(500)
        before, data = read(whole, at, 12), rng.randbytes(12)
        whole.write(at, data)
        with suppress(FormatError):  # anything else is a crash
            assert all(0 <= a < b <= whole.size for a, b in in_use(whole))
        whole.write(at, before)


@pytest.mark.skipif(not shutil.which("debugfs"), reason="needs mke2fs and debugfs (Debian e2fsprogs)")
def test_what_was_deleted_is_left_out_of_an_extract(fstripe, tmp_path):
    volume, rng = tmp_path / "volume", random.Random(2)
    folder = folder_of_files(rng, tmp_path / "files", 3 << 20)
    secret = rng.randbytes(1 << 20)
    (folder / "deleted.raw").write_bytes(secret)
    ext(volume, 24 << 20, folder, "ext4")
    subprocess.run(["debugfs", "-w", "-R", "rm deleted.raw", volume], check=True, capture_output=True)
    names = [f"{n}.img" for n in "cab"]
    cut(volume, Spec("RAID5", 3, 65536, "parity-N", "continuation"), [fstripe.folder / n for n in names])
    fstripe("lineup", "solve", *names, "--out", "found.toml")
    assert fstripe("lineup", "extract", "found.toml", "all.img").status == 0
    made = fstripe("lineup", "extract", "found.toml", "used.img", "--used", "--json")
    assert made.status == 0 and made.json["in_use"] < made.json["size"] == volume.stat().st_size // 131072 * 131072
    whole, used = ((fstripe.folder / name).read_bytes() for name in ("all.img", "used.img"))
    assert secret[4096:8192] in whole and secret[4096:8192] not in used
    checked = subprocess.run(["e2fsck", "-fn", fstripe.folder / "used.img"], capture_output=True, check=False)
    assert checked.returncode == 0
    assert b"resumed" not in fstripe("lineup", "extract", "found.toml", "again.img", "--used").out.encode()


def test_where_nothing_says_what_is_in_use_nothing_is_written(fstripe, volumes):
    names = [f"{n}.img" for n in "cab"]
    cut(volumes / "log.img", Spec("RAID5", 3, 65536, "parity-N", "continuation"), [fstripe.folder / n for n in names])
    fstripe("lineup", "solve", *names, "--out", "found.toml")
    refused = fstripe("lineup", "extract", "found.toml", "out.img", "--used")
    assert refused.status == 1 and "in use is not known" in refused.err and "without --used" in refused.err
    assert not list(fstripe.folder.glob("*out.img*"))


def test_partitions_are_each_asked_and_what_stands_between_them_is_kept(volumes):
    with ImageFile(volumes / "gpt.img") as volume:
        used = used_of(volume, [(0, volume.size)])
        assert used[0][0] == 0 and used[-1][1] == volume.size and total(used) < volume.size  # both tables
        for part in parts_of(volume):
            try:
                mine = in_use(Pieces(volume, part.ranges))
            except FormatError:
                assert not subtract([part.ranges[0]], used)  # of what holds no file system, all
                continue
            assert [(a - part.start, b - part.start) for a, b in clip(used, *part.ranges[0])] == mine
