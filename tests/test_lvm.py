"""LVM's logical volumes on a recovered volume: as LVM itself says where they are; a damaged description is none.

`data/lvm-head.xz` is the first MiB of a physical volume that LVM2 made, its group cut into volumes, grown, and one of
them removed; the places below are what `pvs --segments` said of it.
"""

import lzma
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.formats.declared import FormatError
from faithful_stripe.core.formats.lvm import NotRead, parse, physical_volume
from faithful_stripe.core.lineup.document.four_verdicts import placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup, Solution
from faithful_stripe.core.source import Window
from faithful_stripe.work.errors import WorkError
from faithful_stripe.work.lineup import save
from faithful_stripe.work.places import chosen, parts_of, place_of

from .cutting import DATA
from .slicer import Spec, cut
from .test_extract import source_of

MIB = 1 << 20
TOLD = {"station": [(0, 10)], "gauges": [(10, 5), (21, 7)], "back": [(28, 4)]}
"""Extents of 1 MiB: (first, how many), from the first one at 1 MiB."""


@pytest.fixture(scope="module")
def head():
    return lzma.decompress((DATA / "lvm-head.xz").read_bytes())


def disk(head, size=64 * MIB, at=0):
    data = bytearray(at + size)
    data[at : at + len(head)] = head
    return data


def test_logical_volumes_are_where_lvm_says(head):
    found = physical_volume(source_of(disk(head)))
    assert (found.group, found.sequence) == ("skerry", 9)
    places = {v.name: [((1 + f) * MIB, (1 + f + n) * MIB) for f, n in TOLD.get(v.name, ())] for v in found.volumes}
    assert {v.name: list(v.places) for v in found.volumes} == places
    assert {v.name: v.size // MIB for v in found.volumes} == {
        "station": 10,
        "gauges": 12,
        "wide": 8,
        "far": 4,
        "back": 4,
    }
    assert {v.name for v in found.volumes if v.not_read is NotRead.ELSEWHERE} == {"wide", "far"}


def test_a_volume_is_chosen_by_name_and_what_cannot_be_read_is_said(head):
    source = source_of(disk(head))
    assert (
        place_of(source, None, None, "skerry/station") == [(MIB, 11 * MIB)] == place_of(source, None, None, "station")
    )
    assert place_of(source, None, None, "gauges") == [(11 * MIB, 16 * MIB), (22 * MIB, 29 * MIB)]
    for name, says in (("wide", "another physical volume"), ("old", "no logical volume")):
        with pytest.raises(WorkError, match=says):
            place_of(source, None, None, name)
    with pytest.raises(WorkError, match="excludes"):
        place_of(source, "0:4096", None, "station")
    short = source_of(disk(head, 20 * MIB))
    with pytest.raises(WorkError, match="contradicts itself"):
        place_of(short, None, None, "back")  # it ends before that
    assert [p.name for p in parts_of(Window(source, MIB, 4 * MIB))] == [""]


def test_an_inside_file_system_is_found_by_itself(head, volumes):
    data = disk(head)
    inner = (volumes / "ext2.img").read_bytes()[: 10 * MIB]
    data[MIB : MIB + len(inner)] = inner
    parts = parts_of(source_of(data))
    part = chosen(parts, None, None)
    assert part.name == "skerry/station" and "ext" in part.what


def test_the_commands_take_a_logical_volume(fstripe, head, volumes):
    """Cut as RAID 5, solved, and one logical volume handed over and looked into."""
    data = disk(head)
    inner = (volumes / "ext2.img").read_bytes()[: 10 * MIB]
    data[MIB : MIB + len(inner)] = inner
    whole = fstripe.folder / "pv.img"
    whole.write_bytes(data)
    members = [fstripe.folder / f"m{n}.img" for n in range(3)]
    cut(whole, Spec("RAID5", 3, 65536, "parity-N", "restart"), members)
    solved = fstripe("lineup", "solve", *members, "--out", "found.toml", "--full")
    assert solved.status in (0, 3)
    rows = {line.split()[0]: line.split()[1:] for line in solved.out.splitlines() if line.startswith("  skerry/")}
    assert rows["skerry/station"] == ["1048576", "10", "MiB", "ext", "file", "system"]
    assert rows["skerry/gauges"][:5] == ["11534336", "12", "MiB", "(2", "pieces)"]
    assert rows["skerry/wide"][0] == "-" and "another physical volume" in solved.out
    got = fstripe("lineup", "extract", "found.toml", "station.img", "--part", "skerry/station")
    assert got.status in (0, 3) and (fstripe.folder / "station.img").read_bytes() == bytes(data[MIB : 11 * MIB])
    listed = fstripe("lineup", "files", "found.toml", "--part", "station")
    assert "skerry/station" in listed.out
    wrong = fstripe("lineup", "extract", "found.toml", "x.img", "--part", "wide")
    assert wrong.status == 1 and "another physical volume" in wrong.err
    assert not (fstripe.folder / "x.img").exists()


def test_a_logical_volume_that_has_grown_is_read_through_its_pieces(fstripe, head, volumes):
    """A FAT across two pieces: handed over as one, its files listed and copied; rows that do not match are said."""
    data = disk(head)
    inner = (volumes / "fat12.img").read_bytes().ljust(12 * MIB, b"\0")
    data[11 * MIB : 16 * MIB], data[22 * MIB : 29 * MIB] = inner[: 5 * MIB], inner[5 * MIB :]
    data[16 * MIB : 22 * MIB] = random.Random(7).randbytes(6 * MIB)
    whole = fstripe.folder / "pv.img"
    whole.write_bytes(data)
    spec = Spec("RAID5", 3, 65536, "parity-N", "restart")
    members = [fstripe.folder / f"m{n}.img" for n in range(3)]
    cut(whole, spec, members)
    made = geometry("RAID5", 3, 65536, member_bytes=members[0].stat().st_size, rotation="parity-N", data="restart")
    found = Lineup(made, tuple(m.name for m in members), placed("certain"), 99.0, 0.0)
    save(Solution((found,), (), 0), fstripe.folder / "found.toml")
    got = fstripe("lineup", "extract", "found.toml", "gauges.img", "--part", "gauges")
    assert got.status == 0 and "in 2 pieces on the volume: 5 MiB at byte 11534336, 7 MiB at byte 23068672" in got.out
    assert (fstripe.folder / "gauges.img").read_bytes() == inner
    listed = fstripe("lineup", "files", "found.toml", "--part", "gauges", "--json")
    assert listed.status == 0 and len(listed.json["files"]) > 3
    assert fstripe("lineup", "copy", "found.toml", ".", "out", "--part", "gauges").status == 0
    copied = [p for p in (fstripe.folder / "out").rglob("*") if p.is_file()]
    assert copied and all(inner.find(p.read_bytes()[:512]) >= 0 for p in copied)

    first = max(copied, key=lambda p: p.stat().st_size).read_bytes()[:4096]
    for at in (11 * MIB + inner.find(first), 22 * MIB + 70_000):  # in a file in the first piece; in the second piece
        (member,), (place,) = ([int(x) for x in one] for one in made.to_member([at]))
        with open(members[member], "r+b") as image:
            image.seek(place // 512 * 512)
            image.write(random.Random(3).randbytes(512))
    hurt = fstripe("lineup", "extract", "found.toml", "hurt.img", "--part", "gauges", "--json")
    assert hurt.status == 3 and hurt.json["open"] and hurt.json["pieces"] == [[11 * MIB, 5 * MIB], [22 * MIB, 7 * MIB]]
    low, length = hurt.json["open"][-1]
    assert low >= 22 * MIB > hurt.json["open"][0][0]
    told = (fstripe.folder / "hurt.img.map.txt").read_text()
    assert f"open\t{low}\t{low - 22 * MIB + 5 * MIB}\t{length}" in told
    damaged = fstripe("lineup", "files", "found.toml", "--part", "gauges", "--all", "--check")
    assert damaged.status == 3 and "may be wrong" in damaged.out


def test_no_damage_crashes_the_reader(head):
    """Sectors of the head exchanged, cleared and overwritten: what it says is LVM's own, or nothing."""
    true = {v.path: v.places for v in physical_volume(source_of(disk(head))).volumes}
    rng = random.Random(5)
    for _case in range(60):
        data = bytearray(head)
        for _bite in range(rng.randrange(1, 6)):
            at = rng.randrange(0, 32 << 10)
            data[at : at + rng.choice((1, 4, 512))] = rng.randbytes(rng.choice((1, 4, 512)))
        source = source_of(disk(bytes(data[:MIB])))
        try:
            found = physical_volume(source)
        except FormatError:
            continue
        assert found is None or all(v.places in ((), true.get(v.path)) or found.sequence != 9 for v in found.volumes)


@given(st.text(alphabet='ab{}[]=,"\\# \n1', max_size=80))
def test_any_text_is_a_tree_or_an_error(text):
    try:
        assert isinstance(parse(text), dict)
    except FormatError as reason:
        assert reason.what
