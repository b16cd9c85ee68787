"""A drive that was imaged twice, each time with other gaps, and without a map: read as one, where it is one."""

from __future__ import annotations

import random
import shutil

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.document.four_verdicts import placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup
from faithful_stripe.core.lineup.reading.imaged_twice import SECTOR, BestOf, imaged_twice
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.source import MemorySource, Unreadable, read
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import _mates_rather, solve_images

from .slicer import Spec, cut

KINDS = ("data", "zeros", "pattern", "other")


def source_of(data):
    made = MemorySource(len(data))
    made.write(0, bytes(data))
    return made


def sector(kind, number):
    if kind in ("data", "other"):
        return np.random.default_rng([number, kind == "other"]).integers(0, 256, SECTOR, np.uint8).tobytes()
    return bytes(SECTOR) if kind == "zeros" else b"TIDE" * (SECTOR // 4)


@given(st.lists(st.tuples(*[st.sampled_from(KINDS)] * 2), min_size=1, max_size=12), st.data())
def test_of_every_sector_the_likeliest_is_taken_and_what_contradicts_itself_is_none(kinds, data):
    one, other = (source_of(b"".join(sector(k[i], n) for n, k in enumerate(kinds))) for i in (0, 1))
    best = BestOf([one, other])
    start = data.draw(st.integers(0, best.size - 1))
    end = data.draw(st.integers(start + 1, best.size))
    touched = range(start // SECTOR, (end - 1) // SECTOR + 1)
    if any({"data", "other"} == set(kinds[n]) for n in touched):
        with pytest.raises(Unreadable):
            read(best, start, end - start)
        return
    rank = {"data": 0, "other": 0, "zeros": 1, "pattern": 2}
    whole = b"".join(sector(min(kinds[n], key=rank.__getitem__), n) for n in range(len(kinds)))
    assert read(best, start, end - start) == whole[start:end]


def test_a_pass_that_ends_early_or_cannot_be_read_gives_way():
    data = np.random.default_rng(2).integers(0, 256, 8 * SECTOR, np.uint8).tobytes()

    class Bad(MemorySource):
        def read_into(self, offset, buffer):
            if offset < 4 * SECTOR and offset + len(buffer) > 3 * SECTOR:
                raise Unreadable(source=self, offset=offset, length=len(buffer))
            super().read_into(offset, buffer)

    bad = Bad(len(data))
    bad.write(0, data)
    short = source_of(data[: 5 * SECTOR])
    assert read(BestOf([bad, short]), 0, len(data)) == data
    with pytest.raises(Unreadable):
        read(BestOf([bad, source_of(data[: 2 * SECTOR])]), 0, len(data))


def gaps(path, rng, low, high, fill=b"\0"):
    """Gaps in a part of what an image holds, of 16 KiB each."""
    with ImageFile(path) as image:
        held = [at for a, b in image.data_ranges() for at in range(a, b, 4096)]
    with open(path, "r+b") as image:
        for at in rng.sample(held[int(len(held) * low) : int(len(held) * high)], 12):
            image.seek(at)
            image.write(fill * (16384 // len(fill)))


def twice(folder, spec, volume, fill=b"\0", gone=()):
    """A pile in which member 1 was imaged twice."""
    members = [folder / f"ebb-{n}.img" for n in range(spec.members)]
    cut(volume, spec, members)
    shutil.copy(members[1], folder / "again.img")
    rng = random.Random(4)
    gaps(members[1], rng, 0, 0.5, fill)
    gaps(folder / "again.img", rng, 0.5, 1, fill)
    for number in gone:
        members[number].unlink()
    return sorted(p.name for p in (*members, folder / "again.img") if p.exists())


CASES = {
    "parity, a member missing": (Spec("RAID5", 4, 65536, "parity-N", "continuation"), b"\0", (3,)),
    "stripes, a pattern in the gaps": (Spec("RAID0", 3, 65536), b"GONE", ()),
}


@pytest.mark.parametrize(("first", "second", "passes"), [((0, 0.5), (0.5, 1), True), ((0, 0.5), (0, 0), False)])
def test_a_pass_put_aside_is_one_where_each_has_what_the_other_lacks(tmp_path, volumes, first, second, passes):
    """It was called out of date, and rows of which the other pass was blank stayed open. What only lacks some data may
    well be out of date."""
    members = [tmp_path / f"m{n}.img" for n in range(4)]
    cut(volumes / "ntfs.img", Spec("RAID5", 4, 16384, "parity-N", "continuation"), members)
    shutil.copy(members[1], tmp_path / "again.img")
    rng = random.Random(4)
    for path, (low, high) in ((members[1], first), (tmp_path / "again.img", second)):
        if high:
            gaps(path, rng, low, high, b"\xa5")
    paths = [*members, tmp_path / "again.img"]
    pile = Pile([p.name for p in paths], [ImageFile(p) for p in paths])
    assert (imaged_twice(pile, equal_too=False, both_ways=True) == [(1, 4)]) is passes
    (array,) = solve_images(paths).arrays
    joined = [m for m in array.members if m and "+" in m]
    assert bool(joined) is passes and (passes or array.stale)


def test_two_passes_are_proved_as_they_were_solved(fstripe, volumes):
    """`--against` took the second pass for both: "its first MiB holds something else"."""
    names = twice(fstripe.folder, Spec("RAID5", 4, 16384, "parity-N", "continuation"), volumes / "log.img", b"\0", ())
    solved = fstripe("lineup", "solve", *names, "--out", "found.toml", "--json")
    assert "again.img+ebb-1.img" in solved.json["arrays"][0]["spans"][0]
    proved = fstripe("lineup", "prove", "found.toml", *(w for name in names for w in ("--against", name)), "--json")
    assert proved.json["verdict"] == solved.json["arrays"][0]["verdict"]
    assert not any("again.img" in other["what"] for other in proved.json["others"])  # it is one of them already


@pytest.mark.long
@pytest.mark.parametrize("which", CASES)
def test_two_passes_without_a_map_are_one_drive(which, fstripe, observatory):
    spec, fill, gone = CASES[which]
    names = twice(fstripe.folder, spec, observatory, fill, gone)
    solved = fstripe("lineup", "solve", *names, "--out", "found.toml")
    assert f"{spec.level} of {spec.members}" in solved.out and "again.img+ebb-1.img" in solved.out
    assert "imaged twice, and read as one drive each: again.img+ebb-1.img" in solved.out
    fstripe("lineup", "extract", "found.toml", "volume.img")
    with ImageFile(fstripe.folder / "volume.img") as got, ImageFile(observatory) as true:
        assert all(read(got, a, b - a) == read(true, a, b - a) for a, b in true.data_ranges())


def test_mates_of_a_mirror_are_not_one_drive(tmp_path, volumes):
    """Neither where all have mates, nor beside nobody, nor where two hold other data somewhere."""

    def groups(spec, equal_too=True, spoil=False):
        members = [tmp_path / f"{spec.level}-{n}.img" for n in range(spec.members)]
        for member in members:
            member.unlink(missing_ok=True)
        cut(volumes / "ext2.img", spec, members)
        gaps(members[0], random.Random(1), 0, 1)
        if spoil:
            for at in range(0, members[1].stat().st_size, 65536):
                with open(members[1], "r+b") as image:
                    image.seek(at)
                    image.write(random.Random(at).randbytes(512))
        images = [ImageFile(m) for m in members]
        found = imaged_twice(Pile([m.name for m in members], images), equal_too)
        for image in images:
            image.close()
        return found

    assert groups(Spec("RAID10", 4, 65536, copies=2)) == []
    assert groups(Spec("RAID1", 2, 65536)) == [] == groups(Spec("RAID1", 3, 65536))
    assert groups(Spec("RAID5", 4, 65536, "parity-N", "continuation")) == []
    three = Spec("RAID10", 4, 65536, copies=2)
    members = [tmp_path / f"three-{n}.img" for n in range(4)]
    cut(volumes / "ext2.img", three, members)
    images = [ImageFile(m) for m in members[:3]]
    pile = Pile(["a", "b", "c"], images)
    assert imaged_twice(pile, equal_too=False) == [] and imaged_twice(pile, equal_too=True) == [(0, 1)]
    for image in images:
        image.close()


def test_mates_that_are_found_stay_mates_whatever_else_is_undecided(tmp_path, volumes):
    """A mirror, and in the same pile an array that nothing orders: the two mates became one drive and its other mate a
    piece of a copy, though the mirror had been certain."""
    mates = [tmp_path / f"mate-{n}.img" for n in range(2)]
    cut(volumes / "ntfs.img", Spec("RAID1", 2, 65536), mates)
    (tmp_path / "piece.img").write_bytes(mates[0].read_bytes()[: 1600 << 10])
    noise = [tmp_path / f"noise-{n}.img" for n in range(3)]
    cut(volumes / "noise.img", Spec("RAID5", 3, 65536, "parity-N", "continuation"), noise)
    found = solve_images([*mates, tmp_path / "piece.img", *noise]).arrays
    mirror = next(a for a in found if a.geometry.layout.level == "RAID1")
    assert set(mirror.members) == {str(m) for m in mates} and mirror.strength == "certain"


@pytest.mark.parametrize("cut_at", [0.3, pytest.param(0.7, marks=pytest.mark.long)])
def test_a_mate_that_ends_early_is_a_mate_and_nobody_is_missing(fstripe, observatory, cut_at):
    """Elsewhere the mates differ where nothing was ever written: the only two that are equal looked like one drive that
    was imaged twice, and the volume ended where the shorter one does."""
    spec = Spec("RAID10", 6, 65536, copies=2)
    members = [fstripe.folder / f"ebb-{n}.img" for n in range(6)]
    cut(observatory, spec, members)
    size = members[3].stat().st_size
    empty = next(
        at for at in range(size // 65536 * 65536 - 65536, 0, -65536)
        if not any(m.read_bytes()[at : at + 65536].strip(b"\0") for m in members)
    )  # fmt: skip
    for number, member in enumerate(members):
        with member.open("r+b") as image:
            image.seek(empty)
            image.write(random.Random(number).randbytes(65536))
    with members[3].open("r+b") as image:
        image.truncate(int(size * cut_at) // 4096 * 4096)
    solved = fstripe("lineup", "solve", *members, "--out", "found.toml", "--json")
    (array,) = solved.json["arrays"]
    assert [m for span in array["spans"] for m in span] == [str(m) for m in members]
    assert array["verdicts"]["order"]["verdict"] == "certain"
    fstripe("lineup", "extract", "found.toml", "volume.img")
    with ImageFile(fstripe.folder / "volume.img") as got, ImageFile(observatory) as true:
        assert all(read(got, a, b - a) == read(true, a, b - a) for a, b in true.data_ranges())


@pytest.mark.parametrize(
    ("level", "members", "mates"),
    [
        ("RAID10", ("a+b", None, "c", "d", "e", "f"), True),  # the others have theirs: so has this one
        ("RAID10", ("a+b", None, "c", None, "d", None), False),  # none has: one drive of each set was taken out
        ("RAID10", ("a+b", "c", "d", None, "e", "f"), False),  # another one is missing
        ("RAID5", ("a+b", None, "c"), False),
        ("RAID1", ("a+b", None, "c"), False),
    ],
)
def test_two_that_are_equal_are_mates_where_the_others_have_theirs(level, members, mates):
    how = {"rotation": "parity-N", "data": "restart"} if level == "RAID5" else {}
    shape = geometry(level, len(members), 65536, member_bytes=64 << 20, **how)
    assert _mates_rather(Lineup(shape, members, placed("certain"), 99.0, 0.0), {"a+b"}) is mates
