"""Files out of XFS and btrfs, by our own readers: beside what general tools made, and on damaged structures."""

import random
import shutil
import subprocess
from pathlib import PurePosixPath

import pytest

from faithful_stripe.core.formats import btrfs, xfs
from faithful_stripe.core.formats.inodes import damaged
from faithful_stripe.media.file_readers import opened
from faithful_stripe.media.filesystems import FilesError, Kind
from faithful_stripe.media.image import ImageFile

from . import piles
from .slicer import Spec, cut

TOP = PurePosixPath(".")


def read_all(image):
    """Every file's content by path, the folders, and the reader."""
    with ImageFile(image) as volume:
        system = opened(volume, 0, volume.size, "it")
        files, folders = {}, set()
        for entry in system.walk(system.lookup(TOP)):
            if entry.kind is Kind.FILE:
                files[str(entry.path)] = b"".join(system.read(entry))
                assert len(files[str(entry.path)]) == entry.size
            elif entry.path != TOP:
                folders.add(str(entry.path))
        return files, folders, system


@pytest.fixture(scope="module")
def tree(tmp_path_factory):
    """Folders of many names, a file in many pieces, a sparse one, an empty one, one that stands beside its name."""
    top = tmp_path_factory.mktemp("files") / "files"
    (top / "many" / "deep" / "deeper").mkdir(parents=True)
    for number in range(700):
        (top / "many" / f"gauge reading with a long name {number:05}").write_bytes(b"%d\n" % number)
    (top / "many" / "deep" / "deeper" / "empty").touch()
    (top / "tides.log").write_bytes(random.Random(4).randbytes(3_000_000))
    (top / "plain.txt").write_bytes(b"high water 04:12\n" * 9000)
    return top


def same_as(tree, files, folders):
    wanted = {str(p.relative_to(tree)): p.read_bytes() for p in tree.rglob("*") if p.is_file()}
    assert files == wanted
    assert folders == {str(p.relative_to(tree)) for p in tree.rglob("*") if p.is_dir()}


@pytest.mark.parametrize(
    "options",
    [
        (),
        ("-m", "crc=0"),
        ("-m", "crc=0", "-n", "ftype=0"),
        ("-b", "size=1024"),
        ("-n", "size=16384", "-i", "size=2048"),
    ],
    ids=" ".join,
)
def test_xfs_is_read_as_it_was_made(tree, tmp_path, options):
    if shutil.which("mkfs.xfs") is None:
        pytest.skip("mkfs.xfs is not installed on this machine")
    names = tmp_path / "tree"
    shutil.copytree(tree, names)
    for path in sorted(names.rglob("* *"), reverse=True):  # what makes it takes no spaces in names
        path.rename(path.with_name(path.name.replace(" ", "_")))
    piles.xfs(tmp_path / "volume", 320 << 20, names, *options)
    files, folders, system = read_all(tmp_path / "volume")
    same_as(names, files, folders)
    assert system.unread == [] and not system.pending


@pytest.mark.parametrize("options", [(), ("-m", "dup"), ("--csum", "blake2"), ("-n", "4096")], ids=" ".join)
def test_btrfs_is_read_as_it_was_made(tree, tmp_path, options):
    if shutil.which("mkfs.btrfs") is None:
        pytest.skip("mkfs.btrfs is not installed on this machine")
    volume = piles.sparse(tmp_path / "volume", 200 << 20)
    subprocess.run(["mkfs.btrfs", "-q", *options, "--rootdir", tree, volume], check=True, capture_output=True)
    files, folders, system = read_all(volume)
    same_as(tree, files, folders)
    assert system.unread == [] and not system.pending


@pytest.mark.parametrize("kind", ["xfs", "btrfs"])
def test_an_arrays_files_are_listed_copied_and_prove_themselves(fstripe, volumes, tmp_path, kind):
    images = [tmp_path / f"m{n}.img" for n in range(4)]
    cut(volumes / f"{kind}.img", Spec("RAID5", 4, 65536, "parity-N", "continuation"), images)
    found = tmp_path / "found.toml"
    fstripe("lineup", "solve", *images, "--out", found)
    listed = fstripe("lineup", "files", found, "--all", "--check", "--json")
    files = [f for f in listed.json["files"] if f["kind"] == "file"]
    assert listed.status == 0 and len(files) > 5 and all(f["tested"] and not f["lost_bytes"] for f in files)
    done = fstripe("lineup", "copy", found, ".", tmp_path / "out", "--json")
    assert done.status == 0 and all(c["to"] and not c["trouble"] for c in done.json["files"])
    assert done.json["log_pending"] is False and done.json["structures_hurt_bytes"] == 0
    direct, _folders, _system = read_all(volumes / f"{kind}.img")
    copied = {
        str(p.relative_to(tmp_path / "out")): p.read_bytes() for p in (tmp_path / "out").rglob("*") if p.is_file()
    }
    assert copied == direct
    tried = fstripe("lineup", "files", found, "--sample", "5", "--json").json
    assert tried["opened"] and tried["whole"] == tried["opened"]


@pytest.mark.parametrize("kind", ["xfs", "btrfs"])
def test_damage_is_told_and_never_ends_in_a_crash(volumes, tmp_path, kind):
    whole, folders, _system = read_all(volumes / f"{kind}.img")
    rng = random.Random(9)
    with ImageFile(volumes / f"{kind}.img") as image:
        ranges = list(image.data_ranges())
    told = 0
    for number in range(30):
        broken = tmp_path / f"{number}.img"
        subprocess.run(["cp", "--sparse=always", volumes / f"{kind}.img", broken], check=True)
        with broken.open("r+b") as file:
            for _ in range(rng.choice((1, 30, 400))):
                a, b = rng.choice(ranges)
                file.seek(rng.randrange(a, b))
                file.write(rng.randbytes(rng.choice((1, 8, 64))))
        with ImageFile(broken) as volume:
            try:
                system = opened(volume, 0, volume.size, "it")
                seen = list(system.walk(system.lookup(TOP)))
            except FilesError:
                told += 1
                continue
            for entry in seen:
                if entry.kind is Kind.FILE and entry.size < 1 << 28:
                    try:
                        for _piece in system.read(entry):
                            pass
                    except FilesError:
                        told += 1
        names = {str(e.path) for e in seen}
        told += bool(system.unread)
        assert system.unread or names >= set(whole) | folders  # what is not seen any more is said to be so
        broken.unlink()
    assert told > 3


def test_a_file_system_with_a_log_to_play_back(volumes, tmp_path):
    broken = tmp_path / "ext"
    shutil.copyfile(volumes / "ext4-nocsum.img", broken)
    with broken.open("r+b") as file:
        file.seek(1024 + 0x60)
        flags = file.read(1)[0] | 4
        file.seek(1024 + 0x60)
        file.write(bytes([flags]))
    assert [read_all(p)[2].pending for p in (volumes / "ext4-nocsum.img", broken)] == [False, True]
    log = tmp_path / "xfs"
    shutil.copyfile(volumes / "xfs.img", log)
    with log.open("r+b") as file:
        head = xfs.SUPERBLOCK.read(file.read(512))
        group, inner = divmod(head["log"], 1 << head["group_log"])
        begin = (group * head["group_blocks"] + inner) * head["block_size"]
        file.seek(begin)
        file.seek(begin + file.read(4 << 20).rfind(xfs.RECORD) + 512 + 9)
        file.write(b"\0")  # the last record is none of an unmounting any more
    assert [read_all(p)[2].pending for p in (volumes / "xfs.img", log)] == [False, True]
    synced = tmp_path / "btrfs"
    shutil.copyfile(volumes / "btrfs.img", synced)
    with synced.open("r+b") as file:
        file.seek(btrfs.SUPER_AT + 96)
        file.write(b"\1")
    assert [read_all(p)[2].pending for p in (volumes / "btrfs.img", synced)] == [False, True]


def test_a_file_whose_places_are_not_known_is_not_called_sound(fstripe, volumes, tmp_path, monkeypatch):
    images = [tmp_path / f"m{n}.img" for n in range(4)]
    cut(volumes / "xfs.img", Spec("RAID5", 4, 65536, "parity-N", "continuation"), images)
    found = tmp_path / "found.toml"
    fstripe("lineup", "solve", *images, "--out", found)

    def places(_self, _inode):
        raise damaged("an inode")

    monkeypatch.setattr(xfs.Xfs, "places", places)
    files = [f for f in fstripe("lineup", "files", found, "--all", "--json").json["files"] if f["kind"] == "file"]
    assert files and not any(f["tested"] for f in files)
