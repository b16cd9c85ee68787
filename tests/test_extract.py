"""Extracting: partitions, places that cannot be read, and going on after an interruption."""

import hashlib
import re
import shutil
import struct
import subprocess

import numpy as np
import pytest
from blake3 import blake3

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.formats import mbr
from faithful_stripe.core.lineup.document.four_verdicts import placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup, Solution
from faithful_stripe.core.lineup.full_pass.stretch import Stretch
from faithful_stripe.core.ranges import subtract
from faithful_stripe.core.source import MemorySource
from faithful_stripe.media.image import ImageFile, MediaError
from faithful_stripe.media.rescuemap import map_beside, map_text, read_map
from faithful_stripe.work.errors import WorkError
from faithful_stripe.work.extracting import Interrupted, extract
from faithful_stripe.work.lineup import save
from faithful_stripe.work.outfile import Digest, OutFile, write_filled
from faithful_stripe.work.places import place_of

SECTOR = 512
STRIP = 64 << 10


def entry(kind, first, count):
    return struct.pack("<B3xB3xII", 0, kind, first, count)


def boot_record(*entries):
    return bytes(446) + b"".join(entries).ljust(64, b"\0") + b"\x55\xaa"


def disk(size=8 << 20):
    """A disk with two primary partitions, and two logical ones in an extended one."""
    data = bytearray(np.random.default_rng(3).integers(0, 256, size, np.uint8).tobytes())
    data[:SECTOR] = boot_record(entry(0x83, 64, 2048), entry(0x07, 4096, 1024), entry(0x05, 8192, 8192))
    data[8192 * SECTOR : 8193 * SECTOR] = boot_record(entry(0x83, 63, 500), entry(0x05, 1000, 2000))
    data[9192 * SECTOR : 9193 * SECTOR] = boot_record(entry(0x83, 8, 600))
    return data


def striped(tmp_path, content, missing=None):
    """The content over three striped members, as a lineup file beside its images."""
    shape = geometry("RAID0", 3, STRIP, member_bytes=len(content) // 3 // STRIP * STRIP + STRIP)
    members = [MemorySource(shape.member_bytes[0]) for _ in range(3)]
    array = Array(shape, members)
    array.write(0, bytes(content))
    names = []
    for n, member in enumerate(members):
        data = bytearray(member.size)
        member.read_into(0, data)
        (tmp_path / f"tide-{n}.img").write_bytes(data)
        names.append(None if n == missing else f"tide-{n}.img")
    found = Lineup(shape, tuple(names), placed("certain"), 99.0, 0.0, (), (), (), "")
    save(Solution((found,), (), 0), tmp_path / "found.toml")


def source_of(content):
    source = MemorySource(len(content))
    source.write(0, bytes(content))
    return source


def test_boot_record_with_logical_partitions():
    found = mbr.entries(source_of(disk()))
    assert [(e.start // SECTOR, e.length // SECTOR) for e in found] == [
        (64, 2048),
        (4096, 1024),
        (8255, 500),
        (9200, 600),
    ]


def test_a_chain_that_loops_or_leaves_the_disk_ends():
    data = disk()
    data[8192 * SECTOR : 8193 * SECTOR] = boot_record(entry(0x83, 63, 500), entry(0x05, 0, 2000))
    assert len(mbr.entries(source_of(data))) == 3
    data[8192 * SECTOR : 8193 * SECTOR] = boot_record(entry(0x83, 63, 500), entry(0x05, 1 << 31, 2000))
    assert len(mbr.entries(source_of(data))) == 3
    data[510:512] = b"\0\0"
    assert mbr.entries(source_of(data)) == []


def test_a_partition_of_the_volume(fstripe, tmp_path):
    data = disk()
    striped(tmp_path, data)
    got = fstripe("lineup", "extract", "found.toml", "part.img", "--partition", "4", "--json")
    assert got.status == 3, got  # striped: nothing tells whether every byte is what it was
    assert got.json["verdicts"]["soundness"] == {"verdict": "not testable", "reason": "no-redundancy", "count": 3}
    wanted = bytes(data[9200 * SECTOR : 9800 * SECTOR])
    assert (tmp_path / "part.img").read_bytes() == wanted
    assert got.json["sha256"] == hashlib.sha256(wanted).hexdigest()
    assert got.json["start"] == 9200 * SECTOR
    for words, says in ((("--partition", "5"), "it has 4"), (("--partition", "1", "--range", "0:512"), "exclude")):
        bad = fstripe("lineup", "extract", "found.toml", "none.img", *words)
        assert bad.status == 1
        assert says in bad.err
        assert not (tmp_path / "none.img").exists()


def test_what_cannot_be_read_is_zeros_and_listed(fstripe, tmp_path):
    data = disk()
    striped(tmp_path, data, missing=1)
    got = fstripe("lineup", "extract", "found.toml", "out.img", "--range", "0:6MiB", "--json")
    assert got.status == 3, got
    lost = got.json["unreadable"]
    assert [tuple(x) for x in lost] == [(at, STRIP) for at in range(STRIP, 6 << 20, 3 * STRIP)]
    wanted = bytearray(data[: 6 << 20])
    for at, length in lost:
        wanted[at : at + length] = bytes(length)
    assert (tmp_path / "out.img").read_bytes() == bytes(wanted)
    rows = (tmp_path / "out.img.map.txt").read_text().splitlines()
    assert [row.split("\t") for row in rows if row[0] != "#"] == [
        ["unreadable", f"{a}", f"{a}", f"{n}"] for a, n in lost
    ]
    assert got.json["sha256"] == hashlib.sha256(wanted).hexdigest()
    told = fstripe("lineup", "extract", "found.toml", "again.img", "--range", "0:6MiB")
    assert "bytes in 32 places cannot be read, and are zeros." in told.out
    assert "listed in again.img.map.txt" in told.out
    assert "again.img.map as well" in told.out
    good = read_map(tmp_path / "out.img.map", 6 << 20)
    assert subtract([(0, 6 << 20)], good) == [(at, at + n) for at, n in lost]
    assert map_beside(tmp_path / "out.img") == tmp_path / "out.img.map"
    if shutil.which("ddrescuelog"):  # a program of others reads it
        counted = subprocess.run(["ddrescuelog", "-t", tmp_path / "out.img.map"], capture_output=True, text=True)
        assert counted.returncode == 0 and re.search(r"bad-sector:.*in +32 area", counted.stdout), counted


def test_a_map_of_ours_does_not_outlive_its_file(fstripe, tmp_path):
    """It would say of the next file of that name that sound bytes cannot be read."""
    striped(tmp_path, disk())
    (tmp_path / "out.img.map").write_text(map_text(6 << 20, [(0, 512)]))
    assert fstripe("lineup", "extract", "found.toml", "out.img", "--range", "0:6MiB").status == 3
    assert not (tmp_path / "out.img.map").exists()


def test_a_map_that_somebody_else_wrote_is_not_replaced(fstripe, tmp_path):
    striped(tmp_path, disk(), missing=1)
    (tmp_path / "out.img.map").write_text("# of another drive\n0x0 + 1\n0x0 0x200 +\n")
    refused = fstripe("lineup", "extract", "found.toml", "out.img", "--range", "0:6MiB")
    assert refused.status == 1 and "out.img.map" in refused.err and "another" in (tmp_path / "out.img.map").read_text()


def two_mirrored(content):
    """The content on two mirrors, as a lineup and its members."""
    shape = geometry("RAID1", 2, STRIP, member_bytes=len(content))
    return Lineup(shape, ("a", "b"), placed("certain"), 99.0, 0.0), [source_of(content), source_of(content)]


def stopping(at):
    """What is told of the progress, until so many rows are done."""

    def tell(_text, done=0, _whole=0):
        if done >= at:
            raise KeyboardInterrupt

    return tell


def test_it_goes_on_where_it_was_stopped(tmp_path):
    data = disk()
    (found, members), out = two_mirrored(data), tmp_path / "out.img"
    with pytest.raises(Interrupted, match="4194304 of 8388608"):
        extract(found, members, "one", out, 0, 8 << 20, stopping(64))
    assert not out.exists()
    # another volume does not go on from there
    other, _tested = extract(found, members, "another", tmp_path / "other.img", 0, 1 << 20)
    assert other.resumed == 0
    got, tested = extract(found, members, "one", out, 0, 8 << 20)
    assert got.resumed == 4 << 20
    assert got.sha256 == hashlib.sha256(data).hexdigest()
    assert tested.verdicts.certain
    assert out.read_bytes() == bytes(data)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["other.img", "out.img"]
    with pytest.raises(MediaError, match="exists already"):
        extract(found, members, "one", out, 0, 8 << 20)


def test_an_unfinished_file_of_something_else_is_not_gone_on_with(tmp_path):
    (found, members), out = two_mirrored(disk()), tmp_path / "out.img"
    with pytest.raises(Interrupted):
        extract(found, members, "one", out, 0, 8 << 20, stopping(1))
    got, _tested = extract(found, members, "two", out, 0, 8 << 20)
    assert got.resumed == 0


def test_what_was_changed_meanwhile_is_not_gone_on_with(tmp_path):
    data = disk()
    (found, members), out = two_mirrored(data), tmp_path / "out.img"
    with pytest.raises(Interrupted):
        extract(found, members, "one", out, 0, 8 << 20, stopping(64))
    with (tmp_path / ".out.img.part").open("r+b") as part:
        part.seek(12345)
        part.write(b"not the tide")
    got, _tested = extract(found, members, "one", out, 0, 8 << 20)
    assert got.resumed == 0
    assert out.read_bytes() == bytes(data)


def test_what_an_earlier_attempt_read_from_another_image_does_not_stay(tmp_path):
    """An image was another one where no fingerprint looks, and is the right one again: also where it is empty now."""
    right = disk()
    right[1 << 20 : 2 << 20] = bytes(1 << 20)
    wrong = bytearray(right)
    wrong[(1 << 20) + 5 : (1 << 20) + 9] = wrong[(3 << 20) + 7 : (3 << 20) + 11] = b"gale"
    found, members = two_mirrored(wrong)
    out = tmp_path / "out.img"
    with pytest.raises(Interrupted):
        extract(found, members, "one", out, 0, 8 << 20, stopping(64))
    got, _tested = extract(found, two_mirrored(right)[1], "one", out, 0, 8 << 20)
    assert got.resumed == 4 << 20
    assert out.read_bytes() == bytes(right) and got.sha256 == hashlib.sha256(right).hexdigest()


def test_one_at_a_time_writes_a_file(tmp_path):
    (found, members), out = two_mirrored(disk()), tmp_path / "out.img"
    with OutFile(out, "another", 8 << 20) as other:
        with pytest.raises(MediaError, match="another command is writing it"):
            extract(found, members, "one", out, 0, 8 << 20)
        other.take(Stretch(0, [np.full(4096, 7, np.uint8)]))
        told = other.finish()[0]
    assert out.read_bytes() == b"\7" * 4096 + bytes((8 << 20) - 4096)
    assert told == blake3(out.read_bytes()).hexdigest()


def test_the_digests_do_not_depend_on_holes(tmp_path):
    data = bytearray(5 * (1 << 20) + 700)
    data[3 << 20 : (3 << 20) + 9] = b"high tide"
    dense, sparse = tmp_path / "dense", tmp_path / "sparse"
    dense.write_bytes(data)
    with sparse.open("wb") as file:
        file.truncate(len(data))
    with ImageFile(sparse, writable=True) as image:
        held = np.frombuffer(bytes(data), np.uint8)
        write_filled(image, Stretch(0, [held[:5000], held[5000 : 1 << 20], held[1 << 20 :]]))
    assert sparse.stat().st_blocks < dense.stat().st_blocks
    for path in (dense, sparse):
        with ImageFile(path) as image:
            digest = Digest(image, plain=True)
            for end in (0, 700, 1 << 20, len(data)):
                assert digest.upto(end) == blake3(data[:end]).hexdigest()
            assert digest.plain == hashlib.sha256(data).hexdigest()


def test_a_partition_past_the_end_is_refused():
    data = disk()
    data[446:462] = entry(0x83, 64, 1 << 20)
    with pytest.raises(WorkError, match="there is no partition 4"):
        place_of(source_of(data), None, 4)  # what leaves the disk is no partition
