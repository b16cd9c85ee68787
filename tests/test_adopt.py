"""Back into service: a lineup written as new drives with a set-up, adopted by a controller, and compared there."""

from __future__ import annotations

import os
from dataclasses import replace

import numpy as np
import pytest

from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.formats import ddf
from faithful_stripe.core.formats.ddf_records import SETUP_BYTES
from faithful_stripe.core.formats.ddf_volumes import described
from faithful_stripe.core.formats.ends import declared_end
from faithful_stripe.core.lineup.document.four_verdicts import Reason, Sure, Verdict, placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup, Solution
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work import adopting
from faithful_stripe.work.adopting import adopt, by_its_setup
from faithful_stripe.work.errors import WorkError
from faithful_stripe.work.lineup import open_array, save, what_is_read

from .slicer import Spec, cut

STRIP = 16 << 10
AT = ("--at", "second")

SPECS = [
    Spec("RAID0", 3, STRIP),
    Spec("RAID1", 2, STRIP),
    Spec("RAID10", 6, STRIP, copies=2, start=1 << 20),
    Spec("RAID10", 6, STRIP, copies=3),
    Spec("RAID1E", 5, STRIP, data="adjacent"),
    Spec("RAID1E", 3, STRIP, data="offset"),
    Spec("RAID4", 4, STRIP, rotation="fixed-N"),
    Spec("RAID5", 4, STRIP, rotation="parity-N", data="continuation", start=512 * 63),
    Spec("RAID5", 5, STRIP, rotation="parity-0", data="continuation"),
    Spec("RAID50", 6, STRIP, rotation="parity-0", data="restart", spans=2),
    Spec("RAID6", 5, STRIP, rotation="parity-N", data="continuation", q_place="after-p", q_exponent="member-position"),
    Spec("RAID6", 6, STRIP, rotation="parity-0", data="restart", q_place="after-p", q_exponent="data-index"),
    Spec("RAID60", 8, STRIP, rotation="parity-N", data="restart", q_place="after-p", q_exponent="data-index", spans=2),
]


def lineup(tmp_path, spec, gone=(), content=None, verdicts=None):
    """A volume cut by the independent slicer, and its lineup, by hand, as a file."""
    volume = tmp_path / "volume.img"
    if content is None:
        content = np.random.default_rng(5).integers(0, 256, 1_500_000, np.uint8).tobytes()
    volume.write_bytes(content)
    names = [f"ebb-{n}.img" for n in range(spec.members)]
    for name in (*names, "found.toml"):
        (tmp_path / name).unlink(missing_ok=True)
    size = cut(volume, spec, [tmp_path / name for name in names])
    made = geometry(
        spec.level, spec.members, spec.strip, member_bytes=size, start_bytes=spec.start, rotation=spec.rotation,
        data=spec.data, spans=spec.spans if spec.spans > 1 else None, q_place=spec.q_place, q_exponent=spec.q_exponent,
        copies=spec.copies if spec.level == "RAID10" else None,
    )  # fmt: skip
    seats = tuple(None if n in gone else name for n, name in enumerate(names))
    found = Lineup(made, seats, verdicts or placed("certain"), 99.0, 0.0)
    save(Solution((found,), (), 0), tmp_path / "found.toml")
    return content


def written(tmp_path, folder="drives", **more):
    with open_array(tmp_path / "found.toml") as (found, members):
        return adopt(found, members, what_is_read(found, members), tmp_path / folder, "tides", **more)


@pytest.mark.parametrize("spec", SPECS, ids=lambda s: f"{s.level}-{s.rotation}-{s.data}-{s.members}")
def test_the_new_drives_hold_what_an_independent_slicer_puts_there(tmp_path, spec):
    """Whole, and with as many members gone as it survives: every member is there again, and right."""
    content = lineup(tmp_path, spec)
    survives = {"RAID0": 0, "RAID6": 2, "RAID60": 2}.get(spec.level, 1)
    for folder, gone in (("whole", ()), ("degraded", tuple(range(survives)))):
        lineup(tmp_path, spec, gone)
        made, after = written(tmp_path, folder)
        assert after.verdicts.placing == "certain" and not made.unreadable and not made.moved
        for drive in made.drives:
            new, old = tmp_path / folder / drive.file, tmp_path / f"ebb-{drive.position}.img"
            kept = old.read_bytes()[made.start : made.start + made.extent]
            assert new.read_bytes()[made.start : made.start + made.extent] == kept
            assert new.stat().st_size == drive.size >= made.start + made.extent + SETUP_BYTES
            assert drive.image == ("" if drive.position in gone else f"ebb-{drive.position}.img")
        with by_its_setup(tmp_path / folder, made.drives) as array:
            data = bytearray(len(content))
            array.read_into(0, data)
            assert data == content and array.size == made.volume
        assert f"volume bytes: {made.volume}" in (tmp_path / folder / "array.txt").read_text()


def test_what_one_member_holds_wrong_is_not_taken_over(tmp_path):
    content = lineup(tmp_path, SPECS[11])
    with open(tmp_path / "ebb-2.img", "r+b") as image:
        image.seek(3 * STRIP)
        image.write(b"\xa5" * STRIP)
    made, after = written(tmp_path)
    assert made.computed and after.verdicts.soundness.reason is Reason.COMPUTED
    with by_its_setup(tmp_path / "drives", made.drives) as array:
        data = bytearray(len(content))
        array.read_into(0, data)
        assert data == content
    with open(tmp_path / "drives" / made.drives[2].file, "rb") as new:
        new.seek(3 * STRIP)
        assert new.read(STRIP) != b"\xa5" * STRIP


def test_each_drive_says_the_whole_set_up(tmp_path):
    lineup(tmp_path, SPECS[2])
    made, _after = written(tmp_path)
    for drive in made.drives:
        with ImageFile(tmp_path / "drives" / drive.file) as image:
            told = ddf.decode(image)
            one = described([told])[0]
            assert one.name == "tides" and set(one.starts) == {1 << 20} and one.layout["level"] == "RAID10"
            assert len(told.drives) == 6 and told.volumes[0]["state"] == 0
        damaged = bytearray((tmp_path / "drives" / drive.file).read_bytes())
        damaged[told.header["primary_lba"] * 512] ^= 1
        (tmp_path / "one.img").write_bytes(damaged)
        with ImageFile(tmp_path / "one.img") as image:
            assert ddf.decode(image).volumes == told.volumes  # the second copy


def test_linux_is_told_where_all_stands_or_that_it_cannot_be(tmp_path):
    """As `benchmarks/kernel.py` has it read by a kernel."""
    lineup(tmp_path, SPECS[7])  # RAID 5 of 4, its data from sector 63 on
    made, _after = written(tmp_path)
    area = made.extent // 512
    mapped = (tmp_path / "drives" / "array.table").read_text().splitlines()
    assert mapped[0] == f"tides-0 0 {area} linear /dev/DRIVE-0 63" and len(mapped) == 5
    below = " ".join(f"- /dev/mapper/tides-{n}" for n in range(4))
    assert mapped[4] == f"tides 0 {made.volume // 512} raid raid5_ls 2 32 nosync 4 {below}"
    assert "array.table" in (tmp_path / "drives" / "array.txt").read_text()
    lineup(tmp_path, SPECS[11])  # RAID 6 whose Q counts the data: the kernel counts otherwise in this rotation
    written(tmp_path, "other")
    assert not (tmp_path / "other" / "array.table").exists()
    assert "no target for this layout" in (tmp_path / "other" / "array.txt").read_text()


def test_members_that_start_apart_are_brought_into_one_place(tmp_path):
    content = lineup(tmp_path, SPECS[7])
    later = tmp_path / "ebb-1.img"
    later.write_bytes(bytes(4096) + later.read_bytes())
    found = Lineup(
        geometry("RAID5", 4, STRIP, member_bytes=later.stat().st_size - 512 * 63 - 4096, rotation="parity-N",
                 data="continuation", start_bytes=(512 * 63, 512 * 63 + 4096, 512 * 63, 512 * 63)),
        tuple(f"ebb-{n}.img" for n in range(4)), placed("certain"), 99.0, 0.0,
    )  # fmt: skip
    save(Solution((found,), (), 0), tmp_path / "apart.toml")
    with open_array(tmp_path / "apart.toml") as (found, members):
        made, _after = adopt(found, members, "it", tmp_path / "drives", "tides")
    assert made.moved and made.start == 512 * 63 + 4096
    with by_its_setup(tmp_path / "drives", made.drives) as array:
        data = bytearray(len(content))
        array.read_into(0, data)
        assert data == content


REFUSED = {
    "order": lambda v: replace(v, order=Verdict(Sure.PROBABLE, Reason.RIVAL)),
    "start": lambda v: replace(v, start=Verdict(Sure.PROBABLE, Reason.NOTHING_SAYS)),
}


@pytest.mark.parametrize("which", REFUSED)
def test_what_is_doubtful_is_not_written_unasked(tmp_path, fstripe, which):
    lineup(tmp_path, SPECS[5], verdicts=REFUSED[which](placed("certain")))
    done = fstripe("lineup", "adopt", "found.toml", "drives")
    assert done.status == 1 and f"not certain of this lineup: {which};" in done.err and done.err.count("\n") == 1
    assert not (tmp_path / "drives").exists()
    asked = fstripe("lineup", "adopt", "found.toml", "drives", "--doubtful")
    assert asked.status == 3 and (tmp_path / "drives" / "found-0.img").exists()


def test_a_member_found_behind_while_it_is_read_stops_it(tmp_path, fstripe):
    """Nothing tells which of two mates is right where they differ: nothing is left behind."""
    lineup(tmp_path, SPECS[2])
    with open(tmp_path / "ebb-3.img", "r+b") as image:
        image.seek((1 << 20) + 5 * STRIP)
        image.write(np.random.default_rng(9).integers(0, 256, STRIP, np.uint8).tobytes())
    done = fstripe("lineup", "adopt", "found.toml", "drives")
    assert done.status == 1 and "currency" in done.err
    assert sorted(p.name for p in tmp_path.iterdir() if "drives" in p.name) == []
    asked = fstripe("lineup", "adopt", "found.toml", "drives", "--doubtful", "--json")
    assert asked.status == 3 and asked.json["open"] and asked.json["verdicts"]["currency"]["verdict"] == "undecided"


def test_a_set_whose_own_set_up_reads_otherwise_is_not_kept(tmp_path, monkeypatch):
    """Were the set-up written with two positions exchanged, the controller would take it so."""
    lineup(tmp_path, SPECS[0])
    right = adopting.configs
    monkeypatch.setattr(adopting, "configs", lambda of, refs, told: right(of, [refs[1], refs[0], *refs[2:]], told))
    with pytest.raises(WorkError, match="do not read as the lineup's volume"):
        written(tmp_path)
    assert not (tmp_path / "drives").exists() and not list(tmp_path.glob(".drives*"))


def test_what_cannot_be_done_is_one_line(tmp_path, fstripe):
    lineup(tmp_path, SPECS[0])
    (tmp_path / "there").mkdir()
    for words, says in (
        (("there",), "exists already"),
        (("drives", "--name", "a volume"), "cannot be called"),
        (("drives", "--size", "1MiB"), "do not do"),
        (("no/such/drives",), "cannot be created"),
        (("drives", "--array", "2"), "there is no array 2"),
    ):
        done = fstripe("lineup", "adopt", "found.toml", *words)
        assert done.status == 1 and says in done.err and done.err.count("\n") == 1, done.err
    assert fstripe("lineup", "adopt", "found.toml").status == 2
    assert fstripe("lineup", "adopt", "found.toml", "drives", "--seen", "volume.img").status == 2
    sizes = (300 << 10, 500 << 10)
    joined = geometry("SPAN", 2, STRIP, member_bytes=sizes)
    for n, size in enumerate(sizes):
        (tmp_path / f"flow-{n}.img").write_bytes(bytes(size))
    found = Lineup(joined, ("flow-0.img", "flow-1.img"), placed("certain"), 99.0, 0.0)
    odd = Lineup(geometry("RAID0", 3, 12 << 10, member_bytes=504 << 10, odd_strips=True),
                 tuple(f"ebb-{n}.img" for n in range(3)), placed("certain"), 99.0, 0.0)  # fmt: skip
    save(Solution((found, odd), (), 0), tmp_path / "others.toml")
    for number, says in ((1, "one after the other"), (2, "no power of two")):
        done = fstripe("lineup", "adopt", "others.toml", "drives", "--array", number)
        assert done.status == 1 and says in done.err, done.err
    assert not (tmp_path / "drives").exists()


def test_the_ends_that_file_systems_state_are_those_they_were_made_with(volumes):
    for name in ("ext2", "ext4-nocsum", "fat12", "fat16", "fat32", "exfat", "ntfs", "gpt", "xfs", "btrfs"):
        with ImageFile(volumes / f"{name}.img") as image:
            assert declared_end(image) == image.size, name
    with ImageFile(volumes / "log.img") as image:
        assert declared_end(image) is None


def test_smaller_drives_do_where_nothing_on_the_volume_claims_what_is_cut(tmp_path, fstripe, volumes):
    content = (volumes / "ext2.img").read_bytes()
    lineup(tmp_path, SPECS[7], content=content + bytes(8 << 20))
    whole, _after = written(tmp_path, "whole")
    least = whole.drives[0].size
    shorter, _after = written(tmp_path, "shorter", size=least - (2 << 20))
    assert shorter.shorter > 0 and shorter.volume >= len(content)
    with by_its_setup(tmp_path / "shorter", shorter.drives) as array:
        data = bytearray(len(content))
        array.read_into(0, data)
        assert data == content
    done = fstripe("lineup", "adopt", "found.toml", "small", "--size", least - (4 << 20))
    assert done.status == 1 and f"what is on it takes {len(content)}" in done.err
    lineup(tmp_path, SPECS[7])
    done = fstripe("lineup", "adopt", "found.toml", "small", "--size", "64MiB")
    assert done.status == 1 and "do not do" in done.err
    done = fstripe("lineup", "adopt", "found.toml", "small", "--size", (64 << 20) + (256 << 10))
    assert done.status == 1 and "nothing at its start says" in done.err


def test_from_a_pile_to_a_volume_that_a_controller_serves(tmp_path, fstripe, observatory):
    """Solved, one member missing; written anew; seated elsewhere, adopted there, and read through that controller."""
    spec = Spec("RAID5", 4, 64 << 10, rotation="parity-N", data="continuation")
    cut(observatory, spec, [tmp_path / f"ebb-{n}.img" for n in range(4)])
    (tmp_path / "ebb-2.img").unlink()
    images = [f"ebb-{n}.img" for n in (3, 0, 1)]
    assert "RAID5 of 4" in fstripe("lineup", "solve", *images, "--out", "solved.toml").out
    made = fstripe("lineup", "adopt", "solved.toml", "drives", "--name", "tides")
    assert made.status == 3 and "a missing member, computed" in made.out  # what one member gone leaves untestable
    assert fstripe("bench", "new", "second", "--from", "skerry-2").status == 0
    for n in range(4):
        seated = fstripe(*AT, "bench", "seat", n + 1, f"TIDES-{n}", "--image", f"drives/tides-{n}.img")
        assert seated.status == 0, seated.err
    found = fstripe(*AT, "volume", "found")
    assert "Volume tides: RAID5" in found.out and found.out.count("up to date") == 4
    serials = ",".join(f"TIDES-{n}" for n in range(4))
    adopted = fstripe(*AT, "volume", "adopt", "tides", "--yes", "--expect-serials", serials)
    assert adopted.status == 0 and "OK, margin 1" in adopted.out
    assert fstripe(*AT, "bench", "dump", "tides", "shown.img").status == 0
    same = fstripe("lineup", "adopt", "solved.toml", "--seen", "shown.img")
    assert same.status == 0 and "is the lineup's volume" in same.out
    with open(tmp_path / "shown.img", "r+b") as image:
        image.seek(4097)
        image.write(b"?")
    other = fstripe("lineup", "adopt", "solved.toml", "--seen", "shown.img", "--json")
    assert other.status == 3 and other.json["differ"] == [[4096, 4608]] and not other.json["same"]
    os.truncate(tmp_path / "shown.img", observatory.stat().st_size - 4096)
    short = fstripe("lineup", "adopt", "solved.toml", "--seen", "shown.img")
    assert short.status == 3 and "what is on the volume takes" in short.out


def test_an_image_is_seated_as_a_drive_of_its_own(tmp_path, fstripe):
    fstripe("bench", "new", "second", "--from", "skerry-2")
    (tmp_path / "tide.img").write_bytes(b"t" * 4096 + bytes(1 << 20))
    (tmp_path / "odd.img").write_bytes(b"t" * 700)
    assert (
        fstripe(*AT, "bench", "seat", "1", "T-1", "--image", "tide.img", "--json").json["drive"]["size"]
        == (1 << 20) + 4096
    )
    drives = sorted(p.name for p in (tmp_path / "second" / "drives").iterdir())
    for words, says in (
        (("1", "T-2", "--image", "tide.img"), "bay 1"),
        (("2", "T-1", "--image", "tide.img"), "there is a drive T-1"),
        (("2", "T/3", "--image", "tide.img"), "no serial number"),
        (("2", "T-3", "--image", "odd.img"), "no whole number of sectors"),
        (("2", "T-3", "--image", "none.img"), "none.img"),
        (("99", "T-3", "--image", "tide.img"), "no bay 99"),
    ):
        done = fstripe(*AT, "bench", "seat", *words)
        assert done.status == 1 and says in done.err and done.err.count("\n") == 1, done.err
    assert sorted(p.name for p in (tmp_path / "second" / "drives").iterdir()) == drives
    (tmp_path / "holes.img").write_bytes(b"t" * (64 << 10))
    (tmp_path / "holes.map").write_text("# a copier's map\n0x0 + 1\n0x0 0x4000 +\n0x4000 0x1000 -\n0x5000 0xB000 +\n")
    seated = fstripe(*AT, "bench", "seat", "2", "T-4", "--image", "holes.img", "--json").json
    assert seated["drive"]["unreadable"] == [[0x4000, 0x1000]]
